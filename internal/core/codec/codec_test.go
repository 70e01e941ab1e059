package codec

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The vectors are worked out by hand: 25.0 as binary32 is sign 0, exponent 127+4 = 0x83, fraction 1.5625-1
// = 0x480000, so 0x41C80000; 0x01020304 spells its own bytes; 12345678 is its own BCD.
func TestDecode(t *testing.T) {
	for _, c := range []struct {
		name   string
		layout Layout
		words  []uint16
		want   Value
	}{
		{"float32 ABCD", Layout{Type: TypeFloat32, Order: ABCD}, []uint16{0x41C8, 0x0000}, FloatValue(25)},
		{"float32 CDAB", Layout{Type: TypeFloat32, Order: CDAB}, []uint16{0x0000, 0x41C8}, FloatValue(25)},
		{"float32 BADC", Layout{Type: TypeFloat32, Order: BADC}, []uint16{0xC841, 0x0000}, FloatValue(25)},
		{"float32 DCBA", Layout{Type: TypeFloat32, Order: DCBA}, []uint16{0x0000, 0xC841}, FloatValue(25)},
		{"float32 without an order is ABCD", Layout{Type: TypeFloat32}, []uint16{0xC2F7, 0x0000}, FloatValue(-123.5)},
		{"float64 ABCD", Layout{Type: TypeFloat64}, []uint16{0x4039, 0, 0, 0}, FloatValue(25)},
		{"float64 CDAB reverses four words", Layout{Type: TypeFloat64, Order: CDAB}, []uint16{0, 0, 0, 0x4039}, FloatValue(25)},
		{"float64 DCBA", Layout{Type: TypeFloat64, Order: DCBA}, []uint16{0, 0, 0, 0x3940}, FloatValue(25)},
		{"uint32 ABCD", Layout{Type: TypeUint32}, []uint16{0x0102, 0x0304}, UintValue(0x01020304)},
		{"uint32 CDAB", Layout{Type: TypeUint32, Order: CDAB}, []uint16{0x0304, 0x0102}, UintValue(0x01020304)},
		{"uint32 BADC", Layout{Type: TypeUint32, Order: BADC}, []uint16{0x0201, 0x0403}, UintValue(0x01020304)},
		{"uint32 DCBA", Layout{Type: TypeUint32, Order: DCBA}, []uint16{0x0403, 0x0201}, UintValue(0x01020304)},
		{"uint64 BADC", Layout{Type: TypeUint64, Order: BADC}, []uint16{0x0201, 0x0403, 0x0605, 0x0807}, UintValue(0x0102030405060708)},
		{"uint64 CDAB", Layout{Type: TypeUint64, Order: CDAB}, []uint16{0x0708, 0x0506, 0x0304, 0x0102}, UintValue(0x0102030405060708)},
		{"uint64 largest", Layout{Type: TypeUint64}, []uint16{0xFFFF, 0xFFFF, 0xFFFF, 0xFFFF}, UintValue(math.MaxUint64)},
		{"int64 smallest", Layout{Type: TypeInt64}, []uint16{0x8000, 0, 0, 0}, IntValue(math.MinInt64)},
		{"int32 minus two", Layout{Type: TypeInt32}, []uint16{0xFFFF, 0xFFFE}, IntValue(-2)},
		{"int16 minus one", Layout{Type: TypeInt16}, []uint16{0xFFFF}, IntValue(-1)},
		{"int16 swapped", Layout{Type: TypeInt16, Order: BADC}, []uint16{0xFEFF}, IntValue(-2)},
		{"int16 CDAB is itself", Layout{Type: TypeInt16, Order: CDAB}, []uint16{0x0102}, IntValue(258)},
		{"uint16", Layout{Type: TypeUint16}, []uint16{0xFFFF}, UintValue(65535)},
		{"int8 low", Layout{Type: TypeInt8}, []uint16{0x12FE}, IntValue(-2)},
		{"int8 high", Layout{Type: TypeInt8, High: true}, []uint16{0xFE12}, IntValue(-2)},
		{"uint8 high, order does not move it", Layout{Type: TypeUint8, High: true, Order: DCBA}, []uint16{0xFE12}, UintValue(254)},
		{"bool bit 0", Layout{Type: TypeBool}, []uint16{0x0001}, BoolValue(true)},
		{"bool bit 15", Layout{Type: TypeBool, Bit: 15}, []uint16{0x8000}, BoolValue(true)},
		{"bool bit 14 unset", Layout{Type: TypeBool, Bit: 14}, []uint16{0x8000}, BoolValue(false)},
		{"bool whole register", Layout{Type: TypeBool, Bit: WholeRegister}, []uint16{0x0100}, BoolValue(true)},
		{"bcd16", Layout{Type: TypeBCD16}, []uint16{0x1234}, UintValue(1234)},
		{"bcd32", Layout{Type: TypeBCD32}, []uint16{0x1234, 0x5678}, UintValue(12345678)},
		{"bcd32 CDAB", Layout{Type: TypeBCD32, Order: CDAB}, []uint16{0x5678, 0x1234}, UintValue(12345678)},
		{"bits 16", Layout{Type: TypeBits}, []uint16{0x8001}, UintValue(0x8001)},
		{"bits 32 CDAB", Layout{Type: TypeBits, Length: 32, Order: CDAB}, []uint16{0x0001, 0x8000}, UintValue(0x80000001)},
		{"string", Layout{Type: TypeString, Length: 4}, []uint16{0x5055, 0x4D50}, TextValue("PUMP")},
		{"string odd length leaves the last byte", Layout{Type: TypeString, Length: 3}, []uint16{0x5055, 0x4D50}, TextValue("PUM")},
		{"string BADC", Layout{Type: TypeString, Length: 4, Order: BADC}, []uint16{0x5550, 0x504D}, TextValue("PUMP")},
		{"string CDAB", Layout{Type: TypeString, Length: 4, Order: CDAB}, []uint16{0x4D50, 0x5055}, TextValue("PUMP")},
		{"string DCBA", Layout{Type: TypeString, Length: 4, Order: DCBA}, []uint16{0x504D, 0x5550}, TextValue("PUMP")},
		{"string padded with spaces", Layout{Type: TypeString, Length: 6}, []uint16{0x5020, 0x3120, 0x2020}, TextValue("P 1")},
		{"string ends at NUL", Layout{Type: TypeString, Length: 6}, []uint16{0x5000, 0x4D50, 0xFFFF}, TextValue("P")},
		{"string Latin-1 degree", Layout{Type: TypeString, Length: 2}, []uint16{0xB043}, TextValue("°C")},
		{"more words than needed", Layout{Type: TypeUint16}, []uint16{7, 8}, UintValue(7)},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := c.layout.Decode(c.words)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestDecodeRefusesWhatIsNoValue(t *testing.T) {
	for _, c := range []struct {
		name   string
		layout Layout
		words  []uint16
		want   error
	}{
		{"quiet NaN", Layout{Type: TypeFloat32}, []uint16{0x7FC0, 0}, ErrNotANumber},
		{"signalling NaN", Layout{Type: TypeFloat32}, []uint16{0x7F80, 1}, ErrNotANumber},
		{"NaN float64", Layout{Type: TypeFloat64}, []uint16{0x7FF8, 0, 0, 0}, ErrNotANumber},
		{"infinity", Layout{Type: TypeFloat32}, []uint16{0xFF80, 0}, ErrInfinite},
		{"BCD digit A", Layout{Type: TypeBCD16}, []uint16{0x12A4}, ErrNotBCD},
		{"BCD32 in the wrong order", Layout{Type: TypeBCD32}, []uint16{0x0000, 0xF000}, ErrNotBCD},
		{"control character", Layout{Type: TypeString, Length: 2}, []uint16{0x4107}, ErrNotText},
		{"C1 control character", Layout{Type: TypeString, Length: 2}, []uint16{0x4190}, ErrNotText},
		{"one word of two", Layout{Type: TypeUint32}, []uint16{1}, ErrTooShort},
		{"no words", Layout{Type: TypeBool}, nil, ErrTooShort},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := c.layout.Decode(c.words)
			require.ErrorIs(t, err, c.want)
			assert.True(t, got.IsZero(), "a failed decode gives no value, least of all zero")
		})
	}
}

