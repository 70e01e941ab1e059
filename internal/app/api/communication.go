package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/dissection"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/store"
)

var trafficQuery = []parameter{
	{name: "link", doc: "only this link"}, {name: "station", doc: "only this station"}, {name: "function", doc: "only this function code", is: count(255)},
	{name: "wrong", doc: "true: only what is wrong, and refusals", is: truth}, {name: "after", doc: "only frames of a higher number", is: natural}, {name: "limit", doc: "the newest so many (default 200)", is: count(5000)},
	{name: "fields", doc: "true: with the fields of each frame", is: truth},
}

func (s *Server) findings(c *gin.Context) error {
	subject := c.Query("subject")
	list, watching, taken := s.engine.Findings(), s.engine.Watching(), s.engine.Mendings()
	now := s.site(c)
	if len(principal(c).Only) > 0 {
		seen := func(kind site.Kind, name string) bool { return lineage(now, kind, name) != nil }
		list = slices.DeleteFunc(list, func(f diagnose.Finding) bool { return !seen(f.Kind, f.Subject) })
		taken = slices.DeleteFunc(taken, func(m engine.Mending) bool { return !seen(m.Finding.Kind, m.Finding.Subject) })
		watching = slices.DeleteFunc(watching, func(w diagnose.Watch) bool { return !seen(site.KindStation, w.Station) })
	}
	if subject != "" {
		if err := known(now, subject, site.KindLink, site.KindStation, site.KindPoint); err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(f diagnose.Finding) bool { return !concerns(now, f, subject) })
		taken = slices.DeleteFunc(taken, func(m engine.Mending) bool { return !concerns(now, m.Finding, subject) })
		watching = slices.DeleteFunc(watching, func(w diagnose.Watch) bool {
			return !concerns(now, diagnose.Finding{Kind: site.KindStation, Subject: w.Station}, subject)
		})
	}
	page, next, err := part(c, list)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Findings{each(page, newFinding), each(watching, newWatch), each(taken, newMending), next})
	return nil
}

// Take says which step of a finding is to be taken.
type Take struct {
	Code    diagnose.Code `json:"code" doc:"of the finding"`
	Subject string        `json:"subject" doc:"a link, a station or a tag"`
	Step    int           `json:"step,omitempty" doc:"number of the step, from 1 (default the first that is a change of settings)"`
	DryRun  bool          `json:"dry_run,omitempty" doc:"true: say what would change, and change nothing"`
}

// Taken is what a step changed.
type Taken struct {
	Step    Step          `json:"step"`
	Summary ChangeSummary `json:"summary"`
}

// takeStep makes the changes of settings of a step of a finding, all together.
func (s *Server) takeStep(c *gin.Context) error {
	node, err := parse(c)
	if err != nil {
		return err
	}
	var t, none Take
	if faults := node.Decode(&t, none); faults != nil {
		return faults
	}
	f, step, err := s.stepOf(t)
	if err != nil {
		return err
	}
	var fault error
	changes, left, err := s.change(c, store.Edit{DryRun: t.DryRun}, func(d *site.Draft, now *site.Site) {
		for _, change := range step.Changes {
			from, ok := now.Get(change.Kind, change.Name)
			if !ok {
				fault = notFound(now, change.Kind, change.Name)
				d.Fail(&site.FieldError{Message: fault.Error()}) // nothing may change
				return
			}
			b, err := json.Marshal(change.Fields)
			if err != nil {
				panic(err) // they are numbers and texts of this program
			}
			fields, err := document.Parse(b)
			if err != nil {
				panic(err)
			}
			d.Replace(change.Name, form.Decode(change.Kind, fields, d, from))
		}
	})
	if fault != nil {
		return fault
	}
	if err != nil {
		return err
	}
	if !t.DryRun && len(changes) > 0 {
		s.engine.Took(f, step.Text, s.recorded(c.Request.Context(), changes[0]))
	}
	c.JSON(http.StatusOK, Taken{newStep(step), summary(c, left, changes, t.DryRun)})
	return nil
}

// recorded is the number of the first change of those that were made together with the latest one of an entity, 0 when that cannot be read.
func (s *Server) recorded(ctx context.Context, change site.Change) int64 {
	list, err := s.store.Changes(ctx, change.Kind(), change.Name(), 0, 1)
	if err != nil || len(list) == 0 {
		return 0
	}
	return list[0].Batch
}

