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
	"arithmon/internal/core/parallel"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// Into puts the points of a list into a draft: those that are there already are changed in the fields that the list has. The faults of the draft
// wait in it; Place finds their rows. A row that was exported and whose point was changed since is a fault for each field that differs, unless
// force is set.
func (l List) Into(d *site.Draft, now *site.Site, force bool) error {
	given := map[string]bool{} // tags that a row gives up
	for _, i := range l.Items {
		if _, known := now.Point(i.was); known && i.was != i.Tag() {
			given[i.was] = true
		}
	}
	for _, i := range l.Items {
		if _, known := now.Point(cmp.Or(i.was, i.Tag())); known {
			for _, field := range i.guessed {
				delete(i.Fields, field)
			}
		}
	}
	nodes, err := l.nodes()
	if err != nil {
		return err
	}
	// before is what a row changes, and under which tag it is known; a new point where it is not.
	before := func(item Item) (was string, from site.Entity, known bool) {
		was = cmp.Or(item.was, item.Tag())
		from, known = now.Get(site.KindPoint, was)
		if !known && item.was != "" { // renamed meanwhile, or taken over with its new tag already
			was = item.Tag()
			from, known = now.Get(site.KindPoint, was)
		}
		if !known || item.was == "" && given[item.Tag()] {
			from, known = site.Fresh(site.KindPoint), false
		}
		return was, from, known
	}
	decoded := form.DecodeEach(site.KindPoint, nodes, d, func(i int) site.Entity {
		_, from, _ := before(l.Items[i])
		return from
	})
	var renamed []site.Replacement
	others := make([]site.Entity, 0, len(decoded)) // among which are those that get tags of the renamed
	for i, e := range decoded {
		item := l.Items[i]
		was, from, known := before(item)
		if known && was != item.Tag() {
			renamed = append(renamed, site.Replacement{Old: was, New: e}) // it is the same point
		} else {
			others = append(others, e)
		}
		if !force {
			item.conflicts(d, now, from, e, known)
		}
	}
	d.ReplaceAll(renamed)
	for _, e := range others {
		d.Put(e)
	}
	return nil
}

// rowsTogether is how many rows are worth a goroutine.
const rowsTogether = 1024

// nodes are the rows as documents have them.
func (l List) nodes() ([]*document.Node, error) {
	list, faults := make([]*document.Node, len(l.Items)), make([]error, len(l.Items))
	parallel.Parts(len(list), rowsTogether, func(from, to int) {
		for i := from; i < to; i++ {
			list[i], faults[i] = document.Of(l.Items[i].Fields)
		}
	})
	for i, err := range faults {
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", l.Items[i].Row, err)
		}
	}
	return list, nil
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
func (l List) Place(found site.Errors) (faults []sheet.Fault) {
	told := map[sheet.Fault]bool{} // rows of which something is said already, from which more may follow
	for _, f := range l.Faults {
		told[sheet.Fault{Sheet: f.Sheet, Row: f.Row}] = true
	}
	unplaced := slices.ContainsFunc(l.Faults, func(f sheet.Fault) bool { return strings.HasPrefix(f.Message, "the row names no station") })
	byTag := make(map[string]int, len(l.Items))
	for i, item := range l.Items {
		byTag[item.Tag()] = i
	}
	for _, e := range found {
		i, known := byTag[e.Name]
		if !known || e.Kind != site.KindPoint {
			faults = append(faults, sheet.Fault{Value: e.Value, Message: e.Error()})
			continue
		}
		item := l.Items[i]
		if told[sheet.Fault{Sheet: item.Sheet, Row: item.Row}] || unplaced {
			continue
		}
		field, _, _ := strings.Cut(e.Field, ".")
		fault := sheet.Fault{Sheet: item.Sheet, Row: item.Row, Column: cmp.Or(item.From[e.Field], item.From[field]), Value: e.Value, Message: e.Message}
		if fault.Column != "" {
			fault.Value = cmp.Or(item.Cells()[fault.Column], e.Value)
		} else if e.Field != "" {
			fault.Message = e.Field + ": " + e.Message
		}
		faults = append(faults, fault)
	}
	slices.SortStableFunc(faults, func(a, b sheet.Fault) int { return cmp.Or(cmp.Compare(a.Sheet, b.Sheet), cmp.Compare(a.Row, b.Row)) })
	return faults
}
