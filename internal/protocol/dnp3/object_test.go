package dnp3_test

import (
	"bytes"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
)

// TestClause4_2_2_7_Headers reads every qualifier there is, and refuses what is none.
func TestClause4_2_2_7_Headers(t *testing.T) {
	for _, c := range []struct {
		name, hex string
		function  dnp3.Function
		want      dnp3.Header
		body      int
	}{
		{"start and stop, 8 bits", "01 02 00 03 05 01 81 01", dnp3.FuncResponse, dnp3.Header{Group: 1, Variation: 2, Qualifier: 0x00, Start: 3, Count: 3}, 3},
		{"start and stop, 16 bits", "1E 02 01 E803 E803 01 0500", dnp3.FuncResponse, dnp3.Header{Group: 30, Variation: 2, Qualifier: 0x01, Start: 1000, Count: 1}, 3},
		{"all", "3C 02 06", dnp3.FuncRead, dnp3.Header{Group: 60, Variation: 2, Qualifier: 0x06}, 0},
		{"count, 8 bits", "32 01 07 01 010203040506", dnp3.FuncWrite, dnp3.Header{Group: 50, Variation: 1, Qualifier: 0x07, Count: 1}, 6},
		{"count, 16 bits", "02 02 08 6400", dnp3.FuncRead, dnp3.Header{Group: 2, Variation: 2, Qualifier: 0x08, Count: 100}, 0},
		{"count and index, 8 bits", "02 01 17 02 04 81 07 01", dnp3.FuncResponse, dnp3.Header{Group: 2, Variation: 1, Qualifier: 0x17, Count: 2}, 4},
		{"count and index, 16 bits", "02 01 28 0100 0400 81", dnp3.FuncResponse, dnp3.Header{Group: 2, Variation: 1, Qualifier: 0x28, Count: 1}, 3},
		{"index in a request to read", "01 00 17 02 04 09", dnp3.FuncRead, dnp3.Header{Group: 1, Qualifier: 0x17, Count: 2}, 2},
		{"objects with their size", "46 02 5B 01 0300 AABBCC", dnp3.FuncResponse, dnp3.Header{Group: 70, Variation: 2, Qualifier: 0x5B, Count: 1}, 5},
		{"packed bits", "01 01 00 00 09 FF03", dnp3.FuncResponse, dnp3.Header{Group: 1, Variation: 1, Qualifier: 0x00, Count: 10}, 2},
		{"packed pairs of bits", "03 01 00 00 04 FF03", dnp3.FuncResponse, dnp3.Header{Group: 3, Variation: 1, Qualifier: 0x00, Count: 5}, 2},
		{"octet strings", "6E 05 00 00 00 4845524F4E", dnp3.FuncResponse, dnp3.Header{Group: 110, Variation: 5, Qualifier: 0x00, Count: 1}, 5},
		{"attributes", "00 FA 00 00 00 01 03 414243", dnp3.FuncResponse, dnp3.Header{Variation: 250, Count: 1}, 5},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := octets(t, c.hex)
			o := dnp3.ReadObjects(b, c.function)
			require.True(t, o.Next(), "%v", o.Err)
			assert.Equal(t, c.want, o.Header)
			assert.Len(t, o.Body, c.body)
			assert.False(t, o.Next())
			require.NoError(t, o.Err)
			for cut := 1; cut < len(b); cut++ { // what ends early is told, wherever
				o := dnp3.ReadObjects(b[:cut], c.function)
				for o.Next() {
				}
				assert.Error(t, o.Err, "%d octets", cut)
			}
		})
	}
	for name, c := range map[string]struct {
		hex  string
		want error
	}{
		"unknown qualifier":            {"01 02 33 00 00", dnp3.ErrQualifier},
		"packed with index":            {"01 01 17 01 00 01", dnp3.ErrQualifier},
		"a range that ends before":     {"01 02 00 05 03 01", dnp3.ErrRange},
		"unknown group":                {"C8 01 00 00 00 01", dnp3.ErrObject},
		"unknown variation of a group": {"1E 09 00 00 00 01", dnp3.ErrObject},
	} {
		o := dnp3.ReadObjects(octets(t, c.hex), dnp3.FuncResponse)
		assert.False(t, o.Next(), name)
		assert.ErrorIs(t, o.Err, c.want, name)
	}
}

