package link

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/core/reading"
)

func TestFiguresOverTheirWindows(t *testing.T) {
	var f figures
	began := time.Unix(1_800_000_000, 0)
	ask := func(at time.Duration, out Outcome, took time.Duration) {
		f.at(began.Add(at), func(t *tally) { t.exchanged(out, took, false) })
	}
	failed := func(reason reading.Reason, answered bool) Outcome {
		return Outcome{Err: assert.AnError, Reason: reason, Answered: answered}
	}
	for i := range 100 {
		ask(time.Duration(i)*100*time.Millisecond, Outcome{}, time.Duration(i+1)*time.Millisecond)
	}
	ask(10*time.Second, failed(reading.Timeout, false), time.Second)
	ask(10*time.Second, failed(reading.Checksum, false), time.Second)
	ask(10*time.Second, failed(reading.ExceptionReason(2), true), time.Millisecond)
	w := f.windows(began.Add(20 * time.Second))
	m := w.Minute
	assert.Equal(t, uint32(103), m.Requests)
	assert.Equal(t, uint32(101), m.Answers, "a refusal is a response")
	assert.Equal(t, uint32(1), m.Timeouts)
	assert.Equal(t, uint32(1), m.Checksums)
	assert.Equal(t, map[int]uint16{2: 1}, m.Exceptions)
	assert.InDelta(t, 100.0/103, m.Good, 1e-9)
	assert.Equal(t, 20.0, m.Seconds, "no longer than it lived")
	assert.InDelta(t, 50, m.RoundTrip.Median, 10)
	assert.InDelta(t, 95, m.RoundTrip.P95, 15)
	assert.Equal(t, 1.0, m.RoundTrip.Least)
	assert.Equal(t, 100.0, m.RoundTrip.Most)
	assert.InDelta(t, (5.05+2+0.001)/20, m.Occupancy, 0.001)
	assert.Len(t, w.Trend, fineSteps)

	later := f.windows(began.Add(5 * time.Minute))
	assert.Zero(t, later.Minute.Requests, "longer ago than a minute")
	assert.Equal(t, 1.0, later.Minute.Good)
	assert.Equal(t, uint32(103), later.Quarter.Requests)
	much := f.windows(began.Add(time.Hour))
	assert.Zero(t, much.Quarter.Requests)
	assert.Equal(t, uint32(103), much.Total.Requests)

	var sum figures
	sum.sum(&f, began.Add(20*time.Second))
	sum.sum(&f, began.Add(20*time.Second))
	assert.Equal(t, uint32(206), sum.windows(began.Add(20*time.Second)).Minute.Requests, "a link has those of its stations")
}

func TestTheSpreadOfRoundTripsOutlivesManyOfThem(t *testing.T) {
	var f tally
	for range 50_000 { // when a bin is full, all are halved, so that what is recent weighs more
		for range 4 {
			f.trip(time.Millisecond)
		}
		f.trip(100 * time.Millisecond)
	}
	assert.InDelta(t, 1, f.percentile(0.5), 0.3)
	assert.InDelta(t, 100, f.percentile(0.95), 20)
}
