package alarm

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

func at(f float64) *float64 { return &f }

// Each line is a reading at a second, and what the limit says then: out, within or unknown (?).
func TestLimits(t *testing.T) {
	state := site.State("tripped")
	good := func(v float64) Seen { return Seen{Value: codec.FloatValue(v), Quality: reading.Good, Rate: math.NaN()} }
	rate := func(r float64) Seen { s := good(1); s.Rate = r; return s }
	bad := Seen{Quality: reading.Bad, Reason: reading.Timeout}
	uncertain := good(99)
	uncertain.Quality = reading.Uncertain
	const second = site.Duration(time.Second)
	for _, c := range []struct {
		name   string
		point  site.Point
		limit  site.Limit
		seen   []Seen
		wanted string
	}{
		{"too high", site.Point{Limits: &site.Limits{High: at(10)}}, site.High, []Seen{good(9), good(10), good(10.1), good(10), good(9)}, "in in out in in"},
		{"too high, with a deadband", site.Point{Limits: &site.Limits{High: at(10), Deadband: 2}}, site.High, []Seen{good(9), good(11), good(9), good(8.1), good(8), good(9)}, "in out out out in in"},
		{"too low, with a deadband", site.Point{Limits: &site.Limits{Low: at(10), Deadband: 2}}, site.Low, []Seen{good(11), good(9), good(11), good(12), good(11)}, "in out out in in"},
		{"too high for long enough", site.Point{Limits: &site.Limits{High: at(10), Delay: 2 * second}}, site.High, []Seen{good(11), good(11), good(11), good(9), good(11)}, "? ? out in ?"},
		{"not long enough", site.Point{Limits: &site.Limits{High: at(10), Delay: 2 * second}}, site.High, []Seen{good(11), good(11), good(9), good(11), good(11)}, "? ? in ? ?"},
		{"bad in between, so that it has to last anew", site.Point{Limits: &site.Limits{High: at(10), Delay: 2 * second}}, site.High, []Seen{good(11), good(11), bad, good(11), good(11), good(11)}, "? ? ? ? ? out"},
		{"uncertain values say nothing", site.Point{Limits: &site.Limits{High: at(10)}}, site.High, []Seen{uncertain, good(11), uncertain, bad, good(9)}, "in out ? ? in"},
		{"two limits", site.Point{Limits: &site.Limits{High: at(10), HighHigh: at(20)}}, site.HighHigh, []Seen{good(15), good(21), good(15)}, "in out in"},
		{"too fast", site.Point{Limits: &site.Limits{Rate: at(5)}}, site.Rate, []Seen{good(1), rate(4), rate(6), rate(5)}, "in in out in"},
		{"a state", site.Point{Type: codec.TypeBool, States: site.States{0: "ok", 1: "tripped"}, Limits: &site.Limits{State: &state}}, site.InState, []Seen{
			{Value: codec.BoolValue(false), Quality: reading.Good}, {Value: codec.BoolValue(true), Quality: reading.Good}, bad, {Value: codec.BoolValue(false), Quality: reading.Good}}, "in out ? in"},
		{"quality", site.Point{Limits: &site.Limits{High: at(10)}}, site.BadQuality, []Seen{{Reason: reading.NeverRead}, good(1), bad, uncertain, {Reason: reading.Disabled}}, "in in out in in"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var w *Watch
			for _, x := range Watches(&c.point) {
				if x.Limit == c.limit {
					w = x
				}
			}
			now := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)
			var said []string
			for _, s := range c.seen {
				w.Read(s, now)
				switch out, known, _ := w.Out(now); {
				case !known:
					said = append(said, "?")
				case out:
					said = append(said, "out")
				default:
					said = append(said, "in")
				}
				now = now.Add(time.Second)
			}
			assert.Equal(t, c.wanted, strings.Join(said, " "))
		})
	}
}

func TestWhenADelayPasses(t *testing.T) {
	p := site.Point{Limits: &site.Limits{High: at(10), Delay: site.Duration(time.Minute)}}
	w := Watches(&p)[0]
	now := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)
	w.Read(Seen{Value: codec.FloatValue(11), Quality: reading.Good}, now)
	out, _, next := w.Out(now.Add(59 * time.Second))
	assert.False(t, out)
	assert.Equal(t, now.Add(time.Minute), next)
	out, known, _ := w.Out(next)
	assert.True(t, out && known, "without another reading")
}
