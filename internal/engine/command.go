package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/reading"
	"arithmon/internal/site"
)

// Errors of commands.
var (
	ErrNoStation = errors.New("no such station")
	ErrNoPoint   = errors.New("no such point")
	ErrStopped   = errors.New("the link was stopped or changed meanwhile; try again")
)

// WriteOutcome is how a write ended.
type WriteOutcome string

// The outcomes.
const (
	Done    WriteOutcome = "done"    // written, and read back as sent
	Refused WriteOutcome = "refused" // by us or by the device; nothing changed
	Differs WriteOutcome = "differs" // accepted, but reads back otherwise
	Unknown WriteOutcome = "unknown" // sent, and not known what became of it
)

// Write is a write with its outcome. Before, Sent and After are engineering values, nothing where not known.
type Write struct {
	Tag     string
	Outcome WriteOutcome
	Before  codec.Value
	Sent    codec.Value
	After   codec.Value
	Message string
	// NotAllowed is set when the point, and not its value or device, is why the write was refused.
	NotAllowed bool
}

// Write sends an engineering value to a point. Everything that can be refused is refused before anything is sent.
// record is called, from another goroutine, just before something is sent, and nothing is sent when it fails.
// When ctx ends before the turn of the write has come, nothing is sent. A write is never repeated.
func (e *Engine) Write(ctx context.Context, tag string, given codec.Value, record func(Write) error) (Write, error) {
	w := Write{Tag: tag}
	slot := e.table.get(tag)
	if slot == nil {
		return w, ErrNoPoint
	}
	w.Before = slot.live().Reading.Value
	refuse := func(format string, args ...any) (Write, error) {
		w.Outcome, w.Message = Refused, fmt.Sprintf(format, args...)
		return w, nil
	}
	if !slot.Point.Writable {
		w.NotAllowed = true
		return refuse("not sent: %s is read-only; set writable: true on the point to allow writing", tag)
	}
	raw, err := slot.conversion.Raw(given)
	if err == nil {
		_, err = slot.Layout.Encode(raw)
	}
	if err != nil {
		return refuse("not sent: %s", err)
	}
	w.Sent, _ = slot.conversion.Engineering(raw)
	err = e.command(ctx, slot.Point.Station, func(r *runner, s *stationRun) error {
		if err := record(w); err != nil {
			return err
		}
		intended := w
		for range 2 { // once more where the far end had closed an idle connection, so that nothing reached it
			if !r.ready(ctx) {
				w.Outcome, w.Message = Refused, fmt.Sprintf("not sent: %s", r.unready(s))
				return nil
			}
			var again bool
			if w, again = r.write(s, slot, raw, intended); !again {
				return nil
			}
		}
		return nil
	})
	if errors.Is(err, errDisabled) {
		return refuse("not sent: %s", err)
	}
	return w, err
}

// write does the exchanges and says what came of them; again is true when the link was lost before anything was sent.
func (r *runner) write(s *stationRun, slot *Slot, raw codec.Value, w Write) (result Write, again bool) {
	began := time.Now()
	written := r.session.Write(s.Station.Station, slot, raw)
	r.quietFrom = time.Now()
	r.count(s, func(st *Statistics) { st.Requests++; st.answered(r.quietFrom.Sub(began), r.quietFrom) })
	value := func(sample *Sample) codec.Value {
		if sample == nil || sample.Quality == reading.Bad {
			return codec.Value{}
		}
		v, _ := slot.conversion.Engineering(sample.Value)
		return v
	}
	if written.Before != nil {
		w.Before = value(written.Before)
	}
	if written.Sent != nil {
		w.Sent = value(written.Sent) // as the device will hold it, rounded to what its type can carry
	}
	w.After = value(written.After)
	if written.After != nil {
		r.sink.Emit(*written.After)
	}
	say := slot.conversion.Text
	switch {
	case !written.Reached:
		w.Outcome, w.Message = Refused, fmt.Sprintf("not sent: %s", written.Err)
	case written.Err == nil:
		w.Outcome, w.Message = Done, fmt.Sprintf("wrote %s; reads back %s", say(w.Sent), say(w.After))
	case written.Accepted && written.After != nil:
		w.Outcome, w.Message = Differs, fmt.Sprintf("the device accepted %s but reads back %s", say(w.Sent), say(w.After))
	case written.Accepted:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("the device accepted %s, but it could not be read back: %s", say(w.Sent), written.Err)
	case written.Refused:
		w.Outcome, w.Message = Refused, fmt.Sprintf("the device refused: %s", written.Err)
	default:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent once; %s. Read the point before writing again", say(w.Sent), written.Err)
	}
	if r.session.Lost() {
		r.closeSession()
		return w, !written.Reached
	}
	return w, false
}

