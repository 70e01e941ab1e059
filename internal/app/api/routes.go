package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/commission/probe"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/live/control"
	"arithmon/internal/record/store"
	"arithmon/internal/rig"
)

// route is one thing the API does.
type route struct {
	method, path string
	summary      string
	query        []parameter
	body         any // an example of the type, nil for none
	answer       any
	status       int
	handle       func(*gin.Context) error
}

// parameter is one of a route's query.
type parameter struct{ name, doc string }

const (
	maxBody  = 1 << 20
	whoField = "Arithmon-Who" // header: who asks, in the record until there are accounts
	// header of an answer: what was done is allowed and yet seldom meant; one for each warning
	warningField = "Arithmon-Warning"
)

var paging = []parameter{{"limit", "most items of a page, 1 to 10000 (default 1000)"}, {"cursor", "next of the page before"}}

func (s *Server) routes() []route {
	return []route{
		{"GET", "/healthz", "whether the service runs", nil, nil, Health{}, 200, s.health},
		{"GET", "/api/v1/openapi.json", "this description", nil, nil, nil, 200, s.openapi},
		{"GET", "/api/v1/status", "state and statistics of all links and stations", nil, nil, Status{}, 200, s.status},

		{"GET", "/api/v1/links", "all links", nil, nil, Page[site.Link]{}, 200, s.listLinks},
		{"POST", "/api/v1/links", "add a link", nil, site.Link{}, site.Link{}, 201, s.add(site.KindLink)},
		{"GET", "/api/v1/links/:name", "one link", nil, nil, site.Link{}, 200, s.show(site.KindLink)},
		{"PUT", "/api/v1/links/:name", "replace a link, or add it", nil, site.Link{}, site.Link{}, 200, s.put(site.KindLink)},
		{"PATCH", "/api/v1/links/:name", "change some fields of a link; null gives the default", nil, site.Link{}, site.Link{}, 200, s.patch(site.KindLink)},
		{"DELETE", "/api/v1/links/:name", "remove a link", cascade, nil, ChangeSummary{}, 200, s.remove(site.KindLink)},
		{"POST", "/api/v1/links/:name/test", "find out whether the far end takes a connection", nil, nil, Test{}, 200, s.testLink},

		{"POST", "/api/v1/links/:name/copy", "duplicate a link; the copy is disabled and has no serial port until given one", nil, Copy{}, site.Link{}, 201, s.copyLink},

		{"GET", "/api/v1/ports", "serial ports of the service's machine", nil, nil, Ports{}, 200, s.ports},

		{"GET", "/api/v1/stations", "all stations", nil, nil, Page[site.Station]{}, 200, s.listStations},
		{"POST", "/api/v1/stations", "add a station", nil, site.Station{}, site.Station{}, 201, s.add(site.KindStation)},
		{"GET", "/api/v1/stations/:name", "one station", nil, nil, site.Station{}, 200, s.show(site.KindStation)},
		{"PUT", "/api/v1/stations/:name", "replace a station, or add it", nil, site.Station{}, site.Station{}, 200, s.put(site.KindStation)},
		{"PATCH", "/api/v1/stations/:name", "change some fields of a station; null gives the default", nil, site.Station{}, site.Station{}, 200, s.patch(site.KindStation)},
		{"DELETE", "/api/v1/stations/:name", "remove a station", cascade, nil, ChangeSummary{}, 200, s.remove(site.KindStation)},
		{"POST", "/api/v1/stations/:name/test", "find out whether the station answers", nil, nil, Test{}, 200, s.testStation},
		{"GET", "/api/v1/stations/:name/read", "read addresses that no point needs to have",
			[]parameter{{"range", "hr:0..9, 40001..40010 or one address"}, {"type", "data type of the values, such as float32 (default single registers)"}, {"order", "byte order (default the station's)"}, {"length", "string: characters"}}, nil, Page[RawReading]{}, 200, s.readRange},
		{"POST", "/api/v1/stations/:name/write", "write to addresses that no point needs to have", nil, RangeWrite{}, RangeResult{}, 200, s.writeRange},
		{"POST", "/api/v1/stations/:name/refresh", "ask a station everything at once, what it refused included", nil, nil, nil, 204, s.refresh},
		{"POST", "/api/v1/stations/:name/ask", "run a protocol action on a station; it is recorded as writes are", nil, ActionRequest{}, ActionResult{}, 200, s.ask},
		{"POST", "/api/v1/stations/:name/profile", "make points of a DNP3 XML device profile, all or none",
			[]parameter{{"prefix", "what tags begin with (default the station's name and /)"}, {"dry_run", "true: say what would change"}, {"file", "its name, for messages"}}, nil, ProfileResult{}, 200, s.profile},
		{"GET", "/api/v1/actions", "what stations can be asked to do", nil, nil, Actions{}, 200, s.actions},
		{"POST", "/api/v1/stations/:name/copy", "duplicate a station, with its points when their tags change; the copy is disabled", nil, site.StationCopy{}, site.Station{}, 201, s.copyStation},
		{"GET", "/api/v1/address", "what a typed address means",
			[]parameter{{"text", "as typed"}, {"station", "whose notation holds"}, {"notation", "when there is no station yet"}, {"table", "co, di, ir or hr, for numbers that do not name one"}}, nil, AddressMeaning{}, 200, s.address},

		{"GET", "/api/v1/points", "points by tag", append([]parameter{{"tag", "tag or pattern, * for any characters"}, {"station", "name of a station"}}, paging...), nil, Page[Point]{}, 200, s.listPoints},
		{"POST", "/api/v1/points", "add a point", nil, sitefile.PointEntry{}, Point{}, 201, s.add(site.KindPoint)},
		{"GET", "/api/v1/points/*name", "one point; its tag may hold slashes", nil, nil, Point{}, 200, s.show(site.KindPoint)},
		{"PUT", "/api/v1/points/*name", "replace a point, or add it", nil, sitefile.PointEntry{}, Point{}, 200, s.put(site.KindPoint)},
		{"PATCH", "/api/v1/points/*name", "change some fields of a point; null gives the default", nil, sitefile.PointEntry{}, Point{}, 200, s.patch(site.KindPoint)},
		{"DELETE", "/api/v1/points/*name", "remove a point", nil, nil, ChangeSummary{}, 200, s.remove(site.KindPoint)},

		{"GET", "/api/v1/readings", "newest readings by tag", append([]parameter{{"tag", "tag or pattern; may be repeated"}}, paging...), nil, Page[Reading]{}, 200, s.readings},
		{"GET", "/api/v1/live", "WebSocket: readings as they change; send {\"tags\": [...]} to follow others", []parameter{{"tag", "tag or pattern; may be repeated"}}, nil, LiveMessage{}, 200, s.live},
		{"GET", "/api/v1/events", "what devices reported, in their order, each with the device's time", eventQuery, nil, EventPage{}, 200, s.events},
		{"GET", "/api/v1/lens", "a point's raw data under every type and byte order, read now", []parameter{{"tag", "of the point"}}, nil, Lens{}, 200, s.lens},
		{"POST", "/api/v1/write", "write a value to a point", nil, WriteRequest{}, WriteResult{}, 200, s.write},

		{"POST", "/api/v1/probe", "ask a device what it is, stage by stage; the answer is a line of JSON for each as it ends", nil, ProbeRequest{}, probe.Stage{}, 200, s.probe},
		{"POST", "/api/v1/scan", "look for units on a link, and for line settings; the answer is a line of JSON for each step; closing it cancels", nil, ScanRequest{}, probe.Progress{}, 200, s.scan},
		{"GET", "/api/v1/findings", "conclusions about communication that stand now, the most certain first", []parameter{{"subject", "a link, a station or a tag; findings for its station and link, and for what is on it, too"}}, nil, Findings{}, 200, s.findings},
		{"GET", "/api/v1/explanations", "what the reasons of readings and the codes of findings mean", nil, nil, Explanations{}, 200, s.explanations},
		{"POST", "/api/v1/figures/reset", "begin the figures since reset anew", nil, nil, nil, 204, s.resetFigures},
		{"GET", "/api/v1/traffic", "the newest frames, decoded", trafficQuery, nil, TrafficPage{}, 200, s.traffic},
		{"GET", "/api/v1/traffic/capture", "the frames that are kept, as a pcapng capture", trafficQuery, nil, nil, 200, s.capture},
		{"GET", "/api/v1/traffic/recording", "state of the recording to disk", nil, nil, Recording{}, 200, s.recording},
		{"POST", "/api/v1/traffic/recording", "record frames to a capture file on the service's machine", nil, RecordRequest{}, Recording{}, 201, s.record},
		{"DELETE", "/api/v1/traffic/recording", "end the recording", nil, nil, Recording{}, 200, s.stopRecording},
		{"GET", "/api/v1/traffic/recording/file", "the capture that was recorded", nil, nil, nil, 200, s.recordingFile},

		{"GET", "/api/v1/rig", "simulated devices and their faults, where there are any", nil, nil, RigState{}, 200, s.rigState},
		{"PATCH", "/api/v1/rig/:line/:unit", "change some faults of a simulated device; null takes one away", nil, rig.Faults{}, rig.Faults{}, 200, s.rigFaults},
		{"PUT", "/api/v1/rig/:line/:unit", "replace the faults of a simulated device", nil, rig.Faults{}, rig.Faults{}, 200, s.rigFaults},
		{"POST", "/api/v1/rig/:line/cut", "cut a simulated line: nothing listens there any more", nil, nil, RigState{}, 200, s.rigCut},
		{"POST", "/api/v1/rig/:line/restore", "restore a line that was cut", nil, nil, RigState{}, 200, s.rigRestore},

		{"POST", "/api/v1/apply", "take over a site file, YAML or JSON, all or nothing",
			[]parameter{{"dry_run", "true: say what would change"}, {"prune", "true: remove what the file does not name"}, {"file", "its name, for messages"}}, nil, ChangeSummary{}, 200, s.apply},
		{"GET", "/api/v1/export", "the site as a site file", nil, nil, nil, 200, s.export},
		{"GET", "/api/v1/backup", "a copy of the whole database as it is now: site, changes, writes, events", nil, nil, nil, 200, s.backup},
		{"GET", "/api/v1/changes", "recorded changes, newest first", append([]parameter{{"kind", "link, station or point"}, {"name", "name or tag"}}, paging...), nil, changePage{}, 200, s.changes},
		{"POST", "/api/v1/changes/:id/undo", "undo a change, with those that were made together with it", nil, nil, ChangeSummary{}, 200, s.undo},
		{"GET", "/api/v1/quarantine", "stored records that did not fit the site when it was loaded, as they were, newest first", nil, nil, Page[Quarantined]{}, 200, s.quarantine},
		{"GET", "/api/v1/writes", "recorded writes, newest first", append([]parameter{{"tag", "of one point"}}, paging...), nil, writePage{}, 200, s.writes},
	}
}

