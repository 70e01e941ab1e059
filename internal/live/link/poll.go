package link

import (
	"cmp"
	"hash/fnv"
	"math"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
)

// poll does a job once. When nothing answers it is done again, as often as the link says.
func (r *Runner) poll(c *connection, e *entry, now time.Time) {
	s, late := e.station, now.Sub(e.due)
	r.schedule.remove(e)
	s.probing = s.setBack.pause > 0
	session := c.session
	out, faulted := r.exchange(c, e)
	end := time.Now()
	s.probing = false
	lost := faulted || session.Lost()
	if lost && c.session == session {
		r.lost(c, end)
	}
	unwanted := r.unwanted(c, out, lost, end)
	if e.gone {
		return
	}
	switch {
	case out.Err != nil && (r.stopped() || r.lent()): // cut off on purpose; that says nothing about the device
		r.schedule.add(e)
		return
	case unwanted: // another connection does it
		r.schedule.add(e)
		r.inbox.wake()
		return
	case !out.NotBefore.IsZero():
		r.schedule.add(e)
		r.schedule.postpone(e, out.NotBefore)
		return
	}
	if r.again(e, out, lost) {
		e.tries++
		r.schedule.add(e)
		r.schedule.postpone(e, e.repetition(out, time.Duration(r.link.RetryDelay), end))
		if time.Since(s.answered) > 2*e.job.Period() {
			failAll(e.job.Slots(), out.Reason) // two polls are missing already; the repetitions go on
		}
		return
	}
	first := e.tries == 0
	e.tries = 0
	r.count(s, func(st *Statistics) {
		st.Polls++
		if first && late > lateAfter && e.ran {
			st.LatePolls++
		}
	})
	r.mu.Lock()
	s.figures.at(end, func(t *tally) {
		t.polls++
		if first && e.ran {
			ms := float32(late) / float32(time.Millisecond)
			t.lateness, t.mostLate = t.lateness+ms, max(t.mostLate, ms)
			if late > lateAfter {
				t.latePolls++
			}
		}
	})
	r.mu.Unlock()
	e.ran = true
	r.schedule.add(e)
	r.reschedule(e, end)
	r.conclude(c, e, out, end)
}

// again reports whether a job is to be repeated before its next turn.
func (r *Runner) again(e *entry, out Outcome, lost bool) bool {
	retries := r.link.Retries
	if e.station.setBack.pause > 0 {
		retries = 0 // asked once, it costs its neighbours one timeout
	}
	if lost {
		retries = max(1, retries) // the far end may have closed an idle connection
	}
	return out.Err != nil && !out.Expected && !out.Absent && out.Rest == 0 && (!out.Answered || out.Later) && e.tries < retries
}

// repetition is when a job that failed is done again: at once, ahead of what is due later, unless it is to wait.
func (e *entry) repetition(out Outcome, delay time.Duration, now time.Time) time.Time {
	if out.Later {
		delay = max(delay, busyDelay)
	}
	if delay == 0 {
		return e.due
	}
	return now.Add(delay)
}

// conclude draws the consequences of an outcome.
func (r *Runner) conclude(c *connection, e *entry, out Outcome, now time.Time) {
	switch {
	case out.Err == nil && out.Skipped:
	case out.Err == nil:
		r.alive(e.station, now)
	case out.Skipped:
		failAll(e.job.Slots(), out.Reason)
	case out.Expected:
	case out.Answered:
		r.alive(e.station, now)
		if out.Instead == nil {
			failAll(e.job.Slots(), out.Reason)
		}
	default:
		// Whether the whole link is down shows when it is opened again; its other stations may be well.
		if s := e.station; out.Rest > 0 || s.missed >= s.patience() {
			r.silence(s, out, now)
		} else {
			failAll(e.job.Slots(), out.Reason)
		}
		if c.silent >= silentExchanges*(1+r.link.Retries) && c.state == open && !r.lately() {
			// The far end may have restarted without a word. A new connection finds out.
			r.close(c)
			r.count(nil, func(s *Statistics) { s.Renewals++ })
		}
	}
	r.remember(e, out)
	s := e.station
	if out.Instead != nil {
		r.replace(e, out.Instead, now)
	}
	if trip := r.roundTrip(s); out.Replan || out.Instead == nil && s.planned == 0 && trip > planRoundTrip {
		r.replan(s, trip, now) // what an exchange costs is known now, or what the station refuses
	}
}

// lately reports whether late responses have come since the last one in time, so that the far end lives.
func (r *Runner) lately() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.since.late > 0
}

// A station that answers is taken for silent only after so many exchanges in a row without a response, so that one that got lost costs
// its own points alone; one that never answered, or is silent already, at once.
const mostMissed = 3

// patience is how many exchanges in a row without a response say that the station is silent.
func (s *stationRun) patience() int {
	switch {
	case s.setBack.pause > 0 || s.answered.IsZero():
		return 1
	case len(s.entries) == 1: // nothing else will be asked soon
		return mostMissed - 1
	}
	return mostMissed
}

