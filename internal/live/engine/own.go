package engine

import (
	"context"
	"math"
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
	slots map[string]*table.Slot
	last  map[string]codec.Value
}

// keepOwn keeps the service's own points up to date until ctx ends.
func (e *Engine) keepOwn(ctx context.Context) {
	o := &own{slots: map[string]*table.Slot{}, last: map[string]codec.Value{}}
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
	seen := map[string]bool{}
	put := func(of, name string, value codec.Value, p site.Point) {
		tag := site.Own + of + "/" + name
		seen[tag] = true
		if o.slots[tag] == nil {
			p.Tag = tag
			o.slots[tag] = e.table.Put(&p, site.Station{})
		} else if o.last[tag] == value {
			return
		}
		o.last[tag] = value
		sample := table.Sample{Slot: o.slots[tag], Value: value, Quality: reading.Good, Time: now}
		if value.IsZero() {
			sample.Quality, sample.Reason = reading.Bad, reading.NeverRead
		}
		e.table.Emit([]table.Sample{sample})
	}
	text := site.Point{Type: codec.TypeString}
	number := func(name string) site.Point {
		decimals := 1
		return site.Point{Type: codec.TypeFloat64, Unit: OwnUnit("/" + name), Decimals: &decimals}
	}
	links, stations := e.Status()
	figures := func(name string, of link.Statistics, minute link.Figures) {
		share, trip, last := codec.Value{}, codec.Value{}, codec.Value{}
		if minute.Requests > 0 {
			share = rounded(100*minute.Good, 0.1)
		}
		if of.LastAnswer != nil {
			trip, last = rounded(of.RoundTripMS, 0.1), rounded(now.Sub(*of.LastAnswer).Seconds(), 1)
		}
		put(name, "good-share", share, number("good-share"))
		put(name, "round-trip", trip, number("round-trip"))
		put(name, "last-response", last, number("last-response"))
	}
	taken := map[string]bool{}
	for _, s := range stations {
		taken[s.Name] = true
		put(s.Name, "state", codec.TextValue(string(s.State)), text)
		figures(s.Name, s.Statistics, s.Figures.Minute)
	}
	for _, l := range links {
		name := l.Name
		if taken[name] { // a station is called so, too
			name = ofLink + name
		}
		put(name, "state", codec.TextValue(string(l.State)), text)
		figures(name, l.Statistics, l.Figures.Minute)
	}
	counts := map[string]int{"findings": e.concluded()}
	if e.counts != nil {
		for name, n := range e.counts() {
			counts[name] = n
		}
	}
	for name, n := range counts {
		put("site", name, codec.IntValue(int64(n)), site.Point{Type: codec.TypeInt64})
	}
	for tag := range o.slots {
		if !seen[tag] {
			e.table.Remove(tag)
			delete(o.slots, tag)
			delete(o.last, tag)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.own = e.own[:0:0]
	for tag := range o.slots {
		e.own = append(e.own, tag)
	}
}

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
	return map[string]string{"good-share": "%", "round-trip": "ms", "last-response": "s"}[name]
}

// OwnOf is the link, station or site that one of the service's own points tells of; false for another tag.
func OwnOf(tag string) (of string, is bool) {
	rest, is := strings.CutPrefix(tag, site.Own)
	of, _, _ = strings.Cut(rest, "/")
	return strings.TrimPrefix(of, ofLink), is
}
