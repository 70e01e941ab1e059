package pointlist

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// A row of a list: a point, or a title, a footnote, what goes on from the row before.

// reader reads the rows of one sheet.
type reader struct {
	list     *List
	options  Options
	headings headings
	sheet    string
	ofTable  string // the station of rows that name none; "" where that is not known
	page     bool
	lines    bool                         // without columns
	tags     map[string]int               // how often each was given
	first    map[string]string            // the stations of tags that were given first
	unplaced bool                         // a row without a station was told of
	untold   bool                         // it was told which table is meant
	sections map[site.Protocol]site.Space // the tables that the last titles named
	crosses  bool                         // 0x0010 is the tenth coil
	known    memory                       // what cells that come again mean
	cells    map[string]string            // of the row that is read, by field

	order      codec.Order   // of values of several registers, as a sentence says; "" where none does
	size       int           // in what sizes count: registers, octets, bits
	fractional bool          // a range with fractions of an integer was told of
	loosely    bool          // an order was told of that may be another one
	at         string        // the last address, of rows that go on with its bits
	upwards    string        // heading of factors of 10 and more, which may mean the reverse
	outright   bool          // numbers are offsets, though they look like references
	hexed      bool          // numbers are hexadecimal without saying so
	counting   site.Notation // of the tables before, where they are references; "" where none were
	notation   site.Notation // in which the addresses are; "" as the station has it
}

// note adds a note to the list.
func (r *reader) note(format string, args ...any) {
	r.list.Notes = append(r.list.Notes, fmt.Sprintf(format, args...))
}

// once adds a note that stands in the list only once.
func (r *reader) once(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(r.list.Notes, text) {
		r.list.Notes = append(r.list.Notes, text)
	}
}

func (r *reader) row(row sheet.Row) {
	if ruled(row.Cells) || r.headings.repeat(row) {
		r.list.Left++
		return
	}
	item := Item{Sheet: r.sheet, Row: row.Number, Fields: make(map[string]any, len(r.headings.columns)), From: r.headings.from, columns: r.headings.columns, cells: row.Cells}
	maps.Copy(item.Fields, r.options.Defaults)
	cells, filled := r.cells, 0
	clear(cells)
	for _, c := range r.headings.columns {
		text := cell(row.Cells, c.At)
		if c.Heading == Was {
			item.was = text
		}
		if c.Heading == Version {
			item.version, _ = strconv.ParseInt(text, 10, 64) // of what is none, nothing is known
		}
		if c.Field == "" {
			continue
		}
		if text != "" && (c.Exact || !dashes[strings.ToLower(text)] || !dashed[c.Field]) {
			filled++
			cells[c.Field] = text
		}
	}
	if r.page && caption.MatchString(cells["address"]) {
		r.list.Left++
		return
	}
	if name := cmp.Or(cells["tag"], cells["description"]); len(r.headings.exact) == 0 && reserved.MatchString(name) {
		r.list.Left++
		return
	}
	if (filled == 1 || r.page) && !strings.ContainsAny(cells["address"], "0123456789") || footnote(cells["address"]) {
		if title := cells["address"]; title != "" { // or a footnote
			r.list.Left++
			return
		}
	}
	if bit := cells[colBit]; cells["address"] == "" && r.at != "" && bit != "" && cmp.Or(cells["tag"], cells["description"]) != "" {
		cells["address"] = r.at // the next bits of the same register
	}
	if cells["address"] == "" && r.aside(cells, filled) {
		return
	}
	r.at = cells["address"]
	before := len(r.list.Faults)
	m := making{reader: r, item: &item, cells: cells}
	m.all()
	if len(r.list.Faults) == before || item.Tag() != "" {
		r.list.Items = append(r.list.Items, item)
	}
}

// caption is what stands above a table in place of an address: Static Object: 20.
var caption = regexp.MustCompile(`^\pL[\pL ]{3,}:\s*\d`)

