package pointlist

import (
	"strings"

	"arithmon/internal/exchange/sheet"
)

// Of which station the rows of a table are that name none: the one that a person chose, or else the one after which the sheet is called, or that a
// row above names.

// mostBeside is how many cells a row above a table has at most that names its station: Device:, plc1.
const mostBeside = 3

// called gives the station that a text names, alone or behind what it is: Station: plc1; "" for none.
func (r *reader) called(text string) string {
	if r.options.Called == nil || text == "" || len(text) > 100 {
		return ""
	}
	if s := r.options.Called(text); s != "" {
		return s
	}
	if _, name, has := strings.Cut(text, ":"); has {
		return r.options.Called(strings.TrimSpace(name))
	}
	return ""
}

// ofSheet notes the station after which a sheet is called.
func (r *reader) ofSheet(name string) {
	r.ofTable = r.options.Station
	if s := r.called(name); s != "" && r.options.Station == "" {
		r.ofTable = s
		r.once("sheet %s: rows that name no station are of station %s", name, s)
	}
}

// ofRow notes the station that a row names which is no point.
func (r *reader) ofRow(row sheet.Row) {
	if r.options.Station != "" {
		return
	}
	found, filled := "", 0
	for _, text := range row.Cells {
		if text == "" {
			continue
		}
		filled++
		if s := r.called(text); s != "" && found == "" {
			found = s
		}
	}
	if found != "" && filled <= mostBeside && found != r.ofTable {
		r.ofTable = found
		r.note("row %d, %q: rows below that name no station are of station %s", row.Number, strings.Join(strings.Fields(strings.Join(row.Cells, " ")), " "), found)
	}
}

// stationPlace is where the name of a point's station stands in what is put before tags.
const stationPlace = "{station}"

// prefixed is a tag with what is put before it.
func (r *reader) prefixed(tag, station string) string {
	return strings.ReplaceAll(r.options.Prefix, stationPlace, station) + tag
}
