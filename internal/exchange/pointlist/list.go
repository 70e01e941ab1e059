// Package pointlist reads lists of points as manuals, spreadsheets and people have them: it recognises the columns by their headings, and makes the
// fields of a point, as a site file has them, of what the cells say. What it does not understand is a fault with its sheet, row and column.
package pointlist

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/exchange/sitefile"
)

// Options say how a list is read.
type Options struct {
	Columns  map[string]string // by field: the heading, letter or number of its column; others are recognised
	Station  string            // of rows that name none
	Prefix   string            // put before each tag
	Notation site.Notation     // how plain numbers of addresses count; "" as the list shows it, or as the station does
	Defaults map[string]any    // fields of rows that say nothing of them
}

// Item is a row that is a point.
type Item struct {
	Sheet  string
	Row    int
	Fields map[string]any    // of the point, as a site file has them; nil for one that gets its default
	From   map[string]string // the headings of the columns that a field came from, by field
	Made   string            // how its tag came about, where it was not as it is; "" where it was

	columns []Column
	cells   []string
	was     string // the tag that the point had when the row was made of it; "" for none
	version int64  // of the point that the row was made of; 0 for none
}

// Cells are what was written, by the heading of its column.
func (i Item) Cells() map[string]string {
	out := map[string]string{}
	for _, c := range i.columns {
		if text := cell(i.cells, c.at); text != "" {
			out[c.Heading] = text
		}
	}
	return out
}

// Tag is that of the point.
func (i Item) Tag() string { tag, _ := i.Fields["tag"].(string); return tag }

// Fault is a cell that is not understood, or not allowed.
type Fault struct {
	Sheet   string
	Row     int
	Column  string // heading; "" where the row as a whole is meant
	Value   string
	Message string
}

// List is what was read.
type List struct {
	Items   []Item
	Columns []Column // of the first sheet that has any
	Faults  []Fault
	Notes   []string
	Left    int // rows that are none of points: titles, repeated headings, footnotes
}

// Read reads all sheets of a book that have headings.
func Read(b sheet.Book, o Options) (List, error) {
	list := List{Notes: slices.Clone(b.Notes)}
	var first error
	tags := map[string]int{}
	for _, g := range b.Grids {
		h, err := findHeadings(g, o.Columns)
		if err != nil {
			if len(b.Grids) > 1 {
				list.Notes = append(list.Notes, fmt.Sprintf("sheet %s has no headings, and is left out", g.Name))
			}
			if first == nil {
				first = err
			}
			continue
		}
		if list.Columns == nil {
			list.Columns = h.columns
		}
		if len(h.rows) == 0 {
			list.Notes = append(list.Notes, "no headings are recognised; what the columns hold is guessed by their cells: look at it")
		}
		r := reader{list: &list, options: o, headings: h, sheet: g.Name, page: b.Form == sheet.Page, tags: tags, cells: map[string]string{}}
		if r.notation = cmp.Or(o.Notation, notationOf(h, g.Rows[h.first:])); r.notation != "" && o.Notation == "" {
			list.Notes = append(list.Notes, map[site.Notation]string{
				site.Ref5:   "addresses are references of five digits: 40001 is the first holding register",
				site.Offset: "addresses are offsets, as on the wire: the first is 0",
			}[r.notation])
		}
		for _, row := range g.Rows[h.first:] {
			r.row(row)
		}
	}
	if list.Columns == nil {
		return list, cmp.Or(first, fmt.Errorf("the file holds nothing"))
	}
	if list.Left > 0 {
		list.Notes = append(list.Notes, fmt.Sprintf("left out, since they are no points, such as titles and repeated headings: %d", list.Left))
	}
	if unused := unknown(list.Columns); len(unused) > 0 {
		list.Notes = append(list.Notes, "columns that nothing is made of: "+strings.Join(unused, ", "))
	}
	return list, nil
}

func unknown(columns []Column) (out []string) {
	for _, c := range columns {
		if c.Field == "" && c.Heading != "" && c.Heading != Version && c.Heading != Was {
			out = append(out, c.Heading)
		}
	}
	return out
}

