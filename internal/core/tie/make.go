package tie

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
)

// Making says how a template is made from a station.
type Making struct {
	Name        string   `json:"name" doc:"of the template"`
	Description string   `json:"description,omitempty" doc:"of the template"`
	Station     string   `json:"station,omitempty" doc:"the station that it is made from, which keeps the tie"`
	Tags        string   `json:"tags,omitempty" doc:"what all its tags begin with, in whose place the parameter tag stands (default what they have in common)"`
	Identifies  []string `json:"identifies,omitempty" doc:"what such a device says of itself when it is probed: patterns"`
	Base        *int     `json:"base,omitempty" doc:"Modbus: the offset from which addresses count, in whose place the parameter base stands (default none)"`
}

// Make puts a template into a draft that is made from a station that works, and ties the station to it.
func Make(d *site.Draft, now *site.Site, m Making) (site.Template, error) {
	s, ok := now.Station(m.Station)
	if !ok {
		return site.Template{}, fmt.Errorf("there is no station %q", m.Station)
	}
	points := now.PointsOf(s.Name)
	if len(points) == 0 {
		return site.Template{}, fmt.Errorf("station %s has no points that a template could have", s.Name)
	}
	prefix := m.Tags
	if prefix == "" {
		if prefix = common(points); prefix == "" {
			return site.Template{}, fmt.Errorf("the tags of station %s do not begin alike (%s, %s); say what stands for the station in them, or rename them so that they do", s.Name, points[0].Tag, points[len(points)-1].Tag)
		}
	}
	t := site.Template{Name: m.Name, Description: m.Description, Protocol: s.Speaks(), Identifies: m.Identifies,
		Parameters: []template.Parameter{{Name: "tag", Description: "what its tags begin with"}}}
	values := map[string]string{"tag": prefix}
	if t.Protocol == site.Modbus {
		t.Protocol = "" // as usual
	}
	if m.Base != nil {
		if s.Speaks() != site.Modbus {
			return t, fmt.Errorf("station %s speaks %s, whose points have no offsets", s.Name, s.Speaks())
		}
		t.Parameters = append(t.Parameters, template.Parameter{Name: "base", Description: "offset from which its addresses count", Default: strconv.Itoa(*m.Base)})
		values["base"] = strconv.Itoa(*m.Base)
	}
	settings, names := settingsOf(s)
	t.Station = template.Fields{}
	for _, name := range names {
		t.Station[name] = literal(settings[name])
	}
	texts := form.Of(site.KindPoint)
	for _, p := range points {
		rest, begins := strings.CutPrefix(p.Tag, prefix)
		if !begins {
			return t, fmt.Errorf("tag %s does not begin with %s", p.Tag, prefix)
		}
		fields, all := template.Fields{}, text(p)
		for _, f := range differing(p, site.NewPoint()) {
			fields[f.Name] = literal(all[f.Name])
		}
		delete(fields, "station")
		for name, address := range texts.Texts(now, p) {
			if _, has := fields[name]; has {
				fields[name] = address
			}
		}
		fields["tag"] = "{tag}" + template.Literal(rest)
		if m.Base != nil {
			if int(p.Address.Offset) < *m.Base {
				return t, fmt.Errorf("%s is at %s, before the base %d", p.Tag, p.Address, *m.Base)
			}
			fields["address"] = based(p.Address, *m.Base)
			if p.ReadBack.Space != "" {
				fields["read_back"] = based(p.ReadBack, *m.Base)
			}
		}
		t.Points = append(t.Points, fields)
	}
	d.Add(t)
	s.Template, s.Values, s.LeftOut = t.Name, values, nil
	d.Put(s)
	return t, nil
}

// based is an address that counts from a base.
func based(a site.Address, base int) string {
	text, offset := a.String(), strconv.Itoa(int(a.Offset))
	at := strings.Index(text, ":"+offset) + 1
	return text[:at] + fmt.Sprintf("{base%+d}", int(a.Offset)-base) + text[at+len(offset):]
}

// literal is a value in which every text stands for itself.
func literal(raw json.RawMessage) any {
	var fields template.Fields // which keeps numbers as they are
	if json.Unmarshal([]byte(`{"v":`+string(raw)+`}`), &fields) != nil {
		return nil
	}
	return doubled(fields["v"])
}

func doubled(v any) any {
	switch v := v.(type) {
	case string:
		return template.Literal(v)
	case []any:
		for i := range v {
			v[i] = doubled(v[i])
		}
	case map[string]any:
		for name := range v {
			v[name] = doubled(v[name])
		}
	}
	return v
}

// common is what the tags of points have in common, up to a mark that parts them; "" for nothing.
func common(points []site.Point) string {
	prefix := points[0].Tag
	for _, p := range points[1:] {
		for !strings.HasPrefix(p.Tag, prefix) {
			prefix = prefix[:len(prefix)-1]
		}
	}
	for _, p := range points { // one of them may be all that they have in common
		if p.Tag == prefix {
			prefix = prefix[:max(0, strings.LastIndexAny(prefix, "/.-_"))]
			break
		}
	}
	whole := true
	for _, p := range points {
		whole = whole && strings.ContainsAny(p.Tag[len(prefix):len(prefix)+1], "/.-_")
	}
	if !whole {
		prefix = prefix[:max(0, strings.LastIndexAny(prefix, "/.-_"))]
	}
	return strings.TrimRight(prefix, "/.-_")
}
