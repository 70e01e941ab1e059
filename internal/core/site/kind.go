package site

import (
	"encoding/json"
	"fmt"
)

// Kind is a kind of entity.
type Kind string

// The kinds.
const (
	KindTemplate Kind = "template"
	KindLink     Kind = "link"
	KindStation  Kind = "station"
	KindPoint    Kind = "point"
	KindBoard    Kind = "board"
)

// Entity is one thing that a site holds, such as a Link, a Station or a Point.
type Entity interface {
	Kind() Kind
	Key() string // unique within the kind: name or tag
}

// member is what an entity has to do to be one. Its methods do not change it.
type member interface {
	Entity
	// owner is the name of the entity that it belongs to, of the kind that was registered; "" when there is none.
	owner() string
	// ownedBy is the same entity under another owner.
	ownedBy(name string) Entity
	// called is the same entity under another name.
	called(name string) Entity
	// completed is the same entity with what its settings imply filled in.
	completed() Entity
	// check finds the faults of the entity, by itself and against what it refers to.
	check(d *Draft, f *faults)
	// misfit says why an entity that was stored cannot be part of a site; "" when it can.
	misfit(s *Site) string
}

// referrer is an entity that refers to others beside the one that it belongs to. They outlive each other: who refers to one that is renamed
// follows, and one that is referred to goes only by itself when that is said to be meant.
type referrer interface {
	refers() []key
	// referring is the same entity with one that it refers to under another name; "" when that is gone.
	referring(kind Kind, was, is string) Entity
}

// registration describes a kind of entity.
type registration struct {
	kind   Kind
	key    string // the field that is its key
	plural string
	owner  Kind // of what it belongs to; "" when to nothing
	refers Kind // of what it refers to beside that; "" when to nothing
	loose  bool // what it refers to may go without it: it says then that it is gone
	fresh  func() Entity
	decode func(body []byte) (Entity, error)
	shelf  func() shelf
}

// register describes the kind of an entity that fresh gives with the defaults of the site file.
func register[E member](kind Kind, plural, key string, owner Kind, fresh func() E) registration {
	return registration{
		kind: kind, plural: plural, key: key, owner: owner,
		fresh: func() Entity { return fresh() },
		decode: func(body []byte) (Entity, error) {
			e := fresh()
			err := json.Unmarshal(body, &e)
			return e, err
		},
		shelf: func() shelf { return newShelf[E]() },
	}
}

// referringTo is a kind whose entities are referrers, of one kind.
func (r registration) referringTo(kind Kind) registration {
	r.refers = kind
	return r
}

// referringLoosely is referringTo a kind whose entities may go without it.
func (r registration) referringLoosely(kind Kind) registration {
	r.refers, r.loose = kind, true
	return r
}

// The places of the kinds in registered.
const (
	templates = iota
	links
	stations
	points
	boards
	kindCount
)

// registered are all kinds, in the order in which one refers to another. A kind of entity is one line here, and a type that is a member.
var registered = [kindCount]registration{
	templates: register(KindTemplate, "templates", "name", "", NewTemplate),
	links:     register(KindLink, "links", "name", "", NewLink),
	stations:  register(KindStation, "stations", "name", KindLink, NewStation).referringTo(KindTemplate),
	points:    register(KindPoint, "points", "tag", KindStation, NewPoint),
	boards:    register(KindBoard, "boards", "name", "", NewBoard).referringLoosely(KindPoint),
}

// rank is the place of a kind in registered; it panics for what is no kind.
func rank(kind Kind) int {
	for i := range registered {
		if registered[i].kind == kind {
			return i
		}
	}
	panic(fmt.Sprintf("site: %q is no kind of entity", kind))
}

// Kinds lists the kinds of entity in the order in which one refers to another.
func Kinds() []Kind {
	list := make([]Kind, len(registered))
	for i := range registered {
		list[i] = registered[i].kind
	}
	return list
}

// Fresh is an entity of a kind with the defaults of the site file.
func Fresh(kind Kind) Entity { return registered[rank(kind)].fresh() }

// Named is Fresh with a name or tag.
func Named(kind Kind, name string) Entity {
	body, _ := json.Marshal(map[string]string{KeyField(kind): name}) // of text
	e, _ := Decode(kind, body)                                       // which every kind reads
	return e
}

// KeyField is the field of a kind that is its key: name or tag.
func KeyField(kind Kind) string { return registered[rank(kind)].key }

// Plural is what several of a kind are called, as in a site file and in the paths of the API: links.
func Plural(kind Kind) string { return registered[rank(kind)].plural }

// OwnerOf is the kind of what the entities of a kind belong to; "" when to nothing.
func OwnerOf(kind Kind) Kind { return registered[rank(kind)].owner }

// Owned reports whether the entities of a kind can have others that belong to them, and go with them.
func Owned(kind Kind) bool {
	_, is := owned(kind)
	return is
}

// Referred reports whether the entities of a kind can have others that refer to them, and outlive them.
func Referred(kind Kind) bool {
	for i := range registered {
		if registered[i].refers == kind && !registered[i].loose {
			return true
		}
	}
	return false
}

// Decode reads an entity from JSON as it was stored. Fields that were added since take their defaults.
func Decode(kind Kind, body []byte) (Entity, error) { return registered[rank(kind)].decode(body) }

// Misfit says why an entity that was stored under a name cannot be part of s; "" when it can.
func (s *Site) Misfit(name string, e Entity) string {
	if e.Key() != name {
		return fmt.Sprintf("it is stored as %q and calls itself %q", name, e.Key())
	}
	return e.(member).misfit(s)
}

// owner is the key of what an entity belongs to; the zero key when to nothing.
func owner(e Entity) key {
	if e == nil {
		return key{}
	}
	if kind := registered[rank(e.Kind())].owner; kind != "" {
		return key{kind, e.(member).owner()}
	}
	return key{}
}

// owned is the place of the kind whose entities belong to those of another; false when there is none.
func owned(by Kind) (int, bool) {
	for i := range registered {
		if registered[i].owner == by {
			return i, true
		}
	}
	return 0, false
}
