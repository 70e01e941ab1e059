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
	"arithmon/internal/live/diagnose/weigh"
)

// quantity is a value of a device whose registers follow each other.
type quantity struct {
	tag, unit  string
	kind       codec.Type
	base, size float64 // around which and by how much it swings
}

var heating = []quantity{
	{"supply", "°C", codec.TypeFloat32, 63.4, 4}, {"return", "°C", codec.TypeFloat32, 41.2, 3}, {"pressure", "bar", codec.TypeFloat32, 3.42, 0.4},
	{"flow", "m³/h", codec.TypeFloat32, 27.3, 6}, {"power", "kW", codec.TypeFloat32, 118.7, 20}, {"speed", "rpm", codec.TypeInt16, 1432, 60},
	{"level", "%", codec.TypeUint16, 54.2, 9}, {"outdoor", "°C", codec.TypeInt16, -3.4, 5}, {"energy", "kWh", codec.TypeUint32, 234567, 0},
	{"starts", "", codec.TypeUint16, 217, 0},
}

var meter = []quantity{
	{"u1", "V", codec.TypeFloat32, 231.2, 2}, {"u2", "V", codec.TypeFloat32, 229.9, 2}, {"u3", "V", codec.TypeFloat32, 232.7, 2},
	{"i1", "A", codec.TypeFloat32, 12.7, 3}, {"i2", "A", codec.TypeFloat32, 11.1, 2}, {"i3", "A", codec.TypeFloat32, 13.5, 2},
	{"p", "kW", codec.TypeFloat32, 8.6, 2}, {"f", "Hz", codec.TypeFloat32, 50.01, 0.02}, {"pf", "", codec.TypeFloat32, 0.93, 0.02},
}

var works = []quantity{
	{"level", "m", codec.TypeFloat32, 2.14, 0.3}, {"temp", "°C", codec.TypeInt16, 11.4, 0.6}, {"cur", "A", codec.TypeInt16, 14.3, 1.5}, {"hours", "h", codec.TypeUint32, 12873, 0},
	{"starts", "", codec.TypeUint16, 1203, 0}, {"position", "%", codec.TypeInt16, 43, 12}, {"total", "kWh", codec.TypeUint32, 918273, 0}, {"volume", "m³", codec.TypeUint32, 81723, 0},
}

// compact is a device with one value after the other, read so many registers beside where they are. Only what its points read is known.
func compact(t *testing.T, list []quantity, order codec.Order, moving bool, by int, seed uint64) *device {
	r := rand.New(rand.NewPCG(seed, 4))
	d := newDevice(t, 32)
	tenth := 0.1
	for at, i := 4, 0; i < len(list); i++ {
		q := list[i]
		p, factor := site.Point{Tag: q.tag, Type: q.kind, Unit: q.unit}, 1.0
		if q.unit != "" && q.unit != "rpm" && (q.kind == codec.TypeInt16 || q.kind == codec.TypeUint16) {
			p.Scaling, factor = scaling.Scaling{Factor: &tenth}, 10
		}
		phase, period := 2*math.Pi*r.Float64(), 20+70*r.Float64()
		l := codec.Layout{Type: q.kind}
		if l.Words() > 1 {
			l.Order = order
		}
		d.holds(at, l, func(i int) float64 {
			v := q.base
			if moving && q.size != 0 {
				v += q.size * (math.Sin(phase+2*math.Pi*3*float64(i)/period) + 0.01*r.NormFloat64())
			}
			if q.unit == "kWh" {
				v += 5 * float64(i)
			}
			return v * factor
		})
		if i < len(list)-1 || by < 0 { // what is behind the last register is refused
			d.point(p, at+by)
		}
		at += codec.Layout{Type: q.kind}.Words()
	}
	from, to := 32, 0
	for _, s := range d.signals {
		from, to = min(from, s.At), max(to, s.At+s.Layout.Words())
	}
	for i := range d.area.Words {
		d.area.Words[i] = d.area.Words[i][from:to]
	}
	for _, s := range d.signals {
		s.At -= from
	}
	return d
}

