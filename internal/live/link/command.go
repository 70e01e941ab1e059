package link

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
)

// Errors of commands.
var (
	ErrStopped  = errors.New("the link was stopped or changed meanwhile; try again")
	ErrBorrowed = errors.New("something else has the line")
	ErrRefused  = errors.New("refused by the device") // what was asked was not done
	ErrNotAsked = errors.New("not asked")             // nothing was sent
)

// Turn is the turn of a command on a connection of a station's link.
type Turn struct {
	r *Runner
	c *connection
	s *stationRun
}

// Station is the station that the command is for, as it is now.
func (t *Turn) Station() Station { return t.s.Station }

// Use opens the connection when it is not and calls f, which waits for the far end; once more when f failed because the far end had closed
// an idle connection. Its error says why the connection cannot be opened.
func (t *Turn) Use(f func(Session) (failed bool)) error { return t.r.using(t.c, t.s, f) }

// Alone runs f, within Use, while nobody else does so for the station: what reads, changes and writes back is one step.
func (t *Turn) Alone(f func()) {
	t.s.writing.Lock()
	defer t.s.writing.Unlock()
	f()
}

// Emit takes in samples.
func (t *Turn) Emit(samples []table.Sample) { t.r.Emit(samples) }

// Command runs f on a connection of the link, between two exchanges, and waits for it. When ctx ends before f's turn, f is not run.
func (r *Runner) Command(ctx context.Context, station string, f func(*Turn) error) error {
	return r.hand(ctx, func(c *connection) error {
		s, known := r.stations[station]
		switch {
		case !known:
			return ErrStopped
		case !r.link.Enabled:
			return fmt.Errorf("link %s is %w; enable it first", r.link.Name, ErrDisabled)
		case !s.Enabled:
			return fmt.Errorf("station %s is %w; enable it first", station, ErrDisabled)
		}
		return f(&Turn{r, c, s})
	})
}

// ReadAddresses asks a station for addresses that no point needs to have.
func (r *Runner) ReadAddresses(ctx context.Context, station string, what site.Range) (samples []table.Sample, err error) {
	fault := r.Command(ctx, station, func(t *Turn) error {
		st := t.Station().Station
		return t.Use(func(session Session) bool {
			samples, err = session.Read(st, what)
			return err != nil
		})
	})
	if fault != nil {
		return nil, fault
	}
	return samples, err
}

// Refresh plans a station anew and asks it everything at once, what it refused before included.
func (r *Runner) Refresh(ctx context.Context, station string) error {
	return r.Command(ctx, station, func(t *Turn) error {
		t.s.setBack = backoff{}
		t.s.Memory = new(atomic.Value)
		r.mu.Lock()
		t.s.notes = nil
		r.mu.Unlock()
		r.configure(t.s.Station)
		return nil
	})
}

// Test is what a station answered to a request for any sign of life.
type Test struct {
	Answers     bool
	Message     string // what was asked and what came back, in words
	RoundTripMS float64
}

// TestStation asks a station for any sign of life.
func (r *Runner) TestStation(ctx context.Context, station string) (test Test, err error) {
	err = r.Command(ctx, station, func(t *Turn) error {
		st, called := t.Station().Station, t.s.Called()
		down := t.Use(func(session Session) bool {
			sign, err := session.Test(st)
			test.RoundTripMS = float64(sign.Took) / float64(time.Millisecond)
			test.Answers, test.Message = err == nil, sign.Said
			if err != nil {
				test.Message = fmt.Sprintf("no valid response from %s: %s", called, err)
			}
			return err != nil
		})
		if down != nil {
			test.Message = down.Error()
		}
		return nil
	})
	if errors.Is(err, ErrDisabled) || errors.Is(err, ErrBorrowed) {
		return Test{Message: err.Error()}, nil
	}
	return test, err
}

// Perform has a station do one of its driver's Actions and says what came of it.
func (r *Runner) Perform(ctx context.Context, station, action string) (said string, err error) {
	fault := r.Command(ctx, station, func(t *Turn) error {
		st := t.Station().Station
		return t.Use(func(session Session) bool {
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

// using opens the connection when it is not and calls f, which waits for the far end; once more when f failed because
// the far end had closed an idle connection. Its error says why the connection cannot be opened.
func (r *Runner) using(c *connection, s *stationRun, f func(Session) (failed bool)) error {
	for range 2 {
		if !r.ready(c) {
			if r.lent() {
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
			c.answered, c.heard = true, c.quietFrom
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

// hand gives f to a lane, which runs it between two exchanges, and waits for it. When ctx ends before f's turn, f is not
// run. While the link is borrowed nothing else is done on it.
func (r *Runner) hand(ctx context.Context, f func(*connection) error) error {
	if why, borrowed := r.borrowed(); borrowed && !r.yield(ctx) {
		return fmt.Errorf("link %s: %w: %s; try again when it has ended", r.link.Name, ErrBorrowed, why)
	}
	var begun atomic.Bool // by the lane, or given up
	result := make(chan error, 1)
	r.inbox.command(func(c *connection) {
		switch {
		case !begun.CompareAndSwap(false, true):
		case r.stopped():
			result <- ErrStopped
		case r.lent():
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

// ErrDisabled is wrapped by errors that say what is disabled; nothing was sent then.
var ErrDisabled = fmt.Errorf("disabled%w", quiet{})

// quiet makes an error an ErrNotAsked that keeps its own text.
type quiet struct{}

func (quiet) Error() string        { return "" }
func (quiet) Is(target error) bool { return target == ErrNotAsked }

func (r *Runner) unready(s *stationRun) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return fmt.Sprintf("link %s of station %s is down: %s", r.link.Name, s.Name, r.status.Reason)
}

// Good reports whether samples hold values.
func Good(samples []table.Sample) bool {
	for _, s := range samples {
		if s.Quality == reading.Bad {
			return false
		}
	}
	return len(samples) > 0
}
