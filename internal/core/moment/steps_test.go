package moment

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever the zone, stretches follow one another without a hole, every moment is in the one that begins before it, and days begin at midnight.
func TestTrialOfSteps(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, name := range []string{"UTC", "Europe/Berlin", "Australia/Lord_Howe", "Asia/Kolkata", "America/Santiago", "Pacific/Apia"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for _, each := range []time.Duration{time.Second, time.Minute, 5 * time.Minute, time.Hour, 2 * time.Hour, 6 * time.Hour, 12 * time.Hour, day, 7 * day, 7 * time.Minute, 5 * time.Hour} {
			steps := Steps{each, zone}
			for i := range 400 {
				at := time.Unix(random.Int64N(2_000_000_000), random.Int64N(1e9))
				if i >= 300 { // about the day that there was not in one of them
					at = time.Date(2011, 12, 29, 0, 0, 0, 0, time.UTC).Add(time.Duration(random.Int64N(int64(3 * day))))
				}
				begin := steps.Begin(at)
				next := steps.Next(begin)
				said := fmt.Sprintf("%s in %s: %s is from %s to %s", each, name, at.In(zone), begin, next)
				require.False(t, begin.After(at), said)
				require.True(t, next.After(at), said)
				require.True(t, steps.Begin(begin).Equal(begin), said)
				require.True(t, steps.Begin(next).Equal(next), said)
				require.True(t, steps.Begin(next.Add(-1)).Equal(begin), said)
				if each%day == 0 && name != "America/Santiago" { // where there is a midnight
					require.Zero(t, begin.In(zone).Hour(), said)
				}
			}
		}
	}
}

func TestStepsOfADayWithAnotherLength(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	for _, c := range []struct {
		each time.Duration
		date string
		want []string
	}{
		{12 * time.Hour, "2026-03-29", []string{"00:00+0100", "12:00+0200", "00:00+0200"}},
		{6 * time.Hour, "2026-10-25", []string{"00:00+0200", "06:00+0100", "12:00+0100", "18:00+0100", "00:00+0100"}},
		{day, "2026-10-25", []string{"00:00+0200", "00:00+0100"}},
	} {
		at, err := time.ParseInLocation(time.DateOnly, c.date, berlin)
		require.NoError(t, err)
		steps := Steps{c.each, berlin}
		for _, want := range c.want {
			assert.Equal(t, want, at.Format("15:04-0700"), "%s of %s", c.each, c.date)
			at = steps.Next(at)
		}
	}
	autumn := Steps{time.Hour, berlin}
	at := time.Date(2026, 10, 25, 0, 0, 0, 0, berlin)
	for range 25 { // the hour from 2 to 3 is there twice
		at = autumn.Next(at)
	}
	assert.Equal(t, "2026-10-26 00:00", at.Format("2006-01-02 15:04"))
}