var cascade = []parameter{{"cascade", "true: also what belongs to it"}}

// Health says that the service runs.
type Health struct {
	Status  string `json:"status"`
	Version string `json:"version"`
}

func (s *Server) health(c *gin.Context) error {
	c.JSON(http.StatusOK, Health{"ok", s.version})
	return nil
}

func (s *Server) status(c *gin.Context) error {
	c.JSON(http.StatusOK, newStatus(s.engine.Status()))
	return nil
}

// name is the entity that the path names.
func name(c *gin.Context) string { return strings.TrimPrefix(c.Param("name"), "/") }

// principal is on whose behalf a request writes.
func principal(c *gin.Context) control.Principal { return control.Principal{Name: who(c)} }

func who(c *gin.Context) string {
	w := c.GetHeader(whoField)
	if decoded, err := url.QueryUnescape(w); err == nil {
		w = decoded
	}
	if w == "" || len(w) > 100 {
		return "local"
	}
	return w
}

// bodyWithin is how long a request's body may take to come.
const bodyWithin = 30 * time.Second

// body reads the request's document.
func body(c *gin.Context, limit int64) ([]byte, error) {
	// A body that does not come must not be waited for for ever.
	control := http.NewResponseController(c.Writer)
	if control.SetReadDeadline(time.Now().Add(bodyWithin)) == nil {
		defer control.SetReadDeadline(time.Time{})
	}
	b, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, limit))
	if err != nil && !errors.As(err, new(*http.MaxBytesError)) {
		err = fail(http.StatusBadRequest, "the request's body ended early: %s", err)
	}
	return b, err
}

