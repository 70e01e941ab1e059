package control

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// Outcome is how a write ended.
type Outcome string

// The outcomes.
const (
	Done    Outcome = "done"    // written, and read back as sent
	Refused Outcome = "refused" // by us or by the device; nothing changed
	Differs Outcome = "differs" // accepted, but reads back otherwise
	Unknown Outcome = "unknown" // sent, and not known what became of it
)

// Write is a write with its outcome. Before, Sent and After are engineering values, one of a point and as many as were
// given for addresses without one; nothing where not known.
type Write struct {
	Tag     string // of the point
	Station string
	Address site.Address // the first
	Outcome Outcome
	Tried   string // what was to be written, as a person reads it
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
	slot    *table.Slot // of the point; without one, one made for the addresses alone
	command link.Command
	record  func(Write) error
}

// point writes to a point.
func (c *Controller) point(ctx context.Context, tag string, given codec.Value, record func(Write) error) (Write, error) {
	slot := c.stations.Slot(tag)
	if slot == nil {
		return Write{Tag: tag}, ErrNoPoint
	}
	p := slot.Point
	w := Write{Tag: tag, Station: p.Station, Address: p.Address, Tried: tried(slot, given), Before: one(slot.Live().Reading.Value)}
	if !p.Writable {
		w.NotAllowed = true
		return w.refused("not sent: %s is read-only; set writable: true on the point to allow writing", tag), nil
	}
	raw, err := slot.Conversion().Raw(given)
	if err == nil {
		_, err = slot.Layout.Encode(raw)
	}
	if err != nil {
		return w.refused("not sent: %s", err), nil
	}
	sent, _ := slot.Conversion().Engineering(raw)
	w.Sent = one(sent)
	job := writing{slot, link.Command{Slot: slot, Address: p.Address, ReadBack: p.ReadBack, Layout: *slot.Layout, Raw: []codec.Value{raw}}, record}
	if p.Pulse == 0 || !sent.Bool() || p.Address.Space.Protocol().Traits().Typed { // such a device ends its pulses itself
		return c.settle(ctx, job, w)
	}
	return c.pulse(ctx, job, w, time.Duration(p.Pulse))
}

// addresses writes to addresses that no point needs to have.
func (c *Controller) addresses(ctx context.Context, st site.Station, p site.Point, given []codec.Value, record func(Write) error) (Write, error) {
	slot := table.NewSlot(p, st)
	w := Write{Station: st.Name, Address: p.Address, Tried: Together(given).String()}
	job := writing{slot, link.Command{Address: p.Address, Layout: *slot.Layout}, record}
	for i, v := range given {
		raw, err := slot.Conversion().Raw(v)
		if err == nil {
			_, err = slot.Layout.Encode(raw)
		}
		if err != nil {
			return w.refused("not sent: value %d: %s", i+1, err), nil
		}
		job.command.Raw = append(job.command.Raw, raw)
	}
	w.Sent = job.command.Raw
	return c.settle(ctx, job, w)
}

