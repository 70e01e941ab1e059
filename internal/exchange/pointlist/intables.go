package pointlist

import (
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/exchange/sheet"
)

// Several tables in one sheet, below each other or side by side, each with headings of its own.

// tablesOf parts a sheet into its tables.
func tablesOf(g sheet.Grid, named sheet.Named) (list []sheet.Grid) {
	for _, part := range belowEachOther(g, named) {
		list = append(list, sideBySide(part, named)...)
	}
	return list
}

// belowEachOther parts a sheet where headings stand that say of other columns what they hold. The titles above them belong to what is below.
func belowEachOther(g sheet.Grid, named sheet.Named) []sheet.Grid {
	var list []sheet.Grid
	var last string
	from := 0
	for i, row := range g.Rows {
		holds, is := headed(row, named)
		if !is || holds == last {
			continue
		}
		if last != "" {
			begin := i
			for begin > from && alone(g.Rows[begin-1]) {
				begin--
			}
			list = append(list, sheet.Grid{Name: g.Name, Rows: g.Rows[from:begin]})
			from = begin
		}
		last = holds
	}
	return append(list, sheet.Grid{Name: g.Name, Rows: g.Rows[from:]})
}

// sideBySide parts a sheet whose headings begin anew to the right: Register, Name, Register, Name.
func sideBySide(g sheet.Grid, named sheet.Named) []sheet.Grid {
	for i, row := range g.Rows[:min(len(g.Rows), searched)] {
		blocks := blocksOf(row.Cells, g.Rows[i:])
		if len(blocks) < 2 || slices.ContainsFunc(row.Cells, begins) || !all(blocks, func(b block) bool { return b.heads(row.Cells, named) }) {
			continue
		}
		var list []sheet.Grid
		for _, b := range blocks {
			part := sheet.Grid{Name: g.Name}
			for _, row := range g.Rows {
				if cells := b.of(row.Cells); cells != nil {
					part.Rows = append(part.Rows, sheet.Row{Number: row.Number, Cells: cells})
				}
			}
			list = append(list, part)
		}
		return list
	}
	return []sheet.Grid{g}
}

// block are columns that may be those of one table, up to the first that is not.
type block struct{ from, to int }

// blocksOf parts columns where one is empty, and where the first heading comes once more.
func blocksOf(headings []string, rows []sheet.Row) (list []block) {
	empty := func(k int) bool {
		return !slices.ContainsFunc(rows[:min(len(rows), looked)], func(row sheet.Row) bool { return cell(row.Cells, k) != "" })
	}
	begun := -1
	for k, heading := range headings {
		switch {
		case heading == "" && empty(k):
			if begun >= 0 {
				list = append(list, block{begun, k})
			}
			begun = -1
		case begun < 0:
			begun = k
		case heading != "" && sheet.Fold(heading) == sheet.Fold(headings[begun]):
			list = append(list, block{begun, k})
			begun = k
		}
	}
	if begun >= 0 {
		list = append(list, block{begun, len(headings)})
	}
	return list
}

// heads reports whether the headings of a block are those of a table of points: they name an address and what is there.
func (b block) heads(headings []string, named sheet.Named) bool {
	columns, n := recognise(b.of(headings), named)
	names := taken(columns, "tag") >= 0 || taken(columns, "description") >= 0
	return taken(columns, "address") >= 0 && names && !named.Alone(columns, n)
}

// of are the cells of a row that are in a block, each where it was; nil where none of them holds anything.
func (b block) of(cells []string) []string {
	part := slices.Clone(cells[:min(len(cells), b.to)])
	clear(part[:min(len(part), b.from)])
	if !slices.ContainsFunc(part, func(text string) bool { return text != "" }) {
		return nil
	}
	return part
}

// leastHeadings is how many columns a row names at least that is one of headings.
const leastHeadings = 3

// headed reports whether a row is one of headings beyond doubt, and gives what its columns hold.
func headed(row sheet.Row, named sheet.Named) (holds string, is bool) {
	if len(row.Cells) < leastHeadings || slices.ContainsFunc(row.Cells, begins) {
		return "", false
	}
	columns, n := recognise(row.Cells, named)
	known, filled := 0, 0
	for _, c := range columns {
		if c.Heading != "" {
			filled++
		}
		if c.Field != "" && c.Heading != "" && !c.Likely {
			known++
			holds += strconv.Itoa(c.At) + "=" + c.Field + " "
		}
	}
	if known < leastHeadings || 2*known < filled || named.Alone(columns, n) {
		return "", false
	}
	return holds, taken(columns, "address") >= 0
}

// begins reports whether a cell begins with a number, or names a table before one, as addresses do and headings do not.
func begins(text string) bool {
	_, digits, found := strings.Cut(text, ":")
	return text != "" && text[0] >= '0' && text[0] <= '9' || found && digits != "" && digits[0] >= '0' && digits[0] <= '9'
}

// alone reports whether one cell of a row holds something alone, and no number, as titles do.
func alone(row sheet.Row) bool {
	return one(row) && !numbers(row.Cells) && !slices.ContainsFunc(row.Cells, footnote)
}

// one reports whether one cell of a row holds something alone.
func one(row sheet.Row) bool {
	n := 0
	for _, text := range row.Cells {
		if text != "" {
			n++
		}
	}
	return n == 1
}
