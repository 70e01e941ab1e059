package link

import (
	"container/heap"
	"time"
)

// entry is a job with the time it is next due.
type entry struct {
	job     Job
	station *stationRun
	due     time.Time // on its grid
	next    time.Time // when it is done: as due, or later when it is repeated or put off
	anchor  time.Time // a place on its grid: it is due every period from there
	tries   int       // that failed, of this turn
	ran     bool      // at least once
	gone    bool      // no longer wanted
	index   int       // in the heap, -1 when not in it
}

// place is the last place on the entry's grid before now.
func (e *entry) place(now time.Time) time.Time {
	return now.Add(-now.Sub(e.anchor) % max(1, e.job.Period()))
}

// schedule orders entries by when they are next. One that is being done is not in it.
type schedule []*entry

func (s schedule) Len() int           { return len(s) }
func (s schedule) Less(i, j int) bool { return s[i].next.Before(s[j].next) }
func (s schedule) Swap(i, j int) {
	s[i], s[j] = s[j], s[i]
	s[i].index, s[j].index = i, j
}

// Push is for container/heap.
func (s *schedule) Push(x any) {
	e := x.(*entry)
	e.index = len(*s)
	*s = append(*s, e)
}

// Pop is for container/heap.
func (s *schedule) Pop() any {
	old := *s
	e := old[len(old)-1]
	old[len(old)-1] = nil
	*s = old[:len(old)-1]
	e.index = -1
	return e
}

func (s *schedule) add(e *entry) { heap.Push(s, e) }

func (s *schedule) remove(e *entry) {
	if e.index >= 0 {
		heap.Remove(s, e.index)
	}
}

// move sets when an entry is due.
func (s *schedule) move(e *entry, due time.Time) {
	e.due = due
	s.postpone(e, due)
}

// postpone sets when an entry is done, and leaves when it is due.
func (s *schedule) postpone(e *entry, next time.Time) {
	e.next = next
	if e.index >= 0 {
		heap.Fix(s, e.index)
	}
}

// prefer returns the entry among those due that is due longest and wanted; when none is wanted, the one due longest.
// There must be one that is due.
func (s schedule) prefer(now time.Time, wanted func(*stationRun) bool) *entry {
	best := s[0]
	found := wanted(best.station)
	for _, e := range s[1:] {
		if e.next.After(now) {
			continue
		}
		if is := wanted(e.station); is && (!found || e.next.Before(best.next)) {
			best, found = e, true
		}
	}
	return best
}

// next returns the entry that is due first, nil when there is none.
func (s schedule) next() *entry {
	if len(s) == 0 {
		return nil
	}
	return s[0]
}
