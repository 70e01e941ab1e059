package tie

import (
	"fmt"
	"maps"
	"slices"

	"arithmon/internal/core/form"
	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
)

// Follow lets the stations of a draft follow the templates that it changes, and the points of a station what it changes of its tie. What the draft
// says of a point itself, stands. It is called when all that is to be changed is in the draft. Of a draft that puts back what was there once, the
// stations that it says are as they were.
func Follow(d *site.Draft, back bool) {
	for _, name := range d.Touched(site.KindTemplate) {
		if e, ok := d.Get(site.KindTemplate, name); ok && d.Said(site.KindTemplate, name) && !back {
			check(d, e.(site.Template))
		}
	}
	if slices.ContainsFunc(d.Faults(), func(f *site.FieldError) bool { return f.Kind == site.KindTemplate }) {
		return // and every station would say it again
	}
	done := map[string]bool{}
	once := func(s site.Station) {
		if !done[s.Name] && !(back && d.Said(site.KindStation, s.Name)) {
			follow(d, s)
		}
		done[s.Name] = true
	}
	for _, name := range d.Touched(site.KindTemplate) {
		if _, ok := d.Get(site.KindTemplate, name); ok {
			for _, e := range d.Referring(site.KindTemplate, name) {
				once(e.(site.Station))
			}
		}
	}
	for _, name := range d.Touched(site.KindStation) {
		if s, ok := d.Station(name); ok {
			once(s)
		}
	}
	if !back {
		settle(d)
	}
}

// follow lets a station and its points follow its template.
func follow(d *site.Draft, s site.Station) {
	e, tied := d.Get(site.KindTemplate, s.Template)
	if !tied {
		return
	}
	t := e.(site.Template)
	var before made
	if b, existed := d.Before(site.KindStation, s.Name); existed {
		was := b.(site.Station)
		if old, known := d.Base().Get(site.KindTemplate, was.Template); known {
			if sameTie(d, was, s, old.(site.Template), t) {
				return
			}
			before, _, _ = of(old.(site.Template), was) // as far as it goes
		}
	}
	values := form.ValuesOf(t, s) // what has a default today keeps its value when that changes
	for _, own := range template.Own {
		delete(values, own)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Values)) {
		if _, known := values[name]; !known && d.Said(site.KindStation, s.Name) {
			d.Fail(&site.FieldError{Kind: site.KindStation, Name: s.Name, Field: "values", Value: s.Values[name], Message: fmt.Sprintf("template %s has no parameter %q%s", t.Name, name, parameters(t))})
			return
		}
	}
	after, faults, err := of(t, s)
	if err != nil {
		d.Fail(&site.FieldError{Kind: site.KindStation, Name: s.Name, Field: "values", Message: fmt.Sprintf("template %s: %s", t.Name, err)})
		return
	}
	for _, f := range faults {
		d.Fail(f)
	}
	for _, key := range s.LeftOut {
		if _, known := after.at[key]; !known && d.Said(site.KindStation, s.Name) {
			d.Fail(&site.FieldError{Kind: site.KindStation, Name: s.Name, Field: "left_out", Value: key, Message: fmt.Sprintf("template %s has no point %q%s", t.Name, key, nearest.Hint(key, slices.Sorted(maps.Keys(after.at))))})
			return
		}
	}
	next := s
	if next.Values = values; len(values) == 0 {
		next.Values = nil
	}
	if before.at != nil {
		next = following(next, before.station, after.station, kept)
	}
	d.Follow(next)
	points(d, next, before, after)
	s, _ = d.Station(s.Name)
	leftOut(d, s, after)
}

func parameters(t site.Template) string {
	if len(t.Parameters) == 0 {
		return "; it has none"
	}
	text := "; it has"
	for i, p := range t.Parameters {
		if i > 0 {
			text += ","
		}
		text += " " + p.Name
	}
	return text
}

// sameTie reports whether a draft changes nothing of what a station has from its template.
func sameTie(d *site.Draft, was, is site.Station, old, now site.Template) bool {
	if was.Template != is.Template {
		b, existed := d.Before(site.KindTemplate, is.Template)
		if !existed || b.Key() != was.Template {
			return false
		}
	}
	old.Name, old.Description, old.Identifies = now.Name, now.Description, now.Identifies
	return len(differing(old, now)) == 0 && maps.Equal(was.Values, is.Values) && slices.Equal(was.LeftOut, is.LeftOut) &&
		was.Name == is.Name && was.Link == is.Link && was.LinkAddress() == is.LinkAddress()
}

