package link

import (
	"cmp"
	"errors"
	"maps"
	"slices"
	"time"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/reading"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/traffic"
)

// FrameSeen is for Host: it counts a frame and keeps it.
func (r *Runner) FrameSeen(f Frame) {
	now := f.At
	if now.IsZero() {
		now = time.Now()
	}
	name := ""
	r.mu.Lock()
	s := r.units[f.Unit]
	if asked := r.units[f.Asked]; asked != nil && (f.Kind == traffic.Foreign || f.Unit < 0) { // in whose place it came
		s = asked
	}
	if s != nil {
		name = s.status.Name
	}
	r.since.saw(f)
	if f.Kind == traffic.Damaged && printable(f.Data) {
		r.words = string(f.Data[:min(len(f.Data), mostWords)])
	}
	if s == nil {
		r.own().at(now, func(t *tally) { t.saw(f) })
	} else {
		s.since.saw(f)
		s.figures.at(now, func(t *tally) { t.saw(f) })
		if f.Kind == traffic.Foreign && f.Unit != s.LinkAddress() && f.Unit >= 0 {
			s.otherUnit, s.otherAt = f.Unit, now
		}
		if f.Kind == traffic.Closed && s.lastKind == traffic.Answer {
			s.figures.at(now, func(t *tally) { t.closedAfter++ })
		}
		if f.Kind == traffic.Answer || f.Kind == traffic.Timeout {
			s.lastKind = f.Kind
		}
	}
	r.mu.Unlock()
	r.ring.Add(traffic.Frame{Time: now, Station: name, Unit: f.Unit, Kind: f.Kind, Data: f.Data, After: f.After, Text: f.Text, Ends: f.Ends})
}

// mostWords is how much is kept of a text that came in place of frames.
const mostWords = 64

// printable reports whether octets are a text, as a program of another kind sends it.
func printable(data []byte) bool {
	for _, b := range data {
		if (b < ' ' || b > '~') && b != '\r' && b != '\n' && b != '\t' {
			return false
		}
	}
	return len(data) > 3
}

// own returns the figures of what is the link's alone, made when there is any. r.mu is held.
func (r *Runner) own() *figures {
	if r.figures == nil {
		r.figures = new(figures)
	}
	return r.figures
}

// sum returns the figures of the link and its stations together. r.mu is held.
func (r *Runner) sum(now time.Time) *figures {
	sum := new(figures)
	if r.figures != nil {
		sum.sum(r.figures, now)
	}
	for _, s := range r.stations {
		sum.sum(&s.figures, now)
	}
	return sum
}

// saw counts a frame: its bytes, and what is not of an ordinary exchange.
func (t *tally) saw(f Frame) {
	if f.Kind == traffic.Sent {
		t.sent += uint32(len(f.Data))
	} else {
		t.received += uint32(len(f.Data))
	}
	if f.Alien { // whose response may follow; it is nobody's fault here
		t.alien++
		return
	}
	switch f.Kind {
	case traffic.Late:
		t.late++
		t.slowest = max(t.slowest, float32(f.After)/float32(time.Millisecond))
	case traffic.Foreign:
		t.foreign++
	case traffic.Stray:
		t.stray++
	case traffic.Damaged:
		t.damaged++
	case traffic.Echo:
		t.echoes++
	}
}

// exchanged counts an exchange that has ended.
func (t *tally) exchanged(out Outcome, took time.Duration, repeated bool) {
	t.requests++
	t.busy += float32(took.Seconds())
	if repeated {
		t.retries++
	}
	code, refused := out.Reason.Exception()
	if out.Err == nil || out.Answered || refused {
		t.answers++
		t.trip(took)
	}
	switch {
	case out.Err == nil:
	case refused:
		t.exceptions++
		t.code(int(code))
	case out.Reason == reading.Timeout:
		t.timeouts++
	case out.Reason == reading.Checksum:
		t.checksums++
	case out.Reason == reading.LinkDown:
		t.closed++
	default:
		t.malformed++
	}
	if out.Short {
		t.short++
	}
}

