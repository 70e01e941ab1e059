package pointlist

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
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
		m.unit(text)
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
			m.implied(n)
		}
	}
	m.twoStates(plain)
	if text, ok := plain("states"); ok && strings.ContainsRune("{[", rune(text[0])) {
		m.exact("states")
	} else if ok {
		if states, err := statesOf(text); err != nil {
			if r, is := spanOf(text); is && m.item.Fields["range"] == nil && m.cells["range"] == "" { // 0-100
				f["range"] = r
				m.from("range", "states")
			} else {
				m.fault("states", "%s", err)
			}
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
		} else if r, is := listed(text); is { // 0, 1, 2
			f["range"] = r
		} else {
			m.fault("range", "%q is no range: write 0..100", text)
		}
	}
	if s, ok := f["scaling"].(map[string]any); ok && s["raw"] != nil && s["raw"] == f["range"] && s["eng"] != s["raw"] {
		delete(f, "range") // these are the ends of the raw values
	}
	m.tag(exact("tag"))
}

// implied takes decimals of a whole number that nothing scales for those that the device leaves out.
func (m *making) implied(n int) {
	t := codec.Type(text(m.item.Fields["type"]))
	if _, whole := signs[t]; n < 1 || n > 9 || m.protocol() != site.Modbus || m.item.Fields["scaling"] != nil || m.item.From[colFactor] != "" || m.item.From[colRawMin] != "" || !whole && t != "" && !slices.Contains(slices.Collect(maps.Values(signs)), t) {
		return
	}
	m.item.Fields["scaling"] = map[string]any{"factor": round(math.Pow10(-n))}
	m.from("scaling", "decimals")
	m.once("decimals of whole numbers are taken for decimal places that the device leaves out: with 1, 215 is 21.5")
}

// nameIn is what a description names, without a remark behind it, its unit and its step: Flow rate, l/s x10; Speed in 0.1 Hz.
func nameIn(description string) string {
	name := description
	for _, behind := range []*regexp.Regexp{bracketed, rounded} {
		if m := behind.FindStringSubmatch(name); m != nil {
			if _, u, err := stepped(m[1]); err == nil && u != "" || timesTold.MatchString(m[1]) {
				name = behind.ReplaceAllString(name, "")
			}
		}
	}
	for _, behind := range []*regexp.Regexp{stepTold, timesTold, unitTold} {
		name = behind.ReplaceAllString(name, "")
	}
	if at := strings.IndexAny(name, ",;"); at >= leastName {
		name = name[:at]
	}
	if len(strings.TrimSpace(name)) < leastName {
		name = description
	}
	return strings.ReplaceAll(name, "/", "-") // which parts no areas here
}

// leastName is how much of a description is left at least that a tag is made of.
const leastName = 3

// What a remark is when it is nothing else: the names of values, or a factor. 4-20 mA, 0-10 V are no names.
var (
	namesAlone = regexp.MustCompile(`^(?:\s*-?\d+\s*[=:]\s*\pL[^,;/|\n]*(?:[,;/|\n]+|$))+$`)
)

// twoStates makes the names of the two values of a bit of two columns.
func (m *making) twoStates(plain func(string) (string, bool)) {
	off, has0 := plain(colOff)
	on, has1 := plain(colOn)
	if (has0 || has1) && m.cells["states"] == "" && m.item.Fields["states"] == nil {
		states := map[string]any{}
		if has0 && !blank(off) || has1 && off != "" {
			states["0"] = off
		}
		if has1 && !blank(on) || has0 && on != "" {
			states["1"] = on
		}
		m.item.Fields["states"] = states
		m.from("states", cmp.Or(map[bool]string{true: colOff}[has0], colOn))
	}
}

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

// kind makes type, length and order.
func (m *making) kind(plain func(string) (string, bool)) {
	words := 0
	if text, ok := plain(colWords); ok {
		if n, is := number(text); is && n >= 1 && n <= 2000 && n == float64(int(n)) {
			words = (int(n) + m.size - 1) / m.size
		}
	}
	text, ok := plain("type")
	if ok {
		if name, states, ok := enumeration(text); ok && m.cells["states"] == "" {
			m.item.Fields["states"] = states
			m.from("states", "type")
			text = name
		}
		k, err := m.known.kind(text, words)
		if err != nil { // U16/10; uint16, 0.01 Hz
			if parts := scaledType.FindStringSubmatch(text); parts != nil && m.behindType(parts[2]+parts[4]) {
				k, err = m.known.kind(parts[1]+parts[3], words)
			}
		}
		if err != nil {
			m.fault("type", "%s", err)
		} else {
			m.typed("type", k)
		}
	} else if words > 1 && m.item.Fields["type"] == nil && m.protocol() == site.Modbus && m.cells["address"] != "" {
		if t := codec.Type(""); words == 2 || words == 4 {
			t = map[int]codec.Type{2: codec.TypeUint32, 4: codec.TypeUint64}[words]
			m.typed(colWords, typeMeaning{t: t})
			if m.cells[colSigned] == "" {
				m.once("no data type is said of some rows: of two registers uint32 is made, and of four uint64; where they are floats, say --defaults '{type: float32}'")
			}
		}
	}
	if text, ok := plain(colSigned); ok {
		m.sign(text)
	}
	if text, ok := plain("order"); ok {
		switch o, loose, is := orderOf(text); {
		case !is:
			m.fault("order", "%q is no byte order: ABCD, CDAB, BADC or DCBA", text)
		case o != "":
			m.item.Fields["order"] = string(o)
			m.looseOrder(loose)
		}
	}
}

