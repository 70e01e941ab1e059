package site

import (
	"fmt"
	"maps"
	"strings"
)

// StationCopy says how a station is duplicated. What is empty stays as it is.
type StationCopy struct {
	Name   string     `json:"name" doc:"of the copy"`
	Link   string     `json:"link,omitempty" doc:"link of the copy (default the same)"`
	Unit   *int       `json:"unit,omitempty" doc:"unit or outstation address of the copy (default the next free one of its link)"`
	Number string     `json:"number,omitempty" doc:"telephone number of the copy, on a dialup link (default the same)"`
	Tags   *TagChange `json:"tags,omitempty" doc:"copies the points, too, with other tags: {from: tern/pump1, to: tern/pump4}"`
}

// TagChange makes one tag of another: the first From in it becomes To.
type TagChange struct {
	From string `json:"from" doc:"part of every tag"`
	To   string `json:"to" doc:"what the copies have in its place"`
}

// CopyLink adds a duplicate of a link. It is disabled, and has no port of the machine until it is given one, since two
// links cannot share one.
func (d *Draft) CopyLink(l Link, name string) Link {
	l.Name, l.Enabled = name, false
	if l.Serial != nil {
		line := *l.Serial
		line.Device = ""
		l.Serial = &line
	}
	d.Add(l)
	return l
}

// CopyStation adds a duplicate of a station, disabled, and of its points when their tags change.
func (d *Draft) CopyStation(s Station, c StationCopy) Station {
	from := s.Name
	s.Name, s.Enabled = c.Name, false
	if c.Link != "" {
		s.Link = c.Link
	}
	if c.Number != "" {
		s.Number = c.Number
	}
	at, most := s.LinkAddress(), s.Speaks().Traits().MaxAddress
	if c.Unit != nil {
		at = *c.Unit
	}
	s = s.at(at)
	for c.Unit == nil && at < most && d.sameUnit(s) != "" {
		at++
		s = s.at(at)
	}
	s = s.copiedTie(c.Tags)
	d.Add(s)
	if c.Tags == nil {
		return s
	}
	for _, e := range d.dependents(key{KindStation, from}) {
		p := e.(Point)
		if c.Tags.From == "" || !strings.Contains(p.Tag, c.Tags.From) {
			d.Fail(&FieldError{Kind: KindStation, Name: s.Name, Field: "tags.from", Value: c.Tags.From, Message: fmt.Sprintf("%q is not a part of tag %s, so its copy has no tag of its own", c.Tags.From, p.Tag)})
			return s
		}
		p.Tag, p.Station = strings.Replace(p.Tag, c.Tags.From, c.Tags.To, 1), s.Name
		d.Add(p)
	}
	return s
}

// copiedTie is a copy with the tie to the template of the original where its points have other tags by other values; otherwise it stands alone.
func (s Station) copiedTie(tags *TagChange) Station {
	values := map[string]string{}
	for name, value := range s.Values {
		values[name] = value
		if tags != nil && tags.From != "" {
			values[name] = strings.Replace(value, tags.From, tags.To, 1)
		}
	}
	if s.Template != "" && maps.Equal(values, s.Values) {
		return s.referring(KindTemplate, s.Template, "").(Station)
	}
	if s.Values != nil {
		s.Values = values
	}
	return s
}

// at is the station at another unit or outstation address.
func (s Station) at(address int) Station {
	return s.Speaks().rules().at(s, address)
}

// Warnings says what of changed entities is allowed and yet seldom meant.
func (s *Site) Warnings(changes []Change) (list []*FieldError) {
	for _, c := range changes {
		st, ok := c.After.(Station)
		if !ok {
			continue
		}
		l, _ := s.Link(st.Link)
		if field, why := st.Speaks().rules().warning(st, l); why != "" {
			list = append(list, &FieldError{Kind: KindStation, Name: st.Name, Field: field, Value: fmt.Sprint(st.LinkAddress()), Message: why})
		}
	}
	return list
}
