package site

import (
	"cmp"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
)

// MaxLinkAddress is the highest address of a DNP3 station (IEEE 1815-2012, 9.2.4.1.4); above are reserved ones.
const MaxLinkAddress = 65519

// TimeSync is how the clock of a DNP3 station is set when it asks for the time.
type TimeSync string

// The ways to set a clock; the zero is none.
const (
	TimeSyncNone   TimeSync = "none"
	TimeSyncLAN    TimeSync = "lan"    // record current time, then write it (IEEE 1815-2012, 10.3.3)
	TimeSyncSerial TimeSync = "serial" // measure the delay, then write the time with it (10.3.2)
)

// Control is how a DNP3 binary output is commanded.
type Control string

// The ways to command; the zero is latch.
const (
	ControlLatch     Control = "latch"      // latch on, latch off
	ControlPulse     Control = "pulse"      // pulse on for a time, so many times
	ControlTripClose Control = "trip-close" // close for 1, trip for 0
)

// Defaults of DNP3 stations and points.
const (
	DefaultMaster        = 1
	DefaultIntegrityPoll = time.Hour
	DefaultEventPoll     = 5 * time.Second
	DefaultPulseOn       = 500 * time.Millisecond
)

// DNP3Station are the settings that only a DNP3 station has. It has the zero of all of them when it speaks another protocol.
type DNP3Station struct {
	Outstation         *int     `json:"outstation,omitempty" doc:"DNP3: link address of the outstation, 0 to 65519"`
	Master             *int     `json:"master,omitempty" doc:"DNP3: link address of this master, 0 to 65519 (default 1)"`
	IntegrityPoll      Duration `json:"integrity_poll,omitempty" zero:"no" doc:"DNP3: how often all present values are read, 1s to 30 days (default 1h)"`
	EventPoll          Duration `json:"event_poll,omitempty" zero:"no" doc:"DNP3: how often events are asked for, 20ms to 24h (default 5s)"`
	Class1Poll         Duration `json:"class1_poll,omitempty" zero:"no" doc:"DNP3: the same for class 1 alone (default as event_poll)"`
	Class2Poll         Duration `json:"class2_poll,omitempty" zero:"no" doc:"DNP3: for class 2"`
	Class3Poll         Duration `json:"class3_poll,omitempty" zero:"no" doc:"DNP3: for class 3"`
	Unsolicited        bool     `json:"unsolicited,omitempty" doc:"DNP3: true: the outstation reports events by itself, as they happen"`
	UnsolicitedClasses []int    `json:"unsolicited_classes,omitempty" doc:"DNP3: classes that it reports so (default 1, 2 and 3)"`
	TimeSync           TimeSync `json:"time_sync,omitempty" doc:"DNP3: how its clock is set when it asks for the time (default none)" enum:"none,lan,serial"`
	LinkReset          bool     `json:"link_reset,omitempty" doc:"DNP3: true: its link states are reset after connecting"`
	LinkConfirm        bool     `json:"link_confirm,omitempty" doc:"DNP3: true: its data link layer acknowledges every frame of a request"`
}

// Speaks says which protocol a station is set up for: DNP3 when it has the address of an outstation.
func (s Station) Speaks() Protocol {
	if s.Outstation != nil {
		return DNP3
	}
	return Modbus
}

// LinkAddress is what tells the station from others of its link: its unit, or the link address of its outstation.
func (s Station) LinkAddress() int {
	if s.Outstation != nil {
		return *s.Outstation
	}
	return s.Unit
}

// MasterAddress is the link address that a DNP3 station is asked from.
func (s DNP3Station) MasterAddress() int {
	if s.Master != nil {
		return *s.Master
	}
	return DefaultMaster
}

// Called says what the link address of a station is called, with the address: unit 3, outstation 10.
func (s Station) Called() string {
	return fmt.Sprintf("%s %d", s.Speaks().Traits().Address, s.LinkAddress())
}

// EventPolls are the periods of the event polls by class, 1 to 3, at their index.
func (s DNP3Station) EventPolls() (periods [4]time.Duration) {
	all := cmp.Or(s.EventPoll, Duration(DefaultEventPoll))
	for class, own := range [...]Duration{1: s.Class1Poll, 2: s.Class2Poll, 3: s.Class3Poll} {
		if class > 0 {
			periods[class] = time.Duration(cmp.Or(own, all))
		}
	}
	return periods
}

