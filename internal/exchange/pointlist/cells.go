package pointlist

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What cells mean, as manuals and people write them.

// number reads a number with a decimal point or comma, and with or without marks between thousands.
func number(text string) (f float64, ok bool) {
	text = numberMarks.Replace(strings.TrimSpace(text))
	comma, point := strings.LastIndexByte(text, ','), strings.LastIndexByte(text, '.')
	switch {
	case comma >= 0 && point > comma, strings.Count(text, ",") > 1:
		whole := text
		if point > comma {
			whole = text[:point]
		}
		if !grouped.MatchString(whole) {
			return 0, false
		}
		text = strings.ReplaceAll(text, ",", "")
	case comma >= 0:
		if strings.Contains(text, ".") && !grouped.MatchString(strings.ReplaceAll(text[:comma], ".", ",")) {
			return 0, false
		}
		text = strings.Replace(strings.ReplaceAll(text, ".", ""), ",", ".", 1)
	case strings.Count(text, ".") > 1:
		if !grouped.MatchString(strings.ReplaceAll(text, ".", ",")) {
			return 0, false
		}
		text = strings.ReplaceAll(text, ".", "")
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsNaN(f) || math.IsInf(f, 0) || strings.ContainsAny(text, "xXpP_") {
		return 0, false
	}
	return f, true
}

// What is left out, or written otherwise, of some cells.
var (
	numberMarks = strings.NewReplacer(" ", "", "'", "", "\u2212", "-")
	accessMarks = strings.NewReplacer(" ", "", "-", "", "_", "", "/", "", ",", "", ".", "", "|", "", "&", "", "+", "", "(", "", ")", "")
)

// grouped is a whole number with a comma before every three digits.
var grouped = regexp.MustCompile(`^[-+]?\d{1,3}(,\d{3})+$`)

var (
	times   = regexp.MustCompile(`^[x×*·]\s*(.+)$`)
	divided = regexp.MustCompile(`^(?:1\s*)?[/:÷]\s*(.+)$`)
	power   = regexp.MustCompile(`^10\s*\^?\s*([-−]?\d+)$`)
	spans   = regexp.MustCompile(`^\s*([^=→>]+?)\s*(?:=>|->|=|→)\s*(.+?)\s*$`)
	span    = regexp.MustCompile(`^\s*([-+−]?[\d.,' ]+?)\s*(?:\.\.\.?|…|–|to|bis|-|~|～|\b÷\b)\s*([-+−]?[\d.,' ]+?)\s*([^\d\s.,]\S*)?$`)
)

// raised is a power of ten as it is printed: 10⁻¹.
var (
	raised       = regexp.MustCompile(`10[⁻⁺]?[⁰¹²³⁴⁵⁶⁷⁸⁹]+`)
	raisedDigits = strings.NewReplacer("⁻", "-", "⁺", "", "⁰", "0", "¹", "1", "²", "2", "³", "3", "⁴", "4", "⁵", "5", "⁶", "6", "⁷", "7", "⁸", "8", "⁹", "9")
)

// factorOf reads a factor: 0.1, 0,1, x0.1, /100, 1/10, 10^-2, 10⁻².
func factorOf(text string) (f float64, err error) {
	t := strings.TrimSpace(strings.ToLower(text))
	t = raised.ReplaceAllStringFunc(t, func(of string) string { return "10^" + raisedDigits.Replace(strings.TrimPrefix(of, "10")) })
	invert := false
	if m := times.FindStringSubmatch(t); m != nil {
		t = m[1]
	} else if m := divided.FindStringSubmatch(t); m != nil {
		t, invert = m[1], true
	}
	if m := power.FindStringSubmatch(t); m != nil && strings.ContainsAny(t, "^-−") {
		n, _ := strconv.Atoi(strings.ReplaceAll(m[1], "−", "-")) // which it matched
		if n > 30 || n < -30 {
			return 0, fmt.Errorf("%q is beyond all measure", text)
		}
		f = math.Pow10(n)
	} else if v, ok := number(t); ok {
		f = v
	} else {
		return 0, fmt.Errorf("%q is no factor: write 0.1, x0.1, /10, 1/10, or 0..1000 = 0..100", text)
	}
	if f == 0 {
		return 0, fmt.Errorf("%q: a factor of zero leaves nothing of the value", text)
	}
	if invert {
		f = 1 / f
	}
	return round(f), nil
}

// round leaves out what binary fractions add.
func round(f float64) float64 {
	r, _ := strconv.ParseFloat(strconv.FormatFloat(f, 'g', 12, 64), 64)
	return r
}

// spanOf reads a range: 0..100, 0-27648, -40 … 120, 4 to 20 mA.
func spanOf(text string) (out [2]float64, ok bool) {
	m := span.FindStringSubmatch(text)
	if m == nil {
		return out, false
	}
	lo, ok1 := number(strings.ReplaceAll(m[1], "−", "-"))
	hi, ok2 := number(strings.ReplaceAll(m[2], "−", "-"))
	return [2]float64{lo, hi}, ok1 && ok2 && lo != hi
}

var either = regexp.MustCompile(`\s*(?:[,;/|]|\bor\b|\boder\b|\bou\b)\s*`)

// listed reads values that are listed, 0, 1, 2, as the range from the least to the greatest.
func listed(text string) (out [2]float64, ok bool) {
	parts := either.Split(strings.TrimSpace(text), -1)
	if len(parts) < 2 {
		return out, false
	}
	for i, part := range parts {
		f, is := number(part)
		if !is {
			return out, false
		}
		if i == 0 {
			out = [2]float64{f, f}
		}
		out = [2]float64{min(out[0], f), max(out[1], f)}
	}
	return out, out[0] != out[1]
}

// scalingOf reads a cell of a scaling: a factor, or two ranges.
func scalingOf(text string) (map[string]any, error) {
	if m := spans.FindStringSubmatch(text); m != nil {
		raw, ok1 := spanOf(m[1])
		eng, ok2 := spanOf(m[2])
		if ok1 && ok2 {
			return map[string]any{"raw": raw, "eng": eng}, nil
		}
	}
	f, err := factorOf(text)
	if err != nil {
		return nil, err
	}
	if f == 1 {
		return nil, nil
	}
	return map[string]any{"factor": f}, nil
}

// What a cell of access says, in small letters without accents and marks.
var (
	readOnly = wordSet("las laes les r ro rd read readonly lesen lesend nurlesen l lecture lectureseule lectura sololectura lettura solalettura sololettura leitura somenteleitura odczyt o lezen alleenlezen cteni no non false nein nie nee 0 input")
	writing  = wordSet("rw w wo wr rdwr rwd readwrite write writeonly readandwrite lesenschreiben lesenundschreiben schreiben schreibend nurschreiben le lectureecriture lecturaescritura lecturayescritura letturascrittura ecriture escritura scrittura " +
		"leituraescrita leituraeescrita escrita odczytzapis oz zapis lezenschrijven lezenenschrijven schrijven lasskriv lasochskriv skriv skrive laesskriv lesskriv ctenizapis oui si yes true ja tak 1 rwp output")
)

func wordSet(list string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(list) {
		out[w] = true
	}
	return out
}

// accessOf reads whether a value may be written.
func accessOf(text string) (writable bool, err error) {
	said := sheet.Fold(accessMarks.Replace(text))
	if readOnly[said] || writing[said] {
		return writing[said], nil
	}
	return false, fmt.Errorf("%q says neither that it may be written nor that it may not: R, RO, R/W, RW", text)
}

// A column that is headed by one of the two: Read only, and Write; its cells may be marks, or functions.
var (
	readOnlyHeading = wordSet("readonly ro nurlesen")
	writeHeading    = wordSet("w wr write fcwrite writefc writefunction writefunctioncode schreiben ecriture escritura scrittura")
	denied          = wordSet("no n non false nein nie nee 0")
	marked          = wordSet("x ✓ ✔ ☑ • ● ■ y 5 6 15 16 05 06 0x05 0x06 0x0f 0x10 fc5 fc6 fc15 fc16 fc05 fc06 6/16 5/15 06/16 05/15 616 515 0616 0515")
)

// accessUnder reads whether a value may be written in a column with a heading.
func accessUnder(heading, text string) (writable bool, err error) {
	under, said := sheet.Fold(accessMarks.Replace(heading)), sheet.Fold(accessMarks.Replace(text))
	switch {
	case writeHeading[under] && marked[said]:
		return true, nil
	case readOnlyHeading[under] && (marked[said] || writing[said] && !strings.Contains(said, "w")):
		return false, nil
	case readOnlyHeading[under] && denied[said]:
		return true, nil
	}
	return accessOf(text)
}

var state = regexp.MustCompile(`^\s*(-?\d+|0[xX][0-9a-fA-F]+)\s*(?:=|:|–|-)\s*(.+?)\s*$`)

// nextState is where the name of a further value begins, parted by a space alone: 0=off 1=on.
var nextState = regexp.MustCompile(`\s+(-?\d+\s*=)`)

// statesOf reads the names of values: 0=off, 1=on; 0: off / 1: on.
func statesOf(text string) (map[string]any, error) {
	out := map[string]any{}
	for _, part := range strings.FieldsFunc(nextState.ReplaceAllString(text, ";$1"), func(r rune) bool { return strings.ContainsRune(",;/|\n", r) }) {
		if strings.TrimSpace(part) == "" {
			continue
		}
		m := state.FindStringSubmatch(part)
		if m == nil {
			return nil, fmt.Errorf("%q names no value: write 0=off, 1=on", strings.TrimSpace(part))
		}
		n, err := strconv.ParseInt(m[1], 0, 64)
		if err != nil {
			return nil, fmt.Errorf("%q: %q is no whole number", text, m[1])
		}
		out[strconv.FormatInt(n, 10)] = m[2]
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// symbols are units in one sign, as text of some countries has them.
var symbols = strings.NewReplacer("℃", "°C", "℉", "°F", "㎥", "m³", "㎡", "m²", "㎜", "mm", "㎝", "cm", "㎞", "km", "㎏", "kg", "㎾", "kW", "㎐", "Hz", "㎑", "kHz", "㎷", "mV", "㎸", "kV", "㎃", "mA", "㎄", "kA", "㎩", "Pa", "㎪", "kPa", "㎫", "MPa", "㏊", "ha", "％", "%", "º", "°")

// unitOf takes a unit out of its brackets; what stands for none is none.
func unitOf(text string) string {
	text = symbols.Replace(strings.TrimSpace(strings.Trim(text, "[](){}")))
	lower := strings.ToLower(text)
	switch lower {
	case "-", "--", "—", "n/a", "none", "no unit", "1", "/":
		return ""
	}
	return cmp.Or(unitWords[lower], text)
}

// tagOf makes an allowed tag of what was written.
func tagOf(text string) string { return sheet.Identifier(text, site.MaxTag) }
