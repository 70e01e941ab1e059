package pointlist

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// Columns of which the cells, and not the headings, show what they hold.

// addressAmong takes another column that is headed as one of addresses, where each of its cells is one, and some of the first column's are none.
func (h *headings) addressAmong(rows []sheet.Row, named sheet.Named) {
	at := taken(h.columns, "address")
	is := func(text string) bool { return addressLike.MatchString(text) || memoryWord.MatchString(text) }
	if at < 0 || h.columns[at].Exact || named["address"] != "" || !slices.ContainsFunc(h.filled(rows, h.columns[at].At), memoryAny.MatchString) || all(h.filled(rows, h.columns[at].At), is) {
		return
	}
	for i, c := range h.columns {
		if field, _ := known(c.Heading, false); field == "address" && i != at && c.Field == "" && all(h.filled(rows, c.At), addressLike.MatchString) {
			h.columns[at].Field, h.columns[i].Field, h.from["address"] = "", "address", c.Heading
			return
		}
	}
}

// signals are kinds of signals by which none of tables is meant where the addresses are references, which name their tables.
var signals = map[string]bool{"ai": true, "ao": true, "di": true, "do": true}

// signalsBeside gives up a column of tables that has kinds of signals, beside references.
func (h *headings) signalsBeside(rows []sheet.Row) {
	at := taken(h.columns, colTable)
	if at >= 0 && !h.columns[at].Exact && all(h.filled(rows, h.columns[at].At), func(text string) bool { return signals[strings.ToLower(text)] }) {
		h.columns[at].Field = ""
		delete(h.from, colTable)
	}
}

// typesByCells takes a column for the data types whose cells are all some, where no heading names them. It gives its heading.
func (h *headings) typesByCells(rows []sheet.Row) string {
	if h.has("type") {
		return ""
	}
	for i, c := range h.columns {
		cells := h.filled(rows, c.At)
		if c.Field == "" && c.Heading != "" && len(cells) > 1 && all(cells, func(text string) bool { _, _, _, _, err := typeOf(text, 0); return err == nil }) {
			h.columns[i].Field, h.from["type"] = "type", c.Heading
			return c.Heading
		}
	}
	return ""
}

// indexesByKind makes one column of addresses of several that have the indexes of one kind each: Binary Input Index, Analog Input Index. It gives the
// numbers of rows that have several, of which the first counts.
func (h *headings) indexesByKind(rows []sheet.Row) (out []sheet.Row, several []int) {
	isIndex := func(text string) bool { _, err := strconv.ParseUint(text, 10, 16); return err == nil }
	type column struct {
		at   int // in the row
		kind site.Space
	}
	var list []column
	first := -1
	for i, c := range h.columns {
		if c.Field != "" && c.Field != "address" || c.Exact {
			continue
		}
		if kind := kindIn(sheet.Fold(sheet.Bare(c.Heading))); kind != "" && all(h.filled(rows, c.At), isIndex) {
			if list = append(list, column{c.At, kind}); first < 0 {
				first = i
			}
		}
	}
	if len(list) < 2 {
		return rows, nil
	}
	for i := range h.columns {
		if h.columns[i].Field == "address" {
			h.columns[i].Field = ""
		}
	}
	h.columns[first].Field, h.from["address"] = "address", h.columns[first].Heading
	for _, row := range rows {
		address, n := "", 0
		for _, c := range list {
			if text := cell(row.Cells, c.at); isIndex(text) {
				address = cmp.Or(address, string(c.kind)+":"+text)
				n++
			}
		}
		if n > 1 {
			several = append(several, row.Number)
		}
		if address != "" {
			cells := make([]string, max(len(row.Cells), list[0].at+1))
			copy(cells, row.Cells)
			for _, c := range list {
				if c.at < len(cells) {
					cells[c.at] = ""
				}
			}
			cells[list[0].at] = address
			row.Cells = cells
		}
		out = append(out, row)
	}
	return out, several
}
