package engine

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// Errors of commands.
var (
	ErrNoStation = errors.New("no such station")
	ErrNoPoint   = errors.New("no such point")
	ErrStopped   = errors.New("the link was stopped or changed meanwhile; try again")
	ErrBorrowed  = errors.New("something else has the line")
	ErrRefused   = errors.New("refused by the device") // what was asked was not done
	ErrNotAsked  = errors.New("not asked")             // nothing was sent
)

// ReadAddresses asks a station for addresses that no point needs to have.
func (e *Engine) ReadAddresses(ctx context.Context, station string, what site.Range) (samples []Sample, err error) {
	fault := e.command(ctx, station, func(r *runner, c *connection, s *stationRun) error {
		st := s.Station.Station
		return r.using(c, s, func(session Session) bool {
			samples, err = session.Read(st, what)
			return err != nil
		})
	})
	if fault != nil {
		return nil, fault
	}
	return samples, err
}

// using opens the connection when it is not and calls f, which waits for the far end; once more when f failed because
// the far end had closed an idle connection. Its error says why the connection cannot be opened.
func (r *runner) using(c *connection, s *stationRun, f func(Session) (failed bool)) error {
	for range 2 {
		if !r.ready(c) {
			if r.paused {
				return ErrBorrowed
			}
			return fmt.Errorf("%s%w", r.unready(s), quiet{})
		}
		session := c.session
		var failed bool
		var fault *crash.Error
		quiet := c.quietFrom.Add(time.Duration(r.link.Pause))
		r.outside(func() {
			time.Sleep(time.Until(quiet))
			fault = crash.Catch(func() { failed = f(session) })
		})
		if fault != nil {
			r.Fault(fault)
			if c.session == session {
				r.lost(c, time.Now())
			}
			return fault
		}
		if c.quietFrom = time.Now(); !failed {
			c.answered = true
		}
		if !session.Lost() {
			return nil
		}
		if c.session == session {
			r.close(c)
		}
		if !failed {
			return nil
		}
	}
	return nil
}

// Refresh plans a station anew and asks it everything at once, what it refused before included.
func (e *Engine) Refresh(ctx context.Context, station string) error {
	return e.command(ctx, station, func(r *runner, _ *connection, s *stationRun) error {
		s.setBack = backoff{}
		s.Memory = new(atomic.Value)
		r.configure(s.Station)
		return nil
	})
}

// Borrow gives a link to f alone: its connections are closed and its polls pause until f returns. f ends soon after its
// context does, which is when ctx ends or the link is stopped or changed.
func (e *Engine) Borrow(ctx context.Context, link, why string, f func(context.Context)) error {
	e.mu.Lock()
	r := e.runners[link]
	e.mu.Unlock()
	if r == nil {
		return ErrStopped
	}
	return r.hand(ctx, func(*connection) error {
		if e.pulses.running() {
			return errors.New("a pulse is being written, whose end must not wait; try again in a moment")
		}
		for _, c := range r.connections {
			r.close(c)
		}
		r.mu.Lock()
		state, reason := r.status.State, r.status.Reason
		r.mu.Unlock()
		r.paused = true
		r.setLink(LinkPaused, why)
		lent, end := context.WithCancel(ctx)
		defer end()
		defer context.AfterFunc(r.ctx, end)()
		r.turn.Unlock()
		f(lent)
		r.turn.Lock()
		r.paused = false
		r.setLink(state, reason)
		r.inbox.wake()
		return nil
	})
}

// hand gives f to a lane, which runs it between two exchanges, and waits for it. When ctx ends before f's turn, f is not
// run. While the link is borrowed nothing else is done on it.
func (r *runner) hand(ctx context.Context, f func(*connection) error) error {
	if why, borrowed := r.borrowed(); borrowed {
		return fmt.Errorf("link %s: %w: %s; try again when it has ended", r.link.Name, ErrBorrowed, why)
	}
	var begun atomic.Bool // by the lane, or given up
	result := make(chan error, 1)
	r.inbox.command(func(c *connection) {
		switch {
		case !begun.CompareAndSwap(false, true):
		case r.stopped():
			result <- ErrStopped
		case r.paused:
			result <- ErrBorrowed
		default:
			result <- f(c)
		}
	})
	select {
	case err := <-result:
		return err
	case <-ctx.Done():
		if begun.CompareAndSwap(false, true) {
			return ctx.Err()
		}
		return <-result // it has begun and is followed to its end
	case <-r.done:
		select {
		case err := <-result:
			return err
		default:
			return ErrStopped
		}
	}
}

