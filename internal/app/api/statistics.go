package api

import (
	"time"

	"arithmon/internal/live/link"
)

// LinkStatus is a link at one moment.
type LinkStatus struct {
	Name        string     `json:"name"`
	State       link.State `json:"state" enum:"disabled,idle,connecting,up,down,paused"`
	Reason      string     `json:"reason,omitempty" doc:"why it is in this state, in words"`
	Doing       string     `json:"doing,omitempty" doc:"of a dialup link: initialising, dialling, connected, hanging up, busy, no carrier, no answer"`
	Since       time.Time  `json:"since" doc:"when it came into this state"`
	Connections uint64     `json:"connections" doc:"how often it was opened"`
	Statistics  Statistics `json:"statistics"`
	Traffic     Traffic    `json:"traffic"`
	Figures     Windows    `json:"figures"`
}

// newLinkStatus makes what the API says of a link.
func newLinkStatus(l link.Status) LinkStatus {
	return LinkStatus{Name: l.Name, State: l.State, Reason: l.Reason, Doing: l.Doing, Since: l.Since, Connections: l.Connections,
		Statistics: Statistics(l.Statistics), Traffic: Traffic(l.Traffic), Figures: newWindows(l.Figures)}
}

// StationStatus is a station at one moment.
type StationStatus struct {
	Name       string            `json:"name"`
	Link       string            `json:"link"`
	State      link.StationState `json:"state" enum:"disabled,unknown,answering,silent"`
	Reason     string            `json:"reason,omitempty" doc:"why it is in this state, in words"`
	Since      time.Time         `json:"since" doc:"when it came into this state"`
	Says       []string          `json:"says,omitempty" doc:"what the device says of its own state, in words"`
	Points     Count             `json:"points" doc:"how many of its points have each quality"`
	Statistics Statistics        `json:"statistics"`
	Figures    Windows           `json:"figures"`
}

func newStationStatus(s link.StationStatus) StationStatus {
	return StationStatus{Name: s.Name, Link: s.Link, State: s.State, Reason: s.Reason, Since: s.Since, Says: s.Says,
		Points: Count(s.Points), Statistics: Statistics(s.Statistics), Figures: newWindows(s.Figures)}
}

// newStatus makes a status of those of links and stations.
func newStatus(links []link.Status, stations []link.StationStatus) Status {
	s := Status{make([]LinkStatus, len(links)), make([]StationStatus, len(stations))}
	for i, l := range links {
		s.Links[i] = newLinkStatus(l)
	}
	for i, st := range stations {
		s.Stations[i] = newStationStatus(st)
	}
	return s
}

// Count is how many points have each quality.
type Count struct {
	Good      int `json:"good"`
	Uncertain int `json:"uncertain"`
	Bad       int `json:"bad"`
}

// Statistics counts exchanges.
type Statistics struct {
	Requests    uint64            `json:"requests"`
	Answers     uint64            `json:"answers" doc:"refusals by the device included"`
	Failures    map[string]uint64 `json:"failures,omitempty" doc:"by reason"`
	Retries     uint64            `json:"retries"`
	Renewals    uint64            `json:"renewals" doc:"connections given up because nothing answered on them"`
	Polls       uint64            `json:"polls"`
	LatePolls   uint64            `json:"late_polls" doc:"begun more than 50 ms after they were due"`
	RoundTripMS float64           `json:"round_trip_ms" doc:"recent mean, in milliseconds"`
	LastAnswer  *time.Time        `json:"last_answer,omitempty"`
}

// Figures say how well a link or station communicated over a time.
type Figures struct {
	Seconds    float64        `json:"seconds" doc:"how long the time was"`
	Requests   uint32         `json:"requests"`
	Answers    uint32         `json:"answers" doc:"refusals included"`
	Good       float64        `json:"good" doc:"share of exchanges that brought data, 0 to 1; 1 when there were none"`
	Timeouts   uint32         `json:"timeouts"`
	Checksums  uint32         `json:"checksum_errors"`
	Malformed  uint32         `json:"bad_responses" doc:"responses that are none to the request"`
	Exceptions map[int]uint16 `json:"exceptions,omitempty" doc:"refusals by code; 0 stands for those above 11"`
	Retries    uint32         `json:"retries"`
	Reconnects uint32         `json:"reconnections"`
	Late       uint32         `json:"late_answers" doc:"that came after their request had timed out"`
	Foreign    uint32         `json:"foreign_answers" doc:"to no request under way"`
	Stray      uint32         `json:"stray_answers" doc:"what came though nothing was asked"`
	Sent       uint32         `json:"bytes_sent"`
	Received   uint32         `json:"bytes_received"`
	Occupancy  float64        `json:"occupancy" doc:"share of the time in which an exchange was under way, 0 to 1; more where several are at once"`
	RoundTrip  RoundTrip      `json:"round_trip_ms"`
	LatePolls  uint32         `json:"late_polls" doc:"begun more than 50 ms after they were due"`
	MeanLate   float64        `json:"mean_late_ms" doc:"of all polls"`
	MostLate   float64        `json:"most_late_ms"`
}

// RoundTrip is the spread of round trips in milliseconds; zeros when there were none.
type RoundTrip struct {
	Least  float64 `json:"least"`
	Median float64 `json:"median"`
	P95    float64 `json:"p95" doc:"95 of 100 were quicker"`
	P99    float64 `json:"p99"`
	Most   float64 `json:"most"`
}

// TrendStep is one of the steps of a trend.
type TrendStep struct {
	Answers uint32  `json:"answers"`
	Failed  uint32  `json:"failed"`
	Median  float64 `json:"median_ms"`
}

// Windows are the figures over several times.
type Windows struct {
	Minute  Figures     `json:"minute" doc:"over the last minute, or since the station began to be asked in another way, if that is less"`
	Quarter Figures     `json:"quarter" doc:"over the last quarter of an hour"`
	Total   Figures     `json:"total" doc:"since the service started, or since they were reset"`
	Since   time.Time   `json:"since" doc:"of total"`
	Trend   []TrendStep `json:"trend" doc:"the last minute in steps of five seconds, the newest last"`
}

// Traffic counts what crossed a link.
type Traffic struct {
	BytesSent     uint64 `json:"bytes_sent"`
	BytesReceived uint64 `json:"bytes_received"`
	Late          uint64 `json:"late_answers" doc:"responses that came after their request had timed out"`
	Foreign       uint64 `json:"foreign_answers" doc:"answers to no request of ours"`
	Stray         uint64 `json:"stray_answers" doc:"what came though nothing was asked"`
}

func newFigures(f link.Figures) Figures {
	return Figures{f.Seconds, f.Requests, f.Answers, f.Good, f.Timeouts, f.Checksums, f.Malformed, f.Exceptions, f.Retries, f.Reconnects, f.Late, f.Foreign,
		f.Stray, f.Sent, f.Received, f.Occupancy, RoundTrip(f.RoundTrip), f.LatePolls, f.MeanLate, f.MostLate}
}

func newWindows(w link.Windows) Windows {
	out := Windows{newFigures(w.Minute), newFigures(w.Quarter), newFigures(w.Total), w.Since, make([]TrendStep, len(w.Trend))}
	for i, step := range w.Trend {
		out.Trend[i] = TrendStep(step)
	}
	return out
}
