package history

import (
	"context"
	"errors"
	"fmt"
	"math"
	"runtime"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/parallel"
	"arithmon/internal/core/reading"
	"arithmon/internal/record/history/chunk"
)

// Bucket is what a stretch of time holds, all together.
type Bucket struct {
	Span
	Count       int // of samples that are not bad and have a number
	Bad         int
	Other       int         // without a number: text
	Least, Most float64     // NaN where there is none
	Last        codec.Value // of the last sample, by its time, if that is good
}

// take adds what a chunk, or another bucket, holds, with its last value and the time of that.
func (b *Bucket) take(s *chunk.Summary, last codec.Value, at int64, lastAt *int64) {
	if s.Good > 0 {
		if b.Count == 0 {
			b.Least, b.Most = s.Least, s.Most
		}
		b.Least, b.Most = min(b.Least, s.Least), max(b.Most, s.Most)
	}
	b.Count += s.Good
	b.Bad += s.Bad
	b.Other += s.Count - s.Good - s.Bad
	if at >= *lastAt {
		*lastAt, b.Last = at, last
	}
}

// ErrTooMany says that a request asks for more than is given at once.
var ErrTooMany = errors.New("too many at once")

// MostBuckets is how many buckets are made at once.
const MostBuckets = 1_000_000

// Buckets divides a span into stretches of one length, the last perhaps shorter, and says what each holds of a series. Those that hold
// nothing are left out.
func (h *History) Buckets(ctx context.Context, id int64, span Span, each int64) ([]Bucket, error) {
	if each <= 0 || (span.To-span.From)/each >= MostBuckets {
		return nil, fmt.Errorf("%w: %d stretches; at most %d are made", ErrTooMany, (span.To-span.From)/max(1, each)+1, MostBuckets)
	}
	r, err := h.look(ctx, id, span)
	if err != nil {
		return nil, err
	}
	defer r.close()
	all := newBuckets(span, each)
	if err := all.takeAll(ctx, r); err != nil {
		return nil, err
	}
	return all.some(), nil
}

// Columns does as Buckets of samples in chunks.
func Columns(chunks [][]byte, span Span, each int64) []Bucket {
	all := newBuckets(span, each)
	for _, c := range chunks {
		all.fill(c)
	}
	return all.some()
}

// At is the value that the samples in chunks give for a moment: that of the last one before it, nothing when that was bad; false when there is no
// such sample.
func At(chunks [][]byte, at int64) (v codec.Value, ok bool) {
	last := int64(math.MinInt64)
	for _, c := range chunks {
		for r := chunk.Read(c); r.Next(); {
			if x := r.Sample(); x.Time < at && x.Time >= last {
				last, v, ok = x.Time, x.Value, true
				if x.Quality == reading.Bad {
					v = codec.Value{}
				}
			}
		}
	}
	return v, ok
}

// some are those that hold something.
func (b *buckets) some() []Bucket {
	list := b.list[:0]
	for i := range b.list {
		x := &b.list[i]
		if x.Count+x.Bad+x.Other == 0 {
			continue
		}
		x.Span = Span{b.span.From + int64(i)*b.each, min(b.span.From+int64(i+1)*b.each, b.span.To)}
		if x.Count == 0 {
			x.Least, x.Most = math.NaN(), math.NaN()
		}
		list = append(list, *x)
	}
	return list
}

// last is the value of the last sample of a summary in order; nothing when that was bad. ok is false where the number does not tell it.
func (p *part) last() (codec.Value, bool) {
	s := &p.summary
	switch whole := math.Abs(s.Latest) < 1<<53; {
	case math.IsNaN(s.Latest):
		return codec.Value{}, s.Good+s.Bad == s.Count
	case s.Kind == codec.Bool:
		return codec.BoolValue(s.Latest != 0), true
	case s.Kind == codec.Float:
		return codec.FloatValue(s.Latest), true
	case s.Kind == codec.Int && whole:
		return codec.IntValue(int64(s.Latest)), true
	case s.Kind == codec.Uint && whole:
		return codec.UintValue(uint64(s.Latest)), true
	}
	return codec.Value{}, false
}

