package dnp3

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// Read is part of link.Session.
func (s *session) Read(station site.Station, what site.Range) ([]table.Sample, error) {
	if what.Start.Space.Protocol() != site.DNP3 {
		return nil, fmt.Errorf("%s is no DNP3 address", what.Start)
	}
	r, out, err := s.ready(station)
	if err != nil {
		return nil, err
	}
	var samples []table.Sample
	err = s.repeated(station, func() (err error) {
		samples, err = r.read(out, what.Start, what.Count)
		return err
	})
	return samples, err
}

// repeated does something that reads, as often as the link says while nothing answers, and counts it.
func (s *session) repeated(station site.Station, f func() error) (err error) {
	for try := 0; ; try++ {
		err = s.counting(station, try > 0, f)
		if !errors.Is(err, master.ErrTimeout) || try >= s.link.Retries || s.Lost() {
			return err
		}
	}
}

// counting does something and tells the engine of it as of one exchange.
func (s *session) counting(station site.Station, repeated bool, f func() error) error {
	began := time.Now()
	err := f()
	out := link.Outcome{}
	if err != nil {
		out = outcome(err)
	}
	s.host.Asked(station.LinkAddress(), out, time.Since(began), repeated)
	return err
}

// Write is part of link.Session. What is before and after is read from the outstation itself.
func (s *session) Write(station site.Station, what link.Command) (w link.Written) {
	r, out, err := s.ready(station)
	if err != nil {
		w.Err = err
		return w
	}
	if len(what.Raw) != 1 {
		w.Err = errors.New("DNP3 outputs are commanded one at a time")
		return w
	}
	c, err := r.command(what)
	if err != nil {
		w.Err = err
		return w
	}
	w.Sent = []table.Sample{{Slot: what.Slot, Value: c.sent, Quality: good}}
	back := what.Address
	if what.ReadBack.Space != "" {
		back = what.ReadBack
	}
	w.Before = r.now(out, what, back)
	s.counting(station, false, func() error {
		w.Reached, w.Err = c.give(out)
		return w.Err
	})
	if w.Reached && c.back > 0 {
		r.lookAt(what.Address, c.back)
	}
	var command *master.CommandError
	var refused *master.RefusedError
	if errors.As(w.Err, &command) || errors.As(w.Err, &refused) {
		w.Reached, w.Refused = true, true
		return w
	}
	if w.Err != nil {
		return w
	}
	w.Accepted = true
	w.After, w.Err = r.confirmed(out, what, back, c)
	return w
}

// Reread is part of link.Rereader.
func (s *session) Reread(station site.Station, what link.Command) ([]table.Sample, bool, error) {
	r, out, err := s.ready(station)
	if err != nil {
		return nil, false, err
	}
	c, err := r.command(what)
	if err != nil {
		return nil, false, err
	}
	c.patient = false
	samples, err := r.confirmed(out, what, cmp.Or(what.ReadBack, what.Address), c)
	if errors.Is(err, errOtherwise) {
		return samples, false, nil
	}
	return samples, err == nil, err
}

// errOtherwise says that a device reads back something else than it was sent.
var errOtherwise = errors.New("it reads back something else")

// command is what is to be given, ready.
type command struct {
	sent    codec.Value   // as the outstation will hold it
	judged  bool          // what is read back must be what was sent
	unread  bool          // the standard has no request that reads it back
	patient bool          // it may take a while until it is
	back    time.Duration // after so long an output has gone back by itself; 0: it stays
	give    func(*master.Outstation) (reached bool, err error)
}

// command makes a command of what is to be written.
func (r *remote) command(what link.Command) (c command, err error) {
	a, raw := what.Address, what.Raw[0]
	p := site.Point{}
	if what.Slot != nil {
		p = *what.Slot.Point
	}
	mode := master.SelectOperate
	if !p.Selects() {
		mode = master.Direct
	}
	c = command{sent: raw, judged: true, patient: what.ReadBack.Space != ""}
	switch {
	case a.Part == site.Deadband:
		f, _ := raw.Float()
		if f < 0 {
			return c, fmt.Errorf("%s is negative; a deadband is not", raw)
		}
		c.sent = codec.FloatValue(float64(float32(f)))
		c.give = func(out *master.Outstation) (bool, error) { return true, out.WriteDeadband(a.Offset, f) }
	case a.Part == site.EventClass:
		class, ok := raw.Int()
		if !ok || class < 0 || class > 3 {
			return c, fmt.Errorf("%s is no class; 1, 2 and 3 are, and 0 for none", raw)
		}
		kind := dnp3.KindOf(string(a.Space))
		c.unread = true
		c.give = func(out *master.Outstation) (bool, error) {
			err := out.AssignClass(int(class), kind.StaticGroup(), a.Offset)
			if err == nil {
				r.assigned(kind, a.Offset, int(class))
			}
			return true, err
		}
	case a.Space == site.BinaryOutputs:
		output, err := outputOf(p, raw.Bool())
		if err != nil {
			return c, err
		}
		if p.Control == site.ControlPulse || p.Control == site.ControlTripClose && !c.patient {
			c.judged = false // the output goes back by itself
		}
		if p.Control == site.ControlPulse || p.Control == site.ControlTripClose {
			c.back = time.Duration(max(1, output.Count))*time.Duration(output.On+output.Off)*time.Millisecond + settleAfter
		}
		c.sent = codec.BoolValue(raw.Bool())
		c.give = func(out *master.Outstation) (bool, error) {
			return out.Command(master.Command{Index: a.Offset, Output: &output}, mode)
		}
	case a.Space == site.AnalogOutputs:
		analog, err := r.analogOf(what, raw)
		if err != nil {
			return c, err
		}
		c.sent = analog.Value
		if analog.Variation == 3 {
			f, _ := raw.Float()
			c.sent = codec.FloatValue(float64(float32(f)))
		}
		c.give = func(out *master.Outstation) (bool, error) {
			return out.Command(master.Command{Index: a.Offset, Analog: &analog}, mode)
		}
	default:
		return c, fmt.Errorf("a %s (%s) can only be read; bo and ao can be commanded, deadbands and classes written", a.Space.Name(), a)
	}
	return c, nil
}

