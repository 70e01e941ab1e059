package api

import (
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/rig"
)

// route is one thing the API does.
type route struct {
	method, path string
	needs        need
	summary      string
	query        []parameter
	body         any // an example of the type, or media; nil for none
	answer       any // likewise, or lines
	status       int
	handle       func(*gin.Context) error
}

// media is what is no JSON, by its media type.
type media string

// file is one of several kinds; which it is shows in its octets, whatever the request says of it.
const file = media("application/octet-stream")

// lines are JSON, a line each.
type lines struct{ of any }

// anything is JSON of a shape that is described elsewhere.
type anything map[string]any

const (
	maxBody = 4 << 20 // a board has pictures
	// header of a response: what was done is allowed and yet seldom meant; one for each warning
	warningField = "Arithmon-Warning"
)

var paging = []parameter{{name: "limit", doc: "most items of a page (default 1000)", is: count(10000)}, {name: "cursor", doc: "next of the page before"}}

func (s *Server) routes() []route {
	list := []route{
		{"GET", "/healthz", anyone, "whether the service runs", nil, nil, Health{}, 200, s.health},
		{"GET", "/metrics", viewer, "statistics for Prometheus", nil, nil, media("text/plain"), 200, s.metrics},
		{"GET", "/api/v1/openapi.json", viewerOfPart, "this description", nil, nil, anything{}, 200, s.openapi},
		{"GET", "/api/v1/status", viewerOfPart, "state and statistics of all links and stations", nil, nil, Status{}, 200, s.status},

		{"POST", "/api/v1/links/:name/test", engineer, "find out whether the far end takes a connection", nil, nil, Test{}, 200, s.testLink},

		{"POST", "/api/v1/links/:name/copy", changer, "duplicate a link; the copy is disabled and has no serial port until given one", nil, Copy{}, site.Link{}, 201, s.copyLink},

		{"GET", "/api/v1/ports", engineer, "serial ports of the service's machine", nil, nil, Ports{}, 200, s.ports},

		{"POST", "/api/v1/stations/:name/test", engineerOfPart, "find out whether the station answers", nil, nil, Test{}, 200, s.testStation},
		{"GET", "/api/v1/stations/:name/read", viewerOfPart, "read addresses that no point needs to have",
			[]parameter{{name: "range", doc: "hr:0..9, 40001..40010 or one address"}, {name: "type", doc: "data type of the values, such as float32 (default single registers)", is: choice(codec.Types[:]...)}, {name: "order", doc: "byte order (default the station's)", is: choice(codec.Orders[:]...)}, {name: "length", doc: "string: characters", is: count(codec.MaxStringLength)}}, nil, Page[RawReading]{}, 200, s.readRange},
		{"POST", "/api/v1/stations/:name/write", engineerOfPart, "write to addresses that no point needs to have", nil, RangeWrite{}, RangeResult{}, 200, s.writeRange},
		{"POST", "/api/v1/stations/:name/refresh", operatorOfPart, "ask a station everything at once, what it refused included", nil, nil, nil, 204, s.refresh},
		{"POST", "/api/v1/stations/:name/ask", engineerOfPart, "run a protocol action on a station; it is recorded as writes are", nil, ActionRequest{}, ActionResult{}, 200, s.ask},
		{"POST", "/api/v1/stations/:name/profile", changerOfPart, "make points of a DNP3 XML device profile, all or none",
			[]parameter{{name: "prefix", doc: "what tags begin with (default the station's name and /)"}, {name: "dry_run", doc: "true: say what would change", is: truth}, {name: "file", doc: "its name, for messages"}}, media("application/xml"), ProfileResult{}, 200, s.profile},
		{"GET", "/api/v1/actions", viewerOfPart, "what stations can be asked to do", nil, nil, Actions{}, 200, s.actions},
		{"POST", "/api/v1/stations/:name/copy", changer, "duplicate a station, with its points when their tags change; the copy is disabled", nil, site.StationCopy{}, site.Station{}, 201, s.copyStation},
		{"GET", "/api/v1/address", viewerOfPart, "what a typed address means",
			[]parameter{{name: "text", doc: "as typed"}, {name: "station", doc: "whose notation holds"}, {name: "notation", doc: "when there is no station yet", is: choice(site.Notations[:]...)}, {name: "table", doc: "co, di, ir or hr, for numbers that do not name one"}, {name: "type", doc: "data type of the point, by which the meanings of an ambiguous number are ordered", is: choice(codec.Types[:]...)}}, nil, AddressMeaning{}, 200, s.address},

		{"GET", "/api/v1/readings", viewerOfPart, "newest readings by tag", append([]parameter{{name: "tag", doc: "tag or pattern; may be repeated", many: true}}, paging...), nil, Page[Reading]{}, 200, s.readings},
		{"GET", "/api/v1/branches", viewerOfPart, "how many points of each branch of tags are good, uncertain and bad", []parameter{{name: "under", doc: "path of a branch: it and what is below it (default all)"}, {name: "depth", doc: "levels below it (default all)", is: count(100)}}, nil, Branches{}, 200, s.branches},
		{"GET", "/api/v1/live", viewerOfPart, "WebSocket: readings as they change; send {\"tags\": [...]} to follow others", []parameter{{name: "tag", doc: "tag or pattern; may be repeated", many: true}}, nil, LiveMessage{}, 200, s.live},
		{"GET", "/api/v1/events", viewerOfPart, "what devices reported, in their order, each with the device's time", eventQuery, nil, EventPage{}, 200, s.events},
		{"GET", "/api/v1/lens", viewerOfPart, "a point's raw data under every type and byte order, read now", []parameter{{name: "tag", doc: "of the point"}}, nil, Lens{}, 200, s.lens},
		{"POST", "/api/v1/write", operatorOfPart, "write a value to a point", nil, WriteRequest{}, WriteResult{}, 200, s.write},

		{"POST", "/api/v1/addresses/read", engineer, "read addresses of a device that is no station of the site", nil, VisitRequest{}, Page[RawReading]{}, 200, s.readVisit},
		{"POST", "/api/v1/addresses/write", engineer, "write addresses of a device that is no station of the site; it is recorded", nil, VisitRequest{}, RangeResult{}, 200, s.writeVisit},
		{"POST", "/api/v1/probe", engineer, "ask a device what it is, stage by stage; the response is a line of JSON for each as it ends", nil, ProbeRequest{}, lines{Stage{}}, 200, s.probe},
		{"POST", "/api/v1/scan", engineer, "look for units on a link, and for line settings; the response is a line of JSON for each step; closing it cancels", nil, ScanRequest{}, lines{Progress{}}, 200, s.scan},
		{"GET", "/api/v1/findings", viewerOfPart, "conclusions about communication that stand now, the most certain first", []parameter{{name: "subject", doc: "a link, a station or a tag; findings for its station and link, and for what is on it, too"}, {name: "limit", doc: "most findings of a page (default 1000)", is: count(10000)}, {name: "cursor", doc: "next of the page before"}}, nil, Findings{}, 200, s.findings},
		{"POST", "/api/v1/findings/take", engineer, "take a step of a finding that is a change of settings, all of its changes together; it is recorded as any change", nil, Take{}, Taken{}, 200, s.takeStep},
		{"GET", "/api/v1/protocols", viewerOfPart, "what there is to know of the protocols: fields, address types, data types, functions", nil, nil, Protocols{}, 200, s.protocols},
		{"GET", "/api/v1/explanations", viewerOfPart, "what the reasons of readings and the codes of findings mean", nil, nil, Explanations{}, 200, s.explanations},
		{"POST", "/api/v1/figures/reset", engineer, "begin the figures since reset anew", nil, nil, nil, 204, s.resetFigures},
		{"GET", "/api/v1/traffic", viewer, "the newest frames, decoded", trafficQuery, nil, TrafficPage{}, 200, s.traffic},
		{"GET", "/api/v1/traffic/capture", viewer, "the frames that are kept, as a pcapng capture", trafficQuery, nil, media("application/octet-stream"), 200, s.capture},
		{"GET", "/api/v1/traffic/recording", viewer, "state of the recording to disk", nil, nil, Recording{}, 200, s.recording},
		{"POST", "/api/v1/traffic/recording", engineer, "record frames to a capture file on the service's machine", nil, RecordRequest{}, Recording{}, 201, s.record},
		{"DELETE", "/api/v1/traffic/recording", engineer, "end the recording", nil, nil, Recording{}, 200, s.stopRecording},
		{"GET", "/api/v1/traffic/recording/file", engineer, "the capture that was recorded", nil, nil, media("application/octet-stream"), 200, s.recordingFile},

		{"GET", "/api/v1/rig", viewerOfPart, "simulated devices and their faults, where there are any", nil, nil, RigState{}, 200, s.rigState},
		{"PATCH", "/api/v1/rig/:line/:unit", engineer, "change some faults of a simulated device; null takes one away", nil, rig.Faults{}, rig.Faults{}, 200, s.rigFaults},
		{"PUT", "/api/v1/rig/:line/:unit", engineer, "replace the faults of a simulated device", nil, rig.Faults{}, rig.Faults{}, 200, s.rigFaults},
		{"POST", "/api/v1/rig/:line/cut", engineer, "cut a simulated line: nothing listens there any more", nil, nil, RigState{}, 200, s.rigCut},
		{"POST", "/api/v1/rig/:line/restore", engineer, "restore a line that was cut", nil, nil, RigState{}, 200, s.rigRestore},

		{"POST", "/api/v1/apply", changerOfPart, "take over a site file, YAML or JSON, all or nothing",
			[]parameter{{name: "dry_run", doc: "true: say what would change", is: truth}, {name: "prune", doc: "true: remove what the file does not name", is: truth}, {name: "force", doc: "true: take back what was changed since the file was exported", is: truth}, {name: "templates", doc: "true: take over its templates alone", is: truth}, {name: "file", doc: "its name, for messages"}}, media("application/yaml"), ChangeSummary{}, 200, s.apply},
		{"GET", "/api/v1/export", viewerOfPart, "the site as a site file", []parameter{{name: "only", doc: "tag or pattern: these points alone, with their stations, links and templates; may be repeated", many: true}, {name: "template", doc: "name or pattern: these templates alone; may be repeated", many: true}}, nil, media("application/yaml"), 200, s.export},
		{"POST", "/api/v1/change/points", changerOfPart, "change, rename, remove or add many points in one modification", nil, Together{}, ChangeSummary{}, 200, s.changeTogether},
		{"POST", "/api/v1/change/sheet", changerOfPart, "take over the rows of a sheet in which points were edited, all or nothing", nil, SheetEdits{}, SheetOutcome{}, 200, s.changeSheet},
		{"GET", "/api/v1/columns", viewerOfPart, "what the columns of lists hold, kept under names", nil, nil, Page[ColumnSet]{}, 200, s.columnSets},
		{"PUT", "/api/v1/columns/:name", engineerOfPart, "keep columns under a name", nil, KeptColumns{}, KeptColumns{}, 200, s.keepColumns},
		{"DELETE", "/api/v1/columns/:name", engineerOfPart, "forget the columns under a name", nil, nil, nil, 204, s.dropColumns},
		{"POST", "/api/v1/import/points", changerOfPart, "take over a list of points: separated values, a spreadsheet, or text that was copied from a page; all or nothing", importQuery, file, Import{}, 200, s.importPoints},
		{"POST", "/api/v1/import/stations", changer, "take over a list of stations, a row each: separated values or a spreadsheet; all or nothing", stationsQuery, file, Import{}, 200, s.importStations},
		{"POST", "/api/v1/import/points/marked", engineerOfPart, "a copy of a list, as a spreadsheet, in which its faults are marked; nothing is taken over", importQuery, file, media(spreadsheet), 200, s.markedPoints},
		{"GET", "/api/v1/export/points", viewerOfPart, "points as a list with every field, which is read back as they were", []parameter{{name: "tag", doc: "tag or pattern; may be repeated", many: true}, {name: "form", doc: "csv (default), xlsx, or json: a list of rows of texts, headings first", is: choice("csv", "xlsx", "json")}, {name: "skip", doc: "how many are left out at the beginning", is: natural}, {name: "limit", doc: "most points (default all)", is: natural}}, nil, media("text/csv"), 200, s.exportPoints},
		{"GET", "/api/v1/backup", admin, "a copy of the whole database as it is now: site, changes, writes, events", nil, nil, media("application/vnd.sqlite3"), 200, s.backup},
		{"GET", "/api/v1/changes", viewerOfPart, "recorded changes, newest first", append([]parameter{{name: "kind", doc: "of what was changed", is: choice(site.Kinds()...)}, {name: "name", doc: "name or tag"}}, paging...), nil, changePage{}, 200, s.changes},
		{"POST", "/api/v1/changes/:id/undo", engineerOfPart, "undo a change, with those that were made together with it", nil, nil, ChangeSummary{}, 200, s.undo},
		{"GET", "/api/v1/quarantine", viewer, "stored records that did not fit the site when it was loaded, as they were, newest first", paging, nil, Page[Quarantined]{}, 200, s.quarantine},
		{"GET", "/api/v1/writes", viewerOfPart, "recorded writes, newest first", append([]parameter{{name: "tag", doc: "of one point"}}, paging...), nil, writePage{}, 200, s.writes},
	}
	for _, kind := range site.Kinds() {
		list = append(list, s.entityRoutes(kind)...)
	}
	return slices.Concat(list, s.templateRoutes(), s.accountRoutes(), s.versionRoutes(), s.historyRoutes(), s.alarmRoutes(), s.boardRoutes(), s.proposalRoutes(), s.togetherRoutes(), s.directoryRoutes())
}

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
	links, stations := s.engine.Status()
	if len(principal(c).Only) > 0 {
		now := s.site(c)
		links = slices.DeleteFunc(links, func(l link.Status) bool { _, seen := now.Link(l.Name); return !seen })
		stations = slices.DeleteFunc(stations, func(st link.StationStatus) bool { _, seen := now.Station(st.Name); return !seen })
	}
	c.JSON(http.StatusOK, newStatus(links, stations))
	return nil
}

// name is the entity that the path names.
func name(c *gin.Context) string { return strings.TrimPrefix(c.Param("name"), "/") }

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
