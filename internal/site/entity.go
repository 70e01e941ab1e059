// Package site holds the point database: links, stations and points, the rules they obey, and changes to them.
//
// A Site is always consistent. It is modified through a Draft, which collects every fault before anything changes
// and gives the Changes that a store records and an engine follows.
package site

import (
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/scaling"
)

// Kind is a kind of entity.
type Kind string

// The kinds, in the order in which one refers to another.
const (
	KindLink    Kind = "link"
	KindStation Kind = "station"
	KindPoint   Kind = "point"
)

// Entity is a Link, a Station or a Point.
type Entity interface {
	Kind() Kind
	Key() string // unique within the kind: name or tag
}

// Protocol is what a link speaks.
type Protocol string

// The protocols.
const (
	Modbus Protocol = "modbus"
	DNP3   Protocol = "dnp3"
)

// Transport is what carries a link's bytes.
type Transport string

// TCP is a TCP connection.
const TCP Transport = "tcp"

// Link is one communication path.
type Link struct {
	Name        string    `json:"name" doc:"unique name: letters, digits, - _ ."`
	Description string    `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Protocol    Protocol  `json:"protocol" doc:"what the link speaks" enum:"modbus"`
	Transport   Transport `json:"transport" doc:"what carries the bytes" enum:"tcp"`
	Host        string    `json:"host,omitempty" doc:"host name or IP address of the device or gateway"`
	Port        int       `json:"port,omitempty" doc:"TCP port, 1 to 65535; 502 unless said"`
	Bind        string    `json:"bind,omitempty" doc:"local IP address to go out by"`
	Timeout     Duration  `json:"timeout" doc:"silence after which an exchange has failed, 10ms to 1m"`
	Retries     int       `json:"retries" doc:"how often a read that was not answered is repeated, 0 to 10"`
	Pause       Duration  `json:"pause" doc:"least quiet time between exchanges, 0s to 10s"`
	Enabled     bool      `json:"enabled" doc:"false: the link is not opened and its points are bad (disabled)"`
}

// NewLink is a link with the defaults of the site file.
func NewLink() Link {
	return Link{Protocol: Modbus, Transport: TCP, Port: 502, Timeout: Duration(time.Second), Retries: 2, Enabled: true}
}

// Kind is KindLink.
func (l Link) Kind() Kind { return KindLink }

// Key is the name.
func (l Link) Key() string { return l.Name }

// Station is one addressed device on a link.
type Station struct {
	Name        string      `json:"name" doc:"unique name: letters, digits, - _ ."`
	Link        string      `json:"link" doc:"name of its link"`
	Description string      `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Unit        int         `json:"unit" doc:"Modbus unit identifier, 0 to 255"`
	Notation    Notation    `json:"notation" doc:"how its manual counts: offset (10 is offset 10), number (10 is the tenth), ref5 (40010), ref6 (400010)" enum:"offset,number,ref5,ref6"`
	Order       codec.Order `json:"order" doc:"byte order of its points unless they say otherwise" enum:"ABCD,CDAB,BADC,DCBA"`
	Poll        Duration    `json:"poll" doc:"how often its points are read unless they say otherwise, 20ms to 24h"`
	Enabled     bool        `json:"enabled" doc:"false: the station is not asked and its points are bad (disabled)"`
}

// NewStation is a station with the defaults of the site file.
func NewStation() Station {
	return Station{Unit: 1, Notation: Offset, Order: codec.ABCD, Poll: Duration(time.Second), Enabled: true}
}

// Kind is KindStation.
func (s Station) Kind() Kind { return KindStation }

// Key is the name.
func (s Station) Key() string { return s.Name }

// Point is one named value of a station.
type Point struct {
	Tag         string          `json:"tag" doc:"unique name, with / between its parts: tern/pump2/current"`
	Station     string          `json:"station" doc:"name of its station"`
	Address     Address         `json:"address" doc:"where it lives: hr:9, hr:9.3, co:0x200, or as the station's notation has it: 40010"`
	Type        codec.Type      `json:"type" doc:"data type; bool for coils and discrete inputs, uint16 for registers unless said" enum:"bool,int8,uint8,int16,uint16,int32,uint32,int64,uint64,float32,float64,bcd16,bcd32,string,bits"`
	Length      int             `json:"length,omitempty" doc:"string: characters, 1 to 250; bits: 16, 32 or 64"`
	Order       codec.Order     `json:"order,omitempty" doc:"byte order; the station's unless said" enum:"ABCD,CDAB,BADC,DCBA"`
	Scaling     scaling.Scaling `json:"scaling,omitzero" doc:"raw to engineering: {raw: [0, 27648], eng: [0, 100]}, {factor: 0.1, offset: 0}, {table: [[0, 0], [100, 5]]}; none unless said"`
	Unit        string          `json:"unit,omitempty" doc:"engineering unit, at most 20 characters"`
	Decimals    *int            `json:"decimals,omitempty" doc:"decimals shown, 0 to 12; as many as needed unless said"`
	Description string          `json:"description,omitempty" doc:"free text, at most 500 characters"`
	States      States          `json:"states,omitempty" doc:"names of values: [closed, open] or {0: stopped, 5: tripped}; of the bits for type bits"`
	Invert      bool            `json:"invert,omitempty" doc:"bool only: 0 means true"`
	Writable    bool            `json:"writable,omitempty" doc:"true: the point may be written"`
	Poll        Duration        `json:"poll,omitempty" doc:"how often it is read; as the station says unless said"`
}

// NewPoint is a point with the defaults of the site file.
func NewPoint() Point { return Point{} }

// Kind is KindPoint.
func (p Point) Kind() Kind { return KindPoint }

// Key is the tag.
func (p Point) Key() string { return p.Tag }

// Layout says how p's words become its value, given its station.
func (p Point) Layout(s Station) codec.Layout {
	l := codec.Layout{Type: p.Type, Order: p.Order, Length: p.Length, High: p.Address.Part == HighByte, Bit: codec.WholeRegister}
	if l.Order == "" {
		l.Order = s.Order
	}
	if bit, ok := p.Address.Part.Bit(); ok {
		l.Bit = int8(bit)
	}
	return l
}

// Period is how often p is read, given its station.
func (p Point) Period(s Station) time.Duration {
	if p.Poll != 0 {
		return time.Duration(p.Poll)
	}
	return time.Duration(s.Poll)
}

// WithDefaults fills in the type that p's address implies.
func (p Point) WithDefaults() Point {
	if p.Type == "" && p.Address.Space != "" {
		p.Type = codec.TypeUint16
		_, isBit := p.Address.Part.Bit()
		switch {
		case !p.Address.Space.Registers() || isBit:
			p.Type = codec.TypeBool
		case p.Address.Part != Whole:
			p.Type = codec.TypeUint8
		}
	}
	return p
}
