// Package site holds the point database: links, stations and points, the rules they obey, and changes to them.
//
// A Site is always consistent. It is modified through a Draft, which collects every fault before anything changes
// and gives the Changes that a store records and an engine follows.
package site

import (
	"strings"
	"sync/atomic"
)

// Site is a point database at one moment. It never changes: a modification makes another one, which shares with it what stays as it is, so
// that many may read it, and keep it, at once.
type Site struct {
	shelves [kindCount]shelf
	tags    atomic.Pointer[[]string] // sorted; nil until someone asks
}

// New returns an empty site.
func New() *Site {
	s := &Site{}
	for i := range registered {
		s.shelves[i] = registered[i].shelf()
	}
	return s
}

func of[E member](s *Site, place int) *shelfOf[E] { return s.shelves[place].(*shelfOf[E]) }

func find[E member](s *Site, place int, name string) (e E, ok bool) {
	if i, ok := of[E](s, place).all.Get(name); ok {
		return i.entity, true
	}
	return e, false
}

// Link returns the link of that name.
func (s *Site) Link(name string) (Link, bool) { return find[Link](s, links, name) }

// Station returns the station of that name.
func (s *Site) Station(name string) (Station, bool) { return find[Station](s, stations, name) }

// Point returns the point of that tag.
func (s *Site) Point(tag string) (Point, bool) { return find[Point](s, points, tag) }

// Get returns the entity of that kind and name.
func (s *Site) Get(kind Kind, name string) (Entity, bool) {
	e, _, ok := s.shelves[rank(kind)].get(name)
	return e, ok
}

// Version is the version of an entity, which every modification of it raises; 0 when there is none.
func (s *Site) Version(kind Kind, name string) int64 {
	_, version, _ := s.shelves[rank(kind)].get(name)
	return version
}

// Names lists the names of a kind in order. The caller may keep the slice, and must not change it.
func (s *Site) Names(kind Kind) []string {
	if kind == KindPoint {
		return s.Tags()
	}
	return s.shelves[rank(kind)].names()
}

// NamesOf lists the names of the entities of a kind that belong to owner, in order.
func (s *Site) NamesOf(kind Kind, owner string) (names []string) {
	s.shelves[rank(kind)].ownedBy(owner, func(e Entity) bool {
		names = append(names, e.Key())
		return true
	})
	return names
}

// Links lists the links by name.
func (s *Site) Links() []Link { return list(of[Link](s, links).all) }

// Stations lists the stations by name.
func (s *Site) Stations() []Station { return list(of[Station](s, stations).all) }

// StationsOf lists the stations of a link by name.
func (s *Site) StationsOf(link string) []Station {
	if all, ok := of[Station](s, stations).owners.Get(link); ok {
		return list(all.tree)
	}
	return nil
}

// Tags lists the tags in order. The caller may keep the slice, and must not change it.
func (s *Site) Tags() []string {
	if known := s.tags.Load(); known != nil {
		return *known
	}
	tags := s.shelves[points].names()
	s.tags.Store(&tags)
	return tags
}

// Points lists the points by tag.
func (s *Site) Points() []Point { return list(of[Point](s, points).all) }

// EachPoint calls f with the points by tag, from the first tag after one on, until it returns false. The points may be kept, and must not
// be changed.
func (s *Site) EachPoint(after string, f func(*Point) bool) {
	of[Point](s, points).all.Ascend(after, func(tag string, i *item[Point]) bool { return tag == after || f(&i.entity) })
}

// SharedPoint is the point of a tag as the site holds it; nil when there is none. It may be kept, and must not be changed.
func (s *Site) SharedPoint(tag string) *Point {
	if i, ok := of[Point](s, points).all.Get(tag); ok {
		return &i.entity
	}
	return nil
}

// PointsOf lists the points of a station by tag.
func (s *Site) PointsOf(station string) []Point {
	if all, ok := of[Point](s, points).owners.Get(station); ok {
		return list(all.tree)
	}
	return nil
}

