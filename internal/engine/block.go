package engine

import (
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/reading"
)

// Block is the raw data of an answer with many readings. Storing it is the hot path: each slot only notes where its data
// are, and what they mean is worked out when someone looks, so that what nobody looks at costs nothing. The lock of the
// station's slots guards it.
type Block struct {
	words   []uint16
	bits    []byte // packed, the first in the lowest bit of the first byte
	at      time.Time
	version uint32 // counts round
}

// Place is where a slot's data are in a block.
type Place struct {
	Slot  *Slot
	First int32 // register or bit
	Count int32
}

// StoreWords takes in big-endian registers for slots of one station.
func (b *Block) StoreWords(data []byte, places []Place) {
	mu := places[0].Slot.mu
	mu.Lock()
	defer mu.Unlock()
	b.words = b.words[:0]
	for i := 0; i+1 < len(data); i += 2 {
		b.words = append(b.words, uint16(data[i])<<8|uint16(data[i+1]))
	}
	b.place(places)
}

// StoreBits takes in packed bits for slots of one station.
func (b *Block) StoreBits(data []byte, places []Place) {
	mu := places[0].Slot.mu
	mu.Lock()
	defer mu.Unlock()
	b.bits = append(b.bits[:0], data...)
	b.place(places)
}

func (b *Block) place(places []Place) {
	b.at = time.Now()
	b.version++
	for i := range places {
		s := places[i].Slot
		if s.block != b {
			if s.detached {
				continue
			}
			s.block, s.first, s.count, s.seen = b, places[i].First, places[i].Count, b.version-1
		}
		if len(s.subscribers) > 0 {
			s.notify()
		}
	}
}

// settle brings the reading up to date with the block; the lock is held.
func (s *Slot) settle() {
	b := s.block
	if b == nil || s.seen == b.version {
		return
	}
	s.seen = b.version
	if s.again(b) {
		s.reading.Time, s.reading.GoodTime = b.at, b.at
		return
	}
	sample := Sample{Quality: reading.Good}
	if b.words != nil {
		sample.DecodeWords(*s.Layout, b.words[s.first:s.first+s.count])
	} else {
		sample.DecodeBit(b.bits[s.first/8]>>(s.first%8)&1 == 1)
	}
	s.take(&sample, b.at)
}

// again reports whether a block gives the same raw data as are in the reading, which is good or uncertain because of them.
func (s *Slot) again(b *Block) bool {
	r := &s.reading
	if r.Quality == reading.Bad || r.Reason == reading.Stale {
		return false
	}
	if b.words == nil {
		return r.Raw.HasBit && (b.bits[s.first/8]>>(s.first%8)&1 == 1) == (r.Raw.Bit == 1)
	}
	if r.Raw.HasBit || len(r.Raw.Words) != int(s.count) {
		return false
	}
	for i, w := range r.Raw.Words {
		if b.words[int(s.first)+i] != w {
			return false
		}
	}
	return true
}

// DecodeWords makes the sample what a layout makes of registers, which it keeps.
func (sample *Sample) DecodeWords(layout codec.Layout, words []uint16) {
	sample.Words = words
	var err error
	if sample.Value, err = layout.Decode(words); err != nil {
		sample.Quality, sample.Reason = reading.Bad, reading.Decode
	}
}

// DecodeBit makes the sample one bit.
func (sample *Sample) DecodeBit(bit bool) {
	sample.HasBit, sample.Bit = true, bit
	sample.Value = codec.BoolValue(bit)
}
