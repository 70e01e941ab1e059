package link

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// Pauses between attempts at what does not answer grow from the first to the last.
const (
	firstReconnect = 500 * time.Millisecond
	lastReconnect  = 15 * time.Second
	firstSetBack   = 2 * time.Second
	lastSetBack    = 30 * time.Second
	// silentExchanges in a row without a response from anything mean that the connection itself may be dead.
	silentExchanges = 3
	// busyDelay is the least time after which a device that asks for it is asked again.
	busyDelay = 250 * time.Millisecond
	// lateAfter is how long after its due time a poll counts as late.
	lateAfter = 50 * time.Millisecond
	// drain is how long an exchange under way may take to end when its link stops.
	drain = 800 * time.Millisecond
	// A station is planned again, once, when so many responses have told that an exchange with it takes so long or longer.
	planAnswers   = 32
	planRoundTrip = 5 * time.Millisecond
)

// Runner owns one link: its connections, its schedule, its stations.
//
// It has a lane, a goroutine, for each request that may be under way at once: as many as the link allows in flight, on
// each of its connections. The lanes take turns: one holds turn while it acts, and gives it up only while it waits for the
// far end, so that everything between two waits happens at once for the others. A link of one lane, which is the usual
// one, does one thing after the other.
type Runner struct {
	log    *slog.Logger
	link   site.Link
	driver Driver
	table  *table.Table
	lanes  int

	recognisers map[site.Protocol]Recogniser

	turn        sync.Mutex // guards what follows, to inbox
	connections []*connection
	stations    map[string]*stationRun
	schedule    schedule
	placed      int // jobs that were given a place in their period

	inbox inbox

	mu     sync.Mutex
	status Status  // guarded by mu
	ended  Traffic // of sessions that are closed; guarded by mu

	figures  *figures            // of what is the link's alone, nil while there is nothing; guarded by mu
	since    tally               // since the last response of anything; guarded by mu
	units    map[int]*stationRun // by unit; guarded by mu
	found    []int               // by a scan or probe; guarded by mu
	foundAt  time.Time           // likewise
	others   others              // settings that were tried; guarded by mu
	pairs    map[pair]time.Time  // of which it was tried whether they are interchanged; guarded by mu
	failure  failure.Kind        // why it does not open; guarded by mu
	meant    string              // the serial port that may be, where that of the link is not there; guarded by mu
	failures int                 // attempts in a row; guarded by mu
	faults   int                 // panics of its sessions; guarded by mu
	faultAt  time.Time           // when the last one was; guarded by mu
	fault    string              // in words; guarded by mu
	words    string              // the last text that came in place of a frame; guarded by mu
	ring     *traffic.Ring

	ctx    context.Context // ends when the runner is stopped
	cancel context.CancelFunc
	done   chan struct{}
	holds  *atomic.Int32 // things begun whose end must not wait
}

// stationRun is a station as its runner sees it.
type stationRun struct {
	Station
	entries  []*entry
	setBack  backoff
	probing  bool          // it is set back, and being asked whether it answers again
	planned  time.Duration // round trip with which its jobs were planned
	answered time.Time     // when it last did
	missed   int           // exchanges in a row without a response
	settings int           // counts how often it began to be asked in another way
	writing  sync.Mutex    // held by one write at a time, since some read and change; never taken with the turn held
	status   StationStatus // guarded by the runner's mu

	figures   figures // guarded by the runner's mu, as what follows
	since     tally   // since its last response
	rests     rests
	otherUnit int // that answered in its place, at otherAt
	otherAt   time.Time
	failure   failure.Kind // why it could not be called; of one that is silent
	lastKind  traffic.Kind
	refusals  map[*entry]*refusal
	notes     map[diagnose.NoteKind]diagnose.Note
	demand    []diagnose.Demand
	instead   string                       // the station that has its address, with which it is interchanged; "" for none
	likelyAt  time.Time                    // when it was looked whether it has another address
	flagged   map[reading.Reason]time.Time // since when the device flags points of it, by reason
	notBad    time.Time                    // when a point of it was last not bad, as far as was looked
}

// Options are what a Runner needs.
type Options struct {
	Log      *slog.Logger
	Link     site.Link
	Driver   Driver
	Table    *table.Table
	Ring     *traffic.Ring // of what crosses the link
	Stations []Station
	Others   map[site.Protocol]Driver // of other protocols; nil where they are not to be looked for
	Replaces *Runner                  // it begins once this one has ended, and what holds that holds it; nil for none
}

