package weigh_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/diagnose/weigh"
)

var units = unit.BuiltIn()

// device is a station whose registers are seen at some moments.
type device struct {
	t       testing.TB
	area    *weigh.Area
	signals []*weigh.Signal
}

const moments = 16

func newDevice(t testing.TB, registers int) *device {
	d := &device{t: t, area: &weigh.Area{Space: site.HoldingRegisters}}
	for i := range moments {
		d.area.Words, d.area.Secs = append(d.area.Words, make([]uint16, registers)), append(d.area.Secs, uint32(1000+i))
	}
	return d
}

// holds puts a value into the registers from at on.
func (d *device) holds(at int, l codec.Layout, value func(i int) float64) {
	for i, words := range d.area.Words {
		w, err := l.Encode(codec.FloatValue(value(i)))
		require.NoError(d.t, err)
		copy(words[at:], w)
	}
}

// point is one that reads the registers from at on.
func (d *device) point(p site.Point, at int) *weigh.Signal {
	p.Station, p.Address = "device", site.Address{Space: site.HoldingRegisters, Offset: uint16(at)}
	if p.Tag == "" {
		p.Tag = fmt.Sprintf("a/v%d", at)
	}
	s := &weigh.Signal{Point: &p, Layout: p.Layout(site.NewStation()), Inherits: p.Order == "", Area: d.area, At: at, Expect: weigh.ExpectationOf(&p, units.Find(p.Unit))}
	if f, err := p.Scaling.Compile(); err == nil && !f.IsZero() {
		s.Scale = func(raw float64) float64 { v, _ := f.Apply(raw); return v }
	}
	d.signals = append(d.signals, s)
	return s
}

// walk is a value that moves as those of plants do.
func walk(from, step, least, most float64) func(int) float64 {
	r := rand.New(rand.NewPCG(1, 2))
	v := from
	return func(int) float64 {
		v = min(max(v+step*(2*r.Float64()-1), least), most)
		return v
	}
}

func constant(v float64) func(int) float64 { return func(int) float64 { return v } }

// What healthy devices give, and what they give when a sensor fails, is read as it is.
func TestWhatIsRight(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	then := func(after float64) func(int) float64 {
		good := walk(25, 0.3, 0, 50)
		return func(i int) float64 {
			if i < moments/2 {
				return good(i)
			}
			return after
		}
	}
	for name, signal := range map[string]func(int) float64{
		"nothing yet":             constant(0),
		"a setpoint":              constant(12.5),
		"a level":                 walk(2.5, 0.02, 0, 5),
		"a flow":                  walk(340, 15, 0, 900),
		"about zero":              func(int) float64 { return 0.1 * r.NormFloat64() },
		"on and off":              func(i int) float64 { return float64(i / 5 % 2 * 50) },
		"steps of a thousandfold": func(i int) float64 { return []float64{0.002, 40}[i/6%2] + 0.0001*r.Float64() },
		"gusts":                   func(int) float64 { return math.Exp(1.5 * r.NormFloat64()) },
		"doses":                   func(i int) float64 { return []float64{0.02, 0.02, 5, 5}[i%4] * (1 + 0.01*r.Float64()) },
		"energy of long":          func(i int) float64 { return 4e13 + 1e7*float64(i) },
		"a failed sensor":         then(-999.9),
		"it failed long ago":      constant(-9999),
		"a filling value":         constant(9.96921e36),
		"a filling value, lately": then(9.96921e36),
		"the largest":             then(math.MaxFloat32),
		"the smallest":            then(-1e30),
	} {
		for _, u := range []string{"", "m³/h"} {
			if name == "energy of long" && u != "" {
				continue // which no flow is
			}
			d := newDevice(t, 12)
			d.holds(4, codec.Layout{Type: codec.TypeFloat32}, signal)
			d.holds(8, codec.Layout{Type: codec.TypeFloat32}, walk(40, 0.1, 30, 50))
			d.point(site.Point{Type: codec.TypeFloat32, Unit: u}, 4)
			d.point(site.Point{Type: codec.TypeFloat32, Unit: u}, 8)
			assert.Empty(t, weigh.Station(d.signals), "%s, unit %q", name, u)
		}
	}
	for name, words := range map[string][]uint16{
		"not a number": {0x7FC0, 0}, "infinite": {0xFF80, 0}, "all ones": {0xFFFF, 0xFFFF}, "the largest not a number": {0x7FFF, 0xFFFF}, "minus zero": {0x8000, 0},
	} {
		d := newDevice(t, 4)
		for _, w := range d.area.Words {
			copy(w[1:], words)
		}
		d.point(site.Point{Type: codec.TypeFloat32, Unit: "bar"}, 1)
		assert.Empty(t, weigh.Station(d.signals), name)
	}
	for name, signal := range map[string]func(int) float64{
		"a counter":                func(i int) float64 { return float64(71_000 + 3*i) },
		"a flag in the upper word": func(i int) float64 { return float64(i % 2 << 20) },
		"tens of thousands":        func(i int) float64 { return float64(i%7) * 40_000 },
		"about zero":               func(int) float64 { return math.Round(20 * r.NormFloat64()) },
		"a fast counter":           func(i int) float64 { return float64(i) * 170_001 },
		"words of flags":           func(i int) float64 { return float64(0x0101<<16 | i%2<<8) },
	} {
		d := newDevice(t, 6)
		d.holds(2, codec.Layout{Type: codec.TypeInt32}, signal)
		d.point(site.Point{Type: codec.TypeInt32}, 2)
		assert.Empty(t, weigh.Station(d.signals), name)
	}
	for name, signal := range map[string]func(int) float64{
		"a word of flags": func(i int) float64 { return float64([]int{0x0001, 0x8001, 0x8003, 0x0003}[i/3%4]) },
		"a state":         func(i int) float64 { return float64(i / 4 % 3) },
		"all ones":        constant(0xFFFF),
		"its upper half":  constant(0x0100),
		"left-justified":  func(i int) float64 { return float64(0x4000 + 16*(i%9)) },
	} {
		d := newDevice(t, 3)
		d.holds(1, codec.Layout{Type: codec.TypeUint16}, signal)
		d.point(site.Point{Type: codec.TypeUint16}, 1)
		assert.Empty(t, weigh.Station(d.signals), name)
	}
}