func (t *tally) counts() diagnose.Counts {
	c := diagnose.Counts{
		Requests: int(t.requests), Answers: int(t.answers), Timeouts: int(t.timeouts), Checksums: int(t.checksums), Malformed: int(t.malformed),
		Closed: int(t.closed), Late: int(t.late), Foreign: int(t.foreign), Stray: int(t.stray), Echoes: int(t.echoes), Damaged: int(t.damaged), Alien: int(t.alien),
		Sent: int(t.sent), Received: int(t.received), Exceptions: map[int]int{},
	}
	for code, n := range t.byCode() {
		c.Exceptions[code] = int(n)
	}
	return c
}

// refusal is a job that a device refused for good.
type refusal struct {
	diagnose.Refusal
	tried time.Time // when it was asked what would work instead
}

// remember keeps what a device refuses, and forgets it once it answers. r.mu is not held.
func (r *Runner) remember(e *entry, out Outcome) {
	asks, ok := e.job.(Refusable)
	if !ok || len(e.job.Slots()) == 0 {
		return
	}
	code, refused := out.Reason.Exception()
	r.mu.Lock()
	defer r.mu.Unlock()
	s := e.station
	if !refused || out.Instead != nil || out.Later || code > 3 {
		if out.Err == nil {
			delete(s.refusals, e)
		}
		return
	}
	if s.refusals[e] != nil {
		return
	}
	what := asks.Asks()
	known := &refusal{Refusal: diagnose.Refusal{Code: int(code), Table: what.Start.Space, From: int(what.Start.Offset), Count: what.Count}}
	for _, slot := range e.job.Slots() {
		known.Points = append(known.Points, diagnose.At{Tag: slot.Point.Tag, Address: slot.Point.Address})
	}
	if s.refusals == nil {
		s.refusals = map[*entry]*refusal{}
	}
	s.refusals[e] = known
}

// Evidence gathers what is known of the link and its stations.
func (r *Runner) Evidence(now time.Time) (diagnose.Link, []diagnose.Station) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := diagnose.Link{
		Link: r.link, Up: r.status.State == Up, Down: r.status.State == Down, Failure: r.failure, Port: r.meant, Failures: r.failures,
		Reason: r.status.Reason, Worked: r.status.Statistics.Answers > 0,
	}
	if ago := now.Sub(r.foundAt); len(r.found) > 0 && ago < foundFor {
		l.Found, l.FoundAgo = slices.Clone(r.found), ago
	}
	l.Manner, l.Words = r.others.manner, r.words
	if l.Other, l.Place, l.Slow, l.Looked = r.others.found, r.others.place, r.others.slow, r.others.done; !l.Worked {
		l.Tried = r.others.tried
	}
	for _, c := range r.connections {
		if c.session != nil {
			l.Open++
		}
	}
	var stations []diagnose.Station
	for _, s := range r.stations {
		if s.status.State == StationDisabled {
			continue
		}
		t, _ := over(s.figures.fine[:], now, fineStep)
		st := diagnose.Station{
			Station: s.Station.Station, Silent: s.status.State == StationSilent, Answering: s.status.State == StationAnswering, Reason: s.status.Reason,
			Counts: t.counts(), OtherUnit: -1, Instead: s.instead, Short: int(max(t.short, s.since.short)), ClosedAfter: int(t.closedAfter),
			Slowest: time.Duration(max(t.slowest, s.since.slowest) * float32(time.Millisecond)), Median: time.Duration(t.percentile(0.5) * float64(time.Millisecond)),
		}
		st.Since = s.since.counts()
		st.Rest = s.rests.needed()
		st.Demand, st.Polls, st.LatePolls = s.demand, int(t.polls), int(t.latePolls)
		if t.requests > 0 {
			st.Exchange = time.Duration(float64(t.busy)/float64(t.requests)*float64(time.Second)) + time.Duration(r.link.Pause)
		}
		n := r.table.Count(s.Slots)
		if n.Uncertain+n.Bad > 0 && st.Answering {
			st.Flags = r.flags(s, now)
		} else {
			s.flagged = nil
		}
		switch {
		case n.Good+n.Uncertain > 0 || n.Bad == 0:
			s.notBad = now
		default:
			st.Bad, st.BadFor, st.Why = n.Bad, now.Sub(s.notBad), r.table.Why(s.Slots)
		}
		if st.Silent {
			st.Failure = s.failure
		}
		if now.Sub(s.otherAt) < time.Minute {
			st.OtherUnit = s.otherUnit
		}
		if len(s.notes) > 0 {
			st.Notes = maps.Clone(s.notes)
			maps.DeleteFunc(st.Notes, func(k diagnose.NoteKind, n diagnose.Note) bool {
				return k.Occurrence() && now.Sub(n.At) > diagnose.Remembered
			})
		}
		for _, known := range s.refusals {
			st.Refused = append(st.Refused, known.Refusal)
		}
		slices.SortFunc(st.Refused, func(a, b diagnose.Refusal) int { return a.From - b.From })
		stations = append(stations, st)
	}
	slices.SortFunc(stations, func(a, b diagnose.Station) int {
		if a.Station.Name < b.Station.Name {
			return -1
		}
		return 1
	})
	t, _ := over(r.sum(now).fine[:], now, fineStep)
	l.Counts = t.counts()
	l.ExtraRefused = int(t.extra)
	l.Since = r.since.counts()
	if now.Sub(r.faultAt) < diagnose.Remembered {
		l.Faults, l.Fault = r.faults, r.fault
	}
	return l, stations
}

