package engine

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"strconv"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/failure"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/traffic"
)

// diagnoseEvery is how often conclusions are drawn.
const diagnoseEvery = 2 * time.Second

// insteadEvery is how often it is tried at most what would work instead of a refused request.
const insteadEvery = 10 * time.Minute

// Saw is for Host: it counts a frame and keeps it.
func (r *runner) Saw(f Frame) {
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

// own returns the figures of what is the link's alone, made when there is any. r.mu is held.
func (r *runner) own() *figures {
	if r.figures == nil {
		r.figures = new(figures)
	}
	return r.figures
}

// sum returns the figures of the link and its stations together. r.mu is held.
func (r *runner) sum(now time.Time) *figures {
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
		Closed: int(t.closed), Late: int(t.late), Foreign: int(t.foreign), Stray: int(t.stray), Echoes: int(t.echoes), Damaged: int(t.damaged),
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
func (r *runner) remember(e *entry, out Outcome) {
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
		known.Tags = append(known.Tags, slot.Point.Tag)
	}
	if s.refusals == nil {
		s.refusals = map[*entry]*refusal{}
	}
	s.refusals[e] = known
}

// evidence gathers what is known of a link and its stations.
func (r *runner) evidence(now time.Time) (diagnose.Link, []diagnose.Station) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := diagnose.Link{
		Link: r.link, Up: r.status.State == LinkUp, Down: r.status.State == LinkDown, Failure: r.failure, Failures: r.failures,
		Reason: r.status.Reason,
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
			Counts: t.counts(), OtherUnit: -1, Short: int(max(t.short, s.since.short)), ClosedAfter: int(t.closedAfter),
			Slowest: time.Duration(max(t.slowest, s.since.slowest) * float32(time.Millisecond)), Median: time.Duration(t.percentile(0.5) * float64(time.Millisecond)),
		}
		st.Since = s.since.counts()
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

// findings keeps what stands now.
type findings struct {
	list  []diagnose.Finding
	since map[string]time.Time // by code and subject
}

// diagnose draws conclusions until ctx ends.
func (e *Engine) diagnose(ctx context.Context) {
	ticker := time.NewTicker(diagnoseEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			e.guarded("diagnosing", func() {
				e.conclude(now)
				e.tryInstead(ctx, now)
			})
		}
	}
}

// conclude draws conclusions from what is known at a moment.
func (e *Engine) conclude(now time.Time) {
	var all diagnose.Evidence
	for _, r := range e.all() {
		l, stations := r.evidence(now)
		all.Links = append(all.Links, l)
		all.Stations = append(all.Stations, stations...)
	}
	all.Points = e.table.evidence(now)
	list := diagnose.Find(all)
	e.mu.Lock()
	defer e.mu.Unlock()
	since := map[string]time.Time{}
	for i := range list {
		key := string(list[i].Code) + " " + list[i].Subject
		if since[key] = e.findings.since[key]; since[key].IsZero() {
			since[key] = now.UTC().Truncate(time.Millisecond)
		}
		list[i].Since = since[key]
	}
	e.findings = findings{list, since}
}

// Findings are the conclusions that stand now, the most certain first.
func (e *Engine) Findings() []diagnose.Finding {
	e.mu.Lock()
	defer e.mu.Unlock()
	return append([]diagnose.Finding{}, e.findings.list...)
}

// Traffic is what crossed the links.
func (e *Engine) Traffic() *traffic.Log { return e.traffic }

// ResetFigures begins the figures of all links and stations anew.
func (e *Engine) ResetFigures() {
	for _, r := range e.all() {
		r.mu.Lock()
		r.figures = nil
		for _, s := range r.stations {
			s.figures = figures{since: time.Now()}
		}
		r.mu.Unlock()
	}
}

// tryInstead asks, once for each refusal, what would work instead: the other table, the neighbour address, fewer registers.
func (e *Engine) tryInstead(ctx context.Context, now time.Time) {
	for _, r := range e.all() {
		if r.link.Transport == site.Dialup {
			continue // a call costs more than the answer is worth
		}
		r.mu.Lock()
		var station string
		var known *refusal
		for _, s := range r.stations {
			for _, k := range s.refusals {
				if station == "" && s.status.State == StationAnswering && now.Sub(k.tried) >= insteadEvery {
					station, known = s.status.Name, k
				}
			}
		}
		if known != nil {
			known.tried = now
		}
		r.mu.Unlock()
		if known != nil {
			e.tryOne(ctx, r, station, known)
		}
	}
}

