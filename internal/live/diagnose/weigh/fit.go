package weigh

import (
	"math"
	"slices"

	"arithmon/internal/core/codec"
)

// Fit is how well values fit what a plant has: the logarithm of a likelihood, in parts. 0 is what values usually have.
type Fit struct {
	None      float64 // registers that are no value
	Magnitude float64 // how large it is, against what is known of the point
	Motion    float64 // how it moves from moment to moment
	Jumps     float64 // steps of about all that its type can hold
	Digits    float64 // what its digits tell
}

// Sum is the fit as a whole.
func (f Fit) Sum() float64 { return f.None + f.Magnitude + f.Motion + f.Jumps + f.Digits }

// Doubt is what speaks against values, whatever speaks for them.
func (f Fit) Doubt() float64 {
	return -min(0, f.None) - min(0, f.Magnitude) - min(0, f.Motion) - min(0, f.Jumps) - min(0, f.Digits)
}

// Fit is how well the signal fits as it is set.
func (s *Signal) Fit() Fit {
	if s.fits == nil {
		f := s.fit(Reading{}, s.Values(Reading{}))
		s.fits = &f
	}
	return *s.fits
}

// fit weighs the values under a reading.
func (s *Signal) fit(r Reading, values []float64) (f Fit) {
	l := s.layout(r)
	var room [32]float64
	good := room[:0]
	all := 0
	for i, v := range values {
		if s.skip != nil && s.skip[i] {
			continue
		}
		if all++; !math.IsNaN(v) {
			good = append(good, v)
		}
	}
	if none := all - len(good); none > 0 {
		f.None = -min(2+6*float64(none)/float64(all)+0.5*float64(none), 9)
	}
	if len(good) == 0 {
		return f
	}
	c := course(good)
	f.Magnitude = s.Expect.magnitude(good, c, l.Type)
	if float(l.Type) {
		f.Magnitude -= decades(good)
		if s.Expect.Total && c.size > 0 && c.size < 1e-20 {
			f.Magnitude -= 9
		}
	}
	f.Motion = s.Expect.motion(c)
	if f.Magnitude > -beyondUsual { // there are such processes
		f.Motion = max(f.Motion, -mostWild*float64(min(l.Words()+1, 3))/2)
	}
	if l.Type == codec.TypeFloat32 {
		f.Motion += s.carries(r, l)
		f.Digits = s.rounded(r, l)
	}
	if !r.SignBit {
		f.Jumps = c.jumps(l.Type, s, r) + s.halves(r, l, good)
		f.Digits += s.digits(r, l)
	}
	return f
}

// moves is how values went.
type moves struct {
	least, most float64
	size        float64   // median magnitude
	steps       []float64 // that are none, absolute, ascending
	distinct    int
	falls       int
}

func course(v []float64) (c moves) {
	if len(v) == 0 {
		return c
	}
	c.least, c.most = slices.Min(v), slices.Max(v)
	var room, other [32]float64
	sizes, order := slices.Grow(room[:0], len(v))[:len(v)], slices.Grow(other[:0], len(v))[:len(v)]
	c.steps = make([]float64, 0, len(v))
	for i, x := range v {
		sizes[i], order[i] = math.Abs(x), x
		if i > 0 && x != v[i-1] {
			c.steps = append(c.steps, math.Abs(x-v[i-1]))
			if x < v[i-1] {
				c.falls++
			}
		}
	}
	slices.Sort(order)
	for i, x := range order {
		if i == 0 || x != order[i-1] {
			c.distinct++
		}
	}
	slices.Sort(sizes)
	slices.Sort(c.steps)
	c.size = sizes[len(sizes)/2]
	return c
}

// step is the step that so large a share of them does not exceed.
func (c moves) step(share float64) float64 {
	if len(c.steps) == 0 {
		return 0
	}
	return c.steps[min(len(c.steps)-1, int(share*float64(len(c.steps))))]
}

// The weights of magnitudes. What is a little beyond what is possible may be a unit that people use in their own way.
const (
	beyondUsual    = 0.8
	beyondPossible = 2.5
	mostBeyond     = 8.0
	unlike         = 3.0   // its siblings
	tiny           = 0.004 // of what is usual: a value that is always less and not zero is rare
)