// Start begins running a link, until ctx ends or it is stopped.
func Start(ctx context.Context, o Options) *Runner {
	link, after, holds := o.Link.WithDefaults(), (<-chan struct{})(nil), new(atomic.Int32)
	if o.Replaces != nil {
		after, holds = o.Replaces.done, o.Replaces.holds
	}
	r := &Runner{
		log: o.Log, link: link, driver: o.Driver, table: o.Table, ring: o.Ring, units: map[int]*stationRun{}, stations: map[string]*stationRun{}, lanes: link.Connections * link.InFlight,
		inbox: inbox{signal: make(chan struct{}, 1)}, done: make(chan struct{}), holds: holds,
		status: Status{Name: link.Name, State: Connecting},
	}
	r.recognisers = map[site.Protocol]Recogniser{}
	for protocol, driver := range o.Others {
		if other, can := driver.(Recogniser); can {
			r.recognisers[protocol] = other
		}
	}
	for range link.Connections {
		r.connections = append(r.connections, &connection{})
	}
	r.ctx, r.cancel = context.WithCancel(ctx)
	for _, s := range o.Stations {
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

// Stop ends the runner; Done is closed when the exchanges under way have ended, or were cut off after a moment.
func (r *Runner) Stop() { r.cancel() }

// Done is closed when the runner has ended.
func (r *Runner) Done() <-chan struct{} { return r.done }

// Link is the link that it runs.
func (r *Runner) Link() site.Link { return r.link }

// Configure adds a station, or replaces what is known of it.
func (r *Runner) Configure(station Station) {
	r.inbox.put(func(*connection) { r.configure(station) })
}

// Drop forgets a station.
func (r *Runner) Drop(station string) {
	r.inbox.put(func(*connection) { r.drop(station) })
}

func (r *Runner) stopped() bool { return r.ctx.Err() != nil }

func (r *Runner) run(ctx context.Context) {
	if !r.link.Enabled {
		r.setLink(Disabled, "")
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
	r.serveAll(r.connections[0]) // answers what is still waiting
}

// lane does what is due, one thing after the other, on one connection. Commands and polls that are due take turns.
func (r *Runner) lane(ctx context.Context, c *connection) {
	r.turn.Lock()
	defer r.turn.Unlock()
	commanded := false // a command was the last thing
	for ctx.Err() == nil {
		pollFirst := commanded && c.state == open && r.due()
		if c.state != opening {
			commanded = r.serve(c, !pollFirst) || commanded
		}
		wait, polled := r.step(c)
		if polled {
			commanded = false
		}
		if pollFirst = commanded && c.state == open && r.due(); wait <= 0 || !pollFirst && !r.inbox.empty() && c.state != opening {
			continue
		}
		r.turn.Unlock()
		r.sleep(ctx, wait)
		r.turn.Lock()
	}
}

// due reports whether a poll is.
func (r *Runner) due() bool {
	e := r.schedule.next()
	return e != nil && !r.lent() && !e.next.After(time.Now())
}

// sleep waits until there may be something to do.
func (r *Runner) sleep(ctx context.Context, wait time.Duration) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-r.inbox.signal:
	case <-timer.C:
	}
}

// outside gives up the turn while f waits for the far end.
func (r *Runner) outside(f func()) {
	if r.lanes > 1 {
		r.inbox.wake() // another lane may have something to do meanwhile
	}
	r.turn.Unlock()
	defer r.turn.Lock()
	f()
}

// idle serves the inbox of a link that is not opened.
func (r *Runner) idle(ctx context.Context) {
	r.turn.Lock()
	defer r.turn.Unlock()
	for ctx.Err() == nil {
		r.serveAll(r.connections[0])
		r.turn.Unlock()
		r.sleep(ctx, time.Hour)
		r.turn.Lock()
	}
	r.serveAll(r.connections[0])
}

// serve does the changes of the configuration that were handed in and, where it may, one command; it reports whether it did one.
func (r *Runner) serve(c *connection, commands bool) bool {
	for {
		t, ok := r.inbox.take(commands)
		if !ok {
			return false
		}
		if t.do(c); t.command {
			return true
		}
	}
}

// serveAll does everything that was handed in.
func (r *Runner) serveAll(c *connection) {
	for r.serve(c, true) {
	}
}

// step does the one thing that is due on a connection and returns how long nothing else is.
func (r *Runner) step(c *connection) (wait time.Duration, polled bool) {
	if c.state == lent {
		return time.Hour, false // it wakes the others when it ends
	}
	now := time.Now()
	e := r.schedule.next()
	if c.state != open {
		switch {
		case c.state == opening:
			return time.Hour, false // it wakes the others
		case now.Before(c.reconnect.until):
			return c.reconnect.until.Sub(now), false
		case e == nil:
			r.setLink(Idle, "nothing is to be read on it")
			return time.Hour, false
		case c != r.connections[0] && e.next.After(now): // a further one is opened when it has something to do
			return e.next.Sub(now), false
		}
		r.open(c)
		return 0, false
	}
	if e == nil {
		return time.Hour, false
	}
	if wait := e.next.Sub(now); wait > 0 {
		return wait, false
	}
	if wait := c.quietFrom.Add(time.Duration(r.link.Pause)).Sub(now); wait > 0 {
		return wait, false
	}
	if caller, ok := c.session.(Caller); ok {
		e = r.schedule.prefer(now, func(s *stationRun) bool { return s.setBack.pause == 0 && caller.AtHand(s.Station.Station) })
	}
	switch s := e.station; {
	case s.setBack.pause == 0:
	case now.Before(s.setBack.until):
		r.schedule.move(e, s.setBack.until)
		return 0, false
	case s.probing:
		r.schedule.move(e, now.Add(firstSetBack))
		return 0, false
	}
	r.poll(c, e, now)
	return 0, true
}
