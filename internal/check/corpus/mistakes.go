package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// trial is a plant with one mistake: what was set instead of the truth.
type trial struct {
	*plant
	code   diagnose.Code // of the finding that tells it
	set    site.Station
	points []site.Point // as they are set, beside the plant's
	wrong  map[string]bool
	device bool // it is the device that fails: no setting mends it
}

// mistake is a kind of mistake. make returns false where the plant has nothing to make it on.
type mistake struct {
	name string
	code diagnose.Code
	slow bool   // it shows itself within 90 s from when it begins
	why  string // why nobody can tell it, when that is so
	rest string // why nobody can tell it while values rest
	make func(*trial) bool
}

// needs makes a point of the plant one of a type, with a quantity, and gives it as it is set.
func (t *trial) needs(typ codec.Type, quantity string, change func(*truth)) *site.Point {
	i := t.rng.IntN(len(t.points))
	q := named(quantity)
	at := 0
	for _, x := range append(slices.Clone(t.plant.points), t.hidden...) {
		at = max(at, int(x.Address.Offset)+x.Layout(t.station).Words())
	}
	at += t.rng.IntN(3)
	it := t.describe(q, i, at)
	it.Type, it.Scaling = typ, scaling.Scaling{}
	if change != nil {
		change(it)
	}
	it.Tag = fmt.Sprintf("area/%s-%d", quantity, len(t.points)+1)
	t.plant.points = append(t.plant.points, it)
	t.points = append(t.points, it.Point)
	return &t.points[len(t.points)-1]
}

func named(name string) quantity {
	for _, q := range quantities {
		if q.name == name {
			return q
		}
	}
	panic(name)
}

// moving chooses the name of a quantity that moves.
func (t *trial) moving(names ...string) string {
	if len(names) == 0 {
		names = []string{"temperature", "pressure", "flow", "level", "current", "power", "speed"}
	}
	return names[t.rng.IntN(len(names))]
}

// poke lets the device have a raw value at a point, whatever its quantity is.
func (t *trial) poke(p *site.Point, raw float64) {
	v := codec.FloatValue(raw)
	if p.Type != codec.TypeFloat32 && p.Type != codec.TypeFloat64 {
		v = codec.IntValue(int64(raw))
	}
	words, err := p.Layout(t.station).Encode(v)
	if err != nil {
		panic(err)
	}
	for i, w := range words {
		t.words[int(p.Address.Offset)+i] = w
	}
}

func (t *trial) is(p *site.Point) bool { t.wrong[p.Tag] = true; return true }

func by(f float64) func(*truth) {
	return func(t *truth) { t.Scaling = scaling.Scaling{Factor: &f} }
}

// bits gives the device registers of states, and counts their bits otherwise than they are.
func (t *trial) bits(turn func(bit int) int) bool {
	first := len(t.points)
	word := t.needs(codec.TypeUint16, "status", func(x *truth) { x.Unit, x.process.high, x.process.low = "", 0, 0 })
	at := word.Address
	t.points, t.plant.points = t.points[:first], t.plant.points[:first]
	several := t.rng.Perm(8)[:4+t.rng.IntN(3)]
	for _, bit := range several {
		x := &truth{process: t.newProcess(quantity{name: "bit", low: 0, high: 0})}
		x.Tag, x.Station, x.Type = fmt.Sprintf("area/state%d", bit), t.station.Name, codec.TypeBool
		x.Address = at
		x.Address.Part = site.Bit(bit)
		t.plant.points = append(t.plant.points, x)
		p := x.Point
		p.Address.Part = site.Bit(turn(bit))
		t.points = append(t.points, p)
		t.wrong[p.Tag] = true
	}
	a, b := several[0], several[1]
	if turn(a) == a^8 && slices.Contains(several, 7-a) || slices.Contains(several, (15-a)^8) && slices.Contains(several, (15-b)^8) {
		return false // where both hold, nobody tells them apart
	}
	t.spoil = append(t.spoil, func(second int) {
		t.words[int(at.Offset)] = 1<<b | uint16(second/5%2)<<a
	})
	return true
}

