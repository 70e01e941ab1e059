// Package rig simulates stations: devices with registers that move as those of a plant do, and the faults of real
// ones. It is a server; it knows nothing of sites, points or who reads it.
package rig

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"reflect"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
)

// Version is the number a rig file carries in its field rig.
const Version = 1

// Config is a rig file.
type Config struct {
	Rig     int               `json:"rig"`
	Seed    int64             `json:"seed"`    // of the random walks; the same seed gives the same walks
	Signals map[string]Signal `json:"signals"` // by name
	Lines   []Line            `json:"lines"`
}

// Line is one listening address, or one serial line, with the stations on it.
type Line struct {
	Name      string            `json:"name"`
	Protocol  site.Protocol     `json:"protocol"`            // default modbus
	Transport site.Transport    `json:"transport"`           // default tcp
	Framing   site.Framing      `json:"framing"`             // default mbap, on serial rtu
	Listen    string            `json:"listen"`              // host:port; on serial a path where a link to the port is made, or nothing
	Serial    site.LineSettings `json:"serial"`              // pace of a serial line: baud and the length of a character
	Call      string            `json:"call" example:"busy"` // dnp3 over tcp: the outstations call a master that listens at host:port, instead of listening
	Strict    bool              `json:"strict"`              // a serial line answers under its own settings only; under others bytes are garbled
	Connect   site.Duration     `json:"connect"`             // how long the modem of a dialup line takes to connect (default 2s)
	Places    int               `json:"places"`              // on a network: how many connections it takes at a time (default any); others are closed at once
	Stations  []Station         `json:"stations"`
}

// withDefaults fills in what the transport implies.
func (l Line) withDefaults() Line {
	if l.Protocol == "" {
		l.Protocol = site.Modbus
	}
	link := site.Link{Protocol: l.Protocol, Transport: l.Transport, Framing: l.Framing, Serial: &l.Serial}
	if link.Transport == "" {
		link.Transport = site.TCP
	}
	link = link.WithDefaults()
	l.Transport, l.Framing, l.Serial = link.Transport, link.Framing, *link.Serial
	for i := range l.Stations {
		l.Stations[i].Master = cmp.Or(l.Stations[i].Master, site.DefaultMaster)
	}
	l.Connect = cmp.Or(l.Connect, site.Duration(2*time.Second))
	return l
}

// Station is one simulated Modbus server, or on a line that speaks it a DNP3 outstation.
type Station struct {
	Unit   int            `json:"unit"`
	Number string         `json:"number"` // telephone number, on a dialup line
	Name   string         `json:"name"`   // what it says it is, to functions 17 and 43
	Order  codec.Order    `json:"order"`
	Tables map[string]int `json:"tables"` // how many addresses each table has: {hr: 100, co: 16} (default what its values need)
	Values []Value        `json:"values"`
	Faults Faults         `json:"faults"`
	UnitAt site.Address   `json:"unit_at"` // holding register with its unit; a client that writes another gives it that

	Outstation     int           `json:"outstation"` // DNP3: its link address
	Master         int           `json:"master"`     // the master that it reports to and answers (default 1)
	AnyMaster      bool          `json:"any_master"` // it answers others, too
	Unsolicited    bool          `json:"unsolicited"`
	NeedTime       bool          `json:"need_time"`       // it asks for the time when it starts
	Buffer         int           `json:"buffer"`          // events of a class that it keeps (default 1000)
	ConfirmTimeout site.Duration `json:"confirm_timeout"` // default 5s
}

// Value puts a signal, or a fixed value, into registers.
type Value struct {
	At       site.Address  `json:"at"`
	Type     codec.Type    `json:"type"`   // default uint16 in registers
	Length   int           `json:"length"` // of a string
	Order    codec.Order   `json:"order"`  // default the station's
	Signal   string        `json:"signal"`
	Factor   *float64      `json:"factor"` // raw = signal × factor + offset
	Offset   float64       `json:"offset"`
	Limit    *[2]float64   `json:"limit"`    // what a client writes is brought into these bounds, as some devices do
	Class    int           `json:"class"`    // DNP3: of its events, 0 for none
	Deadband float64       `json:"deadband"` // DNP3: change that is no event
	Static   byte          `json:"static"`   // DNP3: variation of its present value (default the usual one)
	Event    byte          `json:"event"`    // DNP3: and of its events
	Lag      site.Duration `json:"lag"`      // DNP3: it follows its signal so much later, so that the events of one cause come one after the other
	Set      codec.Value   `json:"set"`      // a fixed value, which a client may overwrite, instead of a signal
}

