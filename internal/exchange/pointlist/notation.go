package pointlist

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// How the addresses of a list count.

// fewReferences are too few addresses to be sure of their notation by them.
const fewReferences = 2

// What is said, in a heading or in a sentence above or below, of how addresses count.
var (
	saysZero = regexp.MustCompile(`(?i)\b(?:0|zero)[- ]?based\b|\bbase[- ]?(?:0|zero)\b|\b(?:start|starts|starting|begin|begins|beginning|count|counts|counted)\s+(?:at|from|with)\s+(?:0|zero)\b|\b(?:pdu|wire|protocol) addr|\b(?:0|null)[- ]?basiert|\bbeginn\w*\s+(?:bei|mit)\s+(?:0|null)\b|\bindexad[ao] (?:a|en) cero`)
	saysOne  = regexp.MustCompile(`(?i)\b(?:1|one)[- ]?based\b|\bbase[- ]?(?:1|one)\b|\b(?:start|starts|starting|begin|begins|beginning|count|counts|counted)\s+(?:at|from|with)\s+(?:1|one)\b|\b(?:1|eins)[- ]?basiert|\bbeginn\w*\s+(?:bei|mit)\s+(?:1|eins)\b`)
	saysHex  = regexp.MustCompile(`(?i)hex|[(\[]\s*h\s*[)\]]`)
)

// addressWord is in sentences that speak of addresses.
var addressWord = regexp.MustCompile(`(?i)addr|adress|register|index|offset`)

// said is how addresses count by what a heading or a sentence of the list says; "" where none does.
func said(heading string, g sheet.Grid) site.Notation {
	texts := []string{heading}
	for _, row := range g.Rows {
		if sentence := strings.Join(row.Cells, " "); one(row) && len(sentence) < 400 && addressWord.MatchString(sentence) {
			texts = append(texts, sentence)
		}
	}
	zero := slices.ContainsFunc(texts, saysZero.MatchString)
	one := slices.ContainsFunc(texts, saysOne.MatchString)
	switch {
	case zero && !one:
		return site.Offset
	case one && !zero:
		return site.Number
	}
	return ""
}

// noReference reports whether a whole number of five digits can be none of references, which count from 1 in each table: 30000, 20001.
func noReference(digits string) bool {
	return len(digits) == 5 && (!strings.ContainsRune("0134", rune(digits[0])) || digits[1:] == "0000")
}

// contradicted reports whether a reference would be one of bits, and the type beside it is none of them.
func contradicted(digits, written string) bool {
	if !reference(digits) || digits[0] > '1' || written == "" {
		return false
	}
	t, _, _, _, err := typeOf(written, 0)
	return err == nil && t != codec.TypeBool
}

// counting is how the addresses of a list count.
type counting struct {
	notation site.Notation // "" where the list does not show it
	outright bool          // they are offsets, though some look like references
	why      string        // by what that shows
}

