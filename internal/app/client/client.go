// Package client speaks to a running Arithmon service.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/rig"

	"github.com/coder/websocket"
)

// Client speaks to one service. It is safe for concurrent use.
type Client struct {
	base   string
	who    string
	access Access
	http   *http.Client

	// Said goes with every change that the client makes.
	Said Said

	// Warn takes what the service says about a change that is allowed and yet seldom meant; nil for nothing.
	Warn func(text string)
	// Told takes what else the service says about a change; nil for nothing.
	Told func(text string)
}

// Said is what is said of changes.
type Said struct {
	Message string // kept with the change set
	Propose string // the title of a proposal that they become, instead of taking effect
}

// ProblemError is a problem that the service answered.
type ProblemError struct{ api.Problem }

// mostShown is how many faults of a request are put into words.
const mostShown = 50

func (e *ProblemError) Error() string {
	if len(e.Errors) == 0 {
		return e.Detail
	}
	shown := e.Errors[:min(len(e.Errors), mostShown)]
	lines := make([]string, len(shown))
	for i, f := range shown {
		var parts []string
		if f.Line > 0 {
			parts = append(parts, fmt.Sprintf("line %d", f.Line))
		}
		for _, part := range []string{f.Subject, f.Field, f.Message} {
			if part != "" {
				parts = append(parts, part)
			}
		}
		lines[i] = strings.Join(parts, ": ")
	}
	if more := len(e.Errors) - len(shown); more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more faults; mend these first", more))
	}
	return strings.Join(lines, "\n")
}

// New returns a client of the service at base, such as http://127.0.0.1:7340; who is recorded with what it changes.
func New(base, who string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), who: who, http: &http.Client{}}
}

// do makes one request. body is sent as JSON unless it is []byte; answer is filled from JSON unless it is *[]byte or an io.Writer.
func (c *Client) do(ctx context.Context, method, path string, query url.Values, body, answer any) error {
	var reader io.Reader
	switch b := body.(type) {
	case nil:
	case []byte:
		reader = bytes.NewReader(b)
	default:
		encoded, err := json.Marshal(b)
		if err != nil {
			return err
		}
		reader = bytes.NewReader(encoded)
	}
	response, err := c.send(ctx, method, path+"?"+query.Encode(), reader)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if to, ok := answer.(io.Writer); ok && response.StatusCode < 300 {
		if _, err := io.Copy(to, response.Body); err != nil {
			return fmt.Errorf("service at %s: %w", c.base, err)
		}
		return nil
	}
	data, err := io.ReadAll(response.Body)
	if err != nil {
		return fmt.Errorf("service at %s: %w", c.base, err)
	}
	if response.StatusCode >= 300 {
		p := &ProblemError{}
		if json.Unmarshal(data, &p.Problem) != nil || p.Status == 0 {
			return fmt.Errorf("%s answers %s; is that an Arithmon service?", c.base, response.Status)
		}
		return p
	}
	c.hear(response.Header)
	if raw, ok := answer.(*[]byte); ok {
		*raw = data
		return nil
	}
	if answer == nil || response.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.Unmarshal(data, answer); err != nil {
		return fmt.Errorf("%s does not answer as an Arithmon service does: %w", c.base, err)
	}
	return nil
}

// hear passes on what the service says beside its answer.
func (c *Client) hear(header http.Header) {
	for _, text := range header.Values("Arithmon-Warning") {
		if c.Warn != nil {
			c.Warn(text)
		}
	}
	if n := header.Get("Arithmon-Proposal"); n != "" && c.Told != nil {
		c.Told(fmt.Sprintf("kept as proposal %s; nothing is changed until it is taken: arithmon proposal take %s", n, n))
	}
	if text, err := url.QueryUnescape(header.Get("Arithmon-Merged")); text != "" && err == nil && c.Told != nil {
		c.Told("put together with what others changed meanwhile: " + text)
	}
}

