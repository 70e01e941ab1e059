package modbus

import (
	"time"

	"arithmon/internal/core/plan"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
)

// A request that is refused is divided until what is refused stands alone: first into runs without gaps, since addresses that no
// point has may not exist, then into halves. When all parts of it are read, it was refused for something else: a boundary that no read
// may cross, or a limit of the number of addresses. Then a search finds the shortest run that is refused. What was found out is
// learnt, and the station's requests are planned anew.

// A request that is never answered while a shorter one is, is divided likewise: its length, or one of its addresses, may be what the device
// leaves without a word (unheard.go).

// part is a refused request that was divided. The memory's lock guards it.
type part struct {
	parent  *part
	unheard bool        // it was not refused, but left without a response
	open    int         // pieces that are not concluded
	pieces  int         // that were read at once
	points  []plan.Span // in order
}

// searchPeriod is the time between two steps of a search; other jobs come in between.
const searchPeriod = 20 * time.Millisecond

// search looks for the shortest run of points that is refused, by halving.
type search struct {
	part     *part
	low      int // points from 0 to low-1 are read together
	high     int // points from 0 to high-1 are refused together
	from     int // points from here to high-1 are refused together
	until    int // points from here to high-1 are read together
	backward bool
	seen     bool // the run that was found was asked for once more
}

// divided makes of a job that was refused the jobs of its parts; nil when it has only one.
func (j *job) divided() []link.Job {
	slots := j.Slots()
	items := make([]plan.Item, len(j.items))
	for i, it := range j.items {
		items[i] = plan.Item{Start: uint16(it.First) + j.request.Address, Count: int(it.Count)}
	}
	barred, _ := j.learnt.table(tables[j.request.Function]).barred()
	cost := plan.Cost{Largest: int(j.request.Quantity), Exchange: 1, Address: 1, Barred: barred}
	requests := plan.Requests(items, cost)
	if j.unheard > 0 { // which a long request is rather than one of addresses that do not exist
		cost = plan.Cost{Largest: int(j.request.Quantity), Gap: int(j.request.Quantity), Exchange: int(j.request.Quantity), Address: 1, Barred: barred}
		requests = plan.Requests(items, cost)
	}
	if len(requests) == 1 { // halves; items that overlap stand apart only as far as they must
		middle := -1
		for i := 1; i < len(items); i++ {
			if items[i].Start != items[i-1].Start || items[i].Count != items[i-1].Count {
				if middle < 0 || i <= len(items)/2 {
					middle = i
				}
			}
		}
		if middle < 0 {
			return nil
		}
		requests = nil
		for _, half := range [][2]int{{0, middle}, {middle, len(items)}} {
			for _, r := range plan.Requests(items[half[0]:half[1]], cost) {
				for i := range r.Items {
					r.Items[i] += half[0]
				}
				requests = append(requests, r)
			}
		}
	}
	if len(requests) == 2 && (requests[0].Count == int(j.request.Quantity) || requests[1].Count == int(j.request.Quantity)) && len(items) > 2 {
		// One that overlaps all others stands alone, and the others are asked for without it.
		requests = requests[:0]
		for i, item := range items {
			requests = append(requests, plan.Request{Start: item.Start, Count: item.Count, Items: []int{i}})
		}
	}
	p := &part{parent: j.part, open: len(requests), unheard: j.unheard > 0}
	for _, item := range items {
		s := plan.Span{From: int(item.Start), To: int(item.Start) + item.Count}
		if n := len(p.points); n == 0 || s.From >= p.points[n-1].To {
			p.points = append(p.points, s)
		} else {
			p.points[n-1].To = max(p.points[n-1].To, s.To)
		}
	}
	if j.part == nil {
		j.learnt.mu.Lock()
		j.learnt.dividing++
		j.learnt.mu.Unlock()
	}
	jobs := make([]link.Job, len(requests))
	for i, r := range requests {
		made := j.of(r, items, slots)
		made.part, made.unheard = p, 0
		jobs[i] = made
	}
	return jobs
}