// flag reads a query parameter that is true or false.
func flag(c *gin.Context, name string) (bool, error) {
	text := c.Query(name)
	if text == "" {
		return false, nil
	}
	v, err := strconv.ParseBool(text)
	if err != nil {
		return false, fail(http.StatusBadRequest, "%s=%s: true or false is needed", name, text)
	}
	return v, nil
}

// page reads limit and cursor.
func page(c *gin.Context) (limit int, cursor string, err error) {
	limit = 1000
	if text := c.Query("limit"); text != "" {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > 10000 {
			return 0, "", fail(http.StatusBadRequest, "limit=%s: 1 to 10000 is possible", text)
		}
	}
	return limit, c.Query("cursor"), nil
}

// versioned is an entity with its version, and of a point its station, as they were together.
type versioned struct {
	entity  site.Entity
	version int64
	station site.Station
}

// lookUp finds an entity; false when it is not there.
func lookUp(now *site.Site, kind site.Kind, name string) (v versioned, ok bool) {
	if v.entity, ok = now.Get(kind, name); !ok {
		return v, false
	}
	v.version = now.Version(kind, name)
	if p, is := v.entity.(site.Point); is {
		v.station, _ = now.Station(p.Station)
	}
	return v, true
}

// answer answers with an entity and its version.
func (v versioned) answer(c *gin.Context, status int) {
	c.Header("ETag", strconv.Quote(strconv.FormatInt(v.version, 10)))
	if p, ok := v.entity.(site.Point); ok {
		c.JSON(status, newPoint(p, v.station))
		return
	}
	c.JSON(status, v.entity)
}

