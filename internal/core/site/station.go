package site

import (
	"time"

	"arithmon/internal/core/codec"
)

// Station is one addressed device on a link.
type Station struct {
	Name        string            `json:"name" doc:"unique name: letters, digits, - _ ."`
	Link        string            `json:"link" doc:"name of its link"`
	Description string            `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Template    string            `json:"template,omitempty" doc:"name of the template that it is made from, whose settings and points it has but for its own"`
	Values      map[string]string `json:"values,omitempty" doc:"values of the template's parameters: {tag: tern/pump4, base: 100}"`
	LeftOut     []string          `json:"left_out,omitempty" doc:"points of the template that it does not have, by their tags there: ['{tag}/torque']"`
	ModbusStation
	DNP3Station
	Enabled      bool      `json:"enabled" doc:"false: the station is not asked and its points are bad (disabled)"`
	Charset      Charset   `json:"charset,omitempty" doc:"character set of its strings unless their points say otherwise: latin1 (ISO 8859-1) or utf8; default: latin1" enum:"latin1,utf8"`
	Liveness     Duration  `json:"liveness,omitempty" zero:"no" doc:"the station is asked for a sign of life when nothing else was due for so long, 1s to 24h (default 15s; 1m for a Modbus station with points)"`
	Record       *Sampling `json:"record,omitempty" doc:"what is kept in the history of its points unless they say otherwise: true, {deadband: 0.5, at_least: 10m} or {every: 1m} (default false)"`
	AfterConnect Duration  `json:"after_connect,omitempty" doc:"time the device needs after connecting, 0s to 30s"`
}

// Charset is the character set of strings.
type Charset string

// The character sets; the zero is Latin1.
const (
	Latin1 Charset = "latin1" // ISO 8859-1
	UTF8   Charset = "utf8"
)

// DefaultLiveness is how long a station is left alone where it does not say.
const DefaultLiveness = 15 * time.Second

// NewStation is a station with the defaults of the site file.
func NewStation() Station {
	return Station{ModbusStation: ModbusStation{Unit: 1, Notation: Offset, Order: codec.ABCD, Poll: Duration(time.Second)}, Enabled: true}
}

// AtAddress is the station at a link address of a protocol.
func (s Station) AtAddress(p Protocol, address int) Station { return p.rules().at(s, address) }

// Kind is KindStation.
func (s Station) Kind() Kind { return KindStation }

// Key is the name.
func (s Station) Key() string { return s.Name }
