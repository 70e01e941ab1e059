package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/exchange/stationlist"
	"arithmon/internal/record/store"
)

var stationsQuery = []parameter{
	{name: "link", doc: "of rows that name none"}, {name: "template", doc: "of rows that name none"},
	{name: "columns", doc: "what columns hold, by hand: name=Device,unit=C (a heading, letter or number; values.base=D for a parameter of the template; Pumps!unit=B for one sheet; Remarks= for a column of which nothing is to be made; a part with a comma stands in quotes)"},
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
	if o.Columns, err = namedColumns(c.Query("columns"), stationlist.Meanings()); err != nil {
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
	out := newImport(site.KindStation, faults, changes)
	out.list(list.Taken(), list.Meanings(), append(list.Notes, list.Unused()...))
	out.rows(len(list.Items), func(k int) string { return list.Items[k].Sheet }, func(k int) ImportRow {
		item := list.Items[k]
		return ImportRow{Sheet: item.Sheet, Row: item.Row, Tag: item.Name(), Cells: item.Cells, Fields: item.Fields}
	})
	for _, kind := range []site.Kind{site.KindLink, site.KindPoint} {
		if n := added(changes, kind); n > 0 {
			out.Notes = append(out.Notes, fmt.Sprintf("with them come %d %s", n, site.Plural(kind)))
		}
	}
	out.Proposal = proposedAs(c)
	if out.Applied = !dry && len(faults) == 0 && out.Proposal == 0; out.Applied {
		for _, w := range left.Warnings(changes) {
			c.Writer.Header().Add(warningField, w.Error())
		}
	}
	c.JSON(http.StatusOK, out.Import)
	return nil
}

// added counts the entities of a kind that changes add.
func added(changes []site.Change, kind site.Kind) (n int) {
	for _, c := range changes {
		if c.Kind() == kind && c.Action() == site.Add {
			n++
		}
	}
	return n
}
