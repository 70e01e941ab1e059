package history

import (
	"context"
	"fmt"
	"math"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
)

// Stretch is what was known of a series over a stretch of time. A value holds from its sample to the next one, or to where recording ended; one
// that came from elsewhere to the next one alone.
type Stretch struct {
	Span
	Count       int         // of samples that are not bad
	Bad         int         // of samples that are
	Known       int64       // milliseconds in which there was a value that was not bad
	Least, Most float64     // of the numbers that it had; NaN where there was none
	Mean        float64     // of them, each by how long it held
	Last        codec.Value // at the end; nothing when that was bad, or not known
}

// heldFor is how far before a span it is looked for the value that holds at its beginning, and behind it for the next sample, in milliseconds.
const heldFor = 35 * 24 * 3600_000

// Stretches says what was known of a series in the stretches of time between bounds, which grow. Those in which nothing was known are left
// out. What is after now is not known.
func (h *History) Stretches(ctx context.Context, id int64, bounds []int64, now int64) ([]Stretch, error) {
	if len(bounds) > MostBuckets {
		return nil, fmt.Errorf("%w: %d stretches; at most %d are made", ErrTooMany, len(bounds)-1, MostBuckets)
	}
	if len(bounds) < 2 {
		return nil, nil
	}
	span := Span{bounds[0], bounds[len(bounds)-1]}
	before, held, err := h.Before(ctx, id, span.From, heldFor)
	if err != nil {
		return nil, err
	}
	if held {
		span.From = before.Time
	}
	w := &holding{bounds: bounds, at: bounds[0], list: make([]filling, len(bounds)-1)}
	if err := h.Each(ctx, id, span, func(x Recorded) bool {
		w.take(&x)
		return true
	}); err != nil {
		return nil, err
	}
	holds := !w.imported
	if w.imported && w.known { // what comes from elsewhere holds to the next sample, if there is one
		if err := h.Each(ctx, id, Span{span.To, span.To + heldFor}, func(x Recorded) bool {
			holds = x.Reason != NotRecorded
			return !holds
		}); err != nil {
			return nil, err
		}
	}
	if holds {
		w.hold(min(span.To, now))
	}
	known := []Stretch{}
	for i := range w.list {
		if s := &w.list[i]; s.Count+s.Bad > 0 || s.Known > 0 {
			s.Span = Span{bounds[i], bounds[i+1]}
			known = append(known, s.finished())
		}
	}
	return known, nil
}

// holding goes through the samples of a series with the value that holds.
type holding struct {
	bounds []int64
	list   []filling
	i      int   // stretch that at is in
	at     int64 // until when it is taken in

	known    bool
	value    codec.Value
	number   float64 // NaN of what is none
	imported bool
}

// filling is a stretch while it is filled.
type filling struct {
	Stretch
	numbers  int     // that it had
	sum      float64 // of them
	held     int64   // milliseconds in which there was a number
	integral float64 // of the number over them
}

// take takes in the next sample.
func (w *holding) take(x *Recorded) {
	if x.Reason == NotRecorded && w.imported {
		return // what was recorded elsewhere did not end with it
	}
	w.hold(x.Time)
	w.known, w.imported = x.Quality != reading.Bad, x.Imported
	w.value, w.number = codec.Value{}, math.NaN()
	if w.known {
		w.value = x.Value
		if f, is := x.Value.Float(); is {
			w.number = f
		}
	}
	if x.Time < w.bounds[0] {
		return
	}
	s := &w.list[w.i]
	s.Last = w.value
	switch {
	case w.known:
		s.Count++
		s.reach(w.number)
	case x.Reason != NotRecorded:
		s.Bad++
	}
}

// hold has the value hold until a moment, which is not after the last bound.
func (w *holding) hold(until int64) {
	for w.at < until {
		s, end := &w.list[w.i], min(until, w.bounds[w.i+1])
		if s.Last = w.value; w.known {
			s.Known += end - w.at
			if !math.IsNaN(w.number) {
				s.reach(w.number)
				s.held, s.integral = s.held+end-w.at, s.integral+w.number*float64(end-w.at)
			}
		}
		if w.at = end; end == w.bounds[w.i+1] && w.i < len(w.list)-1 {
			w.i++
		}
	}
}

// reach takes a number in.
func (s *filling) reach(f float64) {
	if math.IsNaN(f) {
		return
	}
	if s.numbers++; s.numbers == 1 {
		s.Least, s.Most = f, f
	}
	s.Least, s.Most, s.sum = min(s.Least, f), max(s.Most, f), s.sum+f
}

func (s *filling) finished() Stretch {
	switch {
	case s.numbers == 0:
		s.Least, s.Most, s.Mean = math.NaN(), math.NaN(), math.NaN()
	case s.held == 0: // each was gone at once
		s.Mean = s.sum / float64(s.numbers)
	default:
		s.Mean = min(max(s.integral/float64(s.held), s.Least), s.Most) // between them, whatever was rounded
	}
	return s.Stretch
}
