package samples

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/exchange/sheet"
)

// Fault is what is wrong with a row of a file.
type Fault struct {
	Sheet   string
	Row     int
	Column  string
	Value   string
	Message string
}

// Sample is a row that was read. Its value is a number, a boolean or text, as it is written.
type Sample struct {
	Tag     string
	Time    time.Time
	Value   codec.Value
	Quality reading.Quality
	Reason  reading.Reason
}

// What the headings of a file may be.
var named = map[string][]string{
	"tag":     {"tag", "name", "point", "signal"},
	"time":    {"time", "timestamp", "date", "datetime", "when", "zeit", "zeitstempel", "datum"},
	"value":   {"value", "wert", "val"},
	"quality": {"quality", "qualität", "status"},
	"reason":  {"reason", "grund"},
}

// Read reads a list of samples. There is a heading over each column: time, tag and value, and quality and reason if wanted, without tag where all
// are of one, which is given; or time, and over each other column the tag whose values it has. Times without a zone are in that of in.
func Read(data []byte, tag string, in *time.Location) (list []Sample, faults []Fault, err error) {
	book, err := sheet.Read(data)
	if err != nil {
		return nil, nil, err
	}
	for _, grid := range book.Grids {
		if len(grid.Rows) == 0 {
			continue
		}
		r := reader{grid: grid, habits: habits{zone: in, serial: book.Form == sheet.Spreadsheet}}
		if r.headings(tag); len(r.faults) == 0 {
			r.rows()
		}
		list, faults = append(list, r.list...), append(faults, r.faults...)
	}
	return list, faults, nil
}

// reader reads a sheet.
type reader struct {
	grid   sheet.Grid
	of     map[string]int // where time, tag, quality and reason are
	values map[int]string // columns with values, and the tags that they are of; "" where that is in a column
	tag    string         // of all, where it is given
	habits
	list   []Sample
	faults []Fault
}

func (r *reader) fault(row sheet.Row, at int, column, value, message string) {
	if at >= 0 && at < len(r.grid.Rows[0].Cells) {
		column = r.grid.Rows[0].Cells[at]
	}
	r.faults = append(r.faults, Fault{r.grid.Name, row.Number, column, value, message})
}

// headings finds out what is in which column.
func (r *reader) headings(tag string) {
	r.of, r.values, r.tag = map[string]int{}, map[int]string{}, tag
	var others []int
	for i, cell := range r.grid.Rows[0].Cells {
		if strings.TrimSpace(cell) == "" {
			continue
		}
		if what := r.meant(cell); what != "" {
			r.of[what] = i
		} else {
			others = append(others, i)
		}
	}
	value, valued := r.of["value"]
	_, tagged := r.of["tag"]
	switch {
	case valued && (tagged || tag != ""):
		r.values[value] = ""
	case !valued && !tagged && tag == "" && len(others) > 0: // a column for each tag
		for _, i := range others {
			r.values[i] = tagOf(r.grid.Rows[0].Cells[i])
		}
	case !valued && len(others) == 1 && (tagged || tag != ""):
		r.values[others[0]] = ""
	default:
		for _, what := range []string{"value", "tag"} {
			if _, there := r.of[what]; !there && (what == "value" || tag == "") {
				r.fault(r.grid.Rows[0], -1, what, "", fmt.Sprintf("there is no column %s; its heading is one of %s", what, strings.Join(named[what], ", ")))
			}
		}
	}
	at, timed := r.of["time"]
	if !timed {
		r.fault(r.grid.Rows[0], -1, "time", "", "there is no column time; its heading is one of "+strings.Join(named["time"], ", "))
	} else if strings.Contains(strings.ToLower(r.grid.Rows[0].Cells[at]), "utc") {
		r.zone = time.UTC
	}
}

// meant is what a heading says that a column holds; "" for something else, or what another column holds already.
func (r *reader) meant(heading string) string {
	bare, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(heading)), " ")
	for what, names := range named {
		if _, taken := r.of[what]; !taken && slices.Contains(names, bare) {
			return what
		}
	}
	return ""
}

// tagOf is the tag that a heading names, without a unit: tern/level (m), tern/level [m].
func tagOf(heading string) string {
	tag, _, _ := strings.Cut(heading, " (")
	tag, _, _ = strings.Cut(tag, " [")
	return strings.TrimSpace(tag)
}

func (r *reader) cell(row sheet.Row, what string) string {
	if i, ok := r.of[what]; ok && i < len(row.Cells) {
		return row.Cells[i]
	}
	return ""
}

func (r *reader) rows() {
	columns := slices.Sorted(maps.Keys(r.values))
	for _, row := range r.grid.Rows[1:] {
		r.seeTime(r.cell(row, "time"))
		for _, i := range columns {
			if i < len(row.Cells) {
				r.seeValue(row.Cells[i])
			}
		}
	}
	for _, row := range r.grid.Rows[1:] {
		at, err := r.time(r.cell(row, "time"))
		if err != nil {
			r.fault(row, r.of["time"], "time", r.cell(row, "time"), err.Error())
		}
		for _, i := range columns {
			text := ""
			if i < len(row.Cells) {
				text = row.Cells[i]
			}
			if of := r.values[i]; of == "" {
				r.sample(row, i, at, cmp.Or(r.cell(row, "tag"), r.tag), text)
			} else if text != "" {
				r.sample(row, i, at, of, text)
			}
		}
	}
}

// sample reads one value.
func (r *reader) sample(row sheet.Row, column int, at time.Time, tag, text string) {
	x := Sample{Tag: tag, Time: at, Quality: reading.Good}
	if tag == "" {
		r.fault(row, r.of["tag"], "tag", "", "is missing")
	}
	if q := r.cell(row, "quality"); q != "" {
		if err := x.Quality.UnmarshalText([]byte(strings.ToLower(q))); err != nil {
			r.fault(row, r.of["quality"], "quality", q, err.Error())
		}
	}
	if x.Reason = reading.Reason(r.cell(row, "reason")); x.Quality == reading.Good {
		x.Reason = ""
	}
	var err error
	switch x.Value, err = r.value(text); {
	case text == "" && x.Quality != reading.Bad:
		r.fault(row, column, "value", "", "is missing; only a bad sample has none")
	case err != nil:
		r.fault(row, column, "value", text, err.Error())
	case x.Value.IsZero() || text == "" || x.Quality == reading.Bad: // what is bad has no value, whatever stands beside it
		x.Quality, x.Value = reading.Bad, codec.Value{}
	}
	r.list = append(r.list, x)
}
