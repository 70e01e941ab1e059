package engine

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// What communication does is available as points, too, for boards, histories and whoever follows readings: the state of every link and station,
// of a station the share of good exchanges, the round trip and how long ago it answered, and the counts of findings and alarms. Nothing can be
// written to them, and they are in the site of nobody.

// ownEvery is how often they are brought up to date.
const ownEvery = time.Second

// Counts says of what there is how much now, by the names of the points of the whole site: alarms, say.
type Counts func() map[string]int

// own keeps the service's own points.
type own struct {
	round    uint32
	subjects map[string]*subject // stations, links and the site, by the name that their points have
}

// subject is what some of the service's own points tell of.
type subject struct {
	round  uint32 // in which it was there last
	points []ownPoint
}

// ownPoint is one of the service's own points.
type ownPoint struct {
	name string
	slot *table.Slot
	last codec.Value
}

// keepOwn keeps the service's own points up to date until ctx ends.
func (e *Engine) keepOwn(ctx context.Context) {
	o := &own{subjects: map[string]*subject{}}
	ticker := time.NewTicker(ownEvery)
	defer ticker.Stop()
	for {
		e.guarded("the states of communication", func() { e.ownNow(o, time.Now()) })
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// ownNow brings them up to date.
func (e *Engine) ownNow(o *own, now time.Time) {
	o.round++
	var samples []table.Sample
	fresh := false
	of := func(name string) *subject {
		s := o.subjects[name]
		if s == nil {
			s = new(subject)
			o.subjects[name] = s
		}
		s.round = o.round
		return s
	}
	put := func(of string, s *subject, name string, value codec.Value) {
		i := slices.IndexFunc(s.points, func(p ownPoint) bool { return p.name == name })
		if i < 0 {
			i, fresh = len(s.points), true
			p := ownKinds[name]
			if p.Type == "" {
				p.Type = codec.TypeInt64
			}
			p.Tag = site.Own + of + "/" + name
			s.points = append(s.points, ownPoint{name: name, slot: e.table.Put(&p, site.Station{})})
		} else if s.points[i].last == value {
			return
		}
		s.points[i].last = value
		sample := table.Sample{Slot: s.points[i].slot, Value: value, Quality: reading.Good, Time: now}
		if value.IsZero() {
			sample.Quality, sample.Reason = reading.Bad, reading.NeverRead
		}
		samples = append(samples, sample)
	}
	brief := func(name string, b link.Brief) {
		s := of(name)
		var share, trip, last codec.Value
		if !math.IsNaN(b.GoodShare) {
			share = rounded(100*b.GoodShare, 0.1)
		}
		if !b.LastAnswer.IsZero() {
			trip, last = rounded(b.RoundTripMS, 0.1), rounded(now.Sub(b.LastAnswer).Seconds(), 1)
		}
		put(name, s, "state", codec.TextValue(b.State))
		put(name, s, "good-share", share)
		put(name, s, "round-trip", trip)
		put(name, s, "last-response", last)
	}
	var links []link.Brief
	for _, r := range e.all() {
		l, stations := r.Brief(now)
		links = append(links, l)
		for _, s := range stations {
			brief(s.Name, s)
		}
	}
	for _, l := range links {
		name := l.Name
		if s := o.subjects[name]; s != nil && s.round == o.round { // a station is called so, too
			name = ofLink + name
		}
		brief(name, l)
	}
	counts := of("site")
	put("site", counts, "findings", codec.IntValue(int64(e.concluded())))
	if e.counts != nil {
		for name, n := range e.counts() {
			put("site", counts, name, codec.IntValue(int64(n)))
		}
	}
	e.table.Emit(samples)
	for name, s := range o.subjects {
		if s.round == o.round {
			continue
		}
		for _, p := range s.points {
			e.table.Remove(p.slot.Point.Tag)
		}
		delete(o.subjects, name)
		fresh = true
	}
	if !fresh {
		return
	}
	var tags []string
	for _, s := range o.subjects {
		for _, p := range s.points {
			tags = append(tags, p.slot.Point.Tag)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.own = tags
}

// ownKinds are the service's own points by name, but for counts.
var ownKinds = func() map[string]site.Point {
	one := 1
	number := func(unit string) site.Point {
		return site.Point{Type: codec.TypeFloat64, Unit: unit, Decimals: &one}
	}
	return map[string]site.Point{"state": {Type: codec.TypeString}, "good-share": number("%"), "round-trip": number("ms"), "last-response": number("s")}
}()

// rounded is a number to so much, so that what does not matter is no change.
func rounded(f, to float64) codec.Value { return codec.FloatValue(math.Round(f/to) * to) }

// Own lists the tags of the service's own points.
func (e *Engine) Own() []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.own
}

// ofLink stands before the name of a link that has the name of a station.
const ofLink = "link."

// OwnUnit is the unit of one of the service's own points; "" of one that has none.
func OwnUnit(tag string) string {
	_, name, _ := strings.Cut(tag, "/")
	return ownKinds[name].Unit
}

// OwnOf is the link, station or site that one of the service's own points tells of; false for another tag.
func OwnOf(tag string) (of string, is bool) {
	rest, is := strings.CutPrefix(tag, site.Own)
	of, _, _ = strings.Cut(rest, "/")
	return strings.TrimPrefix(of, ofLink), is
}
