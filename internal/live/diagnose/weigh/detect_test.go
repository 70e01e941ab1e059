package weigh_test

import (
	"math"
	"math/bits"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose/weigh"
)

// faults are those of a device whose points were seen to move before.
func (d *device) faults() []weigh.Fault {
	var h weigh.History
	h.Weigh(d.signals, d.area.Secs[len(d.area.Secs)-1])
	return h.Faults(d.signals, d.area.Secs[len(d.area.Secs)-1])
}

func spread(d *device, apart uint32) {
	for i := range d.area.Secs {
		d.area.Secs[i] = 1000 + apart*uint32(i)
	}
}

func scaled(raw, eng [2]float64) scaling.Scaling { return scaling.Scaling{Raw: &raw, Eng: &eng} }

func TestSignAndMagnitude(t *testing.T) {
	for _, typ := range []codec.Type{codec.TypeInt16, codec.TypeUint16} {
		d := newDevice(t, 4)
		tenth := 0.1
		s := d.point(site.Point{Type: typ, Unit: "°C", Scaling: scaling.Scaling{Factor: &tenth}}, 1)
		for i := range moments {
			x := 3 * (i - 7)
			w := uint16(x)
			if x < 0 {
				w = 0x8000 | uint16(-x)
			}
			d.area.Words[i][1] = w
		}
		list := weigh.Station(d.signals)
		require.Len(t, list, 1, typ)
		assert.Equal(t, weigh.Reading{SignBit: true}, list[0].Reading)
		assert.InDelta(t, -2.1, s.Values(list[0].Reading)[0], 1e-9)
		assert.InDelta(t, 2.4, s.Values(list[0].Reading)[moments-1], 1e-9)
	}
}

func TestANumberReadAsText(t *testing.T) {
	for _, order := range codec.Orders {
		d := newDevice(t, 8)
		d.point(site.Point{Type: codec.TypeString, Length: 8}, 2)
		d.holds(2, codec.Layout{Type: codec.TypeFloat32, Order: order}, walk(71.3, 0.4, 20, 90))
		list := weigh.Station(d.signals)
		require.Len(t, list, 1, order)
		assert.Equal(t, codec.TypeFloat32, list[0].Reading.Type)
		assert.InDelta(t, 71, list[0].Points[0].Values(list[0].Reading)[0], 5)
	}
	d := newDevice(t, 8)
	d.point(site.Point{Type: codec.TypeString, Length: 8}, 2)
	assert.Empty(t, weigh.Station(d.signals), "nothing")
	for i := range d.area.Words {
		copy(d.area.Words[i][2:], []uint16{0x5075, 0x6D70, 0x2031, 0})
	}
	assert.Empty(t, weigh.Station(d.signals), "a text")
}

func TestAWireUnderALiveZero(t *testing.T) {
	d := newDevice(t, 4)
	d.point(site.Point{Type: codec.TypeInt16, Unit: "m", Scaling: scaled([2]float64{4000, 20000}, [2]float64{0, 5})}, 0)
	d.holds(0, codec.Layout{Type: codec.TypeInt16}, func(i int) float64 { return float64(i % 3) })
	assert.Empty(t, weigh.Station(d.signals), "it is no matter of how it is read")
	list := d.faults()
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Broken, list[0].Failing)
	d.holds(0, codec.Layout{Type: codec.TypeInt16}, func(i int) float64 { return 3990 + float64(i%3) })
	assert.Empty(t, d.faults(), "a little below it is noise")
}

func TestAValueAtTheEndOfItsRange(t *testing.T) {
	at := func(unit string, last float64, apart uint32) []weigh.Fault {
		d := newDevice(t, 4)
		spread(d, apart)
		d.point(site.Point{Type: codec.TypeUint16, Unit: unit, Scaling: scaled([2]float64{0, 27648}, [2]float64{0, 5})}, 0)
		walked := walk(20000, 200, 15000, 27000)
		d.holds(0, codec.Layout{Type: codec.TypeUint16}, walked)
		var h weigh.History
		h.Weigh(d.signals, 900)
		d.holds(0, codec.Layout{Type: codec.TypeUint16}, constant(last))
		for _, s := range d.signals { // as they are looked at anew
			*s = weigh.Signal{Point: s.Point, Layout: s.Layout, Area: s.Area, At: s.At, Expect: s.Expect, Scale: s.Scale}
		}
		h.Weigh(d.signals, 1100)
		return h.Faults(d.signals, 1100)
	}
	list := at("m", 27648, 4)
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Saturated, list[0].Failing)
	assert.Equal(t, 60, list[0].Seconds)
	assert.Empty(t, at("m", 27000, 4), "not at the end")
	assert.Empty(t, at("%", 27648, 4), "a valve may be open")
	assert.Empty(t, at("m", 27648, 1), "not for long")
}

