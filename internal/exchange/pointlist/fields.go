package pointlist

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/exchange/sheet"
)

// The fields of a point, made of the cells of a row.

// making makes the fields of one row.
type making struct {
	*reader
	item  *Item
	cells map[string]string
}

func (m *making) fault(field, format string, args ...any) {
	m.list.Faults = append(m.list.Faults, sheet.Fault{Sheet: m.sheet, Row: m.item.Row, Column: m.item.From[field], Value: m.cells[field], Message: fmt.Sprintf(format, args...)})
}

// from notes that a field came from the column of another.
func (m *making) from(field, column string) {
	if heading := m.item.From[column]; heading != "" && m.item.From[field] != heading {
		m.item.From = maps.Clone(m.item.From) // which the rows share
		m.item.From[field] = heading
	}
}

func (m *making) all() {
	f := m.item.Fields
	for _, c := range m.headings.columns {
		if c.Exact && c.Field != "tag" {
			m.exact(c.Field)
		}
	}
	exact := func(field string) bool { return m.headings.exact[field] }
	plain := func(field string) (string, bool) {
		text := m.cells[field]
		return text, text != "" && !exact(field)
	}
	if text, ok := plain("station"); ok {
		f["station"] = text
	}
	if s, _ := f["station"].(string); s == "" {
		if f["station"] = m.options.Station; m.options.Station == "" && !m.unplaced {
			m.unplaced = true // once is enough
			m.fault("station", "the row names no station: say of which one the list is")
		}
	}
	m.address(plain)
	m.kind(plain)
	m.scaling(plain)
	m.limits(plain)
	if text, ok := plain("unit"); ok {
		if u := unitOf(text); u != "" {
			f["unit"] = u
		}
	}
	if text, ok := plain("description"); ok {
		f["description"] = text
	}
	m.unitWithin(plain)
	if text, ok := plain(colAccess); ok {
		if writable, err := accessOf(text); err != nil {
			m.fault(colAccess, "%s", err)
		} else if writable {
			f["writable"] = true
			m.from("writable", colAccess)
		}
	}
	if text, ok := plain("decimals"); ok {
		if n, err := strconv.Atoi(text); err != nil {
			m.fault("decimals", "%q is no whole number", text)
		} else {
			f["decimals"] = n
		}
	}
	if text, ok := plain("states"); ok && strings.ContainsRune("{[", rune(text[0])) {
		m.exact("states")
	} else if ok {
		if states, err := statesOf(text); err != nil {
			m.fault("states", "%s", err)
		} else if states != nil {
			f["states"] = states
		}
	}
	if text, ok := plain("description"); ok && strings.ContainsAny(text, "=:") && f["states"] == nil && m.item.From["states"] == "" && f["type"] != string(codec.TypeBits) {
		if states, err := statesOf(text); err == nil && len(states) > 1 && namesAlone.MatchString(text) { // 0: off; 1: on
			f["states"] = states
			m.from("states", "description")
		}
	}
	if text, ok := plain("invalid"); ok {
		var codes []any
		for _, code := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == ' ' }) {
			codes = append(codes, code)
		}
		f["invalid"] = codes
	}
	if text, ok := plain("poll"); ok {
		m.poll(text)
	}
	if text, ok := plain("poll_group"); ok {
		f["poll_group"] = text
	}
	if text, ok := plain("charset"); ok {
		f["charset"] = strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(text))
	}
	if text, ok := plain("range"); ok && text[0] == '[' {
		m.exact("range")
	} else if ok && text != "-" && text != "—" {
		if s, _ := scalingOf(text); s["raw"] != nil && f["scaling"] == nil { // 0..1000 = 0..100 %
			f["scaling"] = s
			m.from("scaling", "range")
			m.unitBeside("range", text)
		} else if r, is := spanOf(text); is {
			f["range"] = r
			m.unitBeside("range", text)
		} else if states, err := statesOf(text); err == nil && states != nil && f["states"] == nil {
			f["states"] = states
			m.from("states", "range")
		} else {
			m.fault("range", "%q is no range: write 0..100", text)
		}
	}
	m.tag(exact("tag"))
}

// What a remark is when it is nothing else: the names of values, or a factor. 4-20 mA, 0-10 V are no names.
var (
	namesAlone  = regexp.MustCompile(`^(?:\s*-?\d+\s*[=:]\s*\pL[^,;/|\n]*(?:[,;/|\n]+|$))+$`)
	factorAlone = regexp.MustCompile(`^(?:[x×*]\s*[\d.,]+|(?:1\s*)?/\s*\d+)$`)
)

