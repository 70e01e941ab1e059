package codec

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
)

// Kind says what a Value carries.
type Kind uint8

// The kinds of value.
const (
	None  Kind = iota // nothing: never read
	Bool              // true or false
	Int               // signed, 64 bits
	Uint              // unsigned, 64 bits
	Float             // binary64, finite
	Text              // characters
)

// Value is one decoded value. The zero Value carries nothing.
// Values are comparable with ==; a float never holds NaN or an infinity.
type Value struct {
	kind Kind
	bits uint64
	text string
}

// BoolValue returns b as a Value.
func BoolValue(b bool) Value {
	if b {
		return Value{kind: Bool, bits: 1}
	}
	return Value{kind: Bool}
}

// IntValue returns i as a Value.
func IntValue(i int64) Value { return Value{kind: Int, bits: uint64(i)} }

// UintValue returns u as a Value.
func UintValue(u uint64) Value { return Value{kind: Uint, bits: u} }

// FloatValue returns f as a Value. NaN and the infinities are no values and give the zero Value.
func FloatValue(f float64) Value {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return Value{}
	}
	return Value{kind: Float, bits: math.Float64bits(f)}
}

// TextValue returns s as a Value.
func TextValue(s string) Value { return Value{kind: Text, text: s} }

// Bits is what a value of any kind but Text is made of; FromBits makes it again.
func (v Value) Bits() uint64 { return v.bits }

// FromBits makes a value of a kind, which is not Text, of its Bits.
func FromBits(k Kind, bits uint64) Value { return Value{kind: k, bits: bits} }

// Kind says what v carries.
func (v Value) Kind() Kind { return v.kind }

// IsZero reports whether v carries nothing.
func (v Value) IsZero() bool { return v.kind == None }

// Bool returns the value of a Bool; other kinds are true when they are not zero or empty.
func (v Value) Bool() bool {
	if v.kind == Text {
		return v.text != ""
	}
	if v.kind == Float {
		return math.Float64frombits(v.bits) != 0
	}
	return v.bits != 0
}

// Float returns v as a number: a Bool is 0 or 1. ok is false for Text and None.
// Integers beyond 2^53 lose their last digits.
func (v Value) Float() (f float64, ok bool) {
	switch v.kind {
	case Bool, Uint:
		return float64(v.bits), true
	case Int:
		return float64(int64(v.bits)), true
	case Float:
		return math.Float64frombits(v.bits), true
	}
	return 0, false
}

// Int returns an integer kind as int64; ok is false when v is not one or does not fit.
func (v Value) Int() (i int64, ok bool) {
	switch v.kind {
	case Int:
		return int64(v.bits), true
	case Bool, Uint:
		return int64(v.bits), v.bits <= math.MaxInt64
	}
	return 0, false
}

// Text returns the characters of a Text and "" for other kinds.
func (v Value) Text() string { return v.text }

// String returns v in its shortest exact form; "" when it carries nothing.
func (v Value) String() string {
	switch v.kind {
	case Bool:
		return strconv.FormatBool(v.bits != 0)
	case Int:
		return strconv.FormatInt(int64(v.bits), 10)
	case Uint:
		return strconv.FormatUint(v.bits, 10)
	case Float:
		return formatFloat(math.Float64frombits(v.bits))
	}
	return v.text
}

// formatFloat writes f plainly unless it is very large or very small.
func formatFloat(f float64) string { return format(f, 64) }

// Float32Text is the shortest text that reads back as the same binary32 number as f.
func Float32Text(f float64) string { return format(f, 32) }

func format(f float64, bits int) string {
	if abs := math.Abs(f); abs != 0 && (abs < 1e-6 || abs >= 1e15) {
		return strconv.FormatFloat(f, 'g', -1, bits)
	}
	return strconv.FormatFloat(f, 'f', -1, bits)
}

// MarshalJSON writes null, a boolean, a number or a string.
func (v Value) MarshalJSON() ([]byte, error) {
	switch v.kind {
	case None:
		return []byte("null"), nil
	case Text:
		return json.Marshal(v.text)
	}
	return []byte(v.String()), nil
}

// UnmarshalJSON reads null, a boolean, a number or a string.
func (v *Value) UnmarshalJSON(b []byte) error {
	switch {
	case len(b) == 0:
		return fmt.Errorf("empty value")
	case string(b) == "null":
		*v = Value{}
	case string(b) == "true":
		*v = BoolValue(true)
	case string(b) == "false":
		*v = BoolValue(false)
	case b[0] == '"':
		var s string
		if err := json.Unmarshal(b, &s); err != nil {
			return err
		}
		*v = TextValue(s)
	default:
		n, ok := ParseNumber(string(b))
		if !ok {
			return fmt.Errorf("%s is neither a number, a boolean nor a string", b)
		}
		*v = n
	}
	return nil
}

// ParseNumber reads a decimal integer or float, or an integer in 0x form, exactly where 64 bits allow.
func ParseNumber(s string) (Value, bool) {
	if u, err := strconv.ParseUint(s, 0, 64); err == nil {
		if u <= math.MaxInt64 {
			return IntValue(int64(u)), true
		}
		return UintValue(u), true
	}
	if i, err := strconv.ParseInt(s, 0, 64); err == nil {
		return IntValue(i), true
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
		return Value{}, false
	}
	return FloatValue(f), true
}
