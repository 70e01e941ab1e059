package alarm

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"sort"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
)

// seen is what was read in one second.
type seen struct {
	good bool // otherwise bad
	v    float64
}

// stands says, from all that was read second by second, whether a limit stands in the end: written down anew, as the guide says it.
func stands(of []seen, high, deadband float64, delay int) bool {
	standing, inside, since := false, true, -1
	for i, s := range of {
		standing = standing || since >= 0 && i-since >= delay // that it has lasted is known without another reading
		if !s.good {
			since = -1 // it has to be out on end
			continue
		}
		bound := high
		if !inside {
			bound -= deadband
		}
		if s.v > bound {
			inside = false
			if since < 0 {
				since = i
			}
		} else {
			inside, since, standing = true, -1, false
		}
		if since >= 0 && i-since >= delay {
			standing = true
		}
	}
	return standing
}

// Whatever is read, and however often the service is started again in between, an alarm stands when its limit is exceeded, has been for long
// enough, and not otherwise; and somebody who has acknowledged it is not asked again.
func TestTrialOfAlarms(t *testing.T) {
	rounds, seed := 6, uint64(time.Now().UnixNano())
	if text := os.Getenv("ARITHMON_TRIAL"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
		rounds, seed = 1, n
	}
	for round := range rounds {
		t.Run(fmt.Sprint(seed+uint64(round)), func(t *testing.T) { trial(t, rand.New(rand.NewPCG(seed+uint64(round), 3))) })
	}
}

func trial(t *testing.T, random *rand.Rand) {
	type limited struct {
		tag            string
		high, deadband float64
		delay          int
		read           []seen
		acked          bool
	}
	var all []*limited
	var points []site.Point
	for i := range 5 {
		x := &limited{tag: fmt.Sprintf("p%d", i), high: float64(random.IntN(10)), deadband: float64(random.IntN(4)), delay: random.IntN(4)}
		all = append(all, x)
		points = append(points, site.Point{Tag: x.tag, Type: codec.TypeFloat32, Limits: &site.Limits{High: &x.high, Deadband: x.deadband, Delay: site.Duration(time.Duration(x.delay) * time.Second)}})
	}
	p := newPlant(t, points...)
	for step := range 150 {
		p.pass(time.Second)
		for _, x := range all {
			s := seen{good: random.IntN(8) > 0, v: math.Round(random.Float64()*20) / 2}
			if n := len(x.read); n > 0 && random.IntN(2) == 0 {
				s.v = x.read[n-1].v // things do not jump all the time
			}
			x.read = append(x.read, s)
			slot := p.table.Get(x.tag)
			if s.good {
				p.table.Emit([]table.Sample{{Slot: slot, Value: codec.FloatValue(s.v), Quality: reading.Good, Time: p.clock()}})
			} else {
				slot.Bad(reading.Timeout, p.clock())
			}
		}
		p.take()
		var want, got []string
		for _, x := range all {
			if stands(x.read, x.high, x.deadband, x.delay) {
				want = append(want, x.tag)
			} else {
				x.acked = false
			}
		}
		for _, a := range p.List(func(a *alarm.Alarm) bool { return a.Limit == site.High && a.State != alarm.Gone }) {
			got = append(got, a.Tag)
			for _, x := range all {
				if x.tag == a.Tag && x.acked {
					require.Equal(t, alarm.Acknowledged, a.State, "%s was acknowledged, step %d", a.Tag, step)
				}
			}
		}
		sort.Strings(got)
		require.Equal(t, strings.Join(want, " "), strings.Join(got, " "), "step %d", step)
		switch random.IntN(12) {
		case 0:
			_, err := p.Acknowledge(t.Context(), func(*alarm.Alarm) bool { return true }, "ann", "")
			require.NoError(t, err)
			for _, x := range all {
				x.acked = stands(x.read, x.high, x.deadband, x.delay)
			}
		case 1:
			p.again()
			for _, x := range all { // what was out and had not lasted begins anew; what stood goes on
				if !stands(x.read, x.high, x.deadband, x.delay) {
					x.read = nil
				}
			}
		}
	}
}
