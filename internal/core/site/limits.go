package site

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
)

// Limits are the bounds of a point. While it is beyond one of them, there is an alarm (ISA-18.2). Those of numbers are in the unit of the
// point; a point with two states, or with names for its numbers, has the state that counts.
type Limits struct {
	LowLow   *float64 `json:"low_low,omitempty" doc:"far too low: an alarm below it"`
	Low      *float64 `json:"low,omitempty" doc:"too low: an alarm below it"`
	High     *float64 `json:"high,omitempty" doc:"too high: an alarm above it"`
	HighHigh *float64 `json:"high_high,omitempty" doc:"far too high: an alarm above it"`
	Rate     *float64 `json:"rate,omitempty" doc:"changes too fast: an alarm above so many units a minute, either way"`
	State    *State   `json:"state,omitempty" doc:"the state that counts, of a point with states: its name or its number, true or false"`
	Deadband float64  `json:"deadband,omitempty" doc:"an alarm is gone only when the value is this far inside its limit again"`
	Delay    Duration `json:"delay,omitempty" doc:"an alarm comes only when it has lasted so long, 0s to 24h"`
	Severity int      `json:"severity,omitempty" zero:"no" doc:"1, the most urgent, to 4 (default 3)"`
}

// Whole says that limits are given all together (document.Whole): those that are not named are none any more.
func (*Limits) Whole() {}

// Limit is one of the bounds of a point.
type Limit string

// The limits, and what is an alarm of its own: that a point with limits is bad.
const (
	LowLow     Limit = "low_low"
	Low        Limit = "low"
	High       Limit = "high"
	HighHigh   Limit = "high_high"
	Rate       Limit = "rate"
	InState    Limit = "state"
	BadQuality Limit = "quality"
)

// AllLimits lists them.
func AllLimits() []Limit { return []Limit{LowLow, Low, High, HighHigh, Rate, InState, BadQuality} }

// DefaultSeverity is that of limits that do not say; the most urgent is 1, the least MaxSeverity.
const (
	DefaultSeverity = 3
	MaxSeverity     = 4
)

// Weight is the severity, DefaultSeverity where it is not said.
func (l Limits) Weight() int { return cmp.Or(l.Severity, DefaultSeverity) }

// bounds lists the limits of the value that there are, from the lowest on.
func (l Limits) bounds() (names []Limit, at []float64) {
	for i, b := range []*float64{l.LowLow, l.Low, l.High, l.HighHigh} {
		if b != nil {
			names, at = append(names, AllLimits()[i]), append(at, *b)
		}
	}
	return names, at
}

func (p Point) validateLimits(f *faults) {
	l := p.Limits
	if l == nil {
		return
	}
	names, at := l.bounds()
	if len(names) == 0 && l.Rate == nil && l.State == nil {
		f.add("limits", "", "there is none; give at least one of low_low, low, high, high_high, rate and state")
	}
	for i, b := range at {
		if !(math.Abs(b) <= MaxRange) {
			f.add("limits."+string(names[i]), b, "is a number within ±%g", MaxRange)
		} else if i > 0 && !(at[i-1] < b) {
			f.add("limits."+string(names[i]), b, "%g is not above %s, which is %g", b, names[i-1], at[i-1])
		}
	}
	if l.Rate != nil && !(*l.Rate > 0 && *l.Rate <= MaxRange) {
		f.add("limits.rate", *l.Rate, "is a number above 0, in units a minute")
	}
	if !(l.Deadband >= 0 && l.Deadband <= MaxRange) {
		f.add("limits.deadband", l.Deadband, "is a number from 0 on, in the unit of the point")
	} else if i := slices.Index(names, High); i > 0 && names[i-1] == Low && at[i] > at[i-1] && l.Deadband >= at[i]-at[i-1] {
		f.add("limits.deadband", l.Deadband, "%g is as wide as what lies between low and high, so that an alarm would never be gone", l.Deadband)
	}
	f.span("limits.delay", l.Delay, 0, MaxPoll)
	if l.Severity != 0 {
		f.count("limits.severity", l.Severity, 1, MaxSeverity)
	}
	switch {
	case p.Type == codec.TypeString || p.Type == codec.TypeBits:
		f.add("limits", "", "a %s has no limits; remove them", p.Type)
	case p.Type == codec.TypeBool && (len(names) > 0 || l.Rate != nil || l.Deadband != 0):
		f.add("limits", "", "a bool has only the state that counts, and delay and severity: {state: tripped, delay: 2s}")
	case l.State != nil:
		if _, ok := p.stateNumber(*l.State); !ok {
			f.add("limits.state", *l.State, "%q is none of its states: %s", string(*l.State), p.stateNames())
		}
	}
}

// Alarming is the number of the state that counts; false where there is none.
func (p Point) Alarming() (int64, bool) {
	if p.Limits == nil || p.Limits.State == nil {
		return 0, false
	}
	return p.stateNumber(*p.Limits.State)
}

// Wait is how long a limit has to be exceeded before there is an alarm.
func (l Limits) Wait() time.Duration { return time.Duration(l.Delay) }

// State is a state of a point as it is written: its name, or its number.
type State string

// UnmarshalJSON reads a name, a number, true or false.
func (s *State) UnmarshalJSON(b []byte) error {
	var v any
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return err
	}
	switch v.(type) {
	case string, json.Number, bool:
		*s = State(fmt.Sprint(v))
		return nil
	}
	return fmt.Errorf("%s is no state: its name, its number, true or false", bytes.TrimSpace(b))
}

// stateNumber is the number of a state of the point.
func (p Point) stateNumber(s State) (int64, bool) {
	if n, ok := p.Conversion().states.Find(string(s)); ok {
		return n, true
	}
	n, err := strconv.ParseInt(string(s), 0, 64)
	if p.Type == codec.TypeBool {
		if on, is := map[State]int64{"true": 1, "false": 0}[State(strings.ToLower(string(s)))]; is {
			return on, true
		}
		return n, err == nil && (n == 0 || n == 1)
	}
	return n, err == nil
}

// stateNames lists the states of the point for a message.
func (p Point) stateNames() string {
	if names := p.Conversion().states.Names(); len(names) > 0 {
		return strings.Join(names, ", ")
	}
	if p.Type == codec.TypeBool {
		return "true, false"
	}
	return "its whole numbers"
}