// Every order that is read as another one is found, of every type with more than one register.
func TestEveryWrongOrder(t *testing.T) {
	for _, kind := range []codec.Type{codec.TypeFloat32, codec.TypeFloat64} {
		for _, is := range codec.Orders {
			for _, read := range codec.Orders {
				d := newDevice(t, 8)
				d.holds(2, codec.Layout{Type: kind, Order: is}, walk(21, 0.3, -20, 60))
				d.point(site.Point{Type: kind, Order: read, Unit: "°C"}, 2)
				list := weigh.Station(d.signals)
				if is == read {
					assert.Empty(t, list, "%s %s", kind, is)
				} else if assert.Len(t, list, 1, "%s: %s read as %s", kind, is, read) {
					assert.Equal(t, weigh.Reading{Order: is}, list[0].Reading, "%s: %s read as %s", kind, is, read)
					assert.Greater(t, list[0].Certainty, 0.5)
				}
			}
		}
	}
	for _, kind := range []codec.Type{codec.TypeUint32, codec.TypeInt32, codec.TypeUint64} {
		d := newDevice(t, 8)
		d.holds(2, codec.Layout{Type: kind, Order: codec.CDAB}, func(i int) float64 { return float64(71_000 + 3*i) })
		d.point(site.Point{Type: kind, Unit: "kWh"}, 2)
		list := weigh.Station(d.signals)
		require.Len(t, list, 1, kind)
		assert.Equal(t, weigh.Reading{Order: codec.CDAB}, list[0].Reading, kind)
	}
}

// One mistake that explains several points is one explanation, and what is right stays.
func TestOneMistakeOfSeveralPoints(t *testing.T) {
	d := newDevice(t, 20)
	for i := range 4 {
		d.holds(2*i, codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}, walk(20+float64(i), 0.2, 0, 50))
		d.point(site.Point{Type: codec.TypeFloat32, Unit: "°C"}, 2*i)
	}
	d.holds(10, codec.Layout{Type: codec.TypeInt16}, walk(200, 5, 0, 400))
	tenth := 0.1
	d.point(site.Point{Type: codec.TypeInt16, Unit: "°C", Scaling: scaling.Scaling{Factor: &tenth}}, 10)
	list := weigh.Station(d.signals)
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Reading{Order: codec.CDAB}, list[0].Reading)
	assert.Len(t, list[0].Points, 4)
	assert.Greater(t, list[0].Certainty, 0.95)
}

// All addresses one off are that, and not another order for each.
func TestAddressesThatAreOff(t *testing.T) {
	for _, by := range []int{-1, 1} {
		d := newDevice(t, 12)
		for i, v := range []float64{21, 3.2, 55, 8} {
			d.holds(2+2*i, codec.Layout{Type: codec.TypeFloat32}, walk(v, v/100, v/2, 2*v))
			d.point(site.Point{Type: codec.TypeFloat32, Unit: "bar"}, 2+2*i+by)
		}
		list := weigh.Station(d.signals)
		require.NotEmpty(t, list, by)
		assert.Equal(t, weigh.Reading{By: -by}, list[0].Reading, by)
		assert.GreaterOrEqual(t, len(list[0].Points), 3)
	}
}

