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
	Prefix   string         // put before each tag; {station} in it is the name of the station
	Notation site.Notation  // how plain numbers of addresses count; "" as the list shows it, or as the station does
	Defaults map[string]any // fields of rows that say nothing of them

	Speaks func(station string) site.Protocol // what a station speaks; nil: all of them Modbus
	Counts func(station string) site.Notation // how addresses of a station count; nil: it is not known
	Called func(text string) string           // the station that a text names, "" for none; nil: none is known
}

func (o Options) protocol(station string) site.Protocol {
	if o.Speaks == nil {
		return site.Modbus
	}
	return o.Speaks(station)
}

func (o Options) counts(station string) site.Notation {
	if o.Counts == nil {
		return ""
	}
	return o.Counts(station)
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
	guessed []string // fields that are the best guess where the row does not say them
	was     string   // the tag that the point had when the row was made of it; "" for none
	version int64    // of the point that the row was made of; 0 for none
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
	b = Parted(b)
	list := List{Notes: slices.Clone(b.Notes)}
	var first error
	r := reader{list: &list, options: o, page: b.Form == sheet.Page || b.Form == sheet.Lines, lines: b.Form == sheet.Lines, tags: map[string]int{}, first: map[string]string{}, cells: map[string]string{}}
	for _, g := range b.Grids {
		r.sheet, r.sections = g.Name, nil
		r.ofSheet(g.Name)
		for _, table := range tablesOf(g, o.Columns.Of(g.Name)) {
			err := r.table(table, o.Columns.Of(g.Name))
			if err != nil && len(b.Grids) > 1 {
				list.Notes = append(list.Notes, fmt.Sprintf("sheet %s has no headings, and is left out", g.Name))
			}
			first = cmp.Or(first, err)
		}
	}
	if list.Columns == nil && b.Form == sheet.Page && width(b.Grids[0].Rows) < 2 {
		return list, fmt.Errorf("no columns are to be seen, and no lines with addresses: part cells by a tab, a semicolon, a comma or two spaces, or give lines of which each has the address of a register")
	}
	if list.Columns == nil {
		return list, cmp.Or(first, fmt.Errorf("the file holds nothing"))
	}
	if err := o.Columns.Missing(list.Columns, b.Grids); err != nil {
		return list, err
	}
	r.joinHalves()
	r.overlaps()
	if list.Left > 0 {
		list.Notes = append(list.Notes, fmt.Sprintf("left out, since they are no points, such as titles, repeated headings and reserved registers: %d", list.Left))
	}
	for _, c := range list.Columns {
		unused := slices.DeleteFunc(c.Unknown(), func(heading string) bool { return heading == Version || heading == Was })
		if len(unused) > 0 {
			r.once("%s", c.About("columns that nothing is made of: "+strings.Join(unused, ", "), len(b.Grids)))
		}
	}
	return list, nil
}

// mostNamed is how many rows a note names.
const mostNamed = 10

// table reads the rows of a table with its headings.
func (r *reader) table(g sheet.Grid, named sheet.Named) error {
	h, err := findHeadings(g, named)
	if err != nil {
		return err
	}
	for _, row := range g.Rows[:max(0, h.first-len(h.rows))] {
		r.ofRow(row)
	}
	rows, protocol := g.Rows[h.first:], r.options.protocol(r.ofTable)
	if protocol == site.DNP3 && (named["address"] == "" || kindIn(sheet.Fold(named["address"])) != "") {
		var several []int
		if rows, several = h.indexesByKind(rows); several != nil {
			r.note("rows that have indexes of several kinds, of which the first counts: %v", several[:min(len(several), mostNamed)])
		}
	}
	if heading := h.addressByCells(rows); heading != "" {
		r.once("column %s holds addresses, as its cells look", heading)
	}
	h.addressAmong(rows, named)
	if protocol == site.DNP3 {
		if named["address"] == "" {
			h.indexBeside()
		}
		h.kindBeside(rows)
		h.kindNumbers(rows, named)
	}
	if named[colOffset] == "" {
		h.offsetsOfAddresses(rows)
	}
	h.fit(rows, named, protocol)
	if protocol == site.Modbus {
		if heading := h.typesByCells(rows); heading != "" {
			r.once("column %s holds data types, as its cells look", heading)
		}
	}
	if by := h.divides(rows, named); by != "" {
		r.once("raw values are divided by column %s, because it has only powers of ten; if they are to be multiplied, say --columns 'factor=%s'", by, by)
	}
	r.list.Columns = append(r.list.Columns, sheet.Columns{Sheet: g.Name, Columns: h.columns})
	if len(h.rows) == 0 {
		r.once("no headings are recognised; what the columns hold is guessed by their cells: look at it")
	}
	r.headings, r.crosses, r.size, r.upwards, r.at = h, h.crosses(rows), h.sized(rows), "", ""
	r.known, r.notation, r.hexed, r.outright = memory{}, "", false, false
	if protocol == site.Modbus {
		r.count(g, rows)
		if named[colTable] == "" && (r.notation == site.Ref5 || r.notation == site.Ref6) {
			r.headings.signalsBeside(rows)
		}
		r.order = r.orderSaid(g)
	}
	r.titled(g.Name, 0)
	for _, row := range g.Rows[:h.first] {
		r.title(row)
	}
	for _, row := range rows {
		if alone(row) {
			r.ofRow(row)
		}
		r.title(row)
		if one(row) && sectioned.MatchString(strings.Join(row.Cells, "")) {
			r.list.Left++
			continue
		}
		if r.page {
			row = h.realign(row, protocol)
		}
		r.row(row)
	}
	if r.upwards != "" {
		r.once("raw values are multiplied by column %s; where that is what the device has multiplied them by, say --columns 'divisor=%s'", r.upwards, r.upwards)
	}
	return nil
}

// count finds out how the addresses of a table count, and says so.
func (r *reader) count(g sheet.Grid, rows []sheet.Row) {
	shown := countingOf(r.headings, g, rows)
	if r.options.Notation != "" {
		shown = counting{notation: r.options.Notation, outright: r.options.Notation == site.Offset}
	} else if shown.why != "" {
		r.once("%s", shown.why)
	} else if shown.notation == "" && r.counting != "" && len(rows) <= fewReferences { // too few to show it
		shown.notation = r.counting
	}
	if shown.notation == site.Ref5 || shown.notation == site.Ref6 {
		r.counting = shown.notation
	}
	if r.notation, r.outright = shown.notation, shown.outright; shown.notation == site.Hex && r.options.Notation == "" {
		r.notation, r.hexed = site.Offset, true
	}
}
