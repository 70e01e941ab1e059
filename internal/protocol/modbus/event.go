package modbus

import "time"

// Event is something that a client saw on its connection.
type Event struct {
	Kind  EventKind
	Unit  byte          // that sent or is asked
	Asked int           // unit that had been asked, of what came; -1 when that is not known
	Data  []byte        // as on the wire; holds during the call
	At    time.Time     // when it was seen
	After time.Duration // of a response, also a late one: since its request was sent; 0 when that is not known
	Text  string        // what is wrong, when something is
}

// EventKind says what was seen.
type EventKind byte

// The kinds.
const (
	EventSent    EventKind = iota // a request
	EventAnswer                   // to the request under way, be it a refusal
	EventLate                     // to a request that has timed out
	EventForeign                  // to no request under way: of another unit, function or identifier
	EventStray                    // bytes though nothing was asked
	EventDamaged                  // bytes that are no frame, or one whose checksum does not fit
	EventEcho                     // our own request came back
	EventTimeout                  // nothing came in time
	EventClosed                   // the connection ended
)

// sentAt remembers the last requests by their identifiers, and how many there were.
type sentAt struct {
	first time.Time
	total uint64
	last  [16]struct {
		after    time.Duration // the first; 0: none was
		id       uint16
		answered bool
	}
}

func (s *sentAt) note(id uint16, at time.Time) {
	if s.total++; s.first.IsZero() {
		s.first = at.Add(-1)
	}
	e := &s.last[id%uint16(len(s.last))]
	e.id, e.after, e.answered = id, at.Sub(s.first), false
}

// since is how long before now a request was sent, 0 when that is not known.
func (s *sentAt) since(id uint16, now time.Time) time.Duration {
	if e := s.last[id%uint16(len(s.last))]; e.id == id && e.after != 0 {
		return now.Sub(s.first) - e.after
	}
	return 0
}

func (s *sentAt) answered(id uint16) {
	if e := &s.last[id%uint16(len(s.last))]; e.id == id {
		e.answered = true
	}
}

// unexpected says what a response is whose identifier is of no request under way; latest is that of the last request.
func (s *sentAt) unexpected(id, latest uint16) (kind EventKind, text string) {
	e := s.last[id%uint16(len(s.last))]
	switch known := e.id == id && e.after != 0; {
	case known && e.answered:
		return EventStray, "a second response to one request"
	case known, uint64(latest-id) < s.total: // identifiers are used in turn
		return EventLate, ""
	}
	return EventForeign, "another identifier than any request had"
}
