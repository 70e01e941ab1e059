// Package scaling turns raw numbers into engineering values and back.
//
// A Scaling is what a person writes; Compile checks it and gives a Func, which is what runs. The forms:
// none; two points (raw and eng); factor and offset; square root, as of a differential pressure over an orifice;
// a table of pairs, linear between them. A raw number outside its stated range is scaled all the same and reported,
// never clamped in silence.
package scaling

import (
	"errors"
	"fmt"
	"math"
)

// Curve is the shape between the two points of a scaling.
type Curve string

// The curves. The zero Curve is Linear.
const (
	Linear     Curve = "linear"
	SquareRoot Curve = "square-root"
)

// Scaling is one of the forms, as in site files; the zero Scaling is none.
type Scaling struct {
	Raw    *[2]float64  `json:"raw,omitempty" yaml:"raw" doc:"raw numbers of the two points, such as [0, 27648]"`
	Eng    *[2]float64  `json:"eng,omitempty" yaml:"eng" doc:"engineering values of the two points, such as [0, 100]"`
	Curve  Curve        `json:"curve,omitempty" yaml:"curve" doc:"between the two points: linear (the default) or square-root" enum:"linear,square-root"`
	Factor *float64     `json:"factor,omitempty" yaml:"factor" doc:"engineering value = raw × factor + offset"`
	Offset *float64     `json:"offset,omitempty" yaml:"offset" doc:"see factor; alone it means a factor of 1"`
	Table  [][2]float64 `json:"table,omitempty" yaml:"table" doc:"pairs of raw and engineering value, raw ascending, linear in between"`
	Clamp  bool         `json:"clamp,omitempty" yaml:"clamp" doc:"hold the value at the end of the engineering range; the reading still says raw-range"`
}

// ErrNoInverse is why a value cannot be written through a scaling.
var ErrNoInverse = errors.New("this scaling has no inverse, so the point cannot be written")

// MaxPairs is the longest table.
const MaxPairs = 1000

// FieldError names the field of a Scaling that is wrong.
type FieldError struct{ Field, Message string }

func (e *FieldError) Error() string { return e.Field + ": " + e.Message }

// IsZero reports whether s is none.
func (s Scaling) IsZero() bool {
	return s.Raw == nil && s.Eng == nil && s.Curve == "" && s.Factor == nil && s.Offset == nil && s.Table == nil && !s.Clamp
}

// FactorOffset gives the straight line through two points: eng = raw × factor + offset.
// The raw numbers must differ.
func FactorOffset(raw, eng [2]float64) (factor, offset float64) {
	factor = (eng[1] - eng[0]) / (raw[1] - raw[0])
	return factor, eng[0] - raw[0]*factor
}

// TwoPoints gives the engineering values of a factor and offset at two raw numbers: the inverse of FactorOffset.
func TwoPoints(factor, offset float64, raw [2]float64) (eng [2]float64) {
	return [2]float64{raw[0]*factor + offset, raw[1]*factor + offset}
}

// Func is a scaling ready to run. The zero Func is none.
type Func struct {
	form           form
	raw, eng       [2]float64 // ends of the range; raw may run downwards
	factor, offset float64
	table          [][2]float64
	clamp          bool
	invertible     bool
}

type form uint8

const (
	identity form = iota
	factorOffset
	twoPoint
	root
	piecewise
)

// Compile checks s. Its error joins a *FieldError for every fault.
func (s Scaling) Compile() (Func, error) {
	var faults []error
	fault := func(field, format string, args ...any) {
		faults = append(faults, &FieldError{field, fmt.Sprintf(format, args...)})
	}
	forms := 0
	for _, given := range []bool{s.Raw != nil || s.Eng != nil, s.Factor != nil || s.Offset != nil, s.Table != nil} {
		if given {
			forms++
		}
	}
	if forms > 1 {
		fault("", "give one form: raw and eng, or factor and offset, or table")
	}
	f := Func{clamp: s.Clamp, invertible: true}
	switch {
	case s.Raw != nil || s.Eng != nil:
		s.compilePoints(&f, fault)
	case s.Factor != nil || s.Offset != nil:
		f.form, f.factor = factorOffset, 1
		if s.Factor != nil {
			f.factor = *s.Factor
		}
		if s.Offset != nil {
			f.offset = *s.Offset
		}
		if !isFinite(f.factor) || f.factor == 0 {
			fault("factor", "%v: a factor is a number other than 0", f.factor)
		}
		if !isFinite(f.offset) {
			fault("offset", "%v is not a finite number", f.offset)
		}
		if s.Clamp {
			fault("clamp", "needs a range: give raw and eng instead of factor and offset")
		}
	case s.Table != nil:
		s.compileTable(&f, fault)
	case s.Clamp:
		fault("clamp", "needs a range: give raw and eng, or a table")
	}
	switch s.Curve {
	case "", Linear:
	case SquareRoot:
		if s.Raw == nil || s.Eng == nil {
			fault("curve", "square-root needs raw and eng")
		}
	default:
		fault("curve", "%q: choose linear or square-root", s.Curve)
	}
	if len(faults) > 0 {
		return Func{}, errors.Join(faults...)
	}
	return f, nil
}

