package engine

import (
	"context"
	"sync"
	"time"

	"arithmon/internal/live/diagnose"
)

// How this program finds out that it was not run: it asks to be every now and then, and looks when it was.
const (
	stallEvery = 100 * time.Millisecond
	stallLeast = 250 * time.Millisecond
	stallsKept = time.Minute
)

// stalls are the times at which this program was not run though it wanted to. What came late then is nobody else's doing.
type stalls struct {
	mu   sync.Mutex
	list []stall
}

type stall struct {
	end  time.Time
	took time.Duration
}

// watch notes them until ctx ends.
func (s *stalls) watch(ctx context.Context) {
	timer := time.NewTimer(stallEvery)
	defer timer.Stop()
	for began := time.Now(); ; began = time.Now() {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		now := time.Now()
		s.note(now, now.Sub(began)-stallEvery)
		timer.Reset(stallEvery)
	}
}

func (s *stalls) note(now time.Time, late time.Duration) {
	if late < stallLeast {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = append(s.recent(now), stall{now, late})
}

// recent are those that are not old; the lock is held.
func (s *stalls) recent(now time.Time) []stall {
	for len(s.list) > 0 && now.Sub(s.list[0].end) > stallsKept {
		s.list = s.list[1:]
	}
	return s.list
}

// lately sums up those of the last minute.
func (s *stalls) lately(now time.Time) (sum diagnose.Stalls) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.recent(now) {
		sum.Times, sum.Longest, sum.Total = sum.Times+1, max(sum.Longest, x.took), sum.Total+x.took
	}
	return sum
}
