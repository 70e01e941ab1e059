package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
)

// A station without a good point is watched until there is enough evidence, and then it is said that nothing tells why.
func TestAStationWithoutAGoodPoint(t *testing.T) {
	bad := func(d time.Duration) func(*Station) {
		return func(s *Station) { s.Bad, s.BadFor, s.Why = 7, d, "timeout" }
	}
	look := func(s Station, l Link) ([]Finding, []Watch) {
		e := Evidence{Links: []Link{l}, Stations: []Station{s, station("well", 2, nil)}}
		list := Find(e)
		return list, Watching(e, list)
	}
	list, watching := look(station("a", 1, bad(8*time.Second)), link(nil))
	assert.Empty(t, list)
	require.Len(t, watching, 1)
	assert.Equal(t, "station a: all 7 points are bad; watching, 17 s more", watching[0].String())

	list, watching = look(station("a", 1, bad(30*time.Second)), link(nil))
	assert.Empty(t, watching)
	require.Equal(t, []Code{NothingGood}, codes(list))
	assert.Equal(t, "None of the 7 points of the station is good: they are bad (timeout).", list[0].Cause.String())

	list, watching = look(station("a", 1, func(s *Station) { bad(30 * time.Second)(s); silent(Counts{Requests: 9, Timeouts: 9})(s) }), link(func(l *Link) { l.Up = true }))
	assert.Empty(t, watching)
	assert.Equal(t, []Code{UnitSilent}, codes(list), "what tells why goes before")

	dial := link(func(l *Link) { serial(l); l.Link.Transport = site.Dialup })
	_, watching = look(station("a", 1, bad(30*time.Second)), dial)
	assert.Len(t, watching, 1, "each look takes a call")

	_, watching = look(station("a", 1, func(s *Station) { bad(8 * time.Second)(s); s.Station.Broadcast = true }), link(nil))
	assert.Empty(t, watching)
}

// What a scan has found on a line counts: it is not silent, and its units are offered to a station that does not answer.
func TestWhatAScanFoundCounts(t *testing.T) {
	quiet := Counts{Requests: 9, Timeouts: 9, Sent: 72}
	of := func(found ...int) []Finding {
		l := link(func(l *Link) { serial(l); l.Up, l.Since, l.Found, l.FoundAgo = true, quiet, found, 20*time.Second })
		return Find(Evidence{Links: []Link{l}, Stations: []Station{station("sensor", 1, silent(quiet))}})
	}
	list := of()
	require.Equal(t, []Code{LineSilent}, codes(list))
	list = of(3, 4, 7)
	require.Equal(t, []Code{UnitSilent}, codes(list))
	assert.Equal(t, "Unit 1 does not answer. What does, and is no station's: units 3, 4 and 7.", list[0].Cause.String())
	assert.Contains(t, list[0].Evidence, "20s ago a scan or probe was answered by units 3, 4 and 7")
	require.NotEmpty(t, list[0].Next[0].Changes)
	assert.Equal(t, map[string]any{"unit": 3}, list[0].Next[0].Changes[0].Fields)
	list = of(1)
	require.Equal(t, []Code{UnitSilent}, codes(list))
	assert.Equal(t, "Unit 1 does not answer.", list[0].Cause.String())
}