// settleAfter is how long after a pulse an output is read again.
const settleAfter = 250 * time.Millisecond

// outputOf is the control relay output block that brings a binary output to a state (A.8.1).
func outputOf(p site.Point, on bool) (dnp3.Output, error) {
	o := dnp3.Output{Code: dnp3.LatchOff, Count: 1}
	if on {
		o.Code = dnp3.LatchOn
	}
	if p.Control == "" || p.Control == site.ControlLatch {
		return o, nil
	}
	pulse := p.Pulse
	if pulse == 0 {
		pulse = site.Duration(site.DefaultPulseOn)
	}
	o.On, o.Off = uint32(time.Duration(pulse).Milliseconds()), uint32(time.Duration(p.PulseOff).Milliseconds())
	o.Count = max(1, p.PulseCount)
	o.Code = dnp3.PulseOn
	switch {
	case p.Control == site.ControlTripClose && on:
		o.Code |= dnp3.Close
	case p.Control == site.ControlTripClose:
		o.Code |= dnp3.Trip
	case !on:
		return o, errors.New("the point is pulsed: it goes back by itself, so only its on state is written")
	}
	return o, nil
}

// analogOf is the analog output block for a number: in the variation of the point's type, or that in which the device reports the
// output.
func (r *remote) analogOf(what link.Command, raw codec.Value) (dnp3.AnalogCommand, error) {
	variation := map[codec.Type]byte{codec.TypeInt32: 1, codec.TypeInt16: 2, codec.TypeFloat32: 3}[what.Layout.Type]
	f, _ := raw.Float()
	if variation == 0 {
		if variation = r.variation(dnp3.AnalogOutput, what.Address.Offset); variation == 0 {
			if variation = 3; master.NumberFits(1, raw) {
				variation = 1
			}
		}
	}
	if variation <= 2 { // scaling leaves fractions that a whole number cannot have
		raw = codec.FloatValue(float64(int64(f + 0.5)))
		if f < 0 {
			raw = codec.FloatValue(float64(int64(f - 0.5)))
		}
	}
	c := dnp3.AnalogCommand{Variation: variation, Value: raw}
	_, err := dnp3.AppendAnalogCommand(nil, c)
	return c, err
}

// now reads what is at an address; nil when it cannot be read.
func (r *remote) now(out *master.Outstation, what link.Command, at site.Address) []table.Sample {
	samples, err := r.read(out, at, 1)
	if err != nil {
		return nil
	}
	if samples[0].Slot = what.Slot; what.Slot != nil && at != what.Address {
		samples[0].Object = reading.Object{}
	}
	return samples
}

// How long it is looked for the effect of a command at an address of its own, and how often.
const (
	effectWithin = 3 * time.Second
	effectEvery  = 100 * time.Millisecond
)

// confirmed reads back what a command has led to.
func (r *remote) confirmed(out *master.Outstation, what link.Command, at site.Address, c command) ([]table.Sample, error) {
	if c.unread {
		return nil, errors.New("the standard has no request that reads the class of a point; its next event will tell")
	}
	end := time.Now().Add(effectWithin)
	for {
		samples, err := r.read(out, at, 1)
		if err != nil {
			return nil, err
		}
		samples[0].Slot = what.Slot
		same := equal(samples[0].Value, c.sent)
		if at.Space == site.DoubleBitInputs { // 2 is on
			n, _ := samples[0].Value.Int()
			samples[0].Value = codec.BoolValue(n == 2)
			same = samples[0].Value == c.sent && n != 0
		}
		switch {
		case same || !c.judged:
			return samples, nil
		case c.patient && time.Now().Before(end):
			time.Sleep(effectEvery)
			continue
		}
		return samples, errOtherwise
	}
}

