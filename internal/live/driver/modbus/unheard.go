package modbus

import (
	"errors"
	"fmt"

	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
)

// A device may leave a request without a word where the standard has it refuse, close the connection on it, or give a part of what was asked:
// one that is longer than its buffer, or holds an address that it does not have. When a request of several points has not been answered a few times in a row, every other time its first point is asked for
// alone. If that is answered, it is not the device that is silent, and the request is divided as one that was refused.

// unheardAfter is how often a request is asked in a row, without a response, before a shorter one takes its place.
const unheardAfter = 3

// wantsBrief reports whether it is time to ask for the first point alone.
func (j *job) wantsBrief() bool {
	return j.unheard >= unheardAfter && j.unheard%2 == 1 && len(j.items) > 1 && tables[j.request.Function] != ""
}

// brief asks for the first point of a job alone, and divides the job when that is answered.
func (s *session) brief(j *job) link.Outcome {
	request := j.request
	request.Quantity, request.Spare = uint16(j.items[0].Count), 0
	request.Address += uint16(j.items[0].First)
	answer, err := s.ask(j.to.unit, request)
	out := outcome(err)
	out.Took = answer.Took
	if err != nil && !out.Answered {
		j.unheard++
		return out
	}
	if !j.learnt.spend(2) {
		j.unheard++
		return out
	}
	if instead := j.divided(); instead != nil {
		out = link.Outcome{Took: out.Took, Instead: instead}
	}
	return out
}

// leavesUnanswered reports whether an exchange ended as one that is too long for a device may: without a response, with the end of the
// connection, or with a part of what was asked for.
func leavesUnanswered(err error, out link.Outcome) bool {
	return errors.Is(err, modbus.ErrTimeout) || errors.Is(err, modbus.ErrClosed) || out.Short
}

// leftUnheard says what follows from a request that was not answered.
func (j *job) leftUnheard(out *link.Outcome) {
	if j.doubted {
		out.Expected = true
		return
	}
	if len(j.items) == 0 {
		return
	}
	j.unheard++
	if part, _ := j.now(); part == nil || !part.unheard { // it is not known yet whether that is its length
		return
	}
	if j.learnt.spend(2) {
		if out.Instead = j.divided(); out.Instead != nil {
			out.Expected = true
			return
		}
		j.learnt.table(tables[j.request.Function]).refused(j.span())
	}
	j.setRefused(true)
	j.divisionGoesOn(out, false)
}

// notHeard is how many addresses at least stay without a response, 0 where none are known.
func (t *tableLearnt) notHeard() int {
	t.learnt.mu.Lock()
	defer t.learnt.mu.Unlock()
	return t.unheard
}

// tellLongest notes what a search has found out about requests that are not answered.
func (s *session) tellLongest(j *job) {
	table := j.learnt.table(tables[j.request.Function])
	_, limit := table.barred()
	n := table.notHeard()
	if n == 0 || limit == 0 { // where it is no limit, it is a boundary, and asked for in two parts
		return
	}
	unit := "registers"
	if j.request.Function.Bits() {
		unit = "bits"
	}
	s.note(j, diagnose.Note{Kind: diagnose.NoteLongest, Number: float64(limit), Text: fmt.Sprintf("a read of %d %s at once is not answered, and one of %d is", n, unit, limit), Of: unit})
}

// note tells the engine something about the station of a job.
func (s *session) note(j *job, n diagnose.Note) {
	if s.host != nil {
		s.host.Note(j.to.station, n)
	}
}
