package engine

import (
	"context"
	"math"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/diagnose/weigh"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// A device may answer for a table in which it has nothing, with zeros. Where all that a station reads of a table is zero, the other table is
// read at the same addresses, once: what is there tells whether that one is meant.

// When that is done, and of how many points.
const (
	zeroFor        = 25 // seconds
	zeroPoints     = 3
	elsewhereEvery = 30 * time.Minute
	elsewhereAsked = 16
	elsewhereApart = 1500 * time.Millisecond // between two readings, by which it shows whether something moves
)

// elsewhere is what came of reading the other table.
type elsewhere struct {
	at    time.Time
	found *diagnose.Elsewhere
	slots []*table.Slot // that it is about
}

// zeroTable is a table of a station from which nothing but zeros is read; "" where there is none.
func zeroTable(signals []*weigh.Signal) site.Space {
	count := map[site.Space]int{}
	for _, s := range signals {
		if s.Area == nil {
			continue
		}
		if space := s.Area.Space; s.Point.Writable || !empty(s.Area) {
			count[space] = math.MinInt32
		} else {
			count[space]++
		}
	}
	for _, space := range []site.Space{site.HoldingRegisters, site.InputRegisters} {
		if count[space] >= zeroPoints {
			return space
		}
	}
	return ""
}

// zeros gives the slots of a station that read a table which holds nothing but zeros; nil where there is none, or it was tried lately.
func (e *Engine) zeros(station string, now time.Time) (of []*table.Slot) {
	e.mu.Lock()
	defer e.mu.Unlock()
	slots, tried, w := e.slots[station], e.elsewhere[station], e.weighed[station]
	if w == nil || w.zeros == "" || tried != nil && now.Sub(tried.at) < elsewhereEvery && slices.Equal(tried.slots, slots) {
		return nil
	}
	for _, s := range slots {
		if s.Point.Address.Space == w.zeros {
			of = append(of, s)
		}
	}
	return of
}

// empty reports whether an area has held nothing but zeros for long enough.
func empty(a *weigh.Area) bool {
	n := len(a.Secs)
	return n > 1 && a.Secs[n-1]-a.Secs[0] >= zeroFor && !slices.ContainsFunc(a.Words, func(words []uint16) bool {
		return slices.ContainsFunc(words, func(w uint16) bool { return w != 0 })
	})
}

// tryElsewhere reads the other table where slots have nothing but zeros.
func (e *Engine) tryElsewhere(ctx context.Context, r *link.Runner, station string, slots []*table.Slot, now time.Time) {
	e.mu.Lock()
	tried := &elsewhere{at: now, slots: e.slots[station]}
	e.elsewhere[station] = tried
	e.mu.Unlock()
	from := slots[0].Point.Address.Space
	found := diagnose.Elsewhere{Station: station, From: from, To: map[site.Space]site.Space{site.HoldingRegisters: site.InputRegisters, site.InputRegisters: site.HoldingRegisters}[from], Points: len(slots)}
	signals := map[*site.Point]weigh.Expect{}
	for _, s := range table.Signals(slots, e.units) {
		signals[s.Point] = s.Expect
	}
	asked := slots[:min(len(slots), elsewhereAsked)]
	first := map[*table.Slot]float64{}
	for round := range 2 {
		for _, slot := range asked {
			value, ok := e.readAt(ctx, r, station, slot, found.To)
			expect, known := signals[slot.Point]
			switch {
			case !ok || !known:
			case round == 1:
				if before, was := first[slot]; was && before != value {
					found.Moved++
				}
			case value == 0:
			case !expect.Likely(value):
				return // it holds something else
			default:
				first[slot] = value
			}
		}
		if 2*len(first) < len(asked) {
			return
		}
		select {
		case <-time.After(elsewhereApart):
		case <-ctx.Done():
			return
		}
	}
	for _, slot := range slots {
		to := slot.Point.Address
		to.Space = found.To
		found.Moves = append(found.Moves, diagnose.Move{Tag: slot.Point.Tag, From: slot.Point.Address, To: to})
		if v, ok := first[slot]; ok {
			found.Shown = append(found.Shown, diagnose.Shown{Tag: slot.Point.Tag, Value: v, Unit: slot.Point.Unit})
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	tried.found = &found
}

// readAt is the engineering value of a point at the same address of another table.
func (e *Engine) readAt(ctx context.Context, r *link.Runner, station string, slot *table.Slot, in site.Space) (float64, bool) {
	at := slot.Point.Address
	at.Space, at.Part = in, site.Whole
	samples, err := r.ReadAddresses(ctx, station, site.Range{Start: at, Count: slot.Layout.Words()})
	if err != nil || len(samples) != slot.Layout.Words() {
		return 0, false
	}
	words := make([]uint16, len(samples))
	for i, s := range samples {
		n, _ := s.Value.Int()
		words[i] = uint16(n)
	}
	if !slices.ContainsFunc(words, func(w uint16) bool { return w != 0 }) {
		return 0, true // nothing, whatever it would be
	}
	raw, err := slot.Layout.Decode(words)
	if err != nil {
		return math.NaN(), true
	}
	v, _ := slot.Conversion().Engineering(raw)
	if v.Kind() == codec.Text {
		return 0, false
	}
	return v.Float()
}

// foundElsewhere are the findings of readings of other tables that still hold: about the same points, which still show nothing.
func (e *Engine) foundElsewhere() (list []diagnose.Elsewhere) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for station, tried := range e.elsewhere {
		switch {
		case e.slots[station] == nil:
			delete(e.elsewhere, station)
		case tried.found != nil && slices.Equal(tried.slots, e.slots[station]) && stillZero(tried):
			list = append(list, *tried.found)
		}
	}
	slices.SortFunc(list, func(a, b diagnose.Elsewhere) int {
		if a.Station < b.Station {
			return -1
		}
		return 1
	})
	return list
}

func stillZero(tried *elsewhere) bool {
	for _, slot := range tried.slots {
		if slot.Point.Address.Space == tried.found.From {
			if slices.ContainsFunc(slot.Reading().Raw.Words, func(w uint16) bool { return w != 0 }) {
				return false
			}
		}
	}
	return true
}