// Addresses that are all one off are that, though with the other word order each value looks like that of its neighbour; and it is said of all points, also
// of those that look right by chance.
func TestAllAddressesOfACompactDevice(t *testing.T) {
	for name, list := range map[string][]quantity{"heating": heating, "meter": meter} {
		for _, moving := range []bool{true, false} {
			for seed := range uint64(5) {
				for _, by := range []int{-1, 1} {
					about := fmt.Sprintf("%s, moving %v, %d beside, seed %d", name, moving, by, seed)
					d := compact(t, list, codec.ABCD, moving, by, seed)
					var beside []int
					if by == 1 {
						beside = []int{-1} // where that which is refused answers
					}
					found := weigh.Station(d.signals, beside...)
					require.NotEmpty(t, found, about)
					assert.Equal(t, weigh.Reading{By: -by}, found[0].Reading, about)
					assert.Len(t, found[0].Points, len(d.signals), about)
					assert.Greater(t, found[0].Certainty, 0.5, about)
				}
				assert.Empty(t, weigh.Station(compact(t, list, codec.ABCD, moving, 0, seed).signals), name)
			}
		}
	}
}

// The order of a station is one setting, of which several whole numbers tell, though each could as well be a number of one register.
func TestOrderOfAStationOfWholeNumbers(t *testing.T) {
	for _, moving := range []bool{true, false} {
		for seed := range uint64(5) {
			found := weigh.Station(compact(t, works, codec.CDAB, moving, 0, seed).signals)
			require.NotEmpty(t, found)
			assert.Equal(t, weigh.Reading{Order: codec.CDAB}, found[0].Reading)
			assert.Greater(t, found[0].Certainty, 0.6)
		}
	}
}

// One register of two is found by the other one, which lies between points and moves without being anything.
func TestHalfOfAValueBetweenOthers(t *testing.T) {
	beside := func(d *device, at int) {
		d.holds(at, codec.Layout{Type: codec.TypeFloat32}, walk(40, 0.1, 30, 50))
		d.point(site.Point{Type: codec.TypeFloat32, Unit: "°C"}, at)
	}
	for _, unit := range []string{"", "m³/h", "kW", "bar"} {
		d := newDevice(t, 8)
		d.holds(3, codec.Layout{Type: codec.TypeFloat32}, walk(27, 0.7, 10, 40))
		beside(d, 1)
		beside(d, 5)
		d.point(site.Point{Type: codec.TypeUint16, Unit: unit}, 3)
		list := weigh.Station(d.signals)
		require.Len(t, list, 1, unit)
		assert.Equal(t, weigh.Reading{Type: codec.TypeFloat32}, list[0].Reading, unit)
	}
	total := func(read codec.Type, unit string) []weigh.Explanation {
		d := newDevice(t, 8)
		d.holds(3, codec.Layout{Type: codec.TypeUint32}, func(i int) float64 { return float64(5<<16 + 70 + 2*i) })
		beside(d, 1)
		beside(d, 5)
		d.point(site.Point{Type: read, Unit: unit}, 3)
		return weigh.Station(d.signals)
	}
	list := total(codec.TypeUint16, "kWh")
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Reading{Type: codec.TypeUint32}, list[0].Reading)
	assert.Empty(t, total(codec.TypeUint32, "kWh"))
	assert.Empty(t, total(codec.TypeUint16, ""), "a number that stands beside one that counts is nothing by itself")
	// A number with a sign that goes through zero is no lower half.
	d := newDevice(t, 8)
	d.holds(3, codec.Layout{Type: codec.TypeInt16}, walk(300, 20, 0, 500))
	d.holds(4, codec.Layout{Type: codec.TypeInt16}, func(i int) float64 { return float64(5 - 10*(i%2)) })
	beside(d, 1)
	beside(d, 5)
	d.point(site.Point{Type: codec.TypeInt16, Unit: "kW"}, 3)
	assert.Empty(t, weigh.Station(d.signals))
}