// all gathers the pages of a list.
func all[E any](ctx context.Context, c *Client, path string, query url.Values) ([]E, error) {
	list := []E{}
	if query == nil {
		query = url.Values{}
	}
	err := pages(ctx, c, path, query, func(items []E) error {
		list = append(list, items...)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return list, nil
}

func plural(kind site.Kind) string { return "/api/v1/" + site.Plural(kind) }

func entityPath(kind site.Kind, name string) string {
	return plural(kind) + "/" + strings.ReplaceAll(url.PathEscape(name), "%2F", "/")
}

// Links lists the links by name.
func (c *Client) Links(ctx context.Context) ([]site.Link, error) {
	return all[site.Link](ctx, c, plural(site.KindLink), nil)
}

// Stations lists the stations by name.
func (c *Client) Stations(ctx context.Context) ([]site.Station, error) {
	return all[site.Station](ctx, c, plural(site.KindStation), nil)
}

// Points lists the points whose tag fits a pattern, all when there is none, of one station when it is named.
func (c *Client) Points(ctx context.Context, station string, patterns ...string) ([]api.Point, error) {
	query := url.Values{"tag": patterns}
	if station != "" {
		query.Set("station", station)
	}
	return all[api.Point](ctx, c, plural(site.KindPoint), query)
}

// Show returns one entity as the service's JSON.
func (c *Client) Show(ctx context.Context, kind site.Kind, name string) (json.RawMessage, error) {
	var entity json.RawMessage
	err := c.do(ctx, http.MethodGet, entityPath(kind, name), nil, nil, &entity)
	return entity, err
}

// Add adds an entity, given by its fields.
func (c *Client) Add(ctx context.Context, kind site.Kind, fields any) (json.RawMessage, error) {
	var entity json.RawMessage
	err := c.do(ctx, http.MethodPost, plural(kind), nil, fields, &entity)
	return entity, err
}

// Set changes some fields of an entity; null gives one its default.
func (c *Client) Set(ctx context.Context, kind site.Kind, name string, fields any) (json.RawMessage, error) {
	var entity json.RawMessage
	err := c.do(ctx, http.MethodPatch, entityPath(kind, name), nil, fields, &entity)
	return entity, err
}

// Remove removes an entity, with cascade also what belongs to it.
func (c *Client) Remove(ctx context.Context, kind site.Kind, name string, cascade bool) (sum api.ChangeSummary, err error) {
	query := url.Values{}
	if cascade { // which not every kind has
		query.Set("cascade", "true")
	}
	err = c.do(ctx, http.MethodDelete, entityPath(kind, name), query, nil, &sum)
	return sum, err
}

// Test asks a link or a station for a sign of life.
func (c *Client) Test(ctx context.Context, kind site.Kind, name string) (t api.Test, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(kind, name)+"/test", nil, nil, &t)
	return t, err
}

// Copy duplicates a link or a station; fields are those of api.Copy or site.StationCopy.
func (c *Client) Copy(ctx context.Context, kind site.Kind, name string, fields any) (json.RawMessage, error) {
	var entity json.RawMessage
	err := c.do(ctx, http.MethodPost, entityPath(kind, name)+"/copy", nil, fields, &entity)
	return entity, err
}

// Refresh asks a station everything at once.
func (c *Client) Refresh(ctx context.Context, station string) error {
	return c.do(ctx, http.MethodPost, entityPath(site.KindStation, station)+"/refresh", nil, nil, nil)
}

// WriteRange writes to addresses that no point needs to have.
func (c *Client) WriteRange(ctx context.Context, station string, w api.RangeWrite) (r api.RangeResult, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(site.KindStation, station)+"/write", nil, w, &r)
	return r, err
}

// ReadAt reads addresses of a device that is no station of the site.
func (c *Client) ReadAt(ctx context.Context, what api.VisitRequest) ([]api.RawReading, error) {
	var page api.Page[api.RawReading]
	err := c.do(ctx, http.MethodPost, "/api/v1/addresses/read", nil, what, &page)
	return page.Items, err
}

// WriteAt writes addresses of a device that is no station of the site.
func (c *Client) WriteAt(ctx context.Context, what api.VisitRequest) (r api.RangeResult, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/addresses/write", nil, what, &r)
	return r, err
}

// follow makes a request whose answer is lines of JSON, and calls f with each as it comes.
func follow[T any](ctx context.Context, c *Client, path string, body any, f func(T) error) error {
	encoded, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return lines(ctx, c, http.MethodPost, path, bytes.NewReader(encoded), f)
}

// refusal is what a response says of why something was not done; nil when it says nothing.
func refusal(response *http.Response) error {
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	p := &ProblemError{}
	if json.Unmarshal(data, &p.Problem) != nil || p.Status == 0 {
		return nil
	}
	return p
}

