package history

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/record/history/chunk"
)

// A value counts for as long as it held, not as often as it was kept.
func TestAMeanIsWeightedByTime(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	at := p.now.UnixMilli()
	p.Add("x", chunk.Line{}, good(p.now, 10))
	for i := range 10 { // ten samples of a peak of one second in a minute
		p.Add("x", chunk.Line{}, good(p.now.Add(30*time.Second+time.Duration(i)*100*time.Millisecond), 70))
	}
	p.Add("x", chunk.Line{}, good(p.now.Add(31*time.Second), 10))
	require.NoError(t, p.Flush(t.Context()))
	list, err := p.Stretches(t.Context(), 1, []int64{at, at + 60_000, at + 120_000, at + 180_000}, at+150_000)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.InDelta(t, 11, list[0].Mean, 1e-9)
	assert.Equal(t, Stretch{Span{at, at + 60_000}, 12, 0, 60_000, 10, 70, list[0].Mean, codec.FloatValue(10)}, list[0])
	assert.Equal(t, Stretch{Span{at + 60_000, at + 120_000}, 0, 0, 60_000, 10, 10, 10, codec.FloatValue(10)}, list[1], "it holds where nothing new was kept")
	assert.Equal(t, int64(30_000), list[2].Known, "not after now")
	_, err = p.Stretches(t.Context(), 1, make([]int64, MostBuckets+1), 0)
	assert.ErrorIs(t, err, ErrTooMany)
}

// What was known when the service stopped is not known to hold on, also where nothing came since.
func TestNothingHoldsOverAStop(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	began := p.now.UnixMilli()
	p.Add("x", chunk.Line{}, good(p.now, 10))
	p.now = p.now.Add(time.Minute)
	require.NoError(t, p.Close())
	stopped := p.now.UnixMilli()
	p.now = p.now.Add(time.Hour)
	p.open()
	known := func(from, to int64) (ms int64) {
		t.Helper()
		list, err := p.Stretches(t.Context(), 1, []int64{from, to}, p.now.UnixMilli())
		require.NoError(t, err)
		for _, s := range list {
			ms += s.Known
		}
		return ms
	}
	for _, came := range []bool{false, true} {
		assert.Equal(t, stopped-began, known(began, p.now.UnixMilli()), "the minute alone, %t", came)
		assert.Equal(t, stopped-began, known(began, stopped+1000), "in a window that ends in the stop, %t", came)
		assert.Zero(t, known(stopped+1000, stopped+2000), "within it, %t", came)
		assert.Len(t, p.read("x"), 1)
		for at, want := range map[int64]codec.Value{stopped - 1: codec.FloatValue(10), stopped + 1000: {}, p.now.UnixMilli() + 5000: {}} {
			v, err := p.Held(t.Context(), 1, at, 24*3600_000)
			require.NoError(t, err)
			assert.Equal(t, want, v, "%d ms after the stop, %t", at-stopped, came)
		}
		p.Add("y", chunk.Line{}, good(p.now, 1)) // of another point
		require.NoError(t, p.Flush(t.Context()))
	}
}

// TestTrialOfStretches compares what is said of stretches with what held at each millisecond, with bad samples, text, stops of the service, times of devices that are
// out of order, samples from elsewhere, and stretches of any length.
func TestTrialOfStretches(t *testing.T) {
	for seed := range uint64(25) {
		stretches(t, seed)
	}
}

func stretches(t *testing.T, seed uint64) {
	random := rand.New(rand.NewPCG(seed, 7))
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	began := p.now.UnixMilli()
	for range 30 {
		switch random.IntN(10) {
		case 0:
			require.NoError(t, p.Close())
			p.now = p.now.Add(time.Duration(random.IntN(3000)) * time.Millisecond)
			p.open()
		case 1:
			_, err := p.Import(t.Context(), "x", []chunk.Sample{good(p.now.Add(-time.Duration(random.IntN(2000))*time.Millisecond), 1000)})
			require.NoError(t, err)
		default:
			x := good(p.now.Add(-time.Duration(random.IntN(40))*time.Millisecond), float64(random.IntN(9)))
			switch random.IntN(6) {
			case 0:
				x.Quality, x.Reason, x.Value = reading.Bad, reading.Timeout, codec.Value{}
			case 1:
				x.Value = codec.TextValue("open")
			}
			p.Add("x", chunk.Line{}, x)
			if random.IntN(3) == 0 {
				require.NoError(t, p.Flush(t.Context()))
			}
		}
		p.now = p.now.Add(time.Duration(random.IntN(800)) * time.Millisecond)
	}
	require.NoError(t, p.Flush(t.Context()))
	now := p.now.UnixMilli()
	bounds := []int64{began + int64(random.IntN(3000))}
	until := now + 500
	if random.IntN(2) == 0 { // a window that ends before, perhaps where nothing was recorded
		until = bounds[0] + 1 + int64(random.IntN(int(now-began)))
	}
	for bounds[len(bounds)-1] < until {
		bounds = append(bounds, bounds[len(bounds)-1]+1+int64(random.IntN(2500)))
	}
	var all []Recorded
	require.NoError(t, p.Each(context.Background(), 1, Span{0, math.MaxInt64 / 2}, func(x Recorded) bool {
		if x.Reason != NotRecorded || len(all) == 0 || !all[len(all)-1].Imported { // what was recorded elsewhere did not end with it
			all = append(all, x)
		}
		return true
	}))
	got, err := p.Stretches(t.Context(), 1, bounds, now)
	require.NoError(t, err)
	at := map[int64]Stretch{}
	for _, s := range got {
		at[s.From] = s
	}
	for i := range bounds[1:] {
		said, from, to := fmt.Sprintf("seed %d, stretch %d", seed, i), bounds[i], bounds[i+1]
		var want Stretch
		var numbers []float64
		sum, held := 0.0, 0
		for ms := from; ms < to; ms++ {
			next := slices.IndexFunc(all, func(x Recorded) bool { return x.Time > ms })
			if next < 0 {
				next = len(all)
			}
			if next == 0 {
				continue
			}
			x := all[next-1]
			if want.Last = x.Value; x.Quality == reading.Bad || ms >= now || next == len(all) && x.Imported {
				if ms < now && !(next == len(all) && x.Imported) {
					want.Last = codec.Value{}
				}
				continue
			}
			want.Known++
			if f, is := x.Value.Float(); is {
				numbers, sum, held = append(numbers, f), sum+f, held+1
			}
		}
		for _, x := range all {
			switch f, is := x.Value.Float(); {
			case x.Time < from || x.Time >= to:
			case x.Quality != reading.Bad:
				if want.Count++; is {
					numbers = append(numbers, f)
				}
			case x.Reason != NotRecorded:
				want.Bad++
			}
		}
		s, there := at[from]
		require.Equal(t, want.Known > 0 || want.Count+want.Bad > 0, there, said)
		if !there {
			continue
		}
		require.Equal(t, []int64{int64(want.Count), int64(want.Bad), want.Known, to}, []int64{int64(s.Count), int64(s.Bad), s.Known, s.To}, said)
		if to <= now {
			require.Equal(t, want.Last, s.Last, said)
		}
		if len(numbers) == 0 {
			require.True(t, math.IsNaN(s.Mean) && math.IsNaN(s.Least), said)
			continue
		}
		require.Equal(t, slices.Min(numbers), s.Least, said)
		require.Equal(t, slices.Max(numbers), s.Most, said)
		if held > 0 {
			require.InDelta(t, sum/float64(held), s.Mean, 1e-9, said)
		}
	}
}
