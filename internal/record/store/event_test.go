package store

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
)

// events are n of them from an ID on, of two tags in turn.
func events(first, n int) (list []EventRecord) {
	for i := range n {
		at := time.Date(2026, 5, 1, 8, 0, first+i, 0, time.UTC)
		source := at.Add(-50 * time.Millisecond)
		list = append(list, EventRecord{ID: uint64(first + i), Tag: fmt.Sprintf("yard/%d", (first+i)%2), Station: "rtu", Value: codec.BoolValue(i%2 == 0), Text: "on",
			Quality: reading.Uncertain, Reason: reading.Chatter, Raw: "g2v2 true", Time: at, SourceTime: &reading.DeviceTime{Time: source}})
	}
	return list
}

func ids(list []EventRecord) (ids []uint64) {
	for _, e := range list {
		ids = append(ids, e.ID)
	}
	return ids
}

func TestEventsAreKeptInTheirOrder(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s := open(t, dir)
	last, err := s.LastEvent(ctx)
	require.NoError(t, err)
	assert.Zero(t, last)
	require.NoError(t, s.AddEvents(ctx, nil))
	require.NoError(t, s.AddEvents(ctx, events(1, 6)))
	require.NoError(t, s.AddEvents(ctx, events(7, 3)))
	require.NoError(t, s.Close())
	s = open(t, dir)
	last, err = s.LastEvent(ctx)
	require.NoError(t, err)
	assert.Equal(t, uint64(9), last)
	list, err := s.Events(ctx, EventFilter{Limit: 100})
	require.NoError(t, err)
	assert.Equal(t, append(events(1, 6), events(7, 3)...), list)
	for name, c := range map[string]struct {
		f    EventFilter
		want []uint64
	}{
		"the newest":        {EventFilter{Limit: 3}, []uint64{7, 8, 9}},
		"those after one":   {EventFilter{After: 2, Limit: 3}, []uint64{3, 4, 5}},
		"those before one":  {EventFilter{Before: 4, Limit: 2}, []uint64{2, 3}},
		"of a tag":          {EventFilter{Tag: "yard/1", Limit: 100}, []uint64{1, 3, 5, 7, 9}},
		"of a pattern":      {EventFilter{Tag: "*/0", Limit: 100}, []uint64{2, 4, 6, 8}},
		"of a station":      {EventFilter{Station: "nobody", Limit: 100}, nil},
		"from a time":       {EventFilter{From: time.Date(2026, 5, 1, 8, 0, 8, 0, time.UTC), Limit: 100}, []uint64{8, 9}},
		"until a time":      {EventFilter{Until: time.Date(2026, 5, 1, 8, 0, 3, 0, time.UTC), Limit: 100}, []uint64{1, 2}},
		"between two times": {EventFilter{From: time.Date(2026, 5, 1, 8, 0, 3, 0, time.UTC), Until: time.Date(2026, 5, 1, 8, 0, 5, 0, time.UTC), Limit: 100}, []uint64{3, 4}},
	} {
		list, err := s.Events(ctx, c.f)
		require.NoError(t, err)
		assert.Equal(t, c.want, ids(list), name)
	}
}

func TestOnlySoManyEventsAreKept(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	require.NoError(t, s.AddEvents(ctx, events(1, 3)))
	require.NoError(t, s.AddEvents(ctx, events(KeptEvents+2, 1)))
	list, err := s.Events(ctx, EventFilter{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, []uint64{3, KeptEvents + 2}, ids(list))
}