// What a device gives for no value is one thing, and registers in a wrong order that happen to be no value are another.
func TestNoValueAndAWrongOrder(t *testing.T) {
	for _, v := range []float64{40.118, 1.0625e-5 * 3, 231.4} {
		for _, kind := range []codec.Type{codec.TypeFloat32, codec.TypeFloat64} {
			d := newDevice(t, 8)
			d.holds(2, codec.Layout{Type: kind, Order: codec.CDAB}, constant(v))
			d.point(site.Point{Type: kind, Unit: "V"}, 2)
			list := weigh.Station(d.signals)
			if v < 1 { // what it shows is too small for a voltage in any order
				continue
			}
			require.NotEmpty(t, list, "%v %s", v, kind)
			assert.Equal(t, weigh.Reading{Order: codec.CDAB}, list[0].Reading, "%v %s", v, kind)
		}
	}
	var h weigh.History
	for name, words := range map[string][]uint16{"the plain one": {0x7FC0, 0}, "all ones": {0xFFFF, 0xFFFF}, "with a number in it": {0x7FE9, 0x42F6}} {
		d := newDevice(t, 4)
		for _, w := range d.area.Words {
			copy(w[1:], words)
		}
		d.point(site.Point{Type: codec.TypeFloat32}, 1)
		faults := h.Faults(d.signals, 2000)
		if name == "with a number in it" {
			assert.Empty(t, faults, name)
			list := weigh.Station(d.signals)
			require.Len(t, list, 1, name)
			assert.Equal(t, weigh.Reading{Order: codec.CDAB}, list[0].Reading, name)
			continue
		}
		require.Len(t, faults, 1, name)
		assert.Equal(t, weigh.NoNumber, faults[0].Failing, name)
	}
}

// Two points of one address whose units differ are not both right; registers beside that are nobody's are where one of them may be meant to be.
func TestOneAddressInTwoUnits(t *testing.T) {
	d := newDevice(t, 10)
	d.holds(2, codec.Layout{Type: codec.TypeFloat32}, walk(27, 0.7, 10, 40))
	d.holds(4, codec.Layout{Type: codec.TypeFloat32}, walk(118, 0.7, 100, 140))
	d.point(site.Point{Tag: "a/flow", Type: codec.TypeFloat32, Unit: "m³/h"}, 4)
	d.point(site.Point{Tag: "a/power", Type: codec.TypeFloat32, Unit: "kW"}, 4)
	var h weigh.History
	faults := h.Faults(d.signals, 2000)
	require.Len(t, faults, 1)
	assert.Equal(t, weigh.Shared, faults[0].Failing)
	require.Len(t, faults[0].Free, 2)
	assert.Equal(t, -2, faults[0].Free[0].By)
	// The same in the same unit, or scaled otherwise, may be meant.
	d.signals[1].Point.Unit = "m³/h"
	assert.Empty(t, h.Faults(d.signals, 2010))
	factor := 3.6
	d.signals[1].Point.Unit, d.signals[1].Point.Scaling = "kW", scaling.Scaling{Factor: &factor}
	assert.Empty(t, h.Faults(d.signals, 2020))
}

// Four letters in the registers of a whole number of which nothing is known are a text; a number with a unit is not.
func TestAShortTextReadAsANumber(t *testing.T) {
	for text, is := range map[string]bool{"PUMP": true, "V2ab": true, "12a4": false, "ab \x01": false} {
		for _, unit := range []string{"", "kWh"} {
			d := newDevice(t, 4)
			for _, w := range d.area.Words {
				w[1], w[2] = uint16(text[0])<<8|uint16(text[1]), uint16(text[2])<<8|uint16(text[3])
			}
			d.point(site.Point{Type: codec.TypeUint32, Unit: unit}, 1)
			for i := range d.area.Words {
				d.area.Words[i] = d.area.Words[i][1:3]
			}
			d.signals[0].At = 0
			list := weigh.Station(d.signals)
			texts := 0
			for _, e := range list {
				if e.Reading.Type == codec.TypeString {
					texts++
				}
			}
			assert.Equal(t, is && unit == "", texts == 1, "%q %q", text, unit)
		}
	}
}

