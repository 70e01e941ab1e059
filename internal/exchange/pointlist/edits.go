package pointlist

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// Edit is a row of a sheet in which points are edited: a point that is there, or a new one.
type Edit struct {
	Tag    string            `json:"tag,omitempty" doc:"of the point as it is in the site; none for a new one"`
	Cells  map[string]string `json:"cells,omitempty" doc:"what was typed, by field: as a site file has it, or as lists do (x0.1, 0=off 1=on); empty for the default"`
	Was    map[string]string `json:"was,omitempty" doc:"the cells as they were before they were typed: what somebody else changed since is a conflict"`
	Remove bool              `json:"remove,omitempty" doc:"true: remove the point"`
}

// EditFault is a cell that is not allowed.
type EditFault struct {
	Row      int    `json:"row" doc:"index of the row in the request, from 0; -1 where it is none of them"`
	Field    string `json:"field,omitempty" doc:"empty where the row as a whole is meant"`
	Value    string `json:"value,omitempty"`
	Message  string `json:"message"`
	Conflict bool   `json:"conflict,omitempty" doc:"somebody else changed it since"`
}

// Edits are the rows of a sheet that were edited.
type Edits []Edit

// Into puts the edits into a draft, and returns the faults of cells that cannot be read and of what somebody else changed since; with force that is
// taken back. The faults of the draft wait in it; Place finds their rows.
func (l Edits) Into(d *site.Draft, now *site.Site, force bool) (faults []EditFault) {
	tags := map[string]int{}
	for row, e := range l { // what goes, first: others may get its tag
		if !e.Remove {
			continue
		}
		if _, there := now.Point(e.Tag); there {
			d.Remove(site.KindPoint, e.Tag, false)
		}
		tags[e.Tag] = row
	}
	var replaced []site.Replacement
	var added []site.Point
	for row, e := range l {
		if e.Remove {
			continue
		}
		fail := func(field, format string, args ...any) {
			faults = append(faults, EditFault{Row: row, Field: field, Value: e.Cells[field], Message: fmt.Sprintf(format, args...)})
		}
		from, there := now.Point(e.Tag)
		switch {
		case e.Tag != "" && !there && !force:
			faults = append(faults, EditFault{Row: row, Message: "was removed or renamed since; leave it out, or add it again", Conflict: true})
			continue
		case e.Tag != "" && there && !force:
			faults = append(faults, e.conflicts(row, now, from)...)
		case !there:
			from = site.NewPoint()
			from.Tag = e.Tag
		}
		fields, wrong := map[string]any{}, 0
		for _, field := range document.FieldNames(site.Point{}) {
			text, typed := e.Cells[field]
			if !typed {
				continue
			}
			v, err := typedCell(field, strings.TrimSpace(text))
			if err != nil {
				fail(field, "%s", err)
				wrong++
				continue
			}
			fields[field] = v
		}
		node, err := form.Node(fields)
		if err != nil {
			fail("", "%s", err)
			continue
		}
		before := len(d.Faults())
		p := form.Decode(site.KindPoint, node, d, from).(site.Point)
		for _, f := range d.Faults()[before:] {
			f.Line = 0
		}
		if p.Tag == "" {
			fail("tag", "is missing; write a tag, such as tern/pump2/current")
			continue
		}
		if other, twice := tags[p.Tag]; twice && !l[other].Remove {
			fail("tag", "%q stands in another row, too", p.Tag)
			continue
		}
		tags[p.Tag] = row
		switch {
		case wrong > 0:
			// which is told; the rest of the row is looked at when that can be read
		case there:
			replaced = append(replaced, site.Replacement{Old: e.Tag, New: p})
		default:
			added = append(added, p)
		}
	}
	d.ReplaceAll(replaced)
	for _, p := range added {
		d.Add(p)
	}
	return faults
}

// conflicts are the cells of a row that somebody else changed since they were looked at.
func (e Edit) conflicts(row int, now *site.Site, p site.Point) (faults []EditFault) {
	if len(e.Was) == 0 {
		return nil
	}
	station, _ := now.Station(p.Station)
	cells, err := Cells(p, station, 0)
	if err != nil {
		return nil
	}
	for i, field := range Headings()[:len(cells)-2] {
		was, known := e.Was[field]
		typed, changes := e.Cells[field]
		if known && changes && was != cells[i] && typed != cells[i] {
			faults = append(faults, EditFault{Row: row, Field: field, Value: typed, Message: fmt.Sprintf("somebody changed this to %s since; take that, or save it as it is here", written(cells[i])), Conflict: true})
		}
	}
	return faults
}

// typedCell is a cell as a site file has it: typed so, or as lists have it.
func typedCell(field, text string) (any, error) {
	switch {
	case text == "":
		return nil, nil
	case truths[field]:
		switch strings.ToLower(text) {
		case "1", "true", "yes", "y", "x", "ja", "wahr":
			return true, nil
		case "0", "false", "no", "n", "nein", "falsch":
			return false, nil
		}
		return nil, fmt.Errorf("%q is neither yes nor no", text)
	case textual[field]:
		return text, nil
	case strings.ContainsRune("{[", rune(text[0])):
	case field == "scaling":
		s, err := scalingOf(text)
		if err == nil && len(s) == 0 {
			return nil, nil
		}
		return s, err
	case field == "range":
		r, is := spanOf(text)
		if !is {
			return nil, fmt.Errorf("%q is no range; write 0..100, or [0, 100]", text)
		}
		return r, nil
	case field == "states":
		if s, err := statesOf(text); err == nil && s != nil {
			return s, nil
		}
		var names []any
		for part := range strings.SplitSeq(text, ",") {
			names = append(names, strings.TrimSpace(part))
		}
		return names, nil
	case field == "invalid":
		var codes []any
		for _, code := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(",; ", r) }) {
			codes = append(codes, code)
		}
		return codes, nil
	}
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		return nil, fmt.Errorf("%q is no value of a site file", text)
	}
	return plainMaps(v), nil
}

// plainMaps gives maps whose keys are numbers the texts for keys that JSON has.
func plainMaps(v any) any {
	switch v := v.(type) {
	case map[any]any:
		m := make(map[string]any, len(v))
		for k, e := range v {
			m[fmt.Sprint(k)] = plainMaps(e)
		}
		return m
	case map[string]any:
		for k, e := range v {
			v[k] = plainMaps(e)
		}
	case []any:
		for i, e := range v {
			v[i] = plainMaps(e)
		}
	}
	return v
}

// Place gives the faults of a draft with their rows, but for those of rows of which something is told already.
func (l Edits) Place(found site.Errors, told []EditFault) (faults []EditFault) {
	rows := map[string]int{}
	for row, e := range l {
		if tag, typed := e.Cells["tag"]; typed && !e.Remove {
			rows[strings.TrimSpace(tag)] = row
		} else if e.Tag != "" {
			rows[e.Tag] = row
		}
	}
	for _, e := range found {
		row, known := rows[e.Name]
		if !known || e.Kind != site.KindPoint {
			faults = append(faults, EditFault{Row: -1, Value: e.Value, Message: e.Error()})
			continue
		}
		field, within, _ := strings.Cut(e.Field, ".")
		if slices.ContainsFunc(told, func(f EditFault) bool { return f.Row == row && f.Field == field }) {
			continue
		}
		message := e.Message
		if within != "" {
			message = within + ": " + message
		}
		faults = append(faults, EditFault{Row: row, Field: field, Value: e.Value, Message: message})
	}
	return faults
}
