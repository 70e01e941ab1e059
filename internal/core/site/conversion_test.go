package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
)

func TestConversion(t *testing.T) {
	one, zero := 1, 0
	percent := scaling.Scaling{Raw: &[2]float64{0, 27648}, Eng: &[2]float64{0, 100}}
	for _, c := range []struct {
		name  string
		point Point
		raw   codec.Value
		eng   codec.Value
		text  string
		given []codec.Value // each of which writes raw
	}{
		{"scaled", Point{Type: codec.TypeInt16, Scaling: percent, Decimals: &one}, codec.IntValue(6912), codec.FloatValue(25), "25.0",
			[]codec.Value{codec.IntValue(25), codec.TextValue("25.0"), codec.FloatValue(25)}},
		{"plain integer", Point{Type: codec.TypeUint16}, codec.UintValue(7), codec.UintValue(7), "7", []codec.Value{codec.TextValue("0x7")}},
		{"integer with decimals", Point{Type: codec.TypeUint16, Decimals: &one}, codec.UintValue(7), codec.UintValue(7), "7.0", nil},
		{"float without decimals", Point{Type: codec.TypeFloat32}, codec.FloatValue(float64(float32(0.1))), codec.FloatValue(float64(float32(0.1))), "0.1", nil},
		{"float with none", Point{Type: codec.TypeFloat32, Decimals: &zero}, codec.FloatValue(24.6), codec.FloatValue(24.6), "25", nil},
		{"bool", Point{Type: codec.TypeBool}, codec.BoolValue(true), codec.BoolValue(true), "true", []codec.Value{codec.TextValue("on"), codec.IntValue(1), codec.TextValue("TRUE")}},
		{"bool with states", Point{Type: codec.TypeBool, States: States{0: "idle", 1: "open"}}, codec.BoolValue(true), codec.BoolValue(true), "open", []codec.Value{codec.TextValue("Open"), codec.TextValue("1")}},
		{"inverted bool", Point{Type: codec.TypeBool, Invert: true}, codec.BoolValue(false), codec.BoolValue(true), "true", []codec.Value{codec.BoolValue(true)}},
		{"enumeration", Point{Type: codec.TypeUint16, States: States{0: "stopped", 5: "tripped"}}, codec.UintValue(5), codec.UintValue(5), "tripped", nil},
		{"unnamed value", Point{Type: codec.TypeUint16, States: States{0: "stopped"}}, codec.UintValue(3), codec.UintValue(3), "3", nil},
		{"bits", Point{Type: codec.TypeBits, States: States{0: "ready", 3: "fault"}}, codec.UintValue(9), codec.UintValue(9), "ready, fault", []codec.Value{codec.TextValue("9")}},
		{"string", Point{Type: codec.TypeString, Length: 4}, codec.TextValue("12"), codec.TextValue("12"), "12", []codec.Value{codec.TextValue("12"), codec.IntValue(12)}},
	} {
		t.Run(c.name, func(t *testing.T) {
			conversion := c.point.Conversion()
			eng, inRange := conversion.Engineering(c.raw)
			assert.True(t, inRange)
			assert.Equal(t, c.eng, eng)
			assert.Equal(t, c.text, conversion.Text(eng))
			for _, given := range c.given {
				raw, err := conversion.Raw(given)
				require.NoError(t, err)
				assert.Equal(t, c.raw.String(), raw.String(), "written as %v", given)
			}
		})
	}
}

func TestConversionRefuses(t *testing.T) {
	percent := scaling.Scaling{Raw: &[2]float64{0, 27648}, Eng: &[2]float64{0, 100}}
	for _, c := range []struct {
		name  string
		point Point
		given codec.Value
		want  string
	}{
		{"beyond the range", Point{Type: codec.TypeInt16, Scaling: percent}, codec.IntValue(120), "120 is out of the engineering range 0 to 100"},
		{"no state", Point{Type: codec.TypeBool, States: States{0: "idle", 1: "open"}}, codec.TextValue("ajar"), `"ajar" is no value for this point; it takes true or false, 1 or 0, or one of idle, open`},
		{"half an integer", Point{Type: codec.TypeInt16}, codec.FloatValue(2.5), "2.5 is not a whole number, which int16 takes"},
		{"bool of two", Point{Type: codec.TypeBool}, codec.IntValue(2), "2 is neither 0 nor 1"},
		{"nothing", Point{Type: codec.TypeInt16}, codec.Value{}, "no value"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := c.point.Conversion().Raw(c.given)
			assert.EqualError(t, err, c.want)
		})
	}
}

func TestNumbersReadBackTheSame(t *testing.T) {
	single, double, tenth := Point{Type: codec.TypeFloat32}, Point{Type: codec.TypeFloat64}, Point{Type: codec.TypeInt32, Scaling: scaling.Scaling{Factor: new(float64)}}
	*tenth.Scaling.Factor = 0.1
	for _, c := range []struct {
		p    Point
		raw  codec.Value
		want string
	}{
		{single, codec.FloatValue(16777216), "16777216"},
		{single, codec.FloatValue(16777218), "16777218"},
		{single, codec.FloatValue(float64(float32(12.3))), "12.3"},
		{double, codec.FloatValue(123456789.25), "123456789.25"},
		{double, codec.FloatValue(0.1 + 0.2), "0.3"},
		{double, codec.FloatValue(float64(float32(12.3))), "12.3"},
		{tenth, codec.IntValue(123456789), "12345678.9"},
		{tenth, codec.IntValue(251), "25.1"},
	} {
		conversion := c.p.Conversion()
		v, _ := conversion.Engineering(c.raw)
		assert.Equal(t, c.want, conversion.Text(v))
	}
}

func TestWhatAStationCannotReadOrWriteIsRefused(t *testing.T) {
	s := small(t)
	d := s.Edit()
	p := testPoint("plc/name", "plc", "hr:100", codec.TypeString)
	p.Length, p.Writable = 250, true
	d.Add(p)
	_, err := d.Changes()
	assert.ErrorContains(t, err, "250 characters are 125 registers, and one request writes at most 123 (function 16): at most 246 characters")

	d = s.Edit()
	st, _ := d.Station("plc")
	st.MaxRegisters = 2
	d.Replace("plc", st)
	d.Add(testPoint("plc/energy", "plc", "hr:100", codec.TypeFloat64))
	_, err = d.Changes()
	assert.ErrorContains(t, err, "a float64 takes 4 registers, and station plc allows 2 in one read (max_registers)")

	d = s.Edit()
	d.Add(testPoint("plc/energy", "plc", "hr:100", codec.TypeFloat64))
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	d = s.Edit()
	d.Replace("plc", st)
	_, err = d.Changes()
	assert.ErrorContains(t, err, "point plc/energy is a float64, which takes 4 registers in one read")

	wrong := testPoint("plc/text", "plc", "hr:100", codec.TypeUint16)
	wrong.Charset = UTF8
	d = s.Edit()
	d.Add(wrong)
	_, err = d.Changes()
	assert.ErrorContains(t, err, "only a string has a character set")
}
