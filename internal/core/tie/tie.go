// Package tie holds stations to the templates that they are made from: what is changed in a template changes in them, and what a station has as
// its own stays.
package tie

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// made is what a template gives to a station.
type made struct {
	station site.Station
	points  []point
	at      map[string]int  // index in points, by tag within the template
	tags    map[string]bool // those of points
}

// point is one that a template gives to a station.
type point struct {
	key     string // its tag within the template
	address string // its address there
	as      site.Point
}

// of is what a template gives to a station, and what of the points cannot be read. Its error says why it gives nothing at all.
func of(t site.Template, s site.Station) (m made, faults site.Errors, err error) {
	if m.station, err = form.StationOf(t, s); err != nil {
		return m, nil, err
	}
	m.station.Name, m.station.Link, m.station.Unit, m.station.Outstation, m.station.Number = s.Name, s.Link, s.Unit, s.Outstation, s.Number
	values := form.ValuesOf(t, s)
	for _, p := range t.Parameters {
		if _, known := values[p.Name]; !known {
			return m, nil, fmt.Errorf("%s is missing; give it a value%s", p.Name, strings.TrimSuffix(": "+p.Description, ": "))
		}
	}
	d := site.New().Edit() // in which the station stands as the template has it: in its notation the addresses are meant
	d.Put(m.station)
	m.at, m.tags, m.points = make(map[string]int, len(t.Points)), make(map[string]bool, len(t.Points)), make([]point, 0, len(t.Points))
	for _, fields := range t.Points {
		key := fields.Text("tag")
		filled, err := fields.Fill(values)
		if err != nil {
			return m, nil, fmt.Errorf("%s: %w", key, err)
		}
		filled["station"] = s.Name
		node, err := form.Node(filled)
		if err != nil {
			return m, nil, fmt.Errorf("%s: %w", key, err)
		}
		p := form.Decode(site.KindPoint, node, d, site.NewPoint()).(site.Point).WithDefaults()
		m.at[key], m.tags[p.Tag] = len(m.points), true
		m.points = append(m.points, point{key, fmt.Sprint(fields["address"]), p})
	}
	faults = d.Faults()
	for _, f := range faults {
		f.Line = 0 // of a document that was made here
	}
	return m, faults, nil
}

// madeIn is what the template of a station that stands in a site gives to it; tied says whether it has one.
func madeIn(now *site.Site, s site.Station) (m made, tied bool, err error) {
	t, known := now.Get(site.KindTemplate, s.Template)
	if !known {
		return made{}, false, nil
	}
	m, _, err = of(t.(site.Template), s)
	return m, true, err
}

// own are the points that a station has.
type own struct {
	station string
	get     func(tag string) (site.Point, bool)
	all     func() []site.Point
	places  map[place][]site.Point // of all; nil until someone asks
}

type place struct {
	address site.Address
	typ     codec.Type
}

// found finds the point of a station that is one of its template: that of its tag, or else the only one at its address that is none of the template's
// by its tag, as it is when somebody renamed it.
func (o *own) found(m made, p point) (site.Point, bool) {
	if is, ok := o.get(p.as.Tag); ok && is.Station == o.station {
		return is, true
	}
	if o.places == nil {
		o.places = map[place][]site.Point{}
		for _, is := range o.all() {
			if !m.tags[is.Tag] {
				at := place{is.Address, is.Type}
				o.places[at] = append(o.places[at], is)
			}
		}
	}
	if others := o.places[place{p.as.Address, p.as.Type}]; len(others) == 1 {
		return others[0], true
	}
	return site.Point{}, false
}

// differing lists the fields of T in which a and b differ.
func differing[T any](a, b T) (fields []document.Field) {
	av, bv := reflect.ValueOf(a), reflect.ValueOf(b)
	for _, f := range document.FieldsOf(av.Type()) {
		x, y := av.FieldByIndex(f.Index), bv.FieldByIndex(f.Index)
		if !(x.IsZero() && y.IsZero()) && !reflect.DeepEqual(x.Interface(), y.Interface()) {
			fields = append(fields, f)
		}
	}
	return fields
}

// following is now with those fields as they are after that were as they are before. Of keep, everything stays.
func following[T any](now, before, after T, keep func(field string) bool) T {
	n, b, a := reflect.ValueOf(&now).Elem(), reflect.ValueOf(before), reflect.ValueOf(after)
	for _, f := range differing(before, after) {
		if keep != nil && keep(f.Name) {
			continue
		}
		if is := n.FieldByIndex(f.Index); reflect.DeepEqual(is.Interface(), b.FieldByIndex(f.Index).Interface()) {
			is.Set(a.FieldByIndex(f.Index))
		}
	}
	return now
}

// kept are the fields of a station that its template does not have.
func kept(field string) bool { return !site.OfTemplate(field) }

// Tags are those of the points that a station of a draft has from its template.
func Tags(d *site.Draft, s site.Station) (tags []string) {
	e, known := d.Get(site.KindTemplate, s.Template)
	if !known {
		return nil
	}
	m, _, err := of(e.(site.Template), s)
	if err != nil {
		return nil
	}
	for _, p := range m.points {
		if !slices.Contains(s.LeftOut, p.key) {
			tags = append(tags, p.as.Tag)
		}
	}
	return tags
}
