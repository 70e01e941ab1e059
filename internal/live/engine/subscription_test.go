package engine

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

func TestSubscriptionsConflate(t *testing.T) {
	p := newPlant()
	run(t, build(t, 2, nil), p, func(t *testing.T, e *Engine) {
		sub := e.Subscribe("st1/*")
		first, err := sub.Next(context.Background())
		require.NoError(t, err)
		require.Len(t, first, 1, "all points at once, those that fit")
		time.Sleep(10 * time.Second) // ten polls nobody takes
		list, err := sub.Next(context.Background())
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, reading.Good, list[0].Reading.Quality)
		assert.Empty(t, sub.Take(nil), "only the newest was kept")

		ctx, cancel := context.WithTimeout(context.Background(), time.Millisecond)
		defer cancel()
		_, err = sub.Next(ctx)
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		sub.Close()
		time.Sleep(3 * time.Second)
		assert.Empty(t, sub.Take(nil))
	})
}

func TestSubscriptionsFollowPointsThatComeAndGo(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		sub := e.Subscribe("*")
		defer sub.Close()
		time.Sleep(time.Second)
		sub.Take(nil)
		d := s.Edit()
		d.Add(site.Point{Tag: "late", Station: "st1", Address: site.Address{Space: site.HoldingRegisters, Offset: 5}})
		d.Remove(site.KindPoint, "st1/value", false)
		s = apply(t, e, s, d)
		got := map[string]bool{}
		for _, l := range sub.Take(nil) {
			got[l.Point.Tag] = l.Removed
		}
		assert.Equal(t, map[string]bool{"late": false, "st1/value": true}, got)
	})
}
