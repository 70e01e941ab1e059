package control

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"arithmon/internal/core/codec"
)

// A pulse's end is tried so often, with a pause between, before it is given up.
const (
	pulseTries = 5
	pulsePause = time.Second
	// pulsesEnd is how long the ends of pulses may take when the service stops.
	pulsesEnd = time.Second
)

// pulses are those whose end is to come. Stopping cuts them short.
type pulses struct {
	mu      sync.Mutex // guards what follows
	ends    sync.Cond  // tells that count fell
	stop    chan struct{}
	stopped bool
	count   int
}

func newPulses() *pulses {
	p := &pulses{stop: make(chan struct{})}
	p.ends.L = &p.mu
	return p
}

// begin reports whether another pulse may begin; end ends it.
func (p *pulses) begin() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.stopped {
		p.count++
	}
	return !p.stopped
}

func (p *pulses) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.count--
	p.ends.Broadcast()
}

// halt ends pulses early and waits for that, at most for a while: a device that does not answer has been sent the end all the same.
func (p *pulses) halt(within time.Duration) {
	p.mu.Lock()
	if !p.stopped {
		close(p.stop)
	}
	p.stopped = true
	p.mu.Unlock()
	late := false
	timer := time.AfterFunc(within, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		late = true
		p.ends.Broadcast()
	})
	defer timer.Stop()
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.count > 0 && !late {
		p.ends.Wait()
	}
}

// pulse writes true, waits, and writes false, whatever happens meanwhile.
func (c *Controller) pulse(ctx context.Context, on writing, w Write, span time.Duration) (Write, error) {
	if !c.pulses.begin() {
		return w.refused("not sent: the service is stopping, so the end of the pulse could not be sent"), nil
	}
	defer c.pulses.end()
	defer c.stations.Hold(w.Station)()
	began, err := c.perform(ctx, on, w)
	if err != nil || began.Outcome == Refused {
		return began, err
	}
	timer := time.NewTimer(span)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-c.pulses.stop:
	}
	raw, _ := on.slot.Conversion().Raw(codec.BoolValue(false)) // a bool has an inverse
	off := on
	off.command.Raw = []codec.Value{raw}
	off.record = func(Write) error { return nil } // both are one write
	say := on.slot.Conversion().Text
	for try := range pulseTries {
		if try > 0 {
			select {
			case <-time.After(pulsePause):
			case <-c.pulses.stop:
			}
		}
		var ended Write
		ended, err = c.perform(context.WithoutCancel(ctx), off, w)
		began.After = ended.After
		if err == nil && ended.Outcome == Done {
			break
		}
		if err == nil {
			err = errors.New(ended.Message)
		}
	}
	switch {
	case err != nil:
		began.Outcome = Unknown
		began.Message = fmt.Sprintf("%s was sent for a pulse of %s, but its end was not confirmed in %d tries: %s. It may still be %s; look at the device", say(w.Sent[0]), span, pulseTries, err, say(w.Sent[0]))
	case began.Outcome == Done:
		began.Message = fmt.Sprintf("%s for %s, then %s again, as read back", say(w.Sent[0]), span, say(began.After[0]))
	default:
		began.Message += fmt.Sprintf(". The pulse is over: it reads back %s", say(began.After[0]))
	}
	return began, nil
}
