package pointlist

import (
	"regexp"
	"slices"
	"strconv"
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
	at := slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == "address" && !c.Exact })
	if at < 0 {
		return ""
	}
	heading := strings.ToLower(h.columns[at].Heading)
	n, hex, bare, references, zero, crosses := 0, 0, 0, 0, false, h.crosses(rows)
	for _, row := range rows {
		text := joined(cell(row.Cells, h.columns[at].At), true)
		if !strings.ContainsAny(text, "0123456789") || footnote(text) || strings.Contains(text, ":") || crossed.MatchString(text) || crosses && coilCrossed.MatchString(text) {
			continue
		}
		if m := spelled.FindStringSubmatch(text); m != nil {
			text = m[2]
		}
		n++
		lower := strings.ToLower(text)
		if strings.HasPrefix(lower, "0x") || strings.HasSuffix(lower, "h") {
			hex++
		} else if first, _, _ := strings.Cut(text, "-"); bareHex.MatchString(strings.TrimSpace(first)) {
			bare++
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
	case bare > 0 && hex+bare == n && strings.Contains(heading, "hex"):
		return site.Hex
	case hex == n, strings.Contains(heading, "offset") && references < n, zero:
		return site.Offset
	case references == n && n >= fewReferences:
		return site.Ref5
	}
	return ""
}

// spelled are addresses whose table stands before the number: HR0, IR 5, Holding 6. How they count, the first of them shows, if it is 0.
var (
	spelled       = regexp.MustCompile(`(?i)^(hr|ir|co|di|holding|input|coil)\s*(?:reg(?:ister)?\.?)?\s*[-_#]?\s*(\d{1,5})$`)
	spelledTables = map[string]site.Space{"hr": site.HoldingRegisters, "holding": site.HoldingRegisters, "ir": site.InputRegisters, "input": site.InputRegisters, "co": site.Coils, "coil": site.Coils, "di": site.DiscreteInputs}
)

// bareHex is a number that is hexadecimal where the heading says so.
var bareHex = regexp.MustCompile(`^[0-9a-fA-F]{1,4}$`)

var (
	ends   = regexp.MustCompile(`^(\d{1,6}|0[xX][0-9a-fA-F]{1,4})\s*(?:\.{2,}|…|–|—|-|to|bis|thru|through)\s*(\d{1,6}|0[xX][0-9a-fA-F]{1,4})$`)
	beside = regexp.MustCompile(`^(\d{4,6})\s*[+&/,;]\s*(\d{4,6})$`)
)

var (
	bitBehind = regexp.MustCompile(`(?i)^(\d{4,6}|0x[0-9a-f]{1,4})(:|/|\s*\.?\s*b(?:it)?\.?\s*)(\d{1,2})$`)
	parted    = regexp.MustCompile(`^([0134])(?::\s?(\d{4,5})|-(0\d{3,4}))$`)
)

// joined writes an address in one way, however it was written: ranges with one hyphen (40005..40006, 40005 to 40006, 40005/40006, 40005/6), bits
// behind a point (40001 bit 3, 40001:3), tables by a digit with a cross (4:0001). Behind a slash there is a bit where the value is a single one.
func joined(text string, single bool) string {
	if m := bitBehind.FindStringSubmatch(text); m != nil && (m[2] != "/" || single) {
		if n, _ := strconv.Atoi(m[3]); n < 16 {
			return m[1] + "." + strconv.Itoa(n)
		}
	} else if m != nil {
		first, _ := strconv.Atoi(m[1])
		if next := strconv.Itoa(first + 1); strings.HasSuffix(next, m[3]) {
			return m[1] + "-" + next
		}
	}
	if m := parted.FindStringSubmatch(text); m != nil {
		return m[1] + "x" + m[2] + m[3]
	}
	if m := ends.FindStringSubmatch(text); m != nil {
		return m[1] + "-" + m[2]
	}
	if m := beside.FindStringSubmatch(text); m != nil {
		first, _ := strconv.Atoi(m[1])
		if second, _ := strconv.Atoi(m[2]); second == first+1 {
			return m[1] + "-" + m[2]
		}
	}
	return text
}

// crossed are addresses that name their table by a digit and a cross: 4x0010. Those of coils look like hexadecimal numbers.
var (
	crossed     = regexp.MustCompile(`^[134][xX]\d+$`)
	coilCrossed = regexp.MustCompile(`^0[xX](\d+)$`)
)

// crosses reports whether a list names tables by a digit and a cross, so that 0x0010 is the tenth coil and no hexadecimal number.
func (h headings) crosses(rows []sheet.Row) bool {
	at := slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == "address" && !c.Exact })
	return at >= 0 && slices.ContainsFunc(rows, func(row sheet.Row) bool { return crossed.MatchString(cell(row.Cells, h.columns[at].At)) })
}
