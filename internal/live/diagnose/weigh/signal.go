// Package weigh finds out which reading of a station's registers makes values that a plant has: what was set wrong, if anything was. It is
// pure. All points of a station are weighed together, since one mistake commonly explains many of them. docs/diagnosis.md says how.
package weigh

import (
	"math"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
)

// Area is a run of registers of a station, as it was at several moments.
type Area struct {
	Space site.Space
	First int        // offset of its first register
	Secs  []uint32   // the moments, ascending, in seconds since 1970
	Words [][]uint16 // the registers at each
	Ends  []Ends     // of each register, in all responses since the last look; none where there was no response
	// Turned are the ends of the registers with their bytes swapped, where some point reads them so.
	Turned []Ends
}

// Ends are the least and the greatest that a register was, as a number without a sign and as one with one.
type Ends struct {
	Least, Most     uint16
	Lowest, Highest int16
}

// Signal is a point and what was seen of it.
type Signal struct {
	Point    *site.Point
	Layout   codec.Layout
	Inherits bool                      // its byte order is that of the station
	Scale    func(raw float64) float64 // from raw to engineering value; nil: none
	Expect   Expect
	Area     *Area // that has its registers; nil where there are none
	At       int   // its first register in Area
	Secs     []uint32
	Numbers  []float64 // raw values at Secs, where there are no registers

	own   []float64 // values as it is set, once they were asked for
	fits  *Fit      // likewise
	skip  []bool    // the moments at which the device gave no value
	hex   bool      // some digit of its registers was above 9
	trust float64   // that it is set right, in the logarithm of a likelihood
}

// Expect is what is known beforehand about a value. The zero Expect knows nothing.
type Expect struct {
	Possible, Usual [2]float64
	Weight          float64 // how much it tells: 0 nothing, 1 as much as a unit, more what somebody stated for this point
	Total           bool    // it counts up

	alike    bool       // values of the same kind are close together
	siblings [2]float64 // and within these
}

// What a stated range tells beside a unit.
const (
	unitWeight  = 1.0
	rangeWeight = 1.4
	slack       = 0.05 // of a stated range, by which values may be beyond it
)

// ExpectationOf is what is known about a point beforehand: its range, else that of its scaling, and its unit.
func ExpectationOf(p *site.Point, u unit.Unit) (e Expect) {
	if u.Known() {
		e = Expect{Possible: u.Possible, Usual: u.Usual, Weight: unitWeight, Total: u.Total}
	}
	r := p.Range
	if r == nil {
		r = p.Scaling.Eng
	}
	if r != nil && r[0] != r[1] {
		lo, hi := min(r[0], r[1]), max(r[0], r[1])
		by := slack * (hi - lo)
		e.Possible, e.Usual, e.Weight = [2]float64{lo - by, hi + by}, [2]float64{lo, hi}, rangeWeight
	}
	return e
}

// Likely reports whether a value is one that a plant has, as far as is known.
func (e Expect) Likely(v float64) bool {
	if e.known() && !e.Total {
		return v >= e.Usual[0] && v <= e.Usual[1]
	}
	return !math.IsNaN(v) && math.Abs(v) < 1e9 && math.Abs(v) > 1e-4
}

func (e Expect) known() bool { return e.Weight > 0 }

// span is by how much values are usually apart at most.
func (e Expect) span() float64 { return e.Usual[1] - e.Usual[0] }

// Reading is how a signal would be read otherwise. The zero Reading is as it is set.
type Reading struct {
	Type    codec.Type
	Length  int  // of a text
	SignBit bool // the uppermost bit is the sign, and the others the magnitude
	Order   codec.Order
	By      int         // registers further on
	Factor  float64     // by which the raw value is multiplied; 0: none
	Offset  float64     // that is added to the engineering value
	Raw     *[2]float64 // raw numbers of the ends of the range; a pointer into Spans
	Convert Conversion  // of the engineering value
}

// Conversion is one between units.
type Conversion uint8

// The conversions.
const (
	NoConversion Conversion = iota
	FromFahrenheit
	ToFahrenheit
)

// Spans are the raw numbers at the ends of the range as devices have them: of 4 to 20 mA, with and without a live zero, and plain ones; the more usual first.
var Spans = [...][2]float64{{0, 27648}, {0, 32767}, {0, 4095}, {0, 10000}, {4000, 20000}, {0, 65535}, {5530, 27648}, {0, 1000}, {819, 4095}, {0, 20000}, {6400, 32000}, {0, 16383}, {400, 2000}}

// Kind is a kind of mistake.
type Kind uint8

// The kinds of mistake.
const (
	Odd     Kind = iota // none that is known here
	Order               // of bytes and words
	Address             // that is beside
	Type
	Scale
)

// Kind is that of the mistake which is no more with a reading.
func (r Reading) Kind() Kind {
	switch {
	case r.Type != "", r.SignBit:
		return Type
	case r.By != 0:
		return Address
	case r.Order != "":
		return Order
	case r.scaling():
		return Scale
	}
	return Odd
}

