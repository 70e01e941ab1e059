package site

import "github.com/tidwall/btree"

// shelf holds the entities of one kind by name. A copy costs nothing until it is changed, and what a shelf held when it was copied stays.
type shelf interface {
	get(name string) (Entity, int64, bool)
	count() int
	names() []string
	// ownedBy calls f with the entities that belong to an owner, by name, until it returns false.
	ownedBy(owner string, f func(Entity) bool)
	put(e Entity, version int64)
	remove(name string)
	copy() shelf
}

// item is an entity with its version. It is never changed, only replaced, so that others may keep it.
type item[E member] struct {
	entity  E
	version int64
}

type tree[V any] = btree.Map[string, V]

// apart is a copy of a tree that others may be copying, too: Copy of the library marks the tree that it copies, which is why a copy of its root is
// given to it.
func apart[V any](t *tree[V]) *tree[V] {
	root := *t
	return root.Copy()
}

// shelfOf is the shelf of a kind.
type shelfOf[E member] struct {
	all    *tree[*item[E]]
	owners *tree[family[E]]
	own    map[string]bool // owners whose tree belongs to this shelf alone, so that it may be changed
}

// family are the entities of one owner. A tree as a value of a tree would be copied by the library, and marked, whenever its neighbours change.
type family[E member] struct{ tree *tree[*item[E]] }

func newShelf[E member]() *shelfOf[E] {
	return &shelfOf[E]{all: &tree[*item[E]]{}, owners: &tree[family[E]]{}}
}

func (s *shelfOf[E]) copy() shelf {
	return &shelfOf[E]{all: apart(s.all), owners: apart(s.owners)}
}

func (s *shelfOf[E]) get(name string) (Entity, int64, bool) {
	i, ok := s.all.Get(name)
	if !ok {
		return nil, 0, false
	}
	return i.entity, i.version, true
}

func (s *shelfOf[E]) count() int { return s.all.Len() }

func (s *shelfOf[E]) names() []string { return s.all.Keys() }

func (s *shelfOf[E]) ownedBy(owner string, f func(Entity) bool) {
	if of, ok := s.owners.Get(owner); ok {
		of.tree.Scan(func(_ string, i *item[E]) bool { return f(i.entity) })
	}
}

func (s *shelfOf[E]) put(e Entity, version int64) {
	s.remove(e.Key())
	i := &item[E]{e.(E), version}
	s.all.Set(e.Key(), i)
	if name := i.entity.owner(); name != "" {
		s.of(name).Set(e.Key(), i)
	}
}

func (s *shelfOf[E]) remove(name string) {
	was, ok := s.all.Delete(name)
	if !ok {
		return
	}
	if owner := was.entity.owner(); owner != "" {
		if of := s.of(owner); of.Len() > 1 {
			of.Delete(name)
		} else {
			s.owners.Delete(owner)
			delete(s.own, owner)
		}
	}
}

// of is the tree of an owner, for change.
func (s *shelfOf[E]) of(owner string) *tree[*item[E]] {
	of, ok := s.owners.Get(owner)
	if s.own[owner] {
		return of.tree
	}
	next := &tree[*item[E]]{}
	if ok {
		next = apart(of.tree)
	}
	if s.own == nil {
		s.own = map[string]bool{}
	}
	s.own[owner] = true
	s.owners.Set(owner, family[E]{next})
	return next
}

// list lists the entities of a tree by name.
func list[E member](of *tree[*item[E]]) []E {
	all := make([]E, 0, of.Len())
	of.Scan(func(_ string, i *item[E]) bool {
		all = append(all, i.entity)
		return true
	})
	return all
}
