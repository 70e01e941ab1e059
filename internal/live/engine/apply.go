package engine

import (
	"reflect"

	"arithmon/internal/core/site"
)

// Apply follows changes that s has already taken in. Only what a change touches is stopped or planned anew.
func (e *Engine) Apply(s *site.Site, changes []site.Change) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.findings.stale = true
	links := map[string]bool{}         // to restart
	stations := map[string]*affected{} // to configure
	of := func(station string) *affected {
		if stations[station] == nil {
			stations[station] = &affected{}
		}
		return stations[station]
	}
	var removed []string
	for _, c := range changes {
		for _, entity := range []site.Entity{c.Before, c.After} {
			switch v := entity.(type) {
			case site.Link:
				if !sameLink(c.Before, c.After) {
					links[v.Name] = true
				}
			case site.Station:
				of(v.Name).itself = true
			case site.Point:
				of(v.Station).points = append(of(v.Station).points, v.Tag)
				if s.SharedPoint(v.Tag) == nil {
					removed = append(removed, v.Tag)
				}
			}
		}
	}
	for _, tag := range removed {
		e.table.Remove(tag)
	}
	// Stations leave their old links before anything takes them up on the new ones.
	for name := range stations {
		st, exists := s.Station(name)
		if was, ok := e.linkOf[name]; ok && (!exists || was != st.Link) {
			if r := e.runners[was]; r != nil && !links[was] {
				r.Drop(name)
			}
			delete(e.linkOf, name)
			delete(e.slots, name)
		}
	}
	for name := range links {
		old := e.runners[name]
		if old != nil {
			old.Stop()
			delete(e.runners, name)
		}
		if l, ok := s.Link(name); ok {
			e.startLink(s, l, old)
		} else {
			e.traffic.Drop(name)
		}
	}
	for name, what := range stations {
		st, exists := s.Station(name)
		switch r := e.runners[st.Link]; {
		case !exists || links[st.Link]:
		case what.itself:
			e.linkOf[name] = st.Link
			r.Configure(e.station(s, st))
		default:
			r.Configure(e.among(s, st, what.points))
		}
	}
}

// affected is what changes touch of a station.
type affected struct {
	itself bool     // more than its points
	points []string // tags of those that it has or had
}

// sameLink reports whether two links differ in nothing that matters to a runner.
func sameLink(before, after site.Entity) bool {
	b, ok1 := before.(site.Link)
	a, ok2 := after.(site.Link)
	b.Description = a.Description
	return ok1 && ok2 && reflect.DeepEqual(a, b)
}