// TestAnnexA_ObjectsSurviveTheWire writes a measurement in every group and variation and reads it back.
func TestAnnexA_ObjectsSurviveTheWire(t *testing.T) {
	const at, common = dnp3.Time(1_700_000_012_345), dnp3.Time(1_700_000_012_000)
	tried := 0
	for _, s := range dnp3.Shapes() {
		if s.Group == 110 || s.Group == 111 || dnp3.Octets(s.Group, s.Variation) == 0 {
			continue
		}
		for _, value := range []codec.Value{codec.IntValue(0), codec.IntValue(1), codec.IntValue(2)} {
			m := dnp3.Measurement{Group: s.Group, Variation: s.Variation, Value: value, Flags: dnp3.Online | dnp3.LocalForced, Time: at}
			b := dnp3.AppendCommonTime(nil, common, false)
			b = dnp3.AppendHeader(b, dnp3.Header{Group: s.Group, Variation: s.Variation, Qualifier: dnp3.Index16, Count: 1})
			var got *dnp3.Measurement
			if kind := measures(s.Group, s.Variation); !kind {
				continue
			}
			b = dnp3.AppendMeasurement(append(b, 7, 1), &m, common)
			require.NoError(t, dnp3.Measurements(b, func(m *dnp3.Measurement, _ *dnp3.Objects) {
				if m != nil {
					kept := *m
					got = &kept
				}
			}))
			require.NotNil(t, got, "g%dv%d", s.Group, s.Variation)
			assert.Equal(t, uint16(0x107), got.Index)
			want, _ := value.Float()
			if number, _ := got.Value.Float(); got.Kind != dnp3.BinaryInput && got.Kind != dnp3.BinaryOutput {
				assert.Equal(t, want, number, "g%dv%d", s.Group, s.Variation)
			} else {
				assert.Equal(t, want != 0, got.Value.Bool())
			}
			if got.HasFlags {
				assert.Equal(t, dnp3.Online|dnp3.LocalForced, got.Flags&0x1F)
				assert.False(t, got.Good())
			}
			if got.HasTime {
				assert.Equal(t, at, got.Time, "g%dv%d", s.Group, s.Variation)
			}
			tried++
		}
	}
	assert.Greater(t, tried, 150)
}

// measures reports whether a group and variation is one of measurements.
func measures(group, variation byte) bool {
	switch group {
	case 12, 34, 41, 50, 51, 52, 60, 80:
		return false
	}
	return dnp3.Known(group, variation)
}

func TestClause11_6_4_OverRange(t *testing.T) {
	read := func(v byte, value float64) dnp3.Measurement {
		m := dnp3.Measurement{Group: 30, Variation: v, Value: codec.FloatValue(value), Flags: dnp3.Online}
		b := dnp3.AppendRange(nil, 30, v, 0, 1)
		var got dnp3.Measurement
		require.NoError(t, dnp3.Measurements(dnp3.AppendMeasurement(b, &m, 0), func(m *dnp3.Measurement, _ *dnp3.Objects) { got = *m }))
		return got
	}
	for _, c := range []struct {
		variation byte
		value     float64
		want      float64
		over      bool
	}{
		{1, math.MaxInt32 + 1, math.MaxInt32, true}, {2, -40000, math.MinInt16, true}, {2, 32767, 32767, false},
		{5, 1e300, math.MaxFloat32, true}, {6, 1e300, 1e300, false},
	} {
		got := read(c.variation, c.value)
		f, _ := got.Value.Float()
		assert.Equal(t, c.want, f)
		assert.Equal(t, c.over, got.Flags&dnp3.OverRange != 0)
	}
	nan := octets(t, "1E 05 00 00 00 01 0000C07F") // a quiet NaN is no value
	require.NoError(t, dnp3.Measurements(nan, func(m *dnp3.Measurement, _ *dnp3.Objects) { assert.True(t, m.Value.IsZero()) }))
}

func TestA51_RelativeTimes(t *testing.T) {
	b := dnp3.AppendCommonTime(nil, 1000, true)
	b = append(b, octets(t, "02 03 17 02 00 81 0500 01 01 FFFF")...)
	var times []dnp3.Time
	require.NoError(t, dnp3.Measurements(b, func(m *dnp3.Measurement, _ *dnp3.Objects) {
		if m != nil {
			assert.True(t, m.Unsynchronised && m.HasTime)
			times = append(times, m.Time)
		}
	}))
	assert.Equal(t, []dnp3.Time{1005, 66535}, times)
	require.NoError(t, dnp3.Measurements(octets(t, "02 03 17 01 00 81 0500"), func(m *dnp3.Measurement, _ *dnp3.Objects) {
		assert.False(t, m.HasTime, "relative to what was never said")
	}))
}

func TestA8_ControlRelayOutputBlock(t *testing.T) {
	o := dnp3.Output{Code: dnp3.Close | dnp3.PulseOn, Count: 2, On: 500, Off: 250, Status: dnp3.StatusLocal}
	b := dnp3.AppendOutput(nil, o)
	assert.Equal(t, octets(t, "41 02 F4010000 FA000000 07"), b)
	assert.Equal(t, o, dnp3.ReadOutput(b))
	assert.Equal(t, "close, pulse on", o.Code.String())
}

