// Package codec turns register words into values and back.
//
// A register is 16 bits, sent most significant byte first (MODBUS Application Protocol V1.1b3, 4.2).
// What several registers mean together is each device's own choice; a Layout states it: the data type,
// the order of bytes and words, and for strings the length.
//
// The byte orders carry the trade's letters, A being the most significant byte. CDAB reverses the order of
// the words, BADC swaps the bytes within each word, DCBA does both; the same holds for 64-bit types and strings.
// For 16-bit types only the byte swap shows. The byte of an int8 or uint8 and the bit of a bool are named as
// they stand in the register on the wire, so that no order touches them.
package codec

import (
	"errors"
	"fmt"
	"math"
)

// Type is a data type, named as in site files.
type Type string

// The data types.
const (
	TypeBool    Type = "bool"
	TypeInt8    Type = "int8"
	TypeUint8   Type = "uint8"
	TypeInt16   Type = "int16"
	TypeUint16  Type = "uint16"
	TypeInt32   Type = "int32"
	TypeUint32  Type = "uint32"
	TypeInt64   Type = "int64"
	TypeUint64  Type = "uint64"
	TypeFloat32 Type = "float32"
	TypeFloat64 Type = "float64"
	TypeBCD16   Type = "bcd16"
	TypeBCD32   Type = "bcd32"
	TypeString  Type = "string"
	TypeBits    Type = "bits"
)

// Types lists all data types in the order people expect to choose them.
var Types = [...]Type{TypeBool, TypeInt8, TypeUint8, TypeInt16, TypeUint16, TypeInt32, TypeUint32,
	TypeInt64, TypeUint64, TypeFloat32, TypeFloat64, TypeBCD16, TypeBCD32, TypeString, TypeBits}

// Order is a byte order in the trade's letters. The zero Order is ABCD.
type Order string

// The byte orders.
const (
	ABCD Order = "ABCD" // big endian
	CDAB Order = "CDAB" // words reversed
	BADC Order = "BADC" // bytes swapped within each word
	DCBA Order = "DCBA" // both: little endian
)

// SwapsBytes reports whether the bytes within each word are swapped.
func (o Order) SwapsBytes() bool {
	_, swap := o.effects()
	return swap
}

// Orders lists all byte orders.
var Orders = [...]Order{ABCD, CDAB, BADC, DCBA}

// MaxStringLength is the longest string in characters: the 125 registers of one read
// (MODBUS Application Protocol V1.1b3, 6.3).
const MaxStringLength = 250

// Layout says how words become a value. The zero Layout is no type; Type must be set.
type Layout struct {
	Type   Type
	Order  Order
	Length int  // string: characters, or bytes of UTF-8, 1 to 250; bits: 16 (the zero means it), 32 or 64
	UTF8   bool // string: its characters are UTF-8, otherwise ISO 8859-1
	Bit    int8 // bool: the register's bit, 0 (least significant) to 15, or WholeRegister
	High   bool // int8, uint8: the high byte of the register, otherwise the low one
}

// WholeRegister as a Layout's Bit makes a bool true when its register is not zero.
const WholeRegister = -1

// Errors of decoding; a decoded value is never a guess.
var (
	ErrNotANumber = errors.New("not a number")
	ErrInfinite   = errors.New("infinite")
	ErrNotBCD     = errors.New("not BCD")
	ErrNotText    = errors.New("not text")
	ErrTooShort   = errors.New("too few words")
)

// RangeError says that a value does not fit its type.
type RangeError struct {
	Type     Type
	Value    Value
	Min, Max string
}

func (e *RangeError) Error() string {
	return fmt.Sprintf("%s is out of the range of %s (%s to %s)", e.Value, e.Type, e.Min, e.Max)
}

// Words returns how many registers a value takes, 0 for a layout that is none.
func (l Layout) Words() int {
	switch l.Type {
	case TypeBool, TypeInt8, TypeUint8, TypeInt16, TypeUint16, TypeBCD16:
		return 1
	case TypeInt32, TypeUint32, TypeFloat32, TypeBCD32:
		return 2
	case TypeInt64, TypeUint64, TypeFloat64:
		return 4
	case TypeString:
		return (l.Length + 1) / 2
	case TypeBits:
		switch l.Length {
		case 0, 16:
			return 1
		case 32, 64:
			return l.Length / 16
		}
	}
	return 0
}

