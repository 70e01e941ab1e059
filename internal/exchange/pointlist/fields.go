package pointlist

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// The fields of a point, made of the cells of a row.

// making makes the fields of one row.
type making struct {
	*reader
	item  *Item
	cells map[string]string
}

func (m *making) fault(field, format string, args ...any) {
	m.list.Faults = append(m.list.Faults, Fault{m.sheet, m.item.Row, m.item.From[field], m.cells[field], fmt.Sprintf(format, args...)})
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
	if text, ok := plain("unit"); ok {
		if u := unitOf(text); u != "" {
			f["unit"] = u
		}
	}
	if text, ok := plain("description"); ok {
		f["description"] = text
	}
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

// unitBeside takes the unit that stands behind a range, where the row has none: -40..120 °C.
func (m *making) unitBeside(column, text string) {
	if both := spans.FindStringSubmatch(text); both != nil {
		text = both[2]
	}
	parts := span.FindStringSubmatch(text)
	if parts == nil {
		return
	}
	if u := unitOf(parts[3]); u != "" && m.item.Fields["unit"] == nil {
		m.item.Fields["unit"] = u
		m.from("unit", column)
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

// address makes the address of its cell, of a table beside it and of a bit.
func (m *making) address(plain func(string) (string, bool)) {
	text, ok := plain("address")
	if !ok {
		if m.cells["address"] == "" {
			m.fault("address", "the row has no address")
		}
		return
	}
	if station, _ := m.item.Fields["station"].(string); m.options.protocol(station) == site.DNP3 {
		m.index(text, plain)
		return
	}
	if n, is := number(text); is && n >= 0 && n == float64(int(n)) && !strings.ContainsAny(text, ".") && strings.ContainsAny(text, ",'") {
		text = strconv.Itoa(int(n)) // 30,009
	} else if strings.HasSuffix(text, ".0") && reference(text) && m.cells[colBit] == "" && !m.single() {
		text = strings.TrimSuffix(text, ".0") // as a spreadsheet gives whole numbers
	}
	if bit, ok := plain(colBit); ok && bit != "-" {
		n, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(bit), "bit "))
		if err != nil {
			m.fault(colBit, "%q is no number of a bit", bit)
		} else if !strings.Contains(text, ".") {
			text = fmt.Sprintf("%s.%d", text, n)
			m.item.Fields["type"] = string(codec.TypeBool)
		}
	}
	if c := coilCrossed.FindStringSubmatch(text); c != nil && m.crosses {
		n, _ := strconv.Atoi(c[1]) // beyond all bounds: refused with its field
		m.item.Fields["address"] = fmt.Sprintf("%s:%d", site.Coils, n-1)
		return
	}
	table, named := m.table(site.Modbus, plain)
	if m.notation != "" {
		m.counted(text, table)
		return
	}
	m.item.Fields["address"] = text
	if named {
		if _, numbered := number(strings.SplitN(text, ".", 2)[0]); !reference(text) && (numbered || strings.HasPrefix(strings.ToLower(text), "0x") || strings.HasSuffix(strings.ToLower(text), "h")) {
			m.item.Fields["table"] = string(table)
		}
	}
}

// index makes the address of a DNP3 point: of the number of its index, the kind stands beside it or in a title.
func (m *making) index(text string, plain func(string) (string, bool)) {
	digits := strings.TrimSuffix(text, ".0") // as a spreadsheet gives whole numbers
	if strings.Trim(digits, "0123456789") != "" {
		m.item.Fields["address"] = text
		return
	}
	faults := len(m.list.Faults)
	kind, named := m.table(site.DNP3, plain)
	delete(m.item.Fields, "table")
	switch {
	case named:
		m.item.Fields["address"] = fmt.Sprintf("%s:%s", kind, digits)
	case len(m.list.Faults) == faults: // else it is told what is wrong beside it
		m.fault("address", "%q names no kind of point: write ai:%s for an analog input, bi:, dbi:, bo:, ctr:, fctr:, ao: or os: for the others, or name the column that has the kind: --columns table=A", text, digits)
	}
}

// single reports whether the row says that its value is a single bit.
func (m *making) single() bool {
	t, _, _, err := m.known.kind(m.cells["type"], 0)
	return err == nil && t == codec.TypeBool
}

// table is that of the column beside, of the title above, or of the defaults.
func (m *making) table(of site.Protocol, plain func(string) (string, bool)) (site.Space, bool) {
	if text, ok := plain(colTable); ok {
		read := tableOf
		if of == site.DNP3 {
			read = kindOf
		}
		space, err := read(text)
		if err != nil {
			m.fault(colTable, "%s", err)
		}
		return space, err == nil
	}
	if s := m.sections[of]; s != "" {
		return s, true
	}
	text, _ := m.options.Defaults["table"].(string)
	return site.Space(text), text != ""
}

// counted makes the address of a number in the notation of the list.
func (m *making) counted(text string, table site.Space) {
	delete(m.item.Fields, "table")
	first, _, _ := strings.Cut(text, "-")
	digits, part, parted := strings.Cut(strings.TrimSpace(first), ".")
	if table == "" && (m.notation == site.Offset || m.notation == site.Number || m.notation == site.Hex) && !strings.Contains(digits, ":") && !crossed.MatchString(digits) {
		table = site.HoldingRegisters
		if !m.untold {
			m.untold = true
			m.list.Notes = append(m.list.Notes, "no table is named, so that holding registers are meant; a column with the table or function says otherwise, or the default {table: ir}")
		}
	}
	a, err := site.ParseAddress(digits, m.notation, table)
	if err != nil {
		m.fault("address", "%s", err)
		return
	}
	address := fmt.Sprintf("%s:%d", a.Space, a.Offset)
	if a.Offset >= 10_000 { // which may be taken for a reference
		address = fmt.Sprintf("%s:0x%X", a.Space, a.Offset)
	}
	if parted {
		address += "." + part
	}
	m.item.Fields["address"] = address
}

// reference reports whether a number is a reference, which names its table by its first digit.
func reference(text string) bool {
	digits := strings.SplitN(text, ".", 2)[0]
	return (len(digits) == 5 || len(digits) == 6) && strings.ContainsRune("0134", rune(digits[0])) && strings.Trim(digits, "0123456789") == ""
}

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
		s, err := m.known.scaling(text)
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
	if len(scaling) > 0 {
		m.item.Fields["scaling"] = scaling
	}
}

// poll makes a period: 500 ms, 1s, or a number in the unit that the heading names.
func (m *making) poll(text string) {
	written := strings.ReplaceAll(strings.ToLower(text), " ", "")
	for long, short := range map[string]string{"sec": "s", "seconds": "s", "second": "s", "min": "m", "minutes": "m", "msec": "ms"} {
		if strings.TrimLeft(written, "0123456789.,") == long {
			written = strings.TrimSuffix(written, long) + short
		}
	}
	if f, is := number(written); is {
		unit := "s"
		if strings.Contains(strings.ToLower(m.item.From["poll"]), "ms") {
			unit = "ms"
		} else if f >= 50 {
			m.fault("poll", "%q: is that seconds or milliseconds? Write it: 500ms, 60s", text)
			return
		}
		written = strconv.FormatFloat(f, 'f', -1, 64) + unit
	}
	if _, err := time.ParseDuration(strings.ReplaceAll(written, ",", ".")); err != nil {
		m.fault("poll", "%q is no period: write 500ms, 1s or 1m", text)
		return
	}
	m.item.Fields["poll"] = strings.ReplaceAll(written, ",", ".")
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
