package site

import (
	"slices"

	"arithmon/internal/core/codec"
)

// Protocol is what a link speaks.
type Protocol string

// The protocols.
const (
	Modbus Protocol = "modbus"
	DNP3   Protocol = "dnp3"
)

// Traits are what others need to know of a protocol. Nobody asks which protocol it is.
type Traits struct {
	Name       string // as people write it
	Port       int    // registered
	TLSPort    int    // registered, over TLS
	Address    string // what the link address of a station is called, which is its field
	MaxAddress int    // of a station
	LastUsual  int    // station address up to which devices are usually set
	Framings   []Framing
	// Typed says that the device's objects tell their type and are reported: its points have no byte order or poll of their own, one address is
	// one value, and the device times its pulses itself.
	Typed bool
	// Profiles says that a device can be described by a profile in a standard's own form.
	Profiles bool
	// Foreign are the fields of Station that have no meaning.
	Foreign []string
}

// rules are what a protocol demands of links, stations and points.
type rules struct {
	Traits
	link    func(Link, *faults)
	station func(Station, *faults)
	fits    func(Station, Link) (field, why string) // what of a station does not go with its link
	warning func(Station, Link) (field, why string) // what is allowed and yet seldom meant
	at      func(Station, int) Station              // the station at another address
	point   func(Point, *faults)                    // address and type, and how it is written
	typ     func(Address) codec.Type                // that an address implies
}

// protocols are all protocols. A protocol is one entry here, and its driver, probe and dissection in their packages' tables.
var protocols map[Protocol]rules

func init() { // not a literal, since rules ask for traits
	protocols = map[Protocol]rules{
		Modbus: {
			Traits: Traits{Name: "Modbus", Port: 502, TLSPort: 802, Address: "unit", MaxAddress: 255, LastUsual: 247, Framings: []Framing{MBAP, RTU, ASCII}},
			link:   Link.validateModbus, station: Station.validateModbus, fits: Station.fitsModbus, warning: Station.reservedUnit,
			at:    func(s Station, address int) Station { s.Unit = address; return s },
			point: Point.validateModbus, typ: modbusType,
		},
		DNP3: {
			Traits: Traits{Name: "DNP3", Port: 20000, TLSPort: 19999, Address: "outstation", MaxAddress: MaxLinkAddress, LastUsual: 255, Typed: true, Profiles: true, Foreign: []string{"unit", "notation"}},
			link:   Link.validateDNP3, station: Station.validateDNP3, fits: Station.fitsDNP3, warning: func(Station, Link) (string, string) { return "", "" },
			at:    func(s Station, address int) Station { s.Outstation = &address; return s },
			point: Point.validateDNP3, typ: dnp3Type,
		},
	}
}

// Protocols lists the protocols by name.
func Protocols() []Protocol {
	list := make([]Protocol, 0, len(protocols))
	for p := range protocols {
		list = append(list, p)
	}
	slices.Sort(list)
	return list
}

// Known reports whether p is a protocol.
func (p Protocol) Known() bool {
	_, ok := protocols[p]
	return ok
}

// Traits are what others need to know of p; zero when it is none.
func (p Protocol) Traits() Traits { return protocols[p].Traits }
