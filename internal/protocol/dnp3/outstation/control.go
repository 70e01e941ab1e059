package outstation

import (
	"bytes"
	"encoding/binary"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
)

// selection is a select that waits for its operate.
type selection struct {
	objects []byte
	seq     byte
	until   time.Time
}

// maxControls is how many outputs one request may command.
const maxControls = 32

// control answers select, operate and direct operate: the objects again, with a status each (4.4.3).
func (o *Outstation) control(now time.Time, f dnp3.Fragment) (items []item, iin dnp3.IIN) {
	whole := dnp3.StatusSuccess // of all, before each has its own
	switch f.Function {
	case dnp3.FuncSelect:
		o.selected = &selection{bytes.Clone(f.Objects), f.Control.Seq(), now.Add(o.config.SelectTimeout)}
	case dnp3.FuncOperate:
		s := o.selected
		o.selected = nil
		switch {
		case s == nil || !bytes.Equal(s.objects, f.Objects) || (s.seq+1)&0x0F != f.Control.Seq():
			whole = dnp3.StatusNoSelect
		case now.After(s.until):
			whole = dnp3.StatusTimeout
		}
	}
	out := bytes.Clone(f.Objects)
	at, count := 0, 0
	objects := dnp3.ReadObjects(f.Objects, f.Function)
	for objects.Next() {
		h := objects.Header
		at += len(f.Objects[at:]) - len(objects.Rest()) - len(objects.Body)
		prefix := h.Qualifier.Prefix()
		if h.Group != 12 && h.Group != 41 || h.Group == 12 && h.Variation != 1 || prefix == 0 || h.Qualifier == dnp3.FreeCount {
			iin |= dnp3.IINUnknownObject
			at += len(objects.Body)
			continue
		}
		size := dnp3.Octets(h.Group, h.Variation)
		for range h.Count {
			body := out[at : at+prefix+size]
			index := uint16(body[0])
			if prefix == 2 {
				index = binary.LittleEndian.Uint16(body)
			}
			status := whole
			if count++; count > maxControls {
				status = dnp3.StatusTooManyOps
			}
			if status == dnp3.StatusSuccess {
				status = o.command(now, f.Function == dnp3.FuncSelect, h, index, body[prefix:])
			}
			body[len(body)-1] = byte(status)
			if status != dnp3.StatusSuccess && f.Function == dnp3.FuncSelect {
				o.selected = nil
			}
			at += prefix + size
		}
	}
	if objects.Err != nil {
		return nil, iin | dnp3.IINParameterError
	}
	if iin&dnp3.IINUnknownObject != 0 {
		out = nil
	}
	return []item{{kind: itemOctets, octets: out}}, iin
}

// command carries one command out, or says whether it would.
func (o *Outstation) command(now time.Time, ask bool, h dnp3.Header, index uint16, b []byte) dnp3.Status {
	c := Command{Kind: dnp3.BinaryOutput, Index: index, Select: ask}
	if h.Group == 12 {
		c.Output = dnp3.ReadOutput(b)
	} else {
		c.Kind, c.Value = dnp3.AnalogOutput, dnp3.ReadAnalogCommand(h.Variation, b).Value
	}
	p := o.point(c.Kind, index)
	switch {
	case p == nil:
		return dnp3.StatusNotSupported
	case o.local:
		return dnp3.StatusLocal
	}
	if c.Kind == dnp3.BinaryOutput {
		if op := c.Output.Code & 0x0F; op > dnp3.LatchOff || c.Output.Code&0xC0 == 0xC0 {
			return dnp3.StatusNotSupported
		}
	} else if c.Value.IsZero() {
		return dnp3.StatusFormatError
	}
	status := dnp3.StatusSuccess
	if o.config.Act != nil {
		status = o.config.Act(c)
	}
	if ask {
		return status
	}
	if o.config.CommandEvents {
		o.buffer(now, commandEvent(p, h, c, status, o.Clock(now)))
	}
	if status == dnp3.StatusSuccess {
		o.follow(now, p, c)
	}
	return status
}

// commandEvent tells of a command (A.13, A.43).
func commandEvent(p *point, h dnp3.Header, c Command, status dnp3.Status, at dnp3.Time) *event {
	e := &event{point: p, class: p.Class, group: 13, variant: 2, status: status, at: at}
	if h.Group == 41 {
		e.group, e.variant, e.value = 43, [...]byte{1: 1, 2: 2, 3: 5, 4: 6}[h.Variation], c.Value
		if p.Event == 3 || p.Event == 4 || p.Event >= 7 { // its other events have a time, so this has
			e.variant += 2
		}
		return e
	}
	on := c.Output.Code&0xC0 == dnp3.Close || c.Output.Code&0xC0 == 0 && (c.Output.Code&0x0F == dnp3.LatchOn || c.Output.Code&0x0F == dnp3.PulseOn)
	e.value = codec.BoolValue(on)
	return e
}