func (e Expect) magnitude(v []float64, c moves, t codec.Type) float64 {
	if !e.known() {
		return unknownMagnitude(c, t)
	}
	sum, worst := 0.0, 0.0
	for _, x := range v {
		p := 0.0
		switch {
		case x < e.Possible[0] || x > e.Possible[1]:
			d := max(e.Possible[0]-x, x-e.Possible[1]) / (e.Possible[1] - e.Possible[0])
			p = beyondPossible + min(mostBeyond-beyondPossible, 1.2*math.Log1p(8*d))
		case x < e.Usual[0] || x > e.Usual[1]:
			p = beyondUsual * (1 + min(1, max(e.Usual[0]-x, x-e.Usual[1])/e.span()))
		}
		sum += p
		worst = max(worst, p)
	}
	p := (sum/float64(len(v)) + worst) / 2 * e.Weight
	if e.alike {
		if d := max(e.siblings[0]-c.most, c.least-e.siblings[1]); d > 0 {
			p += unlike + min(2, math.Log1p(d/(e.siblings[1]-e.siblings[0])))
		}
	}
	if c.size > 0 && !e.Total {
		usual := max(math.Abs(e.Usual[0]), math.Abs(e.Usual[1]))
		rests := max(math.Abs(c.least), math.Abs(c.most)) > 0.1*usual // it is about zero at times
		switch share := c.size / usual; {
		case share < 1e-15:
			p += 9
		case share < 1e-7:
			p += 6.5
		case share < tiny/10 && !rests:
			p += 2.5
		case share < tiny && !rests:
			p += 1
		}
	}
	return -p
}

// decades weighs values that go through more powers of ten than a plant does within a minute.
func decades(v []float64) float64 {
	least, most := math.Inf(1), 0.0
	n := 0
	for _, x := range v {
		if x != 0 {
			least, most = min(least, math.Abs(x)), max(most, math.Abs(x))
			n++
		}
	}
	if n < 4 || most/least < 1e7 {
		return 0
	}
	return min(6, 2+math.Log10(most/least/1e7)/2)
}

// unknownMagnitude weighs values of which nothing is known. Counters and words of flags may be large.
func unknownMagnitude(c moves, t codec.Type) float64 {
	top := max(math.Abs(c.least), math.Abs(c.most))
	p := 0.0
	switch {
	case top == 0:
		p = 0.2
	case top < 1e-20:
		p = 8
	case top < 1e-6:
		p = 5
	case top < 1e-3:
		p = 1.5
	case top > 1e14:
		p = 8
	case top > 1e9:
		p = 4.5
	case top > 1e7:
		p = 2
	case top > 2e5:
		p = 0.7
	}
	if !float(t) {
		if len(c.steps) == 0 {
			return -min(p, 1.5)
		}
		if c.falls == 0 {
			return -min(p, 1)
		}
	}
	return -p
}

// The weights of how values move.
const (
	calm, lively, wild = 0.02, 0.12, 0.3 // of what is usual, by half of the steps
	smallest           = 0.02            // of that, below which steps are not larger for it
	aboutZero          = 0.1             // likewise, where values may be below zero
	mostSteps          = 10.0            // that count
	mostWild           = 3.0             // by which values within their range are doubted for how they move
)

func (e Expect) motion(c moves) float64 {
	n := min(float64(len(c.steps)), mostSteps)
	if n == 0 {
		return 0
	}
	span := max(math.Abs(c.least), math.Abs(c.most))
	if e.known() && !e.Total { // what is small moves by little
		least := smallest
		if e.Usual[0] < 0 { // whose zero is a value like any other
			least = aboutZero
		}
		span = min(e.span(), max(span, least*e.span()))
	}
	if span == 0 {
		return 0
	}
	switch share := c.step(0.5) / span; {
	case share > wild:
		return -0.7 * n
	case share > lively:
		return -0.3 * n
	case share < calm && c.distinct >= 4:
		return 0.08 * n
	}
	return 0
}

