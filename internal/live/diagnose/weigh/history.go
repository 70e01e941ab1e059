package weigh

import (
	"math"
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// History is what is known of the points of a station from before: how long each has been right as it is set. The zero History knows nothing.
type History struct {
	points map[*site.Point]known
	trails map[*site.Point][]moment // of points without registers, which are few
	spikes map[*site.Point]spiking  // of which single readings were far out
}

// known is a point as it is set; times are in seconds since 1970, 0 for never.
type known struct {
	layout  uint32 // in short
	since   uint32 // its values fit
	began   uint32 // it was seen first
	ticking uint32 // since when it counts the seconds
	last    float32
	moved   bool // since it was seen first
	hex     bool // some digit of its registers was above 9, as none of decimal digits is
}

// moment is what a value was at a look.
type moment struct {
	sec uint32
	raw float32
}

// mostTrail is how many looks are kept of a point without registers.
const mostTrail = 8

// What is right for long is trusted: a mistake that was there from the beginning would have shown itself.
const (
	trustAfter = 120.0 // seconds, from which it counts
	mostTrust  = 8.0
)

// Weigh weighs the points of a station at a moment, in seconds since 1970, as Station does, with what is known from before.
func (h *History) Weigh(signals []*Signal, sec uint32, beside ...int) []Explanation {
	next := make(map[*site.Point]known, len(signals))
	h.follow(signals, sec)
	for _, s := range signals {
		if !s.number() {
			continue
		}
		layout := short(s.Layout)
		k, ok := h.points[s.Point]
		if !ok || k.layout != layout {
			k = known{layout: layout, began: sec, last: float32(math.NaN())}
		}
		if v := s.Values(Reading{}); len(v) > 0 {
			lo, hi := slices.Min(v), slices.Max(v)
			last := float32(v[len(v)-1])
			k.moved = k.moved || lo != hi || k.last == k.last && k.last != last
			k.last = last
		}
		k.hex = k.hex || s.hexadecimal()
		s.hex = k.hex
		if k.since == 0 && s.Fit().Doubt() < suspicious {
			k.since = sec
		}
		if k.since != 0 && sec > k.since {
			s.trust = min(mostTrust, math.Log1p(float64(sec-k.since)/trustAfter))
		}
		next[s.Point] = k
	}
	h.points = next
	for p := range h.spikes {
		if _, still := next[p]; !still {
			delete(h.spikes, p)
		}
	}
	return Station(signals, beside...)
}

// hexadecimal reports whether a digit of the registers of a signal is above 9 at any moment.
func (s *Signal) hexadecimal() bool {
	n := s.Layout.Words()
	if s.Area == nil || s.At < 0 || len(s.Area.Words) == 0 || s.At+n > len(s.Area.Words[0]) {
		return false
	}
	for _, words := range s.Area.Words {
		for _, w := range words[s.At : s.At+n] {
			for ; w > 0; w >>= 4 {
				if w&0xF > 9 {
					return true
				}
			}
		}
	}
	return false
}

// follow keeps the newest values of points without registers, and gives the signals those from before, too.
func (h *History) follow(signals []*Signal, sec uint32) {
	next := map[*site.Point][]moment{}
	for _, s := range signals {
		if s.Area != nil || len(s.Numbers) == 0 {
			continue
		}
		trail := append(h.trails[s.Point], moment{sec, float32(s.Numbers[len(s.Numbers)-1])})
		trail = trail[max(0, len(trail)-mostTrail):]
		next[s.Point] = trail
		s.Secs, s.Numbers = make([]uint32, len(trail)), make([]float64, len(trail))
		for i, m := range trail {
			s.Secs[i], s.Numbers[i] = m.sec, float64(m.raw)
		}
	}
	h.trails = next
}

// short is a layout in few bits.
func short(l codec.Layout) uint32 {
	h := uint32(2166136261)
	for _, part := range [...]string{string(l.Type), string(l.Order)} {
		for i := range len(part) {
			h = (h ^ uint32(part[i])) * 16777619
		}
	}
	return (h ^ uint32(l.Length)) * 16777619
}
