package table

import (
	"slices"
	"time"

	"arithmon/internal/core/reading"
)

// heldAtOnce is how many slots of a station are looked at before a response that came meanwhile is taken in.
const heldAtOnce = 500

// each calls f with the slots of a station that are in the table still, each locked.
func each(slots []*Slot, f func(*Slot)) {
	for part := range slices.Chunk(slots, heldAtOnce) {
		mu := part[0].mu // that of all slots of a station
		mu.Lock()
		for _, s := range part {
			if !s.detached {
				f(s)
			}
		}
		mu.Unlock()
	}
}

// Age makes readings of a station stale that are older than three polls.
func Age(slots []*Slot, now time.Time) { each(slots, func(s *Slot) { s.age(now) }) }

// age does so for one; the lock is held.
func (s *Slot) age(now time.Time) {
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
