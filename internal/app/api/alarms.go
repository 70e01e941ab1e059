package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/moment"
	"arithmon/internal/core/site"
	live "arithmon/internal/live/alarm"
	"arithmon/internal/record/alarmlog"
)

// Alarm is a limit of a point that is, or was, exceeded, in the states of ISA-18.2.
type Alarm struct {
	Tag          string      `json:"tag"`
	Limit        site.Limit  `json:"limit" enum:"low_low,low,high,high_high,rate,state,quality" doc:"which is exceeded; quality: the point is bad"`
	State        alarm.State `json:"state" enum:"active,acknowledged,gone," doc:"active: out, and nobody has acknowledged it; acknowledged: out; gone: within again, and nobody has acknowledged it; empty: within, and shelved"`
	Severity     int         `json:"severity" doc:"1, the most urgent, to 4"`
	Since        *time.Time  `json:"since" doc:"when it became active"`
	GoneAt       *time.Time  `json:"gone_at,omitempty" doc:"when it was within again"`
	Value        codec.Value `json:"value" doc:"with which it became active"`
	Text         string      `json:"text" doc:"that value as a person reads it, with its unit"`
	Now          string      `json:"now" doc:"the value now, likewise"`
	Bound        *float64    `json:"bound,omitempty" doc:"that is exceeded, where it is a number"`
	BoundText    string      `json:"bound_text,omitempty" doc:"that, as a person reads it"`
	Unknown      bool        `json:"unknown,omitempty" doc:"true: the point is not good now, so that it cannot be told whether this still holds"`
	AckedBy      string      `json:"acknowledged_by,omitempty"`
	AckedAt      *time.Time  `json:"acknowledged_at,omitempty"`
	ShelvedBy    string      `json:"shelved_by,omitempty"`
	ShelvedUntil *time.Time  `json:"shelved_until,omitempty" doc:"until then nobody is told of it"`
	Note         string      `json:"note,omitempty" doc:"what was said when it was acknowledged or shelved"`
}

func newAlarm(a live.Standing) Alarm {
	return Alarm{Tag: a.Tag, Limit: a.Key.Limit, State: a.State, Severity: a.Severity, Since: when(a.Since), GoneAt: when(a.GoneAt), Value: a.Value, Text: a.Was, Now: a.Now, Bound: a.Bound, BoundText: a.Limit,
		Unknown: a.Unknown, AckedBy: a.AckedBy, AckedAt: when(a.AckedAt), ShelvedBy: a.ShelvedBy, ShelvedUntil: when(a.ShelvedTo), Note: a.Note}
}

// AlarmCounts say how many alarms there are.
type AlarmCounts struct {
	Active         int `json:"active" doc:"out of their limit now"`
	Unacknowledged int `json:"unacknowledged" doc:"that nobody has acknowledged, gone or not"`
	Shelved        int `json:"shelved"`
	Urgent         int `json:"urgent" doc:"the most urgent severity among them; 0 for none"`
}

// Alarms are the alarms that stand, the most urgent first.
type Alarms struct {
	Items  []Alarm     `json:"items"`
	Counts AlarmCounts `json:"counts" doc:"of all that may be seen"`
	Next   string      `json:"next,omitempty"`
}

// AlarmEntry is one thing that happened to an alarm.
type AlarmEntry struct {
	ID       int64      `json:"id"`
	Time     time.Time  `json:"time"`
	Tag      string     `json:"tag"`
	Limit    site.Limit `json:"limit" enum:"low_low,low,high,high_high,rate,state,quality"`
	Step     alarm.Step `json:"step" enum:"active,gone,acknowledged,shelved,unshelved,removed" doc:"removed: the limit, or the point, is not there any more"`
	Value    string     `json:"value" doc:"as a person reads it, with its unit"`
	Bound    *float64   `json:"bound,omitempty"`
	Severity int        `json:"severity"`
	Who      string     `json:"who,omitempty"`
	Note     string     `json:"note,omitempty"`
	Until    *time.Time `json:"until,omitempty" doc:"of one that was shelved"`
}

func newAlarmEntry(e alarmlog.Entry) AlarmEntry {
	out := AlarmEntry{e.ID, e.Time, e.Tag, e.Limit, e.Step, e.Value, e.Bound, e.Severity, e.Who, e.Note, nil}
	if e.Step == alarm.ShelvedStep {
		out.Until = when(e.Until)
	}
	return out
}