// ownIn are the points of a station in a draft.
func ownIn(d *site.Draft, s site.Station) *own {
	return &own{station: s.Name,
		get: func(tag string) (site.Point, bool) {
			e, ok := d.Get(site.KindPoint, tag)
			p, _ := e.(site.Point)
			return p, ok
		},
		all: func() (all []site.Point) {
			for _, e := range d.Dependents(s) {
				all = append(all, e.(site.Point))
			}
			return all
		}}
}

// points lets the points of a station follow.
func points(d *site.Draft, s site.Station, before, after made) {
	own := ownIn(d, s)
	e, _ := d.Before(site.KindStation, s.Name)
	was, _ := e.(site.Station)
	moved := before.moved(after)
	stays := make(map[string]bool, len(before.points))
	type renaming struct {
		from string
		to   site.Point
	}
	var renamed []renaming
	for _, p := range after.points {
		key, is := moved[p.key]
		if !is {
			key = p.key
		}
		at, had := before.at[key]
		if !had {
			continue
		}
		stays[key] = true
		old := before.points[at]
		now, there := own.found(before, old)
		if !there || d.Said(site.KindPoint, now.Tag) {
			continue
		}
		old.as.Station = s.Name // which may have another name now
		if next := following(now, old.as, p.as, nil); next.Tag != now.Tag {
			renamed = append(renamed, renaming{now.Tag, next})
		} else if len(differing(now, next)) > 0 {
			d.Follow(next)
		}
	}
	for _, p := range before.points {
		p.as.Station = s.Name
		now, there := own.get(p.as.Tag)
		gone := !stays[p.key] && there && len(differing(now, p.as)) == 0 // what is own stays
		asked := stays[p.key] && there && slices.Contains(s.LeftOut, p.key) && !slices.Contains(was.LeftOut, p.key)
		if (gone || asked) && now.Station == s.Name && !d.Said(site.KindPoint, now.Tag) {
			d.Remove(site.KindPoint, now.Tag, false)
		}
	}
	for _, r := range renamed {
		d.Replace(r.from, r.to)
	}
	own = ownIn(d, s)
	for _, p := range after.points {
		_, had := before.at[p.key]
		_, other := moved[p.key]
		if had && !slices.Contains(was.LeftOut, p.key) || other || slices.Contains(s.LeftOut, p.key) {
			continue
		}
		_, there := own.found(after, p)
		if _, taken := own.get(p.as.Tag); there || !taken && d.Said(site.KindPoint, p.as.Tag) {
			continue // it is there, or the draft says that it goes
		}
		d.Add(p.as)
	}
}

// moved finds the points whose tag changes within the template: their tags there, after and before. They are told by their addresses.
func (m made) moved(after made) map[string]string {
	gone, taken, moved := map[string]string{}, map[string]int{}, map[string]string{}
	for _, p := range m.points {
		if _, still := after.at[p.key]; !still {
			if _, twice := gone[p.address]; twice {
				gone[p.address] = "" // which of them it is, cannot be told
			} else {
				gone[p.address] = p.key
			}
		}
	}
	for _, p := range after.points {
		if _, was := m.at[p.key]; !was {
			taken[p.address]++
		}
	}
	for _, p := range after.points {
		if _, was := m.at[p.key]; !was && gone[p.address] != "" && taken[p.address] == 1 {
			moved[p.key] = gone[p.address]
		}
	}
	return moved
}

// settle notes in the stations what a draft takes away of the points that they have from their templates.
func settle(d *site.Draft) {
	stations := map[string]bool{}
	for _, tag := range d.Touched(site.KindPoint) {
		was, existed := d.Base().Point(tag)
		if !existed {
			continue
		}
		if e, still := d.Get(site.KindPoint, tag); still {
			if is := e.(site.Point); is.Station == was.Station && is.Address == was.Address && is.Type == was.Type {
				continue
			}
		}
		stations[was.Station] = true
	}
	for name := range stations {
		s, still := d.Station(name)
		e, tied := d.Get(site.KindTemplate, s.Template)
		if !still || !tied {
			continue
		}
		if m, _, err := of(e.(site.Template), s); err == nil {
			leftOut(d, s, m)
		}
	}
}

// leftOut notes in a station which points of its template it does not have.
func leftOut(d *site.Draft, s site.Station, m made) {
	own := ownIn(d, s)
	var list []string
	for _, p := range m.points {
		if _, there := own.found(m, p); !there {
			list = append(list, p.key)
		}
	}
	if !slices.Equal(list, s.LeftOut) {
		s.LeftOut = list
		d.Follow(s)
	}
}