// lines reads a response of lines of JSON.
func lines[T any](ctx context.Context, c *Client, method, path string, body io.Reader, f func(T) error) error {
	response, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		if p := refusal(response); p != nil {
			return p
		}
		return fmt.Errorf("%s answers %s", c.base, response.Status)
	}
	decoder := json.NewDecoder(response.Body)
	for {
		var v T
		if err := decoder.Decode(&v); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if err := f(v); err != nil {
			return err
		}
	}
}

// Events lists what devices reported; query is that of the route.
func (c *Client) Events(ctx context.Context, query url.Values) (page api.EventPage, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/events", query, nil, &page)
	return page, err
}

// FollowEvents calls f with events, those that were and those that come, until ctx ends or f fails.
func (c *Client) FollowEvents(ctx context.Context, query url.Values, f func(api.EventRecord) error) error {
	query.Set("follow", "true")
	return lines(ctx, c, http.MethodGet, "/api/v1/events?"+query.Encode(), nil, f)
}

// Profile makes points of a station of a DNP3 XML device profile.
func (c *Client) Profile(ctx context.Context, station, name string, file []byte, prefix string, dryRun bool) (r api.ProfileResult, err error) {
	query := url.Values{"file": {name}, "prefix": {prefix}, "dry_run": {fmt.Sprint(dryRun)}}
	err = c.do(ctx, http.MethodPost, "/api/v1/stations/"+url.PathEscape(station)+"/profile", query, file, &r)
	return r, err
}

// Ask runs a protocol action on a station.
func (c *Client) Ask(ctx context.Context, station, action string) (r api.ActionResult, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/stations/"+url.PathEscape(station)+"/ask", nil, api.ActionRequest{Action: action}, &r)
	return r, err
}

// Probe asks a device what it is and calls f with each stage as it ends.
func (c *Client) Probe(ctx context.Context, what api.ProbeRequest, f func(api.Stage) error) error {
	return follow(ctx, c, "/api/v1/probe", what, f)
}

// Scan looks for units and calls f with each step.
func (c *Client) Scan(ctx context.Context, where api.ScanRequest, f func(api.Progress) error) error {
	return follow(ctx, c, "/api/v1/scan", where, f)
}

// Findings are the conclusions that stand now, of one subject when it is given.
func (c *Client) Findings(ctx context.Context, subject string) ([]api.Finding, error) {
	all, err := c.FindingsAndWatching(ctx, subject)
	return all.Items, err
}

// FindingsAndWatching lists what stands now, and the stations that are watched until there is enough evidence.
func (c *Client) FindingsAndWatching(ctx context.Context, subject string) (all api.Findings, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/findings", url.Values{"subject": {subject}}, nil, &all)
	return all, err
}

// Take takes a step of a finding that is a change of settings.
func (c *Client) Take(ctx context.Context, t api.Take) (taken api.Taken, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/findings/take", nil, t, &taken)
	return taken, err
}

// ResetFigures begins the figures since reset anew.
func (c *Client) ResetFigures(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/api/v1/figures/reset", nil, nil, nil)
}

// Traffic returns the newest frames; query is that of the API.
func (c *Client) Traffic(ctx context.Context, query url.Values) (t api.TrafficPage, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/traffic", query, nil, &t)
	return t, err
}

// Capture returns the frames that are kept as a pcapng capture.
func (c *Client) Capture(ctx context.Context, query url.Values) (file []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/traffic/capture", query, nil, &file)
	return file, err
}

// Record begins to record frames on the service's machine.
func (c *Client) Record(ctx context.Context, what api.RecordRequest) (r api.Recording, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/traffic/recording", nil, what, &r)
	return r, err
}

// Recording returns the state of the recording; with stop it ends it.
func (c *Client) Recording(ctx context.Context, stop bool) (r api.Recording, err error) {
	method := http.MethodGet
	if stop {
		method = http.MethodDelete
	}
	err = c.do(ctx, method, "/api/v1/traffic/recording", nil, nil, &r)
	return r, err
}

// Rig returns what is simulated.
func (c *Client) Rig(ctx context.Context) (state api.RigState, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/rig", nil, nil, &state)
	return state, err
}

// SetFaults changes the faults of a simulated device: those that fields name, or all of them.
func (c *Client) SetFaults(ctx context.Context, line string, unit int, fields any, all bool) (f rig.Faults, err error) {
	method := http.MethodPatch
	if all {
		method = http.MethodPut
	}
	err = c.do(ctx, method, fmt.Sprintf("/api/v1/rig/%s/%d", url.PathEscape(line), unit), nil, fields, &f)
	return f, err
}

