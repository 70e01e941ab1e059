package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a machine that stands still does to exchanges is not said of devices; what goes on is.
func TestStallsOfThisMachine(t *testing.T) {
	late := func(timeouts, answers int) Evidence {
		return Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, func(s *Station) {
			s.Counts = Counts{Requests: timeouts + answers, Answers: answers, Timeouts: timeouts, Late: timeouts}
			s.Slowest = 3 * time.Second
		})}}
	}
	codes := func(e Evidence, s Stalls) (list []Code) {
		e.Stalls = s
		for _, f := range Find(e) {
			list = append(list, f.Code)
		}
		return list
	}
	stall := func(longest time.Duration) Stalls { return Stalls{1, longest, longest} }
	require.Equal(t, []Code{TimeoutShort}, codes(late(3, 50), Stalls{}))
	assert.Empty(t, codes(late(3, 50), stall(2*time.Second)), "three that one stall has spoilt")
	assert.Equal(t, []Code{TimeoutShort}, codes(late(9, 50), stall(2*time.Second)), "more than it can have")
	assert.Equal(t, []Code{TimeoutShort}, codes(late(3, 50), stall(300*time.Millisecond)), "it was shorter than the timeout")
	assert.Equal(t, []Code{TimeoutShort}, codes(late(9, 0), stall(2*time.Second)), "none is in time")

	beside := late(9, 2)
	require.Empty(t, codes(beside, Stalls{4, 2 * time.Second, 6 * time.Second}), "four of them may have")
	beside.Stations = append(beside.Stations, station("b", 2, func(s *Station) { s.Counts = Counts{Requests: 60, Answers: 58, Timeouts: 2} }))
	assert.Equal(t, []Code{TimeoutShort}, codes(beside, Stalls{4, 2 * time.Second, 6 * time.Second}), "and not where another was hardly late")

	list := Find(Evidence{Links: []Link{link(nil)}, Stalls: Stalls{4, 5 * time.Second, 9 * time.Second}})
	require.Len(t, list, 1)
	assert.Equal(t, MachineBusy, list[0].Code)
	assert.Equal(t, OfService, list[0].Kind)
	assert.Contains(t, list[0].Cause.String(), "up to 5s")

	silent := Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, func(s *Station) {
		s.Answering, s.Silent = false, true
		s.Counts, s.Since = Counts{Requests: 23, Answers: 20, Timeouts: 3}, Counts{Requests: 3, Timeouts: 3}
	}), station("b", 2, nil)}}
	require.Equal(t, []Code{UnitSilent}, codes(silent, Stalls{}))
	assert.Empty(t, codes(silent, stall(2*time.Second)), "it answered a moment ago")
	silent.Stations[0].Counts.Answers = 0
	assert.Equal(t, []Code{UnitSilent}, codes(silent, stall(2*time.Second)), "a device that is dead is said to be")
}

// A connection that ends now and then is not one that is ended after each request.
func TestConnectionsThatEndNowAndThen(t *testing.T) {
	find := func(answers int) Finding {
		list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, func(s *Station) {
			s.Counts = Counts{Requests: answers + 4, Answers: answers, Closed: 4}
			s.ClosedAfter = 4
		})}})
		require.Len(t, list, 1)
		require.Equal(t, ClosesConnection, list[0].Code)
		return list[0]
	}
	assert.Contains(t, find(6).Cause.String(), "after each request")
	assert.Contains(t, find(400).Cause.String(), "4 times within a minute, beside 400 responses")
}