// countingOf is how the addresses of a list count, where the list shows it whatever the notation of their station is: by their heading, by what is said
// beside them, or since all are references.
func countingOf(h headings, g sheet.Grid, rows []sheet.Row) counting {
	at := slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == "address" && !c.Exact })
	if at < 0 {
		return counting{}
	}
	heading, types := h.columns[at].Heading, taken(h.columns, "type")
	n, hex, bare, lettered, zero, crosses := 0, 0, 0, 0, false, h.crosses(rows)
	references, impossible, first := map[int]int{}, []string{}, ""
	for _, row := range rows {
		text := joined(cell(row.Cells, h.columns[at].At), true)
		if x := hexMarked.FindStringSubmatch(text); x != nil {
			text = "0x" + x[1]
		}
		if !strings.ContainsAny(text, "0123456789") && !bareHex.MatchString(text) || footnote(text) || strings.ContainsAny(text, ":%") || crossed.MatchString(text) || crosses && coilCrossed.MatchString(text) {
			continue
		}
		if m := spelled.FindStringSubmatch(text); m != nil {
			text = m[2]
		}
		if strings.ContainsAny(text, " ([") { // a remark in it, which is no number
			continue
		}
		n++
		lower := strings.ToLower(text)
		if strings.HasPrefix(lower, "0x") || strings.HasSuffix(lower, "h") {
			hex++
		} else if first, _, _ := strings.Cut(text, "-"); bareHex.MatchString(strings.TrimSpace(first)) {
			bare++
			if strings.ContainsAny(lower, "abcdef") {
				lettered++
			}
		}
		digits, _, _ := strings.Cut(strings.ReplaceAll(text, ",", ""), ".")
		digits, _, _ = strings.Cut(digits, "-")
		digits = strings.TrimSpace(digits)
		if strings.Trim(digits, "0123456789") == "" {
			first = cmp.Or(first, digits)
			if noReference(digits) || contradicted(digits, cell(row.Cells, types)) {
				impossible = append(impossible, digits)
			} else if reference(digits) {
				references[len(digits)]++
			}
		}
		zero = zero || digits == "0"
	}
	offset := strings.Contains(strings.ToLower(heading), "offset")
	switch all := references[5] == n || references[6] == n; {
	case n == 0:
		return counting{}
	case bare > 0 && hex+bare == n && saysHex.MatchString(heading):
		return counting{notation: site.Hex, why: "addresses are hexadecimal, as the heading says, and offsets, as on the wire"}
	case lettered > 0 && hex+bare == n:
		return counting{notation: site.Hex, why: "addresses are hexadecimal, as their letters show, and offsets, as on the wire"}
	case hex == n, offset && references[5] < n, zero:
		return counting{notation: site.Offset, why: "addresses are offsets, as on the wire: the first is 0"}
	case all && n >= fewReferences && references[6] == n:
		return counting{notation: site.Ref6, why: "addresses are references of six digits: 400001 is the first holding register"}
	case all && n >= fewReferences:
		return counting{notation: site.Ref5, why: "addresses are references of five digits: 40001 is the first holding register"}
	case len(impossible) > 1, len(impossible) == 1 && impossible[0] == first:
		return counting{notation: site.Offset, outright: true, why: fmt.Sprintf("addresses are read as offsets, the first of which is 0, because %s is no valid reference number; if the first is 1, say --notation number", impossible[0])}
	case all:
		return counting{}
	}
	if by := said(heading, g); by != "" {
		return counting{notation: by, why: fmt.Sprintf("addresses count from %s, as the list says", firsts[by])}
	}
	return counting{}
}

// spelled are addresses whose table stands before the number: HR0, IR 5, Holding 6. How they count, the first of them shows, if it is 0.
var (
	spelled       = regexp.MustCompile(`(?i)^(hr|ir|co|di|holding|input|coil)\s*(?:reg(?:ister)?\.?)?\s*[-_#]?\s*(\d{1,5})$`)
	spelledTables = map[string]site.Space{"hr": site.HoldingRegisters, "holding": site.HoldingRegisters, "ir": site.InputRegisters, "input": site.InputRegisters, "co": site.Coils, "coil": site.Coils, "di": site.DiscreteInputs}
)

// bareHex is a number that is hexadecimal where the heading says so.
var bareHex = regexp.MustCompile(`^[0-9a-fA-F]{1,4}$`)

var (
	fromTo = regexp.MustCompile(`^(\d{1,6}|0[xX][0-9a-fA-F]{1,4})\s*(?:\.{2,}|…|–|—|-|to|bis|thru|through)\s*(\d{1,6}|0[xX][0-9a-fA-F]{1,4})$`)
	beside = regexp.MustCompile(`^(\d{4,6})\s*[+&/,;]\s*(\d{4,6})$`)
)

var (
	bitBehind = regexp.MustCompile(`(?i)^(?:(\d{4,6})(:|/|\s*\.?\s*b(?:it)?\.?\s*)|(0x[0-9a-f]{1,4})(:|/|\s+b(?:it)?\.?\s*|\s*\.\s*b(?:it)?\.?\s*|bit\s*))(\d{1,2})$`)
	parted    = regexp.MustCompile(`^([0134])(?::\s?(\d{4,5})|-(0\d{3,4}))$`)
)

// joined writes an address in one way, however it was written: ranges with one hyphen (40005..40006, 40005 to 40006, 40005/40006, 40005/6), bits
// behind a point (40001 bit 3, 40001:3), tables by a digit with a cross (4:0001). Behind a slash there is a bit where the value is a single one.
func joined(text string, single bool) string {
	if m := bitBehind.FindStringSubmatch(text); m != nil && (m[2]+m[4] != "/" || single) {
		if n, _ := strconv.Atoi(m[5]); n < 16 {
			return m[1] + m[3] + "." + strconv.Itoa(n)
		}
	} else if m != nil {
		first, _ := strconv.Atoi(m[1])
		if next := strconv.Itoa(first + 1); strings.HasSuffix(next, m[5]) {
			return m[1] + "-" + next
		}
	}
	if m := parted.FindStringSubmatch(text); m != nil {
		return m[1] + "x" + m[2] + m[3]
	}
	if m := fromTo.FindStringSubmatch(text); m != nil {
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