// Partial reports whether the value is only part of its register, so that writing it must keep the rest.
func (l Layout) Partial() bool {
	return l.Type == TypeInt8 || l.Type == TypeUint8 || l.Type == TypeBool && l.Bit != WholeRegister
}

// Decode returns the value of the first l.Words() words. Its errors wrap ErrNotANumber, ErrInfinite, ErrNotBCD,
// ErrNotText or ErrTooShort. Types other than string decode without allocating.
func (l Layout) Decode(words []uint16) (Value, error) {
	n := l.Words()
	if n == 0 {
		return Value{}, fmt.Errorf("unknown type %q of length %d", l.Type, l.Length)
	}
	if len(words) < n {
		return Value{}, fmt.Errorf("%w: %s takes %d, got %d", ErrTooShort, l.Type, n, len(words))
	}
	if l.Type == TypeString {
		return l.decodeString(words[:n])
	}
	raw := l.gather(words[:n])
	switch l.Type {
	case TypeBool:
		if l.Bit == WholeRegister {
			return BoolValue(words[0] != 0), nil
		}
		return BoolValue(words[0]>>uint(l.Bit&15)&1 == 1), nil
	case TypeInt8:
		return IntValue(int64(int8(l.byteOf(words[0])))), nil
	case TypeUint8:
		return UintValue(uint64(l.byteOf(words[0]))), nil
	case TypeInt16:
		return IntValue(int64(int16(raw))), nil
	case TypeInt32:
		return IntValue(int64(int32(raw))), nil
	case TypeInt64:
		return IntValue(int64(raw)), nil
	case TypeFloat32:
		return finite(float64(math.Float32frombits(uint32(raw))))
	case TypeFloat64:
		return finite(math.Float64frombits(raw))
	case TypeBCD16, TypeBCD32:
		return decodeBCD(raw, n*4)
	}
	return UintValue(raw), nil // uint16, uint32, uint64, bits
}

// Encode returns the words that decode to v. A float for an integer type is rounded to the nearest;
// a value outside the type's range gives a *RangeError, text for a number or the reverse another error.
// For a layout that is Partial the rest of the register is zero; Merge keeps it.
func (l Layout) Encode(v Value) ([]uint16, error) {
	if v.IsZero() {
		return nil, errors.New("no value")
	}
	if l.Type == TypeString {
		return l.encodeString(v)
	}
	if v.Kind() == Text {
		return nil, fmt.Errorf("%q is text; %s takes a number", v.Text(), l.Type)
	}
	raw, err := l.integer(v)
	if err != nil {
		return nil, err
	}
	switch l.Type {
	case TypeBool:
		if l.Bit != WholeRegister {
			raw <<= uint(l.Bit & 15)
		}
		return []uint16{uint16(raw)}, nil
	case TypeInt8, TypeUint8:
		raw &= 0xFF
		if l.High {
			raw <<= 8
		}
		return []uint16{uint16(raw)}, nil
	}
	return l.spread(raw), nil
}

// Mask returns which bits of a one-register value belong to it: all for a whole register.
func (l Layout) Mask() uint16 {
	switch {
	case l.Type == TypeBool && l.Bit != WholeRegister:
		return 1 << uint(l.Bit&15)
	case (l.Type == TypeInt8 || l.Type == TypeUint8) && l.High:
		return 0xFF00
	case l.Type == TypeInt8 || l.Type == TypeUint8:
		return 0x00FF
	}
	return 0xFFFF
}

// Merge puts the bits of a Partial value into the register that held old.
func (l Layout) Merge(old, value uint16) uint16 { return old&^l.Mask() | value&l.Mask() }

func (l Layout) byteOf(w uint16) byte {
	if l.High {
		return byte(w >> 8)
	}
	return byte(w)
}

// gather joins words, most significant first once the order is undone.
func (l Layout) gather(words []uint16) uint64 {
	reverse, swap := l.Order.effects()
	var raw uint64
	for i := range words {
		w := words[i]
		if reverse {
			w = words[len(words)-1-i]
		}
		if swap {
			w = w<<8 | w>>8
		}
		raw = raw<<16 | uint64(w)
	}
	return raw
}

// spread is the inverse of gather.
func (l Layout) spread(raw uint64) []uint16 {
	words := make([]uint16, l.Words())
	for i := range words {
		words[i] = uint16(raw >> (16 * uint(len(words)-1-i)))
	}
	l.Order.arrange(words)
	return words
}