func (s *Server) missing(kind site.Kind, name string) error {
	e := &statusError{status: http.StatusNotFound, near: near(s.store.Site(), kind, name)}
	e.detail = fmt.Sprintf("there is no %s %q", kind, name)
	if len(e.near) > 0 {
		e.detail += "; did you mean " + strings.Join(e.near, " or ") + "?"
	}
	return e
}

func (s *Server) show(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		v, ok := lookUp(s.store.Site(), kind, name(c))
		if !ok {
			return s.missing(kind, name(c))
		}
		v.answer(c, http.StatusOK)
		return nil
	}
}

// modify runs an edit and answers with the entity it leaves.
func (s *Server) modify(c *gin.Context, edit store.Edit, status int, f func(*site.Draft, *site.Site) (site.Entity, error)) error {
	var e site.Entity
	var fault error
	edit.Who = who(c)
	changes, left, err := s.store.Modify(c.Request.Context(), edit, func(d *site.Draft, now *site.Site) {
		if e, fault = f(d, now); fault != nil {
			d.Fail(&site.FieldError{Message: fault.Error()}) // nothing may change
		}
	})
	if fault != nil {
		return fault
	}
	if err != nil {
		return err
	}
	for _, w := range left.Warnings(changes) {
		c.Writer.Header().Add(warningField, w.Error())
	}
	v, _ := lookUp(left, e.Kind(), e.Key())
	v.answer(c, status)
	return nil
}

