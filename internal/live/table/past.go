package table

import (
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/diagnose/weigh"
)

// moment is what a block held at a look.
type moment struct {
	sec  uint32
	data []byte
}

// What is kept of the past of a block: so many moments, at first of each look, then further apart.
const (
	mostMoments = 16
	mostApart   = 4 // seconds
)

// remember keeps what the block holds, unless that was kept lately; the lock is held.
func (b *Block) remember(sec uint32) {
	if b.bits || b.noted == b.version {
		return
	}
	b.noted = b.version
	if n := len(b.past); n > 0 {
		last := b.past[n-1]
		switch {
		case len(last.data) != len(b.data):
			b.past, b.apart = nil, 0
		case sec-last.sec < b.apart:
			return
		case n == mostMoments && b.apart < mostApart:
			for i := range mostMoments / 2 {
				b.past[i], b.past[2*i] = b.past[2*i], b.past[i] // what is not needed any more is written over below
			}
			b.past, b.apart = b.past[:mostMoments/2], max(2*b.apart, 2)
		case n == mostMoments:
			oldest := b.past[0]
			copy(b.past, b.past[1:])
			b.past[n-1] = oldest
			b.past = b.past[:n-1]
		}
	}
	n := len(b.past)
	b.past = slices.Grow(b.past, 1)[:n+1]
	b.past[n] = moment{sec, append(b.past[n].data[:0], b.data...)}
}

// area is the past of a block as registers, and what they were since it was asked for last; the lock is held.
func (b *Block) area(like weigh.Area) *weigh.Area {
	n := len(b.data) / 2
	all := make([]uint16, n*len(b.past))
	for _, m := range b.past {
		words := all[:n:n]
		all = all[n:]
		for i := range words {
			words[i] = uint16(m.data[2*i])<<8 | uint16(m.data[2*i+1])
		}
		like.Words, like.Secs = append(like.Words, words), append(like.Secs, m.sec)
	}
	like.Ends, like.Turned = slices.Clone(b.ends), slices.Clone(b.turned)
	b.ends, b.turned = b.ends[:0], b.turned[:0]
	return &like
}

// Signals are the points of a station as they have been lately, for those that read registers as numbers. The slots are those of one station.
// What it gives of the time since the last look, it gives once.
func Signals(slots []*Slot, units *unit.Dictionary) (list []*weigh.Signal) {
	if len(slots) == 0 {
		return nil
	}
	mu := slots[0].mu
	mu.Lock()
	defer mu.Unlock()
	areas := map[*Block]*weigh.Area{}
	for _, s := range slots {
		b := s.block
		if s.Point.Address.Space.Protocol() == site.DNP3 {
			if signal := s.number(units); signal != nil {
				list = append(list, signal)
			}
			continue
		}
		if b == nil || b.bits || len(b.past) == 0 || s.detached || !numeric(s.Layout.Type) {
			continue
		}
		if areas[b] == nil {
			areas[b] = b.area(weigh.Area{Space: s.Point.Address.Space, First: int(s.Point.Address.Offset) - int(s.first)})
		}
		signal := &weigh.Signal{Point: s.Point, Layout: *s.Layout, Inherits: s.Point.Order == "", Area: areas[b], At: int(s.first), Expect: weigh.ExpectationOf(s.Point, units.Find(s.Point.Unit))}
		if f := s.conversion.Scale(); f != nil {
			signal.Scale = func(raw float64) float64 { v, _ := f.Apply(raw); return v }
		}
		list = append(list, signal)
	}
	return list
}

// number is the newest value of a point without registers, of which something is known beforehand; nil where there is none.
func (s *Slot) number(units *unit.Dictionary) *weigh.Signal {
	signal := &weigh.Signal{Point: s.Point, Layout: *s.Layout, Expect: weigh.ExpectationOf(s.Point, units.Find(s.Point.Unit))}
	if s.reading.Quality != reading.Good || signal.Expect.Weight == 0 || !numeric(s.Layout.Type) {
		return nil
	}
	raw, ok := s.reading.Value.Float()
	if !ok {
		return nil
	}
	if f := s.conversion.Scale(); f != nil {
		signal.Scale = func(raw float64) float64 { v, _ := f.Apply(raw); return v }
		var err error
		if raw, err = f.Inverse(raw); err != nil {
			return nil
		}
	}
	signal.Numbers = []float64{raw}
	return signal
}

// numeric reports whether a type is a number or text of registers of its own, or a bit of one.
func numeric(t codec.Type) bool {
	switch t {
	case codec.TypeInt8, codec.TypeUint8, codec.TypeBits:
		return false
	}
	return true
}

// Same reports whether the slot still is what a signal was of.
func (s *Slot) Same(signal *weigh.Signal) bool {
	return s.Point == signal.Point && *s.Layout == signal.Layout
}
