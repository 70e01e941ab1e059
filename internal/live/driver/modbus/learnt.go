package modbus

import (
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/plan"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
)

// learnt is what the refusals of a station have taught, from which its requests are planned. What no longer holds is unlearnt: what
// was refused is asked for again from time to time.
type learnt struct {
	mu        sync.Mutex                    // guards what follows, and its tables
	functions map[modbus.Function]time.Time // refused ones, with the last time
	tables    map[site.Space]*tableLearnt

	dividing int       // refused requests that are being divided
	inARow   int       // single points refused since anything was read
	budget   float64   // requests that may be made to find out what exactly is refused
	refilled time.Time // of budget
}

// tableLearnt is what is known of one table of a station.
type tableLearnt struct {
	learnt    *learnt
	spans     []plan.Span       // of points that are refused
	crossings []plan.Span       // shortest runs that are refused though their parts are read
	limit     int               // most addresses of one read; 0: not known
	longest   int               // addresses of a read that was answered
	unheard   int               // at least so many addresses stay without a response; 0: none that is known
	tight     map[int]time.Time // ends of reads that could not be widened, and when that was tried
}

// What finding out may cost.
const (
	// mostBudget is how many requests may be made at once to divide refused ones, and budgetRate how many more a second.
	mostBudget = 256
	budgetRate = 1.0
	// fewInARow is how many refusals in a row say that more of the kind are to be expected; then dividing waits for hopelessRate.
	fewInARow    = 16
	hopelessRate = 0.1
	// mostSpans bounds what is kept of a table.
	mostSpans = 4096
)

// learntOf is the memory of a station.
func learntOf(s link.Station) *learnt {
	if s.Memory != nil {
		if known, ok := s.Memory.Load().(*learnt); ok {
			known.mu.Lock()
			defer known.mu.Unlock()
			known.dividing = 0 // what is planned anew is divided anew
			return known
		}
	}
	known := &learnt{functions: map[modbus.Function]time.Time{}, tables: map[site.Space]*tableLearnt{}, budget: mostBudget}
	if s.Memory != nil {
		s.Memory.Store(known)
	}
	return known
}

func (l *learnt) table(space site.Space) *tableLearnt {
	l.mu.Lock()
	defer l.mu.Unlock()
	t := l.tables[space]
	if t == nil {
		t = &tableLearnt{learnt: l, tight: map[int]time.Time{}}
		l.tables[space] = t
	}
	return t
}

// passes reports whether a function may be asked for. From time to time it lets one request through that is refused.
func (l *learnt) passes(f modbus.Function) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	at, refused := l.functions[f]
	if refused && time.Since(at) >= refusedPeriod {
		l.functions[f] = time.Now()
		return true
	}
	return !refused
}

func (l *learnt) refuses(f modbus.Function) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, refused := l.functions[f]
	return refused
}

// function notes whether a function was refused; changed says that this was not known.
func (l *learnt) function(f modbus.Function, refused bool) (changed bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, known := l.functions[f]
	if !refused {
		delete(l.functions, f)
		return known
	}
	l.functions[f] = time.Now()
	return !known
}

// answered notes that addresses were read, so that nothing within them is refused; changed says that something was thought to be.
func (t *tableLearnt) answered(s plan.Span) (changed bool) {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	if t.learnt.inARow = 0; t.learnt.dividing > 0 { // it is worth its while
		t.learnt.budget = min(mostBudget, t.learnt.budget+1)
	}
	t.longest = max(t.longest, s.To-s.From)
	if n := len(t.spans) + len(t.crossings); n > 0 {
		within := func(o plan.Span) bool { return o.From >= s.From && o.To <= s.To }
		t.spans, t.crossings = slices.DeleteFunc(t.spans, within), slices.DeleteFunc(t.crossings, within)
		changed = len(t.spans)+len(t.crossings) < n
	}
	if t.limit > 0 && s.To-s.From > t.limit {
		t.limit, changed = 0, true
	}
	if s.To-s.From >= t.unheard {
		t.unheard = 0
	}
	return changed
}

