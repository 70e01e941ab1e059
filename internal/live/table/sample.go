package table

import (
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// Sample is one raw reading of a point, before scaling.
type Sample struct {
	Slot       *Slot
	Address    site.Address // for samples without a slot
	Value      codec.Value  // decoded; nothing when Reason makes it bad
	Words      []uint16     // raw registers; the receiver copies what it keeps
	Bit        bool         // raw bit, when HasBit
	HasBit     bool
	Object     reading.Object  // raw object of an event-driven protocol
	Event      bool            // it tells of a change, and not only how things are
	Quality    reading.Quality // Good, or what the device's flags or the decoding make of it
	Reason     reading.Reason
	SourceTime time.Time // the device's own, zero where it has none
	Time       time.Time // when it came; zero: now
}

// Raw is the wire data of a sample.
func (sample Sample) Raw() reading.Raw {
	raw := reading.Raw{Words: sample.Words, HasBit: sample.HasBit, Object: sample.Object}
	if sample.Bit {
		raw.Bit = 1
	}
	return raw
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
