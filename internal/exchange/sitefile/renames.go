package sitefile

import (
	"fmt"

	"arithmon/internal/core/site"
)

// renames finds the entries of a file that are entities of the site under another name: their old names by the new ones. They are told by where they
// are: a point by its station, address and type, a station by its link and address, a link by its far end. Where that leaves a choice, nothing is
// said to be renamed. The site has what the draft renamed before under its old name.
func renames(s *site.Site, d *site.Draft, kind site.Kind, entries []entry) map[string]string {
	named := make(map[string]bool, len(entries))
	fresh := map[string]string{} // new names by where they are; "" for several
	for _, e := range entries {
		named[e.entity.Key()] = true
	}
	for _, e := range entries {
		if _, exists := s.Get(kind, e.entity.Key()); !exists {
			note(fresh, whereabouts(e.entity), e.entity.Key())
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	gone := map[string]string{}
	for _, name := range s.Names(kind) {
		if named[name] {
			continue
		}
		e, _ := d.Get(kind, name) // as the draft has it, on what was renamed before
		if e != nil {
			note(gone, whereabouts(e), name)
		}
	}
	was := map[string]string{}
	for at, name := range fresh {
		if old := gone[at]; at != "" && name != "" && old != "" {
			was[name] = old
		}
	}
	return was
}

func note(names map[string]string, at, name string) {
	if _, twice := names[at]; twice {
		name = ""
	}
	names[at] = name
}

// whereabouts tell an entity from others of its kind, whatever it is called; "" for what has none.
func whereabouts(e site.Entity) string {
	switch e := e.(type) {
	case site.Link:
		l := e.WithDefaults()
		device := ""
		if l.Serial != nil {
			device = l.Serial.Device
		}
		return fmt.Sprint(l.Protocol, " ", l.Transport, " ", l.Host, " ", l.Port, " ", l.Listen, " ", device)
	case site.Station:
		return fmt.Sprint(e.Link, " ", e.LinkAddress(), " ", e.Number)
	case site.Point:
		return fmt.Sprint(e.Station, " ", e.Address, " ", e.WithDefaults().Type)
	}
	return ""
}