// A point that would lose what it has by a shift of others stays where it is.
func TestAShiftLeavesWhatWouldLoseItsValue(t *testing.T) {
	d := newDevice(t, 24)
	for i := range 2 {
		d.holds(4+2*i, codec.Layout{Type: codec.TypeFloat32}, walk(20+float64(i), 0.2, 0, 50))
		d.point(site.Point{Type: codec.TypeFloat32, Unit: "°C"}, 3+2*i)
	}
	d.holds(14, codec.Layout{Type: codec.TypeInt16}, constant(100))
	d.point(site.Point{Tag: "a/setpoint", Type: codec.TypeInt16}, 14)
	list := weigh.Station(d.signals)
	require.NotEmpty(t, list)
	assert.Equal(t, weigh.Reading{By: 1}, list[0].Reading)
	require.Len(t, list[0].Points, 2)
	for _, s := range list[0].Points {
		assert.NotEqual(t, "a/setpoint", s.Point.Tag)
	}
}

// Values that are parted by unused registers and read one address off are all nothing, beside registers that move and are nobody's.
func TestValuesBesideUnusedRegisters(t *testing.T) {
	with := func(by, described int) []weigh.Explanation {
		d := newDevice(t, 24)
		for i := range 6 {
			d.holds(4+2*i, codec.Layout{Type: codec.TypeInt16}, walk(200+float64(i), 9, 0, 400))
			if i < described {
				d.point(site.Point{Tag: fmt.Sprintf("a/x%d", i), Type: codec.TypeInt16}, 4+2*i+by)
			}
		}
		return weigh.Station(d.signals)
	}
	for _, by := range []int{-1, 1} {
		list := with(by, 6)
		require.NotEmpty(t, list)
		assert.Equal(t, weigh.Reading{By: -by}, list[0].Reading, by)
		assert.Len(t, list[0].Points, 6)
	}
	assert.Empty(t, with(0, 6))
	assert.Empty(t, with(1, 2), "two states that are nothing are no evidence")
}

// Many points of one kind that move alike are no more evidence than a few: a wrong order of all is that, and no shift.
func TestOrderOfManyAlike(t *testing.T) {
	d := newDevice(t, 60)
	for i := range 30 {
		d.holds(2*i, codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}, walk(3+float64(i%5), 0.02, 1, 14))
		d.point(site.Point{Type: codec.TypeFloat32, Unit: "bar"}, 2*i)
	}
	list := weigh.Station(d.signals)
	require.Len(t, list, 1)
	assert.Equal(t, weigh.Reading{Order: codec.CDAB}, list[0].Reading)
	assert.Len(t, list[0].Points, 30)
}

// Bits and texts of the same registers are moved along with all addresses, and their registers are somebody's.
func TestBitsAndTextsAreMovedAlong(t *testing.T) {
	with := func(by int) []weigh.Explanation {
		d := newDevice(t, 24)
		for i := range 4 {
			d.holds(4+2*i, codec.Layout{Type: codec.TypeFloat32}, walk(20+float64(i), 0.2, 0, 50))
			d.point(site.Point{Type: codec.TypeFloat32, Unit: "°C"}, 4+2*i+by)
		}
		for i, words := range d.area.Words {
			words[12] = uint16(i%2) << 15
		}
		bit := site.Point{Tag: "a/fault", Type: codec.TypeBool}
		bit.Address.Part = site.Bit(15)
		s := d.point(bit, 12+by)
		s.Layout.Bit = 15
		d.holds(13, codec.Layout{Type: codec.TypeInt16}, walk(300, 4, 100, 500))
		d.point(site.Point{Type: codec.TypeInt16, Unit: "rpm"}, 13+by)
		return weigh.Station(d.signals)
	}
	list := with(1)
	require.NotEmpty(t, list)
	assert.Equal(t, weigh.Reading{By: -1}, list[0].Reading)
	assert.Len(t, list[0].Points, 6)
	assert.Empty(t, with(0), "a register of bits beside a number is no half of it")
}
