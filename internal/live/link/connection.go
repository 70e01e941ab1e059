package link

import (
	"context"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
)

// state is what a connection is.
type state int

const (
	closed  state = iota // and opened again when it has something to do, and its pause is over
	opening              // somebody opens it; who needs it waits
	open                 // its session serves whoever has the turn
	lent                 // somebody else has the line; nothing is opened until it comes back
)

// connection is one of a link's. It goes from one state to the next in ready, open, close and Lend alone, with the turn held, and its life
// hangs on the runner, never on who asked for it first.
type connection struct {
	state             state
	session           Session       // of an open one; changed with the runner's mu held, too
	opened            chan struct{} // closed when the opening that is under way has ended; nil when none is
	cancelForcedClose func() bool   // gives up cutting the session off
	answered          bool          // something was answered on it since it was opened
	reconnect         backoff
	heard             time.Time // end of the last exchange that was answered
	quietFrom         time.Time // end of the last exchange, for the link's pause
	silent            int       // exchanges in a row that nothing answered
}

// up reports whether any connection is open.
func (r *Runner) up() bool { return r.upBeside(nil) }

// upBeside reports whether another connection than c is open.
func (r *Runner) upBeside(c *connection) bool {
	for _, other := range r.connections {
		if other != c && other.state == open {
			return true
		}
	}
	return false
}

// servedBeside reports whether another connection than c is open and has been answered on.
func (r *Runner) servedBeside(c *connection) bool {
	for _, other := range r.connections {
		if other != c && other.state == open && other.answered {
			return true
		}
	}
	return false
}

// ready opens a connection unless it is open, or waits for whoever opens it. It reports whether it is open.
func (r *Runner) ready(c *connection) bool {
	switch {
	case r.stopped():
		return false
	case c.state == closed:
		return r.open(c)
	case c.state == opening:
		opened := c.opened
		r.outside(func() {
			select {
			case <-opened:
			case <-r.ctx.Done():
			}
		})
	}
	return c.state == open
}

// open tries to open a connection once. The connection must be closed, and nobody about to open it.
func (r *Runner) open(c *connection) bool {
	var session Session
	var err error
	opened := make(chan struct{})
	c.state, c.opened = opening, opened
	r.outside(func() {
		if fault := crash.Catch(func() { session, err = r.driver.Open(r.ctx, r.link, r) }); fault != nil {
			r.Fault(fault)
			err = fault
		}
	})
	defer close(opened)
	c.opened = nil
	wanted := c.state == opening // and not lent meanwhile
	if wanted {
		c.state = closed
	}
	now := time.Now()
	if err != nil {
		if !r.stopped() && wanted {
			c.reconnect.grow(firstReconnect, lastReconnect, now)
			r.notOpened(c, err, now)
		}
		return false
	}
	if r.stopped() || !wanted {
		r.outside(session.Close)
		return false
	}
	// When the runner is stopped, an exchange under way may end by itself; then it is cut off.
	c.cancelForcedClose = context.AfterFunc(r.ctx, func() {
		timer := time.NewTimer(drain)
		defer timer.Stop()
		select {
		case <-timer.C:
			session.Close()
		case <-r.done:
		}
	})
	r.mu.Lock()
	c.state, c.session = open, session
	r.failures = 0
	if r.status.Connections++; r.status.Connections > uint64(len(r.connections)) {
		r.own().at(now, func(t *tally) { t.reconnect++ })
	}
	fresh := r.status.State != Up
	r.mu.Unlock()
	c.answered, c.silent = false, 0
	if reporter, ok := session.(Reporter); ok {
		for _, s := range r.stations {
			if s.Enabled {
				reporter.Follow(s.Station)
			}
		}
		reporter.Begin()
	}
	r.log.Debug("connection opened", "link", r.link.Name, "far_end", r.link.FarEnd())
	r.setLink(Up, "")
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

// notOpened draws the consequences of a connection that did not open.
func (r *Runner) notOpened(c *connection, err error, now time.Time) {
	if r.upBeside(c) { // the others go on
		r.mu.Lock()
		r.own().at(now, func(t *tally) { t.extra++ })
		r.mu.Unlock()
		r.log.Debug("a further connection is not taken", "link", r.link.Name, "error", err)
		return
	}
	r.mu.Lock()
	r.failure, r.meant = failureOf(err)
	r.failures++
	r.mu.Unlock()
	r.setLink(Down, err.Error())
	for _, s := range r.stations {
		if s.Enabled {
			failAll(s.Slots, reading.LinkDown)
			r.setStation(s, StationUnknown, "the link is down")
		}
	}
}

// lost closes a connection that has ended. One on which nothing was answered is not opened again at once.
func (r *Runner) lost(c *connection, now time.Time) {
	if !c.answered {
		c.reconnect.grow(firstReconnect, lastReconnect, now)
	}
	r.close(c)
}

// unwanted reports whether the far end does not serve a connection, while it serves another: it takes fewer than the link allows.
func (r *Runner) unwanted(c *connection, out Outcome, lost bool, now time.Time) bool {
	if c.answered || out.Err == nil || out.Answered || out.Skipped || !r.servedBeside(c) {
		return false
	}
	r.mu.Lock()
	r.own().at(now, func(t *tally) { t.extra++ })
	r.mu.Unlock()
	if !lost {
		r.lost(c, now)
	}
	return true
}

func (r *Runner) close(c *connection) {
	if c.state != open {
		return
	}
	c.cancelForcedClose()
	c.session.Close()
	r.log.Debug("connection closed", "link", r.link.Name, "answered", c.answered)
	r.mu.Lock()
	r.ended.Add(c.session.Traffic())
	c.state, c.session = closed, nil
	r.mu.Unlock()
}
