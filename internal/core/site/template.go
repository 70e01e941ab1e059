package site

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"arithmon/internal/core/document"
	"arithmon/internal/core/template"
)

// Template describes a kind of device. Stations that are made from it keep the tie: what is changed in it changes in them, but for what they
// have as their own.
type Template struct {
	Name        string               `json:"name" doc:"unique name: letters, digits, - _ ."`
	Description string               `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Protocol    Protocol             `json:"protocol,omitempty" doc:"what the devices speak (default modbus)" enum:"modbus,dnp3"`
	Identifies  []string             `json:"identifies,omitempty" doc:"what such a device says of itself when it is probed: patterns, of which one fits: ['*WX-200*']"`
	Parameters  []template.Parameter `json:"parameters,omitempty" doc:"what differs from one station to the next: {name, description, default}; it stands in braces in the texts below: {tag}/current, hr:{base+9}"`
	Station     template.Fields      `json:"station,omitempty" doc:"settings of the stations, as a site file has them: {order: CDAB, poll: 1s}"`
	Points      []template.Fields    `json:"points,omitempty" doc:"their points, as a site file has them, without station"`
}

// The limits of a template.
const (
	MaxParameters     = 50
	MaxTemplatePoints = 20_000
	MaxValue          = 200 // characters of a parameter's value
)

// NewTemplate is a template with the defaults of the site file.
func NewTemplate() Template { return Template{} }

// Kind is KindTemplate.
func (t Template) Kind() Kind { return KindTemplate }

// Key is the name.
func (t Template) Key() string { return t.Name }

// Speaks is the protocol of the devices.
func (t Template) Speaks() Protocol { return cmp.Or(t.Protocol, Modbus) }

// Identified reports whether what a device says of itself fits the template.
func (t Template) Identified(text string) bool {
	return slices.ContainsFunc(t.Identifies, func(pattern string) bool { return Match(pattern, text) })
}

func (t Template) owner() string { return "" }
func (t Template) called(name string) Entity {
	t.Name = name
	return t
}

func (t Template) ownedBy(string) Entity { return t }
func (t Template) completed() Entity     { return t }
func (t Template) misfit(*Site) string   { return "" }

// notOfTemplate are the fields of a station that its template does not have: what each has for itself.
var notOfTemplate = []string{"name", "link", "unit", "outstation", "number", "template", "values", "left_out", "enabled", "description"}

// OfTemplate reports whether a field of a station may come from a template.
func OfTemplate(field string) bool {
	return !slices.Contains(notOfTemplate, field)
}

func (t Template) check(_ *Draft, f *faults) {
	f.name("name", t.Name, MaxName, "")
	f.text("description", t.Description, MaxDescription)
	if t.Protocol != "" {
		choose(f, "protocol", t.Protocol, Protocols()...)
	}
	for i, pattern := range t.Identifies {
		if field := fmt.Sprintf("identifies[%d]", i); strings.Trim(pattern, "* ?") == "" {
			f.add(field, pattern, "%q fits every device; write a part of what it says of itself, such as *WX-200*", pattern)
		} else {
			f.text(field, pattern, MaxDescription)
		}
	}
	f.count("parameters", len(t.Parameters), 0, MaxParameters)
	f.count("points", len(t.Points), 0, MaxTemplatePoints)
	known := map[string]bool{}
	for i, p := range t.Parameters {
		field := fmt.Sprintf("parameters[%d]", i)
		if why := p.Valid(); why != "" {
			f.add(field+".name", p.Name, "%s", why)
		} else if known[p.Name] {
			f.add(field+".name", p.Name, "%q is there twice", p.Name)
		}
		known[p.Name] = true
		f.text(field+".description", p.Description, MaxDescription)
		f.text(field+".default", p.Default, MaxValue)
		template.Check(p.Default, nil, func(err error) { f.add(field+".default", p.Default, "%s", err) })
	}
	fields := document.FieldNames(Station{})
	for _, name := range t.Station.Names() {
		switch {
		case !OfTemplate(name):
			f.add("station."+name, t.Station[name], "every station has its own; take it out of the template")
		case !slices.Contains(fields, name):
			f.add("station."+name, t.Station[name], "a station has no field %q", name)
		}
	}
	template.Check(t.Station, t.Parameters, func(err error) { f.add("station", "", "%s", err) })
	tags := map[string]int{}
	for i, p := range t.Points {
		field := fmt.Sprintf("points[%d]", i)
		template.Check(p, t.Parameters, func(err error) { f.add(field, p.Text("tag"), "%s", err) })
		if _, has := p["station"]; has {
			f.add(field+".station", p["station"], "the points of a template belong to the stations that are made from it; take it out")
		}
		if tag := p.Text("tag"); tag == "" {
			f.add(field+".tag", p["tag"], "is missing; write one with a parameter in it, such as {tag}/level")
		} else if first, twice := tags[tag]; twice {
			f.add(field+".tag", tag, "%q is the tag of points[%d], too", tag, first)
		} else {
			tags[tag] = i
		}
	}
}

// refers lists what the station refers to beside its link: its template.
func (s Station) refers() []key {
	if s.Template == "" {
		return nil
	}
	return []key{{KindTemplate, s.Template}}
}

// referring is the station with another template; "" when it has none any more.
func (s Station) referring(_ Kind, _, name string) Entity {
	s.Template = name
	if name == "" {
		s.Values, s.LeftOut = nil, nil
	}
	return s
}

// checkTie checks what the station says of its template.
func (s Station) checkTie(d *Draft, f *faults) {
	if s.Template == "" {
		if len(s.Values)+len(s.LeftOut) > 0 {
			f.add("values", "", "values and left_out go with a template, and the station names none")
		}
		return
	}
	for _, name := range slices.Sorted(maps.Keys(s.Values)) {
		f.text("values."+name, s.Values[name], MaxValue)
	}
	e, ok := d.Get(KindTemplate, s.Template)
	if !ok {
		f.add("template", s.Template, "there is no template %q%s", s.Template, d.near(KindTemplate, s.Template))
		return
	}
	if t := e.(Template); t.Speaks() != s.Speaks() {
		f.add("template", s.Template, "is for %s, and the station has the address of %s; give it its %s", t.Speaks(), s.Speaks(), t.Speaks().Traits().Address)
	}
}
