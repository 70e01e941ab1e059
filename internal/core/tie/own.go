package tie

import (
	"encoding/json"
	"slices"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// Difference is something that a station has otherwise than its template.
type Difference struct {
	Kind     site.Kind       `json:"kind" doc:"station: one of its settings; point: one of its points" enum:"station,point"`
	Name     string          `json:"name" doc:"of the station, or the tag of the point"`
	What     What            `json:"what" doc:"own: a field with a value of its own; left-out: a point of the template that is not there; added: a point that the template does not have" enum:"own,left-out,added"`
	Field    string          `json:"field,omitempty"`
	Own      json.RawMessage `json:"own,omitempty" doc:"the value of the field"`
	Template json.RawMessage `json:"template,omitempty" doc:"the value that it has by the template"`
}

// What says in which way a station differs from its template.
type What string

// The ways.
const (
	OwnValue What = "own"
	LeftOut  What = "left-out"
	Added    What = "added"
)

// Own lists what a station has otherwise than its template: its settings first, then its points as the template has them, then those that it has beside
// them. Its error says why nothing can be made of the template.
func Own(now *site.Site, s site.Station) (list []Difference, err error) {
	m, tied, err := madeIn(now, s)
	if !tied || err != nil {
		return nil, err
	}
	list = append(list, fields(site.KindStation, s.Name, s, m.station, kept)...)
	own := ownOf(now, s.Name)
	of := map[string]bool{}
	for _, p := range m.points {
		is, there := own.found(m, p)
		if !there {
			list = append(list, Difference{Kind: site.KindPoint, Name: p.as.Tag, What: LeftOut})
			continue
		}
		of[is.Tag] = true
		list = append(list, fields(site.KindPoint, is.Tag, is, p.as, nil)...)
	}
	for _, p := range own.all() {
		if !of[p.Tag] {
			list = append(list, Difference{Kind: site.KindPoint, Name: p.Tag, What: Added})
		}
	}
	return list, nil
}

func ownOf(now *site.Site, station string) *own {
	return &own{station: station, get: now.Point, all: func() []site.Point { return now.PointsOf(station) }}
}

// fields are the differences of an entity's fields.
func fields[T any](kind site.Kind, name string, is, as T, without func(string) bool) (list []Difference) {
	o, t := text(is), text(as)
	for _, f := range differing(is, as) {
		if without == nil || !without(f.Name) {
			list = append(list, Difference{Kind: kind, Name: name, What: OwnValue, Field: f.Name, Own: o[f.Name], Template: t[f.Name]})
		}
	}
	return list
}

// text gives the fields of an entity as JSON; those that it leaves out are null.
func text(e any) map[string]json.RawMessage {
	var m map[string]json.RawMessage
	if b, err := json.Marshal(e); err == nil {
		_ = json.Unmarshal(b, &m) // what was just marshalled
	}
	for _, name := range document.FieldNames(e) {
		if m[name] == nil {
			m[name] = json.RawMessage("null")
		}
	}
	return m
}

// Take gives up what a station has otherwise than its template: in the entities that match one of some patterns, or in all without any; only in
// some fields where there are any. Points that were left out are there again; those that the template does not have stay.
func Take(d *site.Draft, s site.Station, patterns, only []string) error {
	m, tied, err := madeIn(d.Base(), s)
	if !tied || err != nil {
		return err
	}
	meant := func(name string) bool {
		return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, name) })
	}
	without := func(field string) bool { return len(only) > 0 && !slices.Contains(only, field) }
	own := ownOf(d.Base(), s.Name)
	next := s
	next.LeftOut = slices.Clone(s.LeftOut)
	for _, p := range m.points {
		is, there := own.found(m, p)
		if !there {
			if meant(p.as.Tag) && len(only) == 0 {
				next.LeftOut = slices.DeleteFunc(next.LeftOut, func(key string) bool { return key == p.key })
				d.Add(p.as)
			}
			continue
		}
		if !meant(is.Tag) && !meant(p.as.Tag) {
			continue
		}
		if after := following(is, is, p.as, without); len(differing(is, after)) > 0 {
			d.Replace(is.Tag, after)
		}
	}
	if meant(s.Name) {
		next = following(next, next, m.station, func(field string) bool { return kept(field) || without(field) })
	}
	if len(next.LeftOut) == 0 {
		next.LeftOut = nil
	}
	if len(differing(s, next)) > 0 {
		d.Put(next)
	}
	return nil
}

// settingsOf are the fields of a station that a template made from it has: those that are not as usual.
func settingsOf(s site.Station) (map[string]json.RawMessage, []string) {
	all := text(s)
	var names []string
	for _, f := range differing(s, site.NewStation()) {
		if site.OfTemplate(f.Name) && !s.Speaks().Foreign(f.Name) {
			names = append(names, f.Name)
		}
	}
	for _, name := range document.FieldNames(s) { // by which one reads the addresses
		if form.Of(site.KindStation).Written(name) && site.OfTemplate(name) && !s.Speaks().Foreign(name) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return all, names
}
