package rig

import (
	"context"
	"fmt"
	"io"
	"maps"
	"math"
	"net"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/outstation"
)

// kindOf is the kind of DNP3 points in a space.
func kindOf(s site.Space) dnp3.Kind { return dnp3.KindOf(string(s)) }

// far is a simulated DNP3 outstation. The rig's mutex guards it.
type far struct {
	*outstation.Outstation
	config Station
	faults Faults
	until  time.Time // it restarts and does not answer before
	values []Value   // that follow a signal

	last    []codec.Value // what values were, or will be
	coming  []due
	flagged dnp3.Flags // with which they were set last
}

// newFar makes an outstation as configured.
func newFar(c Station) *far {
	options := outstation.Config{
		Address: uint16(c.Outstation), Master: uint16(c.Master), AnyMaster: c.AnyMaster, Unsolicited: c.Unsolicited, NeedTime: c.NeedTime, Buffer: c.Buffer,
		ConfirmTimeout: time.Duration(c.ConfirmTimeout),
	}
	if c.Name != "" {
		for variation, text := range map[byte]string{250: c.Name, 252: "Simulated", 242: "1.0"} {
			options.Attributes = append(options.Attributes, dnp3.Attribute{Variation: variation, Type: 1, Data: []byte(text)})
		}
		slices.SortFunc(options.Attributes, func(a, b dnp3.Attribute) int { return int(a.Variation) - int(b.Variation) })
	}
	f := &far{config: c, faults: c.Faults, flagged: dnp3.Online}
	var points []outstation.Point
	for _, v := range c.Values {
		p := outstation.Point{Kind: kindOf(v.At.Space), Index: v.At.Offset, Class: v.Class, Static: v.Static, Event: v.Event, Deadband: v.Deadband, Value: v.number(0)}
		if v.Signal == "" {
			p.Value = v.fixed()
		} else {
			f.values = append(f.values, v)
		}
		points = append(points, p)
	}
	f.last = make([]codec.Value, len(f.values))
	f.Outstation = outstation.New(options, points)
	return f
}

// fixed is the value of a point that follows no signal.
func (v Value) fixed() codec.Value {
	if v.At.Space == site.OctetStrings {
		return codec.TextValue(v.Set.Text())
	}
	n, _ := v.Set.Float()
	return v.number(n)
}

// number is the value of a point for a number.
func (v Value) number(n float64) codec.Value {
	switch v.At.Space {
	case site.BinaryInputs, site.BinaryOutputs:
		return codec.BoolValue(math.Abs(n) >= 0.5)
	case site.DoubleBitInputs: // 0 is open, 1 closed, what is between is on its way
		switch {
		case n <= 0:
			return codec.UintValue(1)
		case n >= 1:
			return codec.UintValue(2)
		}
		return codec.UintValue(0)
	case site.Counters, site.FrozenCounters:
		return codec.UintValue(uint64(uint32(int64(n))))
	case site.OctetStrings:
		return codec.TextValue("")
	}
	return codec.FloatValue(n)
}

// due is a change that is to come, since its point lags behind its signal.
type due struct {
	at    time.Time
	value Value
	raw   codec.Value
}

// flagsOf are the flags of points by the fault that they show.
var flagsOf = map[string]dnp3.Flags{
	"": dnp3.Online, "offline": 0, "restart": dnp3.Online | dnp3.Restart, "comm_lost": dnp3.CommLost, "remote_forced": dnp3.Online | dnp3.RemoteForced,
	"local_forced": dnp3.Online | dnp3.LocalForced, "chatter": dnp3.Online | dnp3.Chatter, "over_range": dnp3.Online | dnp3.OverRange, "reference_error": dnp3.Online | dnp3.ReferenceError,
}

// refresh puts the signals into the points.
func (f *far) refresh(now time.Time, signals map[string]float64) {
	if f.faults.Frozen {
		return
	}
	if f.faults.CommLost { // the last values stay, with the flag that says so
		f.flag(now, dnp3.CommLost)
		return
	}
	flags := flagsOf[f.faults.Flag]
	for i, v := range f.values {
		factor := 1.0
		if v.Factor != nil {
			factor = *v.Factor
		}
		raw := v.number(signals[v.Signal]*factor + v.Offset)
		if raw == f.last[i] && f.flagged == flags {
			continue
		}
		at := now
		if !f.last[i].IsZero() {
			at = now.Add(time.Duration(v.Lag))
		}
		f.last[i] = raw
		f.coming = append(f.coming, due{at, v, raw})
	}
	f.flag(now, flags)
	slices.SortStableFunc(f.coming, func(a, b due) int { return a.at.Compare(b.at) })
	for len(f.coming) > 0 && !f.coming[0].at.After(now) {
		c := f.coming[0]
		f.Set(c.at, kindOf(c.value.At.Space), c.value.At.Offset, c.raw, flags)
		f.coming = f.coming[1:]
	}
}

// flag gives all points flags, where they have others.
func (f *far) flag(now time.Time, flags dnp3.Flags) {
	if f.flagged == flags {
		return
	}
	f.flagged = flags
	for _, v := range f.config.Values {
		if kind := kindOf(v.At.Space); kind != dnp3.OctetString {
			was, _ := f.Value(kind, v.At.Offset)
			f.Set(now, kind, v.At.Offset, was, flags)
		}
	}
}