// borrowed reports whether somebody has the link, and who.
func (r *runner) borrowed() (why string, is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.status.Reason, r.status.State == LinkPaused
}

// Test is what a station answered to a request for any sign of life.
type Test struct {
	Answers     bool    `json:"answers"`
	Message     string  `json:"message" doc:"what was asked and what came back, in words"`
	RoundTripMS float64 `json:"round_trip_ms"`
}

// TestStation asks a station for any sign of life.
func (e *Engine) TestStation(ctx context.Context, station string) (t Test, err error) {
	err = e.command(ctx, station, func(r *runner, c *connection, s *stationRun) error {
		st, called := s.Station.Station, s.Called()
		down := r.using(c, s, func(session Session) bool {
			began := time.Now()
			text, err := session.Test(st)
			t.RoundTripMS = float64(time.Since(began)) / float64(time.Millisecond)
			t.Answers, t.Message = err == nil, text
			if err != nil {
				t.Message = fmt.Sprintf("no proper answer from %s: %s", called, err)
			}
			return err != nil
		})
		if down != nil {
			t.Message = down.Error()
		}
		return nil
	})
	if errors.Is(err, errDisabled) || errors.Is(err, ErrBorrowed) {
		return Test{Message: err.Error()}, nil
	}
	return t, err
}

// Actions are what stations of a protocol can run beside reading and writing.
func (e *Engine) Actions(p site.Protocol) []Action {
	if actor, ok := e.drivers[p].(Actor); ok {
		return actor.Actions()
	}
	return nil
}

// Perform has a station do one of its Actions and says what came of it.
func (e *Engine) Perform(ctx context.Context, station, action string) (said string, err error) {
	fault := e.command(ctx, station, func(r *runner, c *connection, s *stationRun) error {
		st := s.Station.Station
		return r.using(c, s, func(session Session) bool {
			performer, ok := session.(Performer)
			if !ok {
				err = fmt.Errorf("stations of this protocol cannot be asked to %s", action)
				return true
			}
			said, err = performer.Perform(st, action)
			return false // it may have begun, so it is not tried again
		})
	})
	if fault != nil {
		return "", fault
	}
	return said, err
}

// errDisabled is wrapped by errors that say what is; nothing was sent then.
var errDisabled = fmt.Errorf("disabled%w", quiet{})

// quiet makes an error an ErrNotAsked without a word.
type quiet struct{}

func (quiet) Error() string        { return "" }
func (quiet) Is(target error) bool { return target == ErrNotAsked }

// command runs f on a lane of the station's link, between two exchanges, and waits for it.
// When ctx ends before f's turn, f is not run.
func (e *Engine) command(ctx context.Context, station string, f func(*runner, *connection, *stationRun) error) error {
	r, err := e.runnerOf(station)
	if err != nil {
		return err
	}
	return r.hand(ctx, func(c *connection) error {
		s, known := r.stations[station]
		switch {
		case !known:
			return ErrStopped
		case !r.link.Enabled:
			return fmt.Errorf("link %s is %w; enable it first", r.link.Name, errDisabled)
		case !s.Enabled:
			return fmt.Errorf("station %s is %w; enable it first", station, errDisabled)
		}
		return f(r, c, s)
	})
}

func (r *runner) unready(s *stationRun) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return fmt.Sprintf("link %s of station %s is down: %s", r.link.Name, s.Name, r.status.Reason)
}

// good reports whether samples hold values.
func good(samples []Sample) bool {
	for _, s := range samples {
		if s.Quality == reading.Bad {
			return false
		}
	}
	return len(samples) > 0
}