// carries weighs whether the words of a floating-point value belong together. Where its lower word moves by little at a time, it passes its end
// whenever the upper one moves by one. Words of two values, as those that are read one address off, do not keep to that.
func (s *Signal) carries(r Reading, l codec.Layout) float64 {
	at := s.At + r.By
	if s.Area == nil || at < 0 || at+2 > len(s.Area.Words[0]) {
		return 0
	}
	type step struct{ up, by int }
	var room [32]step
	var other [32]int
	steps, resting := room[:0], other[:0] // resting: steps of the lower word while the upper one stays
	for i := 1; i < len(s.Area.Words); i++ {
		top, bottom := l.Order.Ends(s.Area.Words[i][at], s.Area.Words[i][at+1])
		wasTop, wasBottom := l.Order.Ends(s.Area.Words[i-1][at], s.Area.Words[i-1][at+1])
		up, by := int(top)-int(wasTop), int(bottom)-int(wasBottom)
		if up == 0 {
			resting = append(resting, max(by, -by))
		} else if up == 1 || up == -1 {
			steps = append(steps, step{up, by})
		}
	}
	slices.Sort(resting)
	if len(resting) < len(steps)+3 {
		return 0 // it moves by too much at a time
	}
	slow := resting[len(resting)*9/10] <= 1<<13
	p := 0.0
	for _, x := range steps {
		on := x.up<<16 + x.by
		switch together := x.up*x.by < 0; { // the lower word begins anew
		case slow && max(on, -on) < max(x.by, -x.by):
			p += 0.7
		case slow:
			p -= 1
		case together:
			p += 0.3
		default:
			p -= 0.6
		}
	}
	return min(max(p, -4), 2)
}

// fewDigits are so few that a number with no more of them has been chosen or rounded: words that do not belong together hardly give one.
const fewDigits = 5

// rounded is what speaks for a floating-point value of which all that was seen has few decimal digits.
func (s *Signal) rounded(r Reading, l codec.Layout) float64 {
	at := s.At + r.By
	if s.Area == nil || at < 0 || at+2 > len(s.Area.Words[0]) {
		return 0
	}
	distinct := 0
	var last float64
	for i, words := range s.Area.Words {
		if s.skip != nil && s.skip[i] {
			continue
		}
		v, err := l.Decode(words[at : at+2])
		x, ok := v.Float()
		_, bottom := l.Order.Ends(words[at], words[at+1])
		if size := math.Abs(x); err != nil || !ok || bottom == 0 || !(size > 1e-4 && size < 1e7) { // with nothing below, or far out, they are few by themselves
			return 0
		}
		if distinct > 0 && x == last {
			continue
		}
		last = x
		if distinct++; !short32(x) {
			return 0
		}
	}
	return min(1.2+0.4*float64(distinct), 3)
}

// short32 reports whether a number of 32 bits has few decimal digits.
func short32(x float64) bool {
	scale := math.Pow(10, fewDigits-1-math.Floor(math.Log10(math.Abs(x))))
	return float32(math.Round(x*scale)/scale) == float32(x)
}

// jumps weighs steps that are about as large as all that a type of 16 bits holds, while the others are small: it passed its end.
func (c moves) jumps(t codec.Type, s *Signal, r Reading) float64 {
	var raw float64
	switch t {
	case codec.TypeInt16, codec.TypeUint16:
		raw = 1 << 16
	case codec.TypeInt32, codec.TypeUint32:
		raw = 1 << 32
	default:
		return 0
	}
	full := math.Abs(s.engineering(r, raw) - s.engineering(r, 0))
	if full == 0 || len(c.steps) < 3 || c.step(0.4) > 0.2*full {
		return 0
	}
	n := 0
	for _, d := range c.steps {
		if d > 0.6*full {
			n++
		}
	}
	return -min(3.5*float64(n), 9)
}

