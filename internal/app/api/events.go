package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/store"
)

// EventPage is events in their order.
type EventPage struct {
	Items []EventRecord `json:"items"`
	Last  uint64        `json:"last" doc:"id of the newest event there is, whether or not it is wanted"`
}

var eventQuery = []parameter{
	{name: "tag", doc: "tag or pattern, * for any characters"}, {name: "station", doc: "name of a station"}, {name: "after", doc: "only events of a higher id, from the oldest on", is: natural},
	{name: "before", doc: "only events of a lower id, for earlier pages", is: natural}, {name: "from", doc: "only what became known at that time or later", is: instant}, {name: "until", doc: "only what became known before", is: instant},
	{name: "limit", doc: "so many at most (default the newest 200)", is: count(10000)}, {name: "follow", doc: "true: a line of JSON for each event, now and as they come, until the client goes", is: truth},
}

// events lists what devices reported, or follows it.
func (s *Server) events(c *gin.Context) error {
	f := store.EventFilter{Tag: c.Query("tag"), Station: c.Query("station"), Limit: 200}
	for name, to := range map[string]*uint64{"after": &f.After, "before": &f.Before} {
		if text := c.Query(name); text != "" {
			n, err := strconv.ParseUint(text, 10, 63)
			if err != nil {
				return fail(http.StatusBadRequest, "%s=%s: the id of an event is needed", name, text)
			}
			*to = n
		}
	}
	for name, to := range map[string]*time.Time{"from": &f.From, "until": &f.Until} {
		if text := c.Query(name); text != "" {
			t, err := time.Parse(time.RFC3339Nano, text)
			if err != nil {
				return fail(http.StatusBadRequest, "%s=%s: a time as 2026-11-23T08:00:00Z is needed", name, text)
			}
			*to = t
		}
	}
	if text := c.Query("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 10000 {
			return fail(http.StatusBadRequest, "limit=%s: 1 to 10000 is possible", text)
		}
		f.Limit = n
	}
	if f.Station != "" {
		if err := s.exists(c, site.KindStation, f.Station); err != nil {
			return err
		}
	}
	follow, err := flag(c, "follow")
	if err != nil {
		return err
	}
	last := s.engine.Events().Last()
	list, err := s.eventsKept(c.Request.Context(), f, last)
	if err != nil {
		return err
	}
	only := principal(c).Only
	list = slices.DeleteFunc(list, func(e store.EventRecord) bool { return !only.Tag(e.Tag, e.Station) })
	if !follow {
		c.JSON(http.StatusOK, EventPage{each(list, newEventRecord), last})
		return nil
	}
	put := stream(c)
	for _, e := range list {
		put(newEventRecord(e))
	}
	for after := last; ; {
		select {
		case <-c.Request.Context().Done():
			return nil
		case <-s.closing:
			return nil
		case <-s.engine.Events().More(after):
		}
		events, _ := s.engine.Events().After(nil, after, 4096)
		for _, e := range events {
			if after = e.ID; fits(f, e) && only.Tag(e.Point.Tag, e.Point.Station) {
				put(newEventRecord(RecordOfEvent(e)))
			}
		}
	}
}

// eventsKept is what is wanted of the store and of what is not in it yet.
func (s *Server) eventsKept(ctx context.Context, f store.EventFilter, last uint64) ([]store.EventRecord, error) {
	stored, err := s.store.LastEvent(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading events: %w", err)
	}
	older := f
	if older.Before == 0 || older.Before > stored+1 {
		older.Before = stored + 1 // what is stored meanwhile is taken from memory
	}
	list, err := s.store.Events(ctx, older)
	if err != nil {
		return nil, fmt.Errorf("reading events: %w", err)
	}
	fresh, _ := s.engine.Events().After(nil, max(stored, f.After), table.MaxEvents)
	for _, e := range fresh {
		if e.ID <= last && (f.Before == 0 || e.ID < f.Before) && fits(f, e) {
			list = append(list, RecordOfEvent(e))
		}
	}
	if len(list) > f.Limit {
		if f.After > 0 {
			return list[:f.Limit], nil
		}
		list = list[len(list)-f.Limit:]
	}
	return list, nil
}

// RecordOfEvent is an event as it is kept and shown.
func RecordOfEvent(e table.Event) store.EventRecord {
	r := store.EventRecord{ID: e.ID, Tag: e.Point.Tag, Station: e.Point.Station, Value: e.Value, Text: e.Text(), Unit: e.Point.Unit,
		Quality: e.Quality, Reason: e.Reason, Raw: e.Raw.String(), Time: e.Time.UTC(), SourceTime: deviceTime(e.SourceTime)}
	return r
}

// fits reports whether an event is wanted.
func fits(f store.EventFilter, e table.Event) bool {
	return (f.Tag == "" || site.Match(f.Tag, e.Point.Tag)) && (f.Station == "" || e.Point.Station == f.Station) &&
		(f.From.IsZero() || !e.Time.Before(f.From)) && (f.Until.IsZero() || e.Time.Before(f.Until))
}

// ActionRequest is something that a station is asked to do.
type ActionRequest struct {
	Action string `json:"action" doc:"one of those of GET /actions"`
}

// ActionResult is what came of it.
type ActionResult struct {
	Station string `json:"station"`
	Action  string `json:"action"`
	Message string `json:"message"`
}

// Actions are what stations of a protocol can be asked to do.
type Actions struct {
	Protocol site.Protocol `json:"protocol"`
	Actions  []Action      `json:"actions"`
}

func (s *Server) actions(c *gin.Context) error {
	for _, p := range site.Protocols() {
		if list := s.engine.Actions(p); len(list) > 0 {
			c.JSON(http.StatusOK, Actions{p, newActions(list)})
			return nil
		}
	}
	c.JSON(http.StatusOK, Actions{Actions: []Action{}})
	return nil
}

// ask runs a protocol action on a station; it is recorded as writes are.
func (s *Server) ask(c *gin.Context) error {
	st, err := s.station(c, name(c))
	if err != nil {
		return err
	}
	request, err := request[ActionRequest](c)
	if err != nil {
		return err
	}
	known := ""
	for _, a := range s.engine.Actions(st.Speaks()) {
		if a.Name == request.Action {
			known = a.Name
		}
	}
	if known == "" {
		return fail(http.StatusUnprocessableEntity, "%q is nothing that station %s can be asked to do; arithmon station ask --help lists what is", request.Action, st.Name)
	}
	message, err := s.control.Act(c.Request.Context(), principal(c), st.Name, known)
	if err != nil {
		return gateway(err)
	}
	c.JSON(http.StatusOK, ActionResult{st.Name, known, message})
	return nil
}