// Faults spoil what a station answers. The zero Faults spoil nothing. What is tagged with on has an effect on those lines alone.
type Faults struct {
	Delay        site.Duration `json:"delay,omitempty" example:"700ms" doc:"time before each response"`
	Drop         bool          `json:"drop,omitempty" doc:"no responses"`
	Close        bool          `json:"close,omitempty" doc:"the connection is closed in the middle of a response"`
	Garbage      bool          `json:"garbage,omitempty" doc:"responses of bytes without meaning"`
	WrongUnit    bool          `json:"wrong_unit,omitempty" doc:"answers in the name of the next unit or outstation"`
	Identifier   bool          `json:"wrong_identifier,omitempty" on:"numbered" doc:"answers with the identifier or sequence number of another request"`
	Checksum     bool          `json:"checksum,omitempty" on:"checked" doc:"responses whose CRC or LRC is wrong"`
	Some         int           `json:"some,omitempty" example:"5" on:"modbus" doc:"only one response in so many is spoilt (default all)"`
	Noise        bool          `json:"noise,omitempty" doc:"stray bytes before each response"`
	Trailing     bool          `json:"trailing,omitempty" on:"modbus" doc:"stray bytes behind each response"`
	Miscount     bool          `json:"miscount,omitempty" on:"modbus" doc:"answers to reads whose byte count does not fit"`
	Echo         bool          `json:"echo,omitempty" on:"modbus" doc:"the request comes back before the response"`
	Short        bool          `json:"short,omitempty" on:"modbus" doc:"answers with a register too few"`
	Longest      int           `json:"longest,omitempty" example:"20" on:"modbus" doc:"requests for more addresses than that stay without a response"`
	LongestEnds  string        `json:"longest_ends,omitempty" example:"close" on:"modbus" doc:"what becomes of these instead: the connection is closed, or a part of what was asked comes" enum:"close,part"`
	Rests        site.Duration `json:"rests,omitempty" example:"300ms" on:"modbus" doc:"requests that come sooner than this after a response are not heard"`
	Truncate     bool          `json:"truncate,omitempty" doc:"responses that end early"`
	Exception    int           `json:"exception,omitempty" example:"2" doc:"every request is refused with this code; of DNP3: all functions but read and write"`
	Duplicate    bool          `json:"duplicate,omitempty" doc:"a second device answers to the same unit; of DNP3: every frame comes twice"`
	Function     int           `json:"function,omitempty" on:"modbus" example:"22" doc:"requests with this function code are refused with exception 1"`
	Frozen       bool          `json:"frozen,omitempty" doc:"the values no longer move"`
	WordSwap     bool          `json:"word_swap,omitempty" on:"modbus" doc:"every other response has its registers in reverse order, two by two"`
	MuteWrites   bool          `json:"mute_writes,omitempty" on:"modbus" doc:"what is written is carried out and not answered"`
	LateWrites   site.Duration `json:"late_writes,omitempty" example:"1s" on:"modbus" doc:"what is written is acknowledged, and taken over so much later"`
	Restart      site.Duration `json:"restart,omitempty" example:"5s" doc:"the device restarts, once: no responses for so long, and what was written is forgotten"`
	LinkOnly     bool          `json:"link_only,omitempty" on:"dnp3" doc:"DNP3: its data link layer answers, its application does not"`
	LostConfirms bool          `json:"lost_confirms,omitempty" on:"dnp3" doc:"DNP3: confirmations do not reach it"`
	TwoMasters   bool          `json:"two_masters,omitempty" on:"checked" doc:"another master asks it, too; of DNP3: one at address 99"`
	NoEvents     bool          `json:"no_events,omitempty" on:"dnp3" doc:"DNP3: it knows no event classes"`
	Overflow     bool          `json:"overflow,omitempty" on:"dnp3" doc:"DNP3: events were lost, once"`
	CommLost     bool          `json:"comm_lost,omitempty" on:"dnp3" doc:"DNP3: it does not reach what is behind it: its points say so"`
	Flag         string        `json:"flag,omitempty" example:"offline" on:"dnp3" doc:"DNP3: with what its points are flagged" enum:"offline,restart,comm_lost,remote_forced,local_forced,chatter,over_range,reference_error"`
	Deaf         bool          `json:"deaf,omitempty" on:"dnp3" doc:"DNP3: not even its data link layer answers another master than its own"`
	Wants        string        `json:"wants,omitempty" example:"confirm" on:"dnp3" doc:"DNP3: without what of the data link layer its application is silent" enum:"reset,confirm"`
	Stuck        bool          `json:"stuck,omitempty" on:"dnp3" doc:"DNP3: it goes on saying that it restarted"`
	Local        bool          `json:"local,omitempty" on:"dnp3" doc:"DNP3: its outputs are switched to local control"`
	Trouble      bool          `json:"trouble,omitempty" on:"dnp3" doc:"DNP3: it says that it has trouble"`
	Clock        site.Duration `json:"clock,omitempty" example:"1h" on:"dnp3" doc:"DNP3: its clock is so much ahead; behind when negative"`
	Call         string        `json:"call,omitempty" example:"busy" on:"dialup" doc:"on a dialup line, how calls end" enum:"busy,no_answer,no_carrier,drop"`
	Outage       *Outage       `json:"outage,omitempty" doc:"no responses from time to time: {every: 6m, for: 30s}"`
}

