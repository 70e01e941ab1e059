package store

import (
	"context"
	"sync"
	"time"
)

// Later completes the record of a write as soon as the disk takes it again, however long that is; Close tries it a last time.
func (s *Store) Later(id int64, w WriteRecord) {
	s.later.mu.Lock()
	defer s.later.mu.Unlock()
	if s.later.list = append(s.later.list, lateRecord{id, w}); len(s.later.list) > mostLater { // the disk has been failing for very long
		s.later.list = s.later.list[1:]
	}
	if !s.later.running {
		s.later.running = true
		s.later.done.Go(s.completeLater)
	}
}

const (
	laterEvery = time.Second
	mostLater  = 10_000
)

type lateRecord struct {
	id     int64
	record WriteRecord
}

// later are records that could not be completed yet.
type later struct {
	mu      sync.Mutex
	list    []lateRecord
	running bool
	done    sync.WaitGroup
}

// completeLater tries again and again until nothing is left or the store closes.
func (s *Store) completeLater() {
	ticker := time.NewTicker(laterEvery)
	defer ticker.Stop()
	for {
		closing := false
		select {
		case <-ticker.C:
		case <-s.closing:
			closing = true
		}
		s.later.mu.Lock()
		list := s.later.list
		s.later.list = nil
		s.later.mu.Unlock()
		n := 0
		for ; n < len(list); n++ {
			if s.EndWrite(context.Background(), list[n].id, list[n].record) != nil {
				break
			}
		}
		s.later.mu.Lock()
		s.later.list = append(list[n:], s.later.list...)
		if len(s.later.list) == 0 || closing {
			s.later.running = false
			s.later.mu.Unlock()
			return
		}
		s.later.mu.Unlock()
	}
}