// tried says a value that was given for a point as its readings are said, with its unit; as it was given when it is none.
func tried(slot *table.Slot, given codec.Value) string {
	raw, err := slot.Conversion().Raw(given)
	if err != nil {
		return given.String()
	}
	value, _ := slot.Conversion().Engineering(raw)
	return strings.TrimSpace(slot.Conversion().Text(value) + " " + slot.Point.Unit)
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
func (c *Controller) perform(ctx context.Context, job writing, w Write) (Write, error) {
	err := c.stations.Command(ctx, w.Station, func(t *link.Turn) error {
		st := t.Station()
		if tag := forbids(st.Slots, job.command); tag != "" {
			w.NotAllowed = true
			w = w.refused("not sent: point %s is there and is read-only; set writable: true on it to allow writing", tag)
			return nil
		}
		if err := job.record(w); err != nil {
			return err
		}
		intended := w
		if err := t.Use(func(session link.Session) (again bool) {
			t.Alone(func() {
				a := execute(t, session, st.Station, job, intended)
				w, again = a.Write, !a.reached // only what was not sent may be tried again
			})
			return again
		}); err != nil {
			w = w.refused("not sent: %s", err)
		}
		return nil
	})
	if errors.Is(err, link.ErrDisabled) || errors.Is(err, link.ErrBorrowed) {
		return w.refused("not sent: %s", err), nil
	}
	return w, err
}

// forbids returns the tag of a read-only point that lies where a command without a point would write; "" for none.
func forbids(slots []*table.Slot, c link.Command) string {
	if c.Slot != nil {
		return ""
	}
	if c.Address.Space.Protocol().Traits().Typed { // one address is one value
		for _, slot := range slots {
			if slot.Point.Address == c.Address && !slot.Point.Writable {
				return slot.Point.Tag
			}
		}
		return ""
	}
	first, last := int(c.Address.Offset), int(c.Address.Offset)+len(c.Raw)*c.Layout.Words()
	for _, slot := range slots {
		p := slot.Point
		at := int(p.Address.Offset)
		if p.Address.Space == c.Address.Space && !p.Writable && at < last && first < at+slot.Layout.Words() && p.Address.Part.Meets(c.Address.Part) {
			return p.Tag
		}
	}
	return ""
}

// values are what samples hold, in the units of the point; nil where one of them is not good.
func (job writing) values(samples []table.Sample) (list []codec.Value) {
	if !link.Good(samples) {
		return nil
	}
	for _, sample := range samples {
		v, _ := job.slot.Conversion().Engineering(sample.Value)
		list = append(list, v)
	}
	return list
}

// say is values as readings of the point are said.
func (job writing) say(list []codec.Value) string {
	texts := make([]string, len(list))
	for i, v := range list {
		texts[i] = job.slot.Conversion().Text(v)
	}
	return strings.Join(texts, ", ")
}

// execute does the exchanges and says what came of them.
func execute(t *link.Turn, session link.Session, st site.Station, job writing, intended Write) attempt {
	w := attempt{Write: intended}
	written := session.Write(st, job.command)
	if written.Before != nil {
		w.Before = job.values(written.Before)
	}
	if written.Sent != nil {
		w.Sent = job.values(written.Sent) // as the device will hold it, rounded to what its type can carry
	}
	w.After = job.values(written.After)
	if slot := job.command.Slot; slot != nil && len(written.After) == 1 {
		t.Emit(written.After)
	}
	w.reached = written.Reached
	switch {
	case !written.Reached:
		w.Write = w.refused("not sent: %s", written.Err)
	case written.Broadcast && written.Err == nil:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent to all devices of the line; none answers a broadcast", job.say(w.Sent))
	case written.Err == nil && written.After != nil && job.say(w.After) != job.say(w.Sent): // of a pulse, or a trip
		w.Outcome, w.Message = Done, fmt.Sprintf("the device accepted %s; that is momentary, and it reads back %s", job.say(w.Sent), job.say(w.After))
	case written.Err == nil:
		w.Outcome, w.Message = Done, fmt.Sprintf("wrote %s; reads back %s", job.say(w.Sent), job.say(w.After))
	case written.Accepted && written.After != nil:
		w.Outcome, w.Message = Differs, fmt.Sprintf("the device accepted %s but reads back %s", job.say(w.Sent), job.say(w.After))
	case written.Accepted:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("the device accepted %s, but it could not be read back: %s", job.say(w.Sent), written.Err)
	case written.Refused:
		w.Write = w.refused("the device refused: %s", written.Err)
	case w.After != nil:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent once; %s. It reads back %s now", job.say(w.Sent), written.Err, job.say(w.After))
		if w.Before != nil {
			w.Message += ", and " + job.say(w.Before) + " before"
		}
	default:
		w.Outcome, w.Message = Unknown, fmt.Sprintf("%s was sent once; %s. Read the point before writing again", job.say(w.Sent), written.Err)
	}
	return w
}