// exact reads a cell as a site file would have it; an empty one gives the default.
func (m *making) exact(field string) {
	text := m.cells[field]
	if strings.HasPrefix(text, "'=") || strings.HasPrefix(text, "'@") { // as guard writes what is no formula
		text = text[1:]
	}
	value, err := typedCell(field, text)
	if err != nil {
		m.fault(field, "%s", err)
		return
	}
	m.item.Fields[field] = value
}

// truths are the fields that are true or false.
var truths = map[string]bool{"writable": true, "invert": true, "select": true}

// textual are the fields whose cells are texts, whatever they look like.
var textual = map[string]bool{"tag": true, "station": true, "address": true, "type": true, "order": true, "unit": true, "description": true, "charset": true, "poll_group": true, "read_back": true, "poll": true, "pulse": true, "pulse_off": true, "control": true, "table": true}

// scaledType is a type with what the value is divided by.
var scaledType = regexp.MustCompile(`^(.*\S)\s*(/\s*\d+|[x×*]\s*0[.,]\d+)$`)

// kind makes type, length and order.
func (m *making) kind(plain func(string) (string, bool)) {
	words := 0
	if text, ok := plain(colWords); ok {
		if n, is := number(text); is && n >= 1 && n <= 125 && n == float64(int(n)) {
			words = int(n)
		}
	}
	if text, ok := plain("type"); ok {
		if name, states, ok := enumeration(text); ok && m.cells["states"] == "" {
			m.item.Fields["states"] = states
			m.from("states", "type")
			text = name
		}
		t, length, order, err := m.known.kind(text, words)
		if parts := scaledType.FindStringSubmatch(text); err != nil && parts != nil && m.cells[colFactor] == "" && m.cells[colDivide] == "" { // U16/10
			if s, wrong := m.known.scaling(parts[2]); wrong == nil && s != nil {
				if t, length, order, err = m.known.kind(parts[1], words); err == nil {
					m.item.Fields["scaling"] = s
					m.from("scaling", "type")
				}
			}
		}
		if err != nil {
			m.fault("type", "%s", err)
		} else {
			m.item.Fields["type"] = string(t)
			if length > 0 {
				m.item.Fields["length"] = length
				m.from("length", "type")
			}
			if order != "" {
				m.item.Fields["order"] = string(order)
				m.from("order", "type")
			}
		}
	}
	if text, ok := plain("order"); ok {
		switch o := codec.Order(strings.ToUpper(text)); {
		case slices.Contains(codec.Orders[:], o):
			m.item.Fields["order"] = string(o)
		case strings.Contains(strings.ToLower(text), "big"):
		case slices.Contains([]string{"-", "no", "none", "nein", "0", "not swapped"}, strings.ToLower(text)):
		case slices.Contains([]string{"word", "words", "wort"}, strings.ToLower(text)):
			m.item.Fields["order"] = string(codec.CDAB)
		case slices.Contains([]string{"byte", "bytes"}, strings.ToLower(text)):
			m.item.Fields["order"] = string(codec.BADC)
		case strings.Contains(strings.ToLower(text), "little"), strings.Contains(strings.ToLower(text), "swap"):
			m.item.Fields["order"] = string(codec.CDAB)
		default:
			m.fault("order", "%q is no byte order: ABCD, CDAB, BADC or DCBA", text)
		}
	}
}

