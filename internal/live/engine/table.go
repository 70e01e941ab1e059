package engine

import (
	"reflect"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// Slot is the place of one point in the live table. Its point never changes: a changed point gets a new slot, so that
// an answer still under way for the old one is not taken for the new.
type Slot struct {
	Point      *site.Point   // shared with the site
	Layout     *codec.Layout // shared among points that are laid out alike
	Period     time.Duration
	conversion *site.Conversion // likewise

	mu          *slotLock // of all slots of its station, so that an answer with many readings takes it once
	reading     reading.Reading
	block       *Block // holds what is newer than reading, when set and not seen
	first       int32  // where its data are in block
	count       int32
	seen        uint32 // version of block that is in reading
	looked      uint32 // likewise at its last look
	movement    diagnose.Movement
	detached    bool // here, where it takes no room of its own
	subscribers []*Subscription
}

// slotLock guards the slots of a station.
type slotLock struct {
	sync.Mutex
	ties   uint32 // counts when a slot parts from its block or gets a follower, which blocks look for
	points int    // of the station that the table holds, guarded by the table's lock
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
		s.fail(reason, time.Now())
	}
}

// Live is a point with its reading.
type Live struct {
	Point   *site.Point // not to be changed
	Reading reading.Reading
	Removed bool // the point is gone; only its tag means anything

	conversion *site.Conversion
}

// Text says the value as a person would read it.
func (l Live) Text() string { return l.conversion.Text(l.Reading.Value) }

func (s *Slot) live() Live {
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
}

// fail makes the reading bad for a reason.
func (s *Slot) fail(reason reading.Reason, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.settle()
	if s.detached || s.reading.Quality == reading.Bad && s.reading.Reason == reason {
		return
	}
	s.loose()
	s.reading = s.reading.Failed(reason, now)
	s.notify()
}

// age makes the reading stale when it is older than three polls.
func (s *Slot) age(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.look(now)
	last := s.reading.Time
	if s.block != nil {
		last = s.block.at
	}
	if s.Period == 0 || now.Sub(last) <= 3*s.Period { // what is reported when it changes does not age
		return
	}
	if s.settle(); s.reading.Quality == reading.Bad || s.reading.Reason == reading.Stale {
		return
	}
	s.loose()
	s.reading = s.reading.Aged()
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
	for _, sub := range s.subscribers {
		sub.mark(s)
	}
}

// table holds the slots by tag.
type table struct {
	mu            sync.RWMutex
	slots         map[string]*Slot
	locks         map[string]*slotLock // by station
	last          *Slot                // that was made, which the next is often like
	subscriptions map[*Subscription]struct{}
	events        *Events
}

func newTable() *table {
	return &table{slots: map[string]*Slot{}, locks: map[string]*slotLock{}, subscriptions: map[*Subscription]struct{}{}, events: newEvents()}
}

// EventsOf are the events of a table made by NewTable.
func EventsOf(h Host) *Events { return h.(*table).events }

// Reading is what is known of the point.
func (s *Slot) Reading() reading.Reading { return s.live().Reading }

// NewTable makes a live table of one station by itself, for tests and measurements of a driver.
func NewTable(st site.Station, points []site.Point) (Host, Station) {
	t := newTable()
	station := Station{Station: st}
	for _, p := range points {
		station.Slots = append(station.Slots, t.put(&p, st))
	}
	return t, station
}

// Saw makes the table a Host.
func (t *table) Saw(Frame) {}

// Doing makes the table a Host.
func (t *table) Doing(string) {}

// Hurry makes the table a Host.
func (t *table) Hurry(string) {}

// Note makes the table a Host.
func (t *table) Note(string, diagnose.Note) {}

// Fault makes the table a Host.
func (t *table) Fault(*crash.Error) {}

// keepWithin is how long events may take to be on the disk. An outstation that is not confirmed in time gives them again.
const keepWithin = 2 * time.Second

// Keep makes the table a Host.
func (t *table) Keep() bool { return t.events.Keep(keepWithin) }

// Asked makes the table a Host.
func (t *table) Asked(int, Outcome, time.Duration, bool) {}

// Says makes the table a Host.
func (t *table) Says(string, []string) {}

// Emit takes in samples.
func (t *table) Emit(samples []Sample) {
	for len(samples) > 0 {
		mu := samples[0].Slot.mu // that of all slots of a station
		mu.Lock()
		log := t.events.begin()
		i := 0
		for ; i < len(samples) && samples[i].Slot.mu == mu; i++ {
			if s := samples[i].Slot; !s.detached {
				s.emit(&samples[i])
				if samples[i].Event {
					log.add(s)
				}
			}
		}
		log.end()
		mu.Unlock()
		samples = samples[i:]
	}
}

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

func (t *table) get(tag string) *Slot {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.slots[tag]
}

// put places a point, keeps its slot when nothing about it changed, and its reading when what it means did not.
func (t *table) put(p *site.Point, st site.Station) *Slot {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.locks[st.Name] == nil {
		t.locks[st.Name] = new(slotLock)
		defer t.release(st.Name) // unless the point is kept there
	}
	slot := newSlot(p, st, t.locks[st.Name], time.Now(), t.last)
	old := t.slots[p.Tag]
	if old != nil {
		same := sameSource(old, slot)
		if same && (old.Point == p || reflect.DeepEqual(old.Point, p)) && old.Period == slot.Period {
			return old
		}
		old.mu.Lock()
		if same {
			old.settle()
			slot.reading = old.reading
		}
		slot.subscribers = old.subscribers
		old.detached, old.subscribers = true, nil
		old.mu.Unlock()
		old.mu.points--
		defer t.release(old.Point.Station) // once the new one counts
	} else {
		for sub := range t.subscriptions {
			if sub.wants(p.Tag) {
				slot.subscribers = append(slot.subscribers, sub)
			}
		}
	}
	t.slots[p.Tag], t.last = slot, slot
	slot.mu.points++
	slot.mu.Lock()
	slot.notify()
	slot.mu.Unlock()
	return slot
}

// sameSource reports whether two slots read the same data in the same way, so that a reading of one holds for the other.
func sameSource(a, b *Slot) bool {
	return a.Point.Station == b.Point.Station && a.Point.Address == b.Point.Address && *a.Layout == *b.Layout &&
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
	slot.mu.points--
	t.release(slot.Point.Station)
	slot.mu.Lock()
	defer slot.mu.Unlock()
	slot.detached = true
	slot.notify()
	slot.subscribers = nil
}

// release forgets the lock of a station without points.
func (t *table) release(station string) {
	if lock := t.locks[station]; lock != nil && lock.points == 0 {
		delete(t.locks, station)
	}
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
		slot.settle()
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
