package table

import (
	"cmp"
	"context"
	"slices"
	"sync"

	"arithmon/internal/core/site"
)

// Subscription follows the points whose tags fit its patterns. It conflates: between two calls of Next only the newest
// reading of each point is kept, so that a slow reader costs nobody anything.
type Subscription struct {
	patterns []string
	table    *Table

	mu    sync.Mutex
	dirty map[*Slot]struct{}
	order []*Slot       // of dirty, as they changed
	taken []*Slot       // room for the next order
	begun bool          // what there was at the beginning was taken
	ready chan struct{} // holds one token while something is dirty
}

func (s *Subscription) wants(tag string) bool {
	return slices.ContainsFunc(s.patterns, func(p string) bool { return site.Match(p, tag) })
}

func (s *Subscription) changed(slot *Slot) {
	s.mu.Lock()
	if _, already := s.dirty[slot]; !already {
		s.dirty[slot] = struct{}{}
		s.order = append(s.order, slot)
	}
	s.mu.Unlock()
	select {
	case s.ready <- struct{}{}:
	default:
	}
}

// Next waits until something changed and returns the newest readings of what did, as Take does. The first call returns all
// points at once. Its error is ctx's.
func (s *Subscription) Next(ctx context.Context) ([]Live, error) {
	for {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-s.ready:
			if list := s.Take(nil); len(list) > 0 {
				return list, nil
			}
		}
	}
}

// Ready holds a token while there is something to Take. A nil Subscription is never ready.
func (s *Subscription) Ready() <-chan struct{} {
	if s == nil {
		return nil
	}
	return s.ready
}

// Take appends the newest readings of what changed since the last call to list, in the order in which it changed; at first, all points by
// tag. It does not wait, and is called by one at a time.
func (s *Subscription) Take(list []Live) []Live {
	s.mu.Lock()
	slots, begun := s.order, s.begun
	s.order, s.taken, s.begun = s.taken[:0], slots, true
	if begun {
		for _, slot := range slots { // few of many, mostly
			delete(s.dirty, slot)
		}
	} else {
		s.dirty = map[*Slot]struct{}{}
	}
	s.mu.Unlock()
	if !begun {
		slices.SortFunc(slots, func(a, b *Slot) int { return cmp.Compare(a.Point.Tag, b.Point.Tag) })
	}
	list = slices.Grow(list, len(slots))
	for _, slot := range slots {
		l := slot.Live()
		if l.Removed && s.table.Get(l.Point.Tag) != nil {
			continue // replaced by a newer slot, which speaks for itself
		}
		list = append(list, l)
	}
	clear(slots) // so that what is gone is not kept
	return list
}

// Close ends the subscription.
func (s *Subscription) Close() {
	s.table.leave(s)
}

// Subscribe follows the points whose tags fit any of the patterns; the caller closes the subscription.
func (t *Table) Subscribe(patterns ...string) *Subscription {
	s := &Subscription{patterns: patterns, table: t, dirty: map[*Slot]struct{}{}, ready: make(chan struct{}, 1)}
	t.follow(s, s.changed)
	return s
}

// follow has the slots tell a follower of what changes; begin is called with each of them, locked.
func (t *Table) follow(f follower, begin func(*Slot)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.followers[f] = struct{}{}
	for tag, slot := range t.slots {
		if !f.wants(tag) {
			continue
		}
		slot.mu.Lock()
		slot.followers = append(slices.Clip(slot.followers), f)
		slot.mu.ties++
		begin(slot)
		slot.mu.Unlock()
	}
}

// again lets a follower follow those of the points that it wants now, and leaves the others; begin is called with each that is new to it,
// locked.
func (t *Table) again(f follower, tags []string, begin func(*Slot)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, tag := range tags {
		slot := t.slots[tag]
		if slot == nil {
			continue
		}
		slot.mu.Lock()
		at, wanted := slices.Index(slot.followers, f), f.wants(tag)
		switch {
		case wanted && at < 0:
			slot.followers = append(slices.Clip(slot.followers), f)
			slot.mu.ties++
			begin(slot)
		case !wanted && at >= 0:
			slot.followers = slices.Delete(slices.Clone(slot.followers), at, at+1)
		}
		slot.mu.Unlock()
	}
}

// leave ends what follow began.
func (t *Table) leave(f follower) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.followers, f)
	for _, slot := range t.slots {
		slot.mu.Lock()
		if i := slices.Index(slot.followers, f); i >= 0 {
			slot.followers = slices.Delete(slices.Clone(slot.followers), i, i+1)
		}
		slot.mu.Unlock()
	}
}
