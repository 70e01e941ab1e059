package site

import (
	"fmt"

	"arithmon/internal/core/codec"
)

// validateModbus checks what is different in a Modbus link.
func (l Link) validateModbus(f *faults) {
	choose(f, "framing", l.Framing, Modbus.Traits().Framings...)
	if l.Listen != "" {
		f.add("listen", l.Listen, "Modbus devices do not call in; it belongs to a DNP3 link")
	}
	if l.InFlight > 1 && l.Framing != MBAP {
		f.add("in_flight", l.InFlight, "%s has no transaction identifiers to tell answers apart by; use 1, or more connections", l.Framing)
	}
}

// validateModbus checks what only a Modbus station has.
func (s Station) validateModbus(f *faults) {
	if s.Broadcast && s.Unit != 0 {
		f.add("broadcast", true, "unit %d is one device; to all of them goes unit 0", s.Unit)
	}
	for field, set := range map[string]bool{"master": s.Master != nil, "integrity_poll": s.IntegrityPoll != 0, "event_poll": s.EventPoll != 0,
		"class1_poll": s.Class1Poll != 0, "class2_poll": s.Class2Poll != 0, "class3_poll": s.Class3Poll != 0, "unsolicited": s.Unsolicited,
		"time_sync": s.TimeSync != "", "link_reset": s.LinkReset, "link_confirm": s.LinkConfirm} {
		if set {
			f.add(field, "", "belongs to a DNP3 station, which has an outstation address")
		}
	}
}

// broadcast is why unit 0 is no device of a serial line.
const broadcast = "0 addresses all devices of a serial line, and none of them answers (MODBUS over Serial Line V1.02, 2.2); use 1 to 247, or broadcast: true to write to all at once"

// fitsModbus says what of a station does not go with its Modbus link, and why.
func (s Station) fitsModbus(l Link) (field, why string) {
	switch {
	case s.Outstation != nil:
		return "outstation", "belongs to a station on a DNP3 link; on a Modbus link it has a unit"
	case l.Transport.UsesSerialPort() && s.Unit == 0 && !s.Broadcast:
		return "unit", broadcast
	case s.Broadcast && !l.Transport.UsesSerialPort():
		return "broadcast", "only a serial line has a broadcast"
	case l.Transport == Dialup && s.Number == "":
		return "number", "is missing; give the telephone number of the station"
	case l.Transport != Dialup && s.Number != "":
		return "number", "belongs to a station on a dialup link"
	}
	return "", ""
}

// reservedUnit says that a unit on a serial line is one that the standard reserves.
func (s Station) reservedUnit(l Link) (field, why string) {
	if !l.Transport.UsesSerialPort() || s.Unit <= 247 {
		return "", ""
	}
	return "unit", fmt.Sprintf("unit %d is reserved on a serial line (MODBUS over Serial Line V1.02, 2.2); some devices use it all the same", s.Unit)
}

// modbusType is the type that a Modbus address implies.
func modbusType(a Address) codec.Type {
	_, isBit := a.Part.Bit()
	switch {
	case !a.Space.Registers() || isBit:
		return codec.TypeBool
	case a.Part != Whole:
		return codec.TypeUint8
	}
	return codec.TypeUint16
}

// validateModbus checks that the type fits its table, that the value ends within it, and how it is written.
func (p Point) validateModbus(f *faults) {
	if p.Control != "" || p.Select != nil || p.PulseOff != 0 || p.PulseCount != 0 {
		f.add("control", p.Control, "control, select, pulse_off and pulse_count belong to DNP3 outputs")
	}
	space := p.Address.Space
	_, isBit := p.Address.Part.Bit()
	switch {
	case !space.Registers() && p.Type != codec.TypeBool:
		f.add("type", p.Type, "%s does not fit %s: a %s holds one bit; use bool, or an address in hr or ir", p.Type, p.Address, space.Name())
	case isBit && p.Type != codec.TypeBool:
		f.add("type", p.Type, "%s does not fit %s: one bit is a bool; leave out %s for the whole register", p.Type, p.Address, p.Address.Part)
	case p.Address.Part >= LowByte && p.Type != codec.TypeInt8 && p.Type != codec.TypeUint8:
		f.add("type", p.Type, "%s does not fit %s: one byte is an int8 or uint8", p.Type, p.Address)
	}
	if !space.Output() && p.Writable {
		f.add("writable", true, "a %s (%s) can only be read; writable points are in co or hr", space.Name(), p.Address)
	}
	p.validateWriting(f)
}

// validateWriting checks what only a point that is written has.
func (p Point) validateWriting(f *faults) {
	if back := p.ReadBack; back.Space != "" {
		switch {
		case !p.Writable:
			f.add("read_back", back, "only a writable point is read back")
		case back.Space.Protocol() != p.Address.Space.Protocol():
			f.add("read_back", back, "%s is an address of another protocol", back)
		case p.Type != codec.TypeBool && !back.Space.Registers():
			f.add("read_back", back, "a %s is read back from registers (hr or ir)", p.Type)
		case p.Type == codec.TypeBool && back.Space.Registers() && back.Part == Whole:
			f.add("read_back", back, "a bool is read back from a bit, such as %s.0", back)
		}
	}
	if p.Pulse == 0 {
		return
	}
	f.span("pulse", p.Pulse, MinPulse, MaxPulse)
	if p.Type != codec.TypeBool || !p.Writable {
		f.add("pulse", p.Pulse, "only a writable bool is pulsed")
	}
}