func TestEncodeRefuses(t *testing.T) {
	for _, c := range []struct {
		name   string
		layout Layout
		value  Value
		want   string
	}{
		{"int16 too large", Layout{Type: TypeInt16}, IntValue(32768), "32768 is out of the range of int16 (-32768 to 32767)"},
		{"int16 rounds then refuses", Layout{Type: TypeInt16}, FloatValue(32767.6), "32767.6 is out of the range of int16 (-32768 to 32767)"},
		{"uint16 negative", Layout{Type: TypeUint16}, IntValue(-1), "-1 is out of the range of uint16 (0 to 65535)"},
		{"uint64 negative float", Layout{Type: TypeUint64}, FloatValue(-3), "-3 is out of the range of uint64 (0 to 18446744073709551615)"},
		{"int64 from a large unsigned", Layout{Type: TypeInt64}, UintValue(math.MaxUint64), "18446744073709551615 is out of the range of int64 (-9223372036854775808 to 9223372036854775807)"},
		{"bcd16 five digits", Layout{Type: TypeBCD16}, IntValue(10000), "10000 is out of the range of bcd16 (0 to 9999)"},
		{"bool two", Layout{Type: TypeBool}, IntValue(2), "2 is out of the range of bool (0 to 1)"},
		{"float32 overflow", Layout{Type: TypeFloat32}, FloatValue(1e39), "1e+39 is out of the range of float32 (-3.4028235e38 to 3.4028235e38)"},
		{"text for a number", Layout{Type: TypeInt16}, TextValue("ten"), `"ten" is text; int16 takes a number`},
		{"string too long", Layout{Type: TypeString, Length: 3}, TextValue("PUMP"), `"PUMP" is longer than the 3 characters of the point`},
		{"string outside Latin-1", Layout{Type: TypeString, Length: 3}, TextValue("Ω"), "not text: character 'Ω' is outside ISO 8859-1"},
		{"nothing", Layout{Type: TypeInt16}, Value{}, "no value"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := c.layout.Encode(c.value)
			assert.EqualError(t, err, c.want)
		})
	}
}

