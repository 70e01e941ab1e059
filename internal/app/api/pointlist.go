package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"
	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/pointlist"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/store"
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
	Columns   map[string]string `json:"columns" doc:"what each column was taken for, by its heading; empty: for nothing"`
	Headings  []string          `json:"headings" doc:"of the columns, in their order"`
	Notes     []string          `json:"notes" doc:"what the file was taken for, and what was left out"`
	Items     []ImportRow       `json:"items" doc:"what was understood, of the first 1000 rows"`
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

var importQuery = []parameter{
	{name: "station", doc: "of rows that name none"}, {name: "prefix", doc: "put before each tag"},
	{name: "columns", doc: "what columns hold: by hand, tag=Signal,address=C,unit=5 (a heading, letter or number), or the name under which that is kept"},
	{name: "notation", doc: "how plain numbers of addresses count, where the list does not show it and the station has another", is: choice(site.Notations[:]...)},
	{name: "defaults", doc: "fields of rows that say nothing of them: {type: uint16, poll_group: slow}"},
	{name: "force", doc: "true: take back what was changed since the list was exported", is: truth},
	{name: "dry_run", doc: "true: say what would change", is: truth},
}

// importing is a list that is to be taken over, and what came of it.
type importing struct {
	book    sheet.Book
	list    pointlist.List
	faults  []pointlist.Fault
	changes []site.Change
	left    *site.Site
}