// halves weighs jumps between about zero and about half of what a type holds: at that half begin the numbers with the uppermost bit, so that a
// value of sign and magnitude jumps there when it passes zero.
func (s *Signal) halves(r Reading, l codec.Layout, v []float64) float64 {
	n := l.Words()
	if !whole(l.Type) || n > 2 || !s.Expect.known() { // bits may do so
		return 0
	}
	half := math.Ldexp(1, 16*n-1)
	zero, top := s.engineering(r, 0), s.engineering(r, half)
	if l.Type == codec.TypeInt16 || l.Type == codec.TypeInt32 {
		top = s.engineering(r, -half)
	}
	near := 0.02 * math.Abs(top-zero)
	at := func(x, y float64) bool { return math.Abs(x-y) < near }
	jumps := 0
	for i := 1; i < len(v); i++ {
		if at(v[i-1], zero) && at(v[i], top) || at(v[i-1], top) && at(v[i], zero) {
			jumps++
		}
	}
	return -min(4*float64(jumps), 9)
}

// digits weighs what the registers of whole numbers and of BCD tell by their digits.
func (s *Signal) digits(r Reading, l codec.Layout) float64 {
	n := l.Words()
	if s.Area == nil || n == 0 || n == 3 || n > 4 {
		return 0
	}
	at := s.At + r.By
	if at < 0 || at+n > len(s.Area.Words[0]) || !whole(l.Type) {
		return 0
	}
	var room [32]uint64
	all := room[:0]
	reverse, swap := l.Order == codec.CDAB || l.Order == codec.DCBA, l.Order == codec.BADC || l.Order == codec.DCBA
	for _, w := range s.Area.Words {
		x := uint64(0)
		for i := range n {
			word := w[at+i]
			if reverse {
				word = w[at+n-1-i]
			}
			if swap {
				word = word<<8 | word>>8
			}
			x = x<<16 | uint64(word)
		}
		all = append(all, x)
	}
	slices.Sort(all)
	all = slices.Compact(all)
	switch l.Type {
	case codec.TypeInt16, codec.TypeUint16, codec.TypeInt32, codec.TypeUint32:
		p := coarse(all, 8*n) + edge(all, l.Type)
		if !s.hex || r.By != 0 {
			p += decimal(all)
		}
		return p
	case codec.TypeInt64, codec.TypeUint64:
		return coarse(all, 16)
	}
	return 0
}

// fewDistinct are too few different values to tell anything by their digits.
const fewDistinct = 5

// edge weighs whole numbers that are all close to an end of their type, as those are that have a sign and are read without one, or the
// other way round. An end itself may be a code.
func edge(all []uint64, t codec.Type) float64 {
	bits, signed := 16, t == codec.TypeInt16 || t == codec.TypeInt32
	if t == codec.TypeInt32 || t == codec.TypeUint32 {
		bits = 32
	}
	full := uint64(1) << bits
	if signed { // the order of which begins at the least
		full /= 2
	}
	for _, x := range all {
		if signed {
			x ^= full
			if x >= full/8 || x == 0 {
				return 0
			}
			continue
		}
		if x < full-full/16 || x == full-1 {
			return 0
		}
	}
	if bits == 32 {
		return -3.5
	}
	return -2.2
}

// coarse weighs whole numbers that move, and of which so many lower bits never do.
func coarse(all []uint64, bits int) float64 {
	if len(all) < fewDistinct {
		return 0
	}
	for _, x := range all {
		if (x^all[0])&(1<<bits-1) != 0 {
			return 0
		}
	}
	return -min(0.8*float64(len(all)-1), 6)
}

// fewDecimal are too few different values to be taken for decimal: ten of a value that goes round have no digit above 9 in one of a hundred cases.
const fewDecimal = 12

// decimal weighs values of which no hexadecimal digit is above 9, though they move.
func decimal(all []uint64) float64 {
	if len(all) < fewDecimal {
		return 0
	}
	tens, before := 0, uint64(math.MaxUint64) // what the digits above the last are; all ascends
	for _, x := range all {
		for at := x; at > 0; at >>= 4 {
			if at&0xF > 9 {
				return 0
			}
		}
		if x>>4 != before {
			tens, before = tens+1, x>>4
		}
	}
	if tens < 2 { // numbers that follow each other may all be short of A
		return 0
	}
	p := 0.47 * float64(min(len(all), 3*tens))
	return -min(p, 9)
}
