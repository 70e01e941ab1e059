package engine

import (
	"cmp"
	"context"
	"hash/fnv"
	"math"
	"sync"
	"time"

	"arithmon/internal/diagnose"
	"arithmon/internal/reading"
	"arithmon/internal/site"
	"arithmon/internal/traffic"
)

// Pauses between attempts at what does not answer grow from the first to the last.
const (
	firstReconnect = 500 * time.Millisecond
	lastReconnect  = 15 * time.Second
	firstSetBack   = 2 * time.Second
	lastSetBack    = 30 * time.Second
	// silentExchanges in a row without an answer from anything mean that the connection itself may be dead.
	silentExchanges = 3
	// busyDelay is the least time after which a device that asks for it is asked again.
	busyDelay = 250 * time.Millisecond
	// lateAfter is how long after its due time a poll counts as late.
	lateAfter = 50 * time.Millisecond
	// drain is how long an exchange under way may take to end when its link stops.
	drain = 2 * time.Second
	// A station is planned again, once, when so many answers have told that an exchange with it takes so long or longer.
	planAnswers   = 32
	planRoundTrip = 5 * time.Millisecond
)

// runner owns one link: its connections, its schedule, its stations.
//
// It has a lane, a goroutine, for each request that may be under way at once: as many as the link allows in flight, on
// each of its connections. The lanes take turns: one holds turn while it acts, and gives it up only while it waits for the
// far end, so that everything between two waits happens at once for the others. A link of one lane, which is the usual
// one, does one thing after the other.
type runner struct {
	link   site.Link
	driver Driver
	table  *table
	lanes  int

	turn        sync.Mutex // guards what follows, to inbox
	connections []*connection
	stations    map[string]*stationRun
	schedule    schedule
	placed      int  // jobs that were given a place in their period
	paused      bool // somebody else has the line

	inbox inbox

	mu     sync.Mutex
	status LinkStatus // guarded by mu
	ended  Traffic    // of sessions that are closed; guarded by mu

	figures  *figures            // of what is the link's alone, nil while there is nothing; guarded by mu
	since    tally               // since the last answer of anything; guarded by mu
	units    map[int]*stationRun // by unit; guarded by mu
	failure  diagnose.Failure    // why it does not open; guarded by mu
	failures int                 // attempts in a row; guarded by mu
	ring     *traffic.Ring

	ctx    context.Context // ends when the runner is stopped
	cancel context.CancelFunc
	done   chan struct{}
}

// connection is one of a link's, open or not.
type connection struct {
	session   Session     // nil when it is not open; changed with the runner's mu held, too
	uncut     func() bool // gives up cutting the session off
	opening   bool        // a lane is about it
	reconnect backoff
	quietFrom time.Time // end of the last exchange, for the link's pause
	silent    int       // exchanges in a row that nothing answered
}

// stationRun is a station as its runner sees it.
type stationRun struct {
	Station
	entries  []*entry
	setBack  backoff
	probing  bool          // it is set back, and being asked whether it answers again
	planned  time.Duration // round trip with which its jobs were planned
	answered time.Time     // when it last did
	status   StationStatus // guarded by the runner's mu

	figures   figures // guarded by the runner's mu, as what follows
	since     tally   // since its last answer
	otherUnit int     // that answered in its place, at otherAt
	otherAt   time.Time
	lastKind  traffic.Kind
	refusals  map[*entry]*refusal
	notes     map[diagnose.NoteKind]diagnose.Note
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

// task is something that a lane does between exchanges; its connection is for it to use.
type task func(*connection)

// inbox hands tasks to the runner without ever blocking the giver.
type inbox struct {
	mu     sync.Mutex
	list   []task
	signal chan struct{} // wakes one lane
}

func (b *inbox) put(t task) {
	b.mu.Lock()
	b.list = append(b.list, t)
	b.mu.Unlock()
	b.wake()
}

func (b *inbox) wake() {
	select {
	case b.signal <- struct{}{}:
	default:
	}
}

// take returns the task that waits longest, nil when none does.
func (b *inbox) take() task {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.list) == 0 {
		return nil
	}
	t := b.list[0]
	b.list = b.list[1:]
	return t
}

