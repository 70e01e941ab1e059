package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
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

// Write is a write with its outcome. Before, Sent and After are engineering values, one of a point and as many as were
// given for addresses without one; nothing where not known.
type Write struct {
	Tag     string // of the point
	Station string
	Address site.Address // the first
	Outcome WriteOutcome
	Before  []codec.Value
	Sent    []codec.Value
	After   []codec.Value
	Message string
	// NotAllowed is set when the point, and not its value or device, is why the write was refused.
	NotAllowed bool
}

// attempt is a write and whether anything of it was sent.
type attempt struct {
	Write
	reached bool
}

// writing is a write on its way.
type writing struct {
	slot    *Slot // of the point; without one, one made for the addresses alone
	command Command
	record  func(Write) error
}

// A pulse's end is tried so often, with a pause between, before it is given up.
const (
	pulseTries = 5
	pulsePause = time.Second
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

// running reports whether any pulse is.
func (p *pulses) running() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.count > 0
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

// Write sends an engineering value to a point. Everything that can be refused is refused before anything is sent.
// record is called, from another goroutine, just before something is sent, and nothing is sent when it fails.
// When ctx ends before the turn of the write has come, nothing is sent. A write is never repeated, but for the end of a
// pulse, which leaves the point as it should be however often it is sent.
func (e *Engine) Write(ctx context.Context, tag string, given codec.Value, record func(Write) error) (Write, error) {
	slot := e.table.get(tag)
	if slot == nil {
		return Write{Tag: tag}, ErrNoPoint
	}
	p := slot.Point
	w := Write{Tag: tag, Station: p.Station, Address: p.Address, Before: one(slot.live().Reading.Value)}
	if !p.Writable {
		w.NotAllowed = true
		return w.refused("not sent: %s is read-only; set writable: true on the point to allow writing", tag), nil
	}
	raw, err := slot.conversion.Raw(given)
	if err == nil {
		_, err = slot.Layout.Encode(raw)
	}
	if err != nil {
		return w.refused("not sent: %s", err), nil
	}
	sent, _ := slot.conversion.Engineering(raw)
	w.Sent = one(sent)
	job := writing{slot, Command{Slot: slot, Address: p.Address, ReadBack: p.ReadBack, Layout: *slot.Layout, Raw: []codec.Value{raw}}, record}
	if p.Pulse == 0 || !sent.Bool() || p.Address.Space.Protocol() == site.DNP3 { // a DNP3 device ends its pulses itself
		return e.perform(ctx, job, w)
	}
	return e.pulse(ctx, job, w, time.Duration(p.Pulse))
}

// WriteAddresses sends raw values to successive addresses of a station that no point needs to have, laid out as p says.
// What a point of the site forbids is refused.
func (e *Engine) WriteAddresses(ctx context.Context, st site.Station, p site.Point, given []codec.Value, record func(Write) error) (Write, error) {
	slot := newSlot(&p, st, new(slotLock), time.Now(), nil)
	w := Write{Station: st.Name, Address: p.Address}
	job := writing{slot, Command{Address: p.Address, Layout: *slot.Layout}, record}
	for i, v := range given {
		raw, err := slot.conversion.Raw(v)
		if err == nil {
			_, err = slot.Layout.Encode(raw)
		}
		if err != nil {
			return w.refused("not sent: value %d: %s", i+1, err), nil
		}
		job.command.Raw = append(job.command.Raw, raw)
	}
	w.Sent = job.command.Raw
	return e.perform(ctx, job, w)
}

func one(v codec.Value) []codec.Value {
	if v.IsZero() {
		return nil
	}
	return []codec.Value{v}
}

func (w Write) refused(format string, args ...any) Write {
	w.Outcome, w.Message = Refused, fmt.Sprintf(format, args...)
	return w
}

// perform does a write on the link of its station.
func (e *Engine) perform(ctx context.Context, job writing, w Write) (Write, error) {
	err := e.command(ctx, w.Station, func(r *runner, c *connection, s *stationRun) error {
		if tag := s.forbids(job.command); tag != "" {
			w.NotAllowed = true
			w = w.refused("not sent: point %s is there and is read-only; set writable: true on it to allow writing", tag)
			return nil
		}
		if err := job.record(w); err != nil {
			return err
		}
		intended, st := w, s.Station.Station
		if err := r.using(c, s, func(session Session) bool {
			s.writing.Lock()
			defer s.writing.Unlock()
			a := r.write(session, st, job, intended)
			w = a.Write
			return !a.reached // only what was not sent may be tried again
		}); err != nil {
			w = w.refused("not sent: %s", err)
		}
		return nil
	})
	if errors.Is(err, errDisabled) || errors.Is(err, ErrBorrowed) {
		return w.refused("not sent: %s", err), nil
	}
	return w, err
}

// forbids returns the tag of a read-only point that lies where a command without a point would write; "" for none.
func (s *stationRun) forbids(c Command) string {
	if c.Slot != nil {
		return ""
	}
	if c.Address.Space.Protocol() == site.DNP3 {
		for _, slot := range s.Slots {
			if slot.Point.Address == c.Address && !slot.Point.Writable {
				return slot.Point.Tag
			}
		}
		return ""
	}
	first, last := int(c.Address.Offset), int(c.Address.Offset)+len(c.Raw)*c.Layout.Words()
	for _, slot := range s.Slots {
		p := slot.Point
		at := int(p.Address.Offset)
		if p.Address.Space == c.Address.Space && !p.Writable && at < last && first < at+slot.Layout.Words() && p.Address.Part.Meets(c.Address.Part) {
			return p.Tag
		}
	}
	return ""
}

// pulse writes true, waits, and writes false, whatever happens meanwhile.
func (e *Engine) pulse(ctx context.Context, on writing, w Write, span time.Duration) (Write, error) {
	if !e.pulses.begin() {
		return w.refused("not sent: the service is stopping, so the end of the pulse could not be sent"), nil
	}
	defer e.pulses.end()
	began, err := e.perform(ctx, on, w)
	if err != nil || began.Outcome == Refused {
		return began, err
	}
	timer := time.NewTimer(span)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-e.pulses.stop:
	}
	raw, _ := on.slot.conversion.Raw(codec.BoolValue(false)) // a bool has an inverse
	off := on
	off.command.Raw = []codec.Value{raw}
	off.record = func(Write) error { return nil } // both are one write
	say := on.slot.conversion.Text
	for try := range pulseTries {
		if try > 0 {
			select {
			case <-time.After(pulsePause):
			case <-e.pulses.stop:
			}
		}
		var ended Write
		ended, err = e.perform(context.WithoutCancel(ctx), off, w)
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

// write does the exchanges and says what came of them.
func (r *runner) write(session Session, st site.Station, job writing, intended Write) attempt {
	w := attempt{Write: intended}
	written := session.Write(st, job.command)
	values := func(samples []Sample) (list []codec.Value) {
		if !good(samples) {
			return nil
		}
		for _, sample := range samples {
			v, _ := job.slot.conversion.Engineering(sample.Value)
			list = append(list, v)
		}
		return list
	}
	if written.Before != nil {
		w.Before = values(written.Before)
	}
	if written.Sent != nil {
		w.Sent = values(written.Sent) // as the device will hold it, rounded to what its type can carry
	}
	w.After = values(written.After)
	if slot := job.command.Slot; slot != nil && len(written.After) == 1 {
		r.Emit(written.After)
	}
	say := func(list []codec.Value) string {
		texts := make([]string, len(list))
		for i, v := range list {
			texts[i] = job.slot.conversion.Text(v)
		}
		return strings.Join(texts, ", ")
	}
	w.reached = written.Reached
	switch {
	case !written.Reached:
		w.Write = w.refused("not sent: %s", written.Err)
	case written.Broadcast && written.Err == nil:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent to all devices of the line; none answers a broadcast", say(w.Sent))
	case written.Err == nil:
		w.Outcome, w.Message = Done, fmt.Sprintf("wrote %s; reads back %s", say(w.Sent), say(w.After))
	case written.Accepted && written.After != nil:
		w.Outcome, w.Message = Differs, fmt.Sprintf("the device accepted %s but reads back %s", say(w.Sent), say(w.After))
	case written.Accepted:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("the device accepted %s, but it could not be read back: %s", say(w.Sent), written.Err)
	case written.Refused:
		w.Write = w.refused("the device refused: %s", written.Err)
	case w.After != nil:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent once; %s. It reads back %s now", say(w.Sent), written.Err, say(w.After))
		if w.Before != nil {
			w.Message += ", and " + say(w.Before) + " before"
		}
	default:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent once; %s. Read the point before writing again", say(w.Sent), written.Err)
	}
	return w
}