// SharedPointsOf lists the points of a station by tag as the site holds them. The caller may keep them, and must not change them.
func (s *Site) SharedPointsOf(station string) []*Point {
	all, ok := of[Point](s, points).owners.Get(station)
	if !ok {
		return nil
	}
	shared := make([]*Point, 0, all.tree.Len())
	all.tree.Scan(func(_ string, i *item[Point]) bool {
		shared = append(shared, &i.entity)
		return true
	})
	return shared
}

// Count returns how many entities of a kind there are.
func (s *Site) Count(kind Kind) int { return s.shelves[rank(kind)].count() }

// CountOf returns how many points a station has.
func (s *Site) CountOf(station string) int {
	if all, ok := of[Point](s, points).owners.Get(station); ok {
		return all.tree.Len()
	}
	return 0
}

// Action says what a change did.
type Action string

// The actions.
const (
	Add    Action = "add"
	Modify Action = "change"
	Remove Action = "remove"
)

// Change is one modification of one entity: Before is nil when it was added, After when it was removed.
// When both are there with different keys it was renamed.
type Change struct {
	Before, After Entity
}

// Kind says what kind of entity was modified.
func (c Change) Kind() Kind { return c.subject().Kind() }

// Name is the entity's name, the new one when it was renamed.
func (c Change) Name() string { return c.subject().Key() }

// Action says what was done.
func (c Change) Action() Action {
	switch {
	case c.Before == nil:
		return Add
	case c.After == nil:
		return Remove
	}
	return Modify
}

func (c Change) subject() Entity {
	if c.After != nil {
		return c.After
	}
	return c.Before
}

// With is the site after changes that a Draft of this one gave, one after another. What they left has a version after that of what it was before,
// and after that of what had its name before.
func (s *Site) With(changes []Change) *Site {
	b, tags := s.Build(), true
	for _, c := range changes {
		version := int64(0)
		if c.Before != nil {
			version = b.site.Version(c.Kind(), c.Before.Key())
			b.Remove(c.Kind(), c.Before.Key())
		}
		if c.After != nil {
			b.Put(c.After, max(version, s.Version(c.Kind(), c.After.Key()))+1)
		}
		tags = tags && (c.Kind() != KindPoint || c.Action() == Modify && c.Before.Key() == c.Name())
	}
	next := b.Site()
	if tags {
		next.tags.Store(s.tags.Load())
	}
	return next
}

// Builder makes a site out of another one. It checks nothing.
type Builder struct{ site *Site }

// Build begins another site with what is in this one.
func (s *Site) Build() *Builder {
	next := &Site{}
	for i := range s.shelves {
		next.shelves[i] = s.shelves[i].copy()
	}
	return &Builder{next}
}

// Put adds an entity, or replaces the one of its kind and key.
func (b *Builder) Put(e Entity, version int64) { b.site.shelves[rank(e.Kind())].put(e, version) }

// Remove takes an entity out, if it is there.
func (b *Builder) Remove(kind Kind, name string) { b.site.shelves[rank(kind)].remove(name) }

// Site is what was built. Nothing can be put into it any more.
func (b *Builder) Site() *Site {
	s := b.site
	b.site = nil
	return s
}

// Own is what the tags of the service's own points begin with: what communication does, and counts.
const Own = "@"

// Match reports whether tag fits pattern: * stands for any characters, / included, and ? for one.
// Case does not matter. What communication does (@tern-bus/state) fits only a pattern that begins with @, too.
func Match(pattern, tag string) bool {
	if strings.HasPrefix(tag, Own) && !strings.HasPrefix(pattern, Own) {
		return false
	}
	p, t := strings.ToLower(pattern), strings.ToLower(tag)
	star, mark := -1, 0
	i, j := 0, 0
	for j < len(t) {
		switch {
		case i < len(p) && p[i] == '*':
			star, mark = i, j
			i++
		case i < len(p) && (p[i] == '?' || p[i] == t[j]):
			i, j = i+1, j+1
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(p[i:], "*") == ""
}

// IsPattern reports whether s has a wildcard in it.
func IsPattern(s string) bool { return strings.ContainsAny(s, "*?") }
