package engine

import (
	"container/heap"
	"time"
)

// entry is a job with the time it is next due.
type entry struct {
	job     Job
	station *stationRun
	due     time.Time
	anchor  time.Time // a place on its grid: it is due every period from there
	ran     bool      // at least once
	index   int       // in the heap, -1 when not in it
}

// place is the last place on the entry's grid before now.
func (e *entry) place(now time.Time) time.Time {
	return now.Add(-now.Sub(e.anchor) % max(1, e.job.Period()))
}

// schedule orders entries by due time.
type schedule []*entry

func (s schedule) Len() int           { return len(s) }
func (s schedule) Less(i, j int) bool { return s[i].due.Before(s[j].due) }
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

func (s *schedule) move(e *entry, due time.Time) {
	e.due = due
	heap.Fix(s, e.index)
}

// next returns the entry that is due first, nil when there is none.
func (s schedule) next() *entry {
	if len(s) == 0 {
		return nil
	}
	return s[0]
}