// start begins running a link once after has closed; the runner it replaces closes it.
func start(ctx context.Context, link site.Link, driver Driver, table *table, ring *traffic.Ring, stations []Station, after <-chan struct{}) *runner {
	link = link.WithDefaults()
	r := &runner{
		link: link, driver: driver, table: table, ring: ring, units: map[int]*stationRun{}, stations: map[string]*stationRun{}, lanes: link.Connections * link.InFlight,
		inbox: inbox{signal: make(chan struct{}, 1)}, done: make(chan struct{}),
		status: LinkStatus{Name: link.Name, State: LinkConnecting},
	}
	for range link.Connections {
		r.connections = append(r.connections, &connection{})
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

// stop ends the runner; done is closed when the exchanges under way have ended, or were cut off after drain.
func (r *runner) stop() { r.cancel() }

func (r *runner) stopped() bool { return r.ctx.Err() != nil }

func (r *runner) run(ctx context.Context) {
	if !r.link.Enabled {
		r.setLink(LinkDisabled, "")
		for _, s := range r.stations {
			failAll(s.Slots, reading.Disabled)
		}
		r.idle(ctx)
		return
	}
	var lanes sync.WaitGroup
	for _, c := range r.connections {
		for range r.link.InFlight {
			lanes.Go(func() { r.lane(ctx, c) })
		}
	}
	lanes.Wait()
	r.turn.Lock()
	defer r.turn.Unlock()
	for _, c := range r.connections {
		r.close(c)
	}
	r.serve(r.connections[0]) // answers what is still waiting
}

// lane does what is due, one thing after the other, on one connection.
func (r *runner) lane(ctx context.Context, c *connection) {
	r.turn.Lock()
	defer r.turn.Unlock()
	for ctx.Err() == nil {
		if !c.opening {
			r.serve(c)
		}
		wait := r.step(ctx, c)
		if wait <= 0 {
			continue
		}
		r.turn.Unlock()
		r.sleep(ctx, wait)
		r.turn.Lock()
	}
}

// sleep waits until there may be something to do.
func (r *runner) sleep(ctx context.Context, wait time.Duration) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-r.inbox.signal:
	case <-timer.C:
	}
}

// outside gives up the turn while f waits for the far end.
func (r *runner) outside(f func()) {
	if r.lanes > 1 {
		r.inbox.wake() // another lane may have something to do meanwhile
	}
	r.turn.Unlock()
	defer r.turn.Lock()
	f()
}

// idle serves the inbox of a link that is not opened.
func (r *runner) idle(ctx context.Context) {
	r.turn.Lock()
	defer r.turn.Unlock()
	for ctx.Err() == nil {
		r.serve(r.connections[0])
		r.turn.Unlock()
		r.sleep(ctx, time.Hour)
		r.turn.Lock()
	}
	r.serve(r.connections[0])
}

// serve does what was handed in: commands and changes of the configuration.
func (r *runner) serve(c *connection) {
	for t := r.inbox.take(); t != nil; t = r.inbox.take() {
		t(c)
	}
}

// step does the one thing that is due on a connection and returns how long nothing else is.
func (r *runner) step(ctx context.Context, c *connection) time.Duration {
	if r.paused {
		return time.Hour // it wakes the others when it ends
	}
	now := time.Now()
	e := r.schedule.next()
	if c.session == nil {
		switch {
		case c.opening:
			return time.Hour // it wakes the others
		case now.Before(c.reconnect.until):
			return c.reconnect.until.Sub(now)
		case e == nil:
			r.setLink(LinkIdle, "nothing is to be read on it")
			return time.Hour
		case c != r.connections[0] && e.next.After(now): // a further one is opened when it has something to do
			return e.next.Sub(now)
		}
		r.open(ctx, c)
		return 0
	}
	if e == nil {
		return time.Hour
	}
	if wait := e.next.Sub(now); wait > 0 {
		return wait
	}
	if wait := c.quietFrom.Add(time.Duration(r.link.Pause)).Sub(now); wait > 0 {
		return wait
	}
	if caller, ok := c.session.(Caller); ok {
		e = r.schedule.prefer(now, func(s *stationRun) bool { return s.setBack.pause == 0 && caller.AtHand(s.Station.Station) })
	}
	switch s := e.station; {
	case s.setBack.pause == 0:
	case now.Before(s.setBack.until):
		r.schedule.move(e, s.setBack.until)
		return 0
	case s.probing:
		r.schedule.move(e, now.Add(firstSetBack))
		return 0
	}
	r.poll(ctx, c, e, now)
	return 0
}

