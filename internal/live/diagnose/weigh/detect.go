package weigh

import (
	"math"
	"reflect"
	"slices"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// Failing is what a value does that is no matter of how it is read.
type Failing uint8

// What values do.
const (
	CounterFell Failing = iota + 1 // a total was reset, or ran backwards
	IsClock                        // it counts the seconds, and is no time
	Stands                         // it has never moved, though others of its kind do
	Doubled                        // it has the address of another point of its kind
	Shared                         // it has the address of another point with another unit
	Twin                           // it moves exactly as another point of its kind does, at another address
	Saturated                      // it has stood at the end of its range
	Broken                         // it is below the live zero of its range
	Spiking                        // single readings are beyond what it can be
	BitsTurned                     // the bits of a register are numbered the other way round
	BytesTurned                    // or those of its other byte are meant
	NoNumber                       // the device gives not a number
)

// Fault is a value that does such a thing.
type Fault struct {
	Failing Failing
	Point   *Signal
	Other   string  // tag of the point whose address it has
	Before  float64 // value before it fell
	After   float64
	Seconds int // for which it has stood
	Times   int // so often
	Shown   float64
	Among   []*Signal // of bits: all that are to be moved
	Free    []Free    // addresses at which it may be meant to be
}

// Free is where one of two points that share an address may be meant to be: registers beside that are nobody's and give a likely value.
type Free struct {
	Point *Signal
	By    int
}

// What tells it.
const (
	fewRises   = 6
	fewTicks   = 8
	standsFrom = 60 // seconds
	ticksFor   = 50 // seconds, after it was seen to
)

// Faults finds values that fail whatever their reading is.
func (h *History) Faults(signals []*Signal, sec uint32) (list []Fault) {
	type place struct {
		space  string
		at     int
		layout codec.Layout
	}
	if h.points == nil {
		h.points = map[*site.Point]known{}
	}
	places := map[place]*Signal{}
	for _, s := range signals {
		if !s.number() {
			continue
		}
		values := s.Values(Reading{})
		if f, ok := s.fell(values); ok {
			list = append(list, f)
		}
		if f, ok := s.stuck(values, h.points[s.Point].moved); ok {
			list = append(list, f)
		}
		if f, ok := h.spiked(s, values, sec); ok {
			list = append(list, f)
		}
		k := h.points[s.Point]
		if !s.ticks(values) {
			k.ticking = 0
		} else if k.ticking == 0 {
			k.ticking = sec
		} else if sec-k.ticking >= ticksFor {
			list = append(list, Fault{Failing: IsClock, Point: s})
		}
		h.points[s.Point] = k
		if s.Area == nil {
			continue
		}
		if s.noNumber(values) {
			list = append(list, Fault{Failing: NoNumber, Point: s})
		}
		p := place{string(s.Area.Space), s.Area.First + s.At, s.Layout}
		switch other := places[p]; {
		case other == nil:
		case copied(other.Point.Tag, s.Point.Tag):
			list = append(list, Fault{Failing: Doubled, Point: s, Other: other.Point.Tag})
		case other.Point.Unit != "" && s.Point.Unit != "" && other.Point.Unit != s.Point.Unit && reflect.DeepEqual(other.Point.Scaling, s.Point.Scaling):
			list = append(list, Fault{Failing: Shared, Point: s, Other: other.Point.Tag, Free: free(signals, other, s)})
		}
		places[p] = s
	}
	list = append(list, twins(signals)...)
	list = append(list, turned(signals)...)
	return append(list, h.standing(signals, sec)...)
}

// fell finds out whether a total was set back.
func (s *Signal) fell(v []float64) (f Fault, ok bool) {
	if !s.Expect.Total || len(v) < fewRises+2 {
		return f, false
	}
	rises, falls, at := 0, 0, 0
	for i := 1; i < len(v); i++ {
		switch {
		case math.IsNaN(v[i]) || math.IsNaN(v[i-1]):
			return f, false
		case v[i] > v[i-1]:
			rises++
		case v[i] < v[i-1]:
			falls, at = falls+1, i
		}
	}
	backwards := rises == 0 && falls >= fewRises && strings.HasSuffix(s.Point.Unit, "h") // a volume may be one that is drawn from
	reset := falls == 1 && rises >= fewRises && v[at] < v[at-1]/2
	if !backwards && !reset {
		return f, false
	}
	return Fault{Failing: CounterFell, Point: s, Before: v[max(0, at-1)], After: v[at]}, true
}

// noNumber reports whether a floating-point value has been not a number all the time, as devices write that.
func (s *Signal) noNumber(v []float64) bool {
	if !float(s.Layout.Type) || len(v) < leastSeen {
		return false
	}
	for i, x := range v {
		if !math.IsNaN(x) || !s.plainNaN(i) {
			return false
		}
	}
	return true
}

// free are the registers beside two points with one address, as many as they have, that are nobody's, hold something, and give a likely value of one of them.
func free(signals []*Signal, both ...*Signal) (list []Free) {
	n := both[0].Layout.Words()
	for _, by := range [...]int{-n, n} {
		from := both[0].At + by
		taken := slices.ContainsFunc(signals, func(o *Signal) bool {
			return o.Area == both[0].Area && o.At < from+n && from < o.At+o.Layout.Words()
		})
		for _, s := range both {
			v := s.Values(Reading{By: by})
			if taken || from < 0 || !s.Whole(Reading{By: by}) || len(v) == 0 {
				continue
			}
			if fit := s.fit(Reading{By: by}, v); v[len(v)-1] != 0 && fit.Doubt() < suspicious {
				list = append(list, Free{s, by})
			}
		}
	}
	return list
}

// ticks reports whether a value counts the seconds, and has a unit that is none of time.
func (s *Signal) ticks(v []float64) bool {
	secs := s.Moments()
	switch s.Point.Unit {
	case "", "s", "sec", "ms", "min", "h":
		return false
	}
	if len(v) < fewTicks || len(v) != len(secs) || !whole(s.Layout.Type) || s.Expect.Total { // a counter may go on as fast
		return false
	}
	if !(v[0] != v[1] && v[1] != v[2]) {
		return false
	}
	raw, exact := s.raw(), 0
	for i := 1; i < len(raw); i++ {
		by := raw[i] - raw[i-1]
		if d := by - float64(secs[i]-secs[i-1]); d < -1 || d > 1 || by <= 0 { // the device's second may begin a little later
			return false
		} else if d == 0 {
			exact++
		}
	}
	return 4*exact >= 3*(len(raw)-1) && secs[len(secs)-1]-secs[0] >= fewTicks
}

// copied reports whether two tags differ in numbers alone, as those of points that were copied from each other.
func copied(a, b string) bool {
	bare := func(tag string) string {
		return strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' {
				return -1
			}
			return r
		}, tag)
	}
	return a != b && bare(a) == bare(b)
}