// stepOf is a step of a finding that stands, which is a change of settings: that of a number, from 1, or the first there is.
func (s *Server) stepOf(t Take) (diagnose.Finding, diagnose.Step, error) {
	for _, f := range s.engine.Findings() {
		if f.Code != t.Code || f.Subject != t.Subject {
			continue
		}
		number := t.Step
		if number == 0 {
			number = 1 + slices.IndexFunc(f.Next, func(s diagnose.Step) bool { return len(s.Changes) > 0 })
		}
		switch {
		case number == 0:
			return f, diagnose.Step{}, fail(http.StatusUnprocessableEntity, "%s of %s: none of its steps is a change of settings", t.Code, t.Subject)
		case number < 0 || number > len(f.Next):
			return f, diagnose.Step{}, fail(http.StatusBadRequest, "%s of %s has no step %d; its steps are 1 to %d", t.Code, t.Subject, number, len(f.Next))
		case len(f.Next[number-1].Changes) == 0:
			return f, diagnose.Step{}, fail(http.StatusBadRequest, "step %d of %s of %s is no change of settings: %s", number, t.Code, t.Subject, f.Next[number-1].Text)
		}
		return f, f.Next[number-1], nil
	}
	return diagnose.Finding{}, diagnose.Step{}, fail(http.StatusNotFound, "there is no finding %s of %s now; arithmon findings shows what there is", t.Code, t.Subject)
}

// concerns reports whether a finding helps with what is named subject: it is about it, about something on it, or about what it is
// on.
func concerns(now *site.Site, f diagnose.Finding, subject string) bool {
	for _, name := range lineage(now, f.Kind, f.Subject) {
		if name == subject {
			return true
		}
	}
	for _, kind := range []site.Kind{site.KindStation, site.KindPoint} {
		if lineage(now, kind, subject)[f.Kind] == f.Subject {
			return true
		}
	}
	return false
}

// lineage is a link, a station with its link, or a point with both, by kind; nil of what is not there.
func lineage(now *site.Site, kind site.Kind, name string) map[site.Kind]string {
	of := map[site.Kind]string{kind: name}
	if _, known := now.Link(name); kind == site.KindLink && !known || kind == diagnose.OfService {
		return nil
	}
	if kind == site.KindPoint {
		p, known := now.Point(name)
		if !known {
			return nil
		}
		kind, name = site.KindStation, p.Station
		of[kind] = name
	}
	if kind == site.KindStation {
		st, known := now.Station(name)
		if !known {
			return nil
		}
		of[site.KindLink] = st.Link
	}
	return of
}

func (s *Server) resetFigures(c *gin.Context) error {
	s.engine.ResetFigures()
	c.Status(http.StatusNoContent)
	return nil
}

// filter reads which frames are wanted.
func (s *Server) filter(c *gin.Context, limit int) (traffic.Filter, error) {
	f := traffic.Filter{Link: c.Query("link"), Station: c.Query("station"), Limit: limit}
	var err error
	now := s.site(c)
	if f.Link != "" {
		err = known(now, f.Link, site.KindLink)
	}
	if f.Station != "" && err == nil {
		err = known(now, f.Station, site.KindStation)
	}
	if err != nil {
		of := traffic.Filter{Link: f.Link, Station: f.Station, Limit: 1}
		if frames, _ := s.engine.Traffic().Frames(of); len(frames) == 0 { // those of what was removed are kept for a while
			return f, err
		}
	}
	if f.Wrong, err = flag(c, "wrong"); err != nil {
		return f, err
	}
	for _, n := range []struct {
		name        string
		to          *int
		least, most int
	}{{"function", &f.Function, 1, 255}, {"limit", &f.Limit, 1, 5000}} {
		text := c.Query(n.name)
		if text == "" {
			continue
		}
		if *n.to, err = strconv.Atoi(text); err != nil || *n.to < n.least || *n.to > n.most {
			return f, fail(http.StatusBadRequest, "%s=%s: %d to %d is possible", n.name, text, n.least, n.most)
		}
	}
	if text := c.Query("after"); text != "" {
		if f.After, err = strconv.ParseUint(text, 10, 64); err != nil {
			return f, fail(http.StatusBadRequest, "after=%s: the number of a frame is needed", text)
		}
	}
	return f, nil
}

