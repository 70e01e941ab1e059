package engine

import (
	"slices"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/diagnose/weigh"
	"arithmon/internal/live/table"
)

// How often the values of a station are weighed: while it is new, and from then on; and how many stations at once at most.
const (
	weighNew    = 3 * time.Second
	weighOften  = 20 * time.Second
	weighRest   = time.Minute // of one that has been right for long
	restAfter   = 10 * time.Minute
	newFor      = time.Minute
	weighShare  = 20 // of the time at most one part is spent with one station, however large it is
	mostWeighed = 100
)

// weighed is what explains the values of a station, as of the last look.
type weighed struct {
	began time.Time
	due   time.Time
	busy  bool // somebody weighs it, who alone has past; all else is guarded by the engine's mu
	past  weigh.History
	list  []weigh.Explanation
	fails []weigh.Fault
	zeros site.Space // a table from which nothing but zeros is read; "" for none
}

// misread weighs the values of the stations that are due, with what is known of them besides, and gives what explains those of all.
func (e *Engine) misread(now time.Time, known []diagnose.Station) (all []weigh.Explanation, failing []weigh.Fault) {
	beside := map[string][]int{}
	for _, s := range known {
		for _, r := range s.Refused {
			beside[s.Station.Name] = append(beside[s.Station.Name], r.Beside()...)
		}
	}
	e.mu.Lock()
	type station struct {
		*weighed
		slots  []*table.Slot
		beside []int
	}
	var stations []station
	for name, slots := range e.slots {
		w := e.weighed[name]
		if w == nil {
			w = &weighed{began: now}
			e.weighed[name] = w
		}
		if w.standing(slots); !w.busy && !now.Before(w.due) && len(stations) < mostWeighed {
			w.busy = true
			stations = append(stations, station{w, slots, beside[name]})
		}
	}
	for name := range e.weighed {
		if e.slots[name] == nil {
			delete(e.weighed, name)
		}
	}
	e.mu.Unlock()
	for _, st := range stations {
		signals, sec := table.Signals(st.slots, e.units), uint32(now.Unix())
		began := time.Now()
		list, fails, zeros := st.past.Weigh(signals, sec, st.beside...), st.past.Faults(signals, sec), zeroTable(signals)
		rest := now.Add(weighShare * time.Since(began))
		e.mu.Lock()
		st.busy, st.list, st.fails, st.due, st.zeros = false, list, fails, now.Add(weighOften), zeros
		switch age := now.Sub(st.began); {
		case age < newFor:
			st.due = now.Add(weighNew)
		case age > restAfter && len(list)+len(fails) == 0:
			st.due = now.Add(weighRest)
		}
		if st.due.Before(rest) {
			st.due = rest
		}
		e.mu.Unlock()
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, w := range e.weighed {
		w.standing(e.slots[name])
		all, failing = append(all, w.list...), append(failing, w.fails...)
	}
	return all, failing
}

// standing leaves out what is about points that have changed since; they are new then.
func (w *weighed) standing(slots []*table.Slot) {
	if len(w.list)+len(w.fails) == 0 {
		return
	}
	of := make(map[*site.Point]*table.Slot, len(slots))
	for _, s := range slots {
		of[s.Point] = s
	}
	changed := func(signal *weigh.Signal) bool {
		s := of[signal.Point]
		return s == nil || !s.Same(signal)
	}
	list := slices.DeleteFunc(slices.Clone(w.list), func(x weigh.Explanation) bool { return slices.ContainsFunc(x.Points, changed) })
	fails := slices.DeleteFunc(slices.Clone(w.fails), func(x weigh.Fault) bool { return changed(x.Point) })
	if len(list) < len(w.list) || len(fails) < len(w.fails) {
		now := time.Now()
		w.list, w.fails, w.began, w.due = list, fails, now, now
	}
}