func (e *Engine) tryOne(ctx context.Context, r *runner, station string, known *refusal) {
	other := map[site.Space]site.Space{
		site.HoldingRegisters: site.InputRegisters, site.InputRegisters: site.HoldingRegisters,
		site.Coils: site.DiscreteInputs, site.DiscreteInputs: site.Coils,
	}[known.Table]
	try := []site.Range{
		{Start: site.Address{Space: other, Offset: uint16(known.From)}, Count: known.Count},
	}
	if known.Code != 1 {
		if known.From > 0 {
			try = append(try, site.Range{Start: site.Address{Space: known.Table, Offset: uint16(known.From - 1)}, Count: known.Count})
		}
		if known.From+known.Count < 0x10000 {
			try = append(try, site.Range{Start: site.Address{Space: known.Table, Offset: uint16(known.From + 1)}, Count: known.Count})
		}
		if known.Count > 1 {
			try = append(try, site.Range{Start: site.Address{Space: known.Table, Offset: uint16(known.From)}, Count: 1})
		}
	}
	var works []string
	var fields map[string]any
	for _, what := range try {
		asking, cancel := context.WithTimeout(ctx, 5*time.Second)
		_, err := e.ReadAddresses(asking, station, what)
		cancel()
		if err == nil {
			works = append(works, what.String())
			if fields == nil && what.Count == known.Count {
				fields = map[string]any{"address": what.Start.String()}
			}
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	known.Instead, known.Fields = works, fields
}

// look notes how the raw data have moved since the last look. The slot's lock is held.
func (s *Slot) look(now time.Time) {
	var room [maxWords]uint16
	var words []uint16
	switch {
	case s.block != nil && !s.block.bits:
		if s.looked == s.block.version {
			return
		}
		s.looked = s.block.version
		words = s.words(room[:0])
	case s.block == nil && s.reading.Quality != reading.Bad && len(s.reading.Raw.Words) > 0:
		words = s.reading.Raw.Words
	default:
		return
	}
	s.movement.Look(*s.Layout, words, uint32(now.Unix()))
}

// evidence gathers what is strange about single points.
func (t *table) evidence(now time.Time) (list []diagnose.Point) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	sec := uint32(now.Unix())
	lively := false
	for _, slot := range t.slots {
		slot.mu.Lock()
		lively = lively || slot.movement.Lively(sec)
		slot.mu.Unlock()
	}
	right := map[string]int{} // points that are right by the byte order of their station
	for _, slot := range t.slots {
		slot.mu.Lock()
		if slot.Point.Order == "" && slot.movement.Right(*slot.Layout) {
			right[slot.Point.Station]++
		}
		p := slot.movement.Strange(*slot.Layout, sec, lively)
		if p.Swaps > 0 || p.Frozen || p.Better != "" || p.Odd {
			slot.settle()
			p.Point, p.Shown = *slot.Point, slot.told(slot.reading.Value)
			if f, ok := slot.reading.Value.Float(); ok && f == 0 && slot.Layout.Type != codec.TypeBool {
				p.Zero = true // 4 mA, say, are no zero on the wire
			}
			if p.Better != "" {
				p.Would = slot.as(slot.Layout.Type, p.Better)
				if slot.movement.MayFloat(*slot.Layout) {
					p.Float = slot.as(codec.TypeFloat32, slot.Layout.Order)
				}
			}
			if slot.reading.Quality != reading.Bad || slot.reading.Reason == reading.Decode {
				list = append(list, p)
			}
		}
		slot.mu.Unlock()
	}
	slices.SortFunc(list, func(a, b diagnose.Point) int { return cmp.Compare(a.Point.Tag, b.Point.Tag) })
	for i := range list {
		list[i].Peers = right[list[i].Point.Station]
	}
	return list
}

// as is the slot's value as it would be with another type or byte order; "" when that gives none. The lock is held.
func (s *Slot) as(t codec.Type, o codec.Order) string {
	l := *s.Layout
	l.Type, l.Order = t, o
	v, err := l.Decode(s.reading.Raw.Words)
	if err != nil {
		return ""
	}
	eng, _ := s.conversion.Engineering(v)
	return s.told(eng)
}

// told is a value as its point shows it, unless its decimals would hide how small or large it is.
func (s *Slot) told(v codec.Value) string {
	if f, ok := v.Float(); ok && v.Kind() == codec.Float && f != 0 && (math.Abs(f) < 1e-4 || math.Abs(f) >= 1e10) {
		return strconv.FormatFloat(f, 'g', 3, 64)
	}
	return s.conversion.Text(v)
}

// failureOf says what kind of failure an error is.
func failureOf(err error) failure.Kind {
	var kind interface{ Failure() failure.Kind }
	if errors.As(err, &kind) {
		return kind.Failure()
	}
	return ""
}