// layouts draws any layout, and a value that fits it.
func layouts(t *rapid.T) (Layout, Value) {
	l := Layout{
		Type:  rapid.SampledFrom(Types[:]).Draw(t, "type"),
		Order: rapid.SampledFrom(Orders[:]).Draw(t, "order"),
	}
	switch l.Type {
	case TypeBool:
		l.Bit = rapid.Int8Range(0, 15).Draw(t, "bit")
		return l, BoolValue(rapid.Bool().Draw(t, "value"))
	case TypeInt8, TypeUint8:
		l.High = rapid.Bool().Draw(t, "high")
		if l.Type == TypeInt8 {
			return l, IntValue(int64(rapid.Int8().Draw(t, "value")))
		}
		return l, UintValue(uint64(rapid.Uint8().Draw(t, "value")))
	case TypeInt16:
		return l, IntValue(int64(rapid.Int16().Draw(t, "value")))
	case TypeInt32:
		return l, IntValue(int64(rapid.Int32().Draw(t, "value")))
	case TypeInt64:
		return l, IntValue(rapid.Int64().Draw(t, "value"))
	case TypeFloat32:
		return l, FloatValue(float64(rapid.Float32().Draw(t, "value")))
	case TypeFloat64:
		return l, FloatValue(rapid.Float64().Draw(t, "value"))
	case TypeBCD16:
		return l, UintValue(rapid.Uint64Range(0, 9999).Draw(t, "value"))
	case TypeBCD32:
		return l, UintValue(rapid.Uint64Range(0, 99999999).Draw(t, "value"))
	case TypeString:
		l.Length = rapid.IntRange(1, MaxStringLength).Draw(t, "length")
		s := rapid.StringMatching(`[!-~¡-ÿ]{0,250}`).Draw(t, "value")
		runes := []rune(s)
		return l, TextValue(string(runes[:min(len(runes), l.Length)]))
	case TypeBits:
		l.Length = rapid.SampledFrom([]int{0, 16, 32, 64}).Draw(t, "length")
	}
	return l, UintValue(rapid.Uint64().Draw(t, "value") >> (64 - 16*uint(l.Words())))
}

func TestEncodeThenDecodeGivesTheValueBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		layout, value := layouts(t)
		words, err := layout.Encode(value)
		require.NoError(t, err)
		require.Len(t, words, layout.Words())
		got, err := layout.Decode(words)
		require.NoError(t, err)
		assert.Equal(t, value, got)
	})
}

func TestMergeTouchesOnlyItsOwnBits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		layout, value := layouts(t)
		if !layout.Partial() {
			return
		}
		old := rapid.Uint16().Draw(t, "old")
		words, err := layout.Encode(value)
		require.NoError(t, err)
		merged := layout.Merge(old, words[0])
		assert.Equal(t, old&^layout.Mask(), merged&^layout.Mask(), "the rest of the register stays")
		got, err := layout.Decode([]uint16{merged})
		require.NoError(t, err)
		assert.Equal(t, value, got)
	})
}

func TestNumericDecodeDoesNotAllocate(t *testing.T) {
	words := []uint16{0x41C8, 0x0000}
	layout := Layout{Type: TypeFloat32, Order: CDAB}
	assert.Zero(t, testing.AllocsPerRun(100, func() { _, _ = layout.Decode(words) }))
}

func TestValueJSON(t *testing.T) {
	for _, c := range []struct {
		json string
		want Value
	}{
		{`null`, Value{}},
		{`true`, BoolValue(true)},
		{`-12`, IntValue(-12)},
		{`18446744073709551615`, UintValue(math.MaxUint64)},
		{`2.5`, FloatValue(2.5)},
		{`"2.5"`, TextValue("2.5")},
	} {
		var got Value
		require.NoError(t, json.Unmarshal([]byte(c.json), &got), c.json)
		assert.Equal(t, c.want, got)
		back, err := json.Marshal(got)
		require.NoError(t, err)
		assert.Equal(t, c.json, string(back))
	}
	var v Value
	assert.Error(t, json.Unmarshal([]byte(`{"a":1}`), &v))
	assert.Error(t, json.Unmarshal([]byte(`1e999`), &v), "an overflow is no number")
}

func FuzzDecode(f *testing.F) {
	f.Add(uint8(9), uint8(1), uint8(4), []byte{0x41, 0xC8, 0, 0})
	f.Fuzz(func(t *testing.T, typ, order, length uint8, b []byte) {
		words := make([]uint16, len(b)/2)
		for i := range words {
			words[i] = uint16(b[2*i])<<8 | uint16(b[2*i+1])
		}
		l := Layout{Type: Types[int(typ)%len(Types)], Order: Orders[int(order)%len(Orders)], Length: int(length), Bit: int8(length % 16)}
		v, err := l.Decode(words)
		if err != nil || l.Partial() || l.Type == TypeBool || l.Type == TypeString {
			return
		}
		back, err := l.Encode(v)
		require.NoError(t, err)
		again, err := l.Decode(back)
		require.NoError(t, err)
		assert.Equal(t, v, again)
	})
}
