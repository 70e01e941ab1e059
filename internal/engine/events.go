package engine

import (
	"math"
	"sync"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/reading"
	"arithmon/internal/site"
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

func newEvents() *Events { return &Events{next: 1, first: 1, wake: make(chan struct{})} }

// Begin sets the ID of the first event; nothing may have happened yet.
func (l *Events) Begin(id uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.next, l.first = id, id
}

// keep is the event that a slot's reading has just become.
func keep(s *Slot) kept {
	r := &s.reading
	e := kept{s.Point, s.conversion, r.Value, r.Raw.Object, r.Reason, r.Time.UnixNano(), noTime, r.Quality}
	if !r.SourceTime.IsZero() {
		e.source = r.SourceTime.UnixMilli()
	}
	return e
}

// add keeps events, in their order.
func (l *Events) add(events []kept) {
	if len(events) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ring == nil { // room for all, since who has one event has many
		l.ring = make([]kept, 0, MaxEvents)
	}
	for _, e := range events {
		if len(l.ring) < MaxEvents {
			l.ring = append(l.ring, e)
		} else {
			l.ring[(l.next-l.first)%MaxEvents] = e
		}
		l.next++
	}
	if l.wake != nil {
		close(l.wake)
		l.wake = nil
	}
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

// Events are those of all points.
func (e *Engine) Events() *Events { return e.table.events }
