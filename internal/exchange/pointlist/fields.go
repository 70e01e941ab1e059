package pointlist

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
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
	steps float64 // in which the row gives its values; 0 for none

	halved codec.Order // as a remark at the address says it; "" where none does
	spoilt bool        // a spreadsheet has made a date of the address
}

func (m *making) fault(field, format string, args ...any) {
	m.list.Faults = append(m.list.Faults, sheet.Fault{Sheet: m.sheet, Row: m.item.Row, Column: m.item.From[field], Value: m.cells[field], Message: fmt.Sprintf(format, args...)})
}

// guess notes that a field was made of what a row does not say, so that a point that is there already keeps its own.
func (m *making) guess(field string) { m.item.guessed = append(m.item.guessed, field) }

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
		if s := m.called(text); s != "" && s != text {
			f["station"] = s
			m.once("station %q of the list is taken for %s", text, s)
		} else if s == "" && m.options.Station != "" && strings.Trim(text, "0123456789") == "" {
			f["station"] = m.options.Station
			m.once("column %s holds numbers of units, and station %s is used", m.item.From["station"], m.options.Station)
		}
	}
	if s, _ := f["station"].(string); s == "" {
		if f["station"] = m.reader.ofTable; m.reader.ofTable == "" && !m.unplaced {
			m.unplaced = true // once is enough
			m.fault("station", "the row names no station: say of which one the list is")
		}
	}
	m.spoiled()
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
		if writable, err := accessUnder(m.item.From[colAccess], text); err != nil {
			m.fault(colAccess, "%s", err)
		} else if writable {
			f["writable"] = true
			m.from("writable", colAccess)
		}
	}
	if text, ok := plain("control"); ok {
		m.commanded(text)
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
		} else if m.named("range", text) { // bit 0: on
		} else {
			m.fault("range", "%q is no range: write 0..100", text)
		}
	}
	if text, ok := plain("description"); ok && f["states"] == nil && m.item.From["states"] == "" {
		m.named("description", text)
	}
	m.remarks(plain)
	m.rawRange()
	m.wordOrder()
	if m.steps > 0 && m.item.From["range"] != "" {
		inStepsOf(f, m.steps)
	}
	if s, ok := f["scaling"].(map[string]any); ok && s["raw"] != nil && s["raw"] == f["range"] && s["eng"] != s["raw"] {
		delete(f, "range") // these are the ends of the raw values
	}
	m.fractions()
	if r, ok := f["range"].([2]float64); ok && r == [2]float64{0, 1} && (f["type"] == string(codec.TypeBool) || m.protocol() == site.DNP3) {
		delete(f, "range") // which every bit has
	}
	m.tag(exact("tag"))
}

// What a remark is when it is nothing else: the names of values, or a factor. 4-20 mA, 0-10 V are no names.
var (
	namesAlone = regexp.MustCompile(`^(?:\s*-?\d+\s*[=:]\s*\pL[^,;/|\n]*(?:[,;/|\n]+|$))+$`)
)

// spoiled are the fields in which a spreadsheet takes what is typed for a date: 1-2, 3/10.
var spoiled = []string{"address", colBit, colWords, colFactor, colDivide, colRaw, "range", "states", colTable, "type"}

// dated is a date, as spreadsheets show what they take for one.
var dated = regexp.MustCompile(`^(?:\d{4}-\d\d-\d\d(?: [\d:]+)?|\d{1,2}[- .](?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec|mär|mai|okt|dez)\.?|(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)-\d\d)$`)

// spoiled tells of cells that a spreadsheet has made a date of.
func (m *making) spoiled() {
	for _, field := range spoiled {
		if text := m.cells[field]; strings.ContainsAny(text, "- .") && !m.headings.exact[field] && dated.MatchString(text) {
			m.fault(field, "%q is a date: a spreadsheet makes one of 1-2 or 3/10; give the cell the format of text, and type it anew", text)
			delete(m.cells, field)
			m.spoilt = m.spoilt || field == "address"
		}
	}
}

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
	if text, ok := plain(colFactor); ok && (text[0] < '0' || text[0] > '9') && unscaled.MatchString(text) {
		if t := m.item.Fields["type"]; bitCoded.MatchString(text) && (t == nil || t == string(codec.TypeUint16)) {
			m.item.Fields["type"] = string(codec.TypeBits)
			m.from("type", colFactor)
		}
	} else if ok && text[0] == '{' {
		m.cells["scaling"] = text
		m.from("scaling", colFactor)
		m.exact("scaling")
		return
	} else if ok && text != "-" {
		s, err := m.step(text)
		if err != nil {
			m.fault(colFactor, "%s", err)
		} else if f, _ := s["factor"].(float64); f == 10 || f == 100 || f == 1000 {
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

// unscaled is what a column of factors says of values that have none, and bitCoded of those that are bits.
var (
	unscaled = regexp.MustCompile(`(?i)^(?:none|no|not scaled|unscaled|raw|n\.?/?a\.?|see .*|enum(?:eration)?|text|ascii|bits?[- ]?(?:coded|field|map|mask)?s?|bit-?kodiert)$`)
	bitCoded = regexp.MustCompile(`(?i)^bit`)
)

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