// ruled reports whether a row is a line that is drawn below others: of dashes and the like alone, and at least three in a cell.
func ruled(cells []string) bool {
	long := false
	for _, text := range cells {
		if strings.Trim(text, "-=_:+ ") != "" {
			return false
		}
		long = long || len(text) >= 3
	}
	return long
}

// dashes stand in cells that say nothing, in columns where they mean nothing else.
var (
	dashes = map[string]bool{"-": true, "--": true, "—": true, "–": true, "n/a": true}
	dashed = map[string]bool{"type": true, colAccess: true, colFactor: true, "decimals": true, "states": true, "order": true, colWords: true, colBit: true}
)

// reserved are names of registers in which nothing is.
var reserved = regexp.MustCompile(`(?i)^\W*(?:reserved|reserve|reserviert|spare|not used|unused|not assigned|nicht belegt|nicht verwendet|frei)\W*$`)

// aside deals with a row that has no address: one that goes on with what the row before describes, a title, a footnote. It reports whether that is
// all it is.
func (r *reader) aside(cells map[string]string, filled int) bool {
	if filled > 1 && (cells["type"] != "" || cells["tag"] != "" && !r.page) {
		return false // half a row
	}
	if r.further(cells, filled) {
		return true
	}
	r.list.Left++
	return true
}

// further adds what a row says to the one before, where it goes on with that: the names of further values, or more of its description.
func (r *reader) further(cells map[string]string, filled int) bool {
	n := len(r.list.Items)
	if n == 0 || filled != 1 {
		return false
	}
	last := &r.list.Items[n-1]
	if furtherBits(last, cmp.Or(cells["range"], cells["states"], cells["description"])) {
		return true
	}
	if text := cells["states"]; text != "" && r.list.Items[n-1].Sheet == r.sheet {
		more, err := statesOf(text)
		if err != nil || more == nil {
			return false
		}
		last.goesOn(more)
		return true
	}
	more := cmp.Or(cells["description"], cells["tag"])
	if more == "" || footnote(more) {
		return false
	}
	was, _ := last.Fields["description"].(string)
	if was == "" && last.From["description"] == "" {
		return false
	}
	named, err := statesOf(more)
	names := err == nil && named != nil && namesAlone.MatchString(more)
	if !r.page && !names || r.lines && !names && !unicode.IsLower([]rune(more)[0]) && more[0] != '(' { // a title
		return false
	}
	if names && len(named) > 1 && last.Fields["states"] == nil { // beside what the value is
		last.Fields["states"] = named
		return true
	}
	if before, err := statesOf(was); names && (was == "" || err == nil && before != nil) { // 0: off; 1: on
		last.Fields["description"] = strings.Trim(was+", "+more, ", ")
		if last.From["states"] == "" {
			states := maps.Clone(named)
			maps.Copy(states, before)
			last.Fields["states"] = states
		}
		return true
	}
	last.Fields["description"] = strings.TrimSpace(was + " " + more)
	if s, u := toldStep(more); last.Fields["scaling"] == nil && last.From[colFactor] == "" && s != nil { // in 0.1 °C
		last.Fields["scaling"] = s
		if f, is := s["factor"].(float64); is {
			inStepsOf(last.Fields, f)
		}
		if u != "" && last.Fields["unit"] == nil {
			last.Fields["unit"] = u
		}
	}
	return true
}

var noteMark = regexp.MustCompile(`^(?:\(\w{1,2}\)|\[\w{1,2}\]|[*†‡¹²³⁴⁵]+|\w\))\s*\pL`)

// footnote reports whether text is one.
func footnote(text string) bool {
	lower := strings.ToLower(text)
	return strings.HasPrefix(text, "*") || strings.HasPrefix(text, "†") || strings.HasPrefix(lower, "note") || strings.HasPrefix(lower, "page ") || noteMark.MatchString(text)
}
