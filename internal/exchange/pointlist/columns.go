package pointlist

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/exchange/sheet"
)

// limitsBeside takes low and high for limits where a column beside them has one of the outer limits, and not for the ends of a range.
func limitsBeside(columns []sheet.Column, taken map[string]bool) {
	if !taken[colLowLow] && !taken[colHighHigh] {
		return
	}
	for i := range columns {
		field := map[string]string{"l": colLow, "lo": colLow, "low": colLow, "h": colHigh, "hi": colHigh, "high": colHigh}[sheet.Bare(columns[i].Heading)]
		if field != "" && !taken[field] && !columns[i].Exact && columns[i].Field != sheet.Nothing {
			columns[i].Field, taken[field] = field, true
		}
	}
}

// headings are the row or two of a grid that name its columns.
type headings struct {
	columns []sheet.Column
	first   int // index of the first row behind them
	rows    [][]string
	exact   map[string]bool   // fields whose cells are as in a site file
	from    map[string]string // the headings of fields
}

func newHeadings(columns []sheet.Column, first int, rows ...[]string) headings {
	h := headings{columns: columns, first: first, rows: rows, exact: map[string]bool{}, from: map[string]string{}}
	for _, c := range columns {
		if c.Exact {
			h.exact[c.Field] = true
		}
		if c.Field != "" {
			h.from[c.Field] = c.Heading
		}
	}
	return h
}

// searched is how many rows are looked at for headings.
const searched = 40

// findHeadings finds the headings of a grid. named are columns that a person named.
func findHeadings(g sheet.Grid, named sheet.Named) (headings, error) {
	var best headings
	bestScore, byHeading := 0, 0
	try := func(texts []string, first int, rows ...[]string) {
		columns, n := recognise(texts, named)
		score := scoreOf(columns) + 1 - len(rows) // of two that tell as much, the shorter
		if score > bestScore {
			best, bestScore, byHeading = newHeadings(columns, first, rows...), score, n
		}
	}
	for i, row := range g.Rows[:min(len(g.Rows), searched)] {
		try(row.Cells, i+1, row.Cells)
		if i+1 < len(g.Rows) && !numbers(g.Rows[i+1].Cells) { // a second row may go on with them
			below := g.Rows[i+1].Cells
			try(joinedHeadings(row.Cells, below, false), i+2, row.Cells, below)
			try(joinedHeadings(row.Cells, below, true), i+2, row.Cells, below)
		}
	}
	if bestScore < 4 || !best.has("address") && !best.has("tag") || named.Alone(best.columns, byHeading) && numbers(best.rows[0]) {
		if columns := headless(g, named); columns != nil {
			return newHeadings(columns, 0), nil
		}
		return best, fmt.Errorf("no headings are recognised: one row must name the columns, such as tag, address, type, unit; or say which they are: --columns 'tag=A,address=C'")
	}
	return best, nil
}

// scoreOf is how much columns tell of points.
func scoreOf(columns []sheet.Column) (score int) {
	for _, c := range columns {
		switch {
		case c.Field != "" && c.Heading != "" && !c.Likely:
			score += 2
		case c.Field != "":
			score++
		}
	}
	return score
}

// joinedHeadings are two rows of headings as one; grouped, a heading above stands for the columns to its right, too, that have one below it alone: Raw
// above min and max.
func joinedHeadings(above, below []string, grouped bool) []string {
	both := make([]string, max(len(above), len(below)))
	group := ""
	for k := range both {
		over, under := cell(above, k), cell(below, k)
		switch {
		case over != "" && under != "":
			group = over
		case over != "" || under == "":
			group = ""
		case grouped:
			over = group
		}
		both[k] = strings.TrimSpace(over + " " + under)
	}
	return both
}

// numbersRows are headings of columns that number the rows.
var numbersRows = map[string]bool{"no": true, "nr": true, "n": true, "": true, "pos": true, "item": true, "line": true, "row": true, "index": true, "id": true, "lfd nr": true, "ligne": true}

// addressByCells takes a column for the addresses whose cells look like some, where no heading names them, or only one whose cells number the rows. It
// gives its heading.
func (h *headings) addressByCells(rows []sheet.Row) string {
	rows = rows[:min(len(rows), looked)]
	counts := func(c sheet.Column) bool { // the rows
		for k, row := range rows {
			if text := cell(row.Cells, c.At); text != "" && text != strconv.Itoa(k+1) {
				return false
			}
		}
		return true
	}
	was := taken(h.columns, "address")
	if was >= 0 && !(numbersRows[sheet.Bare(h.columns[was].Heading)] && !h.columns[was].Exact && counts(h.columns[was])) || h.has(colOffset) {
		return ""
	}
	for i, c := range h.columns {
		if c.Field != "" || numbersRows[sheet.Bare(c.Heading)] || counts(c) {
			continue
		}
		filled, like := 0, 0
		for _, row := range rows {
			if text := cell(row.Cells, c.At); text != "" {
				filled++
				if addressLike.MatchString(text) {
					like++
				}
			}
		}
		if filled > 0 && float64(like) >= mostly*float64(filled) {
			if was >= 0 {
				h.columns[was].Field = ""
			}
			h.columns[i].Field, h.from["address"] = "address", c.Heading
			return c.Heading
		}
	}
	return ""
}

