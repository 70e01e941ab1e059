package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/pointlist"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/store"
)

var importQuery = []parameter{
	{name: "station", doc: "of rows that name none"}, {name: "prefix", doc: "put before each tag; {station} in it is the name of the station"},
	{name: "columns", doc: "what columns hold: by hand, tag=Signal,address=C,unit=5 (a heading, letter or number; Pumps!tag=B for one sheet; Remarks= for a column of which nothing is to be made; a part with a comma stands in quotes), or the name under which that is kept"},
	{name: "notation", doc: "how plain numbers of addresses count, where the list does not show it and the station has another", is: choice(site.Notations[:]...)},
	{name: "defaults", doc: "fields of rows that say nothing of them: {type: uint16, poll_group: slow}"},
	{name: "force", doc: "true: take back what was changed since the list was exported", is: truth},
	{name: "dry_run", doc: "true: say what would change", is: truth},
}

// importing is a list that is to be taken over, and what came of it.
type importing struct {
	book    sheet.Book
	list    pointlist.List
	faults  []sheet.Fault
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
	out := newImport(site.KindPoint, i.faults, i.changes)
	out.list(i.list.Columns, pointlist.Meanings(), i.list.Notes)
	out.rows(len(i.list.Items), func(k int) string { return i.list.Items[k].Sheet }, func(k int) ImportRow {
		item := i.list.Items[k]
		return ImportRow{Sheet: item.Sheet, Row: item.Row, Tag: item.Tag(), Cells: item.Cells(), Fields: item.Fields, Note: item.Made}
	})
	out.Proposal = proposedAs(c)
	if out.Applied = !dry && len(i.faults) == 0 && out.Proposal == 0; out.Applied {
		for _, w := range i.left.Warnings(i.changes) {
			c.Writer.Header().Add(warningField, w.Error())
		}
	}
	c.JSON(http.StatusOK, out.Import)
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

// counts gives how addresses of a station count; "" where that is not known.
func counts(now *site.Site) func(station string) site.Notation {
	return func(station string) site.Notation {
		st, _ := now.Station(station)
		return st.Notation
	}
}

// called gives the station that a text names, whatever the size of its letters where it is the only one so called; "" for none.
func called(now *site.Site) func(text string) string {
	alike := map[string][]string{}
	for _, name := range now.Names(site.KindStation) {
		alike[strings.ToLower(name)] = append(alike[strings.ToLower(name)], name)
	}
	return func(text string) string {
		if _, known := now.Station(text); known {
			return text
		}
		if names := alike[strings.ToLower(text)]; len(names) == 1 {
			return names[0]
		}
		return ""
	}
}

// takeList reads the list of a request and takes it over, unless it has faults, or is only to be looked at.
func (s *Server) takeList(c *gin.Context, dry bool) (i importing, err error) {
	force, err := flag(c, "force")
	if err != nil {
		return i, err
	}
	options := pointlist.Options{Station: c.Query("station"), Prefix: c.Query("prefix"), Notation: site.Notation(c.Query("notation")), Speaks: speaks(s.site(c)), Counts: counts(s.site(c)), Called: called(s.site(c))}
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
	i.book = pointlist.Parted(i.book)
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
