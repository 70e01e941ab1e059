package engine

import (
	"reflect"
	"slices"
	"sync"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/reading"
	"arithmon/internal/site"
)

// Slot is the place of one point in the live table. Its point never changes: a changed point gets a new slot, so that
// an answer still under way for the old one is not taken for the new.
type Slot struct {
	Point      site.Point
	Layout     codec.Layout
	Period     time.Duration
	conversion site.Conversion

	mu          *sync.Mutex // of all slots of its station, so that an answer with many readings takes it once
	reading     reading.Reading
	subscribers []*Subscription
	detached    bool
}

func newSlot(p site.Point, s site.Station, mu *sync.Mutex, now time.Time) *Slot {
	return &Slot{mu: mu, Point: p, Layout: p.Layout(s), Period: p.Period(s), conversion: p.Conversion(), reading: reading.NotRead(now)}
}

// Live is a point with its reading.
type Live struct {
	Point   site.Point
	Reading reading.Reading
	Removed bool // the point is gone; only its tag means anything

	conversion site.Conversion
}

// Text says the value as a person would read it.
func (l Live) Text() string { return l.conversion.Text(l.Reading.Value) }

func (s *Slot) live() Live {
	s.mu.Lock()
	defer s.mu.Unlock()
	return Live{s.Point, s.reading, s.detached, s.conversion}
}

// Batch takes in the readings of one answer. It holds the lock of their station from Begin to End, which must follow
// soon.
type Batch struct {
	mu  *sync.Mutex
	now time.Time
}

// Begin starts a batch for slots of one station.
func Begin(first *Slot) Batch {
	first.mu.Lock()
	return Batch{first.mu, time.Now()}
}

// End ends the batch.
func (b Batch) End() { b.mu.Unlock() }

// Emit takes in a sample.
func (b Batch) Emit(sample *Sample) { sample.Slot.take(sample, b.now) }

// Again takes in that the device gave the same raw data as before, and reports whether it did: then only the times of
// the reading move on, and nothing needs to be decoded. Registers are in words, a bit in bit.
func (b Batch) Again(s *Slot, words []uint16, bit bool) bool {
	r := &s.reading
	if s.detached || r.Quality == reading.Bad || r.Reason == reading.Stale || len(words) != len(r.Raw.Words) ||
		r.Raw.HasBit && bit != (r.Raw.Bit == 1) {
		return false
	}
	for i, w := range words {
		if r.Raw.Words[i] != w {
			return false
		}
	}
	r.Time, r.GoodTime = b.now, b.now
	s.notify()
	return true
}

// take stores a sample; the lock is held. It is the hot path: what is large is changed in place.
func (s *Slot) take(sample *Sample, now time.Time) {
	if s.detached {
		return
	}
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
	s.notify()
}

// fail makes the reading bad for a reason.
func (s *Slot) fail(reason reading.Reason, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.detached || s.reading.Quality == reading.Bad && s.reading.Reason == reason {
		return
	}
	s.reading = s.reading.Failed(reason, now)
	s.notify()
}

// age makes the reading stale when it is older than three polls.
func (s *Slot) age(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.reading.Quality == reading.Bad || s.reading.Reason == reading.Stale || now.Sub(s.reading.Time) <= 3*s.Period {
		return
	}
	s.reading = s.reading.Aged()
	s.notify()
}

func (s *Slot) notify() {
	for _, sub := range s.subscribers {
		sub.mark(s)
	}
}

// table holds the slots by tag.
type table struct {
	mu            sync.RWMutex
	slots         map[string]*Slot
	locks         map[string]*sync.Mutex // by station
	subscriptions map[*Subscription]struct{}
}

func newTable() *table {
	return &table{slots: map[string]*Slot{}, locks: map[string]*sync.Mutex{}, subscriptions: map[*Subscription]struct{}{}}
}

// NewTable makes a live table of one station by itself, for tests and measurements of a driver.
func NewTable(st site.Station, points []site.Point) (Host, Station) {
	t := newTable()
	station := Station{Station: st}
	for _, p := range points {
		station.Slots = append(station.Slots, t.put(p, st))
	}
	return t, station
}

// Doing makes the table a Host.
func (t *table) Doing(string) {}

// Emit takes in a sample.
func (t *table) Emit(sample Sample) {
	b := Begin(sample.Slot)
	defer b.End()
	b.Emit(&sample)
}

func (t *table) get(tag string) *Slot {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.slots[tag]
}

// put places a point, keeps its slot when nothing about it changed, and its reading when what it means did not.
func (t *table) put(p site.Point, st site.Station) *Slot {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.locks[st.Name] == nil {
		t.locks[st.Name] = new(sync.Mutex)
	}
	slot := newSlot(p, st, t.locks[st.Name], time.Now())
	old := t.slots[p.Tag]
	if old != nil {
		same := sameSource(old, slot)
		if same && reflect.DeepEqual(old.Point, p) && old.Period == slot.Period {
			return old
		}
		old.mu.Lock()
		if same {
			slot.reading = old.reading
		}
		slot.subscribers = old.subscribers
		old.detached, old.subscribers = true, nil
		old.mu.Unlock()
	} else {
		for sub := range t.subscriptions {
			if sub.wants(p.Tag) {
				slot.subscribers = append(slot.subscribers, sub)
			}
		}
	}
	t.slots[p.Tag] = slot
	slot.mu.Lock()
	slot.notify()
	slot.mu.Unlock()
	return slot
}

// sameSource reports whether two slots read the same data in the same way, so that a reading of one holds for the other.
func sameSource(a, b *Slot) bool {
	return a.Point.Station == b.Point.Station && a.Point.Address == b.Point.Address && a.Layout == b.Layout &&
		a.Point.Invert == b.Point.Invert && reflect.DeepEqual(a.Point.Scaling, b.Point.Scaling)
}

func (t *table) remove(tag string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	slot := t.slots[tag]
	if slot == nil {
		return
	}
	delete(t.slots, tag)
	slot.mu.Lock()
	defer slot.mu.Unlock()
	slot.detached = true
	slot.notify()
	slot.subscribers = nil
}

func (t *table) age(now time.Time) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	for _, slot := range t.slots {
		slot.age(now)
	}
}

// Count is how many points have each quality.
type Count struct {
	Good      int `json:"good"`
	Uncertain int `json:"uncertain"`
	Bad       int `json:"bad"`
}

func (t *table) count(slots []*Slot) (c Count) {
	for _, slot := range slots {
		slot.mu.Lock()
		switch slot.reading.Quality {
		case reading.Good:
			c.Good++
		case reading.Uncertain:
			c.Uncertain++
		default:
			c.Bad++
		}
		slot.mu.Unlock()
	}
	return c
}