// up reports whether any connection is open.
func (r *runner) up() bool {
	for _, c := range r.connections {
		if c.session != nil {
			return true
		}
	}
	return false
}

// open tries to open a connection once.
func (r *runner) open(ctx context.Context, c *connection) bool {
	var session Session
	var err error
	c.opening = true
	r.outside(func() { session, err = r.driver.Open(ctx, r.link, r) })
	c.opening = false
	now := time.Now()
	if err != nil {
		if ctx.Err() != nil {
			return false
		}
		c.reconnect.grow(firstReconnect, lastReconnect, now)
		if r.up() { // the others go on
			r.mu.Lock()
			r.own().at(now, func(t *tally) { t.extra++ })
			r.mu.Unlock()
			return false
		}
		r.mu.Lock()
		r.failure, r.failures = failureOf(err), r.failures+1
		r.mu.Unlock()
		r.setLink(LinkDown, err.Error())
		for _, s := range r.stations {
			failAll(s.Slots, reading.LinkDown)
			r.setStation(s, StationUnknown, "the link is down")
		}
		return false
	}
	// When the runner is stopped, an exchange under way may end by itself; then it is cut off.
	c.uncut = context.AfterFunc(ctx, func() {
		timer := time.NewTimer(drain)
		defer timer.Stop()
		select {
		case <-timer.C:
			session.Close()
		case <-r.done:
		}
	})
	r.mu.Lock()
	c.session = session
	r.failures = 0
	if r.status.Connections++; r.status.Connections > uint64(len(r.connections)) {
		r.own().at(now, func(t *tally) { t.reconnect++ })
	}
	fresh := r.status.State != LinkUp
	r.mu.Unlock()
	c.reconnect, c.silent = backoff{}, 0
	if reporter, ok := session.(Reporter); ok {
		for _, s := range r.stations {
			if s.Enabled {
				reporter.Follow(s.Station)
			}
		}
		reporter.Begin()
	}
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
	r.inbox.wake()
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

func (r *runner) close(c *connection) {
	if c.session == nil {
		return
	}
	c.uncut()
	c.session.Close()
	r.mu.Lock()
	r.ended.Add(c.session.Traffic())
	c.session = nil
	r.mu.Unlock()
}

// poll does a job once. When nothing answers it is done again, as often as the link says.
func (r *runner) poll(ctx context.Context, c *connection, e *entry, now time.Time) {
	s, late := e.station, now.Sub(e.due)
	r.schedule.remove(e)
	s.probing = s.setBack.pause > 0
	session := c.session
	out := r.exchange(c, e)
	end := time.Now()
	s.probing = false
	lost := session.Lost()
	if lost && c.session == session {
		r.close(c)
	}
	if e.gone {
		return
	}
	if out.Err != nil && (ctx.Err() != nil || r.paused) { // cut off on purpose; that says nothing about the device
		r.schedule.add(e)
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
func (r *runner) again(e *entry, out Outcome, lost bool) bool {
	retries := r.link.Retries
	if e.station.setBack.pause > 0 {
		retries = 0 // asked once, it costs its neighbours one timeout
	}
	if lost {
		retries = max(1, retries) // the far end may have closed an idle connection
	}
	return out.Err != nil && out.Rest == 0 && (!out.Answered || out.Later) && e.tries < retries
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
func (r *runner) conclude(c *connection, e *entry, out Outcome, now time.Time) {
	switch {
	case out.Err == nil:
		r.alive(e.station, now)
	case out.Skipped:
		failAll(e.job.Slots(), out.Reason)
	case out.Answered:
		r.alive(e.station, now)
		if out.Instead == nil {
			failAll(e.job.Slots(), out.Reason)
		}
	default:
		// Whether the whole link is down shows when it is opened again; its other stations may be well.
		r.silence(e.station, out, now)
		if c.silent >= silentExchanges*(1+r.link.Retries) && c.session != nil {
			// The far end may have restarted without a word. A new connection finds out.
			r.close(c)
			r.count(nil, func(s *Statistics) { s.Renewals++ })
		}
	}
	r.remember(e, out)
	if out.Instead != nil {
		r.replace(e, out.Instead, now)
	} else if s := e.station; s.planned == 0 && s.status.Statistics.Answers >= planAnswers && s.roundTrip() > planRoundTrip {
		r.configure(s.Station) // what an exchange costs is known now
	}
}

// exchange does a job once and counts it.
func (r *runner) exchange(c *connection, e *entry) (out Outcome) {
	session, began := c.session, time.Now()
	r.outside(func() { out = session.Do(e.job) })
	end := time.Now()
	if out.Skipped {
		return out
	}
	took := cmp.Or(out.Took, end.Sub(began))
	c.quietFrom = end
	c.silent++
	if out.Err == nil || out.Answered {
		c.silent = 0
		e.station.answered = end
	}
	r.mu.Lock()
	e.station.figures.at(end, func(t *tally) { t.exchanged(out, took, e.tries > 0) })
	if out.Err == nil || out.Answered {
		r.since, e.station.since = tally{}, tally{}
	} else {
		r.since.exchanged(out, took, e.tries > 0)
		e.station.since.exchanged(out, took, e.tries > 0)
	}
	r.mu.Unlock()
	r.count(e.station, func(s *Statistics) {
		s.Requests++
		if e.tries > 0 {
			s.Retries++
		}
		if out.Err == nil || out.Answered {
			s.Answers++
			s.answered(took, end)
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
	if s.setBack.pause == 0 || !now.Before(s.setBack.until) { // of several requests under way, one counts
		s.setBack.grow(max(firstSetBack, out.Rest), max(lastSetBack, 8*out.Rest), now)
	}
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

func (r *runner) forget(e *entry) {
	r.schedule.remove(e)
	e.gone = true
	r.mu.Lock()
	delete(e.station.refusals, e)
	r.mu.Unlock()
}

func (r *runner) addJobs(s *stationRun, jobs []Job, due time.Time) {
	for _, job := range jobs {
		e := &entry{job: job, station: s, anchor: due, due: due, next: due, index: -1}
		s.entries = append(s.entries, e)
		r.schedule.add(e)
	}
}

// configure adds a station, or replaces what is known of it; the caller has the turn, or the runner has not started.
func (r *runner) configure(station Station) {
	s, known := r.stations[station.Name]
	if known {
		for _, e := range s.entries {
			r.forget(e)
		}
		s.entries = nil
		station.RoundTrip = s.roundTrip()
		r.mu.Lock()
		delete(r.units, s.LinkAddress())
		s.Station, s.refusals, s.otherAt, s.notes = station, nil, time.Time{}, nil
		r.units[station.LinkAddress()] = s
		r.mu.Unlock()
	} else {
		s = &stationRun{Station: station, status: StationStatus{Name: station.Name, Link: r.link.Name, State: StationUnknown}}
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
	case !r.up() && r.status.State == LinkDown:
		failAll(station.Slots, reading.LinkDown)
	case s.setBack.pause > 0:
		s.setBack.until = now // what changed may be the cure
	}
	r.addJobs(s, r.driver.Jobs(r.link, station), now)
	for _, e := range s.entries {
		// The first poll is at once; the grid begins at the job's own place in the period before it.
		e.anchor = now.Add(-r.offset(e.job.Period()))
		r.schedule.move(e, e.anchor)
	}
}

// reporters calls f with the open sessions whose stations report by themselves.
func (r *runner) reporters(f func(Reporter)) {
	for _, c := range r.connections {
		if reporter, ok := c.session.(Reporter); ok {
			f(reporter)
		}
	}
}

// roundTrip is how long an exchange with the station takes, 0 while too little is known.
func (s *stationRun) roundTrip() time.Duration {
	if s.status.Statistics.Answers < planAnswers {
		return 0
	}
	return time.Duration(s.status.Statistics.RoundTripMS * float64(time.Millisecond))
}

// drop forgets a station.
func (r *runner) drop(name string) {
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

func failAll(slots []*Slot, reason reading.Reason) {
	now := time.Now()
	for _, slot := range slots {
		slot.fail(reason, now)
	}
}