func plainly(*truth) {}

// ranged makes the range of a point what its quantity has.
func ranged(t *truth) { r := t.process.span; t.Range = &r }

var mistakes = []mistake{
	{name: "words of the station in the other order", code: diagnose.WordOrder, make: func(t *trial) bool {
		t.needs(codec.TypeFloat32, t.moving(), nil)
		t.needs(codec.TypeFloat32, t.moving("voltage", "acidity", "frequency"), nil)
		t.set.Order = map[codec.Order]codec.Order{codec.ABCD: codec.CDAB, codec.CDAB: codec.ABCD, codec.BADC: codec.DCBA, codec.DCBA: codec.BADC}[t.station.Order]
		for _, p := range t.points {
			if p.Layout(t.set).Words() > 1 {
				t.wrong[p.Tag] = true
			}
		}
		return true
	}},
	{name: "words of one value in the other order", code: diagnose.WordOrder, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		p.Order = map[codec.Order]codec.Order{codec.ABCD: codec.CDAB, codec.CDAB: codec.ABCD, codec.BADC: codec.DCBA, codec.DCBA: codec.BADC}[t.station.Order]
		return t.is(p)
	}},
	{name: "words of a whole number in the other order", code: diagnose.WordOrder, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint32, t.moving("energy", "volume"), by(0.01))
		p.Order = map[codec.Order]codec.Order{codec.ABCD: codec.CDAB, codec.CDAB: codec.ABCD, codec.BADC: codec.DCBA, codec.DCBA: codec.BADC}[t.station.Order]
		return t.is(p)
	}},
	{name: "words of 64 bits in the other order", code: diagnose.WordOrder, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat64, t.moving(), nil)
		p.Order = map[codec.Order]codec.Order{codec.ABCD: codec.CDAB, codec.CDAB: codec.ABCD, codec.BADC: codec.DCBA, codec.DCBA: codec.BADC}[t.station.Order]
		return t.is(p)
	}},
	{name: "bytes in the other order", code: diagnose.WordOrder, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		p.Order = map[codec.Order]codec.Order{codec.ABCD: codec.BADC, codec.CDAB: codec.DCBA, codec.BADC: codec.ABCD, codec.DCBA: codec.CDAB}[t.station.Order]
		return t.is(p)
	}},
	{name: "bytes of 16 bits swapped", code: diagnose.WordOrder, rest: "most numbers are plausible either way", make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, t.moving("flow", "speed", "current", "power"), func(x *truth) { by(0.1)(x) })
		p.Order = map[codec.Order]codec.Order{codec.ABCD: codec.BADC, codec.CDAB: codec.BADC, codec.BADC: codec.ABCD, codec.DCBA: codec.ABCD}[t.station.Order]
		return t.is(p)
	}},
	{name: "floating-point value read as whole number", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		p.Type = []codec.Type{codec.TypeUint32, codec.TypeInt32}[t.rng.IntN(2)]
		return t.is(p)
	}},
	{name: "whole number read as floating-point value", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeInt32, t.moving(), by([]float64{0.001, 0.01, 0.1}[t.rng.IntN(3)]))
		p.Type = codec.TypeFloat32
		return t.is(p)
	}},
	{name: "value with sign read without", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeInt16, "outside", func(x *truth) { by(0.1)(x); x.process.level = -3 + 2*t.rng.Float64() })
		p.Type = codec.TypeUint16
		return t.is(p)
	}},
	{name: "value without sign read with one", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, "flow", func(x *truth) { by(0.01)(x); x.process.level = 350; x.process.low = 330 })
		p.Type = codec.TypeInt16
		return t.is(p)
	}},
	{name: "half of 32 bits", code: diagnose.TypeDiffers, rest: "half of a value is a plausible number", make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		p.Type = codec.TypeUint16
		return t.is(p)
	}},
	{name: "lower half of a whole number", code: diagnose.TypeDiffers, rest: "half of a value is a plausible number", make: func(t *trial) bool {
		p := t.needs(codec.TypeUint32, "flow", func(x *truth) { by(0.001)(x); x.process.level = 262; x.process.slope, x.process.left = 0.1, 30 })
		p.Type = codec.TypeUint16
		if t.station.Order == codec.ABCD || t.station.Order == codec.BADC {
			p.Address.Offset++
		}
		return t.is(p)
	}},
	{name: "16 bits read as 32", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, t.moving("flow", "current", "power"), by(0.1))
		p.Type = codec.TypeUint32
		t.words[int(p.Address.Offset)+1] = uint16(t.rng.IntN(1 << 12))
		return t.is(p)
	}},
	{name: "BCD read as binary", code: diagnose.TypeDiffers, rest: "what tells it is how the digits go on", make: func(t *trial) bool {
		p := t.needs(codec.TypeBCD16, t.moving("flow", "speed"), func(x *truth) {
			if x.process.name == "flow" {
				by(0.1)(x)
			}
		})
		p.Type = codec.TypeUint16
		return t.is(p)
	}},
	{name: "binary read as BCD", code: diagnose.TypeDiffers, rest: "many numbers have no digit above 9", make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, t.moving("flow", "speed"), func(x *truth) {
			if x.process.name == "flow" {
				by(0.1)(x)
			}
		})
		p.Type = codec.TypeBCD16
		return t.is(p)
	}},
	{name: "factor missing", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		f := []float64{0.1, 0.01, 0.001}[t.rng.IntN(3)]
		p := t.needs(codec.TypeInt16, map[float64]string{0.1: t.moving("acidity", "temperature", "current"), 0.01: t.moving("acidity", "frequency", "pressure"), 0.001: "level"}[f], func(x *truth) { by(f)(x); ranged(x) })
		p.Scaling = scaling.Scaling{}
		return t.is(p)
	}},
	{name: "factor twice", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving("acidity", "frequency", "voltage"), ranged)
		f := []float64{0.1, 0.01}[t.rng.IntN(2)]
		p.Scaling = scaling.Scaling{Factor: &f}
		return t.is(p)
	}, why: "small values are within most ranges"},
	{name: "kelvin for degrees Celsius", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, "temperature", func(x *truth) { o := -273.15; x.Scaling = scaling.Scaling{Offset: &o} })
		p.Scaling = scaling.Scaling{}
		return t.is(p)
	}, why: "without a range, a furnace is as likely"},
	{name: "an offset missing", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, "outside", func(x *truth) { f, o := 0.1, -40.0; x.Scaling = scaling.Scaling{Factor: &f, Offset: &o}; ranged(x) })
		f := 0.1
		p.Scaling = scaling.Scaling{Factor: &f}
		return t.is(p)
	}, why: "half of the values are those of a warm day"},
	{name: "another raw range", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, "position", func(x *truth) {
			raw, eng := [2]float64{0, 27648}, [2]float64{0, 100}
			if t.rng.IntN(2) == 0 {
				raw = [2]float64{0, 32767}
			}
			x.Scaling = scaling.Scaling{Raw: &raw, Eng: &eng}
			x.process.level = 90
			x.process.low = 85
		})
		raw := [][2]float64{{0, 4095}, {0, 10000}, {0, 1000}}[t.rng.IntN(3)]
		p.Scaling.Raw = &raw
		return t.is(p)
	}},
	{name: "no scaling at all", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, "position", func(x *truth) {
			raw, eng := [][2]float64{{0, 27648}, {0, 32767}, {0, 10000}, {0, 4095}}[t.rng.IntN(4)], [2]float64{0, 100}
			x.Scaling = scaling.Scaling{Raw: &raw, Eng: &eng}
			x.process.level, x.process.low = 92, 80
		})
		p.Scaling = scaling.Scaling{}
		return t.is(p)
	}, why: "raw ranges that are alike give values that are alike"},
	{name: "Fahrenheit beside siblings", code: diagnose.ScalingDiffers, make: func(t *trial) bool {
		for range 3 {
			t.needs(codec.TypeFloat32, "room", nil)
		}
		p := t.needs(codec.TypeFloat32, "room", func(x *truth) {
			f, o := 1/1.8, -32/1.8
			x.Scaling = scaling.Scaling{Factor: &f, Offset: &o}
		})
		p.Scaling = scaling.Scaling{}
		return t.is(p)
	}},
	{name: "all addresses one too high", code: diagnose.AddressShifted, make: func(t *trial) bool {
		for i := range t.points {
			t.points[i].Address.Offset++
			t.wrong[t.points[i].Tag] = true
		}
		return true
	}},
	{name: "all addresses one too low", code: diagnose.AddressShifted, make: func(t *trial) bool {
		if t.points[0].Address.Offset == 0 {
			return false
		}
		for i := range t.points {
			t.points[i].Address.Offset--
			t.wrong[t.points[i].Tag] = true
		}
		return true
	}},
	{name: "one address of a pair off", code: diagnose.AddressShifted, rest: "words in the other order look the same", make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		p.Address.Offset += uint16(1 - 2*t.rng.IntN(2))
		return t.is(p)
	}},
	{name: "a block of addresses off", code: diagnose.AddressShifted, make: func(t *trial) bool {
		from := 0
		for range 4 {
			p := t.needs(codec.TypeFloat32, t.moving(), nil)
			if from == 0 {
				from = len(t.points) - 1
			}
			last := t.plant.points[len(t.plant.points)-1]
			if len(t.points)-1 > from { // one after the other
				last.Address.Offset = t.plant.points[len(t.plant.points)-2].Address.Offset + 2
				p.Address = last.Address
			}
		}
		by := uint16(1 - 2*t.rng.IntN(2))
		for i := from; i < len(t.points); i++ {
			t.points[i].Address.Offset += by
			t.wrong[t.points[i].Tag] = true
		}
		return true
	}},
	{name: "64 bits read as 32", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat64, t.moving("flow", "temperature", "speed"), nil)
		p.Type = codec.TypeFloat32
		return t.is(p)
	}, why: "the upper half of 64 bits is a plausible value of 32"},
	{name: "64-bit whole number read as floating-point value", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint64, "energy", by(0.001))
		p.Type = codec.TypeFloat64
		return t.is(p)
	}},
	{name: "32 bits with sign read without", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeInt32, "outside", func(x *truth) { by(0.001)(x); x.process.level = -3 + 2*t.rng.Float64() })
		p.Type = codec.TypeUint32
		return t.is(p)
	}},
	{name: "BCD of 32 bits read as binary", code: diagnose.TypeDiffers, rest: "what tells it is how the digits go on", make: func(t *trial) bool {
		p := t.needs(codec.TypeBCD32, "flow", by(0.01))
		p.Type = codec.TypeUint32
		return t.is(p)
	}},
	{name: "a text read as number", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, "status", func(x *truth) { x.Unit = "" })
		text := []string{"PUMP 2 NORTH", "FLOWMETER", "rev 4.1 gate", "Tank level A"}[t.rng.IntN(4)]
		at, i := int(p.Address.Offset), len(t.points)-1
		t.needs(codec.TypeFloat32, "level", nil) // behind the text, so that all of it is read
		t.points[i+1].Address.Offset = uint16(at + 8)
		t.plant.points[i+1].Address = t.points[i+1].Address
		p = &t.points[i]
		t.spoil = append(t.spoil, func(int) {
			for i := 0; i < len(text); i += 2 {
				w := uint16(text[i]) << 8
				if i+1 < len(text) {
					w |= uint16(text[i+1])
				}
				t.words[at+i/2] = w
			}
		})
		t.device = true
		return t.is(p)
	}},
	{name: "two registers too far", code: diagnose.AddressShifted, make: func(t *trial) bool {
		for i := range t.points {
			t.points[i].Address.Offset += 2
			t.wrong[t.points[i].Tag] = true
		}
		return true
	}},
	{name: "an address copied and not changed", code: diagnose.AddressDoubled, make: func(t *trial) bool {
		t.needs(codec.TypeFloat32, "flow", nil)
		p := t.needs(codec.TypeFloat32, "flow", nil)
		p.Address = t.points[len(t.points)-2].Address
		t.device = true
		return t.is(p)
	}},
	{name: "a failed sensor: an end of the type", code: diagnose.EndOfType, make: func(t *trial) bool {
		p := t.needs(codec.TypeInt16, t.moving("temperature", "level"), by([]float64{0.1, 0.01}[t.rng.IntN(2)]))
		words, err := p.Layout(t.station).Encode(codec.IntValue([]int64{-32768, 32767}[t.rng.IntN(2)]))
		if err != nil {
			panic(err)
		}
		at := int(p.Address.Offset)
		t.spoil = append(t.spoil, func(int) { t.words[at] = words[0] })
		t.device = true
		return t.is(p)
	}},
	{name: "a failed sensor: not a number", code: diagnose.NoNumber, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		at, none := int(p.Address.Offset), map[codec.Order][2]uint16{codec.ABCD: {0x7FC0, 0}, codec.CDAB: {0, 0x7FC0}, codec.BADC: {0xC07F, 0}, codec.DCBA: {0, 0xC07F}}[t.station.Order]
		t.spoil = append(t.spoil, func(int) { t.words[at], t.words[at+1] = none[0], none[1] })
		t.device = true
		return t.is(p)
	}},
	{name: "an address of another point", code: diagnose.AddressDoubled, make: func(t *trial) bool {
		t.needs(codec.TypeFloat32, t.moving("pressure", "level"), nil)
		p := t.needs(codec.TypeFloat32, t.moving("power", "temperature"), nil)
		p.Address = t.points[len(t.points)-2].Address
		t.device = true
		t.wrong[t.points[len(t.points)-2].Tag] = true
		return t.is(p)
	}},
	{name: "a sensor that never moves beside others that do", code: diagnose.ValueStands, slow: true, rest: "none moves", make: func(t *trial) bool {
		for range 4 {
			t.needs(codec.TypeFloat32, "temperature", nil)
		}
		p := t.needs(codec.TypeFloat32, "temperature", nil)
		at := int(p.Address.Offset)
		var then [2]uint16
		t.spoil = append(t.spoil, func(second int) {
			if second == 1 {
				then = [2]uint16{t.words[at], t.words[at+1]}
			}
			t.words[at], t.words[at+1] = then[0], then[1]
		})
		t.device = true
		return t.is(p)
	}},
	{name: "a value that froze", code: diagnose.ValueFrozen, slow: true, rest: "none moves", make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving("temperature", "pressure", "level"), nil)
		at := int(p.Address.Offset)
		var then [2]uint16
		t.spoil = append(t.spoil, func(second int) {
			if second == 100 {
				then = [2]uint16{t.words[at], t.words[at+1]}
			}
			if second >= 100 {
				t.words[at], t.words[at+1] = then[0], then[1]
			}
		})
		t.device = true
		return t.is(p)
	}},
	{name: "a counter that was reset", code: diagnose.CounterFellBack, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint32, "energy", by(0.001))
		x := t.plant.points[len(t.plant.points)-1]
		t.spoil = append(t.spoil, func(second int) {
			if second == 18 {
				x.process.level = 0
			}
		})
		t.device = true
		return t.is(p)
	}},
	{name: "a clock as a value", code: diagnose.ClockAsValue, slow: true, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint32, "flow", plainly)
		at, began := int(p.Address.Offset), uint32(1_700_000+t.rng.IntN(1_000_000))
		t.spoil = append(t.spoil, func(second int) {
			words, err := p.Layout(t.station).Encode(codec.UintValue(uint64(began) + uint64(second)))
			if err != nil {
				panic(err)
			}
			t.words[at], t.words[at+1] = words[0], words[1]
		})
		t.device = true
		return t.is(p)
	}},
	{name: "sign and magnitude", code: diagnose.TypeDiffers, make: func(t *trial) bool {
		p := t.needs(codec.TypeInt16, "outside", by(0.1))
		swing, period, crosses := 8+20*t.rng.Float64(), 60+100*t.rng.Float64(), 6+t.rng.IntN(12)
		t.spoil = append(t.spoil, func(second int) { // about zero
			raw := math.Round(swing * math.Sin(2*math.Pi*float64(second-crosses)/period))
			if raw < 0 {
				raw = -32768 - raw
			}
			t.poke(p, raw)
		})
		t.device = true
		return t.is(p)
	}},
	{name: "bits counted from the other end", code: diagnose.BitsTurned, make: func(t *trial) bool { return t.bits(func(bit int) int { return 15 - bit }) }},
	{name: "bits of the other byte", code: diagnose.BitsTurned, make: func(t *trial) bool { return t.bits(func(bit int) int { return bit ^ 8 }) }},
	{name: "two points at one sensor", code: diagnose.MovesAlike, rest: "none moves", make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving(), nil)
		from, name := int(p.Address.Offset), strings.TrimPrefix(strings.Split(p.Tag, "-")[0], "area/")
		p = t.needs(codec.TypeFloat32, name, nil)
		at := int(p.Address.Offset)
		t.spoil = append(t.spoil, func(int) { t.words[at], t.words[at+1] = t.words[from], t.words[from+1] })
		t.device = true
		return t.is(p)
	}},
	{name: "a value beyond its range", code: diagnose.ValueSaturated, slow: true, make: func(t *trial) bool {
		p := t.needs(codec.TypeUint16, t.moving("level", "pressure", "flow"), func(x *truth) {
			raw, eng := [2]float64{0, 27648}, x.process.span
			x.Scaling = scaling.Scaling{Raw: &raw, Eng: &eng}
		})
		t.spoil = append(t.spoil, func(second int) {
			if second > 60 {
				t.poke(p, 27648)
			}
		})
		t.device = true
		return t.is(p)
	}},
	{name: "a broken wire under a live zero", code: diagnose.BelowLiveZero, make: func(t *trial) bool {
		p := t.needs(codec.TypeInt16, t.moving("level", "pressure", "flow", "temperature"), func(x *truth) {
			raw, eng := [][2]float64{{4000, 20000}, {5530, 27648}, {819, 4095}}[t.rng.IntN(3)], x.process.span
			x.Scaling = scaling.Scaling{Raw: &raw, Eng: &eng}
		})
		t.spoil = append(t.spoil, func(int) { t.poke(p, float64(t.rng.IntN(20))) })
		t.device = true
		return t.is(p)
	}},
	{name: "single readings that are far out", code: diagnose.ValueSpikes, slow: true, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving("temperature", "level", "pressure", "acidity"), ranged)
		every := 9 + t.rng.IntN(14)
		t.spoil = append(t.spoil, func(second int) {
			if second%every == 0 {
				t.poke(p, []float64{-9e5, 5e4, 1.5e6}[second%3])
			}
		})
		t.device = true
		return t.is(p)
	}},
	{name: "words that change places", code: diagnose.WordOrder, make: func(t *trial) bool {
		p := t.needs(codec.TypeFloat32, t.moving("temperature", "flow"), nil)
		at := int(p.Address.Offset)
		t.spoil = append(t.spoil, func(second int) {
			if second%5 > 2 {
				t.words[at], t.words[at+1] = t.words[at+1], t.words[at]
			}
		})
		t.device = true
		return t.is(p)
	}},
}

// tellable reports whether a mistake can be told on a device of a manner.
func (m mistake) tellable(on manner) bool { return m.why == "" && (m.rest == "" || on != resting) }

// newTrial makes a plant with a mistake; a kind of -1 has none.
func newTrial(seed uint64, kind int, m manner) *trial {
	for ; ; seed += 1 << 40 {
		rng := rand.New(rand.NewPCG(seed, uint64(kind+1)))
		p := newPlant(rng, m)
		t := &trial{plant: p, set: p.station, wrong: map[string]bool{}}
		for _, x := range p.points {
			t.points = append(t.points, x.Point)
		}
		if kind < 0 {
			return t
		}
		t.code = mistakes[kind].code
		if mistakes[kind].make(t) {
			return t
		}
	}
}
