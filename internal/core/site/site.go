package site

import (
	"maps"
	"slices"
	"strings"
	"sync/atomic"
)

// Site is the point database in memory. Many may read it at once, but none while Apply runs.
type Site struct {
	links      map[string]Link
	stations   map[string]Station
	points     map[string]*Point        // never changed, only replaced, so that others may keep them
	stationsOf map[string]set           // by link
	pointsOf   map[string]set           // by station
	tags       atomic.Pointer[[]string] // sorted; nil when to be made anew
}

type set = map[string]struct{}

// New returns an empty site.
func New() *Site {
	return &Site{
		links: map[string]Link{}, stations: map[string]Station{}, points: map[string]*Point{},
		stationsOf: map[string]set{}, pointsOf: map[string]set{},
	}
}

// Copy is the site as it is now. It holds the same entities, which nobody changes, so that it is made quickly.
func (s *Site) Copy() *Site {
	c := &Site{links: maps.Clone(s.links), stations: maps.Clone(s.stations), points: maps.Clone(s.points), stationsOf: map[string]set{}, pointsOf: map[string]set{}}
	c.tags.Store(s.tags.Load())
	for link, stations := range s.stationsOf {
		c.stationsOf[link] = maps.Clone(stations)
	}
	for station, points := range s.pointsOf {
		c.pointsOf[station] = maps.Clone(points)
	}
	return c
}

// Link returns the link of that name.
func (s *Site) Link(name string) (Link, bool) { l, ok := s.links[name]; return l, ok }

// Station returns the station of that name.
func (s *Site) Station(name string) (Station, bool) { t, ok := s.stations[name]; return t, ok }

// Point returns the point of that tag.
func (s *Site) Point(tag string) (Point, bool) {
	if p := s.points[tag]; p != nil {
		return *p, true
	}
	return Point{}, false
}

// Get returns the entity of that kind and name.
func (s *Site) Get(kind Kind, name string) (Entity, bool) {
	switch kind {
	case KindLink:
		return entity(s.Link(name))
	case KindStation:
		return entity(s.Station(name))
	}
	return entity(s.Point(name))
}

func entity[E Entity](e E, ok bool) (Entity, bool) { return e, ok }

// Links lists the links by name.
func (s *Site) Links() []Link { return byKey(s.links, slices.Sorted(maps.Keys(s.links))) }

// Stations lists the stations by name.
func (s *Site) Stations() []Station { return byKey(s.stations, slices.Sorted(maps.Keys(s.stations))) }

// StationsOf lists the stations of a link by name.
func (s *Site) StationsOf(link string) []Station {
	return byKey(s.stations, slices.Sorted(maps.Keys(s.stationsOf[link])))
}

// Tags lists the tags in order. The caller must not change the slice.
func (s *Site) Tags() []string {
	if known := s.tags.Load(); known != nil {
		return *known
	}
	tags := slices.Sorted(maps.Keys(s.points))
	s.tags.Store(&tags)
	return tags
}

// Points lists the points by tag.
func (s *Site) Points() []Point { return values(byKey(s.points, s.Tags())) }

// PointsOf lists the points of a station by tag.
func (s *Site) PointsOf(station string) []Point { return values(s.SharedPointsOf(station)) }

// SharedPointsOf lists the points of a station by tag as the site holds them. The caller may keep them and must not change
// them; the site does not either.
func (s *Site) SharedPointsOf(station string) []*Point {
	return byKey(s.points, slices.Sorted(maps.Keys(s.pointsOf[station])))
}

func values(points []*Point) []Point {
	list := make([]Point, len(points))
	for i, p := range points {
		list[i] = *p
	}
	return list
}

// Count returns how many entities of a kind there are.
func (s *Site) Count(kind Kind) int {
	return map[Kind]int{KindLink: len(s.links), KindStation: len(s.stations), KindPoint: len(s.points)}[kind]
}

// CountOf returns how many points a station has.
func (s *Site) CountOf(station string) int { return len(s.pointsOf[station]) }

func byKey[E any](all map[string]E, keys []string) []E {
	list := make([]E, len(keys))
	for i, k := range keys {
		list[i] = all[k]
	}
	return list
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

// Apply makes changes that a Draft of this site gave.
func (s *Site) Apply(changes []Change) {
	for _, c := range changes {
		if c.Before != nil {
			s.remove(c.Before)
		}
		if c.After != nil {
			s.put(c.After)
		}
	}
}

func (s *Site) put(e Entity) {
	switch e := e.(type) {
	case Link:
		s.links[e.Name] = e
	case Station:
		s.stations[e.Name] = e
		include(s.stationsOf, e.Link, e.Name)
	case Point:
		if _, had := s.points[e.Tag]; !had {
			s.tags.Store(nil)
		}
		s.points[e.Tag] = &e
		include(s.pointsOf, e.Station, e.Tag)
	}
}

func (s *Site) remove(e Entity) {
	switch e := e.(type) {
	case Link:
		delete(s.links, e.Name)
	case Station:
		delete(s.stations, e.Name)
		exclude(s.stationsOf, e.Link, e.Name)
	case Point:
		delete(s.points, e.Tag)
		exclude(s.pointsOf, e.Station, e.Tag)
		s.tags.Store(nil)
	}
}

func include(index map[string]set, key, member string) {
	if index[key] == nil {
		index[key] = set{}
	}
	index[key][member] = struct{}{}
}

func exclude(index map[string]set, key, member string) {
	delete(index[key], member)
	if len(index[key]) == 0 {
		delete(index, key)
	}
}

// Match reports whether tag fits pattern: * stands for any characters, / included, and ? for one.
// Case does not matter.
func Match(pattern, tag string) bool {
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
