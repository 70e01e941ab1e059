package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"github.com/gin-gonic/gin"

	"arithmon/internal/commission/probe"
	"arithmon/internal/core/site"
)

// place is where a probe or scan goes.
type place struct {
	link  site.Link
	units []int // of its stations
	name  string
}

// place finds a link of the site, or takes one that is none; one of the site at the same far end stands for it, so that its
// polls pause.
func (s *Server) place(c *gin.Context, name string, at *site.Link) (place, error) {
	var p place
	var ok bool
	now := s.site(c)
	if name != "" {
		p.link, ok = now.Link(name)
	} else if at != nil {
		p.link, ok = at.WithDefaults(), true
		for _, l := range now.Links() {
			if same := l.Transport == p.link.Transport && l.FarEnd() == p.link.FarEnd(); same && l.Enabled {
				name = l.Name
			}
		}
	}
	if l, exists := now.Link(name); exists {
		p.name = l.Name
		for _, st := range now.StationsOf(l.Name) {
			p.units = append(p.units, st.LinkAddress())
		}
	}
	switch {
	case !ok && name == "":
		return p, fail(http.StatusUnprocessableEntity, "say where: a station, a link, or a far end (at)")
	case !ok:
		return p, s.missing(c, site.KindLink, name)
	case at != nil:
		d := site.New().Edit()
		p.link.Name, p.link.Enabled = "here", true
		d.Add(p.link)
		if _, err := d.Changes(); err != nil {
			return p, err
		}
	}
	return p, nil
}

// take runs f while nothing else uses the place.
func (s *Server) take(ctx context.Context, p place, why string, f func(context.Context)) error {
	if p.name == "" {
		f(ctx)
		return nil
	}
	return s.engine.Borrow(ctx, p.name, why, f)
}

// stream writes a line of JSON for everything that is put.
func stream(c *gin.Context) (put func(any)) {
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("Cache-Control", "no-store")
	c.Status(http.StatusOK)
	c.Writer.WriteHeaderNow()
	c.Writer.Flush()
	var mu sync.Mutex
	return func(v any) {
		mu.Lock()
		defer mu.Unlock()
		b, err := json.Marshal(v)
		if err == nil {
			c.Writer.Write(append(b, '\n')) // one who is gone is noticed by the request's context
			c.Writer.Flush()
		}
	}
}

// links are given with the defaults of a new one.
func newAt(at *site.Link) *site.Link {
	if at == nil {
		return nil
	}
	fresh := site.NewLink()
	if at.Timeout == 0 {
		at.Timeout = fresh.Timeout
	}
	if at.Transport == "" {
		at.Transport = fresh.Transport
	}
	if at.Protocol == "" {
		at.Protocol = fresh.Protocol
	}
	return at
}

func (s *Server) probe(c *gin.Context) error {
	request, err := request[ProbeRequest](c)
	if err != nil {
		return err
	}
	to := probe.Target{Unit: 1, Master: site.DefaultMaster}
	if request.Station != "" {
		st, err := s.station(c, request.Station)
		if err != nil {
			return err
		}
		request.Link, to = st.Link, probe.Target{Unit: st.LinkAddress(), Master: st.MasterAddress(), Number: st.Number}
	}
	if request.Unit != nil {
		to.Unit = *request.Unit
	}
	if request.Master != nil {
		to.Master = *request.Master
	}
	where, err := s.place(c, request.Link, newAt(request.At))
	if err != nil {
		return err
	}
	traits := where.link.Protocol.Traits()
	most := traits.MaxAddress
	if to.Unit < 0 || to.Unit > most || to.Master < 0 || to.Master > site.MaxLinkAddress {
		return fail(http.StatusUnprocessableEntity, "%s %d is out of range: 0 to %d", traits.Address, to.Unit, most)
	}
	put := stream(c)
	if err := s.take(c.Request.Context(), where, "a probe has the line", func(ctx context.Context) {
		probe.Probe(ctx, where.link, to, func(stage probe.Stage) {
			if stage.OK && slices.Contains([]string{"unit", "link"}, stage.Name) { // it answered
				s.engine.Found(where.name, to.Unit)
			}
			put(s.newStage(c, stage))
		})
	}); err != nil { // the response has begun, so that this is its last line
		put(Stage{Name: "connect", Text: err.Error()})
	}
	return nil
}

func (s *Server) scan(c *gin.Context) error {
	request, err := request[ScanRequest](c)
	if err != nil {
		return err
	}
	where, err := s.place(c, request.Link, newAt(request.At))
	if err != nil {
		return err
	}
	what := probe.ScanRequest{First: request.First, Last: request.Last, Master: request.Master, Settings: request.Settings, Wait: request.Wait}
	if err := what.Check(where.link.Protocol); err != nil {
		return fail(http.StatusUnprocessableEntity, "%s", err)
	}
	put := stream(c)
	var failed error
	err = s.take(c.Request.Context(), where, "a scan has the line", func(ctx context.Context) {
		failed = probe.Scan(ctx, where.link, what, where.units, func(p probe.Progress) {
			if p.Found != nil {
				s.engine.Found(where.name, p.Found.Unit)
			}
			put(newProgress(p))
		})
	})
	if err = cmp.Or(err, failed); err != nil { // the response has begun, so that this is its last line
		put(Progress{Ended: fmt.Sprint("failed: ", err)})
	}
	return nil
}
