package link

import (
	"log/slog"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/live/table"
)

// State is what a link is doing.
type State string

// The states of a link.
const (
	Disabled   State = "disabled"
	Idle       State = "idle" // nothing to ask on it
	Connecting State = "connecting"
	Up         State = "up"
	Down       State = "down"
	Paused     State = "paused" // a probe or scan has the line
)

// StationState is what is known of a station.
type StationState string

// The states of a station.
const (
	StationDisabled  StationState = "disabled"
	StationUnknown   StationState = "unknown" // not asked yet
	StationAnswering StationState = "answering"
	StationSilent    StationState = "silent"
)

// Status is a link at one moment.
type Status struct {
	Name        string
	State       State
	Reason      string    // why it is in this state, in words
	Doing       string    // of a dialup link: initialising, dialling, connected, hanging up, busy, no carrier, no answer
	Since       time.Time // when it came into this state
	Connections uint64    // how often it was opened
	Statistics  Statistics
	Traffic     Traffic
	Figures     Windows
}

// StationStatus is a station at one moment.
type StationStatus struct {
	Name       string
	Link       string
	State      StationState
	Reason     string      // why it is in this state, in words
	Since      time.Time   // when it came into this state
	Says       []string    // what the device says of its own state, in words
	Points     table.Count // how many of its points have each quality
	Statistics Statistics
	Figures    Windows
}

// Statistics counts exchanges.
type Statistics struct {
	Requests    uint64
	Answers     uint64            // refusals by the device included
	Failures    map[string]uint64 // by reason
	Retries     uint64
	Renewals    uint64 // connections given up because nothing answered on them
	Polls       uint64
	LatePolls   uint64  // begun more than 50 ms after they were due
	RoundTripMS float64 // recent mean, in milliseconds
	LastAnswer  *time.Time
}

func (s *Statistics) answered(took time.Duration, at time.Time) {
	ms := float64(took) / float64(time.Millisecond)
	if s.LastAnswer == nil {
		s.RoundTripMS = ms
		s.LastAnswer = new(time.Time)
	}
	s.RoundTripMS += (ms - s.RoundTripMS) / 16
	*s.LastAnswer = at
}

func (s *Statistics) fail(reason reading.Reason) {
	if s.Failures == nil {
		s.Failures = map[string]uint64{}
	}
	s.Failures[string(reason)]++
}

func (s Statistics) clone() Statistics {
	s.Failures = maps.Clone(s.Failures)
	if s.LastAnswer != nil {
		at := s.LastAnswer.UTC()
		s.LastAnswer = &at
	}
	return s
}

// Add counts o, too.
func (t *Traffic) Add(o Traffic) {
	t.BytesSent += o.BytesSent
	t.BytesReceived += o.BytesReceived
	t.Late += o.Late
	t.Foreign += o.Foreign
	t.Stray += o.Stray
}

// count changes the statistics of the link and of a station, which may be nil.
func (r *Runner) count(s *stationRun, change func(*Statistics)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	change(&r.status.Statistics)
	if s != nil {
		change(&s.status.Statistics)
	}
}

// levels are those at which states of links and stations are logged; info when not listed.
var levels = map[string]slog.Level{
	string(Down): slog.LevelWarn, string(Idle): slog.LevelDebug, string(Connecting): slog.LevelDebug, string(Disabled): slog.LevelDebug,
	string(StationSilent): slog.LevelWarn, string(StationUnknown): slog.LevelDebug,
}

// logState logs that the link or a station has another state.
func (r *Runner) logState(what, state, why string, attributes ...any) {
	if why != "" {
		attributes = append(attributes, "reason", why)
	}
	r.log.Log(r.ctx, levels[state], what+" "+state, attributes...)
}

func (r *Runner) setLink(state State, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.status.State != state || r.status.Since.IsZero() {
		r.status.Since = time.Now().UTC()
		r.logState("link", string(state), why, "link", r.link.Name, "far_end", r.link.FarEnd())
	}
	r.status.State, r.status.Reason = state, why
}

func (r *Runner) setStation(s *stationRun, state StationState, why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s.status.State != state || s.status.Since.IsZero() {
		s.status.Since = time.Now().UTC()
		r.logState("station", string(state), why, "link", r.link.Name, "station", s.Name)
	}
	s.status.State, s.status.Reason = state, why
}

// Snapshot returns the state of the link and of its stations by name.
func (r *Runner) Snapshot() (Status, []StationStatus) {
	r.mu.Lock()
	defer r.mu.Unlock()
	link := r.status
	link.Statistics = link.Statistics.clone()
	link.Traffic = r.ended
	for _, c := range r.connections {
		if c.session != nil {
			link.Traffic.Add(c.session.Traffic())
		}
	}
	now := time.Now()
	stations := make([]StationStatus, 0, len(r.stations))
	for _, s := range r.stations {
		status := s.status
		status.Statistics = status.Statistics.clone()
		status.Points = r.table.Count(s.Slots)
		status.Figures = s.figures.windows(now)
		stations = append(stations, status)
	}
	link.Figures = r.sum(now).windows(now)
	slices.SortFunc(stations, func(a, b StationStatus) int { return strings.Compare(a.Name, b.Name) })
	return link, stations
}

// Brief is in short how a link or a station communicates.
type Brief struct {
	Name        string
	State       string
	GoodShare   float64   // of the exchanges of the last minute, 0 to 1; NaN when there were none
	RoundTripMS float64   // recent mean, in milliseconds
	LastAnswer  time.Time // zero when there was none
}

// Brief says in short how the link and its stations communicate. It costs a small part of what a Snapshot does.
func (r *Runner) Brief(now time.Time) (of Brief, stations []Brief) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var all exchanged
	if r.figures != nil {
		all = r.figures.exchanged(now)
	}
	stations = make([]Brief, 0, len(r.stations))
	for _, s := range r.stations {
		its := s.figures.exchanged(now)
		all.requests, all.failed = all.requests+its.requests, all.failed+its.failed
		stations = append(stations, s.status.Statistics.brief(s.Name, string(s.status.State), its))
	}
	return r.status.Statistics.brief(r.link.Name, string(r.status.State), all), stations
}

func (s *Statistics) brief(name, state string, lately exchanged) Brief {
	b := Brief{Name: name, State: state, GoodShare: math.NaN(), RoundTripMS: s.RoundTripMS}
	if lately.requests > 0 {
		b.GoodShare = lately.good()
	}
	if s.LastAnswer != nil {
		b.LastAnswer = *s.LastAnswer
	}
	return b
}
