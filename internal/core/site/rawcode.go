package site

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
)

// RawCode is a raw value with which a device says that it has none, such as 0x8000. It is what the registers hold, read as a number of the
// point's type, with or without sign.
type RawCode int64

// UnmarshalJSON reads a number, or one in hex as a string: "0x8000", "8000h".
func (c *RawCode) UnmarshalJSON(b []byte) error {
	text := strings.TrimSpace(string(b))
	var quoted string
	if json.Unmarshal(b, &quoted) == nil {
		text = strings.ToLower(strings.TrimSpace(quoted))
		if digits, hex := strings.CutSuffix(text, "h"); hex {
			text = "0x" + digits
		}
	}
	if n, err := strconv.ParseInt(text, 0, 64); err == nil {
		*c = RawCode(n)
	} else if n, err := strconv.ParseUint(text, 0, 64); err == nil {
		*c = RawCode(n) // of 64 bits, as the registers hold it
	} else {
		return fmt.Errorf("%s is no raw code: a whole number, such as -32768 or 0x8000", text)
	}
	return nil
}

// MaxRawCodes is the most raw codes a point has.
const MaxRawCodes = 16

// bits is how many bits a number of a type has; 0 where raw codes make no sense.
func rawBits(t codec.Type) int {
	return map[codec.Type]int{codec.TypeInt8: 8, codec.TypeUint8: 8, codec.TypeInt16: 16, codec.TypeUint16: 16, codec.TypeInt32: 32, codec.TypeUint32: 32,
		codec.TypeInt64: 64, codec.TypeUint64: 64, codec.TypeFloat32: 32, codec.TypeFloat64: 64, codec.TypeBCD16: 16, codec.TypeBCD32: 32}[t]
}

// means reports whether raw, a decoded value of a type, is a code.
func (c RawCode) means(raw codec.Value, t codec.Type) bool {
	if raw.Kind() == codec.Float {
		f, _ := raw.Float()
		return f == float64(c) // -9999.0, say
	}
	mask := ^uint64(0) >> (64 - rawBits(t))
	return raw.Bits()&mask == uint64(c)&mask
}

// validateInvalid checks the raw codes of a point.
func (p Point) validateInvalid(f *faults) {
	if len(p.Invalid) == 0 {
		return
	}
	bits := rawBits(p.Type)
	switch {
	case bits == 0:
		f.add("invalid", "", "a %s has no raw codes for a failure; remove them", p.Type)
	case len(p.Invalid) > MaxRawCodes:
		f.add("invalid", len(p.Invalid), "%d codes; at most %d are allowed", len(p.Invalid), MaxRawCodes)
	}
	for _, c := range p.Invalid {
		if bits > 0 && bits < 64 && p.Type != codec.TypeFloat32 && (int64(c) < -(int64(1)<<(bits-1)) || int64(c) >= int64(1)<<bits) {
			f.add("invalid", int64(c), "%d does not fit the %d bits of %s", int64(c), bits, p.Type)
		}
	}
}
