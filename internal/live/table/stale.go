package table

import (
	"time"

	"arithmon/internal/core/reading"
)

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
	s.tally()
	s.notify()
}