// scaling makes the scaling of a factor, an offset, or raw and engineering ranges; a range without a raw one is what the value can be.
func (m *making) scaling(plain func(string) (string, bool)) {
	get := func(field string) (float64, bool) {
		text, ok := plain(field)
		if !ok || text == "-" {
			return 0, false
		}
		f, is := number(text)
		if !is {
			m.fault(field, "%q is no number", text)
		}
		return f, is
	}
	rawMin, has1 := get(colRawMin)
	rawMax, has2 := get(colRawMax)
	engMin, has3 := get(colEngMin)
	engMax, has4 := get(colEngMax)
	if has3 && has4 && engMin != engMax {
		if has1 && has2 && rawMin != rawMax {
			if rawMin != engMin || rawMax != engMax {
				m.item.Fields["scaling"] = map[string]any{"raw": [2]float64{rawMin, rawMax}, "eng": [2]float64{engMin, engMax}}
				m.from("scaling", colRawMin)
			}
			return
		}
		if _, has := m.item.Fields["range"]; !has {
			m.item.Fields["range"] = [2]float64{engMin, engMax}
			m.from("range", colEngMin)
		}
	}
	scaling := map[string]any{}
	if text, ok := plain(colFactor); ok && text[0] == '{' {
		m.cells["scaling"] = text
		m.from("scaling", colFactor)
		m.exact("scaling")
		return
	} else if ok && text != "-" {
		if f, is := number(text); is && (f == 10 || f == 100 || f == 1000) {
			m.upwards = m.item.From[colFactor]
		}
		s, err := m.step(text)
		if err != nil {
			m.fault(colFactor, "%s", err)
		}
		maps.Copy(scaling, s)
		m.from("scaling", colFactor)
	}
	if by, ok := get(colDivide); ok && by != 1 && scaling["raw"] == nil {
		if by == 0 {
			m.fault(colDivide, "nothing is divided by zero")
		} else {
			before, has := scaling["factor"].(float64)
			if !has {
				before = 1
			}
			scaling["factor"] = round(before / by)
			m.from("scaling", colDivide)
		}
	}
	if offset, ok := get(colOffset); ok && offset != 0 && scaling["raw"] == nil {
		scaling["offset"] = offset
		m.from("scaling", cmp.Or(map[bool]string{true: colFactor}[m.cells[colFactor] != ""], colOffset))
	}
	if text, ok := plain("description"); ok && len(scaling) == 0 && m.item.From[colFactor] == "" && m.item.Fields["scaling"] == nil && factorAlone.MatchString(text) { // x 0.01
		if s, err := m.known.scaling(text); err == nil {
			maps.Copy(scaling, s)
			m.from("scaling", "description")
		}
	}
	if len(scaling) > 0 {
		m.item.Fields["scaling"] = scaling
	}
}

// poll makes the period of a poll.
func (m *making) poll(text string) {
	if period, ok := m.period("poll", text); ok {
		m.item.Fields["poll"] = period
	}
}

// period reads a length of time: 500 ms, 1s, or a number in the unit that the heading names.
func (m *making) period(field, text string) (string, bool) {
	written := strings.ReplaceAll(strings.ToLower(text), " ", "")
	for long, short := range map[string]string{"sec": "s", "seconds": "s", "second": "s", "min": "m", "minutes": "m", "msec": "ms"} {
		if strings.TrimLeft(written, "0123456789.,") == long {
			written = strings.TrimSuffix(written, long) + short
		}
	}
	if f, is := number(written); is {
		unit := "s"
		if strings.Contains(strings.ToLower(m.item.From[field]), "ms") {
			unit = "ms"
		} else if f >= 50 {
			m.fault(field, "%q: is that seconds or milliseconds? Write it: 500ms, 60s", text)
			return "", false
		}
		written = strconv.FormatFloat(f, 'f', -1, 64) + unit
	}
	written = strings.ReplaceAll(written, ",", ".")
	if _, err := time.ParseDuration(written); err != nil {
		m.fault(field, "%q is no period: write 500ms, 1s or 1m", text)
		return "", false
	}
	return written, true
}

// tag makes the tag: as written where that is allowed, else in an allowed form; without one, of what is said of the point.
func (m *making) tag(exact bool) {
	written := m.cells["tag"]
	tag := written
	if !exact || written == "" {
		tag = tagOf(written)
	}
	switch {
	case tag != "" && tag != written:
		m.item.Made = fmt.Sprintf("%q is no tag; %s is", written, m.options.Prefix+tag)
	case tag == "" && m.cells["description"] != "":
		if tag = strings.ToLower(tagOf(m.cells["description"])); tag != "" {
			m.item.Made = "made of the description"
		}
	}
	if tag == "" {
		tag = "point-" + strings.ToLower(tagOf(strings.ReplaceAll(m.cells["address"], ":", "-")))
		m.item.Made = "made of the address"
	}
	tag = m.options.Prefix + tag
	if m.tags[tag]++; m.tags[tag] > 1 {
		was := tag
		for n := m.tags[tag]; ; n++ {
			if tag = fmt.Sprintf("%s-%d", was, n); m.tags[tag] == 0 {
				break
			}
		}
		m.tags[tag]++
		m.item.Made = fmt.Sprintf("%s comes more than once; this one is %s", was, tag)
	}
	m.item.Fields["tag"] = tag
}
