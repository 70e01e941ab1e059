package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
	"arithmon/internal/record/store"
)

// Tied is a station that is made from a template.
type Tied struct {
	Station string            `json:"station"`
	Values  map[string]string `json:"values" doc:"of the template's parameters"`
	Points  int               `json:"points" doc:"how many it has, whoever they are from"`
	Own     int               `json:"own" doc:"fields with a value of their own"`
	LeftOut int               `json:"left_out" doc:"points of the template that it does not have"`
	Added   int               `json:"added" doc:"points that the template does not have"`
	Fault   string            `json:"fault,omitempty" doc:"why nothing can be made of the template with its values"`
}

// Conform says what a station gives up of its own.
type Conform struct {
	Names  []string `json:"names,omitempty" doc:"the station, tags or patterns (default all)"`
	Fields []string `json:"fields,omitempty" doc:"these alone (default all, and points that were left out)"`
	DryRun bool     `json:"dry_run,omitempty" doc:"true: say what would change, and change nothing"`
}

func (s *Server) templateRoutes() []route {
	dry := []parameter{{name: "dry_run", doc: "true: say what would change", is: truth}}
	return []route{
		{"POST", "/api/v1/templates/:name/change", changer, "change some fields of a template, and what follows from it in its stations, in one modification", dry, site.Template{}, ChangeSummary{}, 200, s.changeTemplate},
		{"GET", "/api/v1/templates/:name/stations", viewer, "the stations that are made from a template, and in how much they differ from it", paging, nil, Page[Tied]{}, 200, s.tied},
		{"POST", "/api/v1/stations/:name/template", engineer, "make a template from a station that works, which keeps the tie", nil, tie.Making{}, site.Template{}, 201, s.makeTemplate},
		{"GET", "/api/v1/stations/:name/own", viewerOfPart, "what a station has otherwise than its template", paging, nil, Page[tie.Difference]{}, 200, s.own},
		{"POST", "/api/v1/stations/:name/conform", changerOfPart, "give up what a station has otherwise than its template", nil, Conform{}, ChangeSummary{}, 200, s.conform},
	}
}

// changing makes a modification and answers with what it changes.
func (s *Server) changing(c *gin.Context, edit store.Edit, f func(*site.Draft, *site.Site) error) error {
	var fault error
	changes, left, err := s.change(c, edit, func(d *site.Draft, now *site.Site) {
		if fault = f(d, now); fault != nil {
			d.Fail(&site.FieldError{Message: fault.Error()}) // nothing may change
		}
	})
	if fault != nil {
		return fault
	}
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, summary(c, left, changes, edit.DryRun))
	return nil
}

func (s *Server) changeTemplate(c *gin.Context) error {
	dry, err := flag(c, "dry_run")
	if err != nil {
		return err
	}
	node, err := parse(c)
	if err != nil {
		return err
	}
	edit, err := expected(c, site.KindTemplate)
	if err != nil {
		return err
	}
	edit.DryRun = dry
	return s.changing(c, edit, func(d *site.Draft, now *site.Site) error {
		from, ok := now.Get(site.KindTemplate, name(c))
		if !ok {
			return notFound(now, site.KindTemplate, name(c))
		}
		d.Replace(name(c), form.Decode(site.KindTemplate, node, d, from))
		return nil
	})
}

func (s *Server) tied(c *gin.Context) error {
	now := s.site(c)
	if _, ok := now.Get(site.KindTemplate, name(c)); !ok {
		return s.missing(c, site.KindTemplate, name(c))
	}
	var list []Tied
	for _, st := range now.Stations() {
		if st.Template != name(c) {
			continue
		}
		t := Tied{Station: st.Name, Values: st.Values, Points: now.CountOf(st.Name)}
		differences, err := tie.Own(now, st)
		if err != nil {
			t.Fault = err.Error()
		}
		for _, d := range differences {
			switch d.What {
			case tie.OwnValue:
				t.Own++
			case tie.LeftOut:
				t.LeftOut++
			case tie.Added:
				t.Added++
			}
		}
		list = append(list, t)
	}
	return paged(c, list)
}

// paged answers with a page of a list.
func paged[E any](c *gin.Context, list []E) error {
	page, next, err := part(c, list)
	if err != nil {
		return err
	}
	if page == nil {
		page = []E{}
	}
	c.JSON(http.StatusOK, Page[E]{Items: page, Next: next})
	return nil
}

func (s *Server) makeTemplate(c *gin.Context) error {
	m, err := request[tie.Making](c)
	if err != nil {
		return err
	}
	if m.Station != "" && m.Station != name(c) {
		return fail(http.StatusUnprocessableEntity, "the path names station %q, the document %q", name(c), m.Station)
	}
	m.Station = name(c)
	return s.modify(c, store.Edit{}, http.StatusCreated, func(d *site.Draft, now *site.Site) (site.Entity, error) {
		if _, ok := now.Station(m.Station); !ok {
			return nil, notFound(now, site.KindStation, m.Station)
		}
		t, err := tie.Make(d, now, m)
		if err != nil {
			return nil, fail(http.StatusUnprocessableEntity, "%s", err)
		}
		return t, nil
	})
}

func (s *Server) own(c *gin.Context) error {
	st, err := s.station(c, name(c))
	if err != nil {
		return err
	}
	if st.Template == "" {
		return fail(http.StatusConflict, "station %s is made from no template", st.Name)
	}
	list, err := tie.Own(s.site(c), st)
	if err != nil {
		return fail(http.StatusConflict, "template %s: %s", st.Template, err)
	}
	return paged(c, list)
}

func (s *Server) conform(c *gin.Context) error {
	what, err := request[Conform](c)
	if err != nil {
		return err
	}
	return s.changing(c, store.Edit{DryRun: what.DryRun}, func(d *site.Draft, now *site.Site) error {
		st, ok := now.Station(name(c))
		switch {
		case !ok:
			return notFound(now, site.KindStation, name(c))
		case st.Template == "":
			return fail(http.StatusConflict, "station %s is made from no template", st.Name)
		}
		if err := tie.Take(d, st, what.Names, what.Fields); err != nil {
			return fail(http.StatusConflict, "template %s: %s", st.Template, err)
		}
		return nil
	})
}

// fitting names the templates for a device, by what it says of itself.
func (s *Server) fitting(c *gin.Context, says string) (names []string) {
	now := s.site(c)
	for _, name := range now.Names(site.KindTemplate) {
		if t, _ := now.Get(site.KindTemplate, name); t.(site.Template).Identified(says) {
			names = append(names, name)
		}
	}
	return names
}
