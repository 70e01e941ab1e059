package api

import (
	"cmp"
	"net/http"
	"strings"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What is given back of a long list.
const (
	mostRows   = 1000
	mostFaults = 1000
)

// Import is what came of a list of points or stations.
type Import struct {
	Applied   bool              `json:"applied" doc:"whether it was taken over; false with dry_run, where there is a fault, and where it became a proposal"`
	Proposal  int64             `json:"proposal,omitempty" doc:"the number of the proposal that it became instead"`
	Rows      int               `json:"rows" doc:"that are points, or stations"`
	Added     int               `json:"added"`
	Changed   int               `json:"changed"`
	Unchanged int               `json:"unchanged"`
	Faults    []ImportFault     `json:"faults" doc:"the first 1000"`
	FaultsAll int               `json:"faults_all" doc:"how many there are"`
	Columns   map[string]string `json:"columns" doc:"what each column of the first sheet was taken for, by its heading; empty: for nothing"`
	Headings  []string          `json:"headings" doc:"of the columns of the first sheet, in their order"`
	Sheets    []ImportSheet     `json:"sheets" doc:"each sheet that is a list, and what its columns were taken for"`
	Named     map[string]string `json:"named" doc:"what the columns hold, as it is kept for the next list of the kind"`
	Meanings  []string          `json:"meanings" doc:"what a column may hold"`
	Notes     []string          `json:"notes" doc:"what the file was taken for, and what was left out"`
	Items     []ImportRow       `json:"items" doc:"what was understood, of the first 1000 rows; of several sheets, as many of each"`
}

// ImportSheet is a sheet that is a list.
type ImportSheet struct {
	Name     string            `json:"name" doc:"empty where the file has one alone"`
	Headings []string          `json:"headings" doc:"of the columns, in their order"`
	Columns  map[string]string `json:"columns" doc:"what each column was taken for, by its heading; empty: for nothing"`
}

// ImportFault is a cell that is not understood, or not allowed.
type ImportFault struct {
	Sheet   string `json:"sheet,omitempty"`
	Row     int    `json:"row"`
	Column  string `json:"column,omitempty" doc:"its heading"`
	Value   string `json:"value,omitempty" doc:"as written"`
	Message string `json:"message"`
}

// ImportRow is a row, and what was understood.
type ImportRow struct {
	Sheet  string            `json:"sheet,omitempty"`
	Row    int               `json:"row"`
	Tag    string            `json:"tag" doc:"of the point; the name of a station"`
	Action string            `json:"action" enum:"add,change,none,fault"`
	Cells  map[string]string `json:"cells" doc:"as written, by heading"`
	Fields anything          `json:"fields" doc:"of the point or station, as a site file has them"`
	Note   string            `json:"note,omitempty" doc:"how its tag came about, where it was not as it is"`
}

// imported makes an Import of what came of a list.
type imported struct {
	Import
	actions map[string]string // by name
	wrong   map[rowOf]bool
}

// rowOf is a row of a sheet.
type rowOf struct {
	sheet string
	row   int
}

// newImport counts what came of a list of entities of a kind.
func newImport(kind site.Kind, faults []sheet.Fault, changes []site.Change) *imported {
	i := &imported{Import: Import{Faults: []ImportFault{}, FaultsAll: len(faults), Items: []ImportRow{}}, actions: map[string]string{}, wrong: map[rowOf]bool{}}
	for _, c := range changes {
		switch {
		case c.Kind() != kind:
		case c.Action() == site.Add:
			i.actions[c.Name()] = "add"
			i.Added++
		default:
			i.actions[c.Name()] = "change"
			i.Changed++
		}
	}
	for _, f := range faults {
		i.wrong[rowOf{f.Sheet, f.Row}] = true
	}
	for _, f := range faults[:min(len(faults), mostFaults)] {
		i.Faults = append(i.Faults, ImportFault(f))
	}
	return i
}

// list says what the columns were taken for, of what they may hold.
func (i *imported) list(columns []sheet.Columns, meanings, notes []string) {
	i.Meanings, i.Notes, i.Named = meanings, append([]string{}, notes...), sheet.NamedOf(columns)
	for n, s := range columns {
		if n > 0 && columns[n-1].Sheet == s.Sheet { // several tables in one sheet
			of := &i.Sheets[len(i.Sheets)-1]
			for _, c := range s.Columns {
				if _, known := of.Columns[c.Heading]; c.Heading != "" && !known {
					of.Headings = append(of.Headings, c.Heading)
					of.Columns[c.Heading] = strings.TrimSuffix(c.Field, sheet.Nothing)
				}
			}
			continue
		}
		of := ImportSheet{Name: s.Sheet, Headings: append([]string{}, s.Headings()...), Columns: map[string]string{}}
		for _, c := range s.Columns {
			if _, twice := of.Columns[c.Heading]; c.Heading != "" && !twice {
				of.Columns[c.Heading] = strings.TrimSuffix(c.Field, sheet.Nothing)
			}
		}
		i.Sheets = append(i.Sheets, of)
	}
	i.Headings, i.Columns = i.Sheets[0].Headings, i.Sheets[0].Columns
}

// rows adds those that are shown, of n; sheet tells of which sheet one is, row makes it.
func (i *imported) rows(n int, sheet func(int) string, row func(int) ImportRow) {
	if i.Rows = n; i.FaultsAll == 0 {
		i.Unchanged = n - i.Added - i.Changed
	}
	most, shown := mostRows/len(i.Sheets), map[string]int{}
	for k := range n {
		if shown[sheet(k)]++; shown[sheet(k)] > most {
			continue
		}
		r := row(k)
		if r.Action = cmp.Or(i.actions[r.Tag], "none"); i.wrong[rowOf{r.Sheet, r.Row}] {
			r.Action = "fault"
		}
		i.Items = append(i.Items, r)
	}
}

// namedColumns reads what columns hold, of what they can hold.
func namedColumns(text string, meanings []string) (sheet.Named, error) {
	named, err := sheet.ReadNamed(text, meanings)
	if err != nil {
		return nil, fail(http.StatusBadRequest, "columns: %s", err)
	}
	return named, nil
}

// defaultsOf reads the fields of rows that say nothing of them.
func defaultsOf(text string) (map[string]any, error) {
	if text == "" {
		return nil, nil
	}
	defaults := map[string]any{}
	if err := yaml.Unmarshal([]byte(text), &defaults); err != nil {
		return nil, fail(http.StatusBadRequest, "defaults: %s; write {type: uint16}", err)
	}
	return defaults, nil
}