// importPoints takes over a list of points, or says what would come of it.
func (s *Server) importPoints(c *gin.Context) error {
	dry, err := flag(c, "dry_run")
	if err != nil {
		return err
	}
	i, err := s.takeList(c, dry)
	if err != nil {
		return err
	}
	out := newImport(i.list, i.faults, i.changes)
	out.Proposal = proposedAs(c)
	if out.Applied = !dry && len(i.faults) == 0 && out.Proposal == 0; out.Applied {
		for _, w := range i.left.Warnings(i.changes) {
			c.Writer.Header().Add(warningField, w.Error())
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// markedPoints answers with a copy of a list in which its faults are marked; nothing is taken over.
func (s *Server) markedPoints(c *gin.Context) error {
	i, err := s.takeList(c, true)
	if err != nil {
		return err
	}
	c.Header("Content-Type", spreadsheet)
	c.Header("Content-Disposition", `attachment; filename="marked.xlsx"`)
	err = pointlist.WriteMarked(c.Writer, i.book, i.list.Columns, i.faults)
	if err != nil && c.Writer.Written() {
		panic(http.ErrAbortHandler) // half a file must not pass for a whole one
	}
	return err
}

const spreadsheet = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"

// speaks gives the protocol of a station; of one that is not known, Modbus.
func speaks(now *site.Site) func(station string) site.Protocol {
	return func(station string) site.Protocol {
		if st, known := now.Station(station); known {
			return st.Speaks()
		}
		return site.Modbus
	}
}

// takeList reads the list of a request and takes it over, unless it has faults, or is only to be looked at.
func (s *Server) takeList(c *gin.Context, dry bool) (i importing, err error) {
	force, err := flag(c, "force")
	if err != nil {
		return i, err
	}
	options := pointlist.Options{Station: c.Query("station"), Prefix: c.Query("prefix"), Notation: site.Notation(c.Query("notation")), Speaks: speaks(s.site(c))}
	if options.Notation != "" && !slices.Contains(site.Notations[:], options.Notation) {
		return i, fail(http.StatusBadRequest, "notation=%s: there are %v", options.Notation, site.Notations)
	}
	if options.Columns, err = s.columnsOf(c, c.Query("columns")); err != nil {
		return i, err
	}
	if options.Defaults, err = defaultsOf(c.Query("defaults")); err != nil {
		return i, err
	}
	if _, known := s.site(c).Station(options.Station); options.Station != "" && !known {
		return i, s.missing(c, site.KindStation, options.Station)
	}
	data, err := body(c, sheet.MostBytes)
	if err != nil {
		return i, err
	}
	if i.book, err = sheet.Read(data); err != nil {
		return i, fail(http.StatusBadRequest, "%s", err)
	}
	if i.list, err = pointlist.Read(i.book, options); err != nil {
		return i, fail(http.StatusBadRequest, "%s", err)
	}
	i.faults = i.list.Faults
	i.changes, i.left, err = s.change(c, store.Edit{DryRun: dry || len(i.faults) > 0}, func(d *site.Draft, now *site.Site) {
		if err := i.list.Into(d, now, force); err != nil {
			d.Fail(&site.FieldError{Message: err.Error()})
		}
	})
	var found site.Errors
	if errors.As(err, &found) {
		i.faults, err = append(slices.Clone(i.faults), i.list.Place(found)...), nil
	}
	return i, err
}

func newImport(list pointlist.List, faults []pointlist.Fault, changes []site.Change) Import {
	out := Import{Rows: len(list.Items), Faults: []ImportFault{}, FaultsAll: len(faults), Columns: map[string]string{}, Headings: []string{}, Notes: append([]string{}, list.Notes...), Items: []ImportRow{}}
	actions := map[string]string{}
	for _, c := range changes {
		if c.Kind() != site.KindPoint {
			continue
		}
		if actions[c.Name()] = "change"; c.Action() == site.Add {
			actions[c.Name()] = "add"
			out.Added++
		} else {
			out.Changed++
		}
	}
	if len(faults) == 0 {
		out.Unchanged = out.Rows - out.Added - out.Changed
	}
	type place struct {
		sheet string
		row   int
	}
	wrong := map[place]bool{}
	for _, f := range faults {
		wrong[place{f.Sheet, f.Row}] = true
	}
	for _, f := range faults[:min(len(faults), mostFaults)] {
		out.Faults = append(out.Faults, ImportFault(f))
	}
	for _, col := range list.Columns {
		if _, twice := out.Columns[col.Heading]; col.Heading != "" && !twice {
			out.Columns[col.Heading], out.Headings = col.Field, append(out.Headings, col.Heading)
		}
	}
	for _, i := range list.Items[:min(len(list.Items), mostRows)] {
		row := ImportRow{Sheet: i.Sheet, Row: i.Row, Tag: i.Tag(), Action: "none", Cells: i.Cells(), Fields: i.Fields, Note: i.Made}
		if actions[row.Tag] != "" {
			row.Action = actions[row.Tag]
		}
		if wrong[place{i.Sheet, i.Row}] {
			row.Action = "fault"
		}
		out.Items = append(out.Items, row)
	}
	return out
}

// knownFields checks that columns can hold what they are to.
func knownFields(columns map[string]string, meanings []string) error {
	for field := range columns {
		if !slices.Contains(meanings, field) {
			return fail(http.StatusBadRequest, "columns: %q is nothing that a column holds; there are %s", field, strings.Join(meanings, ", "))
		}
	}
	return nil
}

// byHand reads what columns hold, of what they can hold: tag=Signal,address=C.
func byHand(text string, meanings []string) (map[string]string, error) {
	columns := map[string]string{}
	for part := range strings.SplitSeq(text, ",") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		field, where, ok := strings.Cut(part, "=")
		field, where = strings.TrimSpace(field), strings.TrimSpace(where)
		if !ok || field == "" || where == "" {
			return nil, fail(http.StatusBadRequest, "columns: %q is not FIELD=COLUMN, such as tag=Signal or address=C", part)
		}
		columns[field] = where
	}
	return columns, knownFields(columns, meanings)
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

// exportPoints writes points as a list, which is read back as they were.
func (s *Server) exportPoints(c *gin.Context) error {
	now := s.site(c)
	tags, err := chosen(c, now)
	if err != nil {
		return err
	}
	write, kind := pointlist.WriteCSV, "text/csv; charset=utf-8"
	switch form := c.DefaultQuery("form", "csv"); form {
	case "csv":
	case "json":
		write, kind = pointlist.WriteJSON, "application/json"
	case "xlsx":
		write, kind = pointlist.WriteSpreadsheet, spreadsheet
	default:
		return fail(http.StatusBadRequest, "form=%s: csv, xlsx and json are written", form)
	}
	if n, err := strconv.Atoi(c.Query("skip")); err == nil { // what is none was refused before
		tags = tags[min(n, len(tags)):]
	}
	if n, err := strconv.Atoi(c.Query("limit")); err == nil {
		tags = tags[:min(n, len(tags))]
	}
	if c.Query("form") != "json" { // which is how the sheet of the console looks at them
		if err := s.enter(c, audit.Export, "points", strings.Join(c.QueryArray("tag"), ", ")); err != nil {
			return err
		}
	}
	c.Header("Content-Type", kind)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "points."+c.DefaultQuery("form", "csv")))
	err = write(c.Writer, now, tags)
	if err != nil && c.Writer.Written() {
		panic(http.ErrAbortHandler) // half a list must not pass for a whole one
	}
	return err
}

// chosen are the tags of the patterns that a query names, all without any.
func chosen(c *gin.Context, now *site.Site) (tags []string, err error) {
	patterns := slices.DeleteFunc(slices.Clone(c.QueryArray("tag")), func(p string) bool { return p == "" })
	for _, p := range patterns {
		if _, exact := now.Point(p); !exact && !site.IsPattern(p) {
			return nil, notFound(now, site.KindPoint, p)
		}
	}
	for _, tag := range now.Names(site.KindPoint) {
		if len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, tag) }) {
			tags = append(tags, tag)
		}
	}
	return tags, nil
}
