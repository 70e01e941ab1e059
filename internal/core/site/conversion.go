package site

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
)

// Conversion turns what a device holds into what a person reads, and back, for one point.
type Conversion struct {
	typ      codec.Type
	scale    *scaling.Func // nil: none
	invert   bool
	invalid  []RawCode
	states   States
	decimals int // -1: as many as needed
}

// Conversion returns the conversion of a valid point.
func (p Point) Conversion() Conversion {
	c := Conversion{typ: p.Type, invert: p.Invert, invalid: p.Invalid, states: p.States, decimals: -1}
	if f, _ := p.Scaling.Compile(); !f.IsZero() { // a valid point's scaling compiles; otherwise it is none
		c.scale = &f
	}
	if p.Address.Space == DoubleBitInputs && len(p.States) == 0 {
		c.states = doubleBitStates
	}
	if p.Decimals != nil {
		c.decimals = *p.Decimals
	}
	return c
}

// States are the names of values.
func (c Conversion) States() States { return c.states }

// Scale is how raw numbers are scaled; nil: not at all.
func (c Conversion) Scale() *scaling.Func { return c.scale }

// Engineering gives the engineering value of a decoded raw value. inRange is false outside the raw range.
func (c Conversion) Engineering(raw codec.Value) (v codec.Value, inRange bool) {
	if c.typ == codec.TypeBool && c.invert {
		return codec.BoolValue(!raw.Bool()), true
	}
	if c.scale == nil {
		return raw, true
	}
	f, ok := raw.Float()
	if !ok {
		return raw, true
	}
	eng, inRange := c.scale.Apply(f)
	return codec.FloatValue(eng), inRange
}

// Invalid reports whether a decoded raw value is one with which the device says that it has none.
func (c Conversion) Invalid(raw codec.Value) bool {
	for _, code := range c.invalid {
		if code.means(raw, c.typ) {
			return true
		}
	}
	return false
}

// Certain reports whether all raw data give a value within its range, so that a reading of them is good without being looked at.
func (c Conversion) Certain() bool {
	switch c.typ {
	case codec.TypeFloat32, codec.TypeFloat64, codec.TypeBCD16, codec.TypeBCD32, codec.TypeString:
		return false // there are words that are none of these
	}
	return len(c.invalid) == 0 && (c.scale == nil || !c.scale.Bounded())
}

// Raw gives the raw value to send for what a person gave: a number, a boolean, the name of a state, or text for a
// string. Its error says what the point takes.
func (c Conversion) Raw(given codec.Value) (codec.Value, error) {
	if c.typ == codec.TypeString {
		if given.IsZero() {
			return given, fmt.Errorf("no value; give text")
		}
		return codec.TextValue(given.String()), nil
	}
	v, err := c.number(given)
	if err != nil {
		return codec.Value{}, err
	}
	if c.typ == codec.TypeBool {
		if f, _ := v.Float(); f != 0 && f != 1 {
			return codec.Value{}, fmt.Errorf("%s is neither 0 nor 1", given)
		}
		return codec.BoolValue(v.Bool() != c.invert), nil
	}
	if n, whole := v.Int(); whole && c.enumerated() && c.states[n] == "" {
		return codec.Value{}, fmt.Errorf("%s is none of its states: %s", given, strings.Join(c.states.Names(), ", "))
	}
	if c.scale == nil {
		if f, _ := v.Float(); v.Kind() == codec.Float && f != math.Trunc(f) && c.typ != codec.TypeFloat32 && c.typ != codec.TypeFloat64 {
			return codec.Value{}, fmt.Errorf("%s is not a whole number, which %s takes", given, c.typ)
		}
		return v, nil
	}
	f, _ := v.Float()
	raw, err := c.scale.Inverse(f)
	return codec.FloatValue(raw), err
}

// enumerated reports whether the states are all values that there are: they count from 0 without a gap. A few names of special values leave
// the rest as it is.
func (c Conversion) enumerated() bool {
	if len(c.states) < 2 || c.typ == codec.TypeBits {
		return false
	}
	for n := range int64(len(c.states)) {
		if c.states[n] == "" {
			return false
		}
	}
	return true
}

// number reads given as a number or the name of a state.
func (c Conversion) number(given codec.Value) (codec.Value, error) {
	if given.IsZero() {
		return given, fmt.Errorf("no value")
	}
	if given.Kind() != codec.Text {
		return given, nil
	}
	text := strings.TrimSpace(given.Text())
	if n, ok := c.states.Find(text); ok && c.typ != codec.TypeBits {
		return codec.IntValue(n), nil
	}
	if n, ok := codec.ParseNumber(text); ok {
		return n, nil
	}
	if c.typ == codec.TypeBool {
		switch strings.ToLower(text) {
		case "true", "on":
			return codec.BoolValue(true), nil
		case "false", "off":
			return codec.BoolValue(false), nil
		}
	}
	takes := "a number"
	if c.typ == codec.TypeBool {
		takes = "true or false, 1 or 0"
	}
	if len(c.states) > 0 && c.typ != codec.TypeBits {
		takes += ", or one of " + strings.Join(c.states.Names(), ", ")
	}
	return codec.Value{}, fmt.Errorf("%q is no value for this point; it takes %s", given.Text(), takes)
}

// Text says an engineering value as a person would read it: the name of its state, or a number with the point's
// decimals; without the unit. Nothing gives "".
func (c Conversion) Text(v codec.Value) string {
	if v.IsZero() {
		return ""
	}
	if c.typ == codec.TypeBits && len(c.states) > 0 {
		if n, ok := v.Int(); ok {
			return c.states.SetBits(uint64(n))
		}
	}
	n, whole := v.Int()
	if name, ok := c.states[n]; ok && whole && c.typ != codec.TypeBits {
		return name
	}
	if f, ok := v.Float(); ok && c.decimals >= 0 && v.Kind() != codec.Bool {
		text := strconv.FormatFloat(f, 'f', c.decimals, 64)
		if strings.Trim(text, "-0.") == "" {
			return strings.TrimPrefix(text, "-") // nothing is below zero by less than is shown
		}
		return text
	}
	if f, ok := v.Float(); ok && v.Kind() == codec.Float {
		return c.floatText(f)
	}
	return v.String()
}

// floatText is the shortest text of a number that loses nothing the device gave: what came as binary32 reads back as the same binary32
// number, and what scaling leaves behind the fifteenth digit is no knowledge.
func (c Conversion) floatText(f float64) string {
	switch single := f == float64(float32(f)); {
	case c.typ == codec.TypeFloat32, single && c.scale == nil && f != math.Trunc(f):
		return codec.Float32Text(f)
	case f == math.Trunc(f):
		return codec.FloatValue(f).String()
	}
	return codec.FloatValue(round(f, 15)).String()
}

// round keeps so many significant digits.
func round(f float64, digits int) float64 {
	r, _ := strconv.ParseFloat(strconv.FormatFloat(f, 'g', digits, 64), 64)
	return r
}
