package link

import (
	"context"
	"errors"
	"sync"
)

// Hold keeps the link from being lent until release is called, since something was begun on it whose end must not wait.
func (r *Runner) Hold() (release func()) {
	r.holds.Add(1)
	return sync.OnceFunc(func() { r.holds.Add(-1) })
}

// Lend gives the link to f alone: its connections are closed and its polls pause until f returns. f ends soon after its context does, which
// is when ctx ends or the link is stopped or changed.
func (r *Runner) Lend(ctx context.Context, why string, f func(context.Context)) error {
	return r.hand(ctx, func(*connection) error {
		if r.holds.Load() > 0 {
			return errors.New("a pulse is being written, whose end must not wait; try again in a moment")
		}
		for _, c := range r.connections {
			r.close(c)
		}
		r.mu.Lock()
		state, reason := r.status.State, r.status.Reason
		r.mu.Unlock()
		r.lend(true)
		r.setLink(Paused, why)
		lent, end := context.WithCancel(ctx)
		defer end()
		defer context.AfterFunc(r.ctx, end)()
		r.turn.Unlock()
		f(lent)
		r.turn.Lock()
		r.lend(false)
		r.setLink(state, reason)
		r.inbox.wake()
		return nil
	})
}

// borrowed reports whether somebody has the link, and who.
func (r *Runner) borrowed() (why string, is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.status.Reason, r.status.State == Paused
}

// lend gives the connections away, which are closed or being opened, or takes them back.
func (r *Runner) lend(away bool) {
	for _, c := range r.connections {
		switch {
		case away:
			c.state = lent
		case c.opened != nil: // it was being opened before, and still is
			c.state = opening
		default:
			c.state = closed
		}
	}
}

// lent reports whether somebody else has the line. All connections go together.
func (r *Runner) lent() bool { return r.connections[0].state == lent }
