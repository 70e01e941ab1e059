package modbus

import "time"

// Event is something that a client saw on its connection.
type Event struct {
	Kind  EventKind
	Unit  byte          // that sent or is asked
	Asked int           // unit that had been asked, of what came; -1 when that is not known
	Data  []byte        // as on the wire; holds during the call
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
type sentAt [64]struct {
	id uint16
	at time.Time
}

func (s *sentAt) note(id uint16, at time.Time) {
	e := &s[id%uint16(len(s))]
	e.id, e.at = id, at
}

// since is how long ago a request was sent, 0 when that is not known.
func (s *sentAt) since(id uint16) time.Duration {
	if e := s[id%uint16(len(s))]; e.id == id && !e.at.IsZero() {
		return time.Since(e.at)
	}
	return 0
}
