package pointlist

import (
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// Into puts the points of a list into a draft: those that are there already are changed in the fields that the list has. The faults of the draft
// wait in it; Place finds their rows. A row that was exported and whose point was changed since is a fault for each field that differs, unless
// force is set.
func (l List) Into(d *site.Draft, now *site.Site, force bool) error {
	for _, item := range l.renamesFirst(now) {
		b, err := json.Marshal(item.Fields)
		if err != nil {
			return fmt.Errorf("row %d: %w", item.Row, err)
		}
		node, err := document.Parse(b)
		if err != nil {
			return fmt.Errorf("row %d: %w", item.Row, err)
		}
		was := cmp.Or(item.was, item.Tag())
		from, known := now.Get(site.KindPoint, was)
		if !known && item.was != "" { // renamed meanwhile, or taken over with its new tag already
			was = item.Tag()
			from, known = now.Get(site.KindPoint, was)
		}
		if !known {
			from = site.Fresh(site.KindPoint)
		}
		e := form.Decode(site.KindPoint, node, d, from)
		if known && was != item.Tag() {
			d.Replace(was, e) // it is the same point
		} else {
			d.Put(e)
		}
		if !force {
			item.conflicts(d, now, from, e, known)
		}
	}
	return nil
}

// renamesFirst puts the rows so that a tag is free before another point gets it. Of points that change places, one stands in the way.
func (l List) renamesFirst(now *site.Site) []Item {
	frees := map[string]bool{} // tags that a row gives up
	for _, i := range l.Items {
		if _, known := now.Point(i.was); known && i.was != i.Tag() {
			frees[i.was] = true
		}
	}
	if len(frees) == 0 {
		return l.Items
	}
	ordered, left := make([]Item, 0, len(l.Items)), l.Items
	for len(left) > 0 {
		var later []Item
		for _, i := range left {
			if frees[i.Tag()] && i.was != i.Tag() {
				later = append(later, i)
				continue
			}
			ordered = append(ordered, i)
			delete(frees, i.was)
		}
		if len(later) == len(left) {
			return append(ordered, later...)
		}
		left = later
	}
	return ordered
}

// conflicts adds to a draft what a row would take back that somebody has changed since it was exported.
func (i Item) conflicts(d *site.Draft, now *site.Site, was, is site.Entity, known bool) {
	if i.version == 0 {
		return
	}
	if !known {
		d.Fail(&site.FieldError{Kind: site.KindPoint, Name: i.Tag(), Message: "was removed or renamed since this list was made; leave the row out, or add it all the same with --force"})
		return
	}
	if now.Version(site.KindPoint, was.Key()) == i.version || reflect.DeepEqual(was, is) {
		return
	}
	before, after := reflect.ValueOf(was), reflect.ValueOf(is)
	for _, f := range document.FieldsOf(before.Type()) {
		b, a := before.FieldByIndex(f.Index).Interface(), after.FieldByIndex(f.Index).Interface()
		if !reflect.DeepEqual(b, a) {
			d.Fail(&site.FieldError{Kind: site.KindPoint, Name: i.Tag(), Field: f.Name, Message: fmt.Sprintf("the point was changed since this list was made, and this is %s now; take that into the list, or give it this value all the same with --force", written(b))})
		}
	}
}

// written is a value as a site file has it.
func written(v any) string {
	b, err := json.Marshal(v)
	if err != nil || string(b) == "null" || string(b) == `""` {
		return "empty"
	}
	return string(b)
}

// Place gives the faults of a draft with their rows and columns.
func (l List) Place(found site.Errors) (faults []Fault) {
	told := map[Fault]bool{} // rows of which something is said already, from which more may follow
	for _, f := range l.Faults {
		told[Fault{Sheet: f.Sheet, Row: f.Row}] = true
	}
	unplaced := slices.ContainsFunc(l.Faults, func(f Fault) bool { return strings.HasPrefix(f.Message, "the row names no station") })
	byTag := make(map[string]int, len(l.Items))
	for i, item := range l.Items {
		byTag[item.Tag()] = i
	}
	for _, e := range found {
		i, known := byTag[e.Name]
		if !known || e.Kind != site.KindPoint {
			faults = append(faults, Fault{Value: e.Value, Message: e.Error()})
			continue
		}
		item := l.Items[i]
		if told[Fault{Sheet: item.Sheet, Row: item.Row}] || unplaced {
			continue
		}
		field, _, _ := strings.Cut(e.Field, ".")
		fault := Fault{Sheet: item.Sheet, Row: item.Row, Column: item.From[field], Value: e.Value, Message: e.Message}
		if fault.Column != "" {
			fault.Value = cmp.Or(item.Cells()[fault.Column], e.Value)
		} else if e.Field != "" {
			fault.Message = e.Field + ": " + e.Message
		}
		faults = append(faults, fault)
	}
	slices.SortStableFunc(faults, func(a, b Fault) int { return cmp.Or(cmp.Compare(a.Sheet, b.Sheet), cmp.Compare(a.Row, b.Row)) })
	return faults
}