// changes is how often values changed.
func changes(v []float64) (n int) {
	for i := 1; i < len(v); i++ {
		if v[i] != v[i-1] {
			n++
		}
	}
	return n
}

// standing finds values that have stood since they were known, while all others of their kind move.
func (h *History) standing(signals []*Signal, sec uint32) (list []Fault) {
	type kind struct {
		unit, name string
		layout     codec.Layout
	}
	kinds := map[kind][]*Signal{}
	for _, s := range signals {
		if s.Point.Unit != "" && !s.Expect.Total && !s.Point.Writable && s.number() {
			key := kind{s.Point.Unit, stem(s.Point.Tag), s.Layout}
			kinds[key] = append(kinds[key], s)
		}
	}
	for _, all := range kinds {
		if len(all) <= fewSiblings {
			continue
		}
		var still []*Signal
		moving := 0
		for _, s := range all {
			v := s.Values(Reading{})
			switch n := changes(v); {
			case len(v) < leastSeen:
			case n >= 3:
				moving++
			case n == 0 && v[0] != 0 && !math.IsNaN(v[0]):
				still = append(still, s)
			}
		}
		if len(still) != 1 || moving < len(all)-1 {
			continue
		}
		if since := h.points[still[0].Point].began; since != 0 && sec-since >= standsFrom && !h.points[still[0].Point].moved {
			list = append(list, Fault{Failing: Stands, Point: still[0], Seconds: int(sec - since)})
		}
	}
	return list
}
