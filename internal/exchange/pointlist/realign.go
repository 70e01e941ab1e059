package pointlist

import (
	"regexp"
	"slices"
	"strings"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// On a page a long cell pushes those behind it under the next headings. What they say shows where they belong.

// realign moves the cells of a row by one column, behind an empty one, where they then say what their columns hold, and else do not.
func (h *headings) realign(row sheet.Row, protocol site.Protocol) sheet.Row {
	row.Cells = h.unrun(row.Cells)
	best, most := row.Cells, h.makesSense(row.Cells, protocol)
	if most >= 0 {
		return row
	}
	width := len(h.columns)
	cells := make([]string, width)
	copy(cells, row.Cells)
	try := func(moved []string) {
		if score := h.makesSense(moved, protocol); score > most {
			best, most = moved, score
		}
	}
	for empty := range width {
		if cells[empty] != "" {
			continue
		}
		for from := 1; from < width; from++ {
			switch {
			case from > empty: // what is behind the empty cell, up to from, one to the left
				moved := slices.Clone(cells)
				copy(moved[empty:from], cells[empty+1:from+1])
				moved[from] = ""
				try(moved)
			case from < empty: // what is before it, one to the right
				moved := slices.Clone(cells)
				copy(moved[from+1:empty+1], cells[from:empty])
				moved[from] = ""
				try(moved)
			}
		}
	}
	return sheet.Row{Number: row.Number, Cells: best}
}

// runOn is a cell that one space alone parts from the next.
var runOn = regexp.MustCompile(`^(.*\S)\s(\S+)$`)

// unrun parts a type, or what may be written, from the cell before it, where its own is empty.
func (h *headings) unrun(cells []string) []string {
	for _, field := range []string{"type", colAccess} {
		at := taken(h.columns, field)
		if at < 0 || h.columns[at].Exact || cell(cells, h.columns[at].At) != "" {
			continue
		}
		before := h.columns[at].At - 1
		for before >= 0 && cell(cells, before) == "" {
			before--
		}
		m := runOn.FindStringSubmatch(cell(cells, before))
		if m == nil {
			continue
		}
		_, _, _, _, noType := typeOf(m[2], 0)
		_, noAccess := accessOf(m[2])
		if field == "type" && (noType != nil || !strings.ContainsAny(m[2], "0123456789")) || field == colAccess && (noAccess != nil || strings.ToUpper(m[2]) != m[2]) {
			continue
		}
		moved := make([]string, max(len(cells), h.columns[at].At+1))
		copy(moved, cells)
		moved[before], moved[h.columns[at].At] = m[1], m[2]
		cells = moved
	}
	return cells
}

// makesSense is how many cells of a row say what their columns hold, less those that do not, which count more.
func (h *headings) makesSense(cells []string, protocol site.Protocol) (score int) {
	for _, c := range h.columns {
		said := cell(cells, c.At)
		if said == "" || c.Exact || dashes[said] {
			continue
		}
		var fits bool
		switch c.Field {
		case "type":
			_, _, _, _, err := typeOf(said, 0)
			fits = err == nil
		case "unit":
			_, isNumber := number(said)
			_, _, _, _, isType := typeOf(said, 0)
			fits = isUnit(unitOf(said)) || !isNumber && isType != nil
		case colAccess:
			_, err := accessOf(said)
			fits = err == nil
		case colFactor:
			_, _, err := stepped(said)
			fits = err == nil
		case colTable:
			fits = reads(said, protocol)
		default:
			continue
		}
		if fits {
			score++
		} else {
			score -= len(h.columns)
		}
	}
	return score
}
