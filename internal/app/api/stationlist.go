package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/exchange/stationlist"
	"arithmon/internal/record/store"
)

var stationsQuery = []parameter{
	{name: "link", doc: "of rows that name none"}, {name: "template", doc: "of rows that name none"},
	{name: "columns", doc: "what columns hold, by hand: name=Device,unit=C (a heading, letter or number)"},
	{name: "defaults", doc: "fields of rows that say nothing of them: {poll: 5s}"},
	{name: "values", doc: "values of the template's parameters, of rows that say nothing of them: {base: 100}"},
	{name: "dry_run", doc: "true: say what would change", is: truth},
}

// importStations takes over a list of stations, or says what would come of it.
func (s *Server) importStations(c *gin.Context) error {
	dry, err := flag(c, "dry_run")
	if err != nil {
		return err
	}
	o := stationlist.Options{Link: c.Query("link"), Template: c.Query("template")}
	if o.Columns, err = byHand(c.Query("columns"), stationlist.Meanings()); err != nil {
		return err
	}
	if o.Defaults, err = defaultsOf(c.Query("defaults")); err != nil {
		return err
	}
	values, err := defaultsOf(c.Query("values"))
	if err != nil {
		return err
	}
	o.Values = map[string]string{}
	for name, v := range values {
		o.Values[name] = fmt.Sprint(v)
	}
	for kind, name := range map[site.Kind]string{site.KindLink: o.Link, site.KindTemplate: o.Template} {
		if _, known := s.site(c).Get(kind, name); name != "" && !known {
			return s.missing(c, kind, name)
		}
	}
	data, err := body(c, sheet.MostBytes)
	if err != nil {
		return err
	}
	book, err := sheet.Read(data)
	if err != nil {
		return fail(http.StatusBadRequest, "%s", err)
	}
	list, err := stationlist.Read(book, o)
	if err != nil {
		return fail(http.StatusBadRequest, "%s", err)
	}
	changes, left, err := s.change(c, store.Edit{DryRun: dry || len(list.Faults) > 0}, func(d *site.Draft, now *site.Site) {
		if err := list.Into(d, now); err != nil {
			d.Fail(&site.FieldError{Message: err.Error()})
		}
	})
	faults := list.Faults
	var found site.Errors
	if errors.As(err, &found) {
		faults, err = append(slices.Clone(faults), list.Place(found)...), nil
	}
	if err != nil {
		return err
	}
	out := newStationImport(&list, faults, changes)
	out.Proposal = proposedAs(c)
	if out.Applied = !dry && len(faults) == 0 && out.Proposal == 0; out.Applied {
		for _, w := range left.Warnings(changes) {
			c.Writer.Header().Add(warningField, w.Error())
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

func newStationImport(list *stationlist.List, faults []stationlist.Fault, changes []site.Change) Import {
	out := Import{Rows: len(list.Items), Faults: []ImportFault{}, FaultsAll: len(faults), Columns: map[string]string{}, Headings: []string{}, Notes: append([]string{}, list.Notes...), Items: []ImportRow{}}
	actions := map[string]string{}
	more := map[site.Kind]int{}
	for _, c := range changes {
		switch {
		case c.Kind() != site.KindStation:
			if c.Action() == site.Add {
				more[c.Kind()]++
			}
		case c.Action() == site.Add:
			actions[c.Name()] = "add"
			out.Added++
		default:
			actions[c.Name()] = "change"
			out.Changed++
		}
	}
	if len(faults) == 0 {
		out.Unchanged = out.Rows - out.Added - out.Changed
	}
	for _, kind := range []site.Kind{site.KindLink, site.KindPoint} {
		if n := more[kind]; n > 0 {
			out.Notes = append(out.Notes, fmt.Sprintf("with them come %d %s", n, site.Plural(kind)))
		}
	}
	if unused := list.Unused(); len(unused) > 0 {
		out.Notes = append(out.Notes, "columns that nothing is made of: "+strings.Join(unused, ", "))
	}
	for _, f := range faults[:min(len(faults), mostFaults)] {
		out.Faults = append(out.Faults, ImportFault(f))
	}
	for _, col := range list.Columns {
		if _, twice := out.Columns[col.Heading]; col.Heading != "" && !twice {
			out.Columns[col.Heading], out.Headings = list.Taken(col), append(out.Headings, col.Heading)
		}
	}
	for _, i := range list.Items[:min(len(list.Items), mostRows)] {
		row := ImportRow{Sheet: i.Sheet, Row: i.Row, Tag: i.Name(), Action: "none", Cells: i.Cells, Fields: i.Fields}
		if actions[row.Tag] != "" {
			row.Action = actions[row.Tag]
		}
		if slices.ContainsFunc(faults, func(f stationlist.Fault) bool { return f.Sheet == i.Sheet && f.Row == i.Row }) {
			row.Action = "fault"
		}
		out.Items = append(out.Items, row)
	}
	return out
}