// CutLine cuts a simulated line, or restores it.
func (c *Client) CutLine(ctx context.Context, line string, restore bool) error {
	verb := "cut"
	if restore {
		verb = "restore"
	}
	return c.do(ctx, http.MethodPost, "/api/v1/rig/"+url.PathEscape(line)+"/"+verb, nil, nil, nil)
}

// Apply takes over a site file; name is for messages.
func (c *Client) Apply(ctx context.Context, name string, file []byte, dryRun, prune bool) (sum api.ChangeSummary, err error) {
	query := url.Values{"dry_run": {fmt.Sprint(dryRun)}, "prune": {fmt.Sprint(prune)}, "file": {name}}
	err = c.do(ctx, http.MethodPost, "/api/v1/apply", query, file, &sum)
	return sum, err
}

// ApplyByForce is Apply that takes back, too, what was changed since the file was exported.
func (c *Client) ApplyByForce(ctx context.Context, name string, file []byte, dryRun, prune bool) (sum api.ChangeSummary, err error) {
	query := url.Values{"dry_run": {fmt.Sprint(dryRun)}, "prune": {fmt.Sprint(prune)}, "force": {"true"}, "file": {name}}
	err = c.do(ctx, http.MethodPost, "/api/v1/apply", query, file, &sum)
	return sum, err
}

// Export returns the site as a site file; of some points alone, where tags or patterns are given.
func (c *Client) Export(ctx context.Context, only ...string) (file []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/export", url.Values{"only": only}, nil, &file)
	return file, err
}

// ChangePoints changes, renames, removes or adds many points in one modification.
func (c *Client) ChangePoints(ctx context.Context, t api.Together) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/change/points", nil, t, &sum)
	return sum, err
}

// ImportPoints takes over a list of points, or says what would come of it; query has station, prefix, columns, defaults, force and dry_run.
func (c *Client) ImportPoints(ctx context.Context, file []byte, query url.Values) (i api.Import, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/import/points", query, file, &i)
	return i, err
}

// ImportStations takes over a list of stations, or says what would come of it; query has link, template, columns, defaults, values and dry_run.
func (c *Client) ImportStations(ctx context.Context, file []byte, query url.Values) (i api.Import, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/import/stations", query, file, &i)
	return i, err
}

// ColumnSets lists what the columns of lists hold, kept under names.
func (c *Client) ColumnSets(ctx context.Context) ([]api.ColumnSet, error) {
	var page api.Page[api.ColumnSet]
	err := c.do(ctx, http.MethodGet, "/api/v1/columns", nil, nil, &page)
	return page.Items, err
}

// KeepColumns keeps columns under a name: their headings, by what they hold.
func (c *Client) KeepColumns(ctx context.Context, name string, columns map[string]string) error {
	return c.do(ctx, http.MethodPut, "/api/v1/columns/"+url.PathEscape(name), nil, api.KeptColumns{Columns: columns}, nil)
}

// DropColumns forgets the columns under a name.
func (c *Client) DropColumns(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/columns/"+url.PathEscape(name), nil, nil, nil)
}

// MarkedPoints writes a copy of a list, as a spreadsheet, in which its faults are marked; query is as of ImportPoints.
func (c *Client) MarkedPoints(ctx context.Context, to io.Writer, file []byte, query url.Values) error {
	return c.do(ctx, http.MethodPost, "/api/v1/import/points/marked", query, file, to)
}

// ExportPoints writes points as a list, in the form csv or xlsx.
func (c *Client) ExportPoints(ctx context.Context, to io.Writer, form string, patterns ...string) error {
	return c.do(ctx, http.MethodGet, "/api/v1/export/points", url.Values{"tag": patterns, "form": {form}}, nil, to)
}

// Explanations say what the reasons of readings and the codes of findings mean.
func (c *Client) Explanations(ctx context.Context) (e api.Explanations, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/explanations", nil, nil, &e)
	return e, err
}

// Backup writes a copy of the service's database.
func (c *Client) Backup(ctx context.Context, to io.Writer) error {
	return c.do(ctx, http.MethodGet, "/api/v1/backup", nil, nil, to)
}

// Readings returns the newest readings of the tags or patterns given.
func (c *Client) Readings(ctx context.Context, patterns ...string) ([]api.Reading, error) {
	return all[api.Reading](ctx, c, "/api/v1/readings", url.Values{"tag": patterns})
}