func TestSingleReadingsFarOut(t *testing.T) {
	spikes := func(at ...int) []weigh.Fault {
		d := newDevice(t, 4)
		d.point(site.Point{Type: codec.TypeFloat32, Unit: "m", Range: &[2]float64{0, 5}}, 0)
		good := walk(3, 0.02, 1, 4)
		d.holds(0, codec.Layout{Type: codec.TypeFloat32}, func(i int) float64 {
			v := good(i)
			for _, k := range at {
				if i == k {
					return 4e5
				}
			}
			return v
		})
		if len(at) == 2 {
			assert.Empty(t, weigh.Station(d.signals), "the others are right")
		}
		return d.faults()
	}
	list := spikes(4, 11)
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Spiking, list[0].Failing)
	assert.Equal(t, 2, list[0].Times)
	assert.Empty(t, spikes(6), "one alone")
	assert.Empty(t, spikes(6, 7, 8), "a value that went there")
	assert.Empty(t, spikes(1, 3, 5, 7, 9, 11), "too many")
}

// What was between two looks is known by the ends of the registers alone.
func TestSingleReadingsFarOutBetweenTheLooks(t *testing.T) {
	for _, c := range []struct {
		name   string
		of     site.Point
		good   func(int) float64
		spikes float64 // raw
		shown  float64
		told   bool
	}{
		{"a float", site.Point{Type: codec.TypeFloat32, Unit: "m", Range: &[2]float64{0, 5}}, walk(3, 0.02, 1, 4), -9e5, -9e5, true},
		{"its words the other way", site.Point{Type: codec.TypeFloat32, Order: codec.CDAB, Unit: "m", Range: &[2]float64{0, 5}}, walk(3, 0.02, 1, 4), 4e5, 4e5, true},
		{"a word with a sign, scaled", site.Point{Type: codec.TypeInt16, Unit: "°C", Range: &[2]float64{-20, 60}, Scaling: scaled([2]float64{0, 10}, [2]float64{0, 1})}, walk(-3, 2, -40, 40), -4000, -400, true},
		{"two words", site.Point{Type: codec.TypeInt32, Unit: "m³/h", Range: &[2]float64{0, 900}}, walk(340, 15, 0, 900), 7e8, 7e8, true},
		{"within what it can be", site.Point{Type: codec.TypeFloat32, Unit: "m", Range: &[2]float64{0, 5}}, walk(3, 0.02, 1, 4), 4.9, 0, false},
		{"two words that carry", site.Point{Type: codec.TypeUint32, Unit: "m³/h", Range: &[2]float64{0, 70000}}, walk(65500, 15, 65400, 65600), 65536, 0, false},
		{"nobody knows what it can be", site.Point{Type: codec.TypeFloat32}, walk(3, 0.02, 1, 4), 4e5, 0, false},
		{"bytes that are swapped", site.Point{Type: codec.TypeFloat32, Order: codec.BADC, Unit: "m", Range: &[2]float64{0, 5}}, walk(3, 0.02, 1, 4), 4e5, 4e5, true},
		{"bytes and words that are swapped", site.Point{Type: codec.TypeInt32, Order: codec.DCBA, Unit: "m³/h", Range: &[2]float64{0, 900}}, walk(340, 15, 0, 900), -7e8, -7e8, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := newDevice(t, 4)
			s := d.point(c.of, 1)
			d.holds(1, s.Layout, c.good)
			spike, err := s.Layout.Encode(codec.FloatValue(c.spikes))
			require.NoError(t, err)
			var h weigh.History
			look := func(sec uint32, with bool) []weigh.Fault {
				ends := func(as func(uint16) uint16) (list []weigh.Ends) {
					for i := range 4 {
						w := as(d.area.Words[len(d.area.Words)-1][i])
						e := weigh.Ends{Least: w, Most: w, Lowest: int16(w), Highest: int16(w)}
						if at := i - 1; with && at >= 0 && at < len(spike) {
							w := as(spike[at])
							e.Least, e.Most = min(e.Least, w), max(e.Most, w)
							e.Lowest, e.Highest = min(e.Lowest, int16(w)), max(e.Highest, int16(w))
						}
						list = append(list, e)
					}
					return list
				}
				d.area.Ends, d.area.Turned = ends(func(w uint16) uint16 { return w }), ends(bits.ReverseBytes16)
				h.Weigh(d.signals, sec)
				return h.Faults(d.signals, sec)
			}
			assert.Empty(t, look(2000, false))
			assert.Empty(t, look(2020, true), "one alone")
			assert.Empty(t, look(2040, false))
			list := look(2060, true)
			if !c.told {
				assert.Empty(t, list)
				return
			}
			require.Len(t, list, 1)
			assert.Equal(t, weigh.Spiking, list[0].Failing)
			assert.Equal(t, 2, list[0].Times)
			assert.Equal(t, 40, list[0].Seconds)
			assert.InEpsilon(t, c.shown, list[0].Shown, 0.02)
			assert.Len(t, look(2600, false), 1, "it is not forgotten at once")
			assert.Empty(t, look(2700, false), "there were none for long")
			assert.Empty(t, look(2720, true), "and it begins anew")
		})
	}
}

