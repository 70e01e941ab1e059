package table

import (
	"slices"

	"arithmon/internal/core/reading"
)

// Count is how many points have each quality.
type Count struct {
	Good      int
	Uncertain int
	Bad       int
}

// kind is what a slot counts as.
type kind uint8

// The kinds; the zero is not counted.
const (
	good kind = iota + 1
	uncertain
	bad
	kinds
)

// counts are how many slots of a station have each quality, kept up to date with every change. A slot whose data are in a block and may
// turn out to be no value waits until someone asks, since what it is would have to be worked out with every response.
type counts struct {
	of      [kinds]int32
	waiting []*Slot
}

// tally brings the counts up to date with the slot; the lock is held.
func (s *Slot) tally() {
	if !s.kept {
		return
	}
	is := good // what is in a block and cannot be anything else need not be worked out
	if s.block == nil || !s.conversion.Certain() {
		switch s.reading.Quality {
		case reading.Good:
		case reading.Uncertain:
			is = uncertain
		default:
			is = bad
		}
		if s.block != nil && !s.waits {
			s.waits = true
			s.mu.counts.waiting = append(s.mu.counts.waiting, s)
		}
	}
	if is != s.counted {
		s.mu.counts.of[s.counted]--
		s.mu.counts.of[is]++
		s.counted = is
	}
}

// leave takes the slot out of the counts; the lock is held.
func (s *Slot) leave() {
	if s.kept {
		s.mu.counts.of[s.counted]--
		s.kept, s.counted = false, 0
	}
}

// Count says how many points of a station have each quality, given one of its slots or more.
func (t *Table) Count(slots []*Slot) Count {
	if len(slots) == 0 {
		return Count{}
	}
	mu := slots[0].mu
	mu.Lock()
	defer mu.Unlock()
	c := &mu.counts
	still := c.waiting[:0]
	for _, s := range c.waiting {
		if s.waits = s.kept && s.block != nil; s.waits {
			s.settle()
			still = append(still, s)
		}
	}
	clear(c.waiting[len(still):])
	c.waiting = still
	return Count{int(c.of[good]), int(c.of[uncertain]), int(c.of[bad])}
}

// Qualities gives f the quality of each point of a station that the table holds. The table is locked meanwhile.
func Qualities(slots []*Slot, f func(tag string, q reading.Quality)) {
	each(slots, func(s *Slot) {
		if s.block != nil && s.conversion.Certain() {
			f(s.Point.Tag, reading.Good)
			return
		}
		s.settle()
		f(s.Point.Tag, s.reading.Quality)
	})
}

// Why is the reason that most of some points are bad for.
func (t *Table) Why(slots []*Slot) string {
	reasons := map[reading.Reason]int{}
	for _, s := range slots {
		if r := s.Reading(); r.Quality == reading.Bad {
			reasons[r.Reason]++
		}
	}
	var most reading.Reason
	for r, n := range reasons {
		if n > reasons[most] || n == reasons[most] && r < most {
			most = r
		}
	}
	return string(most)
}

// Flagged are the tags of those points whose readings have one of some reasons, by reason.
func (t *Table) Flagged(slots []*Slot, reasons []reading.Reason) map[reading.Reason][]string {
	flagged := map[reading.Reason][]string{}
	for _, s := range slots {
		if r := s.Reading(); r.Quality != reading.Good && slices.Contains(reasons, r.Reason) {
			flagged[r.Reason] = append(flagged[r.Reason], s.Point.Tag)
		}
	}
	return flagged
}