// Branches are a branch of tags, "" for all points, and those so many levels below it, all of them where levels is 0.
func (c *Client) Branches(ctx context.Context, under string, levels int) ([]api.Branch, error) {
	query := url.Values{"under": {under}}
	if levels > 0 {
		query.Set("depth", strconv.Itoa(levels))
	}
	var list api.Branches
	err := c.do(ctx, http.MethodGet, "/api/v1/branches", query, nil, &list)
	return list.Branches, err
}

// ReadRange reads addresses that no point needs to have.
// Values are of a type and byte order when those are not empty.
func (c *Client) ReadRange(ctx context.Context, station, what, typ, order string) ([]api.RawReading, error) {
	query := url.Values{"range": {what}, "type": {typ}, "order": {order}}
	var page api.Page[api.RawReading]
	err := c.do(ctx, http.MethodGet, entityPath(site.KindStation, station)+"/read", query, nil, &page)
	return page.Items, err
}

// Lens returns a point's raw data under every interpretation.
func (c *Client) Lens(ctx context.Context, tag string) (l api.Lens, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/lens", url.Values{"tag": {tag}}, nil, &l)
	return l, err
}

// Write writes a value to a point.
func (c *Client) Write(ctx context.Context, w api.WriteRequest) (r api.WriteResult, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/write", nil, w, &r)
	return r, err
}

// Status returns the state of communication.
func (c *Client) Status(ctx context.Context) (st api.Status, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/status", nil, nil, &st)
	return st, err
}

// Changes returns at most limit recorded changes, newest first; of one entity when kind and name are given.
func (c *Client) Changes(ctx context.Context, kind site.Kind, name string, limit int) ([]api.Record, error) {
	var page api.Page[api.Record]
	query := url.Values{"limit": {fmt.Sprint(limit)}, "kind": {string(kind)}, "name": {name}}
	err := c.do(ctx, http.MethodGet, "/api/v1/changes", query, nil, &page)
	return page.Items, err
}

// Quarantined lists stored records that did not fit the site when it was loaded.
func (c *Client) Quarantined(ctx context.Context) ([]api.Quarantined, error) {
	var page api.Page[api.Quarantined]
	err := c.do(ctx, http.MethodGet, "/api/v1/quarantine", nil, nil, &page)
	return page.Items, err
}

// Undo undoes a recorded change, with those that were made together with it.
func (c *Client) Undo(ctx context.Context, id int64) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/changes/%d/undo", id), nil, nil, &sum)
	return sum, err
}

// Writes returns at most limit recorded writes, newest first; of one tag when it is given.
func (c *Client) Writes(ctx context.Context, tag string, limit int) ([]api.WriteRecord, error) {
	var page api.Page[api.WriteRecord]
	query := url.Values{"limit": {fmt.Sprint(limit)}, "tag": {tag}}
	err := c.do(ctx, http.MethodGet, "/api/v1/writes", query, nil, &page)
	return page.Items, err
}

// Ports lists the serial ports of the service's machine.
func (c *Client) Ports(ctx context.Context) ([]string, error) {
	var p api.Ports
	err := c.do(ctx, http.MethodGet, "/api/v1/ports", nil, nil, &p)
	return p.Ports, err
}

// Health asks whether the service runs.
func (c *Client) Health(ctx context.Context) (h api.Health, err error) {
	err = c.do(ctx, http.MethodGet, "/healthz", nil, nil, &h)
	return h, err
}

// Live calls f with readings as they change, first with all, until ctx ends or f fails. Its error is f's, ctx's, or
// why the connection ended.
func (c *Client) Live(ctx context.Context, patterns []string, f func(api.LiveMessage) error) error {
	conn, err := c.dial(ctx, "/api/v1/live?"+url.Values{"tag": patterns}.Encode())
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	return hearing(ctx, conn, f)
}

// hearing calls f with the messages of a WebSocket as they come.
func hearing[M any](ctx context.Context, conn *websocket.Conn, f func(M) error) error {
	conn.SetReadLimit(16 << 20)
	for {
		_, data, err := conn.Read(ctx)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("the service ended the connection: %w", err)
		}
		var message M
		if err := json.Unmarshal(data, &message); err != nil {
			return err
		}
		if err := f(message); err != nil {
			return err
		}
	}
}

// say sends a message over a WebSocket.
func say(ctx context.Context, conn *websocket.Conn, message any) error {
	data, err := json.Marshal(message)
	if err != nil {
		return err
	}
	return conn.Write(ctx, websocket.MessageText, data)
}