func equal(a, b codec.Value) bool {
	x, ok1 := a.Float()
	y, ok2 := b.Float()
	return ok1 && ok2 && (x == y || float32(x) == float32(y))
}

// action is something that a station can be asked to do.
type action struct {
	link.Action
	reads bool // it may be repeated
	do    func(r *remote, out *master.Outstation) (string, error)
}

var actions = []action{
	{link.Action{Name: "integrity", Text: "read all events and all present values"}, true, func(r *remote, out *master.Outstation) (string, error) {
		return "all values were read", r.integrity(out)
	}},
	{link.Action{Name: "set-time", Text: "set its clock by the procedure of its time_sync (default lan)"}, false, func(r *remote, out *master.Outstation) (string, error) {
		if r.station.TimeSync == site.TimeSyncSerial {
			delay, err := out.SetTimeSerial()
			return fmt.Sprintf("its clock was set; a message takes %s", delay.Round(time.Millisecond)), err
		}
		return "its clock was set", out.SetTimeLAN()
	}},
	{link.Action{Name: "clock", Text: "read its clock"}, true, func(r *remote, out *master.Outstation) (string, error) {
		theirs, ours, err := out.Clock()
		off := theirs.Go().Sub(ours).Round(time.Millisecond)
		return fmt.Sprintf("it says %s, which is %s off", theirs.Go().Format("2006-01-02 15:04:05.000Z07:00"), off), err
	}},
	{link.Action{Name: "delay", Text: "measure how long a message takes"}, true, func(r *remote, out *master.Outstation) (string, error) {
		delay, err := out.Delay()
		return fmt.Sprintf("a message takes %.1f ms one way", float64(delay)/float64(time.Millisecond)), err
	}},
	{link.Action{Name: "freeze", Text: "freeze all counters"}, false, simple("all counters are frozen", dnp3.FuncFreeze, frozen)},
	{link.Action{Name: "freeze-clear", Text: "freeze all counters and set them to 0"}, false, simple("all counters are frozen and begin at 0", dnp3.FuncFreezeClear, frozen)},
	{link.Action{Name: "freeze-analogs", Text: "freeze all analog inputs"}, false, simple("all analog inputs are frozen", dnp3.FuncFreeze, dnp3.AppendHeader(nil, dnp3.Header{Group: 30, Qualifier: dnp3.All}))},
	{link.Action{Name: "enable-unsolicited", Text: "let it report events by itself"}, true, func(r *remote, out *master.Outstation) (string, error) {
		_, err := out.Unsolicited(true, master.Events)
		return "it reports events of classes 1, 2 and 3 by itself", err
	}},
	{link.Action{Name: "disable-unsolicited", Text: "let it be silent until it is asked"}, true, func(r *remote, out *master.Outstation) (string, error) {
		_, err := out.Unsolicited(false, master.Events)
		return "it is silent until it is asked", err
	}},
	{link.Action{Name: "cold-restart", Text: "restart it wholly"}, false, simple("it restarts", dnp3.FuncColdRestart, nil)},
	{link.Action{Name: "warm-restart", Text: "restart its communication"}, false, simple("it restarts", dnp3.FuncWarmRestart, nil)},
	{link.Action{Name: "test-link", Text: "reset and test the states of its data link layer"}, true, func(_ *remote, out *master.Outstation) (string, error) {
		return "its data link layer keeps count with ours", out.Test()
	}},
	{link.Action{Name: "attributes", Text: "read what it says of itself"}, true, func(r *remote, out *master.Outstation) (string, error) {
		list, err := out.Attributes()
		text := ""
		for i, a := range list {
			if i > 0 {
				text += "; "
			}
			text += a.Name() + ": " + a.Text()
		}
		return text, err
	}},
}

var frozen = dnp3.AppendHeader(nil, dnp3.Header{Group: 20, Qualifier: dnp3.All})

// simple is an action of one request.
func simple(said string, f dnp3.Function, objects []byte) func(*remote, *master.Outstation) (string, error) {
	return func(_ *remote, out *master.Outstation) (string, error) {
		a, err := out.Ask(f, objects, nil)
		if err == nil && a.IIN&dnp3.IINRefused != 0 {
			err = &master.RefusedError{Function: f, IIN: a.IIN}
		}
		return said, err
	}
}

// Perform is for link.Performer.
func (s *session) Perform(station site.Station, name string) (string, error) {
	r, out, err := s.ready(station)
	if err != nil {
		return "", err
	}
	for _, a := range actions {
		if a.Name == name {
			var said string
			do := func() (err error) {
				said, err = a.do(r, out)
				return err
			}
			if a.reads {
				err = s.repeated(station, do)
			} else {
				err = s.counting(station, false, do)
			}
			if isRefusal(err) {
				return "", fmt.Errorf("%w: %w", link.ErrRefused, err)
			}
			if err != nil {
				return "", err
			}
			return said, nil
		}
	}
	return "", fmt.Errorf("%q is nothing that a DNP3 station can be asked to do", name)
}
