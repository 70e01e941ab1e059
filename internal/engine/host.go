package engine

// What a runner does for the sessions of its driver: it is their Host.

import (
	"time"

	"arithmon/internal/diagnose"
)

// Emit is for Host.
func (r *runner) Emit(samples []Sample) { r.table.Emit(samples) }

// Hurry is for Host. A station that was set back is asked again, too.
func (r *runner) Hurry(station string) {
	r.inbox.put(func(*connection) {
		if s := r.stations[station]; s != nil {
			s.setBack = backoff{}
			r.dueNow(s, time.Now())
		}
	})
}

// Note is for Host.
func (r *runner) Note(station string, n diagnose.Note) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.stations[station]
	if s == nil {
		return
	}
	if n.Text == "" {
		delete(s.notes, n.Kind)
		return
	}
	if s.notes == nil {
		s.notes = map[diagnose.NoteKind]diagnose.Note{}
	}
	n.Count = s.notes[n.Kind].Count + 1
	n.At = time.Now()
	s.notes[n.Kind] = n
}

// Asked is for Host.
func (r *runner) Asked(unit int, out Outcome, took time.Duration, repeated bool) {
	r.mu.Lock()
	s := r.units[unit]
	r.mu.Unlock()
	if s != nil && !out.Skipped {
		r.counted(s, out, took, repeated, time.Now())
	}
}

// Says is for Host.
func (r *runner) Says(station string, what []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.stations[station]; s != nil {
		s.status.Says = what
	}
}

// Doing is for Host.
func (r *runner) Doing(what string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.status.Doing = what
}