// refused notes that the addresses of a point are refused.
func (t *tableLearnt) refused(s plan.Span) {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	t.learnt.inARow++
	if len(t.spans) < mostSpans && !slices.Contains(t.spans, s) {
		t.spans = append(t.spans, s)
	}
}

// crossed notes a shortest run of addresses that is refused though its parts are read. whole says that it has no gaps, and largest how
// much of it is read at once: unless more has been read, that is a limit rather than a boundary of several points in a row, and so it is
// when several such runs are equally long. unheard says that the run is not refused, but left without a response.
func (t *tableLearnt) crossed(s plan.Span, points int, whole bool, largest int, unheard bool) {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	if size := s.To - s.From; unheard {
		if t.unheard == 0 || size < t.unheard {
			t.unheard = size
		}
		whole = true // a gap within it is no matter
		largest = max(largest, min(t.longest, size-1))
		if points > 2 && t.longest > largest { // which was answered once, and is not any more
			t.longest = largest
		}
	}
	equal := 1
	for _, o := range t.crossings {
		if o.To-o.From == s.To-s.From {
			equal++
		}
	}
	if whole && largest >= t.longest && (points > 2 || equal > 2) {
		t.limit = largest
		t.crossings = slices.DeleteFunc(t.crossings, func(o plan.Span) bool { return o.To-o.From > largest })
		return
	}
	if len(t.crossings) < mostSpans {
		t.crossings = append(t.crossings, s)
	}
}

// barred are the runs of addresses that no request may hold, and the most addresses of one, 0 where that is not known.
func (t *tableLearnt) barred() ([]plan.Span, int) {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	return slices.Concat(t.spans, t.crossings), t.limit
}

// bearable is by how many addresses, at most so many, a read may be widened as far as is known.
func (t *tableLearnt) bearable(s plan.Span, most int) uint16 {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	if at, tight := t.tight[s.To]; tight && time.Since(at) < recheckPeriod {
		return 0
	}
	if t.limit > 0 {
		most = min(most, t.limit-(s.To-s.From))
	}
	for _, o := range slices.Concat(t.spans, t.crossings) {
		if o.From >= s.From && o.To > s.To {
			most = min(most, o.To-s.To-1)
		}
	}
	return uint16(max(0, most))
}

// tighten notes that reads that end here cannot be widened.
func (t *tableLearnt) tighten(end int) {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	if len(t.tight) > mostSpans {
		clear(t.tight)
	}
	t.tight[end] = time.Now()
}

// spend takes requests off the budget for dividing what was refused; false when it is used up.
func (l *learnt) spend(n float64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	now, rate := time.Now(), budgetRate
	if l.inARow > fewInARow {
		rate = hopelessRate
	}
	if !l.refilled.IsZero() {
		l.budget = min(mostBudget, l.budget+rate*now.Sub(l.refilled).Seconds())
	}
	l.refilled = now
	if l.inARow > fewInARow && l.budget > 2*n { // what a few refusals in a row tell
		l.budget = 2 * n
	}
	if l.budget < n {
		return false
	}
	l.budget -= n
	return true
}

// rechecks are jobs that find out whether a boundary or limit still holds.
func (l *learnt) rechecks(like job, planned []link.Job) (jobs []link.Job) {
	first := map[site.Space]modbus.Request{} // a request of each table that is as long as its limit
	for _, work := range planned {
		j := work.(*job)
		if space := tables[j.request.Function]; j.request.Quantity > first[space].Quantity {
			first[space] = j.request
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for space, t := range l.tables {
		check := like
		check.request, check.items, check.period, check.doubted = modbus.Request{Function: readFunction[space]}, nil, recheckPeriod, t.unheard > 0
		for _, s := range t.crossings {
			check.request.Address, check.request.Quantity = uint16(s.From), uint16(s.To-s.From)
			again := check
			jobs = append(jobs, &again)
		}
		if from, ok := first[space]; ok && t.limit > 0 {
			check.request.Address, check.request.Quantity = from.Address, uint16(t.limit+1)
			if check.within() {
				again := check
				jobs = append(jobs, &again)
			}
		}
	}
	return jobs
}

// within reports whether a request keeps the limits of the standard and the end of its table.
func (j *job) within() bool {
	_, err := j.request.Append(nil)
	return err == nil
}
