package engine

import (
	"fmt"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
)

// How long a step that was taken is watched: whether it mends is not said before, and is not said any more after.
const (
	mendsWithin  = 20 * time.Second
	mendedShown  = 10 * time.Minute
	mostMends    = 50
	soonestMends = 12 * time.Second // values are weighed anew first
)

// Mending is a step of a finding that was taken, and what came of it.
type Mending struct {
	Finding diagnose.Finding // as it stood
	Step    string
	Taken   time.Time
	Change  int64 // the first of the recorded changes that it was
	State   MendState
	Text    string // in words
}

// MendState is what came of a step.
type MendState string

// The states of a step that was taken.
const (
	Checking  MendState = "checking"
	Mended    MendState = "mended"
	NotMended MendState = "not-mended"
	TakenBack MendState = "taken-back"
)

// TookBack notes that recorded changes were undone, the first of which is named.
func (e *Engine) TookBack(change int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for i := range e.mendings {
		if e.mendings[i].Change == change {
			e.mendings[i].State = TakenBack
		}
	}
}

// Took notes that a step of a finding was taken, by recorded changes of which the first is named.
func (e *Engine) Took(f diagnose.Finding, step string, change int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.mendings = append(e.mendings, Mending{Finding: f, Step: step, Taken: time.Now(), Change: change, State: Checking})
	e.mendings = e.mendings[max(0, len(e.mendings)-mostMends):]
}

// Mendings are the steps that were taken lately, and what came of each, the newest first.
func (e *Engine) Mendings() []Mending {
	now := time.Now()
	standing := e.Findings()
	e.mu.Lock()
	defer e.mu.Unlock()
	list := []Mending{}
	for i := len(e.mendings) - 1; i >= 0; i-- {
		m := e.mendings[i]
		if ago := now.Sub(m.Taken); ago < mendedShown && len(e.about(m.Finding)) > 0 { // of what is gone, nothing is known
			m.State, m.Text = e.mended(m, standing, ago)
			list = append(list, m)
		}
	}
	return list
}

// mended says what came of a step. e.mu is held.
func (e *Engine) mended(m Mending, standing []diagnose.Finding, ago time.Duration) (MendState, string) {
	f := m.Finding
	when := fmt.Sprintf("%d s ago", int(ago.Round(time.Second)/time.Second))
	if ago >= 2*time.Minute {
		when = fmt.Sprintf("%d min ago", int(ago/time.Minute))
	}
	if m.State == TakenBack {
		return TakenBack, fmt.Sprintf("%s %s: the step of %s (%s) was taken back", f.Kind, f.Subject, when, m.Step)
	}
	back := fmt.Sprintf("arithmon undo %d takes it back", m.Change)
	for _, other := range standing {
		if other.Subject == f.Subject && other.Kind == f.Kind {
			switch {
			case ago < mendsWithin && other.Code == f.Code:
				return Checking, fmt.Sprintf("%s %s: a step was taken %s (%s); whether it mends is being watched", f.Kind, f.Subject, when, m.Step)
			case other.Code == f.Code:
				return NotMended, fmt.Sprintf("%s %s: the step taken %s (%s) did not mend it; %s", f.Kind, f.Subject, when, m.Step, back)
			default:
				return NotMended, fmt.Sprintf("%s %s: after the step taken %s (%s) it is %s; %s", f.Kind, f.Subject, when, m.Step, other.Code, back)
			}
		}
	}
	slots := e.about(f)
	bad := 0
	for _, slot := range slots {
		if slot.Reading().Quality == reading.Bad {
			bad++
		}
	}
	switch {
	case ago < soonestMends || ago < mendsWithin && bad > 0:
		return Checking, fmt.Sprintf("%s %s: a step was taken %s (%s); whether it mends is being watched", f.Kind, f.Subject, when, m.Step)
	case bad > 0:
		return NotMended, fmt.Sprintf("%s %s: after the step taken %s (%s), %d of %d values are bad; %s", f.Kind, f.Subject, when, m.Step, bad, len(slots), back)
	default:
		return Mended, fmt.Sprintf("%s %s: mended %s (%s); %s", f.Kind, f.Subject, when, m.Step, good(len(slots)))
	}
}

func good(n int) string {
	if n == 1 {
		return "its value is good, and nothing speaks against it"
	}
	return fmt.Sprintf("all %d values are good, and nothing speaks against them", n)
}

// about are the slots of what a finding is about. e.mu is held.
func (e *Engine) about(f diagnose.Finding) (slots []*table.Slot) {
	switch f.Kind {
	case site.KindPoint:
		if slot := e.table.Get(f.Subject); slot != nil {
			slots = append(slots, slot)
		}
	case site.KindStation:
		slots = e.slots[f.Subject]
	case site.KindLink:
		for station, link := range e.linkOf {
			if link == f.Subject {
				slots = append(slots, e.slots[station]...)
			}
		}
	}
	return slots
}