// reader reads the rows of one sheet.
type reader struct {
	list     *List
	options  Options
	headings headings
	sheet    string
	page     bool
	tags     map[string]int    // how often each was given
	unplaced bool              // a row without a station was told of
	untold   bool              // it was told which table is meant
	known    memory            // what cells that come again mean
	cells    map[string]string // of the row that is read, by field

	notation site.Notation // in which the addresses are; "" as the station has it
}

// memory is what cells mean that come again and again.
type memory struct {
	scalings map[string]map[string]any
	types    map[typeCell]typeMeaning
}

type typeCell struct {
	text  string
	words int
}

type typeMeaning struct {
	t      codec.Type
	length int
	order  codec.Order
}

// mostKnown is how many cells are remembered.
const mostKnown = 10_000

func (m *memory) scaling(text string) (map[string]any, error) {
	if s, ok := m.scalings[text]; ok {
		return s, nil
	}
	s, err := scalingOf(text)
	if m.scalings == nil {
		m.scalings = map[string]map[string]any{}
	}
	if err == nil && len(m.scalings) < mostKnown {
		m.scalings[text] = s
	}
	return s, err
}

func (m *memory) kind(text string, words int) (codec.Type, int, codec.Order, error) {
	cell := typeCell{text, words}
	if k, ok := m.types[cell]; ok {
		return k.t, k.length, k.order, nil
	}
	t, length, order, err := typeOf(text, words)
	if m.types == nil {
		m.types = map[typeCell]typeMeaning{}
	}
	if err == nil && len(m.types) < mostKnown {
		m.types[cell] = typeMeaning{t, length, order}
	}
	return t, length, order, err
}

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
	n, hex, references, zero := 0, 0, 0, false
	for _, row := range rows {
		text := cell(row.Cells, h.columns[at].at)
		if !strings.ContainsAny(text, "0123456789") || footnote(text) || strings.Contains(text, ":") || crossed.MatchString(text) {
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

// crossed are addresses that name their table by a digit and a cross: 4x0010.
var crossed = regexp.MustCompile(`^[0134][xX]\d+$`)

func (r *reader) row(row sheet.Row) {
	if slices.ContainsFunc(r.headings.rows, func(h []string) bool { return slices.Equal(h, row.Cells) }) {
		r.list.Left++
		return
	}
	item := Item{Sheet: r.sheet, Row: row.Number, Fields: make(map[string]any, len(r.headings.columns)), From: r.headings.from, columns: r.headings.columns, cells: row.Cells}
	maps.Copy(item.Fields, r.options.Defaults)
	cells, filled := r.cells, 0
	clear(cells)
	for _, c := range r.headings.columns {
		text := cell(row.Cells, c.at)
		if c.Heading == Was {
			item.was = text
		}
		if c.Heading == Version {
			item.version, _ = strconv.ParseInt(text, 10, 64) // of what is none, nothing is known
		}
		if c.Field == "" {
			continue
		}
		if text != "" {
			filled++
			cells[c.Field] = text
		}
	}
	if (filled == 1 || r.page) && !strings.ContainsAny(cells["address"], "0123456789") || footnote(cells["address"]) {
		if title := cells["address"]; title != "" { // or a footnote
			r.list.Left++
			return
		}
	}
	if cells["address"] == "" && r.aside(cells, filled) {
		return
	}
	before := len(r.list.Faults)
	m := making{reader: r, item: &item, cells: cells}
	m.all()
	if len(r.list.Faults) == before || item.Tag() != "" {
		r.list.Items = append(r.list.Items, item)
	}
}

// aside deals with a row that has no address: one that goes on with what the row before describes, a title, a footnote. It reports whether that is
// all it is.
func (r *reader) aside(cells map[string]string, filled int) bool {
	if filled > 1 && (cells["type"] != "" || cells["tag"] != "" && !r.page) {
		return false // half a row
	}
	more := cmp.Or(cells["description"], cells["tag"])
	if n := len(r.list.Items); r.page && n > 0 && filled == 1 && more != "" && !footnote(more) {
		last := &r.list.Items[n-1]
		if was, _ := last.Fields["description"].(string); was != "" || last.From["description"] != "" {
			last.Fields["description"] = strings.TrimSpace(was + " " + more)
			return true
		}
	}
	r.list.Left++
	return true
}

// footnote reports whether text is one.
func footnote(text string) bool {
	lower := strings.ToLower(text)
	return strings.HasPrefix(text, "*") || strings.HasPrefix(text, "†") || strings.HasPrefix(lower, "note") || strings.HasPrefix(lower, "page ") || len(text) > 1 && text[0] >= '0' && text[0] <= '9' && text[1] == ')'
}

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
	} else if ok {
		if r, is := spanOf(text); is {
			f["range"] = r
		} else {
			m.fault("range", "%q is no range: write 0..100", text)
		}
	}
	m.tag(exact("tag"))
}

