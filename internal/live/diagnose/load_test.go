package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"arithmon/internal/core/site"
)

// busy is a station that is asked so many requests every second of poll, each of which takes so long.
func busy(name string, unit, requests int, exchange time.Duration) Station {
	return station(name, unit, func(s *Station) {
		s.Demand, s.Exchange = []Demand{{time.Second, requests}}, exchange
		s.Counts = Counts{Requests: 100, Answers: 100}
		s.Polls, s.LatePolls = 100, 95
	})
}

func TestMoreIsAskedForThanThereIsTimeFor(t *testing.T) {
	f := one(t, link(serial), busy("a", 1, 8, 100*time.Millisecond), busy("b", 2, 12, 100*time.Millisecond))
	assert.Equal(t, PollsLate, f.Code)
	assert.Contains(t, f.Cause.String(), "take 2 times the time there is")
	require.Len(t, f.Next[0].Changes, 2)
	assert.Equal(t, map[string]any{"poll": "5s"}, f.Next[0].Changes[0].Fields)
	// Half of it in a group of its own, which alone is asked too often.
	grouped := busy("a", 1, 0, 100*time.Millisecond)
	grouped.Station.Poll, grouped.Station.PollGroups = site.Duration(time.Minute), map[string]site.Duration{"fast": site.Duration(100 * time.Millisecond), "slow": site.Duration(time.Hour)}
	grouped.Demand = []Demand{{100 * time.Millisecond, 2}, {time.Minute, 4}}
	f = one(t, link(serial), grouped)
	assert.Equal(t, map[string]any{"poll_groups": map[string]any{"fast": "500ms", "slow": "1h"}}, f.Next[0].Changes[0].Fields)
}

func TestWhatIsNoOverload(t *testing.T) {
	for name, edit := range map[string]func(*Link, *Station){
		"there is time":             func(_ *Link, s *Station) { s.Demand[0].Requests = 9 },
		"few were late":             func(_ *Link, s *Station) { s.LatePolls = 40 },
		"it has just begun":         func(_ *Link, s *Station) { s.Polls, s.LatePolls = 10, 10 },
		"timeouts take the time":    func(l *Link, s *Station) { l.Counts.Timeouts = 6 },
		"several connections serve": func(l *Link, s *Station) { l.Link.Connections = 4 },
		"nothing is known of it":    func(_ *Link, s *Station) { s.Exchange = 0 },
	} {
		t.Run(name, func(t *testing.T) {
			l, s := link(nil), busy("a", 1, 20, 100*time.Millisecond)
			edit(&l, &s)
			assert.Empty(t, Find(Evidence{Links: []Link{l}, Stations: []Station{s}}))
		})
	}
}

// Whatever is asked for, the step that is proposed leaves enough time.
func TestTheProposedPeriodsFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var stations []Station
		for i := range rapid.IntRange(1, 6).Draw(t, "stations") {
			s := busy(string(rune('a'+i)), i+1, 0, time.Duration(rapid.IntRange(5, 400).Draw(t, "ms"))*time.Millisecond)
			s.Station.Poll = site.Duration(rapid.SampledFrom(usualPeriods[:10]).Draw(t, "poll"))
			s.Demand = []Demand{{time.Duration(s.Station.Poll), rapid.IntRange(1, 30).Draw(t, "requests")}}
			stations = append(stations, s)
		}
		l := link(serial)
		list := Find(Evidence{Links: []Link{l}, Stations: stations})
		if load(l, stations, 0) < overloaded {
			assert.Empty(t, list)
			return
		}
		require.Equal(t, []Code{PollsLate}, codes(list))
		for _, change := range list[0].Next[0].Changes {
			poll, err := time.ParseDuration(change.Fields["poll"].(string))
			require.NoError(t, err)
			for i := range stations {
				if stations[i].Station.Name == change.Name {
					require.Greater(t, poll, stations[i].Demand[0].Period)
					stations[i].Demand[0].Period = poll
				}
			}
		}
		assert.LessOrEqual(t, load(l, stations, 0), wellLoaded)
	})
}