// flaggedFor is how long a device flags a point before it counts: after a restart, or while a value settles, it does so for a moment.
const flaggedFor = 20 * time.Second

// flags are the points of a station that its device flags for a while now, by reason. r.mu is held.
func (r *Runner) flags(s *stationRun, now time.Time) (list []diagnose.Flagged) {
	driver, can := r.driver.(Flagger)
	if !can {
		return nil
	}
	since := map[reading.Reason]time.Time{}
	for reason, tags := range r.table.Flagged(s.Slots, driver.Flags()) {
		began, known := s.flagged[reason]
		if !known {
			began = now
		}
		since[reason] = began
		if now.Sub(began) >= flaggedFor {
			list = append(list, diagnose.Flagged{Reason: reason, Tags: tags})
		}
	}
	s.flagged = since
	slices.SortFunc(list, func(a, b diagnose.Flagged) int {
		return cmp.Or(cmp.Compare(len(b.Tags), len(a.Tags)), cmp.Compare(a.Reason, b.Reason))
	})
	return list
}

// foundFor is how long it counts what a scan or a probe has found.
const foundFor = 15 * time.Minute

// Found notes units or outstations that a scan or a probe has found on the link: what was found counts as evidence.
func (r *Runner) Found(units []int, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now.Sub(r.foundAt) >= foundFor {
		r.found = nil
	}
	for _, u := range units {
		if !slices.Contains(r.found, u) {
			r.found = append(r.found, u)
		}
	}
	slices.Sort(r.found)
	r.foundAt = now
}

// ResetFigures begins the figures of the link and its stations anew.
func (r *Runner) ResetFigures() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.figures = nil
	for _, s := range r.stations {
		s.figures = figures{since: time.Now()}
	}
}

// failureOf says what kind of failure an error is, and which serial port may be meant instead of one that is not there.
func failureOf(err error) (kind failure.Kind, meant string) {
	var failed interface {
		Failure() failure.Kind
		Meant() string
	}
	if errors.As(err, &failed) {
		return failed.Failure(), failed.Meant()
	}
	return "", ""
}
