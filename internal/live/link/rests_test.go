package link

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestHowSoonADeviceHears(t *testing.T) {
	at := time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC)
	rng := rand.New(rand.NewPCG(3, 9))
	soon := func() time.Duration { return time.Duration(rng.Int64N(int64(time.Second))) }
	var x rests
	for range 60 { // it hears what comes 150 ms after a response
		after := soon()
		x.saw(after, after > 150*time.Millisecond, at)
	}
	assert.True(t, x.apart())
	assert.Zero(t, x.needed(), "it was not measured yet")
	x.measured = true
	assert.InDelta(t, float64(150*time.Millisecond), float64(x.needed()), float64(60*time.Millisecond))
	x.found = 100 * time.Millisecond
	assert.Equal(t, x.found, x.needed())

	x.saw(900*time.Millisecond, false, at)
	x.saw(time.Microsecond, true, at)
	assert.True(t, x.apart(), "one of each is chance")
	for range 2 {
		x.saw(700*time.Millisecond, false, at)
	}
	assert.False(t, x.apart(), "they get lost whenever they come")

	x.saw(time.Millisecond, true, at.Add(restsFor+time.Second))
	assert.Equal(t, 1, x.answered+x.missed, "what was long ago counts no more")

	for range 200 { // lost by chance
		var lossy rests
		for range 40 {
			lossy.saw(soon(), rng.IntN(4) > 0, at)
		}
		lossy.measured = true
		assert.Zero(t, lossy.needed())
	}
}
