// Package pointlist reads lists of points as manuals, spreadsheets and people have them: it recognises the columns by their headings, and makes the
// fields of a point, as a site file has them, of what the cells say. What it does not understand is a fault with its sheet, row and column.
package pointlist

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// Options say how a list is read.
type Options struct {
	Columns  sheet.Named    // others are recognised
	Station  string         // of rows that name none
	Prefix   string         // put before each tag
	Notation site.Notation  // how plain numbers of addresses count; "" as the list shows it, or as the station does
	Defaults map[string]any // fields of rows that say nothing of them

	Speaks func(station string) site.Protocol // what a station speaks; nil: all of them Modbus
}

func (o Options) protocol(station string) site.Protocol {
	if o.Speaks == nil {
		return site.Modbus
	}
	return o.Speaks(station)
}

// Item is a row that is a point.
type Item struct {
	Sheet  string
	Row    int
	Fields map[string]any    // of the point, as a site file has them; nil for one that gets its default
	From   map[string]string // the headings of the columns that a field came from, by field
	Made   string            // how its tag came about, where it was not as it is; "" where it was

	columns []sheet.Column
	cells   []string
	was     string // the tag that the point had when the row was made of it; "" for none
	version int64  // of the point that the row was made of; 0 for none
}

// Cells are what was written, by the heading of its column.
func (i Item) Cells() map[string]string {
	out := map[string]string{}
	for _, c := range i.columns {
		if text := cell(i.cells, c.At); text != "" {
			out[c.Heading] = text
		}
	}
	return out
}

// Tag is that of the point.
func (i Item) Tag() string { tag, _ := i.Fields["tag"].(string); return tag }

// List is what was read.
type List struct {
	Items   []Item
	Columns []sheet.Columns // of each sheet that has any
	Faults  []sheet.Fault
	Notes   []string
	Left    int // rows that are none of points: titles, repeated headings, footnotes
}

// Read reads all sheets of a book that have headings.
func Read(b sheet.Book, o Options) (List, error) {
	list := List{Notes: slices.Clone(b.Notes)}
	var first error
	tags := map[string]int{}
	for _, g := range b.Grids {
		named := o.Columns.Of(g.Name)
		h, err := findHeadings(g, named)
		if err != nil {
			if len(b.Grids) > 1 {
				list.Notes = append(list.Notes, fmt.Sprintf("sheet %s has no headings, and is left out", g.Name))
			}
			if first == nil {
				first = err
			}
			continue
		}
		if heading := h.addressByCells(g.Rows[h.first:]); heading != "" {
			list.Notes = append(list.Notes, fmt.Sprintf("column %s holds addresses, as its cells look", heading))
		}
		if o.protocol(o.Station) == site.DNP3 {
			if named["address"] == "" {
				h.indexBeside()
			}
			h.kindBeside(g.Rows[h.first:])
		}
		if named[colOffset] == "" {
			h.offsetsOfAddresses(g.Rows[h.first:])
		}
		list.Columns = append(list.Columns, sheet.Columns{Sheet: g.Name, Columns: h.columns})
		if len(h.rows) == 0 {
			list.Notes = append(list.Notes, "no headings are recognised; what the columns hold is guessed by their cells: look at it")
		}
		r := reader{list: &list, options: o, headings: h, sheet: g.Name, page: b.Form == sheet.Page, crosses: h.crosses(g.Rows[h.first:]), tags: tags, cells: map[string]string{}}
		if o.protocol(o.Station) != site.Modbus {
			// whose addresses count in one way
		} else if r.notation = cmp.Or(o.Notation, notationOf(h, g.Rows[h.first:])); r.notation != "" && o.Notation == "" {
			list.Notes = append(list.Notes, map[site.Notation]string{
				site.Ref5:   "addresses are references of five digits: 40001 is the first holding register",
				site.Offset: "addresses are offsets, as on the wire: the first is 0",
				site.Hex:    "addresses are hexadecimal, as the heading says, and offsets, as on the wire",
			}[r.notation])
			if r.notation == site.Hex {
				r.notation, r.hexed = site.Offset, true
			}
		}
		for _, row := range g.Rows[:h.first] {
			r.title(row)
		}
		for _, row := range g.Rows[h.first:] {
			r.title(row)
			r.row(row)
		}
		if r.upwards != "" {
			list.Notes = append(list.Notes, fmt.Sprintf("raw values are multiplied by column %s; where that is what the device has multiplied them by, say --columns 'divisor=%s'", r.upwards, r.upwards))
		}
	}
	if list.Columns == nil {
		return list, cmp.Or(first, fmt.Errorf("the file holds nothing"))
	}
	if err := o.Columns.Missing(list.Columns, b.Grids); err != nil {
		return list, err
	}
	if list.Left > 0 {
		list.Notes = append(list.Notes, fmt.Sprintf("left out, since they are no points, such as titles, repeated headings and reserved registers: %d", list.Left))
	}
	for _, c := range list.Columns {
		unused := slices.DeleteFunc(c.Unknown(), func(heading string) bool { return heading == Version || heading == Was })
		if len(unused) > 0 {
			list.Notes = append(list.Notes, c.About("columns that nothing is made of: "+strings.Join(unused, ", "), len(list.Columns)))
		}
	}
	return list, nil
}
