package weigh

import (
	"math"
	"math/bits"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// What a value does at the ends of what it can be: it stands there, it is below a live zero, or single readings are beyond them.

const (
	stuckFor    = 50   // seconds
	belowZero   = 0.6  // of a live zero, below which the loop carries hardly anything
	fewSpikes   = 2    // within the moments that are kept
	mostSpikes  = 0.25 // of them; more are no spikes
	spikeBeyond = 0.1  // of what is possible, by which a spike is beyond that
)

// stuck finds out whether a value has stood at the end of its range, or below its live zero.
func (s *Signal) stuck(v []float64, moved bool) (f Fault, ok bool) {
	if s.broken(v) {
		return Fault{Failing: Broken, Point: s, Shown: v[len(v)-1]}, true
	}
	secs := s.Moments()
	if len(v) < leastSeen || len(secs) != len(v) || secs[len(secs)-1]-secs[0] < stuckFor || s.Point.Writable || s.Point.Unit == "" || s.Point.Unit == "%" || s.Expect.Total || !moved {
		return f, false
	}
	top := math.NaN()
	switch p := s.Point; {
	case p.Scaling.Raw != nil:
		top = max(p.Scaling.Eng[0], p.Scaling.Eng[1])
	case p.Range != nil:
		top = max(p.Range[0], p.Range[1])
	}
	if changes(v) > 0 || !(v[0] >= top) || s.atEnd(0) { // an end of the type is another matter
		return f, false
	}
	return Fault{Failing: Saturated, Point: s, Shown: v[0], Seconds: int(secs[len(secs)-1] - secs[0])}, true
}

// broken reports whether a value with a live zero is far below it all the time, as where no current flows.
func (s *Signal) broken(v []float64) bool {
	raw := s.Point.Scaling.Raw
	if raw == nil || raw[0] <= 0 || raw[1] <= raw[0] || len(v) < leastSeen || float(s.Layout.Type) && raw[0] < 1 {
		return false
	}
	for _, x := range s.raw() {
		if !(x < belowZero*raw[0]) || x < -0.1*raw[0] {
			return false
		}
	}
	return true
}

// spikes are the moments at which a value was beyond what it can be, alone among moments at which it was not; none where they are too few to
// mean something, or too many.
func (s *Signal) spikes(v []float64) []int {
	at, ok := s.alone(v)
	if !ok || len(at) < fewSpikes {
		return nil
	}
	return at
}

// alone are the moments at which a value was beyond what it can be while it was not before and after; not ok where that is not known, or where
// the value goes there by itself.
func (s *Signal) alone(v []float64) (at []int, ok bool) {
	if !s.Expect.known() || s.Expect.Total || !s.number() || len(v) < 2*leastSeen {
		return nil, false
	}
	within := func(x float64) bool {
		return x >= s.Expect.Usual[0] && x <= s.Expect.Usual[1] && (x == 0 || math.Abs(x) > 1e-9)
	}
	for i, x := range v {
		switch beyond := s.beyond(x); {
		case !beyond && !within(x):
			return nil, false
		case !beyond:
		case i > 0 && !within(v[i-1]) || i+1 < len(v) && !within(v[i+1]):
			return nil, false
		default:
			at = append(at, i)
		}
	}
	return at, float64(len(at)) <= mostSpikes*float64(len(v))
}

// beyond reports whether a value is far beyond what it can be.
func (s *Signal) beyond(x float64) bool {
	by := spikeBeyond * (s.Expect.Possible[1] - s.Expect.Possible[0])
	return x < s.Expect.Possible[0]-by || x > s.Expect.Possible[1]+by
}

// furthest is about the value that was furthest beyond what it can be, of all since the last look; not ok where none was for certain. Of a value
// of several registers only the first one, by weight, is known to have been so.
func (s *Signal) furthest() (x float64, ok bool) {
	l := s.Layout
	n := l.Words()
	if s.Area == nil || !s.number() {
		return 0, false
	}
	ends, turned := s.Area.Ends, l.Order.SwapsBytes()
	if turned {
		ends = s.Area.Turned
	}
	if n < 1 || n > 4 || s.At < 0 || s.At+n > len(ends) {
		return 0, false
	}
	top := 0
	if l.Order == codec.CDAB || l.Order == codec.DCBA {
		top = n - 1
	}
	value := func(first, others uint16) (float64, bool) {
		var room [4]uint16
		for i := range n {
			room[i] = others
		}
		if room[top] = first; turned {
			room[top] = bits.ReverseBytes16(first)
		}
		raw, err := l.Decode(room[:n])
		if err != nil {
			return 0, false
		}
		f, ok := raw.Float()
		f = s.engineering(Reading{}, f)
		return f, ok && !math.IsNaN(f) && s.beyond(f)
	}
	e, far := ends[s.At+top], 0.0
	for _, first := range [...]uint16{e.Least, e.Most, uint16(e.Lowest), uint16(e.Highest)} {
		a, is := value(first, 0)
		b, too := value(first, 0xFFFF)
		if !is || !too || (a > s.Expect.Possible[1]) != (b > s.Expect.Possible[1]) { // what it was, is between both
			continue
		}
		if by := max(s.Expect.Possible[0]-a, a-s.Expect.Possible[1]); by > far {
			x, ok, far = a, true, by
		}
	}
	return x, ok
}

// spiking is what is known of single readings of a point that were far out.
type spiking struct {
	times       int // looks since which there was one
	first, last uint32
	shown       float64
}

// spikesStand is for how many seconds it is said of single readings that they were far out.
const spikesStand = 600

// spiked finds out whether single readings of a value are far out, from those at the moments and from the ends of all between.
func (h *History) spiked(s *Signal, values []float64, sec uint32) (f Fault, ok bool) {
	at, alone := s.alone(values)
	if !alone {
		delete(h.spikes, s.Point)
		return f, false
	}
	k := h.spikes[s.Point]
	if x, far := s.furthest(); far && !s.beyond(values[len(values)-1]) {
		if k.times++; k.times == 1 {
			k.first = sec
		}
		k.last, k.shown = sec, x
		if h.spikes == nil {
			h.spikes = map[*site.Point]spiking{}
		}
		h.spikes[s.Point] = k
	}
	if k.times > 0 && sec-k.last > spikesStand {
		delete(h.spikes, s.Point)
		k = spiking{}
	}
	switch secs := s.Moments(); {
	case k.times >= fewSpikes:
		return Fault{Failing: Spiking, Point: s, Times: k.times, Seconds: int(k.last - k.first), Shown: k.shown}, true
	case len(at) >= fewSpikes && len(secs) == len(values):
		return Fault{Failing: Spiking, Point: s, Times: len(at), Seconds: int(secs[at[len(at)-1]] - secs[at[0]]), Shown: values[at[len(at)-1]]}, true
	}
	return f, false
}

// fewChanges are too few different values for two points to be one because they have the same.
const fewChanges = 5

// twins are points that move exactly as others of their kind, at other addresses: one of two was given the wrong one, or the device gives one
// value twice.
func twins(signals []*Signal) (list []Fault) {
	type trace struct {
		area             *Area
		unit             string
		first, mid, last float64
	}
	seen := map[trace]*Signal{}
	for _, s := range signals {
		v := s.Values(Reading{})
		if !s.number() || s.Area == nil || s.Point.Unit == "" || s.Expect.Total || len(v) < 2*leastSeen || course(v).distinct < fewChanges {
			continue
		}
		key := trace{s.Area, s.Point.Unit, v[0], v[len(v)/2], v[len(v)-1]}
		other := seen[key]
		seen[key] = s
		if other != nil && other.At != s.At && copied(other.Point.Tag, s.Point.Tag) && same(v, other.Values(Reading{})) {
			list = append(list, Fault{Failing: Twin, Point: s, Other: other.Point.Tag})
		}
	}
	return list
}

// What tells that the bits of registers are numbered otherwise.
const (
	fewBits   = 3 // points of a register
	fewActive = 2 // bits of all registers that are set or change
)

// turned finds registers whose bits are numbered the other way round, or whose bytes are swapped: those that the points of the station have never
// are set and never change, and those that they would have do. Bits of which both hold are not told apart.
func turned(signals []*Signal) (list []Fault) {
	type register struct {
		area *Area
		at   int
	}
	has := map[register]uint16{}
	var bits []*Signal
	for _, s := range signals {
		if s.Layout.Type == codec.TypeBool && s.Area != nil && s.Layout.Bit != codec.WholeRegister && len(s.Area.Words) >= leastSeen {
			has[register{s.Area, s.At}] |= 1 << (s.Layout.Bit & 15)
			bits = append(bits, s)
		}
	}
	mirrored, swapped, active, changed := true, true, 0, false
	for r, assigned := range has {
		var set, moves uint16
		for i, words := range r.area.Words {
			set |= words[r.at]
			if i > 0 {
				moves |= words[r.at] ^ r.area.Words[i-1][r.at]
			}
		}
		if ones(assigned) < fewBits || set&assigned != 0 {
			return nil // one that is where it is said to be
		}
		active += ones(set)
		changed = changed || moves != 0
		mirrored = mirrored && mirror(set)&^assigned == 0
		swapped = swapped && (set<<8|set>>8)&^assigned == 0
	}
	if active < fewActive || !changed || !mirrored && !swapped {
		return nil
	}
	f := Fault{Failing: BitsTurned, Point: bits[0], Among: bits, Times: active}
	if !mirrored {
		f.Failing = BytesTurned
	} else if swapped {
		f.Other = "or the bytes are swapped"
	}
	return []Fault{f}
}

func ones(w uint16) (n int) {
	for ; w != 0; w &= w - 1 {
		n++
	}
	return n
}

// mirror is a word with its bits the other way round.
func mirror(w uint16) (out uint16) {
	for i := range 16 {
		out |= w >> i & 1 << (15 - i)
	}
	return out
}