func TestTwoThatMoveAsOne(t *testing.T) {
	both := func(first, second string, step float64) []weigh.Fault {
		d := newDevice(t, 8)
		d.point(site.Point{Tag: first, Type: codec.TypeFloat32, Unit: "bar"}, 0)
		d.point(site.Point{Tag: second, Type: codec.TypeFloat32, Unit: "bar"}, 4)
		d.holds(0, codec.Layout{Type: codec.TypeFloat32}, walk(4, step, 1, 9))
		d.holds(4, codec.Layout{Type: codec.TypeFloat32}, walk(4, step, 1, 9))
		return d.faults()
	}
	list := both("pump1/pressure", "pump2/pressure", 0.02)
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Twin, list[0].Failing)
	assert.Equal(t, "pump1/pressure", list[0].Other)
	assert.Empty(t, both("pump1/pressure", "pump1/pressure-mean", 0.02), "of another kind")
	assert.Empty(t, both("pump1/pressure", "pump2/pressure", 0), "at rest")
}

// Whatever bits a device uses: they are said to be counted otherwise only where none is where it is said to be, and all would be then.
func TestBitsThatAreCountedOtherwise(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		d := newDevice(t, 2)
		assigned, used := rapid.Uint16().Draw(rt, "assigned"), rapid.Uint16().Draw(rt, "used")
		turn := rapid.SampledFrom([]func(int) int{func(b int) int { return b }, func(b int) int { return 15 - b }, func(b int) int { return b ^ 8 }}).Draw(rt, "turn")
		if rapid.Bool().Draw(rt, "consistent") {
			used &= assigned
		}
		var moved uint16
		for b := range 16 {
			if used>>b&1 == 1 {
				moved |= 1 << turn(b)
			}
			if assigned>>b&1 == 1 {
				s := d.point(site.Point{Type: codec.TypeBool}, 0)
				s.Layout.Bit = int8(b)
				a := *s.Point
				a.Address.Part = site.Bit(b)
				s.Point = &a
			}
		}
		for i := range moments {
			d.area.Words[i][0] = 0
			if i%3 > 0 {
				d.area.Words[i][0] = moved
			}
		}
		mirrored, swapped, n := true, true, 0
		for b := range 16 {
			if moved>>b&1 == 1 {
				n++
				mirrored, swapped = mirrored && assigned>>(15-b)&1 == 1, swapped && assigned>>(b^8)&1 == 1
			}
		}
		var has int
		for w := assigned; w != 0; w &= w - 1 {
			has++
		}
		list := d.faults()
		if moved&assigned != 0 || n < 2 || has < 3 || !mirrored && !swapped {
			assert.Empty(rt, list)
			return
		}
		require.Len(rt, list, 1)
		if mirrored {
			assert.Equal(rt, weigh.BitsTurned, list[0].Failing)
			assert.Equal(rt, swapped, list[0].Other != "")
		} else {
			assert.Equal(rt, weigh.BytesTurned, list[0].Failing)
		}
		assert.Len(rt, list[0].Among, has)
	})
}

// Points without registers are weighed by what they have shown at one look after the other.
func TestPointsWithoutRegisters(t *testing.T) {
	var h weigh.History
	p := &site.Point{Tag: "yard/voltage", Unit: "V", Range: &[2]float64{0, 300}}
	var list []weigh.Explanation
	for i := range 8 {
		s := &weigh.Signal{Point: p, Layout: codec.Layout{Type: codec.TypeFloat64}, Expect: weigh.ExpectationOf(p, units.Find(p.Unit)), Numbers: []float64{2300 + math.Mod(float64(i)*7, 5)}}
		list = h.Weigh([]*weigh.Signal{s}, uint32(1000+4*i))
		if i < 5 {
			assert.Empty(t, list, "too few looks")
		}
	}
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Reading{Factor: 0.1}, list[0].Reading)
	assert.Equal(t, map[string]any{"factor": 0.1}, list[0].Reading.Scaling(list[0].Points[0]))
}

// A digit above 9 that was there once refutes decimal digits for as long as the point stays as it is.
func TestADigitAboveNineIsRemembered(t *testing.T) {
	p := &site.Point{Tag: "a/v", Station: "device", Type: codec.TypeUint16, Address: site.Address{Space: site.HoldingRegisters, Offset: 1}}
	look := func(h *weigh.History, kind codec.Type, value func(i int) float64, sec uint32) []weigh.Explanation {
		d := newDevice(t, 4)
		d.holds(1, codec.Layout{Type: kind}, value)
		s := d.point(*p, 1)
		s.Point = p // the same one at each look
		return h.Weigh(d.signals, sec)
	}
	decimal := func(i int) float64 { return float64(1000 + 3*i) }
	assert.NotEmpty(t, look(new(weigh.History), codec.TypeBCD16, decimal, 2004))
	var h weigh.History
	assert.Empty(t, look(&h, codec.TypeUint16, func(i int) float64 { return float64(0x1A + i) }, 2000))
	assert.Empty(t, look(&h, codec.TypeBCD16, decimal, 2004))
}
