package tie

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
)

// check finds what is wrong with a template by making a station from it.
func check(d *site.Draft, t site.Template) {
	fail := func(field, value, message string) {
		d.Fail(&site.FieldError{Kind: site.KindTemplate, Name: t.Name, Field: field, Value: value, Message: message})
	}
	sound := true
	for _, part := range []any{t.Station, fieldsOf(t)} {
		template.Check(part, t.Parameters, func(error) { sound = false })
	}
	for _, p := range t.Parameters {
		sound = sound && p.Valid() == ""
	}
	if !sound || !t.Speaks().Known() {
		return // which the template says itself
	}
	l := site.NewLink()
	l.Name, l.Protocol, l.Host = "sample", t.Speaks(), "127.0.0.1"
	s := site.NewStation().AtAddress(t.Speaks(), t.Speaks().Traits().MaxAddress)
	s.Name, s.Link, s.Template, s.Values = "sample", l.Name, "", map[string]string{}
	for _, p := range t.Parameters {
		if p.Default == "" {
			s.Values[p.Name] = "1"
		}
	}
	m, faults, err := of(t, s)
	if err != nil {
		var found document.Faults
		if !errors.As(err, &found) {
			fail("station", "", err.Error())
		}
		for _, f := range found {
			fail(strings.TrimSuffix("station."+f.Path, "."), f.Value, f.Message)
		}
		return
	}
	sample := site.New().Edit()
	sample.Put(l)
	sample.Put(m.station)
	index := map[string]int{}
	for i, p := range m.points {
		if first, twice := index[p.as.Tag]; twice && p.as.Tag != "" && p.key != m.points[first].key { // else the template says it itself
			fail(fmt.Sprintf("points[%d].tag", i), p.key, fmt.Sprintf("is the same as that of points[%d] when the parameters have values", first))
			continue
		}
		index[p.as.Tag] = i
		sample.Put(p.as)
	}
	for _, f := range faults {
		sample.Fail(f)
	}
	_, err = sample.Changes()
	found, _ := err.(site.Errors)
	for _, f := range found {
		switch i, known := index[f.Name]; {
		case f.Kind == site.KindPoint && known:
			fail(strings.TrimSuffix(fmt.Sprintf("points[%d].%s", i, f.Field), "."), f.Value, f.Message)
		case f.Kind == site.KindStation && site.OfTemplate(f.Field):
			fail(strings.TrimSuffix("station."+f.Field, "."), f.Value, f.Message)
		default:
			fail("points", cmp.Or(f.Value, f.Name), f.Message)
		}
	}
	if len(m.points) > 0 && found == nil {
		apart(t, fail)
	}
}

// apart finds tags that every station made from a template would have, since nothing in them differs.
func apart(t site.Template, fail func(field, value, message string)) {
	for i, p := range t.Points {
		if tag := p.Text("tag"); !template.Differs(tag) {
			fail(fmt.Sprintf("points[%d].tag", i), tag, fmt.Sprintf("%q is the same for every station, and a tag is there once; put a parameter into it, such as {tag}/%s", tag, tag))
		}
	}
}

func fieldsOf(t site.Template) []any {
	list := make([]any, len(t.Points))
	for i, p := range t.Points {
		list[i] = p
	}
	return list
}
