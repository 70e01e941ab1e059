package pointlist

import (
	"maps"
	"regexp"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// Bits and values that a text names beside what it says of a point: bit 0: on; Status (0=off, 1=on); Filter alarm (bit 3).

var (
	bitNamed  = regexp.MustCompile(`(?i)^(?:bit|b)\s*#?(\d{1,2})\s*[:=–-]\s*(\pL.*)$`)
	namesIn   = regexp.MustCompile(`\s*[(\[{]([^()\[\]{}]*[=:][^()\[\]{}]*)[)\]}]\s*$`)
	bitBeside = regexp.MustCompile(`(?i)\s*[(\[]\s*bit\s*#?(\d{1,2})\s*[)\]]\s*$`)
)

// bitsOf reads the names of bits: bit 0: on, bit 1: fault; nil where that is not all that a text is.
func bitsOf(text string) map[string]any {
	if text == "" || text[0] != 'b' && text[0] != 'B' {
		return nil
	}
	out := map[string]any{}
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(",;|\n", r) }) {
		m := bitNamed.FindStringSubmatch(strings.TrimSpace(part))
		if m == nil {
			return nil
		}
		n, _ := strconv.Atoi(m[1]) // of two digits
		out[strconv.Itoa(n)] = strings.TrimSpace(m[2])
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

// named gives a value, or its bits, the names that a text has for them; it reports whether it has any.
func (m *making) named(column, said string) bool {
	f := m.item.Fields
	if t := f["type"]; m.protocol() == site.Modbus && (t == nil || t == string(codec.TypeUint16) || t == string(codec.TypeBits)) {
		if names := bitsOf(said); names != nil {
			if strings.Contains(text(f["address"]), ".") {
				return false
			}
			if t != nil && t != string(codec.TypeBits) {
				m.once("registers whose bits have names are of type bits")
			}
			f["type"], f["states"] = string(codec.TypeBits), names
			m.from("type", column)
			m.from("states", column)
			m.guess("type")
			m.guess("states")
			return true
		}
	}
	return false
}

// remarks takes over what the name or the description says in brackets: the names of values, or the bit that is meant.
func (m *making) remarks(plain func(string) (string, bool)) {
	for _, column := range []string{"description", "tag"} {
		said, ok := plain(column)
		if !ok || !strings.ContainsRune(")]}", rune(said[len(said)-1])) {
			continue
		}
		if b := bitBeside.FindStringSubmatch(said); b != nil && m.protocol() == site.Modbus && m.cells[colBit] == "" && m.item.Fields["type"] == nil && text(m.item.Fields["address"]) != "" && !strings.Contains(text(m.item.Fields["address"]), ".") {
			m.bitOf(b[1])
			m.cells[column] = bitBeside.ReplaceAllString(said, "")
			continue
		}
		if m.item.Fields["states"] != nil || m.item.From["states"] != "" || m.item.Fields["type"] == string(codec.TypeBits) {
			continue
		}
		if in := namesIn.FindStringSubmatch(said); in != nil {
			states, err := statesOf(in[1])
			if err == nil && len(states) > 1 && namesAlone.MatchString(spacedNames.ReplaceAllString(in[1], ", $1")) {
				m.item.Fields["states"] = states
				m.from("states", column)
				m.guess("states")
				if column == "tag" {
					m.cells[column] = namesIn.ReplaceAllString(said, "")
				}
			}
		}
	}
}

// spacedNames is where the next name begins that a space alone parts: 0=off 1=on.
var spacedNames = regexp.MustCompile(`\s+(-?\d+\s*[=:])`)

// rawRange gives a range that is one of raw values the steps of the point: -500..1500 of a temperature in steps of 0.1 °C, which no plant has otherwise.
// The whole range of a type says nothing.
func (m *making) rawRange() {
	f := m.item.Fields
	r, has := f["range"].([2]float64)
	scaling, _ := f["scaling"].(map[string]any)
	factor, scaled := scaling["factor"].(float64)
	if !has || m.steps > 0 || m.protocol() != site.Modbus {
		return
	}
	switch r {
	case [2]float64{0, 65535}, [2]float64{-32768, 32767}, [2]float64{0, 4294967295}:
		delete(f, "range")
		return
	}
	if !scaled || factor >= 1 || factor <= 0 || r[0] != float64(int64(r[0])) || r[1] != float64(int64(r[1])) {
		return
	}
	believed := units().Find(text(f["unit"]))
	if !believed.Known() || r[0] >= believed.Possible[0] && r[1] <= believed.Possible[1] {
		return
	}
	offset, _ := scaling["offset"].(float64)
	low, high := round(r[0]*factor+offset), round(r[1]*factor+offset)
	if low < believed.Possible[0] || high > believed.Possible[1] {
		return
	}
	f["range"] = [2]float64{low, high}
	m.once("ranges that no plant has in their unit, such as %g to %g %s, are those of raw values", r[0], r[1], text(f["unit"]))
}

// furtherBits adds the names of bits that a row goes on with to the point before it; it reports whether it has any.
func furtherBits(last *Item, said string) bool {
	names := bitsOf(said)
	if names == nil || last.Fields["type"] != string(codec.TypeBits) {
		return false
	}
	last.goesOn(names)
	return true
}

// goesOn adds names of values to those that a point has.
func (i *Item) goesOn(names map[string]any) {
	before, _ := i.Fields["states"].(map[string]any)
	states := maps.Clone(names)
	maps.Copy(states, before)
	i.Fields["states"] = states
}