// exact reads a cell as a site file would have it; an empty one gives the default.
func (m *making) exact(field string) {
	text := m.cells[field]
	if strings.HasPrefix(text, "'=") || strings.HasPrefix(text, "'@") { // as guard writes what is no formula
		text = text[1:]
	}
	if text == "" {
		m.item.Fields[field] = nil
		return
	}
	if truths[field] {
		switch strings.ToLower(text) { // as spreadsheets give them
		case "1", "true", "yes", "wahr", "ja":
			m.item.Fields[field] = true
		case "0", "false", "no", "falsch", "nein":
			m.item.Fields[field] = false
		default:
			m.fault(field, "%q is neither true nor false", text)
		}
		return
	}
	if textual[field] {
		m.item.Fields[field] = text
		return
	}
	var value any
	if err := yaml.Unmarshal([]byte(text), &value); err != nil {
		m.fault(field, "%q is no value of a site file: %s", text, err)
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
	if n, is := number(text); is && n >= 0 && n == float64(int(n)) && !strings.ContainsAny(text, ".") && strings.ContainsAny(text, ",'") {
		text = strconv.Itoa(int(n)) // 30,009
	} else if strings.HasSuffix(text, ".0") && strings.Count(text, ".") == 1 && len(text) > 6 && m.cells[colBit] == "" {
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
	table, named := m.table(plain)
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

// table is that of the column beside, or of the defaults.
func (m *making) table(plain func(string) (string, bool)) (site.Space, bool) {
	if text, ok := plain(colTable); ok {
		space, err := tableOf(text)
		if err != nil {
			m.fault(colTable, "%s", err)
		}
		return space, err == nil
	}
	text, _ := m.options.Defaults["table"].(string)
	return site.Space(text), text != ""
}

// counted makes the address of a number in the notation of the list.
func (m *making) counted(text string, table site.Space) {
	delete(m.item.Fields, "table")
	first, _, _ := strings.Cut(text, "-")
	digits, part, parted := strings.Cut(strings.TrimSpace(first), ".")
	if table == "" && (m.notation == site.Offset || m.notation == site.Number || m.notation == site.Hex) && !strings.ContainsAny(digits, ":xX") {
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

// Into puts the points of a list into a draft: those that are there already are changed in the fields that the list has. The faults of the draft
// wait in it; Place finds their rows. A row that was exported and whose point was changed since is a fault for each field that differs, unless
// force is set.
func (l List) Into(d *site.Draft, now *site.Site, force bool) error {
	for _, item := range l.renamesFirst(now) {
		b, err := json.Marshal(item.Fields)
		if err != nil {
			return fmt.Errorf("row %d: %w", item.Row, err)
		}
		node, err := document.Parse(b)
		if err != nil {
			return fmt.Errorf("row %d: %w", item.Row, err)
		}
		was := cmp.Or(item.was, item.Tag())
		from, known := now.Get(site.KindPoint, was)
		if !known && item.was != "" { // renamed meanwhile, or taken over with its new tag already
			was = item.Tag()
			from, known = now.Get(site.KindPoint, was)
		}
		if !known {
			from = site.Fresh(site.KindPoint)
		}
		e := sitefile.Decode(site.KindPoint, node, d, from)
		if known && was != item.Tag() {
			d.Replace(was, e) // it is the same point
		} else {
			d.Put(e)
		}
		if !force {
			item.conflicts(d, now, from, e, known)
		}
	}
	return nil
}

// renamesFirst puts the rows so that a tag is free before another point gets it. Of points that change places, one stands in the way.
func (l List) renamesFirst(now *site.Site) []Item {
	frees := map[string]bool{} // tags that a row gives up
	for _, i := range l.Items {
		if _, known := now.Point(i.was); known && i.was != i.Tag() {
			frees[i.was] = true
		}
	}
	if len(frees) == 0 {
		return l.Items
	}
	ordered, left := make([]Item, 0, len(l.Items)), l.Items
	for len(left) > 0 {
		var later []Item
		for _, i := range left {
			if frees[i.Tag()] && i.was != i.Tag() {
				later = append(later, i)
				continue
			}
			ordered = append(ordered, i)
			delete(frees, i.was)
		}
		if len(later) == len(left) {
			return append(ordered, later...)
		}
		left = later
	}
	return ordered
}

// conflicts adds to a draft what a row would take back that somebody has changed since it was exported.
func (i Item) conflicts(d *site.Draft, now *site.Site, was, is site.Entity, known bool) {
	if i.version == 0 {
		return
	}
	if !known {
		d.Fail(&site.FieldError{Kind: site.KindPoint, Name: i.Tag(), Message: "was removed or renamed since this list was made; leave the row out, or add it all the same with --force"})
		return
	}
	if now.Version(site.KindPoint, was.Key()) == i.version || reflect.DeepEqual(was, is) {
		return
	}
	before, after := reflect.ValueOf(was), reflect.ValueOf(is)
	for _, f := range document.FieldsOf(before.Type()) {
		b, a := before.FieldByIndex(f.Index).Interface(), after.FieldByIndex(f.Index).Interface()
		if !reflect.DeepEqual(b, a) {
			d.Fail(&site.FieldError{Kind: site.KindPoint, Name: i.Tag(), Field: f.Name, Message: fmt.Sprintf("the point was changed since this list was made, and this is %s now; take that into the list, or give it this value all the same with --force", written(b))})
		}
	}
}

// written is a value as a site file has it.
func written(v any) string {
	b, err := json.Marshal(v)
	if err != nil || string(b) == "null" || string(b) == `""` {
		return "empty"
	}
	return string(b)
}

// Place gives the faults of a draft with their rows and columns.
func (l List) Place(found site.Errors) (faults []Fault) {
	told := map[Fault]bool{} // rows of which something is said already, from which more may follow
	for _, f := range l.Faults {
		told[Fault{Sheet: f.Sheet, Row: f.Row}] = true
	}
	unplaced := slices.ContainsFunc(l.Faults, func(f Fault) bool { return strings.HasPrefix(f.Message, "the row names no station") })
	byTag := make(map[string]int, len(l.Items))
	for i, item := range l.Items {
		byTag[item.Tag()] = i
	}
	for _, e := range found {
		i, known := byTag[e.Name]
		if !known || e.Kind != site.KindPoint {
			faults = append(faults, Fault{Value: e.Value, Message: e.Error()})
			continue
		}
		item := l.Items[i]
		if told[Fault{Sheet: item.Sheet, Row: item.Row}] || unplaced {
			continue
		}
		field, _, _ := strings.Cut(e.Field, ".")
		fault := Fault{Sheet: item.Sheet, Row: item.Row, Column: item.From[field], Value: e.Value, Message: e.Message}
		if fault.Column != "" {
			fault.Value = cmp.Or(item.Cells()[fault.Column], e.Value)
		} else if e.Field != "" {
			fault.Message = e.Field + ": " + e.Message
		}
		faults = append(faults, fault)
	}
	slices.SortStableFunc(faults, func(a, b Fault) int { return cmp.Or(cmp.Compare(a.Sheet, b.Sheet), cmp.Compare(a.Row, b.Row)) })
	return faults
}