// typed takes over what a type means.
func (m *making) typed(column string, k typeMeaning) {
	m.item.Fields["type"] = string(k.t)
	m.from("type", column)
	if k.length > 0 {
		m.item.Fields["length"] = k.length
		m.from("length", column)
	}
	if k.order != "" {
		m.item.Fields["order"] = string(k.order)
		m.from("order", column)
		m.looseOrder(k.loose)
	}
}

// scaledType is a type with what the value is divided by, or with a step, behind it.
var scaledType = regexp.MustCompile(`^(?:(.*\S)\s*(/\s*\d+|[x×*]\s*0[.,]\d+)|([^,;(]*?)\s*[,;(]\s*(.+?)\)?)$`)

// behindType takes what stands behind a type for a scaling, where no column has one; it reports whether it is one.
func (m *making) behindType(text string) bool {
	if m.cells[colFactor] != "" || m.cells[colDivide] != "" {
		return false
	}
	s, u, err := stepped(text)
	if err != nil || s == nil && u == "" {
		return false
	}
	if s != nil {
		m.item.Fields["scaling"] = s
		m.from("scaling", "type")
	}
	if u != "" && m.item.Fields["unit"] == nil && m.cells["unit"] == "" {
		m.item.Fields["unit"] = u
		m.from("unit", "type")
	}
	return true
}

// signs are integers with a sign, by those without.
var signs = map[codec.Type]codec.Type{codec.TypeUint8: codec.TypeInt8, codec.TypeUint16: codec.TypeInt16, codec.TypeUint32: codec.TypeInt32, codec.TypeUint64: codec.TypeInt64}

// sign makes of an integer one with a sign, or without, as a column says.
func (m *making) sign(text string) {
	has := false
	switch strings.ToLower(text) {
	case "yes", "y", "true", "signed", "s", "1", "x", "ja", "j", "oui", "si", "sí", "+/-", "±", "int":
		has = true
	case "no", "n", "false", "unsigned", "u", "0", "nein", "non", "-", "+", "uint":
	default:
		m.fault(colSigned, "%q says neither that the value has a sign nor that it has none: yes or no", text)
		return
	}
	is, _ := m.item.Fields["type"].(string)
	t := codec.Type(cmp.Or(is, string(codec.TypeUint16)))
	for without, with := range signs {
		switch {
		case has && t == without:
			m.item.Fields["type"] = string(with)
		case !has && t == with:
			m.item.Fields["type"] = string(without)
		case t == without || t == with:
			m.item.Fields["type"] = string(t)
		default:
			continue
		}
		m.from("type", colSigned)
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
	if text, ok := plain(colRaw); ok {
		raw, is := spanOf(text)
		eng, also := spanOf(m.cells["range"])
		if u := span.FindStringSubmatch(text); is && also && u[3] == "" && raw != eng {
			m.item.Fields["scaling"] = map[string]any{"raw": raw, "eng": eng}
			m.from("scaling", colRaw)
			m.unitBeside("range", m.cells["range"])
			return
		}
		if !is {
			m.fault(colRaw, "%q is no range: write 0..27648", text)
		}
	}
	scaling := map[string]any{}
	if text, ok := plain(colFactor); ok && text[0] == '{' {
		m.cells["scaling"] = text
		m.from("scaling", colFactor)
		m.exact("scaling")
		return
	} else if ok && text != "-" {
		s, err := m.step(text)
		if err != nil {
			m.fault(colFactor, "%s", err)
		} else if f, is := number(text); is && (f == 10 || f == 100 || f == 1000) {
			m.upwards = m.item.From[colFactor]
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
	if len(scaling) == 0 && m.item.From[colFactor] == "" && m.item.Fields["scaling"] == nil {
		maps.Copy(scaling, m.told(plain))
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
		if tag = strings.ToLower(tagOf(nameIn(m.cells["description"]))); tag != "" {
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
