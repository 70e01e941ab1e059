// Package alarm compares the readings of a point with its limits, and defines the states of an alarm (ISA-18.2). It has no clock and no memory
// of its own: whoever watches a point keeps a Watch for each of its limits and passes it every reading with its time.
package alarm

import (
	"math"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// State is the state of an alarm (ISA-18.2-2016, 5.3). One that is normal is none, and is not listed.
type State string

// The states.
const (
	Normal       State = ""             // within the limit
	Active       State = "active"       // out, and nobody has acknowledged it
	Acknowledged State = "acknowledged" // out, and somebody knows
	Gone         State = "gone"         // within again, and nobody has acknowledged it
)

// Key is what an alarm is of.
type Key struct {
	Tag   string
	Limit site.Limit
}

// Alarm is a limit of a point that is, or was, exceeded.
type Alarm struct {
	Key
	State     State
	Since     time.Time   // when it became active
	GoneAt    time.Time   // when it was within again, while it is Gone
	Value     codec.Value // with which it became active; nothing when the point was bad
	Said      string      // that, as a person reads it
	Bound     *float64    // that is exceeded, where it is a number
	Severity  int         // 1, the most urgent, to 4
	AckedBy   string
	AckedAt   time.Time
	ShelvedBy string
	ShelvedTo time.Time // until then nobody is told; zero: it is not shelved
	Unknown   bool      // the point is not good now, so that it cannot be told whether this still holds
	Note      string    // what was said when it was acknowledged or shelved
}

// Shelved reports whether the alarm is shelved.
func (a *Alarm) Shelved() bool { return !a.ShelvedTo.IsZero() }

// Counts reports whether the alarm is one of those that people are to be told of.
func (a *Alarm) Counts() bool { return a.State != Normal && !a.Shelved() }

// Empty reports whether nothing is to be kept of the alarm.
func (a *Alarm) Empty() bool { return a.State == Normal && !a.Shelved() }

// Step is what happened to an alarm.
type Step string

// The steps.
const (
	Raised       Step = "active"
	Returned     Step = "gone"
	Acked        Step = "acknowledged"
	ShelvedStep  Step = "shelved"
	Unshelved    Step = "unshelved"
	LimitRemoved Step = "removed" // the limit, or the point, is not there any more
)

// Watch is a limit of a point that is looked at.
type Watch struct {
	Limit site.Limit
	Bound *float64 // nil of a state and of quality
	Delay time.Duration

	state    int64 // that counts, of a limit that is a state
	deadband float64

	beyond bool      // the value is out, with the deadband
	since  time.Time // when that began; zero while it is not, or not known
}

// Watches are the limits of a point, with that of its quality.
func Watches(p *site.Point) (list []*Watch) {
	l := p.Limits
	if l == nil {
		return nil
	}
	for _, b := range []struct {
		limit site.Limit
		at    *float64
	}{{site.LowLow, l.LowLow}, {site.Low, l.Low}, {site.High, l.High}, {site.HighHigh, l.HighHigh}, {site.Rate, l.Rate}} {
		if b.at != nil {
			list = append(list, &Watch{Limit: b.limit, Bound: b.at, Delay: l.Wait(), deadband: l.Deadband})
		}
	}
	if n, ok := p.Alarming(); ok {
		list = append(list, &Watch{Limit: site.InState, Delay: l.Wait(), state: n})
	}
	return append(list, &Watch{Limit: site.BadQuality, Delay: l.Wait()})
}

// Seen is what was read of a point, with its rate of change in units a minute; NaN where that is not known.
type Seen struct {
	Value   codec.Value
	Quality reading.Quality
	Reason  reading.Reason
	Rate    float64
}

// verdict is what a reading says of a limit.
type verdict int

const (
	unknown verdict = iota
	within
	out
)

// judge says what a reading says of the limit. A limit is judged by good readings alone.
func (w *Watch) judge(s Seen) verdict {
	say := func(is bool) verdict {
		if is {
			return out
		}
		return within
	}
	if w.Limit == site.BadQuality {
		if s.Reason == reading.NeverRead || s.Reason == reading.Disabled { // it is not read on purpose, or was not yet
			return unknown
		}
		return say(s.Quality == reading.Bad)
	}
	if s.Quality != reading.Good {
		return unknown
	}
	v, number := s.Value.Float()
	if !number {
		return unknown
	}
	room := 0.0
	if w.beyond {
		room = w.deadband
	}
	switch w.Limit {
	case site.LowLow, site.Low:
		return say(v < *w.Bound+room)
	case site.High, site.HighHigh:
		return say(v > *w.Bound-room)
	case site.Rate:
		if math.IsNaN(s.Rate) {
			return unknown
		}
		return say(s.Rate > *w.Bound)
	}
	return say(v == float64(w.state))
}

// Read takes in a reading. It is to be followed by Due.
func (w *Watch) Read(s Seen, at time.Time) {
	switch w.judge(s) {
	case out:
		if w.since.IsZero() {
			w.since = at
		}
		w.beyond = true
	case within:
		w.beyond, w.since = false, time.Time{}
	case unknown:
		w.since = time.Time{} // it has to be out all the time
	}
}

// Out reports whether the limit is exceeded at a time, for as long as its delay asks; known is false while it cannot be told. At next it may
// be, when nothing else is read until then; zero when not.
func (w *Watch) Out(now time.Time) (is, known bool, next time.Time) {
	switch {
	case !w.beyond:
		return false, true, next
	case w.since.IsZero():
		return false, false, next
	case now.Sub(w.since) >= w.Delay:
		return true, true, next
	}
	return false, false, w.since.Add(w.Delay)
}

// Resume has the limit go on as one that was exceeded, after a restart.
func (w *Watch) Resume() { w.beyond = true }