// buckets are those of a span, while they are filled.
type buckets struct {
	span  Span
	each  int64
	list  []Bucket
	lasts []int64 // when the last sample of each was
}

func newBuckets(span Span, each int64) *buckets {
	n := (span.To - span.From + each - 1) / each
	b := &buckets{span, each, make([]Bucket, n), make([]int64, n)}
	for i := range b.lasts {
		b.lasts[i] = math.MinInt64
	}
	return b
}

// togetherAtLeast is how many chunks are worth another goroutine.
const togetherAtLeast = 64

// takeAll adds what all parts of a lookup hold, on all processors.
func (b *buckets) takeAll(ctx context.Context, r *lookup) error {
	workers := max(1, min(runtime.GOMAXPROCS(0), len(r.parts)/togetherAtLeast))
	shares, errs := make([]*buckets, workers), make([]error, workers)
	for w := range workers {
		if shares[w] = b; w > 0 {
			shares[w] = newBuckets(b.span, b.each)
		}
	}
	parallel.Parts(workers, 1, func(w, _ int) {
		errs[w] = shares[w].takeParts(ctx, r, r.parts[len(r.parts)*w/workers:len(r.parts)*(w+1)/workers])
	})
	for _, share := range shares[1:] {
		for i := range share.list {
			x := &share.list[i]
			if x.Count+x.Bad+x.Other > 0 {
				s := chunk.Summary{Count: x.Count + x.Bad + x.Other, Good: x.Count, Bad: x.Bad, Least: x.Least, Most: x.Most}
				b.list[i].take(&s, x.Last, share.lasts[i], &b.lasts[i])
			}
		}
	}
	return errors.Join(errs...)
}

func (b *buckets) takeParts(ctx context.Context, r *lookup, parts []part) error {
	for i := range parts {
		p := &parts[i]
		s := &p.summary
		from, to := (s.First-b.span.From)/b.each, (s.Last-b.span.From)/b.each
		if s.First >= b.span.From && s.Last < b.span.To && from == to && s.Ordered && s.Good+s.Bad == s.Count {
			if last, ok := p.last(); ok {
				b.list[from].take(s, last, s.Last, &b.lasts[from])
				continue
			}
		}
		bytes, err := r.read(ctx, p)
		if err != nil {
			return err
		}
		b.fill(bytes)
	}
	return nil
}

// fill adds the samples of a chunk.
func (b *buckets) fill(bytes []byte) {
	at, end := int64(0), int64(math.MinInt64) // of the bucket that the last one was in
	var i int64
	var sum chunk.Summary
	lastAt, lastKind, lastBits, lastText := int64(math.MinInt64), codec.None, uint64(0), ""
	add := func() { // what came of a bucket
		if sum.Count == 0 {
			return
		}
		var last codec.Value
		switch lastKind {
		case codec.None:
		case codec.Text:
			last = codec.TextValue(lastText)
		default:
			last = codec.FromBits(lastKind, lastBits)
		}
		b.list[i].take(&sum, last, lastAt, &b.lasts[i])
		sum, lastAt = chunk.Summary{}, math.MinInt64
	}
	for r := chunk.Read(bytes); r.Next(); {
		x := r.Sample()
		if x.Time < at || x.Time >= end {
			if x.Time < b.span.From || x.Time >= b.span.To {
				continue
			}
			add()
			i = (x.Time - b.span.From) / b.each
			at, end = b.span.From+i*b.each, min(b.span.From+(i+1)*b.each, b.span.To)
		}
		sum.Count++
		kind := x.Value.Kind()
		if x.Quality == reading.Bad {
			kind = codec.None
			sum.Bad++
		} else if f, number := x.Value.Float(); number {
			if sum.Good++; sum.Good == 1 {
				sum.Least, sum.Most = f, f
			} else if f < sum.Least {
				sum.Least = f
			} else if f > sum.Most {
				sum.Most = f
			}
		}
		if x.Time >= lastAt {
			if lastAt, lastKind, lastBits = x.Time, kind, x.Value.Bits(); kind == codec.Text {
				lastText = x.Value.Text()
			}
		}
	}
	add()
}
