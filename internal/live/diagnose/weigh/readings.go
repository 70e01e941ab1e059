package weigh

import (
	"cmp"
	"math"
	"slices"

	"arithmon/internal/core/codec"
)

// What mistakes cost: the logarithm of how much rarer than none they are.
const (
	costWords        = 2.6 // words in the other order
	costBytes        = 3.4 // bytes, too
	costSwapped      = 2.6 // those of a single register
	costSign         = 1.8
	costType         = 3.2
	costWidth        = 2.9
	costLong         = 2.5 // to 64 bits
	costBCD          = 4.8 // ten digits of sixteen come about by themselves now and then, in a day of looks
	costNoBCD        = 4.0
	costSignBit      = 3.6
	costShift        = 3.0 // one register
	costFar          = 3.8 // two
	costFactor       = 3.2 // ten, the more the further
	costPower        = 0.5
	costSpan         = 3.8
	costOffset       = 3.8
	costConvert      = 2.4
	costRarer        = 0.12 // of the ranges that devices have, for each that is more usual
	costUnlikely     = 1.5  // where nothing points to it
	costLow, mostLow = 0.6, 3.0
)

// cost is that of a reading instead of the own one.
func (s *Signal) cost(r Reading) (c float64) {
	c = s.trust
	if r.Order != "" {
		if s.Layout.Words() > 1 && r.Order == reversed(own(s.Layout.Order)) {
			c += costWords
		} else if s.Layout.Words() == 1 {
			c += costSwapped
		} else {
			c += costBytes
		}
	}
	if r.Type != "" {
		before, after := s.Layout, s.layout(r)
		switch {
		case r.Type == codec.TypeBCD16 || r.Type == codec.TypeBCD32:
			c += costBCD
		case s.Layout.Type == codec.TypeBCD16 || s.Layout.Type == codec.TypeBCD32:
			c += costNoBCD
		case after.Words() == 4 && before.Words() < 4:
			c += costWidth + costLong
		case before.Words() != after.Words():
			c += costWidth
		case whole(before.Type) && whole(after.Type):
			c += costSign
		default:
			c += costType
		}
		if s.Expect.known() && !s.Expect.Total && float(before.Type) != float(after.Type) {
			c += s.low(r) / 2
		}
	}
	if r.SignBit {
		c += costSignBit
	}
	switch by := max(r.By, -r.By); {
	case r.Type != "" && s.Layout.Words() == 1 && r.By == -1: // of the two registers, the other was taken
	case by == 1:
		c += costShift
	case by > 1:
		c += costFar
	}
	if r.Factor != 0 {
		c += costFactor + costPower*(math.Abs(math.Log10(r.Factor))-1) + s.low(r)
		if s.Point.Scaling.Raw != nil {
			c += costUnlikely
		}
	}
	if r.Raw != nil {
		i := slices.IndexFunc(Spans[:], func(o [2]float64) bool { return o == *r.Raw })
		c += costSpan + costRarer*float64(i) + s.low(r)
		if s.Point.Scaling.Raw == nil && s.Point.Unit != "%" {
			c += costUnlikely
		}
	}
	if r.Offset != 0 {
		c += costOffset
		if whole(s.Layout.Type) && s.Point.Scaling.IsZero() { // it rather lacks its factor
			c += costUnlikely
		}
	}
	if r.Convert != NoConversion {
		c += costConvert
	}
	return c
}

// low is what speaks against a scaling that leaves most of the range unused.
func (s *Signal) low(r Reading) float64 {
	v := s.Values(r)
	top := math.Abs(v[len(v)/2])
	full := max(math.Abs(s.Expect.Usual[0]), math.Abs(s.Expect.Usual[1]))
	if top == 0 || math.IsNaN(top) {
		return mostLow
	}
	return min(mostLow, max(0, costLow*math.Log(full/top)))
}

func own(o codec.Order) codec.Order {
	if o == "" {
		return codec.ABCD
	}
	return o
}

// reversed is an order with its words the other way round.
func reversed(o codec.Order) codec.Order {
	switch own(o) {
	case codec.ABCD:
		return codec.CDAB
	case codec.CDAB:
		return codec.ABCD
	case codec.BADC:
		return codec.DCBA
	}
	return codec.BADC
}

// swapped is an order of two bytes that is the other one.
func swapped(o codec.Order) codec.Order {
	if own(o) == codec.BADC || o == codec.DCBA {
		return codec.ABCD
	}
	return codec.BADC
}