// IntegrityPeriod is the period of the integrity poll.
func (s DNP3Station) IntegrityPeriod() time.Duration {
	return time.Duration(cmp.Or(s.IntegrityPoll, Duration(DefaultIntegrityPoll)))
}

// ReportedClasses are the classes that the station is asked to report by itself, 1 to 3.
func (s DNP3Station) ReportedClasses() []int {
	switch {
	case !s.Unsolicited:
		return nil
	case s.UnsolicitedClasses == nil:
		return []int{1, 2, 3}
	}
	return s.UnsolicitedClasses
}

// validateDNP3 checks what is different in a DNP3 link.
func (l Link) validateDNP3(f *faults) {
	if l.Framing != "" {
		f.add("framing", l.Framing, "belongs to Modbus; DNP3 has one framing")
	}
	if l.Transport == Dialup {
		f.add("transport", l.Transport, "DNP3 over a dial-up line is not there yet; use tcp, tls, udp or serial")
	}
	if l.InFlight > 1 || l.Connections > 1 {
		f.add("connections", max(l.Connections, l.InFlight), "a DNP3 link has one connection, and a station answers one request at a time; use 1")
	}
	if l.Transport.UsesSerialPort() && l.Serial != nil && l.Serial.DataBits == 7 {
		f.add("serial.data_bits", 7, "DNP3 needs 8 data bits (IEEE 1815-2012, 9.2.1)")
	}
	if l.Listen == "" {
		return
	}
	if _, port, err := net.SplitHostPort(l.Listen); err != nil || port == "" {
		f.add("listen", l.Listen, "%q is no host:port, such as 0.0.0.0:20000", l.Listen)
	}
	if l.Transport != TCP {
		f.add("listen", l.Listen, "only a tcp link waits for stations that call in; this one is %s", l.Transport)
	}
	if l.Host != "" || l.Port != 0 || l.Bind != "" {
		f.add("host", l.Host, "host, port and bind are for calling; a link that listens has none")
	}
}

// fitsDNP3 says what of a station does not go with its DNP3 link, and why.
func (s Station) fitsDNP3(Link) (field, why string) {
	if s.Outstation == nil {
		return "outstation", "is missing; a station on a DNP3 link has the link address of its outstation"
	}
	return "", ""
}

// idleOnDNP3 names the first setting of a Modbus station that was given to a DNP3 station, where it does nothing.
func (s Station) idleOnDNP3(Link) (field, why string) {
	if given := given(s.ModbusStation, NewStation().ModbusStation); len(given) > 0 {
		return given[0], "does nothing on a DNP3 station; it belongs to Modbus"
	}
	return "", ""
}

// validateDNP3 checks what only a DNP3 station has.
func (s Station) validateDNP3(f *faults) {
	if s.Broadcast {
		f.add("broadcast", true, "belongs to a Modbus station on a serial line")
	}
	f.count("outstation", *s.Outstation, 0, MaxLinkAddress)
	f.count("master", s.MasterAddress(), 0, MaxLinkAddress)
	if *s.Outstation == s.MasterAddress() {
		f.add("master", s.MasterAddress(), "%d is the outstation's own address; the two ends need different ones", s.MasterAddress())
	}
	f.span("integrity_poll", Duration(s.IntegrityPeriod()), time.Second, 30*24*time.Hour)
	for class, period := range s.EventPolls() {
		if class > 0 && (period < MinPoll || period > MaxPoll) {
			f.span("event_poll", Duration(period), MinPoll, MaxPoll)
			break
		}
	}
	for _, class := range s.UnsolicitedClasses {
		if class < 1 || class > 3 {
			f.add("unsolicited_classes", class, "%d is no event class: 1, 2 and 3 are", class)
		}
	}
	choose(f, "time_sync", cmp.Or(s.TimeSync, TimeSyncNone), TimeSyncNone, TimeSyncLAN, TimeSyncSerial)
	if s.LivenessAsk != "" {
		f.add("liveness_ask", s.LivenessAsk, "belongs to Modbus; a DNP3 station is asked for its link status")
	}
}

// doubleBitStates are the names of a double-bit input's values unless a point has its own (IEEE 1815-2012, 11.3.2).
var doubleBitStates = States{0: "intermediate", 1: "off", 2: "on", 3: "indeterminate"}