// AlarmDeed is what is done to alarms.
type AlarmDeed struct {
	Tags  []string   `json:"tags" doc:"tags or patterns of the points"`
	Limit site.Limit `json:"limit,omitempty" doc:"which alone is meant (default all of the points)" enum:"low_low,low,high,high_high,rate,state,quality"`
	For   string     `json:"for,omitempty" doc:"shelving: how long, 1m to 7d: 2h"`
	Note  string     `json:"note,omitempty" doc:"why"`
}

// AlarmsDone is to how many alarms it was done.
type AlarmsDone struct {
	Done int `json:"done"`
}

// Bounds of what is done to alarms.
const (
	leastShelf = time.Minute
	mostShelf  = 7 * 24 * time.Hour
	mostNote   = 500
)

func (s *Server) alarmRoutes() []route {
	deeds := "tags, or patterns, and the limit if not all of them are meant"
	return []route{
		{"GET", "/api/v1/alarms", viewerOfPart, "alarms that stand, the most urgent first", append([]parameter{{name: "tag", doc: "tag or pattern; may be repeated", many: true}, {name: "state", doc: "active, acknowledged, gone or shelved (default all that are not shelved)", is: choice("active", "acknowledged", "gone", "shelved", "all")}}, paging...), nil, Alarms{}, 200, s.listAlarms},
		{"GET", "/api/v1/alarms/history", viewerOfPart, "what happened to alarms, newest first", []parameter{{name: "tag", doc: "tag or pattern; may be repeated", many: true}, {name: "from", doc: "the beginning" + spanDoc}, {name: "to", doc: "the end" + spanDoc}, {name: "after", doc: "only entries of a higher id, from the oldest on", is: natural}, {name: "limit", doc: "most entries of a page (default 1000)", is: count(10000)}, {name: "cursor", doc: "next of the page before"}, {name: "follow", doc: "true: a line of JSON for each that comes, until the client goes", is: truth}}, nil, Page[AlarmEntry]{}, 200, s.alarmHistory},
		{"POST", "/api/v1/alarms/acknowledge", operatorOfPart, "acknowledge alarms: " + deeds, nil, AlarmDeed{}, AlarmsDone{}, 200, s.acknowledge},
		{"POST", "/api/v1/alarms/shelve", operatorOfPart, "have nobody told of alarms for a while: " + deeds, nil, AlarmDeed{}, AlarmsDone{}, 200, s.shelve},
		{"POST", "/api/v1/alarms/unshelve", operatorOfPart, "end that: " + deeds, nil, AlarmDeed{}, AlarmsDone{}, 200, s.unshelve},
	}
}

// seesTag says which tags somebody may see, of those that fit some patterns if there are any.
func (s *Server) seesTag(c *gin.Context, patterns []string) func(tag string) bool {
	only, now := principal(c).Only, s.store.Site()
	return func(tag string) bool {
		if len(patterns) > 0 && !slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, tag) }) {
			return false
		}
		p, _ := now.Point(tag)
		return only.Tag(tag, p.Station)
	}
}

func (s *Server) listAlarms(c *gin.Context) error {
	patterns := slices.DeleteFunc(slices.Clone(c.QueryArray("tag")), func(p string) bool { return p == "" })
	sees, all := s.seesTag(c, patterns), s.seesTag(c, nil)
	state := c.Query("state")
	list := s.alarms.List(func(a *alarm.Alarm) bool {
		switch state {
		case "":
			return a.Counts() && sees(a.Tag)
		case "all":
			return sees(a.Tag)
		case "shelved":
			return a.Shelved() && sees(a.Tag)
		}
		return string(a.State) == state && !a.Shelved() && sees(a.Tag)
	})
	page, next, err := part(c, list)
	if err != nil {
		return err
	}
	n := s.alarms.Counts(func(a *alarm.Alarm) bool { return all(a.Tag) })
	c.JSON(http.StatusOK, Alarms{each(page, newAlarm), AlarmCounts(n), next})
	return nil
}