// repeat reports whether a row is one of headings once more, as on the next page.
func (h *headings) repeat(row sheet.Row) bool {
	return slices.ContainsFunc(h.rows, func(texts []string) bool {
		n := len(row.Cells) // of a table that has fewer columns
		return slices.Equal(texts, row.Cells) || n >= 2 && n <= len(texts) && slices.Equal(texts[:n], row.Cells)
	})
}

// has reports whether a column holds a field.
func (h headings) has(field string) bool { return taken(h.columns, field) >= 0 }

// headless says what the columns of a grid hold that has no headings: what was named, and beside that, what their cells show; nil where neither
// gives enough of a point.
func headless(g sheet.Grid, named sheet.Named) []sheet.Column {
	guessed := guess(g)
	if guessed == nil && len(named) == 0 {
		return nil
	}
	texts := make([]string, width(g.Rows))
	for i := range texts {
		texts[i] = "column " + sheet.Letter(i)
	}
	columns, _ := named.Recognise(texts)
	for i, c := range guessed {
		if columns[i].Field == "" && taken(columns, c.Field) < 0 {
			columns[i].Field = c.Field
		}
	}
	if guessed == nil && taken(columns, "address") < 0 && taken(columns, "tag") < 0 {
		return nil
	}
	return columns
}

// offsetsOfAddresses gives up a column of offsets that go on as the addresses beside them do: they are addresses once more, and nothing is added to
// values.
func (h *headings) offsetsOfAddresses(rows []sheet.Row) {
	at := func(field string) int {
		return slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == field && !c.Exact })
	}
	addresses, offsets := at("address"), at(colOffset)
	if addresses < 0 || offsets < 0 {
		return
	}
	whole := func(row sheet.Row, i int) (int64, bool) {
		text := strings.TrimSuffix(cell(row.Cells, h.columns[i].At), ".0")
		if end := strings.IndexByte(text, '-'); end > 0 { // of a range, the first
			text = text[:end]
		}
		n, err := strconv.ParseInt(strings.TrimSpace(text), 0, 32)
		if err != nil {
			n, err = strconv.ParseInt(strings.TrimSpace(text), 10, 32) // 00001
		}
		return n, err == nil
	}
	between, known, moved := int64(0), 0, false
	for _, row := range rows[:min(len(rows), looked)] {
		address, is1 := whole(row, addresses)
		offset, is2 := whole(row, offsets)
		if !is1 || !is2 {
			continue
		}
		if known > 0 && address-offset != between {
			return
		}
		moved = moved || known > 0
		between, known = address-offset, known+1
	}
	if moved {
		h.columns[offsets].Field = ""
		delete(h.from, colOffset)
	}
}

// indexBeside takes the index of DNP3 points for their address, where other addresses stand beside it.
func (h *headings) indexBeside() {
	at := slices.IndexFunc(h.columns, func(c sheet.Column) bool {
		bare := sheet.Bare(c.Heading)
		return c.Field == "" && faints[bare] && bare != "no" && bare != "nr"
	})
	was := slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == "address" && !c.Exact && !faints[sheet.Bare(c.Heading)] })
	if at >= 0 && was >= 0 {
		h.columns[was].Field, h.columns[at].Field, h.from["address"] = "", "address", h.columns[at].Heading
	}
}

// numbersPoints are headings of a column that numbers points where another one names them.
var numbersPoints = map[string]bool{"point": true, "pt": true, "channel": true, "kanal": true}

// objects are headings of columns with the groups of objects.
var objects = map[string]bool{"object": true, "obj": true, "group": true, "object no": true, "obj group": true, "gruppe": true, "objekt": true, "static group": true, "static object": true, "dnp object": true, "type": true, "typ": true, "group/variation": true, "object/variation": true, "obj/var": true}

// kindBeside takes a column for the kinds of DNP3 points whose cells are all short names of them, where no heading says so.
func (h *headings) kindBeside(rows []sheet.Row) {
	defer func() {
		at := taken(h.columns, "type")
		if at >= 0 && h.has(colTable) && !h.columns[at].Exact && all(h.filled(rows, h.columns[at].At), func(text string) bool { return kinds[strings.ToLower(text)] != "" || len(text) == 1 }) {
			h.columns[at].Field = "" // AI, BO: the kinds once more
			delete(h.from, "type")
		}
	}()
	if h.has(colTable) {
		return
	}
	for i := range h.columns {
		n, are := 0, 0
		for _, row := range rows[:min(len(rows), looked)] {
			if text := cell(row.Cells, h.columns[i].At); text != "" {
				n++
				if _, err := kindOf(text); kinds[strings.ToLower(text)] != "" || err == nil && objects[sheet.Fold(sheet.Bare(h.columns[i].Heading))] {
					are++
				}
			}
		}
		if f := h.columns[i].Field; (f == "" || f == "type" && !h.columns[i].Exact) && n > 0 && are == n {
			delete(h.from, f)
			h.columns[i].Field, h.from[colTable] = colTable, h.columns[i].Heading
			return
		}
	}
}