// exchange does a job once and counts it. faulted says that the session panicked.
func (r *Runner) exchange(c *connection, e *entry) (out Outcome, faulted bool) {
	s, session, began := e.station, c.session, time.Now()
	settings, heard := s.settings, c.heard
	r.outside(func() {
		if fault := crash.Catch(func() { out = session.Do(e.job) }); fault != nil {
			r.Fault(fault)
			out, faulted = Outcome{Err: fault, Reason: reading.BadResponse}, true
		}
	})
	end := time.Now()
	if out.Skipped {
		return out, faulted
	}
	if out.Absent {
		s.missed++
		return out, faulted
	}
	answered := out.Err == nil || out.Answered
	if c.quietFrom = end; !out.Expected {
		c.silent++
	}
	if answered {
		c.silent, c.answered, c.reconnect, c.heard = 0, true, backoff{}, end
	}
	if s.settings != settings { // they changed meanwhile, and this says nothing about the station as it is now
		r.counted(nil, out, cmp.Or(out.Took, end.Sub(began)), e.tries > 0, end)
		return out, faulted
	}
	r.counted(s, out, cmp.Or(out.Took, end.Sub(began)), e.tries > 0, end)
	if _, reports := session.(Reporter); r.lanes == 1 && !heard.IsZero() && !reports && (answered || out.Reason == reading.Timeout) {
		r.mu.Lock()
		// What took longer than the timeout was asked again within the exchange.
		s.rests.saw(began.Sub(heard), answered && end.Sub(began) < time.Duration(r.link.Timeout), began)
		r.mu.Unlock()
	}
	switch {
	case answered:
		s.answered, s.missed = end, 0
	case !out.Expected:
		s.missed++
	}
	return out, faulted
}

// counted counts an exchange with a station, or one that is nobody's now.
func (r *Runner) counted(s *stationRun, out Outcome, took time.Duration, repeated bool, end time.Time) {
	answered := out.Err == nil || out.Answered
	r.mu.Lock()
	var all *figures
	since := new(tally)
	if s != nil {
		all, since = &s.figures, &s.since
	} else {
		all = r.own()
	}
	all.at(end, func(t *tally) { t.exchanged(out, took, repeated) })
	for _, t := range []*tally{&r.since, since} {
		if answered {
			*t = tally{}
		} else {
			t.exchanged(out, took, repeated)
		}
	}
	r.mu.Unlock()
	r.count(s, func(st *Statistics) {
		st.Requests++
		if repeated {
			st.Retries++
		}
		if answered {
			st.Answers++
			st.answered(took, end)
		}
		if out.Err != nil {
			st.fail(out.Reason)
		}
	})
}

// alive notes that a station answered. One that was set back is asked everything at once.
func (r *Runner) alive(s *stationRun, now time.Time) {
	if s.status.State != StationAnswering {
		r.setStation(s, StationAnswering, "")
	}
	if s.setBack.pause > 0 {
		s.setBack = backoff{}
		r.dueNow(s, now)
	}
}

// silence notes that a station did not answer and sets it back.
func (r *Runner) silence(s *stationRun, out Outcome, now time.Time) {
	if s.setBack.pause == 0 || !now.Before(s.setBack.until) { // of several requests under way, one counts
		s.setBack.grow(max(firstSetBack, out.Rest), max(lastSetBack, 8*out.Rest), now)
	}
	r.setStation(s, StationSilent, out.Err.Error())
	r.mu.Lock()
	s.failure, _ = failureOf(out.Err)
	r.mu.Unlock()
	failAll(s.Slots, out.Reason)
}

// dueNow makes all jobs of a station due at once, each at the last place on its grid, so that they stay spread.
func (r *Runner) dueNow(s *stationRun, now time.Time) {
	for _, e := range s.entries {
		e.ran = false // being asked out of turn is not being late
		r.schedule.move(e, e.place(now))
	}
}

// reschedule sets when a job is next due: on its grid, or at once when it is behind.
func (r *Runner) reschedule(e *entry, now time.Time) {
	period := e.job.Period()
	next := e.due.Add(period)
	if next.Before(now) {
		next = now
	}
	r.schedule.move(e, next)
}

// offset is where in its period the next job of this link has its place: links apart from each other, and the jobs of one
// link spread over the period (by the golden ratio, which parts any number of them well), so that they do not all wait
// for each other.
func (r *Runner) offset(period time.Duration) time.Duration {
	h := fnv.New32a()
	h.Write([]byte(r.link.Name))
	const golden = 0.6180339887498949
	r.placed++
	_, share := math.Modf(float64(h.Sum32())/(1<<32) + float64(r.placed)*golden)
	return time.Duration(share * float64(period))
}

// replace puts other jobs in the place of one.
func (r *Runner) replace(e *entry, jobs []Job, now time.Time) {
	r.forget(e)
	kept := e.station.entries[:0]
	for _, other := range e.station.entries {
		if other != e {
			kept = append(kept, other)
		}
	}
	e.station.entries = kept
	r.addJobs(e.station, jobs, now)
}
