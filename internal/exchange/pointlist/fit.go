package pointlist

import (
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What columns hold shows in their cells, too, where a heading means one thing in this list and another in that one.

// filled are what the cells of a column say, of the first rows.
func (h *headings) filled(rows []sheet.Row, at int) (list []string) {
	for _, row := range rows[:min(len(rows), looked)] {
		if h.repeat(row) || len(h.columns) > 2 && one(row) {
			continue
		}
		if text := cell(row.Cells, at); text != "" && !dashes[strings.ToLower(text)] && !ruled(row.Cells) {
			list = append(list, text)
		}
	}
	return list
}

// all reports whether there are cells and each of them is such a one.
func all[T any](cells []T, is func(T) bool) bool {
	return len(cells) > 0 && !slices.ContainsFunc(cells, func(c T) bool { return !is(c) })
}

// loosely are headings that mean something else as often, by what they mean first.
var looselyHeaded = map[string]string{
	"function": colTable, "funktion": colTable, "fonction": colTable, "funcion": colTable, "funzione": colTable, "funkcja": colTable, "area": colTable, "bereich": colTable,
	"mode": colAccess, "direction": colAccess, "permission": colAccess, "attribute": colAccess, "attr": colAccess,
	"resolution": colFactor, "conversion": colFactor, "formula": colFactor, "calculation": colFactor, "equation": colFactor, "umrechnung": colFactor, "formel": colFactor,
	"text": "description", "content": "description", "contents": "description", "item": "description", "note": "description", "notes": "description",
	"values": "states", "options": "states", "coding": "states", "codes": "states", "valid values": "states", "possible values": "states", "valeurs": "states", "valores": "states",
	"dec": "decimals", "value 0": colOff, "value 1": colOn, "bits": colBit,
	"registers": colWords, "register range": colWords, "mots": colWords, "w": colAccess, "write": colAccess, "schreiben": colAccess, "ecriture": colAccess, "escritura": colAccess, "scrittura": colAccess,
	"control": "control", "operation": "control",
}

// rangeOfAddresses is what a column of registers holds that is no number of them.
var rangeOfAddresses = regexp.MustCompile(`^\d{1,6}\s*(?:-|–|\.\.)\s*\d{1,6}$`)

// fit gives columns another field, or none, where none of their cells says what their heading seemed to mean. What a person named stays.
func (h *headings) fit(rows []sheet.Row, named sheet.Named, protocol site.Protocol) {
	give := func(c *sheet.Column, field string) {
		if field != "" && (h.has(field) || named[field] != "") {
			field = ""
		}
		delete(h.from, c.Field)
		if c.Field = field; field != "" {
			h.from[field] = c.Heading
		}
	}
	if at := taken(h.columns, "poll_group"); at >= 0 && h.has("poll") && !h.columns[at].Exact && named["poll_group"] == "" {
		give(&h.columns[at], "") // a period says it, and the names of groups are the list's own
	}
	for i := range h.columns {
		c := &h.columns[i]
		cells := h.filled(rows, c.At)
		if c.Exact || named[c.Field] != "" || looselyHeaded[sheet.Fold(sheet.Bare(c.Heading))] != c.Field || len(cells) == 0 {
			continue
		}
		none := func(is func(string) bool) bool { return !slices.ContainsFunc(cells, is) }
		switch c.Field {
		case colTable:
			if none(func(text string) bool { return reads(text, protocol) }) {
				give(c, "description")
			}
		case colAccess:
			if none(func(text string) bool { _, err := accessUnder(c.Heading, text); return err == nil }) {
				give(c, "")
			}
		case colFactor:
			if none(func(text string) bool { _, _, err := stepped(text); return err == nil }) {
				give(c, "")
			}
		case "description":
			if all(cells, func(text string) bool { _, is := number(text); return is }) {
				give(c, "")
				for k, other := range h.columns { // the next that describes
					if field, _ := known(other.Heading, false); k != i && field == "description" && other.Field == "" && !h.has(field) {
						give(&h.columns[k], field)
					}
				}
			}
		case "decimals":
			if !all(cells, func(text string) bool { return len(text) == 1 && text[0] >= '0' && text[0] <= '9' }) {
				give(c, "address") // the decimal one
			}
		case "states":
			if all(cells, func(text string) bool { _, is := spanOf(text); return is }) {
				give(c, "range")
			}
		case colOff, colOn:
			if none(func(text string) bool { return strings.IndexFunc(text, unicode.IsLetter) >= 0 }) {
				give(c, "")
			}
		case colWords:
			if !h.has("address") && slices.ContainsFunc(cells, rangeOfAddresses.MatchString) {
				give(c, "address")
			}
		case "control":
			if protocol != site.DNP3 || none(func(text string) bool { _, err := controlOf(text); return err == nil }) {
				give(c, "")
			}
		case colBit:
			if all(cells, func(text string) bool { n, err := strconv.Atoi(text); return err == nil && n >= 8 && n%8 == 0 }) {
				give(c, colWords)
			}
		}
	}
}

// multiplied are headings of factors that the device multiplies by as often as a reader does.
var multiplied = map[string]bool{"gain": true, "scale": true, "scaling": true, "scale factor": true, "scalefactor": true, "scaling factor": true, "scalar": true, "echelle": true, "escala": true, "skala": true, "skalierung": true, "schaal": true, "raw scaling": true}

// decimal is a number with decimals, alone or the last one of a range.
var decimal = regexp.MustCompile(`^(?:[-+]?\d+[.,]\d+\s*(?:\.\.\.?|…|–|to|bis|-|~)\s*)?[-+]?\d+[.,](\d+)$`)

// inDecimals reports whether the numbers beside factors of ten, a hundred or a thousand have so many decimals as these leave out: 50.00 beside 100.
func (h *headings) inDecimals(rows []sheet.Row, at int) bool {
	fit := 0
	for _, row := range rows[:min(len(rows), looked)] {
		places, known := map[string]int{"1": 0, "10": 1, "100": 2, "1000": 3, "10000": 4}[cell(row.Cells, at)]
		if !known {
			continue
		}
		for i, text := range row.Cells {
			if d := decimal.FindStringSubmatch(text); d == nil || i == at || len(text) > 0 && h.columns[min(i, len(h.columns)-1)].Field == "address" {
				continue
			} else if len(d[1]) > places {
				return false
			} else if len(d[1]) == places && places > 0 {
				fit++
			}
		}
	}
	return fit > 0
}

// divides takes a column of factors for one of divisors: it is called gain or scale, and holds whole powers of ten alone, 10, 100 and 1000 among them,
// as devices multiply by that send whole numbers. It gives its heading, "" where it is none.
func (h *headings) divides(rows []sheet.Row, named sheet.Named) string {
	at := taken(h.columns, colFactor)
	if at < 0 || h.columns[at].Exact || named[colFactor] != "" || h.has(colDivide) || !multiplied[sheet.Fold(sheet.Bare(h.columns[at].Heading))] && !h.inDecimals(rows, h.columns[at].At) {
		return ""
	}
	powers, above := map[float64]bool{1: true, 10: true, 100: true, 1000: true, 10_000: true}, false
	if !all(h.filled(rows, h.columns[at].At), func(text string) bool {
		f, is := number(text)
		above = above || f > 1
		return is && powers[f]
	}) || !above {
		return ""
	}
	delete(h.from, colFactor)
	h.columns[at].Field, h.from[colDivide] = colDivide, h.columns[at].Heading
	return h.columns[at].Heading
}

// reads reports whether a cell names a table, or a kind of DNP3 points.
func reads(text string, protocol site.Protocol) bool {
	read := tableOf
	if protocol == site.DNP3 {
		read = kindOf
	}
	_, err := read(text)
	return err == nil
}

// A column of sizes counts registers, octets or bits.
const (
	inWords = 1
	inBytes = 2
	inBits  = 16
)

// sized is in what the column of sizes counts: as its heading says, or else as the types and the next addresses beside it allow.
func (h *headings) sized(rows []sheet.Row) int {
	at, types, addresses := taken(h.columns, colWords), taken(h.columns, "type"), taken(h.columns, "address")
	if at < 0 || h.columns[at].Exact {
		return inWords
	}
	switch heading := sheet.Fold(h.columns[at].Heading); {
	case strings.Contains(heading, "byte"), strings.Contains(heading, "octet"):
		return inBytes
	case strings.Contains(heading, "bit"):
		return inBits
	case strings.Contains(heading, "word"), strings.Contains(heading, "reg"), strings.Contains(heading, "wort"), strings.Contains(heading, "mots"):
		return inWords
	}
	best, most := inWords, math.MinInt
	rows = rows[:min(len(rows), looked)]
	places := placesOf(rows, addresses)
	for _, unit := range []int{inWords, inBytes, inBits} {
		score := 0
		for i, row := range rows {
			size, is := number(cell(row.Cells, at))
			if !is || size < 1 {
				continue
			}
			t, _, _, _, err := typeOf(cell(row.Cells, types), 0)
			if int(size)%unit != 0 && size != 8 || err == nil && t != codec.TypeString && t != codec.TypeBits && int(size) > 4*unit { // no number has so many
				score -= 2
			}
			if types >= 0 {
				if n := registersOf(cell(row.Cells, types)); n > 0 && size == float64(n*unit) {
					score++
				} else if n > 0 {
					score--
				}
			}
			// What it takes ends before the next one.
			this := places[i]
			next := slices.IndexFunc(places[i+1:], func(n int) bool { return n > this })
			if this >= 0 && next >= 0 && places[i+1+next] > this && size > float64((places[i+1+next]-this)*unit) {
				score -= 2
			}
		}
		if score > most {
			best, most = unit, score
		}
	}
	return best
}

var placeIn = regexp.MustCompile(`^(?:[a-z]{2}:|[0134][xX](?:0)?)?(?:0[xX])?([0-9a-fA-F]{1,6})`)

// placesOf are the numbers in the cells of addresses, which go on as the registers do, -1 where there is none.
func placesOf(rows []sheet.Row, at int) []int {
	places, base := make([]int, len(rows)), 10
	for _, row := range rows {
		if text := strings.ToLower(cell(row.Cells, at)); strings.HasPrefix(text, "0x") || strings.HasSuffix(text, "h") || bareHex.MatchString(text) && strings.ContainsAny(text, "abcdef") {
			base = 16
		}
	}
	for i, row := range rows {
		places[i] = -1
		if m := placeIn.FindStringSubmatch(cell(row.Cells, at)); m != nil {
			if n, err := strconv.ParseInt(m[1], base, 32); err == nil {
				places[i] = int(n)
			}
		}
	}
	return places
}

// particular are parts of names of types that say how many registers they take.
var particular = []string{"16", "32", "64", "word", "dint", "lint", "lreal", "double", "short", "long"}

// registersOf is how many registers a data type takes that says so itself; 0 for others.
func registersOf(text string) int {
	t, length, _, _, err := typeOf(text, 0)
	lower, _, _ := cutOrder(strings.ToLower(text))
	if err != nil || length == 0 && !slices.ContainsFunc(particular, func(part string) bool { return strings.Contains(lower, part) }) {
		return 0
	}
	return codec.Layout{Type: t, Length: length}.Words()
}