// effects says what an order does to a sequence of words.
func (o Order) effects() (reverse, swap bool) {
	return o == CDAB || o == DCBA, o == BADC || o == DCBA
}

// Ends returns the words with the most and the least significant byte of a value, and their bytes in their right order, out of
// the first and the last word of it on the wire.
func (o Order) Ends(first, last uint16) (top, bottom uint16) {
	reverse, swap := o.effects()
	if reverse {
		first, last = last, first
	}
	if swap {
		first, last = first<<8|first>>8, last<<8|last>>8
	}
	return first, last
}

// arrange applies the order in place; applied twice it is undone.
func (o Order) arrange(words []uint16) {
	reverse, swap := o.effects()
	if reverse {
		for i, j := 0, len(words)-1; i < j; i, j = i+1, j-1 {
			words[i], words[j] = words[j], words[i]
		}
	}
	if swap {
		for i, w := range words {
			words[i] = w<<8 | w>>8
		}
	}
}

func finite(f float64) (Value, error) {
	if math.IsNaN(f) {
		return Value{}, ErrNotANumber
	}
	if math.IsInf(f, 0) {
		return Value{}, ErrInfinite
	}
	return FloatValue(f), nil
}

func decodeBCD(raw uint64, digits int) (Value, error) {
	var n uint64
	for i := digits - 1; i >= 0; i-- {
		d := raw >> (4 * uint(i)) & 0xF
		if d > 9 {
			return Value{}, fmt.Errorf("%w: digit %X in 0x%0*X", ErrNotBCD, d, digits, raw)
		}
		n = n*10 + d
	}
	return UintValue(n), nil
}

func encodeBCD(n uint64) uint64 {
	var raw uint64
	for shift := uint(0); n > 0; shift += 4 {
		raw |= n % 10 << shift
		n /= 10
	}
	return raw
}

// integer returns the bit pattern of v in l's type.
func (l Layout) integer(v Value) (uint64, error) {
	f, _ := v.Float()
	switch l.Type {
	case TypeBool:
		if f != 0 && f != 1 {
			return 0, &RangeError{l.Type, v, "0", "1"}
		}
		return uint64(f), nil
	case TypeInt8:
		return signed(l.Type, v, 8)
	case TypeInt16:
		return signed(l.Type, v, 16)
	case TypeInt32:
		return signed(l.Type, v, 32)
	case TypeInt64:
		return signed(l.Type, v, 64)
	case TypeUint8:
		return unsigned(l.Type, v, math.MaxUint8)
	case TypeUint16, TypeUint32, TypeUint64, TypeBits:
		return unsigned(l.Type, v, math.MaxUint64>>(64-16*uint(l.Words())))
	case TypeBCD16:
		n, err := unsigned(l.Type, v, 9999)
		return encodeBCD(n), err
	case TypeBCD32:
		n, err := unsigned(l.Type, v, 99999999)
		return encodeBCD(n), err
	case TypeFloat32:
		if math.Abs(f) > math.MaxFloat32 {
			return 0, &RangeError{l.Type, v, "-3.4028235e38", "3.4028235e38"}
		}
		return uint64(math.Float32bits(float32(f))), nil
	case TypeFloat64:
		return math.Float64bits(f), nil
	}
	return 0, fmt.Errorf("unknown type %q", l.Type)
}

func signed(t Type, v Value, bits uint) (uint64, error) {
	lo, hi := int64(-1)<<(bits-1), int64(1)<<(bits-1)-1
	i, ok := v.Int()
	if v.Kind() == Float {
		f, _ := v.Float()
		f = math.Round(f)
		ok = f >= -math.Exp2(float64(bits-1)) && f < math.Exp2(float64(bits-1))
		i = int64(f)
	}
	if !ok || i < lo || i > hi {
		return 0, &RangeError{t, v, fmt.Sprint(lo), fmt.Sprint(hi)}
	}
	return uint64(i), nil
}

func unsigned(t Type, v Value, hi uint64) (uint64, error) {
	u, ok := v.bits, v.Kind() != Int || int64(v.bits) >= 0
	if v.Kind() == Float {
		f, _ := v.Float()
		f = math.Round(f)
		ok = f >= 0 && f < math.Exp2(64)
		if ok {
			u = uint64(f)
		}
	}
	if !ok || u > hi {
		return 0, &RangeError{t, v, "0", fmt.Sprint(hi)}
	}
	return u, nil
}