// calls are the ways in which a call ends.
var calls = []string{"", "busy", "no_answer", "no_carrier", "drop"}

func speaking(p site.Protocol) func(Line) bool { return func(l Line) bool { return l.Protocol == p } }

// lines are those on which a fault has an effect, by its tag.
var lines = map[string]struct {
	has  func(Line) bool
	what string
}{
	"modbus":   {speaking(site.Modbus), "is for modbus"},
	"dnp3":     {speaking(site.DNP3), "is for dnp3"},
	"dialup":   {func(l Line) bool { return l.Transport == site.Dialup }, "is for dialup lines"},
	"numbered": {func(l Line) bool { return l.Framing != site.RTU && l.Framing != site.ASCII }, "is for frames with an identifier, which those of rtu and ascii have not"},
	"checked":  {func(l Line) bool { return l.Framing != site.MBAP }, "is for frames with a checksum, which those of mbap have not"},
}

// PossibleFault describes a fault that a station can have.
type PossibleFault struct {
	Name    string // of its field
	Text    string // what it does
	Example string // of a value, where it needs one
}

// FaultsOn lists the faults that have an effect on the stations of a line and are set with one value.
func FaultsOn(line Line) (list []PossibleFault) {
	for _, field := range reflect.VisibleFields(reflect.TypeFor[Faults]()) {
		if on := lines[field.Tag.Get("on")]; field.Type.Kind() == reflect.Pointer || on.has != nil && !on.has(line) {
			continue
		}
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		list = append(list, PossibleFault{name, strings.TrimPrefix(field.Tag.Get("doc"), "DNP3: "), field.Tag.Get("example")})
	}
	return list
}

// known reports whether there is such a flag.
func known(flag string) bool {
	_, is := flagsOf[flag]
	return is
}