func (s *Server) traffic(c *gin.Context) error {
	q, err := s.filter(c, 200)
	if err != nil {
		return err
	}
	fields, err := flag(c, "fields")
	if err != nil {
		return err
	}
	frames, last := s.engine.Traffic().Frames(q)
	out := TrafficPage{Frames: make([]TrafficFrame, len(frames)), Last: last}
	var reader traffic.Reader
	points := tagged{site: s.site(c), of: map[string]map[spot][]string{}}
	for i := range frames {
		f := &frames[i]
		d := reader.Dissect(f)
		shown := TrafficFrame{Seq: f.Seq, Time: f.Time.UTC(), Link: f.Link, Station: f.Station, Unit: f.Unit, Kind: f.Kind,
			AfterMS: float64(f.After.Round(10*time.Microsecond)) / float64(time.Millisecond), Bytes: spaced(f.Data), Summary: d.Summary, Problem: f.Text}
		if fields {
			shown.Fields = points.fields(f.Station, d.Fields)
		}
		out.Frames[i] = shown
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// spot is an address without its part.
type spot struct {
	space  site.Space
	offset int
}

// tagged finds the points of stations by where they are.
type tagged struct {
	site *site.Site
	of   map[string]map[spot][]string
}

// most is how many tags a field names.
const mostTags = 8

// fields gives fields of a frame with the tags of what they are about.
func (t tagged) fields(station string, fields []dissection.Field) []FrameField {
	list := make([]FrameField, len(fields))
	for i, f := range fields {
		list[i] = FrameField{Name: f.Name, Value: f.Value, At: f.At, Bytes: f.Bytes}
		for n := range f.Of.Count {
			for _, tag := range t.spots(station)[spot{site.Space(f.Of.Space), f.Of.From + n}] {
				if len(list[i].Tags) < mostTags && !slices.Contains(list[i].Tags, tag) {
					list[i].Tags = append(list[i].Tags, tag)
				}
			}
		}
	}
	return list
}

// spots are the points of a station by every address that they take.
func (t tagged) spots(station string) map[spot][]string {
	if known, ok := t.of[station]; ok {
		return known
	}
	spots := map[spot][]string{}
	st, _ := t.site.Station(station)
	for _, p := range t.site.SharedPointsOf(station) {
		width := 1
		if p.Address.Space.Registers() {
			width = max(1, p.Layout(st).Words())
		}
		for n := range width {
			at := spot{p.Address.Space, int(p.Address.Offset) + n}
			spots[at] = append(spots[at], p.Tag)
		}
	}
	t.of[station] = spots
	return spots
}

// spaced writes bytes in hex.
func spaced(b []byte) string {
	var s strings.Builder
	for i, c := range b {
		if i > 0 {
			s.WriteByte(' ')
		}
		s.WriteString(strings.ToUpper(hex.EncodeToString([]byte{c})))
	}
	return s.String()
}

func (s *Server) capture(c *gin.Context) error {
	q, err := s.filter(c, 1<<30)
	if err != nil {
		return err
	}
	if err := s.enter(c, audit.Export, "traffic", strings.TrimSpace(q.Link+" "+q.Station)); err != nil {
		return err
	}
	frames, _ := s.engine.Traffic().Frames(q)
	c.Header("Content-Type", "application/x-pcapng")
	c.Header("Content-Disposition", `attachment; filename="traffic.pcapng"`)
	w := traffic.NewWriter(c.Writer)
	for _, f := range frames {
		if err := w.Write(f); err != nil {
			return nil // the one who asked is gone
		}
	}
	w.Flush() // likewise
	return nil
}

func (s *Server) recording(c *gin.Context) error {
	c.JSON(http.StatusOK, Recording(s.engine.Traffic().Recording()))
	return nil
}

func (s *Server) record(c *gin.Context) error {
	request, err := request[RecordRequest](c)
	if err != nil {
		return err
	}
	if request.LimitMB == 0 {
		request.LimitMB = 100
	}
	if request.LimitMB < 1 || request.LimitMB > 10000 {
		return fail(http.StatusUnprocessableEntity, "limit_mb: %d is out of range: 1 to 10000", request.LimitMB)
	}
	if request.Link != "" {
		if err := s.exists(c, site.KindLink, request.Link); err != nil {
			return err
		}
	}
	dir := filepath.Join(s.dir, "traffic")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	path := filepath.Join(dir, time.Now().UTC().Format("20060102-150405.000")+".pcapng")
	if err := s.engine.Traffic().Record(path, request.Link, int64(request.LimitMB)<<20); err != nil {
		if errors.Is(err, traffic.ErrRecording) {
			return fail(http.StatusConflict, "%s", err)
		}
		return err
	}
	if err := s.enter(c, audit.Recording, filepath.Base(path), "begun "+request.Link); err != nil {
		return err
	}
	c.JSON(http.StatusCreated, Recording(s.engine.Traffic().Recording()))
	return nil
}

func (s *Server) stopRecording(c *gin.Context) error {
	r := s.engine.Traffic().StopRecording()
	if err := s.enter(c, audit.Recording, filepath.Base(r.File), "ended"); err != nil {
		return err
	}
	c.JSON(http.StatusOK, Recording(r))
	return nil
}

func (s *Server) recordingFile(c *gin.Context) error {
	r := s.engine.Traffic().Recording()
	if r.File == "" {
		return fail(http.StatusNotFound, "nothing was recorded since the service started")
	}
	if err := s.enter(c, audit.Export, "recording", filepath.Base(r.File)); err != nil {
		return err
	}
	c.Header("Content-Type", "application/x-pcapng")
	c.FileAttachment(r.File, filepath.Base(r.File))
	return nil
}
