package weigh

import (
	"math"
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// History is what is known of the points of a station from before: how long each has been right as it is set. The zero History knows nothing.
type History struct {
	points map[string]known
}

// known is a point as it is set, and since when its values fit.
type known struct {
	point   *site.Point
	layout  codec.Layout
	since   uint32
	began   uint32 // it was seen first
	moved   bool   // since then
	last    float64
	ticking uint32 // since when it counts the seconds; 0: it does not
}

// What is right for long is trusted: a mistake that was there from the beginning would have shown itself.
const (
	trustAfter = 300.0 // seconds, from which it counts
	mostTrust  = 5.0
)

// Weigh weighs the points of a station at a moment, in seconds since 1970, as Station does, with what is known from before.
func (h *History) Weigh(signals []*Signal, sec uint32) []Explanation {
	next := make(map[string]known, len(signals))
	for _, s := range signals {
		k, ok := h.points[s.Point.Tag]
		if !ok || k.point != s.Point || k.layout != s.Layout {
			k = known{point: s.Point, layout: s.Layout, began: sec, last: math.NaN()}
		}
		if v := s.Values(Reading{}); len(v) > 0 {
			lo, hi := slices.Min(v), slices.Max(v)
			k.moved = k.moved || lo != hi || !math.IsNaN(k.last) && k.last != v[len(v)-1]
			k.last = v[len(v)-1]
		}
		if k.since == 0 && s.Fit().Doubt() < suspicious {
			k.since = sec
		}
		if k.since != 0 && sec > k.since {
			s.trust = min(mostTrust, math.Log1p(float64(sec-k.since)/trustAfter))
		}
		next[s.Point.Tag] = k
	}
	h.points = next
	return Station(signals)
}