// follow lets an output do as commanded.
func (o *Outstation) follow(now time.Time, p *point, c Command) {
	set := func(v codec.Value) { o.Set(now, p.Kind, p.Index, v, p.Flags) }
	if c.Kind == dnp3.AnalogOutput {
		set(c.Value)
		return
	}
	// A new command ends what was under way: A.8.1.
	o.pulses = slices.DeleteFunc(o.pulses, func(q pulse) bool { return q.point == p })
	on, off := time.Duration(c.Output.On)*time.Millisecond, time.Duration(c.Output.Off)*time.Millisecond
	state := c.Output.Code&0xC0 != dnp3.Trip
	switch c.Output.Code & 0x0F {
	case dnp3.LatchOn:
		set(codec.BoolValue(state))
	case dnp3.LatchOff:
		set(codec.BoolValue(false))
	case dnp3.Nul:
		if c.Output.Code&0xC0 != 0 {
			set(codec.BoolValue(state))
		}
	case dnp3.PulseOn, dnp3.PulseOff:
		if c.Output.Code&0xC0 != 0 { // trip and close of a breaker leave it where they put it
			set(codec.BoolValue(state))
			return
		}
		first := c.Output.Code&0x0F == dnp3.PulseOn
		if c.Output.Count == 0 {
			return
		}
		set(codec.BoolValue(first))
		if !first {
			on, off = off, on
		}
		o.pulses = append(o.pulses, pulse{now.Add(on), p, !first, 2*int(c.Output.Count) - 2, on, off})
	}
}

// happenings lets pulses go on and freezes come about.
func (o *Outstation) happenings(now time.Time) {
	for i := 0; i < len(o.pulses); {
		p := &o.pulses[i]
		if now.Before(p.at) {
			i++
			continue
		}
		o.Set(now, p.point.Kind, p.point.Index, codec.BoolValue(p.value), p.point.Flags)
		if p.left == 0 {
			o.pulses = slices.Delete(o.pulses, i, i+1)
			continue
		}
		span := p.off
		if p.left%2 == 1 {
			span = p.on
		}
		p.at, p.value, p.left = p.at.Add(span), !p.value, p.left-1
	}
	clock := o.Clock(now)
	for i := 0; i < len(o.freezes); {
		f := &o.freezes[i]
		if clock < f.at {
			i++
			continue
		}
		o.freezeNow(now, dnp3.ReadObjects(f.headers, dnp3.FuncFreeze), false)
		if f.every == 0 {
			o.freezes = slices.Delete(o.freezes, i, i+1)
			continue
		}
		// One whose time is long past comes about once, and not as often as it would have.
		every := dnp3.Time(f.every)
		f.at += ((clock-f.at)/every + 1) * every
		i++
	}
}

// mostFreezes is how many freezes may be to come.
const mostFreezes = 16

// freeze copies counters and analog inputs into their frozen twins, at once or at a time (4.4.5).
func (o *Outstation) freeze(now time.Time, f dnp3.Fragment) (iin dnp3.IIN) {
	clear := f.Function == dnp3.FuncFreezeClear || f.Function == dnp3.FuncFreezeClearNR
	if f.Function != dnp3.FuncFreezeAtTime && f.Function != dnp3.FuncFreezeAtTimeNR {
		return o.freezeNow(now, dnp3.ReadObjects(f.Objects, f.Function), clear)
	}
	objects := dnp3.ReadObjects(f.Objects, f.Function)
	var at dnp3.Time
	every := uint32(0)
	for objects.Next() {
		h := objects.Header
		if len(o.freezes) == mostFreezes {
			return iin | dnp3.IINParameterError
		}
		switch {
		case h.Group == 50 && h.Variation == 2 && h.Count == 1:
			at, every = dnp3.ReadTime(objects.Body), binary.LittleEndian.Uint32(objects.Body[6:])
		case h.Group == 20 || h.Group == 30:
			o.freezes = append(o.freezes, freeze{at, every, dnp3.AppendHeader(nil, h)})
		default:
			iin |= dnp3.IINUnknownObject
		}
	}
	return iin
}

func (o *Outstation) freezeNow(now time.Time, objects dnp3.Objects, clear bool) (iin dnp3.IIN) {
	for objects.Next() {
		h := objects.Header
		kind, twin := dnp3.Counter, dnp3.FrozenCounter
		switch h.Group {
		case 20:
		case 30:
			kind, twin = dnp3.AnalogInput, dnp3.FrozenAnalog
		default:
			iin |= dnp3.IINUnknownObject
			continue
		}
		h.Variation = 0
		items, fault := o.staticsOf(h, objects.Body, kind, itemStatic)
		iin |= fault
		for _, it := range items {
			for _, p := range o.points[kind][it.from:it.to] {
				if frozen := o.point(twin, p.Index); frozen != nil {
					frozen.Value, frozen.Flags, frozen.at = p.Value, p.Flags, o.Clock(now)
					o.happen(now, frozen) // every freeze is one
				}
				if clear && kind == dnp3.Counter {
					o.Set(now, kind, p.Index, codec.UintValue(0), p.Flags)
				}
			}
		}
	}
	return iin
}
