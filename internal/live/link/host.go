package link

// What a runner does for the sessions of its driver: it is their Host.

import (
	"cmp"
	"slices"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
)

// Emit is for Host.
func (r *Runner) Emit(samples []table.Sample) { r.table.Emit(samples) }

// PollNow is for Host. A station that was set back is asked again, too. Of its jobs the one that is done most often is due: what news
// there is, it learns.
func (r *Runner) PollNow(station string) {
	r.inbox.put(func(*connection) {
		s := r.stations[station]
		if s == nil {
			return
		}
		if now := time.Now(); s.setBack.pause > 0 {
			s.setBack = backoff{}
			r.dueNow(s, now)
		} else if len(s.entries) > 0 {
			e := slices.MinFunc(s.entries, func(a, b *entry) int { return cmp.Compare(a.job.Period(), b.job.Period()) })
			if e.next.After(now) {
				e.ran = false
				r.schedule.move(e, now)
			}
		}
	})
}

// Note is for Host.
func (r *Runner) Note(station string, n diagnose.Note) {
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

// keepWithin is how long events may take to be on the disk. An outstation that is not confirmed in time gives them again.
const keepWithin = 2 * time.Second

// Keep is for Host.
func (r *Runner) Keep() bool { return r.table.Events().Keep(keepWithin) }

// Asked is for Host.
func (r *Runner) Asked(unit int, out Outcome, took time.Duration, repeated bool) {
	r.mu.Lock()
	s := r.units[unit]
	r.mu.Unlock()
	if s != nil && !out.Skipped {
		r.counted(s, out, took, repeated, time.Now())
	}
}

// Fault is for Host.
func (r *Runner) Fault(f *crash.Error) {
	r.log.Error("internal fault; the session ends", "link", r.link.Name, "fault", f.Value, "stack", string(f.Stack))
	r.mu.Lock()
	defer r.mu.Unlock()
	r.faults++
	r.faultAt, r.fault = time.Now(), f.Error()
}

// DeviceState is for Host.
func (r *Runner) DeviceState(station string, what []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.stations[station]; s != nil {
		s.status.Says = what
	}
}

// Doing is for Host.
func (r *Runner) Doing(what string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.status.Doing = what
}