// Check says what is wrong with f on a line.
func (f Faults) Check(line Line) error {
	switch {
	case f.Outage != nil && (f.Outage.Every <= 0 || f.Outage.For < 0 || f.Outage.For >= f.Outage.Every):
		return errors.New("outage: for must be shorter than every")
	case !slices.Contains(calls, f.Call):
		return fmt.Errorf("call: %q is not known; choose busy, no_answer, no_carrier or drop", f.Call)
	case f.Wants != "" && f.Wants != "reset" && f.Wants != "confirm":
		return fmt.Errorf("wants: %q is not known; choose reset or confirm", f.Wants)
	case !known(f.Flag):
		return fmt.Errorf("flag: %q is not known; choose offline, restart, comm_lost, remote_forced, local_forced, chatter, over_range or reference_error", f.Flag)
	case f.Exception < 0 || f.Exception > 255:
		return fmt.Errorf("exception: %d is out of range: 1 to 255", f.Exception)
	case f.Function < 0 || f.Function > 127:
		return fmt.Errorf("function: %d is out of range: 1 to 127", f.Function)
	case f.LongestEnds != "" && f.LongestEnds != "close" && f.LongestEnds != "part":
		return fmt.Errorf("longest_ends: %q is not known; choose close or part", f.LongestEnds)
	case f.Longest < 0:
		return errors.New("longest is not negative")
	case f.Delay < 0 || f.Restart < 0 || f.Some < 0 || f.Rests < 0:
		return errors.New("delay, restart, rests and some are not negative")
	}
	set := reflect.ValueOf(f)
	for _, field := range reflect.VisibleFields(set.Type()) {
		if on := lines[field.Tag.Get("on")]; on.has != nil && !set.FieldByIndex(field.Index).IsZero() && !on.has(line) {
			name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
			return fmt.Errorf("%s has no effect on line %s: it %s", name, line.Name, on.what)
		}
	}
	return nil
}

// Outage is a station that is unplugged for part of every period.
type Outage struct {
	Every site.Duration `json:"every"`
	For   site.Duration `json:"for"` // at the end of each period
}

// Load reads a rig file; name is for messages.
func Load(name string, data []byte) (*Config, error) {
	root, err := document.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	var c Config
	if faults := root.Decode(&c, Config{}); faults != nil {
		return nil, fmt.Errorf("%s: %w", name, faults)
	}
	if err := c.validate(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return &c, nil
}

// faulty adds a fault of a rig file.
type faulty func(path, format string, args ...any)

func (c *Config) validate() error {
	var faults document.Faults
	fault := func(path, format string, args ...any) {
		faults = append(faults, document.Fault{Path: path, Message: fmt.Sprintf(format, args...)})
	}
	if c.Rig != Version {
		fault("rig", "%d: a rig file begins with rig: %d", c.Rig, Version)
	}
	if len(c.Lines) == 0 {
		fault("lines", "is empty; name at least one line with a listen address")
	}
	names := slices.Sorted(maps.Keys(c.Signals))
	for _, name := range names {
		if err := c.Signals[name].validate(c.Signals); err != nil {
			fault("signals."+name, "%s", err)
		}
	}
	if _, err := order(c.Signals); err != nil && faults == nil {
		fault("signals", "%s", err)
	}
	listening := map[string]bool{}
	for i, line := range c.Lines {
		path := fmt.Sprintf("lines[%d]", i)
		if line.Name == "" || listening[line.Name] {
			fault(path+".name", "%q: each line needs a name of its own", line.Name)
		}
		listening[line.Name] = true
		c.Lines[i] = line.withDefaults()
		if !slices.Contains(site.Transports[:], c.Lines[i].Transport) {
			fault(path+".transport", "%q is not known; choose tcp, tls, udp, serial or dialup", line.Transport)
		}
		if _, known := simulations[c.Lines[i].Protocol]; !known {
			fault(path+".protocol", "%q is not known; choose modbus or dnp3", line.Protocol)
			continue
		}
		if _, _, err := net.SplitHostPort(line.Listen); err != nil && !line.Transport.UsesSerialPort() && line.Call == "" {
			fault(path+".listen", "%q is no host:port", line.Listen)
		}
		simulations[c.Lines[i].Protocol].validate(c.Lines[i], path, c.Signals, fault)
	}
	if faults != nil {
		return faults
	}
	return nil
}

func (v Value) layout(order codec.Order) codec.Layout {
	if v.Order != "" {
		order = v.Order
	}
	p := site.Point{Address: v.At, Type: v.Type, Order: order, Length: v.Length}.WithDefaults()
	return p.Layout(site.Station{})
}

// tick is the step of the simulation.
const tick = 100 * time.Millisecond
