package pointlist

import (
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"arithmon/internal/exchange/sheet"
)

// A list without headings: what its columns hold shows in their cells.

// What makes a column one of its kind.
const (
	looked   = 200 // rows
	mostly   = 0.8 // of the cells that hold something
	leastRow = 3   // rows of a list of which anything is guessed
)

var (
	addressLike = regexp.MustCompile(`^(?:[0134][xX]\d{1,5}|0[xX][0-9a-fA-F]{1,4}|[0-9a-fA-F]{2,4}[hH]|\d{1,6}|\d{1,3},\d{3}|(?:hr|ir|co|di|ai|bi|ctr|ao|bo):\w+)(?:\.\d{1,2}|\s*-\s*\d{1,6})?$`)
	factorLike  = regexp.MustCompile(`^(?:[x×*]\s*[\d.,]+|(?:1\s*)?/\s*\d+|0[.,]0*1|10\^-\d)$`)
)

// guess says what the columns of a grid hold that has no headings; nil where that does not show.
func guess(g sheet.Grid) []sheet.Column {
	rows := g.Rows[:min(len(g.Rows), looked)]
	share := func(i int, is func(string) bool) float64 {
		n, yes := 0, 0
		for _, row := range rows {
			if text := cell(row.Cells, i); text != "" {
				n++
				if is(text) {
					yes++
				}
			}
		}
		if n == 0 || 2*n < len(rows) && n < leastRow {
			return 0
		}
		return float64(yes) / float64(n)
	}
	columns := make([]sheet.Column, width(g.Rows))
	for i := range columns {
		columns[i] = sheet.Column{Heading: "column " + sheet.Letter(i), At: i}
	}
	first := func(field string, is func(string) bool) {
		for i := range columns {
			if columns[i].Field == "" && share(i, is) >= mostly {
				columns[i].Field = field
				return
			}
		}
	}
	first("address", addressLike.MatchString)
	first(colFactor, factorLike.MatchString)
	first("type", func(text string) bool { _, _, _, _, err := typeOf(text, 0); return err == nil })
	first(colAccess, func(text string) bool {
		_, err := accessOf(text)
		_, numeric := strconv.Atoi(text)
		return err == nil && numeric != nil
	})
	texts := func(text string) bool { return strings.IndexFunc(text, unicode.IsLetter) >= 0 }
	// Of what is left, the longest texts describe; those that are all different and have no spaces are names.
	longest, most := -1, 0
	for i := range columns {
		if columns[i].Field != "" || share(i, texts) < mostly {
			continue
		}
		total, seen, spaces := 0, map[string]bool{}, 0
		for _, row := range rows {
			text := cell(row.Cells, i)
			total += len(text)
			seen[text] = true
			if strings.Contains(text, " ") {
				spaces++
			}
		}
		if len(seen) == len(rows) && spaces == 0 && taken(columns, "tag") < 0 {
			columns[i].Field = "tag"
		} else if total > most {
			longest, most = i, total
		}
	}
	if longest >= 0 && most >= 6*len(rows) {
		columns[longest].Field = "description"
	}
	first("unit", func(text string) bool { return len([]rune(text)) <= 8 && !addressLike.MatchString(text) })
	if len(rows) < leastRow || taken(columns, "address") < 0 || taken(columns, "tag") < 0 && taken(columns, "description") < 0 {
		return nil
	}
	return columns
}

// taken is the column that holds a field, -1 for none.
func taken(columns []sheet.Column, field string) int {
	for i, c := range columns {
		if c.Field == field {
			return i
		}
	}
	return -1
}

// width is how many columns rows have.
func width(rows []sheet.Row) (n int) {
	for _, row := range rows {
		n = max(n, len(row.Cells))
	}
	return n
}
