package engine

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/live/diagnose"
)

func TestStallsAreThoseOfTheLastMinute(t *testing.T) {
	var s stalls
	at := time.Unix(1_000_000, 0)
	s.note(at, 100*time.Millisecond)
	assert.Zero(t, s.lately(at), "a moment is none")
	s.note(at, 2*time.Second)
	s.note(at.Add(30*time.Second), 500*time.Millisecond)
	assert.Equal(t, diagnose.Stalls{Times: 2, Longest: 2 * time.Second, Total: 2500 * time.Millisecond}, s.lately(at.Add(40*time.Second)))
	assert.Equal(t, diagnose.Stalls{Times: 1, Longest: 500 * time.Millisecond, Total: 500 * time.Millisecond}, s.lately(at.Add(70*time.Second)))
	assert.Zero(t, s.lately(at.Add(100*time.Second)))
}

// Who is run when they want to be has no stalls.
func TestNoStallsWhereThereAreNone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
		defer cancel()
		var s stalls
		s.watch(ctx)
		assert.Zero(t, s.lately(time.Now()))
	})
}
