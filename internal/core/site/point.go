package site

import (
	"cmp"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
)

// Point is one named value of a station.
type Point struct {
	Tag         string          `json:"tag" doc:"unique name, with / between its parts: tern/pump2/current"`
	Station     string          `json:"station" doc:"name of its station"`
	Address     Address         `json:"address" doc:"where it lives: hr:9, hr:9.3, co:0x200, or as the station's notation has it: 40010"`
	Type        codec.Type      `json:"type" doc:"data type (default bool for coils and discrete inputs, uint16 for registers)" enum:"bool,int8,uint8,int16,uint16,int32,uint32,int64,uint64,float32,float64,bcd16,bcd32,string,bits"`
	Length      int             `json:"length,omitempty" zero:"no" doc:"string: characters, or bytes of utf8, 1 to 250, at most 246 when it is writable; bits: 16, 32 or 64"`
	Charset     Charset         `json:"charset,omitempty" doc:"string: character set, latin1 or utf8; default: the station's" enum:"latin1,utf8"`
	Order       codec.Order     `json:"order,omitempty" doc:"byte order (default the station's)" enum:"ABCD,CDAB,BADC,DCBA"`
	Scaling     scaling.Scaling `json:"scaling,omitzero" doc:"raw to engineering: {raw: [0, 27648], eng: [0, 100]}, {factor: 0.1, offset: 0}, {table: [[0, 0], [100, 5]]} (default none)"`
	Range       *[2]float64     `json:"range,omitempty" doc:"what its engineering value can be: [0, 2.8]; evidence for findings, nothing is refused by it (default the engineering range of its scaling, and what values with its unit usually are)"`
	Unit        string          `json:"unit,omitempty" doc:"engineering unit, at most 20 characters"`
	Decimals    *int            `json:"decimals,omitempty" doc:"decimals shown, 0 to 12 (default as many as needed)"`
	Description string          `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Invalid     []RawCode       `json:"invalid,omitempty" doc:"raw values with which the device says that it has none: [0x8000, 32767]; the point is bad (sensor-failure) then"`
	States      States          `json:"states,omitempty" doc:"names of values: [closed, open] or {0: stopped, 5: tripped}; of the bits for type bits"`
	Invert      bool            `json:"invert,omitempty" doc:"bool only: 0 means true"`
	Writable    bool            `json:"writable,omitempty" doc:"true: the point may be written"`
	ReadBack    Address         `json:"read_back,omitzero" doc:"where a written value is read back from, when that is not its address: ir:9"`
	Pulse       Duration        `json:"pulse,omitempty" zero:"no" doc:"bool only: writing true sets it for so long and then back, 20ms to 1m; of a DNP3 output the device's own on-time"`
	PollGroup   string          `json:"poll_group,omitempty" doc:"the group of its station's poll_groups whose period it has"`
	Poll        Duration        `json:"poll,omitempty" zero:"no" doc:"how often it is read (default as the station says)"`
	Record      *Sampling       `json:"record,omitempty" doc:"what is kept in the history: true, false, {deadband: 0.5, at_least: 10m} or {every: 1m} (default as the station says)"`
	Limits      *Limits         `json:"limits,omitempty" doc:"bounds beyond which there is an alarm: {low: 0.3, high: 2.6, deadband: 0.05, delay: 5s}, or {state: tripped}"`
	DNP3Point
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
	l.UTF8 = l.Type == codec.TypeString && cmp.Or(p.Charset, s.Charset) == UTF8
	return l
}

// Period is how often p is read, given its station; 0 of one that is reported when it changes.
func (p Point) Period(s Station) time.Duration {
	if p.Address.Space.Protocol().Traits().Typed {
		return 0
	}
	if p.Poll != 0 {
		return time.Duration(p.Poll)
	}
	if period := s.PollGroups[p.PollGroup]; period != 0 {
		return time.Duration(period)
	}
	return time.Duration(s.Poll)
}

// WithDefaults fills in the type that p's address implies.
func (p Point) WithDefaults() Point {
	if protocol := p.Address.Space.Protocol(); p.Type == "" && protocol != "" {
		p.Type = protocol.rules().typ(p.Address)
	}
	return p
}
