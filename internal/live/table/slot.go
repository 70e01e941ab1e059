// Package table is the live table: the newest reading of every point, who follows it, and the events that devices report.
package table

import (
	"reflect"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// Slot is the place of one point in the live table. Its point never changes: a changed point gets a new slot, so that
// a response still under way for the old one is not taken for the new.
type Slot struct {
	Point      *site.Point   // shared with the site
	Layout     *codec.Layout // shared among points that are laid out alike
	Period     time.Duration
	conversion *site.Conversion // likewise

	mu        *slotLock // of all slots of its station, so that a response with many readings takes it once
	reading   reading.Reading
	block     *Block // holds what is newer than reading, when set and not seen
	first     int32  // where its data are in block
	count     int32
	seen      uint32 // version of block that is in reading
	looked    uint32 // likewise at its last look
	movement  diagnose.Movement
	detached  bool // here, where it takes no room of its own
	kept      bool // by a table, which counts it
	counted   kind // as what it is in the count of its station
	waits     bool // in the list of those whose quality has to be looked at
	followers []follower
}

// slotLock guards the slots of a station.
type slotLock struct {
	sync.Mutex
	ties   uint32 // counts when a slot parts from its block or gets a follower, which blocks look for
	points int    // of the station that the table holds, guarded by the table's lock
	counts counts
}

// newSlot makes a slot; the layout and conversion of another that are the same are used again.
func newSlot(p *site.Point, s site.Station, mu *slotLock, now time.Time, like *Slot) *Slot {
	layout, conversion := p.Layout(s), p.Conversion()
	slot := &Slot{mu: mu, Point: p, Layout: &layout, Period: p.Period(s), conversion: &conversion, reading: reading.NotRead(now)}
	if like != nil && *like.Layout == layout {
		slot.Layout = like.Layout
	}
	if like != nil && reflect.DeepEqual(*like.conversion, conversion) {
		slot.conversion = like.conversion
	}
	return slot
}

// NewSlot makes a slot of a point that the site does not have, of which only events are kept.
func NewSlot(p site.Point, s site.Station) *Slot {
	return newSlot(&p, s, new(slotLock), time.Now(), nil)
}

// Fail makes the reading bad for a reason, unless nothing was read yet.
func (s *Slot) Fail(reason reading.Reason) {
	s.mu.Lock()
	unread := s.reading.Reason == reading.NeverRead
	s.mu.Unlock()
	if !unread {
		s.Bad(reason, time.Now())
	}
}

// Conversion is between raw and engineering values of the point.
func (s *Slot) Conversion() *site.Conversion { return s.conversion }

// Live is a point with its reading.
type Live struct {
	Point   *site.Point // not to be changed
	Reading reading.Reading
	Removed bool // the point is gone; only its tag means anything

	conversion *site.Conversion
}

// Text says the value as a person would read it.
func (l Live) Text() string { return l.conversion.Text(l.Reading.Value) }

// Live is the point with its reading.
func (s *Slot) Live() Live {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.settle()
	return Live{s.Point, s.reading, s.detached, s.conversion}
}

// take stores a sample; the lock is held. What is large is changed in place.
func (s *Slot) take(sample *Sample, now time.Time) {
	r := &s.reading
	r.Time, r.SourceTime = now, sample.SourceTime
	r.Quality, r.Reason = sample.Quality, sample.Reason
	r.Raw.Object, r.Raw.HasBit, r.Raw.Bit = sample.Object, sample.HasBit, 0
	if sample.Bit {
		r.Raw.Bit = 1
	}
	if !slices.Equal(r.Raw.Words, sample.Words) {
		r.Raw.Words = slices.Clone(sample.Words) // readings share it, so it is replaced and never changed
	}
	if r.Quality != reading.Bad && s.conversion.Invalid(sample.Value) {
		r.Quality, r.Reason = reading.Bad, reading.SensorFailure
	}
	if r.Quality != reading.Bad {
		value, inRange := s.conversion.Engineering(sample.Value)
		switch {
		case value.IsZero():
			r.Quality, r.Reason = reading.Bad, reading.Decode // its scaling gave no number
		case !inRange && r.Quality == reading.Good:
			r.Quality, r.Reason = reading.Uncertain, reading.RawRange
			fallthrough
		default:
			r.Value, r.GoodTime = value, now
		}
	}
	s.tally()
}

// Bad makes the reading bad for a reason.
func (s *Slot) Bad(reason reading.Reason, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.settle()
	if s.detached || s.reading.Quality == reading.Bad && s.reading.Reason == reason {
		return
	}
	s.loose()
	s.reading = s.reading.Failed(reason, now)
	s.tally()
	s.notify()
}

// loose parts the slot from its block; the lock is held.
func (s *Slot) loose() {
	if s.block != nil {
		s.block = nil
		s.mu.ties++
	}
}

func (s *Slot) notify() {
	for _, f := range s.followers {
		f.changed(s)
	}
}

// Reading is what is known of the point.
func (s *Slot) Reading() reading.Reading { return s.Live().Reading }

// emit takes in a sample; the lock is held.
func (s *Slot) emit(sample *Sample) {
	came := sample.Time
	if came.IsZero() {
		came = time.Now()
	}
	s.loose()
	s.take(sample, came)
	s.notify()
}

// sameSource reports whether two slots read the same data in the same way, so that a reading of one holds for the other.
func sameSource(a, b *Slot) bool {
	return a.Point.Station == b.Point.Station && a.Point.Address == b.Point.Address && *a.Layout == *b.Layout &&
		a.Point.Invert == b.Point.Invert && slices.Equal(a.Point.Invalid, b.Point.Invalid) && reflect.DeepEqual(a.Point.Scaling, b.Point.Scaling)
}