// concluded notes that a part was read, or refused for good. It returns what is to be done next: a search, or planning anew.
func (l *learnt) concluded(j *job, read bool) (next *search, replan bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := j.part
	j.part = nil
	if p == nil {
		return nil, false
	}
	if p.open--; read {
		p.pieces++
	} else {
		p.pieces = -len(p.points) - 1
	}
	if p.open > 0 {
		return nil, false
	}
	if p.pieces > 1 && len(p.points) > 1 {
		first := len(p.points) / 2
		return &search{part: p, low: 1, high: len(p.points), until: max(1, first)}, false
	}
	return nil, l.finished(p)
}

// finished notes that it is known why a part is refused; true when nothing is left that is being divided. The lock is held.
func (l *learnt) finished(p *part) (all bool) {
	for p = p.parent; p != nil; p = p.parent {
		p.pieces = -len(p.points) - 1
		if p.open--; p.open > 0 {
			return false
		}
	}
	l.dividing = max(0, l.dividing-1)
	return l.dividing == 0
}

// next is the range that the next step of a search asks for; false when it has ended.
func (s *search) next() (plan.Span, bool) {
	points := s.part.points
	if !s.backward {
		if s.high-s.low > 1 {
			return plan.Span{From: points[0].From, To: points[(s.low+s.high)/2-1].To}, true
		}
		s.backward, s.from, s.until = true, 0, s.high-1
	}
	if s.until-s.from > 1 {
		return plan.Span{From: points[(s.from+s.until)/2].From, To: points[s.high-1].To}, true
	}
	if s.part.unheard && !s.seen { // a response that was lost by chance tells nothing
		return plan.Span{From: points[s.from].From, To: points[s.high-1].To}, true
	}
	return plan.Span{}, false
}

// take notes what came of a step.
func (s *search) take(refused bool) {
	middle := (s.low + s.high) / 2
	if s.backward {
		middle = (s.from + s.until) / 2
	}
	switch {
	case s.backward && s.until-s.from <= 1:
		if s.seen = true; !refused {
			s.high = s.from + 1 // nothing was found
		}
	case !s.backward && refused:
		s.high = middle
	case !s.backward:
		s.low = middle
	case refused:
		s.from = middle
	default:
		s.until = middle
	}
}

// step makes one step of a search and ends it when it was the last.
func (s *session) step(j *job) link.Outcome {
	span, more := j.search.next()
	if !more {
		defer s.tellLongest(j)
		return link.Outcome{Skipped: true, Instead: []link.Job{}, Replan: j.found()}
	}
	request := j.request
	request.Address, request.Quantity, request.Spare = uint16(span.From), uint16(span.To-span.From), 0
	answer, err := s.ask(j.to.unit, request)
	out := outcome(err)
	switch {
	case err == nil:
		j.search.take(false)
	case refusesAddresses(err) && !answer.Doubtful:
		j.search.take(true)
	case j.search.part.unheard && leavesUnanswered(err, out):
		j.search.take(true)
		out.Expected = true
	}
	return out
}

// found learns what a search has found.
func (j *job) found() (replan bool) {
	s, points := j.search, j.search.part.points
	from := s.from
	run := plan.Span{From: points[from].From, To: points[s.high-1].To}
	whole, largest := true, 0
	for i := from; i < s.high; i++ {
		whole = whole && (i == from || points[i].From == points[i-1].To)
		if i < s.high-1 {
			largest = points[i].To - points[from].From
		}
	}
	if s.high-from > 1 {
		j.learnt.table(tables[j.request.Function]).crossed(run, s.high-from, whole, largest, s.part.unheard)
	}
	j.learnt.mu.Lock()
	defer j.learnt.mu.Unlock()
	return j.learnt.finished(s.part)
}

// refusesAddresses reports whether an error is a refusal for the addresses asked for or their number (AP 7).
func refusesAddresses(err error) bool {
	return is(err, modbus.IllegalDataAddress) || is(err, modbus.IllegalDataValue)
}
