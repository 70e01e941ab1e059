package link

import (
	"maps"
	"reflect"
	"slices"
	"sync/atomic"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
)

// configure adds a station, or replaces what is known of it; the caller has the turn, or the runner has not started.
func (r *Runner) configure(station Station) {
	s, known := r.stations[station.Name]
	if known {
		for _, e := range s.entries {
			r.forget(e)
		}
		s.entries = nil
		station.RoundTrip = r.roundTrip(s)
		remembered := asksAlike(s.Station.Station, station.Station)
		if station.Memory = s.Memory; !remembered {
			station.Memory = new(atomic.Value) // what was learnt may not hold any more
			r.beginAnew(s, s.LinkAddress() != station.LinkAddress())
		}
		r.mu.Lock()
		if r.units[s.LinkAddress()] == s { // of two that change places, the other may have it already
			delete(r.units, s.LinkAddress())
		}
		s.Station, s.refusals, s.otherAt, s.likelyAt, s.instead = station, nil, time.Time{}, time.Time{}, ""
		maps.DeleteFunc(s.notes, func(k diagnose.NoteKind, _ diagnose.Note) bool { return !remembered || k != diagnose.NoteLongest })
		r.units[station.LinkAddress()] = s
		r.mu.Unlock()
	} else {
		station.Memory = new(atomic.Value)
		s = &stationRun{Station: station, notBad: time.Now(), status: StationStatus{Name: station.Name, Link: r.link.Name, State: StationUnknown}}
		r.mu.Lock()
		r.stations[station.Name] = s
		r.units[station.LinkAddress()] = s
		r.mu.Unlock()
	}
	s.planned = station.RoundTrip
	r.reporters(func(reporter Reporter) {
		if station.Enabled {
			reporter.Follow(station)
		} else {
			reporter.Leave(station.Name)
		}
	})
	if !r.link.Enabled || !station.Enabled {
		failAll(station.Slots, reading.Disabled)
		r.setStation(s, StationDisabled, "")
		return
	}
	now := time.Now()
	if s.status.State == StationDisabled {
		r.setStation(s, StationUnknown, "")
	}
	switch {
	case !r.up() && r.status.State == Down:
		failAll(station.Slots, reading.LinkDown)
	case s.setBack.pause > 0:
		s.setBack.until = now // what changed may be the cure
	}
	r.addJobs(s, r.jobs(station), now)
	for _, e := range s.entries {
		// The first poll is at once; the grid begins at the job's own place in the period before it.
		e.anchor = now.Add(-r.offset(e.job.Period()))
		r.schedule.move(e, e.anchor)
	}
}

// asksAlike reports whether a device is asked alike by two settings of its station, so that what one has shown holds for the other.
func asksAlike(a, b site.Station) bool {
	for _, s := range []*site.Station{&a, &b} {
		s.Description, s.Template, s.Values, s.LeftOut, s.Record, s.Charset = "", "", nil, nil, nil, ""
	}
	return reflect.DeepEqual(a, b)
}

// beginAnew forgets what a station's device has shown, since it is asked in another way from now on: silence at one address says nothing
// of another. What was counted over longer times stays.
func (r *Runner) beginAnew(s *stationRun, elsewhere bool) {
	s.missed = 0
	s.settings++
	s.setBack = backoff{} // what changed may be the cure
	if s.status.State == StationSilent || elsewhere && s.status.State != StationDisabled {
		r.setStation(s, StationUnknown, "")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	s.figures.beginMinute(time.Now())
	s.rests = rests{}
	s.since, s.lastKind, s.failure, s.notBad = tally{}, 0, "", time.Now()
}

// reporters calls f with the open sessions whose stations report by themselves.
func (r *Runner) reporters(f func(Reporter)) {
	for _, c := range r.connections {
		if reporter, ok := c.session.(Reporter); ok {
			f(reporter)
		}
	}
}

// jobs are those of a station; none when planning them fails.
func (r *Runner) jobs(station Station) (jobs []Job) {
	if fault := crash.Catch(func() { jobs = r.driver.Jobs(r.link, station) }); fault != nil {
		r.Fault(fault)
	}
	return jobs
}

// replan plans a station's jobs anew. Those that ask for the same go on as they were.
func (r *Runner) replan(s *stationRun, trip time.Duration, now time.Time) {
	s.RoundTrip, s.planned = trip, trip
	old := s.entries
	s.entries = nil
	var fresh []Job
	for _, job := range r.jobs(s.Station) {
		adopter, ok := job.(Adopter)
		at := slices.IndexFunc(old, func(e *entry) bool { return ok && e != nil && adopter.Adopt(e.job) })
		if at < 0 {
			fresh = append(fresh, job)
			continue
		}
		e := old[at]
		old[at] = nil
		e.job = job
		s.entries = append(s.entries, e)
	}
	for _, e := range old {
		if e != nil {
			r.forget(e)
		}
	}
	r.addJobs(s, fresh, now)
}

// roundTrip is how long an exchange with the station takes, 0 while too little is known.
func (r *Runner) roundTrip(s *stationRun) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s.status.Statistics.Answers < planAnswers {
		return 0
	}
	return time.Duration(s.status.Statistics.RoundTripMS * float64(time.Millisecond))
}

// drop forgets a station.
func (r *Runner) drop(name string) {
	s, known := r.stations[name]
	if !known {
		return
	}
	for _, e := range s.entries {
		r.forget(e)
	}
	r.reporters(func(reporter Reporter) { reporter.Leave(name) })
	r.mu.Lock()
	delete(r.stations, name)
	if r.units[s.LinkAddress()] == s {
		delete(r.units, s.LinkAddress())
	}
	r.mu.Unlock()
}

func failAll(slots []*table.Slot, reason reading.Reason) {
	now := time.Now()
	for _, slot := range slots {
		slot.Bad(reason, now)
	}
}

// holdOff lets a station come to itself: nothing is due before a moment.
func (r *Runner) holdOff(s *stationRun, until time.Time) {
	for _, e := range s.entries {
		if e.due.Before(until) {
			r.schedule.move(e, until)
		}
	}
}

func (r *Runner) forget(e *entry) {
	r.schedule.remove(e)
	e.gone = true
	r.mu.Lock()
	delete(e.station.refusals, e)
	r.mu.Unlock()
}

func (r *Runner) addJobs(s *stationRun, jobs []Job, due time.Time) {
	for _, job := range jobs {
		e := &entry{job: job, station: s, anchor: due, due: due, next: due, index: -1}
		s.entries = append(s.entries, e)
		r.schedule.add(e)
	}
	demand := demanded(s.entries)
	r.mu.Lock()
	defer r.mu.Unlock()
	s.demand = demand
}

// demanded is how often how many requests are to be made for a station, the most frequent first.
func demanded(entries []*entry) (list []diagnose.Demand) {
	byPeriod := map[time.Duration]int{}
	for _, e := range entries {
		byPeriod[e.job.Period()]++
	}
	for _, period := range slices.Sorted(maps.Keys(byPeriod)) {
		list = append(list, diagnose.Demand{Period: period, Requests: byPeriod[period]})
	}
	return list
}
