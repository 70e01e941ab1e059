package rig

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
)

// SignalKind is how a signal moves.
type SignalKind string

// The kinds of signal.
const (
	Constant SignalKind = "constant" // value
	Ramp     SignalKind = "ramp"     // from min to max in a period, then again
	Sine     SignalKind = "sine"     // between min and max, once a period
	Steps    SignalKind = "steps"    // the values in turn, each for period
	Counter  SignalKind = "counter"  // rises by the sum of its inputs, or value, a second; wraps at max
	Walk     SignalKind = "walk"     // a random step of at most value a second, between min and max
	Sum      SignalKind = "sum"      // value plus each input times its weight, held between min and max
	Lag      SignalKind = "lag"      // follows the sum of its inputs with a time constant of period
	Travel   SignalKind = "travel"   // moves towards the sum of its inputs at value a second, between min and max
	Switch   SignalKind = "switch"   // 1 from when the sum of its inputs passes max until it passes min, else 0
	Input    SignalKind = "input"    // what a client wrote to a coil or holding register
)

// Signal is a number that moves, alone or as others do. Which fields matter is said by its kind.
type Signal struct {
	Kind   SignalKind         `json:"kind"`
	Value  float64            `json:"value"`
	Min    *float64           `json:"min"`
	Max    *float64           `json:"max"`
	Period site.Duration      `json:"period"`
	Values []float64          `json:"values"`
	Of     map[string]float64 `json:"of"` // inputs with their weights
	Start  float64            `json:"start"`
	Line   string             `json:"line"` // input: where it is written
	Unit   int                `json:"unit"`
	At     site.Address       `json:"at"`
}

func (s Signal) validate(all map[string]Signal) error {
	kinds := []SignalKind{Constant, Ramp, Sine, Steps, Counter, Walk, Sum, Lag, Travel, Switch, Input}
	if !slices.Contains(kinds, s.Kind) {
		return fmt.Errorf("kind %q is not known; choose one of %s", s.Kind, strings.Trim(fmt.Sprint(kinds), "[]"))
	}
	bounded := s.Kind == Ramp || s.Kind == Sine || s.Kind == Walk || s.Kind == Switch
	if bounded && (s.Min == nil || s.Max == nil) {
		return fmt.Errorf("a %s needs min and max", s.Kind)
	}
	if (s.Kind == Ramp || s.Kind == Sine || s.Kind == Steps || s.Kind == Lag) && s.Period <= 0 {
		return fmt.Errorf("a %s needs a period", s.Kind)
	}
	if s.Kind == Steps && len(s.Values) == 0 {
		return fmt.Errorf("steps need values")
	}
	for name := range s.Of {
		if _, known := all[name]; !known {
			return fmt.Errorf("of: there is no signal %q%s", name, nearest.Hint(name, slices.Sorted(maps.Keys(all))))
		}
	}
	return nil
}

// remembers reports whether the signal's inputs act on it a step later, so that it may depend on itself.
func (s Signal) remembers() bool { return s.Kind == Counter || s.Kind == Lag || s.Kind == Travel }

// order lists the signals so that each comes after those it takes within the same step.
func order(all map[string]Signal) ([]string, error) {
	var list []string
	state := map[string]int{} // 1: being placed, 2: placed
	var place func(name string) error
	place = func(name string) error {
		switch state[name] {
		case 1:
			return fmt.Errorf("%s depends on itself; put a lag, travel or counter into the circle", name)
		case 2:
			return nil
		}
		state[name] = 1
		if s := all[name]; !s.remembers() {
			for _, input := range slices.Sorted(maps.Keys(s.Of)) {
				if err := place(input); err != nil {
					return err
				}
			}
		}
		state[name] = 2
		list = append(list, name)
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if err := place(name); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// world is all signals at one moment.
type world struct {
	signals map[string]Signal
	order   []string
	now     map[string]float64
	seconds float64
	random  *rand.Rand
	read    func(Signal) float64 // what was written where an input says
}

func newWorld(signals map[string]Signal, seed int64, read func(Signal) float64) (*world, error) {
	names, err := order(signals)
	if err != nil {
		return nil, err
	}
	w := &world{signals: signals, order: names, now: map[string]float64{}, random: rand.New(rand.NewPCG(uint64(seed), 1)), read: read}
	for _, name := range names {
		s := signals[name]
		w.now[name] = s.Start
		if !s.remembers() && s.Kind != Walk {
			w.now[name] = w.next(s, s.Start, 0)
		}
	}
	return w, nil
}

// step moves all signals on by dt seconds.
func (w *world) step(dt float64) {
	w.seconds = math.Round((w.seconds+dt)*1e6) / 1e6 // so that steps of 0.1 meet whole seconds
	for _, name := range w.order {
		w.now[name] = w.next(w.signals[name], w.now[name], dt)
	}
}

// next is the value of a signal after was and dt seconds.
func (w *world) next(s Signal, was, dt float64) float64 {
	input := 0.0
	for _, name := range slices.Sorted(maps.Keys(s.Of)) {
		input += w.now[name] * s.Of[name]
	}
	lo, hi := math.Inf(-1), math.Inf(1)
	if s.Min != nil {
		lo = *s.Min
	}
	if s.Max != nil {
		hi = *s.Max
	}
	hold := func(v float64) float64 { return min(max(v, lo), hi) }
	period := float64(s.Period) / 1e9
	switch s.Kind {
	case Ramp:
		return lo + (hi-lo)*math.Mod(w.seconds, period)/period
	case Sine:
		return (lo+hi)/2 + (hi-lo)/2*math.Sin(2*math.Pi*w.seconds/period)
	case Steps:
		return s.Values[int(w.seconds/period)%len(s.Values)]
	case Counter:
		v := was + (s.Value+input)*dt
		if v >= hi {
			v -= hi
		}
		return v
	case Walk:
		return hold(was + (2*w.random.Float64()-1)*s.Value*dt)
	case Sum:
		return hold(s.Value + input)
	case Lag:
		return was + (input-was)*(1-math.Exp(-dt/period))
	case Travel:
		return hold(was + min(max(input-was, -s.Value*dt), s.Value*dt))
	case Switch:
		if input > hi || was == 1 && input > lo {
			return 1
		}
		return 0
	case Input:
		return w.read(s)
	}
	return s.Value
}
