package pointlist

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// mostOverlaps is how many rows are told of that lie within the registers of others.
const mostOverlaps = 5

// overlaps notes rows that begin within the registers of the value of another row: the type of the one or the address of the other is wrong, as a rule.
func (r *reader) overlaps() {
	type span struct {
		of          *Item
		space       site.Space
		first, last int
	}
	by := map[string][]span{} // by station
	for i := range r.list.Items {
		item := &r.list.Items[i]
		a, err := site.ParseAddress(text(item.Fields["address"]), site.Ref5, "")
		t := codec.Type(text(item.Fields["type"]))
		if item.version != 0 || err != nil || !a.Space.Registers() || a.Part != site.Whole || t == codec.TypeString || t == codec.TypeBool || t == codec.TypeBits {
			continue
		}
		station := text(item.Fields["station"])
		words := codec.Layout{Type: cmp.Or(t, codec.TypeUint16)}.Words()
		by[station] = append(by[station], span{item, a.Space, int(a.Offset), int(a.Offset) + words - 1})
	}
	n := 0
	for _, station := range slices.Sorted(maps.Keys(by)) {
		spans := by[station]
		slices.SortStableFunc(spans, func(a, b span) int { return cmp.Or(cmp.Compare(a.space, b.space), cmp.Compare(a.first, b.first)) })
		for i := 1; i < len(spans); i++ {
			before, s := spans[i-1], spans[i]
			if before.space != s.space || s.first > before.last || s.first == before.first {
				continue
			}
			if n++; n <= mostOverlaps {
				r.note("%s overlaps %s, whose %s at %s takes %d registers: check its type, and the address", s.of.place(), before.of.place(), text(before.of.Fields["type"]), text(before.of.Fields["address"]), before.last-before.first+1)
			}
		}
	}
	if n > mostOverlaps {
		r.note("and %d rows more overlap others", n-mostOverlaps)
	}
}

// place is where a row stands, with its tag.
func (i Item) place() string {
	if i.Sheet != "" {
		return fmt.Sprintf("row %d of sheet %s (%s)", i.Row, i.Sheet, i.Tag())
	}
	return fmt.Sprintf("row %d (%s)", i.Row, i.Tag())
}
