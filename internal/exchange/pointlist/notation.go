package pointlist

import (
	"regexp"
	"slices"
	"strings"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// How the addresses of a list count.

// fewReferences are too few addresses to be sure of their notation by them.
const fewReferences = 3

// notationOf is how the addresses of a list count, where the list shows it whatever the notation of their station is: by their heading, or since all
// are references of five digits.
func notationOf(h headings, rows []sheet.Row) site.Notation {
	at := slices.IndexFunc(h.columns, func(c Column) bool { return c.Field == "address" && !c.Exact })
	if at < 0 {
		return ""
	}
	heading := strings.ToLower(h.columns[at].Heading)
	n, hex, references, zero, crosses := 0, 0, 0, false, h.crosses(rows)
	for _, row := range rows {
		text := cell(row.Cells, h.columns[at].at)
		if !strings.ContainsAny(text, "0123456789") || footnote(text) || strings.Contains(text, ":") || crossed.MatchString(text) || crosses && coilCrossed.MatchString(text) {
			continue
		}
		n++
		lower := strings.ToLower(text)
		if strings.HasPrefix(lower, "0x") || strings.HasSuffix(lower, "h") {
			hex++
		}
		digits, _, _ := strings.Cut(strings.ReplaceAll(text, ",", ""), ".")
		if digits, _, _ = strings.Cut(digits, "-"); len(digits) == 5 && reference(digits) {
			references++
		}
		zero = zero || digits == "0"
	}
	switch {
	case n == 0:
		return ""
	case hex == n, strings.Contains(heading, "offset") && references < n, zero:
		return site.Offset
	case references == n && n >= fewReferences:
		return site.Ref5
	}
	return ""
}

// crossed are addresses that name their table by a digit and a cross: 4x0010. Those of coils look like hexadecimal numbers.
var (
	crossed     = regexp.MustCompile(`^[134][xX]\d+$`)
	coilCrossed = regexp.MustCompile(`^0[xX](\d+)$`)
)

// crosses reports whether a list names tables by a digit and a cross, so that 0x0010 is the tenth coil and no hexadecimal number.
func (h headings) crosses(rows []sheet.Row) bool {
	at := slices.IndexFunc(h.columns, func(c Column) bool { return c.Field == "address" && !c.Exact })
	return at >= 0 && slices.ContainsFunc(rows, func(row sheet.Row) bool { return crossed.MatchString(cell(row.Cells, h.columns[at].at)) })
}
