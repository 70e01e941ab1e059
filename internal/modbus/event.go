package modbus

import "time"

// Event is something that a client saw on its connection.
type Event struct {
	Kind  EventKind
	Unit  byte          // that sent or is asked
	Asked int           // unit that had been asked, of what came; -1 when that is not known
	Data  []byte        // as on the wire; holds during the call
	At    time.Time     // when it was seen
	After time.Duration // of an answer, also a late one: since its request was sent; 0 when that is not known
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

// sentAt remembers when the last requests were sent, by their identifiers.
type sentAt struct {
	first time.Time
	last  [16]struct {
		after time.Duration // the first; 0: none was
		id    uint16
	}
}

func (s *sentAt) note(id uint16, at time.Time) {
	if s.first.IsZero() {
		s.first = at.Add(-1)
	}
	e := &s.last[id%uint16(len(s.last))]
	e.id, e.after = id, at.Sub(s.first)
}

// since is how long before now a request was sent, 0 when that is not known.
func (s *sentAt) since(id uint16, now time.Time) time.Duration {
	if e := s.last[id%uint16(len(s.last))]; e.id == id && e.after != 0 {
		return now.Sub(s.first) - e.after
	}
	return 0
}