// alternatives are the readings that a signal may have instead of its own, the more usual first.
func (s *Signal) alternatives() []Reading {
	list := s.others()
	costs := make(map[Reading]float64, len(list))
	for _, r := range list {
		if s.Values(r) != nil {
			costs[r] = s.cost(r)
		}
	}
	list = slices.DeleteFunc(list, func(r Reading) bool { _, known := costs[r]; return !known })
	slices.SortStableFunc(list, func(a, b Reading) int { return cmp.Compare(costs[a], costs[b]) })
	return list
}

func (s *Signal) others() (list []Reading) {
	list = append(list, s.scalings()...)
	if s.Area == nil {
		return list
	}
	t, o := s.Layout.Type, own(s.Layout.Order)
	others := func(types []codec.Type, orders []codec.Order, by ...int) {
		for _, b := range by {
			for _, other := range types {
				for _, order := range orders {
					r := Reading{Type: other, Order: order, By: b}
					if r.Type == t {
						r.Type = ""
					}
					if r.Order == o {
						r.Order = ""
					}
					if r != (Reading{}) {
						list = append(list, r)
					}
				}
			}
		}
	}
	all, same := codec.Orders[:], []codec.Order{o}
	two := []codec.Type{codec.TypeFloat32, codec.TypeUint32, codec.TypeInt32}
	switch t {
	case codec.TypeInt16, codec.TypeUint16, codec.TypeBCD16:
		others([]codec.Type{codec.TypeUint16, codec.TypeInt16, codec.TypeBCD16}, same, 0)
		others([]codec.Type{t}, []codec.Order{swapped(o)}, 0)
		others([]codec.Type{t}, same, -1, 1)
		others(two, []codec.Order{o, reversed(o)}, 0, -1)
		list = append(list, s.signed()...)
	case codec.TypeInt32, codec.TypeUint32, codec.TypeFloat32, codec.TypeBCD32:
		others(two, all, 0)
		others([]codec.Type{codec.TypeBCD32}, same, 0)
		others([]codec.Type{t}, same, -1, 1, -2, 2)
		others([]codec.Type{codec.TypeUint16, codec.TypeInt16}, same, 0, 1)
		others([]codec.Type{codec.TypeFloat64, codec.TypeUint64, codec.TypeInt64}, []codec.Order{o, reversed(o)}, 0, -2)
		list = append(list, s.signed()...)
	case codec.TypeInt64, codec.TypeUint64, codec.TypeFloat64:
		others([]codec.Type{codec.TypeFloat64, codec.TypeUint64, codec.TypeInt64}, all, 0)
		others([]codec.Type{t}, same, -1, 1, -2, 2)
		others(two, []codec.Order{o, reversed(o)}, 0, 2)
	}
	return list
}

// signed is the reading as sign and magnitude, of whole numbers that have their uppermost bit set at times.
func (s *Signal) signed() []Reading {
	if n := s.Layout.Words(); whole(s.Layout.Type) && n <= 2 {
		for _, raw := range s.raw() {
			if raw < 0 || raw >= math.Ldexp(1, 16*n-1) {
				return []Reading{{SignBit: true}}
			}
		}
	}
	return nil
}

// within reports whether the raw values are within a range, or hardly beyond it.
func (s *Signal) within(span [2]float64) bool {
	by := 0.02 * (span[1] - span[0])
	for _, raw := range s.raw() {
		if raw < span[0]-by || raw > span[1]+by {
			return false
		}
	}
	return true
}

// scalings are the alternatives that leave the raw value as it is.
func (s *Signal) scalings() (list []Reading) {
	if !s.Expect.known() {
		return nil // nothing tells them apart
	}
	for _, f := range []float64{0.001, 0.01, 0.1, 10, 100, 1000} {
		list = append(list, Reading{Factor: f})
	}
	if p := s.Point; p.Scaling.Raw != nil || p.Scaling.IsZero() && whole(s.Layout.Type) && (p.Range != nil || p.Unit == "%") {
		for i := range Spans {
			if (p.Scaling.Raw == nil || *p.Scaling.Raw != Spans[i]) && s.within(Spans[i]) {
				list = append(list, Reading{Raw: &Spans[i]})
			}
		}
	}
	if course(s.Values(Reading{})).size < 1 {
		return list // zero in one unit is a number in the other, whatever it came from
	}
	switch s.Point.Unit {
	case "°C", "degC":
		list = append(list, Reading{Offset: -273.15}, Reading{Offset: -40}, Reading{Convert: FromFahrenheit})
	case "K":
		list = append(list, Reading{Offset: 273.15})
	case "°F", "degF":
		list = append(list, Reading{Convert: ToFahrenheit})
	}
	return list
}
