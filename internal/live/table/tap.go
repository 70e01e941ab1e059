package table

import (
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// follower is told of the slots that it wants.
type follower interface {
	wants(tag string) bool
	// changed is called with the slot locked, after its reading or what it holds to has changed.
	changed(s *Slot)
}

// TapOptions say what a Tap gets.
type TapOptions struct {
	Patterns []string              // tags or patterns of the points
	Wants    func(tag string) bool // the points, in place of Patterns; Again asks it anew. It must not call the table
	Room     int                   // how many readings may wait to be taken (default 65,536)
	// Every asks for readings that tell nothing new, too: the same value, quality, reason and time of the device as before.
	Every bool
}

// defaultRoom is how many readings may wait in a Tap of which nothing else is said.
const defaultRoom = 1 << 16

// Tap is a bounded queue that gets the readings of the points whose tags fit its patterns, each of them, in the order in which they came.
// Unlike in a Subscription, none takes another's place. When it is full, further ones are lost and counted: whoever gives a reading never
// waits for whoever takes it.
type Tap struct {
	table   *Table
	options TapOptions

	mu     sync.Mutex
	queue  []Tapped // in a ring that grows to Room
	first  int
	lost   uint64
	last   map[string]told // what was put last of a tag, when only what is new is wanted
	ready  chan struct{}   // holds one token while something waits
	closed bool
}

// Tapped is a reading as it came.
type Tapped struct {
	Point   *site.Point // not to be changed
	Reading reading.Reading
	Removed bool // the point is gone, or means something else now; this is its last reading
}

// told is what makes a reading new.
type told struct {
	value   codec.Value
	quality reading.Quality
	reason  reading.Reason
	source  time.Time
}

// Tap begins a tap, which gets what comes from now on; the caller closes it. What was read before, Table.Get tells.
func (t *Table) Tap(o TapOptions) *Tap {
	if o.Room <= 0 {
		o.Room = defaultRoom
	}
	p := &Tap{table: t, options: o, ready: make(chan struct{}, 1), last: map[string]told{}}
	t.follow(p, func(*Slot) {})
	return p
}

func (p *Tap) wants(tag string) bool {
	if p.options.Wants != nil {
		return p.options.Wants(tag)
	}
	return slices.ContainsFunc(p.options.Patterns, func(pattern string) bool { return site.Match(pattern, tag) })
}

func (p *Tap) changed(s *Slot) {
	s.settle()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return
	}
	is := told{s.reading.Value, s.reading.Quality, s.reading.Reason, s.reading.SourceTime}
	if !p.options.Every && !s.detached {
		if was, known := p.last[s.Point.Tag]; known && was == is {
			return
		}
		p.last[s.Point.Tag] = is
	}
	if s.detached {
		delete(p.last, s.Point.Tag)
	}
	if !p.put(Tapped{s.Point, s.reading, s.detached}) {
		p.lost++
		delete(p.last, s.Point.Tag) // so that the next one is put in any case
		return
	}
	select {
	case p.ready <- struct{}{}:
	default:
	}
}

// put adds a reading where there is room.
func (p *Tap) put(r Tapped) bool {
	if len(p.queue)-p.first >= p.options.Room {
		return false
	}
	if p.first > 0 && len(p.queue) == cap(p.queue) { // what was taken makes room before the queue grows
		n := copy(p.queue, p.queue[p.first:])
		clear(p.queue[n:])
		p.queue, p.first = p.queue[:n], 0
	}
	p.queue = append(p.queue, r)
	return true
}

// Ready holds a token while there is something to Take.
func (p *Tap) Ready() <-chan struct{} { return p.ready }

// Take appends at most limit readings to list, in the order in which they came, and says how many were lost since the last call; those were
// later than the readings that it returns. It does not wait.
func (p *Tap) Take(list []Tapped, limit int) (_ []Tapped, lost uint64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	n := min(limit, len(p.queue)-p.first)
	list = append(list, p.queue[p.first:p.first+n]...)
	clear(p.queue[p.first : p.first+n])
	if p.first += n; p.first == len(p.queue) {
		p.queue, p.first = p.queue[:0], 0
		lost, p.lost = p.lost, 0
	} else {
		select {
		case p.ready <- struct{}{}:
		default:
		}
	}
	return list, lost
}

// Again asks anew which of some points are wanted. Of one that no longer is, what waits in the tap may still be taken; one that now is gives
// its reading as it stands.
func (p *Tap) Again(tags []string) { p.table.again(p, tags, p.changed) }

// Close ends the tap. What waits in it may still be taken.
func (p *Tap) Close() {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	p.table.leave(p)
}
