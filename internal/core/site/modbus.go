package site

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"arithmon/internal/core/codec"
)

// ModbusStation are the settings that only a Modbus station has.
type ModbusStation struct {
	Unit          int                 `json:"unit" doc:"Modbus unit identifier: 0 to 255 on a network, 1 to 247 on a serial line"`
	Notation      Notation            `json:"notation" doc:"how its manual counts: offset (10 is offset 10), number (10 is the tenth), ref5 (40010), ref6 (400010), hex (0x0A is offset 10, and shown so)" enum:"offset,number,ref5,ref6,hex"`
	Bits          BitNumbering        `json:"bits,omitempty" doc:"how its manual counts the bits of a register: first bit 0 or 1, least (lsb) or most significant (msb) first (default lsb0)" enum:"lsb0,lsb1,msb0,msb1"`
	Order         codec.Order         `json:"order" doc:"byte order of its points unless they say otherwise" enum:"ABCD,CDAB,BADC,DCBA"`
	Poll          Duration            `json:"poll" doc:"how often its points are read unless they say otherwise, 20ms to 24h"`
	PollGroups    map[string]Duration `json:"poll_groups,omitempty" doc:"periods by name, for points that say poll_group: {fast: 50ms, slow: 1m}"`
	Number        string              `json:"number,omitempty" doc:"telephone number, on a dialup link"`
	MaxRegisters  int                 `json:"max_registers,omitempty" zero:"no" doc:"most registers read at once, 1 to 125 (default 125)"`
	MaxBits       int                 `json:"max_bits,omitempty" zero:"no" doc:"most coils or discrete inputs read at once, 1 to 2000 (default 2000)"`
	Gap           *int                `json:"gap,omitempty" doc:"largest gap of unused registers read to merge two requests, 0 to 124 (default 16)"`
	StringsAlone  bool                `json:"strings_alone,omitempty" doc:"true: a string is read in a request of its own"`
	WriteFunction WriteFunction       `json:"write_function,omitempty" doc:"auto (single for one address, multiple for several), single (5, 6) or multiple (15, 16) (default auto)" enum:"auto,single,multiple"`
	PartialWrite  PartialWrite        `json:"partial_write,omitempty" doc:"how one bit or byte of a register is written: mask (function 22), rewrite (read, change, write back; what the device changes in between is lost) or never (default mask)" enum:"mask,rewrite,never"`
	ReadWrite     bool                `json:"read_write,omitempty" doc:"true: registers may be written and read back in one request (function 23)"`
	Broadcast     bool                `json:"broadcast,omitempty" doc:"true, with unit 0 on a serial line: what is written goes to all devices at once; nothing is read"`
	LivenessAsk   string              `json:"liveness_ask,omitempty" doc:"what it is asked then: an address such as hr:0, diagnostics (function 8), identification (function 43/14) or none (default the request of one of its points, otherwise hr:0)"`
}

// WriteFunction says which functions write to a station.
type WriteFunction string

// The ways to write; the zero is auto.
const (
	WriteAuto     WriteFunction = "auto"
	WriteSingle   WriteFunction = "single"
	WriteMultiple WriteFunction = "multiple"
)

// PartialWrite says how a part of a register is written.
type PartialWrite string

// The ways to write a part; the zero is mask.
const (
	PartialMask    PartialWrite = "mask"
	PartialRewrite PartialWrite = "rewrite"
	PartialNever   PartialWrite = "never"
)

// DefaultGap is how wide a gap a request bridges where a station does not say.
const DefaultGap = 16

// ReadLimits are the most registers and bits of one read, and the widest gap.
func (s ModbusStation) ReadLimits() (registers, bits, gap int) {
	gap = DefaultGap
	if s.Gap != nil {
		gap = *s.Gap
	}
	return cmp.Or(s.MaxRegisters, 125), cmp.Or(s.MaxBits, 2000), gap
}

// The ways to ask for a sign of life, beside an address.
const (
	AskDiagnostics    = "diagnostics"
	AskIdentification = "identification"
	AskNothing        = "none"
)

// Convention is how addresses of the station are written.
func (s ModbusStation) Convention() Convention { return Convention{s.Notation, s.Bits} }

// LivenessRequest says how the station is asked for a sign of life: an address, or one of the words; the zero Address and
// AskNothing when it is not.
func (s ModbusStation) LivenessRequest() (address Address, word string, err error) {
	switch s.LivenessAsk {
	case "":
		return Address{Space: HoldingRegisters}, "", nil
	case AskDiagnostics, AskIdentification, AskNothing:
		return Address{}, s.LivenessAsk, nil
	}
	address, err = s.Convention().Parse(s.LivenessAsk, "")
	if err != nil {
		return Address{}, "", fmt.Errorf("%w; or use %s, %s or %s", err, AskDiagnostics, AskIdentification, AskNothing)
	}
	return address, "", nil
}

// validateModbus checks what is different in a Modbus link.
func (l Link) validateModbus(f *faults) {
	choose(f, "framing", l.Framing, Modbus.Traits().Framings...)
	if l.Listen != "" {
		f.add("listen", l.Listen, "Modbus devices do not call in; it belongs to a DNP3 link")
	}
	if l.InFlight > 1 && l.Framing != MBAP {
		f.add("in_flight", l.InFlight, "%s has no transaction identifiers to tell responses apart by; use 1, or more connections", l.Framing)
	}
}

// validate checks each setting by itself.
func (s ModbusStation) validate(f *faults) {
	f.count("unit", s.Unit, 0, 255)
	choose(f, "notation", s.Notation, Notations[:]...)
	choose(f, "order", s.Order, codec.Orders[:]...)
	f.span("poll", s.Poll, MinPoll, MaxPoll)
	registers, bits, gap := s.ReadLimits()
	f.count("max_registers", registers, 1, 125)
	f.count("max_bits", bits, 1, 2000)
	f.count("gap", gap, 0, 124)
	choose(f, "write_function", cmp.Or(s.WriteFunction, WriteAuto), WriteAuto, WriteSingle, WriteMultiple)
	choose(f, "partial_write", cmp.Or(s.PartialWrite, PartialMask), PartialMask, PartialRewrite, PartialNever)
	choose(f, "bits", cmp.Or(s.Bits, LSB0), BitNumberings[:]...)
	f.text("number", s.Number, MaxName)
	if strings.Trim(s.Number, "0123456789*#+-,.()/ WTPwtp@!") != "" {
		f.add("number", s.Number, "%q is no telephone number; digits, * # + , W and spaces are possible (ITU-T V.250, 6.3.1)", s.Number)
	}
	if _, _, err := s.LivenessRequest(); err != nil {
		f.add("liveness_ask", s.LivenessAsk, "%s", err)
	}
	if len(s.PollGroups) > MaxPollGroups {
		f.add("poll_groups", len(s.PollGroups), "%d groups; at most %d are allowed", len(s.PollGroups), MaxPollGroups)
	}
	for _, name := range slices.Sorted(maps.Keys(s.PollGroups)) {
		f.name("poll_groups", name, MaxName, "")
		f.span("poll_groups."+name, s.PollGroups[name], MinPoll, MaxPoll)
	}
}

// validateModbus checks what only a Modbus station has.
func (s Station) validateModbus(f *faults) {
	if s.Broadcast && s.Unit != 0 {
		f.add("broadcast", true, "unit %d is one device; to all of them goes unit 0", s.Unit)
	}
	for _, field := range given(s.DNP3Station, DNP3Station{}) {
		if field != "outstation" { // with which it would be one
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