// A value that ends beyond what was read is known by its upper half; whether the words before it are its lower one, only its carries tell.
func TestAnAddressThatIsOffAtTheEdge(t *testing.T) {
	d := newDevice(t, 4)
	d.holds(1, codec.Layout{Type: codec.TypeFloat32}, walk(21, 0.1, 15, 30))
	for i, w := range d.area.Words {
		w[0] = uint16(i * 4099)
		d.area.Words[i] = w[:2] // the lower half was not read
	}
	d.point(site.Point{Type: codec.TypeFloat32, Unit: "°C"}, 0)
	list := weigh.Station(d.signals)
	require.Len(t, list, 1)
	likely := []weigh.Reading{list[0].Reading}
	if list[0].RunnerUp != nil {
		likely = append(likely, *list[0].RunnerUp)
	}
	assert.Contains(t, likely, weigh.Reading{By: 1})
	assert.False(t, d.signals[0].Whole(weigh.Reading{By: 1}), "its lower half was not read")
	assert.True(t, d.signals[0].Whole(weigh.Reading{}))
}

// No reading is at an address that there is not.
func TestReadingsBeyondTheAddresses(t *testing.T) {
	d := newDevice(t, 2)
	first := d.point(site.Point{Type: codec.TypeFloat32, Order: codec.CDAB}, 0)
	assert.Nil(t, first.Values(weigh.Reading{By: -1}))
	d.area.First = 1<<16 - 2
	last := d.point(site.Point{Type: codec.TypeFloat32}, 0)
	assert.Nil(t, last.Values(weigh.Reading{By: 1}))
	assert.NotNil(t, last.Values(weigh.Reading{}))
}

// The scaling that a reading proposes gives what the reading gives.
func TestTheScalingOfAReading(t *testing.T) {
	hundredth, minus := 0.01, -40.0
	raw, eng := [2]float64{0, 27648}, [2]float64{0, 16}
	for name, p := range map[string]site.Point{
		"none":       {Type: codec.TypeInt16, Unit: "°C"},
		"factor":     {Type: codec.TypeInt16, Unit: "°C", Scaling: scaling.Scaling{Factor: &hundredth}},
		"and offset": {Type: codec.TypeInt16, Unit: "°C", Scaling: scaling.Scaling{Factor: &hundredth, Offset: &minus}},
		"two points": {Type: codec.TypeInt16, Unit: "°C", Scaling: scaling.Scaling{Raw: &raw, Eng: &eng}},
	} {
		for _, r := range []weigh.Reading{{Factor: 0.1}, {Factor: 1000}, {Offset: -273.15}, {Convert: weigh.FromFahrenheit}, {Convert: weigh.ToFahrenheit}, {Raw: &weigh.Spans[1]}} {
			if r.Raw != nil && p.Scaling.Raw == nil && !p.Scaling.IsZero() {
				continue
			}
			d := newDevice(t, 2)
			d.holds(0, codec.Layout{Type: codec.TypeInt16}, walk(1200, 300, 0, 3000))
			s := d.point(p, 0)
			proposed := p
			proposed.Scaling = scalingOf(t, r.Scaling(s))
			then := d.point(proposed, 0)
			assert.InDeltaSlice(t, s.Values(r), then.Values(weigh.Reading{}), 1e-6, "%s: %s", name, r)
		}
	}
}

func scalingOf(t *testing.T, fields map[string]any) (s scaling.Scaling) {
	t.Helper()
	pair := func(v any) *[2]float64 {
		list := v.([]any)
		return &[2]float64{list[0].(float64), list[1].(float64)}
	}
	for name, v := range fields {
		switch name {
		case "factor":
			f := v.(float64)
			s.Factor = &f
		case "offset":
			f := v.(float64)
			s.Offset = &f
		case "raw":
			s.Raw = pair(v)
		case "eng":
			s.Eng = pair(v)
		}
	}
	_, err := s.Compile()
	require.NoError(t, err)
	return s
}

// Whatever the registers hold, weighing ends, and certainties are certainties.
func FuzzStation(f *testing.F) {
	f.Add([]byte{1, 2, 3, 4, 5, 6, 7, 8}, uint8(0), uint8(0))
	f.Add([]byte{0xFF, 0x80, 0, 0, 0x7F, 0xC0, 0, 0}, uint8(10), uint8(1))
	f.Fuzz(func(t *testing.T, data []byte, kind, of uint8) {
		d := newDevice(t, 8)
		for i, words := range d.area.Words {
			for k := range words {
				if len(data) > 1 {
					at := (2*k + i*int(of)) % (len(data) - 1)
					words[k] = uint16(data[at])<<8 | uint16(data[at+1])
				}
			}
		}
		for at := range 3 {
			typ := codec.Types[(int(kind)+3*at)%len(codec.Types)]
			p := site.Point{Type: typ, Unit: []string{"", "bar", "°C", "kWh", "%"}[int(kind)%5], Order: codec.Orders[at]}
			if typ == codec.TypeString {
				p.Length = 4
			}
			d.point(p, 2*at)
		}
		for _, e := range weigh.Station(d.signals) {
			assert.True(t, e.Certainty >= 0 && e.Certainty <= 1 && e.Share >= 0 && e.Share <= 1, "%v", e.Certainty)
			assert.NotEmpty(t, e.Points)
		}
	})
}
