package engine

import (
	"context"
	"hash/fnv"
	"math"
	"sync"
	"time"

	"arithmon/internal/reading"
	"arithmon/internal/site"
)

// Pauses between attempts at what does not answer grow from the first to the last.
const (
	firstReconnect = 500 * time.Millisecond
	lastReconnect  = 15 * time.Second
	firstSetBack   = 2 * time.Second
	lastSetBack    = 30 * time.Second
	// silentExchanges in a row without an answer from anything mean that the connection itself may be dead.
	silentExchanges = 3
	// lateAfter is how long after its due time a poll counts as late.
	lateAfter = 50 * time.Millisecond
	// drain is how long an exchange under way may take to end when its link stops.
	drain = 2 * time.Second
)

// runner owns one link: its session, its schedule, its stations. All fields but inbox and status belong to run.
type runner struct {
	link   site.Link
	driver Driver
	sink   Sink

	session   Session
	uncut     func() bool // gives up cutting the session off
	stations  map[string]*stationRun
	schedule  schedule
	reconnect backoff
	quietFrom time.Time // end of the last exchange, for the link's pause
	silent    int       // exchanges in a row that nothing answered
	placed    int       // jobs that were given a place in their period

	inbox inbox

	mu     sync.Mutex
	status LinkStatus // guarded by mu
	ended  Traffic    // of sessions that are closed; guarded by mu

	ctx    context.Context // ends when the runner is stopped
	cancel context.CancelFunc
	done   chan struct{}
}

// stationRun is a station as its runner sees it.
type stationRun struct {
	Station
	entries  []*entry
	setBack  backoff
	answered time.Time     // when it last did
	status   StationStatus // guarded by the runner's mu
}

// backoff is a pause that grows.
type backoff struct {
	pause time.Duration // 0: not backing off
	until time.Time
}

func (b *backoff) grow(first, last time.Duration, now time.Time) {
	b.pause = min(max(first, 2*b.pause), last)
	b.until = now.Add(b.pause)
}

// inbox hands functions to the runner without ever blocking the giver.
type inbox struct {
	mu     sync.Mutex
	list   []func()
	signal chan struct{}
}

func (b *inbox) put(f func()) {
	b.mu.Lock()
	b.list = append(b.list, f)
	b.mu.Unlock()
	select {
	case b.signal <- struct{}{}:
	default:
	}
}

func (b *inbox) take() []func() {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := b.list
	b.list = nil
	return list
}

// start begins running a link once after has closed; the runner it replaces closes it.
func start(ctx context.Context, link site.Link, driver Driver, sink Sink, stations []Station, after <-chan struct{}) *runner {
	r := &runner{
		link: link, driver: driver, sink: sink, stations: map[string]*stationRun{},
		inbox: inbox{signal: make(chan struct{}, 1)}, done: make(chan struct{}),
		status: LinkStatus{Name: link.Name, State: LinkConnecting},
	}
	r.ctx, r.cancel = context.WithCancel(ctx)
	for _, s := range stations {
		r.configure(s)
	}
	go func() {
		defer close(r.done)
		if after != nil {
			<-after
		}
		r.run(r.ctx)
	}()
	return r
}

// stop ends the runner; done is closed when the exchange under way has ended, or was cut off after drain.
func (r *runner) stop() { r.cancel() }

func (r *runner) stopped() bool { return r.ctx.Err() != nil }