// expected reads If-Match.
func expected(c *gin.Context, kind site.Kind) (store.Edit, error) {
	edit := store.Edit{ExpectKind: kind, ExpectName: name(c)}
	match := strings.Trim(strings.TrimPrefix(c.GetHeader("If-Match"), "W/"), `"`)
	if match == "" || match == "*" {
		return edit, nil
	}
	v, err := strconv.ParseInt(match, 10, 64)
	if err != nil || v < 1 {
		return edit, fail(http.StatusBadRequest, "If-Match: %q is no version that this service gave as ETag", match)
	}
	edit.Expect = v
	return edit, nil
}

// decodeEntity reads a document into an entity that starts as from. The address of a point is read in the notation
// of its station.
func decodeEntity(node *document.Node, d *site.Draft, from, defaults site.Entity) (site.Entity, error) {
	var faults document.Faults
	switch e := from.(type) {
	case site.Link:
		was := e
		faults = node.Decode(&e, defaults)
		if fields, _ := node.Fields(); e.Transport != was.Transport || e.Protocol != was.Protocol {
			// What only followed from the old transport or protocol follows the new one.
			implied := site.Link{Protocol: was.Protocol, Transport: was.Transport}.WithDefaults()
			if fields["framing"] == nil && e.Framing == implied.Framing {
				e.Framing = ""
			}
			if fields["port"] == nil && e.Port == implied.Port {
				e.Port = 0
			}
		}
		from = e
	case site.Station:
		faults = node.Decode(&e, defaults)
		from = e
	case site.Point:
		entry := sitefile.PointEntry{Point: e}
		faults = node.Decode(&entry, sitefile.PointEntry{Point: defaults.(site.Point)})
		fields, _ := node.Fields()
		if faults != nil {
			break
		}
		p, fault := entry.Resolve(d)
		if fault != nil {
			return nil, site.Errors{fault}
		}
		if fields["address"] == nil {
			p.Address = e.Address // which stays, even at a station of another notation
		}
		if fields["read_back"] == nil {
			p.ReadBack = e.ReadBack
		}
		if implied := (site.Point{Address: e.Address}).WithDefaults().Type; fields["type"] == nil && fields["address"] != nil && e.Type == implied {
			p.Type = "" // it followed from the old address and follows from the new one; a type that was chosen stays
		}
		from = p
	}
	if faults != nil {
		return nil, faults
	}
	return from, nil
}

// parse reads the request's body as a document.
func parse(c *gin.Context) (*document.Node, error) {
	b, err := body(c, maxBody)
	if err != nil {
		return nil, err
	}
	return document.Parse(b)
}

// request reads the request's body as a T.
func request[T any](c *gin.Context) (request T, err error) {
	node, err := parse(c)
	if err != nil {
		return request, err
	}
	if faults := node.Decode(&request, request); faults != nil {
		return request, faults
	}
	return request, nil
}

func (s *Server) add(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		node, err := parse(c)
		if err != nil {
			return err
		}
		return s.modify(c, store.Edit{}, http.StatusCreated, func(d *site.Draft, _ *site.Site) (site.Entity, error) {
			e, err := decodeEntity(node, d, site.Fresh(kind), site.Fresh(kind))
			if err == nil {
				d.Add(e)
			}
			return e, err
		})
	}
}

// put replaces an entity with what the document says, or adds it.
func (s *Server) put(kind site.Kind) func(*gin.Context) error {
	return s.replace(kind, func(node *document.Node, d *site.Draft, _ *site.Site, _ string) (site.Entity, error) {
		return decodeEntity(node, d, site.Fresh(kind), site.Fresh(kind))
	})
}

// patch changes the fields of an entity that the document names.
func (s *Server) patch(kind site.Kind) func(*gin.Context) error {
	return s.replace(kind, func(node *document.Node, d *site.Draft, now *site.Site, name string) (site.Entity, error) {
		from, ok := now.Get(kind, name)
		if !ok {
			return nil, notFound(now, kind, name)
		}
		return decodeEntity(node, d, from, site.Fresh(kind))
	})
}

