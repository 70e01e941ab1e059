package site

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
)

func TestRawCodes(t *testing.T) {
	for _, c := range []struct {
		typ   codec.Type
		codes string
		raw   codec.Value
		means bool
	}{
		{codec.TypeInt16, `[32768]`, codec.IntValue(-32768), true},
		{codec.TypeInt16, `["0x8000"]`, codec.IntValue(-32768), true},
		{codec.TypeInt16, `["8000h"]`, codec.IntValue(-32768), true},
		{codec.TypeInt16, `[-32768]`, codec.IntValue(-32768), true},
		{codec.TypeInt16, `[32767, -1]`, codec.IntValue(32767), true},
		{codec.TypeInt16, `[32767]`, codec.IntValue(32766), false},
		{codec.TypeUint16, `["0xFFFF"]`, codec.UintValue(65535), true},
		{codec.TypeUint16, `[-1]`, codec.UintValue(65535), true},
		{codec.TypeInt8, `["0x80"]`, codec.IntValue(-128), true},
		{codec.TypeInt32, `["0x80000000"]`, codec.IntValue(math.MinInt32), true},
		{codec.TypeInt32, `["0x8000"]`, codec.IntValue(-32768), false},
		{codec.TypeUint64, `["0xFFFFFFFFFFFFFFFF"]`, codec.UintValue(math.MaxUint64), true},
		{codec.TypeInt64, `["0x8000000000000000"]`, codec.IntValue(math.MinInt64), true},
		{codec.TypeFloat32, `[-9999]`, codec.FloatValue(-9999), true},
		{codec.TypeFloat32, `[-9999]`, codec.FloatValue(-9998.5), false},
		{codec.TypeBCD16, `[9999]`, codec.UintValue(9999), true},
	} {
		p := Point{Tag: "a", Station: "plc", Address: Address{Space: HoldingRegisters}, Type: c.typ}
		require.NoError(t, json.Unmarshal([]byte(c.codes), &p.Invalid), c.codes)
		assert.Empty(t, p.Check(), c.codes)
		conversion := p.Conversion()
		assert.Equal(t, c.means, conversion.Invalid(c.raw), "%s of %s: %s", c.codes, c.typ, c.raw)
		assert.False(t, conversion.Certain(), "it must be looked at")
	}
	for text, typ := range map[string]codec.Type{`[65536]`: codec.TypeInt16, `[-32769]`: codec.TypeInt16, `[1]`: codec.TypeBool, `["0x100"]`: codec.TypeUint8} {
		p := Point{Tag: "a", Station: "plc", Address: Address{Space: HoldingRegisters}, Type: typ}
		if typ == codec.TypeBool {
			p.Address.Part = Bit(0)
		}
		require.NoError(t, json.Unmarshal([]byte(text), &p.Invalid))
		assert.ErrorContains(t, p.Check(), "invalid", text)
	}
	var code RawCode
	assert.ErrorContains(t, json.Unmarshal([]byte(`"broken"`), &code), "is no raw code: a whole number, such as -32768 or 0x8000")
	assert.Error(t, json.Unmarshal([]byte(`1.5`), &code))
}

func TestAddressesAsManualsPrintThem(t *testing.T) {
	for text, want := range map[string]string{"30,009": "ir:8", "4x2833": "hr:2832", "3X1": "ir:0", "4x65536": "hr:65535", "40,010.3": "hr:9.3", "4x10.low": "hr:9.low", "400,010": "hr:9"} {
		a, err := ParseAddress(text, Ref5, "")
		if text == "400,010" {
			a, err = ParseAddress(text, Ref6, "")
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, a.String(), text)
	}
	for text, why := range map[string]string{"4x0": "from 1 to 65536", "4x70000": "from 1 to 65536", "30,09": "is no number", "1x5.3": "has no parts"} {
		_, err := ParseAddress(text, Ref5, "")
		assert.ErrorContains(t, err, why, text)
	}
	_, err := ParseAddress("4x1", Offset, InputRegisters)
	assert.ErrorContains(t, err, "contradicts its table")
}

func TestAStateThatIsNoneIsNotWritten(t *testing.T) {
	p := Point{Type: codec.TypeUint16, States: States{0: "stopped", 1: "running"}}
	_, err := p.Conversion().Raw(codec.IntValue(7))
	assert.EqualError(t, err, "7 is none of its states: stopped, running")
	v, err := p.Conversion().Raw(codec.TextValue("running"))
	require.NoError(t, err)
	assert.Equal(t, codec.IntValue(1), v)
	p.States = States{0: "off", 65535: "automatic"} // names of special values leave the others
	_, err = p.Conversion().Raw(codec.IntValue(7))
	assert.NoError(t, err)
}
