package table

import (
	"bytes"
	"slices"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/live/diagnose/weigh"
)

// Block is the raw data of a response with many readings. Storing it is the hot path: each slot notes once where its data
// are, and what they mean is worked out when someone looks, so that what nobody looks at costs nothing. The lock of the
// station's slots guards it.
type Block struct {
	data    []byte // big-endian registers, or packed bits, the first in the lowest bit of the first byte
	bits    bool
	tied    bool   // all slots held to it and nobody followed them
	ties    uint32 // of the slots, when that was so
	version uint32 // counts round
	at      time.Time

	past  []moment
	apart uint32       // seconds between them, at least
	noted uint32       // version that was kept last
	ends  []weigh.Ends // of the registers since the last look; empty: there was no response since

	turns  bool         // some slot has the bytes of its registers swapped
	turned []weigh.Ends // then, the ends of the registers with their bytes swapped
}

// Place is where a slot's data are in a block.
type Place struct {
	Slot  *Slot
	First int32 // register or bit
	Count int32
}

// Store takes in a response for slots of one station, and when it came: big-endian registers, or packed bits.
func (b *Block) Store(data []byte, bits bool, places []Place, at time.Time) {
	mu := places[0].Slot.mu
	mu.Lock()
	defer mu.Unlock()
	same := len(b.ends) > 0 && bytes.Equal(b.data, data)
	b.data, b.bits, b.at = append(b.data[:0], data...), bits, at
	if !bits && !same {
		b.stretch()
	}
	b.place(places)
}

// stretch takes what the registers hold into their ends.
func (b *Block) stretch() {
	b.ends = stretched(b.ends, b.data, 0, 1)
	if b.turns {
		b.turned = stretched(b.turned, b.data, 1, 0)
	}
}

// stretched takes registers into their ends, which begin with them where there are none. Of two bytes that of high is the first one.
func stretched(ends []weigh.Ends, data []byte, high, low int) []weigh.Ends {
	n := len(data) / 2
	if len(ends) != n {
		ends = slices.Grow(ends[:0], n)[:n]
		for i := range ends {
			w := uint16(data[2*i+high])<<8 | uint16(data[2*i+low])
			ends[i] = weigh.Ends{Least: w, Most: w, Lowest: int16(w), Highest: int16(w)}
		}
		return ends
	}
	for i := range ends {
		e, w := &ends[i], uint16(data[2*i+high])<<8|uint16(data[2*i+low])
		e.Least, e.Most = min(e.Least, w), max(e.Most, w)
		e.Lowest, e.Highest = min(e.Lowest, int16(w)), max(e.Highest, int16(w))
	}
	return ends
}

// words appends the registers of a slot.
func (s *Slot) words(words []uint16) []uint16 {
	for i := s.first; i < s.first+s.count; i++ {
		words = append(words, uint16(s.block.data[2*i])<<8|uint16(s.block.data[2*i+1]))
	}
	return words
}

// bit is that of a slot.
func (s *Slot) bit() bool { return s.block.data[s.first/8]>>(s.first%8)&1 == 1 }

// place lets the slots know, unless all of them do.
func (b *Block) place(places []Place) {
	b.version++
	mu := places[0].Slot.mu
	if b.tied && b.ties == mu.ties {
		return
	}
	b.tied = true
	for i := range places {
		s := places[i].Slot
		if s.block != b {
			if s.detached {
				continue
			}
			s.block, s.first, s.count, s.seen = b, places[i].First, places[i].Count, b.version-1
			s.tally()
			mu.ties++ // it may have held to another
			b.turns = b.turns || s.Layout.Order.SwapsBytes()
		}
		if len(s.followers) > 0 {
			s.notify()
			b.tied = false
		}
	}
	b.ties = mu.ties
}

// settle brings the reading up to date with the block; the lock is held.
func (s *Slot) settle() {
	b := s.block
	if b == nil || s.seen == b.version {
		return
	}
	s.seen = b.version
	var room [maxWords]uint16
	words := room[:0]
	if !b.bits {
		words = s.words(words)
	}
	if s.again(words) {
		s.reading.Time, s.reading.GoodTime = b.at, b.at
		return
	}
	sample := Sample{Quality: reading.Good}
	if b.bits {
		sample.DecodeBit(s.bit())
	} else {
		sample.DecodeWords(*s.Layout, words)
	}
	s.take(&sample, b.at)
}

// maxWords is as many registers as a value has, or more.
const maxWords = 128

// again reports whether the block gives the same raw data as are in the reading, which is good or uncertain because of them.
func (s *Slot) again(words []uint16) bool {
	r := &s.reading
	switch {
	case r.Quality == reading.Bad || r.Reason == reading.Stale:
		return false
	case s.block.bits:
		return r.Raw.HasBit && s.bit() == (r.Raw.Bit == 1)
	}
	return !r.Raw.HasBit && slices.Equal(words, r.Raw.Words)
}