func (s *Server) alarmHistory(c *gin.Context) error {
	f := alarmlog.Filter{Limit: 1000, Match: s.seesTag(c, slices.DeleteFunc(slices.Clone(c.QueryArray("tag")), func(p string) bool { return p == "" }))}
	for name, to := range map[string]*time.Time{"from": &f.From, "to": &f.Until} {
		if text := c.Query(name); text != "" {
			t, err := moment.Parse(text, time.Now(), time.UTC)
			if err != nil {
				return fail(http.StatusBadRequest, "%s=%s: %s", name, text, err)
			}
			*to = t
		}
	}
	if text := c.Query("after"); text != "" {
		f.After, _ = strconv.ParseInt(text, 10, 64) // the query was checked
		f.Forward = true
	}
	follow, err := flag(c, "follow")
	if err != nil {
		return err
	}
	ctx := c.Request.Context()
	if follow {
		return s.followAlarms(c, f)
	}
	limit, before, err := recordCursor(c)
	if err != nil {
		return err
	}
	f.Limit, f.Before = limit, before
	list, err := s.alarmLog.Entries(ctx, f)
	if err != nil {
		return fmt.Errorf("reading alarms: %w", err)
	}
	out := Page[AlarmEntry]{Items: each(list, newAlarmEntry)}
	if len(list) == limit && !f.Forward {
		out.Next = cursorOf(fmt.Sprint(list[limit-1].ID))
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// followAlarms writes what happens to alarms, as it is put on the disk.
func (s *Server) followAlarms(c *gin.Context, f alarmlog.Filter) error {
	ctx := c.Request.Context()
	if !f.Forward {
		last, err := s.alarmLog.Last(ctx)
		if err != nil {
			return fmt.Errorf("reading alarms: %w", err)
		}
		f.After = last
	}
	f.Limit, f.Forward = 10_000, true
	put := stream(c)
	for {
		committed := s.alarmLog.Committed()
		list, err := s.alarmLog.Entries(ctx, f)
		if err != nil {
			return nil // the client sees that the stream ends
		}
		for _, e := range list {
			f.After = e.ID
			put(newAlarmEntry(e))
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.closing:
			return nil
		case <-committed:
		}
	}
}

// unfit is the fault of a field of a request.
func unfit(field, value, format string, args ...any) error {
	return site.Errors{&site.FieldError{Field: field, Value: value, Message: fmt.Sprintf(format, args...)}}
}

// deed reads what is to be done, to which alarms.
func (s *Server) deed(c *gin.Context) (d AlarmDeed, fits func(*alarm.Alarm) bool, err error) {
	if d, err = request[AlarmDeed](c); err != nil {
		return d, nil, err
	}
	if len(d.Tags) == 0 {
		return d, nil, unfit("tags", "", "is missing; name at least one tag or pattern")
	}
	if d.Limit != "" && !slices.Contains(site.AllLimits(), d.Limit) {
		return d, nil, unfit("limit", string(d.Limit), "is no limit: low_low, low, high, high_high, rate, state or quality")
	}
	if len(d.Note) > mostNote {
		return d, nil, unfit("note", d.Note[:20]+"…", "has %d bytes; at most %d are kept", len(d.Note), mostNote)
	}
	now := s.site(c)
	for _, p := range d.Tags {
		if _, is := now.Point(p); !is && !site.IsPattern(p) {
			return d, nil, notFound(now, site.KindPoint, p)
		}
	}
	sees := s.seesTag(c, d.Tags)
	return d, func(a *alarm.Alarm) bool { return sees(a.Tag) && (d.Limit == "" || a.Limit == d.Limit) }, nil
}

func (s *Server) acknowledge(c *gin.Context) error {
	d, fits, err := s.deed(c)
	if err != nil {
		return err
	}
	n, err := s.alarms.Acknowledge(c.Request.Context(), fits, principal(c).Name(), d.Note)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, AlarmsDone{n})
	return nil
}

func (s *Server) shelve(c *gin.Context) error {
	d, _, err := s.deed(c)
	if err != nil {
		return err
	}
	length, err := moment.Span(d.For)
	if err != nil || length < leastShelf || length > mostShelf {
		return unfit("for", d.For, "%q: how long is needed, 1m to 7d, such as 2h", d.For)
	}
	n, err := s.alarms.Shelve(c.Request.Context(), s.seesTag(c, d.Tags), d.Limit, time.Now().Add(length), principal(c).Name(), d.Note)
	if errors.Is(err, live.ErrNone) {
		return fail(http.StatusNotFound, "none of these points has such a limit; arithmon point set TAG --limits '{high: 2.6}' gives one")
	} else if err != nil {
		return err
	}
	c.JSON(http.StatusOK, AlarmsDone{n})
	return nil
}

func (s *Server) unshelve(c *gin.Context) error {
	_, fits, err := s.deed(c)
	if err != nil {
		return err
	}
	n, err := s.alarms.Unshelve(c.Request.Context(), fits, principal(c).Name())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, AlarmsDone{n})
	return nil
}