func (r *runner) run(ctx context.Context) {
	defer r.finish()
	if !r.link.Enabled {
		r.setLink(LinkDisabled, "")
		for _, s := range r.stations {
			failAll(s.Slots, reading.Disabled)
		}
		r.idle(ctx)
		return
	}
	for ctx.Err() == nil {
		r.serve()
		wait := r.step(ctx)
		if wait <= 0 {
			continue
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-r.inbox.signal:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// idle serves the inbox of a link that is not opened.
func (r *runner) idle(ctx context.Context) {
	for {
		r.serve()
		select {
		case <-ctx.Done():
			return
		case <-r.inbox.signal:
		}
	}
}

// serve does what was handed in: commands and changes of the configuration.
func (r *runner) serve() {
	for _, f := range r.inbox.take() {
		f()
	}
}

// finish answers what is still waiting and closes the session.
func (r *runner) finish() {
	r.closeSession()
	r.serve()
}

// step does the one thing that is due and returns how long nothing else is.
func (r *runner) step(ctx context.Context) time.Duration {
	now := time.Now()
	if r.session == nil {
		if now.Before(r.reconnect.until) {
			return r.reconnect.until.Sub(now)
		}
		if len(r.schedule) == 0 {
			r.setLink(LinkIdle, "nothing is to be read on it")
			return time.Hour
		}
		r.open(ctx)
		return 0
	}
	e := r.schedule.next()
	if e == nil {
		return time.Hour
	}
	if wait := e.due.Sub(now); wait > 0 {
		return wait
	}
	if wait := r.quietFrom.Add(time.Duration(r.link.Pause)).Sub(now); wait > 0 {
		return wait
	}
	if back := e.station.setBack; back.pause > 0 && now.Before(back.until) {
		r.schedule.move(e, back.until)
		return 0
	}
	r.poll(ctx, e, now)
	return 0
}

// open tries to open the link once.
func (r *runner) open(ctx context.Context) bool {
	session, err := r.driver.Open(ctx, r.link, r.sink)
	now := time.Now()
	if err != nil {
		if ctx.Err() != nil {
			return false
		}
		r.reconnect.grow(firstReconnect, lastReconnect, now)
		r.setLink(LinkDown, err.Error())
		for _, s := range r.stations {
			failAll(s.Slots, reading.LinkDown)
			r.setStation(s, StationUnknown, "the link is down")
		}
		return false
	}
	// When the runner is stopped, an exchange under way may end by itself; then it is cut off.
	r.uncut = context.AfterFunc(ctx, func() {
		timer := time.NewTimer(drain)
		defer timer.Stop()
		select {
		case <-timer.C:
			session.Close()
		case <-r.done:
		}
	})
	r.mu.Lock()
	r.session = session
	r.status.Connections++
	fresh := r.status.State != LinkUp
	r.mu.Unlock()
	r.reconnect, r.silent = backoff{}, 0
	r.setLink(LinkUp, "")
	for _, s := range r.stations {
		if fresh { // after an outage, not when only the connection was renewed
			s.setBack = backoff{}
			r.dueNow(s, now)
		}
		if s.AfterConnect > 0 {
			r.holdOff(s, now.Add(time.Duration(s.AfterConnect)))
		}
	}
	return true
}

// holdOff lets a station come to itself: nothing is due before a moment.
func (r *runner) holdOff(s *stationRun, until time.Time) {
	for _, e := range s.entries {
		if e.due.Before(until) {
			r.schedule.move(e, until)
		}
	}
}

func (r *runner) closeSession() {
	if r.session == nil {
		return
	}
	r.uncut()
	r.session.Close()
	r.mu.Lock()
	r.ended.add(r.session.Traffic())
	r.session = nil
	r.mu.Unlock()
}

// poll does a job, repeats it as the link says, and makes of the result what it means for its station.
func (r *runner) poll(ctx context.Context, e *entry, now time.Time) {
	late := now.Sub(e.due)
	out := r.exchange(e)
	retries := r.link.Retries
	if e.station.setBack.pause > 0 {
		retries = 0 // asked once, it costs its neighbours one timeout
	}
	if r.session.Lost() {
		retries = max(1, retries) // the far end may have closed an idle connection
	}
	for ; retries > 0 && out.Err != nil && !out.Answered && ctx.Err() == nil; retries-- {
		if time.Since(e.station.answered) > 2*e.job.Period() {
			failAll(e.job.Slots(), out.Reason) // two polls are missing already; the repetitions go on
		}
		if r.session.Lost() {
			r.closeSession()
			if !r.open(ctx) {
				return
			}
		}
		if r.serve(); e.index < 0 || r.session == nil {
			return // what came in between did away with the job or the session
		}
		r.count(e.station, func(s *Statistics) { s.Retries++ })
		out = r.exchange(e)
	}
	end := time.Now()
	r.count(e.station, func(s *Statistics) {
		s.Polls++
		if late > lateAfter && e.ran {
			s.LatePolls++
		}
	})
	e.ran = true
	r.reschedule(e, end)
	if ctx.Err() != nil && out.Err != nil {
		return // cut off on purpose; that says nothing about the device
	}
	r.conclude(e, out, end)
}

// conclude draws the consequences of an outcome.
func (r *runner) conclude(e *entry, out Outcome, now time.Time) {
	switch {
	case out.Err == nil:
		r.alive(e.station, now)
	case out.Answered:
		r.alive(e.station, now)
		if out.Instead == nil {
			failAll(e.job.Slots(), out.Reason)
		}
	case r.session.Lost():
		// Whether the whole link is down shows when it is opened again; its other stations may be well.
		r.closeSession()
		r.silence(e.station, out, now)
	default:
		r.silence(e.station, out, now)
		if r.silent >= silentExchanges*(1+r.link.Retries) {
			// The far end may have restarted without a word. A new connection finds out.
			r.closeSession()
			r.count(nil, func(s *Statistics) { s.Renewals++ })
		}
	}
	if out.Instead != nil {
		r.replace(e, out.Instead, now)
	}
}

// exchange does a job once and counts it.
func (r *runner) exchange(e *entry) Outcome {
	began := time.Now()
	out := r.session.Do(e.job)
	r.quietFrom = time.Now()
	took := r.quietFrom.Sub(began)
	r.silent++
	if out.Err == nil || out.Answered {
		r.silent = 0
		e.station.answered = r.quietFrom
	}
	r.count(e.station, func(s *Statistics) {
		s.Requests++
		if out.Err == nil || out.Answered {
			s.Answers++
			s.answered(took, r.quietFrom)
		}
		if out.Err != nil {
			s.fail(out.Reason)
		}
	})
	return out
}

// alive notes that a station answered. One that was set back is asked everything at once.
func (r *runner) alive(s *stationRun, now time.Time) {
	if s.status.State != StationAnswering {
		r.setStation(s, StationAnswering, "")
	}
	if s.setBack.pause > 0 {
		s.setBack = backoff{}
		r.dueNow(s, now)
	}
}

// silence notes that a station did not answer and sets it back.
func (r *runner) silence(s *stationRun, out Outcome, now time.Time) {
	s.setBack.grow(firstSetBack, lastSetBack, now)
	r.setStation(s, StationSilent, out.Err.Error())
	failAll(s.Slots, out.Reason)
}

// dueNow makes all jobs of a station due at once, each at the last place on its grid, so that they stay spread.
func (r *runner) dueNow(s *stationRun, now time.Time) {
	for _, e := range s.entries {
		e.ran = false // being asked out of turn is not being late
		r.schedule.move(e, e.place(now))
	}
}

// reschedule sets when a job is next due: on its grid, or at once when it is behind.
func (r *runner) reschedule(e *entry, now time.Time) {
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
func (r *runner) offset(period time.Duration) time.Duration {
	h := fnv.New32a()
	h.Write([]byte(r.link.Name))
	const golden = 0.6180339887498949
	r.placed++
	_, share := math.Modf(float64(h.Sum32())/(1<<32) + float64(r.placed)*golden)
	return time.Duration(share * float64(period))
}

// replace puts other jobs in the place of one.
func (r *runner) replace(e *entry, jobs []Job, now time.Time) {
	r.schedule.remove(e)
	kept := e.station.entries[:0]
	for _, other := range e.station.entries {
		if other != e {
			kept = append(kept, other)
		}
	}
	e.station.entries = kept
	r.addJobs(e.station, jobs, now)
}

func (r *runner) addJobs(s *stationRun, jobs []Job, due time.Time) {
	for _, job := range jobs {
		e := &entry{job: job, station: s, anchor: due, due: due, index: -1}
		s.entries = append(s.entries, e)
		r.schedule.add(e)
	}
}

// configure adds a station, or replaces what is known of it; runs on the runner's goroutine, or before it starts.
func (r *runner) configure(station Station) {
	s, known := r.stations[station.Name]
	if known {
		for _, e := range s.entries {
			r.schedule.remove(e)
		}
		s.entries = nil
		r.mu.Lock()
		s.Station = station
		r.mu.Unlock()
	} else {
		s = &stationRun{Station: station, status: StationStatus{Name: station.Name, Link: r.link.Name, State: StationUnknown}}
		r.mu.Lock()
		r.stations[station.Name] = s
		r.mu.Unlock()
	}
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
	case r.session == nil && r.status.State == LinkDown:
		failAll(station.Slots, reading.LinkDown)
	case s.setBack.pause > 0:
		s.setBack.until = now // what changed may be the cure
	}
	r.addJobs(s, r.driver.Jobs(station), now)
	for _, e := range s.entries {
		// The first poll is at once; the grid begins at the job's own place in the period before it.
		e.anchor = now.Add(-r.offset(e.job.Period()))
		r.schedule.move(e, e.anchor)
	}
}

// drop forgets a station.
func (r *runner) drop(name string) {
	s, known := r.stations[name]
	if !known {
		return
	}
	for _, e := range s.entries {
		r.schedule.remove(e)
	}
	r.mu.Lock()
	delete(r.stations, name)
	r.mu.Unlock()
}

func failAll(slots []*Slot, reason reading.Reason) {
	now := time.Now()
	for _, slot := range slots {
		slot.fail(reason, now)
	}
}
