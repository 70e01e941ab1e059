// Package rig simulates stations: devices with registers that move as those of a plant do, and the faults of real
// ones. It is a server; it knows nothing of sites, points or who reads it.
package rig

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/document"
	"arithmon/internal/nearest"
	"arithmon/internal/site"
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
	Transport site.Transport    `json:"transport"` // tcp unless said
	Framing   site.Framing      `json:"framing"`   // mbap unless said, rtu on serial
	Listen    string            `json:"listen"`    // host:port; on serial a path where a link to the port is made, or nothing
	Serial    site.LineSettings `json:"serial"`    // pace of a serial line: baud and the length of a character
	Strict    bool              `json:"strict"`    // a serial line answers under its own settings only; under others bytes are garbled
	Connect   site.Duration     `json:"connect"`   // how long the modem of a dialup line takes to come to a connection; 2s unless said
	Stations  []Station         `json:"stations"`
}

// withDefaults fills in what the transport implies.
func (l Line) withDefaults() Line {
	link := site.Link{Transport: l.Transport, Framing: l.Framing, Serial: &l.Serial}
	if link.Transport == "" {
		link.Transport = site.TCP
	}
	link = link.WithDefaults()
	l.Transport, l.Framing, l.Serial = link.Transport, link.Framing, *link.Serial
	l.Connect = cmp.Or(l.Connect, site.Duration(2*time.Second))
	return l
}

// Station is one simulated Modbus server.
type Station struct {
	Unit   int            `json:"unit"`
	Number string         `json:"number"` // telephone number, on a dialup line
	Name   string         `json:"name"`   // what it says it is, to functions 17 and 43
	Order  codec.Order    `json:"order"`
	Tables map[string]int `json:"tables"` // how many addresses each table has: {hr: 100, co: 16}; what values need unless said
	Values []Value        `json:"values"`
	Faults Faults         `json:"faults"`
}

// Value puts a signal, or a fixed value, into registers.
type Value struct {
	At     site.Address `json:"at"`
	Type   codec.Type   `json:"type"`   // uint16 in registers unless said
	Length int          `json:"length"` // of a string
	Order  codec.Order  `json:"order"`  // the station's unless said
	Signal string       `json:"signal"`
	Factor *float64     `json:"factor"` // raw = signal × factor + offset
	Offset float64      `json:"offset"`
	Limit  *[2]float64  `json:"limit"` // what a client writes is brought into these bounds, as some devices do
	Set    codec.Value  `json:"set"`   // a fixed value, which a client may overwrite, instead of a signal
}

// Faults spoil what a station answers. The zero Faults spoil nothing.
type Faults struct {
	Delay      site.Duration `json:"delay,omitempty" doc:"time before each answer"`
	Drop       bool          `json:"drop,omitempty" doc:"no answers"`
	Close      bool          `json:"close,omitempty" doc:"the connection is closed in the middle of an answer"`
	Garbage    bool          `json:"garbage,omitempty" doc:"answers that are not Modbus"`
	WrongUnit  bool          `json:"wrong_unit,omitempty" doc:"answers in the name of the next unit"`
	Identifier bool          `json:"wrong_identifier,omitempty" doc:"answers with the transaction identifier of another request"`
	Checksum   bool          `json:"checksum,omitempty" doc:"answers whose CRC or LRC is wrong"`
	Some       int           `json:"some,omitempty" doc:"only one answer in so many is spoilt; all of them unless said"`
	Noise      bool          `json:"noise,omitempty" doc:"stray bytes before each answer"`
	Echo       bool          `json:"echo,omitempty" doc:"the request comes back before the answer"`
	Short      bool          `json:"short,omitempty" doc:"answers with a register too few"`
	Truncate   bool          `json:"truncate,omitempty" doc:"answers that end early"`
	Exception  int           `json:"exception,omitempty" doc:"every request is refused with this code"`
	Duplicate  bool          `json:"duplicate,omitempty" doc:"a second device answers to the same unit"`
	Frozen     bool          `json:"frozen,omitempty" doc:"the values no longer move"`
	WordSwap   bool          `json:"word_swap,omitempty" doc:"every other answer has its registers in reverse order, two by two"`
	MuteWrites bool          `json:"mute_writes,omitempty" doc:"what is written is carried out and not answered"`
	Restart    site.Duration `json:"restart,omitempty" doc:"the device restarts, once: no answers for so long, and what was written is forgotten"`
	Call       string        `json:"call,omitempty" doc:"on a dialup line, how calls end" enum:"busy,no_answer,no_carrier,drop"`
	Outage     *Outage       `json:"outage,omitempty" doc:"no answers from time to time: {every: 6m, for: 30s}"`
}

// calls are the ways in which a call ends.
var calls = []string{"", "busy", "no_answer", "no_carrier", "drop"}

// Check says what is wrong with f.
func (f Faults) Check() error {
	switch {
	case f.Outage != nil && (f.Outage.Every <= 0 || f.Outage.For < 0 || f.Outage.For >= f.Outage.Every):
		return errors.New("outage: for must be shorter than every")
	case !slices.Contains(calls, f.Call):
		return fmt.Errorf("call: %q is not known; choose busy, no_answer, no_carrier or drop", f.Call)
	case f.Exception < 0 || f.Exception > 255:
		return fmt.Errorf("exception: %d is out of range: 1 to 255", f.Exception)
	case f.Delay < 0 || f.Restart < 0 || f.Some < 0:
		return errors.New("delay, restart and some are not negative")
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
		if framing := c.Lines[i].Framing; framing != site.MBAP && framing != site.RTU && framing != site.ASCII || framing == site.MBAP && line.Transport.OnPort() {
			fault(path+".framing", "%q does not fit; choose mbap (not on a port), rtu or ascii", framing)
		}
		if _, _, err := net.SplitHostPort(line.Listen); err != nil && !line.Transport.OnPort() {
			fault(path+".listen", "%q is no host:port", line.Listen)
		}
		units := map[int]bool{}
		for j, st := range line.Stations {
			path := fmt.Sprintf("%s.stations[%d]", path, j)
			if st.Unit < 0 || st.Unit > 255 || units[st.Unit] {
				fault(path+".unit", "%d: units of a line differ and go from 0 to 255", st.Unit)
			}
			units[st.Unit] = true
			for table, n := range st.Tables {
				if _, known := tables[site.Space(table)]; !known || n < 0 || n > 0x10000 {
					fault(path+".tables."+table, "%d: tables are co, di, ir and hr, of at most 65536 addresses", n)
				}
			}
			if (line.Transport == site.Dialup) != (st.Number != "") {
				fault(path+".number", "%q: a station on a dialup line has a telephone number, and only there", st.Number)
			}
			if err := st.Faults.Check(); err != nil {
				fault(path+".faults", "%s", err)
			}
			for k, v := range st.Values {
				path := fmt.Sprintf("%s.values[%d]", path, k)
				if v.At.Space.Protocol() != site.Modbus {
					fault(path+".at", "%q is no Modbus address", v.At)
					continue
				}
				if _, known := c.Signals[v.Signal]; !known && (v.Signal != "" || v.Set.IsZero()) {
					fault(path+".signal", "there is no signal %q%s", v.Signal, nearest.Hint(v.Signal, names))
				}
				if l := v.layout(st.Order); l.Words() == 0 || int(v.At.Offset)+l.Words() > 0x10000 {
					fault(path+".type", "%q does not fit %s", v.Type, v.At)
				}
			}
		}
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