// ReadAddresses asks a station for addresses that no point needs to have.
func (e *Engine) ReadAddresses(ctx context.Context, station string, what site.Range) (samples []Sample, err error) {
	fault := e.command(ctx, station, func(r *runner, s *stationRun) error {
		for range 2 { // once more where the far end had closed an idle connection
			if !r.ready(ctx) {
				return errors.New(r.unready(s))
			}
			var lost bool
			samples, lost, err = r.read(s, what)
			if !lost {
				return err
			}
			r.closeSession()
		}
		return err
	})
	return samples, fault
}

func (r *runner) read(s *stationRun, what site.Range) (samples []Sample, lost bool, err error) {
	samples, err = r.session.Read(s.Station.Station, what)
	r.quietFrom = time.Now()
	return samples, r.session.Lost(), err
}

// Test is what a station answered to a request for any sign of life.
type Test struct {
	Answers     bool    `json:"answers"`
	Message     string  `json:"message" doc:"what was asked and what came back, in words"`
	RoundTripMS float64 `json:"round_trip_ms"`
}

// TestStation asks a station for any sign of life.
func (e *Engine) TestStation(ctx context.Context, station string) (t Test, err error) {
	err = e.command(ctx, station, func(r *runner, s *stationRun) error {
		for range 2 {
			if !r.ready(ctx) {
				t.Message = r.unready(s)
				return nil
			}
			began := time.Now()
			text, err := r.session.Test(s.Station.Station)
			r.quietFrom = time.Now()
			t.RoundTripMS = float64(r.quietFrom.Sub(began)) / float64(time.Millisecond)
			t.Answers, t.Message = err == nil, text
			if err == nil {
				return nil
			}
			t.Message = fmt.Sprintf("no proper answer from unit %d: %s", s.Unit, err)
			if !r.session.Lost() {
				return nil
			}
			r.closeSession()
		}
		return nil
	})
	if errors.Is(err, errDisabled) {
		return Test{Message: err.Error()}, nil
	}
	return t, err
}

var errDisabled = errors.New("disabled")

// command runs f on the goroutine of the station's link, between two exchanges, and waits for it.
// When ctx ends before f's turn, f is not run.
func (e *Engine) command(ctx context.Context, station string, f func(*runner, *stationRun) error) error {
	r, err := e.runnerOf(station)
	if err != nil {
		return err
	}
	result := make(chan error, 1)
	r.inbox.put(func() {
		s, known := r.stations[station]
		switch {
		case ctx.Err() != nil:
			result <- ctx.Err()
		case !known || r.stopped():
			result <- ErrStopped
		case !r.link.Enabled:
			result <- fmt.Errorf("link %s is %w; enable it first", r.link.Name, errDisabled)
		case !s.Enabled:
			result <- fmt.Errorf("station %s is %w; enable it first", station, errDisabled)
		default:
			result <- f(r, s)
		}
	})
	select {
	case err := <-result:
		return err
	case <-r.done:
		select {
		case err := <-result:
			return err
		default:
			return ErrStopped
		}
	}
}

// ready opens the link when it is not and may be.
func (r *runner) ready(ctx context.Context) bool {
	return r.session != nil || r.open(ctx)
}

func (r *runner) unready(s *stationRun) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return fmt.Sprintf("link %s of station %s is down: %s", r.link.Name, s.Name, r.status.Reason)
}
