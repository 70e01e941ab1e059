package site

import (
	"reflect"
	"slices"
	"strings"

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
	// Station are the fields of Station that only this protocol has.
	Station []string
	// NoLink and NoPoint are the fields of Link and Point that mean nothing with it.
	NoLink, NoPoint []string
	Spaces          []Space      // that addresses count in
	Transports      []Transport  // that carry it
	Types           []codec.Type // of points
}

// rules are what a protocol demands of links, stations and points.
type rules struct {
	protocol Protocol
	Traits
	link    func(Link, *faults)
	station func(Station, *faults)
	fits    func(Station, Link) (field, why string) // what of a station does not go with its link
	warning func(Station, Link) (field, why string) // what is allowed and yet seldom meant
	at      func(Station, int) Station              // the station at another address
	point   func(Point, *faults)                    // address and type, and how it is written
	typ     func(Address) codec.Type                // that an address implies
}

// protocols are all protocols, the one that is most usual first. A protocol is one entry here, and its driver, probe and dissection in
// their packages' tables.
var protocols []rules

func init() { // not a literal, since rules ask for traits
	protocols = []rules{
		{
			protocol: Modbus,
			Traits: Traits{Name: "Modbus", Port: 502, TLSPort: 802, Address: "unit", MaxAddress: 255, LastUsual: 247, Framings: []Framing{MBAP, RTU, ASCII},
				Station: fieldsOf(ModbusStation{}), NoLink: []string{"listen"}, NoPoint: fieldsOf(DNP3Point{}),
				Transports: Transports[:], Types: codec.Types[:], Spaces: spacesOf(Modbus)},
			link: Link.validateModbus, station: Station.validateModbus, fits: Station.fitsModbus, warning: Station.reservedUnit,
			at:    func(s Station, address int) Station { s.Unit = address; return s },
			point: Point.validateModbus, typ: modbusType,
		},
		{
			protocol: DNP3,
			Traits: Traits{Name: "DNP3", Port: 20000, TLSPort: 19999, Address: "outstation", MaxAddress: MaxLinkAddress, LastUsual: 255, Typed: true, Profiles: true,
				Station: fieldsOf(DNP3Station{}), NoLink: []string{"framing", "connections", "in_flight"}, NoPoint: []string{"order", "charset", "poll", "poll_group"},
				Transports: []Transport{TCP, TLS, UDP, Serial}, Types: dnp3Types(), Spaces: spacesOf(DNP3)},
			link: Link.validateDNP3, station: Station.validateDNP3, fits: Station.fitsDNP3, warning: Station.idleOnDNP3,
			at:    func(s Station, address int) Station { s.Outstation = &address; return s },
			point: Point.validateDNP3, typ: dnp3Type,
		},
	}
}

// spacesOf lists the spaces of a protocol.
func spacesOf(p Protocol) (list []Space) {
	for _, t := range spaces {
		if t.protocol == p {
			list = append(list, t.space)
		}
	}
	return list
}

// Foreign reports whether a field of Station is a setting of another protocol than p.
func (p Protocol) Foreign(field string) bool {
	for _, r := range protocols {
		if r.protocol != p && slices.Contains(r.Station, field) {
			return true
		}
	}
	return false
}

// Protocols lists the protocols, the one that is most usual first.
func Protocols() []Protocol {
	list := make([]Protocol, len(protocols))
	for i, r := range protocols {
		list[i] = r.protocol
	}
	return list
}

// rules are those of p; of no protocol when it is none.
func (p Protocol) rules() *rules {
	for i := range protocols {
		if protocols[i].protocol == p {
			return &protocols[i]
		}
	}
	return &rules{}
}

// Known reports whether p is a protocol.
func (p Protocol) Known() bool { return p.rules().protocol != "" }

// Traits are what others need to know of p, not to be changed; zero when it is none.
func (p Protocol) Traits() *Traits { return &p.rules().Traits }

// fieldsOf names the fields of a struct as JSON does.
func fieldsOf(settings any) (names []string) {
	for _, field := range reflect.VisibleFields(reflect.TypeOf(settings)) {
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		names = append(names, name)
	}
	return names
}

// given names the fields of settings that differ from their default, which is a struct of the same type.
func given(settings, usual any) (names []string) {
	v, d := reflect.ValueOf(settings), reflect.ValueOf(usual)
	for i, name := range fieldsOf(settings) {
		if !reflect.DeepEqual(v.Field(i).Interface(), d.Field(i).Interface()) {
			names = append(names, name)
		}
	}
	return names
}