// replace puts what decode makes of the request in the place of the entity that the path names.
func (s *Server) replace(kind site.Kind, decode func(*document.Node, *site.Draft, *site.Site, string) (site.Entity, error)) func(*gin.Context) error {
	return func(c *gin.Context) error {
		node, err := parse(c)
		if err != nil {
			return err
		}
		edit, err := expected(c, kind)
		if err != nil {
			return err
		}
		return s.modify(c, edit, http.StatusOK, func(d *site.Draft, now *site.Site) (site.Entity, error) {
			e, err := decode(node, d, now, name(c))
			if err != nil {
				return nil, err
			}
			if _, exists := now.Get(kind, name(c)); exists {
				d.Replace(name(c), e)
			} else if e.Key() != name(c) {
				return nil, fail(http.StatusUnprocessableEntity, "the path names %q, the document %q", name(c), e.Key())
			} else {
				d.Add(e)
			}
			return e, nil
		})
	}
}

// copying duplicates an entity with what the request says of the copy.
func copying[T any](s *Server, c *gin.Context, kind site.Kind, request T, duplicate func(*site.Draft, site.Entity, T) site.Entity) error {
	node, err := parse(c)
	if err != nil {
		return err
	}
	var none T
	if faults := node.Decode(&request, none); faults != nil {
		return faults
	}
	return s.modify(c, store.Edit{}, http.StatusCreated, func(d *site.Draft, now *site.Site) (site.Entity, error) {
		from, ok := now.Get(kind, name(c))
		if !ok {
			return nil, notFound(now, kind, name(c))
		}
		return duplicate(d, from, request), nil
	})
}

func (s *Server) copyLink(c *gin.Context) error {
	return copying(s, c, site.KindLink, Copy{}, func(d *site.Draft, from site.Entity, copy Copy) site.Entity {
		return d.CopyLink(from.(site.Link), copy.Name)
	})
}

func (s *Server) copyStation(c *gin.Context) error {
	return copying(s, c, site.KindStation, site.StationCopy{}, func(d *site.Draft, from site.Entity, copy site.StationCopy) site.Entity {
		return d.CopyStation(from.(site.Station), copy)
	})
}

func (s *Server) remove(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		all, err := flag(c, "cascade")
		if err != nil {
			return err
		}
		edit, err := expected(c, kind)
		if err != nil {
			return err
		}
		edit.Who = who(c)
		exists := true
		changes, left, err := s.store.Modify(c.Request.Context(), edit, func(d *site.Draft, now *site.Site) {
			if _, exists = now.Get(kind, name(c)); exists {
				d.Remove(kind, name(c), all)
			}
		})
		var inUse site.Errors
		switch {
		case !exists:
			return s.missing(kind, name(c))
		case errors.As(err, &inUse):
			return fail(http.StatusConflict, "%s", inUse)
		case err != nil:
			return err
		}
		c.JSON(http.StatusOK, summary(left, changes, false))
		return nil
	}
}

// summary says what changes do that left a site.
func summary(now *site.Site, changes []site.Change, dry bool) ChangeSummary {
	sum := ChangeSummary{DryRun: dry, Changes: []ChangeLine{}}
	for _, c := range changes {
		line := ChangeLine{Action: c.Action(), Kind: c.Kind(), Name: c.Name()}
		switch line.Action {
		case site.Add:
			sum.Added++
		case site.Remove:
			sum.Removed++
		default:
			sum.Changed++
			line.Fields = differing(c.Before, c.After)
		}
		sum.Changes = append(sum.Changes, line)
	}
	for _, w := range now.Warnings(changes) {
		sum.Warnings = append(sum.Warnings, w.Error())
	}
	return sum
}

// differing lists the fields in which two entities of a kind differ.
func differing(a, b site.Entity) []string {
	var fields []string
	am, bm := fieldsOf(a), fieldsOf(b)
	for _, name := range order(a.Kind()) {
		if string(am[name]) != string(bm[name]) {
			fields = append(fields, name)
		}
	}
	return fields
}

func fieldsOf(e site.Entity) map[string]json.RawMessage {
	var m map[string]json.RawMessage
	if b, err := json.Marshal(e); err == nil {
		_ = json.Unmarshal(b, &m) // what was just marshalled is an object
	}
	return m
}