// scaling reports whether a reading leaves the raw value as it is.
func (r Reading) scaling() bool {
	return r.Factor != 0 || r.Offset != 0 || r.Raw != nil || r.Convert != NoConversion
}

// layout is that of the signal under a reading.
func (s *Signal) layout(r Reading) codec.Layout {
	l := s.Layout
	if r.Type != "" {
		l.Type, l.Length, l.Bit = r.Type, r.Length, codec.WholeRegister
	}
	if r.Order != "" {
		l.Order = r.Order
	}
	return l
}

// Values are the engineering values under a reading, NaN where the registers give none; nil where they are not known.
func (s *Signal) Values(r Reading) []float64 {
	if r != (Reading{}) {
		return s.values(r)
	}
	if s.own == nil {
		s.own = s.values(r)
	}
	return s.own
}

// raw are the values before they are scaled.
func (s *Signal) raw() []float64 {
	if s.Scale == nil {
		return s.Values(Reading{})
	}
	plain := *s
	plain.Scale = nil
	return plain.values(Reading{})
}

func (s *Signal) values(r Reading) []float64 {
	if s.Area == nil {
		if r.Type != "" || r.Order != "" || r.By != 0 || r.SignBit {
			return nil
		}
		out := make([]float64, len(s.Numbers))
		for i, raw := range s.Numbers {
			out[i] = s.engineering(r, raw)
		}
		return out
	}
	l, at := s.layout(r), s.At+r.By
	n := l.Words()
	if !s.has(l, at) {
		return nil
	}
	out := make([]float64, len(s.Area.Words))
	for i, words := range s.Area.Words {
		out[i] = math.NaN()
		var room [4]uint16
		for k := range n {
			if j := at + k; j >= 0 && j < len(words) {
				room[k] = words[j]
			}
		}
		if v, err := l.Decode(room[:n]); err == nil {
			if raw, ok := v.Float(); ok {
				if r.SignBit {
					raw = signBit(raw, 16*n)
				}
				out[i] = s.engineering(r, raw)
			}
		}
	}
	return out
}

// signBit is the number of which a whole number of so many bits is sign and magnitude.
func signBit(raw float64, bits int) float64 {
	top := math.Ldexp(1, bits-1)
	if raw < 0 { // as it is with a sign otherwise
		raw += 2 * top
	}
	if raw >= top {
		return top - raw
	}
	return raw
}

// number reports whether the signal is one, and neither a bit nor a text.
func (s *Signal) number() bool {
	return s.Layout.Type != codec.TypeBool && s.Layout.Type != codec.TypeString
}

// has reports whether the area has the registers of a value, or all of a floating-point one but its lower half, which hardly matters.
func (s *Signal) has(l codec.Layout, at int) bool {
	if len(s.Area.Words) == 0 || s.Area.First+at < 0 || s.Area.First+at+l.Words() > 1<<16 {
		return false
	}
	end := len(s.Area.Words[0])
	reversed := l.Order == codec.CDAB || l.Order == codec.DCBA
	switch n := l.Words(); {
	case n < 1 || n > 4:
		return false
	case l.Type == codec.TypeFloat32 && at == -1:
		return reversed
	case l.Type == codec.TypeFloat32 && at+n == end+1:
		return !reversed
	default:
		return at >= 0 && at+n <= end
	}
}

// Whole reports whether all registers of a value were read, and not just its upper half.
func (s *Signal) Whole(r Reading) bool {
	if s.Area == nil || len(s.Area.Words) == 0 {
		return true
	}
	at := s.At + r.By
	return at >= 0 && at+s.layout(r).Words() <= len(s.Area.Words[0])
}

func (s *Signal) engineering(r Reading, raw float64) float64 {
	if r.Factor != 0 {
		raw *= r.Factor
	}
	v := raw
	switch {
	case r.Raw != nil:
		lo, hi := s.ends()
		v = lo + (raw-r.Raw[0])/(r.Raw[1]-r.Raw[0])*(hi-lo)
	case s.Scale != nil:
		v = s.Scale(raw)
	}
	switch r.Convert {
	case FromFahrenheit:
		v = (v - 32) / 1.8
	case ToFahrenheit:
		v = v*1.8 + 32
	}
	return v + r.Offset
}

// ends are those of the range that raw numbers are scaled to.
func (s *Signal) ends() (lo, hi float64) {
	if e := s.Point.Scaling.Eng; e != nil {
		return e[0], e[1]
	}
	if r := s.Point.Range; r != nil {
		return r[0], r[1]
	}
	return 0, 100
}

// Moments are when the values were, in seconds since 1970.
func (s *Signal) Moments() []uint32 {
	if s.Area != nil {
		return s.Area.Secs
	}
	return s.Secs
}

// float reports whether a type is a floating-point one.
func float(t codec.Type) bool { return t == codec.TypeFloat32 || t == codec.TypeFloat64 }

// whole reports whether a type is a whole number of 16 bits or more.
func whole(t codec.Type) bool {
	switch t {
	case codec.TypeInt16, codec.TypeUint16, codec.TypeInt32, codec.TypeUint32, codec.TypeInt64, codec.TypeUint64:
		return true
	}
	return false
}
