package pointlist

import (
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/exchange/sheet"
)

// Several tables in one sheet, below each other, each with headings of its own.

// tablesOf parts a sheet where headings stand that say of other columns what they hold. The titles above them belong to what is below.
func tablesOf(g sheet.Grid, named sheet.Named) []sheet.Grid {
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