func (s Scaling) compilePoints(f *Func, fault func(string, string, ...any)) {
	if s.Raw == nil {
		fault("raw", "is missing; eng needs it, such as raw: [0, 27648]")
		return
	}
	if s.Eng == nil {
		fault("eng", "is missing; raw needs it, such as eng: [0, 100]")
		return
	}
	f.form, f.raw, f.eng = twoPoint, *s.Raw, *s.Eng
	for _, ends := range []struct {
		field string
		v     [2]float64
	}{{"raw", f.raw}, {"eng", f.eng}} {
		if !isFinite(ends.v[0]) || !isFinite(ends.v[1]) {
			fault(ends.field, "%v: both ends must be finite numbers", ends.v)
		} else if ends.v[0] == ends.v[1] {
			fault(ends.field, "%v: the two ends must differ", ends.v)
		}
	}
	f.factor, f.offset = FactorOffset(f.raw, f.eng)
	if s.Curve == SquareRoot {
		f.form = root
	}
}

func (s Scaling) compileTable(f *Func, fault func(string, string, ...any)) {
	f.form, f.table = piecewise, s.Table
	if len(s.Table) < 2 || len(s.Table) > MaxPairs {
		fault("table", "has %d pairs; 2 to %d are needed", len(s.Table), MaxPairs)
		return
	}
	rising, falling := true, true
	for i, p := range s.Table {
		if !isFinite(p[0]) || !isFinite(p[1]) {
			fault("table", "pair %d %v: both must be finite numbers", i+1, p)
			return
		}
		if i == 0 {
			continue
		}
		before := s.Table[i-1]
		if p[0] <= before[0] {
			fault("table", "pair %d: raw %v must be above %v of the pair before", i+1, p[0], before[0])
		}
		rising, falling = rising && p[1] > before[1], falling && p[1] < before[1]
	}
	f.invertible = rising || falling
	last := s.Table[len(s.Table)-1]
	f.raw, f.eng = [2]float64{s.Table[0][0], last[0]}, [2]float64{s.Table[0][1], last[1]}
}

// IsZero reports whether f leaves numbers as they are.
func (f Func) IsZero() bool { return f.form == identity }

// Invertible reports whether values can be written through f.
func (f Func) Invertible() bool { return f.form == identity || f.invertible }

// Line gives factor and offset where f is a straight line.
func (f Func) Line() (factor, offset float64, ok bool) {
	return f.factor, f.offset, f.form == twoPoint || f.form == factorOffset
}

// Steps gives the numbers by which Apply makes an engineering value of a whole number, where f is a straight line: that times factor, and
// offset added; factor is 0 where it is not.
func (f Func) Steps() (factor, offset float64) {
	switch f.form {
	case factorOffset:
		return f.factor, f.offset
	case twoPoint:
		return f.factor, f.eng[0]
	}
	return 0, 0
}

// Range gives the engineering values between which values are expected; ok is false where none is stated.
func (f Func) Range() (lo, hi float64, ok bool) {
	return min(f.eng[0], f.eng[1]), max(f.eng[0], f.eng[1]), f.form >= twoPoint
}

// Bounded reports whether raw numbers can be out of range.
func (f Func) Bounded() bool { return f.form != identity && f.form != factorOffset }

// Apply scales a raw number. inRange is false when raw lies outside the stated raw range.
// The result is always finite for a finite raw number within ±1e300.
func (f Func) Apply(raw float64) (eng float64, inRange bool) {
	switch f.form {
	case identity:
		return raw, true
	case factorOffset:
		return raw*f.factor + f.offset, true
	}
	inRange = raw >= min(f.raw[0], f.raw[1]) && raw <= max(f.raw[0], f.raw[1])
	switch f.form {
	case twoPoint:
		eng = f.eng[0] + (raw-f.raw[0])*f.factor
	case root:
		x := (raw - f.raw[0]) / (f.raw[1] - f.raw[0])
		eng = f.eng[0] + (f.eng[1]-f.eng[0])*math.Sqrt(max(0, x))
	case piecewise:
		eng = interpolate(f.table, raw, 0, 1)
	}
	if f.clamp && !inRange {
		lo, hi, _ := f.Range()
		eng = min(max(eng, lo), hi)
	}
	return eng, inRange
}

// Inverse gives the raw number that scales to eng; ErrNoInverse where there is none, and another error when eng
// lies outside the stated engineering range: what is out of range is not written.
func (f Func) Inverse(eng float64) (raw float64, err error) {
	if !f.Invertible() {
		return 0, ErrNoInverse
	}
	if lo, hi, ok := f.Range(); ok && (eng < lo || eng > hi) {
		return 0, fmt.Errorf("%v is out of the engineering range %v to %v", eng, lo, hi)
	}
	switch f.form {
	case factorOffset:
		return (eng - f.offset) / f.factor, nil
	case twoPoint:
		return f.raw[0] + (eng-f.eng[0])/f.factor, nil
	case root:
		x := (eng - f.eng[0]) / (f.eng[1] - f.eng[0])
		return f.raw[0] + (f.raw[1]-f.raw[0])*x*x, nil
	case piecewise:
		return interpolate(f.table, eng, 1, 0), nil
	}
	return eng, nil
}

// interpolate looks x up in column from of the pairs, which rises or falls strictly, and gives column to;
// beyond the ends the last segment is continued.
func interpolate(table [][2]float64, x float64, from, to int) float64 {
	falling := table[0][from] > table[len(table)-1][from]
	i := 1
	for i < len(table)-1 && (x > table[i][from]) != falling {
		i++
	}
	a, b := table[i-1], table[i]
	return a[to] + (b[to]-a[to])*((x-a[from])/(b[from]-a[from]))
}

func isFinite(f float64) bool { return !math.IsNaN(f) && !math.IsInf(f, 0) }