// kindNumber is the address of a DNP3 point in one word: AI0, BI-3, AO 12.
var kindNumber = regexp.MustCompile(`(?i)^(d?bi|di|bo|do|ai|ao|ctr|cnt|ct|ci|fctr|fc|os)[\s._-]*(\d{1,5})$`)

// kindNumbers takes a column of such words for the addresses where no other is one. What names points may be another one then.
func (h *headings) kindNumbers(rows []sheet.Row, named sheet.Named) {
	if h.has("address") || named["address"] != "" {
		return
	}
	at := slices.IndexFunc(h.columns, func(c sheet.Column) bool {
		return !c.Exact && named[c.Field] == "" && all(h.filled(rows, c.At), kindNumber.MatchString)
	})
	if at < 0 {
		return
	}
	was := h.columns[at].Field
	delete(h.from, was)
	h.columns[at].Field, h.from["address"] = "address", h.columns[at].Heading
	for i := range h.columns {
		if field, _ := known(h.columns[i].Heading, false); was == "tag" && field == was && h.columns[i].Field == "" {
			h.columns[i].Field, h.from[was] = was, h.columns[i].Heading
			return
		}
	}
}

// numbers reports whether most cells of a row are numbers, as those of headings are not.
func numbers(cells []string) bool {
	return sheet.Numbers(cells, func(text string) bool { _, ok := number(text); return ok })
}

func cell(cells []string, i int) string {
	if i < 0 || i >= len(cells) {
		return ""
	}
	return cells[i]
}

// faints are headings that count where no other column has what they may mean: No. numbers the rows as often as it names registers.
var faints = map[string]bool{"no": true, "nr": true, "index": true, "point index": true, "reference": true, "dnp3 index": true, "dnp index": true, "dnp3 point": true, "dnp point": true, "dnp3 address": true}

// recognise says what the columns of some headings hold, and how many a person named by their heading. Of two columns for one field, the first
// counts; what was named goes before.
func recognise(texts []string, by sheet.Named) ([]sheet.Column, int) {
	columns, byHeading := by.Recognise(texts)
	exported := slices.Contains(texts, Version)
	taken := map[string]bool{}
	for _, c := range columns {
		taken[c.Field] = c.Field != ""
	}
	for _, faint := range []bool{false, true} {
		for i := range columns {
			field, exact := known(columns[i].Heading, exported)
			if columns[i].Field != "" || field == "" || taken[field] || faints[sheet.Bare(columns[i].Heading)] && !exact != faint {
				continue
			}
			columns[i].Field, columns[i].Exact, taken[field] = field, exact, true
		}
	}
	if !taken["address"] { // Point, Name: the number of the point, and its name
		for i := range columns {
			if columns[i].Field == "tag" && !columns[i].Exact && numbersPoints[sheet.Bare(columns[i].Heading)] && by["tag"] == "" {
				next := slices.IndexFunc(columns, func(c sheet.Column) bool {
					field, _ := known(c.Heading, exported)
					return c.Field == "" && field == "tag"
				})
				if next >= 0 {
					columns[i].Field, columns[next].Field, taken["address"] = "address", "tag", true
				}
			}
		}
	}
	if !taken["tag"] { // IEC name
		for i := range columns {
			if bare := sheet.Bare(columns[i].Heading); columns[i].Field == "" && (strings.HasSuffix(bare, "name") || strings.HasSuffix(bare, " tag")) && columns[i].Heading != Was {
				columns[i].Field, taken["tag"] = "tag", true
				break
			}
		}
	}
	for i := range columns { // of two columns that describe, the first names
		if field, _ := known(columns[i].Heading, exported); field != "description" || columns[i].Field != "" || taken["tag"] || by["description"] != "" {
			continue
		}
		for k := range columns {
			if columns[k].Field == "description" {
				columns[k].Field, taken["tag"] = "tag", true
			}
		}
		columns[i].Field = "description"
	}
	limitsBeside(columns, taken)
	for i := range columns {
		if field := likelyField(sheet.Fold(sheet.Bare(columns[i].Heading))); columns[i].Field == "" && field != "" && !taken[field] && by[field] == "" && columns[i].Heading != Was {
			columns[i].Field, columns[i].Likely, taken[field] = field, true, true
		}
	}
	// Of two columns with addresses, the hexadecimal one is as on the wire.
	for i := range columns {
		if field, _ := known(columns[i].Heading, exported); field == "address" && columns[i].Field == "" && strings.Contains(strings.ToLower(columns[i].Heading), "hex") && by["address"] == "" {
			for k := range columns {
				if columns[k].Field == "address" {
					columns[k].Field = ""
				}
			}
			columns[i].Field = "address"
		}
	}
	// An offset is an address where no other column is one.
	if !taken["address"] && taken[colOffset] && by[colOffset] == "" {
		for i := range columns {
			if columns[i].Field == colOffset {
				columns[i].Field = "address"
			}
		}
	}
	return columns, byHeading
}
