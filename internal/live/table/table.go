package table

import (
	"reflect"
	"sync"
	"time"

	"arithmon/internal/core/site"
)

// Table is the live table: it holds the slots by tag.
type Table struct {
	mu        sync.RWMutex
	slots     map[string]*Slot
	locks     map[string]*slotLock // by station
	last      *Slot                // that was made, which the next is often like
	followers map[follower]struct{}
	events    *Events
}

// New makes an empty table.
func New() *Table {
	return &Table{slots: map[string]*Slot{}, locks: map[string]*slotLock{}, followers: map[follower]struct{}{}, events: newEvents()}
}

// Emit takes in samples.
func (t *Table) Emit(samples []Sample) {
	for len(samples) > 0 {
		mu := samples[0].Slot.mu // that of all slots of a station
		mu.Lock()
		log := t.events.begin()
		i := 0
		for ; i < len(samples) && samples[i].Slot.mu == mu; i++ {
			if s := samples[i].Slot; !s.detached {
				s.emit(&samples[i])
				if samples[i].Event {
					log.add(s)
				}
			}
		}
		log.end()
		mu.Unlock()
		samples = samples[i:]
	}
}

// Events are those of all points.
func (t *Table) Events() *Events { return t.events }

// Get returns the slot of a tag; nil when there is none.
func (t *Table) Get(tag string) *Slot {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.slots[tag]
}

// Put places a point, keeps its slot when nothing about it changed, and its reading when what it means did not.
func (t *Table) Put(p *site.Point, st site.Station) *Slot {
	t.mu.Lock()
	defer t.mu.Unlock()
	old := t.slots[p.Tag]
	if old != nil && old.Point == p && old.Period == p.Period(st) && *old.Layout == p.Layout(st) {
		return old // most of a station that is changed
	}
	if t.locks[st.Name] == nil {
		t.locks[st.Name] = new(slotLock)
		defer t.release(st.Name) // unless the point is kept there
	}
	slot := newSlot(p, st, t.locks[st.Name], time.Now(), t.last)
	if old != nil {
		same := sameSource(old, slot)
		if same && (old.Point == p || reflect.DeepEqual(old.Point, p)) && old.Period == slot.Period {
			return old
		}
		old.mu.Lock()
		if same {
			old.settle()
			slot.reading = old.reading
		}
		slot.followers, old.detached = old.followers, true
		if !same { // a tap is told that what it got of the point ends here
			old.notify()
		}
		old.followers = nil
		old.leave()
		old.mu.Unlock()
		old.mu.points--
		defer t.release(old.Point.Station) // once the new one counts
	} else {
		for f := range t.followers {
			if f.wants(p.Tag) {
				slot.followers = append(slot.followers, f)
			}
		}
	}
	t.slots[p.Tag], t.last = slot, slot
	slot.mu.points++
	slot.mu.Lock()
	slot.kept = true
	slot.tally()
	slot.notify()
	slot.mu.Unlock()
	return slot
}

// Remove takes a point out.
func (t *Table) Remove(tag string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	slot := t.slots[tag]
	if slot == nil {
		return
	}
	delete(t.slots, tag)
	slot.mu.points--
	t.release(slot.Point.Station)
	slot.mu.Lock()
	defer slot.mu.Unlock()
	slot.detached = true
	slot.leave()
	slot.notify()
	slot.followers = nil
}

// release forgets the lock of a station without points.
func (t *Table) release(station string) {
	if lock := t.locks[station]; lock != nil && lock.points == 0 {
		delete(t.locks, station)
	}
}