func TestA41_AnalogOutputBlock(t *testing.T) {
	for v, want := range map[byte]string{1: "9CFFFFFF 00", 2: "9CFF 00", 3: "0000C8C2 00", 4: "00000000000059C0 00"} {
		b, err := dnp3.AppendAnalogCommand(nil, dnp3.AnalogCommand{Variation: v, Value: codec.IntValue(-100)})
		require.NoError(t, err)
		assert.Equal(t, octets(t, want), b)
		f, _ := dnp3.ReadAnalogCommand(v, b).Value.Float()
		assert.Equal(t, -100.0, f)
	}
	_, err := dnp3.AppendAnalogCommand(nil, dnp3.AnalogCommand{Variation: 2, Value: codec.IntValue(40000)})
	assert.ErrorContains(t, err, "beyond")
	_, err = dnp3.AppendAnalogCommand(nil, dnp3.AnalogCommand{Variation: 1, Value: codec.FloatValue(0.5)})
	assert.ErrorContains(t, err, "whole")
}

// TestDissect says what frames of a conversation hold, the fragment of two frames with them.
func TestDissect(t *testing.T) {
	var x dnp3.Dissector
	fragment := dnp3.AppendFragment(nil, dnp3.Fragment{Control: 0xE3, Function: dnp3.FuncResponse, IIN: dnp3.IINNeedTime, Objects: octets(t, "02 02 17 01 04 81 D0F3CBE58B01 01 02 00 00 00 81")})
	frame := dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: append([]byte{0xC0}, fragment...)})
	d := x.Dissect(frame)
	assert.Equal(t, "10 to 1: response; needs the time; g2v2 1 objects; g1v2 0 to 0", d.Summary)
	values := map[string]string{}
	for _, f := range d.Fields {
		values[f.Name] = f.Value
		assert.LessOrEqual(t, f.At+f.Bytes, len(frame), f.Name)
	}
	assert.Equal(t, "true, online, 2023-11-19 04:17:10.608Z", values["binary input event 4"])
	assert.Equal(t, "true, online", values["binary input 0"])
	assert.Equal(t, "unconfirmed user data, from outstation", values["control"])

	long := append([]byte{}, fragment[:4]...)
	long = append(long, dnp3.AppendRange(nil, 30, 1, 0, 60)...)
	long = append(long, bytes.Repeat([]byte{1, 2, 0, 0, 0}, 60)...)
	var segments dnp3.Segments
	segments.Cut(long)
	number := byte(0)
	var said []string
	for s := segments.Next(&number); s != nil; s = segments.Next(&number) {
		said = append(said, x.Dissect(dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: s})).Summary)
	}
	assert.Equal(t, []string{"10 to 1: segment 0 of a fragment that goes on, 249 octets, response", "10 to 1: response; needs the time; g30v1 0 to 59"}, said)
	assert.Contains(t, x.Dissect([]byte{1, 2, 3}).Summary, "no frame")
	code, refused := dnp3.FunctionOf(frame)
	assert.Equal(t, 129, code)
	assert.False(t, refused)
}

func FuzzMeasurements(f *testing.F) {
	for _, s := range []string{"\x01\x02\x00\x00\x01\x81\x01", "\x33\x01\x07\x01\x01\x02\x03\x04\x05\x06\x02\x03\x17\x01\x00\x81\x05\x00", "\x6e\x05\x00\x00\x00HERON", "\x01\x01\x00\x00\x09\xff\x03"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		n := 0
		dnp3.Measurements(b, func(m *dnp3.Measurement, o *dnp3.Objects) {
			if m != nil {
				_ = fmt.Sprint(m.Value, m.Flags.Names(m.Kind))
			} else if o.Header.Group == 0 {
				for _, a := range dnp3.ReadAttributes(o) {
					_ = a.Name() + a.Text()
				}
			}
			if n++; n > 8*dnp3.MaxObjects && len(b) < 100 {
				t.Fatal("more objects than octets can hold")
			}
		})
	})
}

func FuzzDissect(f *testing.F) {
	f.Add(dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: []byte("\xc0\xc3\x81\x90\x00\x01\x02\x00\x00\x00\x81")}))
	f.Add([]byte("\xc0\xc3\x05\x0c\x01\x17\x01\x00\x41\x01\xf4\x01\x00\x00\xfa\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		var x dnp3.Dissector
		for _, raw := range [][]byte{b, dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Data: b[:min(len(b), dnp3.MaxUserData)]})} {
			d := x.Dissect(raw)
			if d.Summary == "" {
				t.Fatal("nothing said")
			}
			for _, field := range d.Fields {
				if field.At < 0 || field.Bytes < 0 || field.At+field.Bytes > len(raw) {
					t.Fatalf("%+v of %d octets", field, len(raw))
				}
			}
		}
	})
}