// apply lets faults that are a state of the outstation take hold.
func (f *far) apply(now time.Time, faults Faults) {
	if faults.Restart > 0 {
		f.until = now.Add(time.Duration(faults.Restart))
		f.Outstation.Restart()
	}
	if faults.Overflow {
		f.Outstation.Overflow()
	}
	if faults.Clock != f.faults.Clock {
		f.SetOffset(time.Duration(faults.Clock))
	}
	f.SetStuck(faults.Stuck)
	f.SetLocal(faults.Local)
	f.SetTrouble(faults.Trouble, false)
	faults.Restart, faults.Overflow = 0, false
	f.faults = faults
}

// communication is what the faults mean to the outstation's communication.
func (r *Rig) communication(f *far) outstation.Faults {
	now := time.Now()
	x := f.faults
	silent := x.Drop || now.Before(f.until) || x.Outage != nil && now.Sub(r.began)%time.Duration(x.Outage.Every) >= time.Duration(x.Outage.Every-x.Outage.For)
	return outstation.Faults{
		Delay: time.Duration(x.Delay), Silent: silent, LinkOnly: x.LinkOnly, Checksum: x.Checksum, Noise: x.Noise, Garbage: x.Garbage, Sequence: x.Identifier,
		LostConfirms: x.LostConfirms, Close: x.Close, Cut: x.Truncate, Twice: x.Duplicate, Other: x.WrongUnit, Refuse: x.Exception != 0, Masters: x.TwoMasters, NoEvents: x.NoEvents,
		Deaf: x.Deaf, WantsReset: x.Wants == "reset", WantsConfirm: x.Wants == "confirm",
	}
}

// outstations serve a DNP3 line.
func (r *Rig) outstations(l *line) *served {
	byIt := map[*outstation.Outstation]*far{}
	line := &outstation.Line{Lock: &r.mu, Every: tick, Before: func(now time.Time) {
		r.advance(now)
		for _, f := range l.far {
			f.refresh(now, r.world.now)
		}
	}}
	for _, f := range l.far {
		line.Outstations = append(line.Outstations, f.Outstation)
		byIt[f.Outstation] = f
	}
	line.Faults = func(o *outstation.Outstation) outstation.Faults { return r.communication(byIt[o]) }
	return &served{
		listener: line.Listen,
		port:     func(ctx context.Context, port io.ReadWriteCloser) { line.Serve(ctx, port) },
		packets:  func(ctx context.Context, conn net.PacketConn) { line.Serve(ctx, outstation.Packets(conn)) },
		call:     line.Call,
	}
}

// far finds an outstation.
func (r *Rig) far(line string, address int) *far {
	if l := r.lines[line]; l != nil {
		return l.far[address]
	}
	return nil
}

// Outstation calls f with a simulated outstation, for checks and for tests; it reports whether there is such a one.
func (r *Rig) Outstation(line string, address int, use func(now time.Time, o *outstation.Outstation)) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.far(line, address)
	if f != nil {
		use(time.Now(), f.Outstation)
	}
	return f != nil
}

// validateDNP3 checks a line of outstations.
func (l Line) validateDNP3(path string, of map[string]Signal, fault faulty) {
	signals := slices.Sorted(maps.Keys(of))
	if l.Transport == site.Dialup {
		fault(path+".transport", "dialup lines are for Modbus")
	}
	if l.Call != "" && l.Transport != site.TCP {
		fault(path+".call", "only over tcp an outstation calls in")
	}
	addresses := map[int]bool{}
	for j, st := range l.Stations {
		path := fmt.Sprintf("%s.stations[%d]", path, j)
		if st.Outstation < 0 || st.Outstation > site.MaxLinkAddress || addresses[st.Outstation] {
			fault(path+".outstation", "%d: addresses of a line differ and go from 0 to %d", st.Outstation, site.MaxLinkAddress)
		}
		addresses[st.Outstation] = true
		if err := st.Faults.Check(l); err != nil {
			fault(path+".faults", "%s", err)
		}
		for k, v := range st.Values {
			path := fmt.Sprintf("%s.values[%d]", path, k)
			if kindOf(v.At.Space) == dnp3.NoKind || v.At.Part != site.Whole {
				fault(path+".at", "%q is no DNP3 address", v.At)
			}
			if !slices.Contains(signals, v.Signal) && (v.Signal != "" || v.Set.IsZero()) {
				fault(path+".signal", "there is no signal %q%s", v.Signal, nearest.Hint(v.Signal, signals))
			}
			if v.Class < 0 || v.Class > 3 {
				fault(path+".class", "%d is no class: 0 to 3", v.Class)
			}
			group := kindOf(v.At.Space)
			if v.Static != 0 && !dnp3.Known(group.StaticGroup(), v.Static) || v.Event != 0 && !dnp3.Known(group.EventGroup(), v.Event) {
				fault(path+".static", "a %s has no such variation", v.At.Space.Name())
			}
		}
	}
}
