package weigh

import (
	"math"

	"arithmon/internal/core/codec"
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
func (s *Signal) spikes(v []float64) (at []int) {
	if !s.Expect.known() || s.Expect.Total || !s.number() || len(v) < 2*leastSeen {
		return nil
	}
	by := spikeBeyond * (s.Expect.Possible[1] - s.Expect.Possible[0])
	beyond := func(x float64) bool { return x < s.Expect.Possible[0]-by || x > s.Expect.Possible[1]+by }
	within := func(x float64) bool { return x >= s.Expect.Usual[0] && x <= s.Expect.Usual[1] }
	for i, x := range v {
		switch {
		case !beyond(x) && !within(x):
			return nil // it goes beyond by itself
		case !beyond(x):
		case i > 0 && !within(v[i-1]) || i+1 < len(v) && !within(v[i+1]):
			return nil
		default:
			at = append(at, i)
		}
	}
	if len(at) < fewSpikes || float64(len(at)) > mostSpikes*float64(len(v)) {
		return nil
	}
	return at
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