// pointTypes are the data types of DNP3 points by their kind, the usual one first.
var pointTypes = map[Space][]codec.Type{
	BinaryInputs: {codec.TypeBool}, BinaryOutputs: {codec.TypeBool}, DoubleBitInputs: {codec.TypeUint8},
	Counters: {codec.TypeUint32}, FrozenCounters: {codec.TypeUint32}, OctetStrings: {codec.TypeString},
	AnalogInputs:  {codec.TypeFloat64, codec.TypeInt32, codec.TypeInt16, codec.TypeFloat32},
	AnalogOutputs: {codec.TypeFloat64, codec.TypeInt32, codec.TypeInt16, codec.TypeFloat32},
}

// dnp3Types are the types that a DNP3 point may have.
func dnp3Types() (list []codec.Type) {
	for _, t := range codec.Types {
		for _, of := range pointTypes {
			if slices.Contains(of, t) {
				list = append(list, t)
				break
			}
		}
	}
	return list
}

// dnp3Type is the type that a DNP3 address implies.
func dnp3Type(a Address) codec.Type {
	switch a.Part {
	case Deadband:
		return codec.TypeFloat64
	case EventClass:
		return codec.TypeUint8
	}
	return pointTypes[a.Space][0]
}

// validateDNP3 checks address and type of a DNP3 point, and how it is commanded.
func (p Point) validateDNP3(f *faults) {
	types := pointTypes[p.Address.Space]
	if p.Address.Part != Whole {
		types = []codec.Type{dnp3Type(p.Address)}
	}
	if !slices.Contains(types, p.Type) {
		names := make([]string, len(types))
		for i, t := range types {
			names[i] = string(t)
		}
		f.add("type", p.Type, "%s does not fit %s; it is %s", p.Type, p.Address, strings.Join(names, " or "))
	}
	if !p.Address.Writable() && p.Writable {
		f.add("writable", true, "a %s (%s) can only be read; writable points are in bo and ao, and the deadband and class of a point", p.Address.Space.Name(), p.Address)
	}
	if p.Order != "" {
		f.add("order", p.Order, "DNP3 has one byte order")
	}
	if p.Poll != 0 || p.PollGroup != "" {
		f.add("poll", p.Poll, "a DNP3 point is not polled by itself; its station has an integrity poll and event polls")
	}
	output := p.Address.Space == BinaryOutputs && p.Address.Part == Whole
	choose(f, "control", cmp.Or(p.Control, ControlLatch), ControlLatch, ControlPulse, ControlTripClose)
	if p.Control != "" && !output {
		f.add("control", p.Control, "belongs to a binary output (bo)")
	}
	pulsed := output && p.Writable && (p.Control == ControlPulse || p.Control == ControlTripClose)
	if (p.Pulse != 0 || p.PulseOff != 0 || p.PulseCount != 0) && !pulsed {
		f.add("pulse", p.Pulse, "pulse, pulse_off and pulse_count belong to a writable binary output whose control is pulse or trip-close")
	}
	f.span("pulse", cmp.Or(p.Pulse, Duration(DefaultPulseOn)), time.Millisecond, 24*time.Hour)
	f.span("pulse_off", p.PulseOff, 0, 24*time.Hour)
	if p.Select != nil && !(p.Writable && p.Address.Space.Output() && p.Address.Part == Whole) {
		f.add("select", *p.Select, "belongs to a writable bo or ao")
	}
	if back := p.ReadBack; back.Space != "" {
		switch {
		case !p.Writable:
			f.add("read_back", back, "only a writable point is read back")
		case back.Space.Protocol() != DNP3:
			f.add("read_back", back, "%s is an address of another protocol", back)
		}
	}
}

// DNP3Point is how a DNP3 output is commanded.
type DNP3Point struct {
	Control    Control  `json:"control,omitempty" doc:"DNP3 bo: how it is commanded (default latch)" enum:"latch,pulse,trip-close"`
	Select     *bool    `json:"select,omitempty" doc:"DNP3 bo, ao: false: operated directly (default selected first, then operated)"`
	PulseOff   Duration `json:"pulse_off,omitempty" doc:"DNP3 bo: time between pulses"`
	PulseCount uint8    `json:"pulse_count,omitempty" zero:"no" doc:"DNP3 bo: number of pulses, 1 to 255 (default 1)"`
}

// Selects reports whether a command of the point is preceded by a select.
func (p DNP3Point) Selects() bool { return p.Select == nil || *p.Select }
