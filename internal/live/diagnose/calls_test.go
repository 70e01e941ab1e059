package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

func called(name, number string, why failure.Kind) Station {
	s := station(name, 1, nil)
	s.Station.Number, s.Failure, s.Silent, s.Answering, s.Reason = number, why, why != "", why == "", "calling "+number+": "+string(why)
	s.Counts = Counts{Requests: 9, Closed: 9}
	return s
}

// Each way in which a call does not come about is one finding of its number, whatever is behind it; what concerns all numbers is one of the link.
func TestCallsThatDoNotComeAbout(t *testing.T) {
	find := func(list ...Station) []Finding {
		return Find(Evidence{Links: []Link{link(func(l *Link) { serial(l); l.Link.Transport = site.Dialup })}, Stations: list})
	}
	for why, words := range map[failure.Kind]string{failure.Busy: "number 100 is busy", failure.NoAnswer: "Nobody takes the call to 100", failure.NoCarrier: "call to 100 ends before", failure.Undialled: "command to dial 100"} {
		list := find(called("a", "100", why), called("b", "100", why), called("c", "200", ""))
		require.Len(t, list, 1, why)
		f := list[0]
		assert.Equal(t, CallFails, f.Code)
		assert.Equal(t, "a", f.Subject)
		assert.Equal(t, site.KindStation, f.Kind)
		assert.Contains(t, f.Cause.String(), words)
		assert.Contains(t, f.Evidence, "calling 100: "+string(why))
		assert.Contains(t, f.Evidence, "the stations at that number: a, b")
		assert.NotEmpty(t, f.Next)
	}
	list := find(called("a", "100", failure.Busy), called("b", "200", failure.NoAnswer))
	require.Len(t, list, 2, "two numbers, two causes")
	list = find(called("a", "100", failure.NoDialtone), called("b", "200", failure.NoDialtone))
	require.Len(t, list, 1)
	assert.Equal(t, site.KindLink, list[0].Kind)
	assert.Contains(t, list[0].Cause.String(), "no dial tone")
	assert.Empty(t, find(called("a", "100", "")))
}
