package main

import (
	"fmt"
	"math"
	"math/rand/v2"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// kindOf is a kind of quantity in a plant: how large it is, and how it moves.
type quantity struct {
	name        string
	unit        string
	low, high   float64 // where it is at rest
	noise       float64 // of its value, from moment to moment
	drift       float64 // of its range a second
	steps       bool    // it is set by somebody, and rests
	total       bool    // it counts up
	rate        float64 // of a total, a second
	span        [2]float64
	wholeNumber bool
}

var quantities = []quantity{
	{name: "temperature", unit: "°C", low: 4, high: 85, noise: 0.002, drift: 0.0008, span: [2]float64{-20, 120}},
	{name: "outside", unit: "°C", low: -6, high: 9, noise: 0.01, drift: 0.002, span: [2]float64{-30, 50}},
	{name: "room", unit: "°C", low: 18, high: 24, noise: 0.002, drift: 0.001, span: [2]float64{0, 50}},
	{name: "pressure", unit: "bar", low: 1.5, high: 9, noise: 0.006, drift: 0.002, span: [2]float64{0, 16}},
	{name: "flow", unit: "m³/h", low: 20, high: 380, noise: 0.012, drift: 0.004, span: [2]float64{0, 500}},
	{name: "level", unit: "m", low: 0.4, high: 3.6, noise: 0.002, drift: 0.001, span: [2]float64{0, 5}},
	{name: "acidity", unit: "pH", low: 6.2, high: 8.4, noise: 0.002, drift: 0.0005, span: [2]float64{0, 14}},
	{name: "position", unit: "%", low: 5, high: 95, noise: 0.0005, drift: 0.006, span: [2]float64{0, 100}},
	{name: "current", unit: "A", low: 8, high: 70, noise: 0.012, drift: 0.003, span: [2]float64{0, 100}},
	{name: "power", unit: "kW", low: 5, high: 180, noise: 0.01, drift: 0.003, span: [2]float64{0, 250}},
	{name: "voltage", unit: "V", low: 226, high: 236, noise: 0.001, drift: 0.0005, span: [2]float64{0, 300}},
	{name: "frequency", unit: "Hz", low: 49.96, high: 50.04, noise: 0.0001, drift: 0.0003, span: [2]float64{45, 55}},
	{name: "speed", unit: "rpm", low: 700, high: 1480, noise: 0.002, drift: 0.004, span: [2]float64{0, 1500}},
	{name: "conductivity", unit: "µS/cm", low: 200, high: 900, noise: 0.002, drift: 0.001, span: [2]float64{0, 2000}},
	{name: "energy", unit: "kWh", low: 3000, high: 4000000, total: true, rate: 0.05},
	{name: "volume", unit: "m³", low: 2000, high: 3000000, total: true, rate: 0.1},
	{name: "hours", unit: "h", low: 100, high: 60000, total: true, rate: 1.0 / 3600},
	{name: "setpoint", unit: "bar", low: 2, high: 8, steps: true, span: [2]float64{0, 16}},
	{name: "status", low: 0, high: 15, steps: true, wholeNumber: true},
	{name: "analog", low: 100, high: 4000, noise: 0.006, drift: 0.002, wholeNumber: true},
}

// process is a quantity of a plant as it goes.
type process struct {
	quantity
	rng   *rand.Rand
	level float64 // where it is without noise
	slope float64
	left  int // seconds with that slope
	noise float64
	event *event // what goes on, in a day
	swing swing
}

// manner is what a device is like beside its quantities.
type manner int

// The manners of devices.
const (
	varied  manner = iota // gaps between registers, values that drift and rest
	lively                // one register after the other, values that swing all the time
	resting               // likewise, values that stand but for what counts up
	manners
)

var mannerNames = [manners]string{"varied", "lively", "resting"}

// swing is by how much a value of a lively device goes up and down.
type swing struct{ size, period, phase float64 }

// event is something that a plant goes through, and is healthy.
type event struct {
	kind happening
	left int // seconds
	was  float64
}

type happening int

// What plants go through.
const (
	stopped    happening = iota // nothing flows, turns or draws current
	gusty                       // it moves by much more than usual
	dosed                       // something comes in pulses
	calibrated                  // somebody works on the sensor: it stands, goes to its ends, and comes back
)

// happen lets something begin at times, in a simulated day.
func (p *process) happen() {
	if p.event == nil && !p.total && !p.steps && p.rng.IntN(2*3600) == 0 {
		p.event = &event{happening(p.rng.IntN(4)), 60 + p.rng.IntN(1800), p.level}
	}
}

func (p *plant) newProcess(q quantity) *process {
	x := newProcess(q, p.rng)
	switch p.manner {
	case lively:
		x.drift, x.swing = 0, swing{(q.high - q.low) * (0.02 + 0.1*p.rng.Float64()), 20 + 80*p.rng.Float64(), 2 * math.Pi * p.rng.Float64()}
	case resting:
		x.drift, x.noise = 0, 0
	}
	return x
}

func newProcess(q quantity, rng *rand.Rand) *process {
	p := &process{quantity: q, rng: rng}
	p.level = q.low + rng.Float64()*(q.high-q.low)
	if q.total {
		p.level = math.Exp(math.Log(q.low) + rng.Float64()*(math.Log(q.high)-math.Log(q.low)))
		p.rate = q.rate * (0.3 + 2*rng.Float64())
	}
	if q.wholeNumber && q.steps {
		p.level = math.Floor(p.level)
	}
	p.noise = q.noise * (0.5 + rng.Float64())
	return p
}

// next is its value a second on.
func (p *process) next() float64 {
	switch {
	case p.total:
		p.level += p.rate * (0.8 + 0.4*p.rng.Float64())
		return p.level
	case p.steps:
		if p.rng.IntN(300) == 0 {
			p.level = p.low + p.rng.Float64()*(p.high-p.low)
			if p.wholeNumber {
				p.level = math.Floor(p.level)
			}
		}
		return p.level
	}
	if p.left--; p.left < 0 {
		p.left = 5 + p.rng.IntN(60)
		p.slope = p.drift * (p.high - p.low) * p.rng.NormFloat64()
	}
	p.level += p.slope
	if p.swing.size != 0 {
		p.swing.phase += 2 * math.Pi / p.swing.period
	}
	if p.level < p.low || p.level > p.high {
		p.slope, p.level = -p.slope, min(max(p.level, p.low), p.high)
	}
	size := max(math.Abs(p.level), 0.02*(p.high-p.low))
	if e := p.event; e != nil {
		if e.left--; e.left <= 0 {
			p.event = nil
		}
		switch rests := map[string]bool{"flow": true, "current": true, "power": true, "speed": true, "pressure": true}[p.name]; {
		case e.kind == stopped && rests:
			if e.was *= 0.8; e.was < 0.001*p.low {
				return 0
			}
			return e.was
		case e.kind == gusty:
			return p.level + 6*p.noise*size*p.rng.NormFloat64()
		case e.kind == dosed && rests && e.left%20 < 5:
			return p.high * (1 + 0.02*p.rng.NormFloat64())
		case e.kind == calibrated && p.span[1] != 0:
			return p.span[0] + (p.span[1]-p.span[0])*(float64(e.left/60%3)/2+0.0002*p.rng.NormFloat64()) // no calibrator is quite still
		}
	}
	return p.level + p.swing.size*math.Sin(p.swing.phase) + p.noise*size*p.rng.NormFloat64()
}

// truth is a point as the device has it: its right description, and how it goes.
type truth struct {
	site.Point
	process *process
	value   float64
}

// plant is a device with its points, right as they are.
type plant struct {
	rng     *rand.Rand
	manner  manner
	station site.Station
	points  []*truth
	words   map[int]uint16 // holding registers
	hidden  []*truth       // what the device has besides, and nobody describes
	second  int
	spoil   []func(second int) // what fails in the device
}

// newPlant makes a device at random.
func newPlant(rng *rand.Rand, m manner) *plant {
	p := &plant{rng: rng, manner: m, station: site.NewStation(), words: map[int]uint16{}}
	p.station.Name, p.station.Link, p.station.Unit = "device", "line", 1
	p.station.Order = codec.Orders[[]int{0, 0, 0, 1, 1, 2, 3}[rng.IntN(7)]]
	at := rng.IntN(200)
	for i := range 6 + rng.IntN(9) {
		q := quantities[rng.IntN(len(quantities))]
		at += p.gap()
		t := p.describe(q, i, at)
		at += t.Layout(p.station).Words()
		if m == varied && p.rng.IntN(4) == 0 {
			p.hidden = append(p.hidden, t)
		} else {
			p.points = append(p.points, t)
		}
	}
	if len(p.points) == 0 {
		return newPlant(rng, m)
	}
	return p
}

// gap leaves registers that nobody describes before a point, at times.
func (p *plant) gap() int {
	if p.manner != varied || p.rng.IntN(3) > 0 {
		return 0
	}
	return 1 + p.rng.IntN(4)
}

// describe makes a point of a quantity at a register.
func (p *plant) describe(q quantity, i, at int) *truth {
	t := &truth{process: p.newProcess(q)}
	t.Tag, t.Station, t.Address = fmt.Sprintf("area/%s%d", q.name, i+1), p.station.Name, site.Address{Space: site.HoldingRegisters, Offset: uint16(at)}
	t.Unit = q.unit
	factor := func(f float64) {
		if f != 1 {
			t.Scaling = scaling.Scaling{Factor: &f}
		}
	}
	switch choice := p.rng.IntN(10); {
	case q.total:
		t.Type = []codec.Type{codec.TypeUint32, codec.TypeUint32, codec.TypeFloat32, codec.TypeUint64, codec.TypeFloat64}[p.rng.IntN(5)]
		if t.Type == codec.TypeUint32 || t.Type == codec.TypeUint64 {
			factor([]float64{1, 0.1, 0.01}[p.rng.IntN(3)])
		}
	case q.wholeNumber:
		t.Type = codec.TypeUint16
	case choice < 5:
		t.Type = codec.TypeFloat32
	case choice < 8 || q.span[1] == 0:
		t.Type = codec.TypeInt16
		for _, f := range []float64{1, 0.1, 0.01, 0.001} { // as fine as fits
			if q.span[1]/f < 30000 && q.span[1]/f >= 400 {
				factor(f)
				break
			}
		}
	case choice < 9:
		t.Type = codec.TypeInt16
		raw, eng := [][2]float64{{0, 27648}, {0, 32767}, {0, 10000}, {0, 4095}}[p.rng.IntN(4)], q.span
		t.Scaling = scaling.Scaling{Raw: &raw, Eng: &eng}
	default:
		t.Type = codec.TypeInt32
		factor(0.001)
	}
	if q.span[1] != 0 && p.rng.IntN(2) == 0 {
		r := q.span
		t.Range = &r
	}
	return t
}

// tick lets a second pass and puts what is so then into the registers.
func (p *plant) tick() {
	p.second++
	for _, t := range p.points {
		t.value = t.process.next()
		p.put(t, t.value)
	}
	for _, t := range p.hidden {
		p.put(t, t.process.next())
	}
	for _, f := range p.spoil {
		f(p.second)
	}
}

// put encodes a value as the device does.
func (p *plant) put(t *truth, value float64) {
	raw := value
	if f, err := t.Scaling.Compile(); err == nil && !f.IsZero() {
		raw, _ = f.Inverse(value)
	}
	v := codec.FloatValue(raw)
	if t.Type != codec.TypeFloat32 && t.Type != codec.TypeFloat64 {
		v = codec.IntValue(int64(math.Round(raw)))
	}
	words, err := t.Layout(p.station).Encode(v)
	if err != nil {
		return // it stays where it was
	}
	for i, w := range words {
		at := int(t.Address.Offset) + i
		if l := t.Layout(p.station); l.Partial() {
			w |= p.words[at] &^ l.Mask()
		}
		p.words[at] = w
	}
}

// aDay lets a healthy plant run for a simulated day, and gives what was said of it first, and when.
func aDay(seed uint64, m manner) (second int, list []diagnose.Finding) {
	t := newTrial(seed, -1, m)
	w := newWatcher(t.set, t.points)
	for second = range 24 * 3600 {
		for _, x := range t.plant.points {
			if m != resting { // whose values hold still by themselves
				x.process.happen()
			}
		}
		t.tick()
		w.see(t.words)
		if second%20 == 19 || second < 120 && second%weighEvery == weighEvery-1 {
			if list, _ := w.findings(); len(list) > 0 {
				return second, list
			}
		}
	}
	return second, nil
}
