package table

import (
	"math"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// MaxEvents is how many events are kept in memory; who records them must not be further behind.
const MaxEvents = 1 << 16

// Event is a change that a device reported, as it was then.
type Event struct {
	ID         uint64 // counts up by one from event to event
	Point      *site.Point
	Value      codec.Value // engineering
	Quality    reading.Quality
	Reason     reading.Reason
	Raw        reading.Raw
	Time       time.Time // when it became known here
	SourceTime time.Time // the device's own, zero where it has none

	conversion *site.Conversion
}

// Text says the value as a person would read it.
func (e Event) Text() string { return e.conversion.Text(e.Value) }

// Events keeps the newest events of all points, in the order in which the devices reported them. Unlike readings, they do not take
// each other's place.
type Events struct {
	mu    sync.Mutex
	ring  []kept // grows to MaxEvents, then goes round
	next  uint64 // ID of the next
	wake  chan struct{}
	first uint64 // of the IDs given in this run

	records  bool          // somebody records them
	recorded uint64        // the last that is on the disk
	stored   chan struct{} // closed when recorded grows; nil while nobody waits
	wanted   chan struct{} // tells who records that somebody waits
}

// kept is an event in its ring.
type kept struct {
	point      *site.Point
	conversion *site.Conversion
	value      codec.Value
	object     reading.Object
	reason     reading.Reason
	at         int64 // in Unix nanoseconds
	source     int64 // in Unix milliseconds
	quality    reading.Quality
}

// noTime is the source of an event without a time of the device.
const noTime = math.MinInt64

// event is what is kept, with its ID.
func (k *kept) event(id uint64) Event {
	e := Event{id, k.point, k.value, k.quality, k.reason, reading.Raw{Object: k.object}, time.Unix(0, k.at), time.Time{}, k.conversion}
	if k.source != noTime {
		e.SourceTime = time.UnixMilli(k.source)
	}
	return e
}

func newEvents() *Events {
	return &Events{next: 1, first: 1, wake: make(chan struct{}), wanted: make(chan struct{}, 1)}
}

// Record says that whoever calls it records all events after the one of the ID it returns, and tells how far it is by Recorded.
// From then on Keep waits for that.
func (l *Events) Record() (after uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.records, l.recorded = true, l.next-1
	return l.recorded
}

// Recorded says that all events up to an ID are on the disk.
func (l *Events) Recorded(id uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.recorded = id
	if l.stored != nil {
		close(l.stored)
		l.stored = nil
	}
}

// Wanted holds a token when somebody waits for events to be on the disk.
func (l *Events) Wanted() <-chan struct{} { return l.wanted }

// Keep waits until all events that there are now are on the disk, and reports whether they are. Where nobody records them, being here
// is all there is.
func (l *Events) Keep(within time.Duration) bool {
	timer := time.NewTimer(within)
	defer timer.Stop()
	l.mu.Lock()
	last := l.next - 1
	for l.records && l.recorded < last {
		if l.stored == nil {
			l.stored = make(chan struct{})
		}
		stored := l.stored
		l.mu.Unlock()
		select {
		case l.wanted <- struct{}{}:
		default:
		}
		select {
		case <-stored:
		case <-timer.C:
			return false
		}
		l.mu.Lock()
	}
	l.mu.Unlock()
	return true
}

// Begin sets the ID of the first event; nothing may have happened yet.
func (l *Events) Begin(id uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.next, l.first = id, id
}

// logging is a run of events that are kept together.
type logging struct {
	*Events
	open bool
}

func (l *Events) begin() logging { return logging{Events: l} }

// add keeps the event that a slot's reading has just become.
func (l *logging) add(s *Slot) {
	if !l.open {
		l.mu.Lock()
		l.open = true
		if l.ring == nil { // room for all, since who has one event has many
			l.ring = make([]kept, 0, MaxEvents)
		}
	}
	at := int((l.next - l.first) % MaxEvents)
	if len(l.ring) < MaxEvents {
		at, l.ring = len(l.ring), l.ring[:len(l.ring)+1]
	}
	l.next++
	r, k := &s.reading, &l.ring[at]
	k.point, k.conversion, k.value, k.object = s.Point, s.conversion, r.Value, r.Raw.Object
	k.reason, k.quality, k.at, k.source = r.Reason, r.Quality, r.Time.UnixNano(), noTime
	if !r.SourceTime.IsZero() {
		k.source = r.SourceTime.UnixMilli()
	}
}

func (l *logging) end() {
	if !l.open {
		return
	}
	if l.wake != nil {
		close(l.wake)
		l.wake = nil
	}
	l.mu.Unlock()
}

// After appends the events that follow an ID, at most limit. lost is how many of them are no longer kept.
func (l *Events) After(list []Event, id uint64, limit int) (_ []Event, lost uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	from := max(id+1, l.first)
	if oldest := l.next - uint64(len(l.ring)); from < oldest {
		lost, from = oldest-from, oldest
	}
	for ; from < l.next && limit > 0; from, limit = from+1, limit-1 {
		list = append(list, l.ring[(from-l.first)%MaxEvents].event(from))
	}
	return list, lost
}

// Last is the ID of the newest event, 0 when there was none.
func (l *Events) Last() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.next - 1
}

// More is closed when there is an event after an ID.
func (l *Events) More(id uint64) <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.next-1 > id {
		return closed
	}
	if l.wake == nil {
		l.wake = make(chan struct{})
	}
	return l.wake
}

var closed = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()
