// Package site holds the point database: links, stations and points, the rules they obey, and changes to them.
//
// A Site is always consistent. It is modified through a Draft, which collects every fault before anything changes
// and gives the Changes that a store records and an engine follows.
package site

import (
	"cmp"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
)

// Transport is what carries a link's bytes.
type Transport string

// The transports.
const (
	TCP    Transport = "tcp"
	TLS    Transport = "tls"
	UDP    Transport = "udp"
	Serial Transport = "serial"
	Dialup Transport = "dialup" // a modem on a serial port
)

// Transports lists all transports.
var Transports = [...]Transport{TCP, TLS, UDP, Serial, Dialup}

// UsesSerialPort reports whether t runs over a serial port of the machine.
func (t Transport) UsesSerialPort() bool { return t == Serial || t == Dialup }

// Framing is how Modbus PDUs are put into frames.
type Framing string

// The framings.
const (
	MBAP  Framing = "mbap"
	RTU   Framing = "rtu"
	ASCII Framing = "ascii"
)

// Link is one communication path.
type Link struct {
	Name        string        `json:"name" doc:"unique name: letters, digits, - _ ."`
	Description string        `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Protocol    Protocol      `json:"protocol" doc:"what the link speaks" enum:"modbus,dnp3"`
	Transport   Transport     `json:"transport" doc:"what carries the bytes" enum:"tcp,tls,udp,serial,dialup"`
	Framing     Framing       `json:"framing,omitempty" doc:"modbus only: default mbap on tcp, tls and udp, rtu on serial and dialup" enum:"mbap,rtu,ascii"`
	Host        string        `json:"host,omitempty" doc:"host name or IP address of the device or gateway"`
	Port        int           `json:"port,omitempty" doc:"TCP or UDP port, 1 to 65535 (default 502, 802 for tls; DNP3: 20000, 19999 for tls)"`
	Listen      string        `json:"listen,omitempty" doc:"dnp3 over tcp: host:port listen address for outstations that connect in, in place of host and port"`
	Bind        string        `json:"bind,omitempty" doc:"local IP address, or name of the network interface, to go out by"`
	Connections int           `json:"connections,omitempty" doc:"sockets that share the work, 1 to 16 (default 1)"`
	InFlight    int           `json:"in_flight,omitempty" doc:"outstanding requests on one socket, 1 to 16, mbap only (default 1)"`
	TLS         *TLSSettings  `json:"tls,omitempty" doc:"files of a tls link: {ca: ca.pem, certificate: client.pem, key: client.key}"`
	Serial      *LineSettings `json:"serial,omitempty" doc:"port and line settings of a serial or dialup link: {device: /dev/ttyUSB0, baud: 9600, parity: even}"`
	Modem       *Modem        `json:"modem,omitempty" doc:"how the modem of a dialup link is used: {init: ATZ, idle: 10s}"`
	Timeout     Duration      `json:"timeout" doc:"silence after which an exchange has failed, 10ms to 1m"`
	Retries     int           `json:"retries" doc:"how often a read that was not answered is repeated, 0 to 10"`
	RetryDelay  Duration      `json:"retry_delay,omitempty" doc:"time before a repetition, 0s to 1m; others are served meanwhile"`
	Pause       Duration      `json:"pause" doc:"least quiet time between exchanges, 0s to 10s"`
	Enabled     bool          `json:"enabled" doc:"false: the link is not opened and its points are bad (disabled)"`
}

// TLSSettings are the files of a TLS link, all PEM. The server's certificate is always verified.
type TLSSettings struct {
	CA          string `json:"ca,omitempty" doc:"certificates the server's is verified with (default the machine's own)"`
	ServerName  string `json:"server_name,omitempty" doc:"name in the server's certificate (default the host)"`
	Certificate string `json:"certificate,omitempty" doc:"client certificate"`
	Key         string `json:"key,omitempty" doc:"its key"`
}

// RTS is how the line RTS is driven on a serial port.
type RTS string

// The ways to drive RTS.
const (
	RTSOff    RTS = "off"
	RTSOn     RTS = "on"
	RTSToggle RTS = "toggle" // on while a frame is sent
)

// LineSettings are a serial port and how it is set; every device on the line is set alike.
type LineSettings struct {
	Device   string   `json:"device" doc:"name of the port: /dev/ttyUSB0, COM3"`
	Baud     int      `json:"baud,omitempty" doc:"300 to 4000000 (default 9600)"`
	DataBits int      `json:"data_bits,omitempty" doc:"7 or 8 (default 8)"`
	Parity   string   `json:"parity,omitempty" doc:"default even" enum:"none,even,odd"`
	StopBits int      `json:"stop_bits,omitempty" doc:"1 or 2 (default 1)"`
	RTS      RTS      `json:"rts,omitempty" doc:"default off" enum:"off,on,toggle"`
	Before   Duration `json:"rts_before,omitempty" doc:"toggle: RTS is on so long before the first bit"`
	After    Duration `json:"rts_after,omitempty" doc:"toggle: and so long after the last"`
	Echo     bool     `json:"echo,omitempty" doc:"true: the adapter gives back what it sends"`
}

// Bits is the length of a character on the line: start bit, data bits, parity bit, stop bits.
func (s LineSettings) Bits() int {
	bits := 1 + s.DataBits + s.StopBits
	if s.Parity != "none" {
		bits++
	}
	return bits
}

// Character is how long a character takes on the line.
func (s LineSettings) Character() time.Duration {
	return time.Duration(s.Bits()) * time.Second / time.Duration(max(1, s.Baud))
}

// Modem is how the modem of a dial-up link is used; its commands are those of ITU-T V.250.
type Modem struct {
	Init    string   `json:"init,omitempty" doc:"commands sent when the port is opened, several with ; between them (default ATZ;ATE0Q0V1)"`
	Dial    string   `json:"dial,omitempty" doc:"what is put before the number of a station (default ATDT)"`
	Connect Duration `json:"connect,omitempty" doc:"time for a call to come about, 1s to 3m (default 60s)"`
	Idle    Duration `json:"idle,omitempty" doc:"the call ends when nothing was asked for so long, 1s to 1h (default 10s)"`
	Redial  Duration `json:"redial,omitempty" doc:"least time before a number that did not answer is dialled again, 1s to 1h (default 30s); it doubles up to eight times that"`
	Guard   Duration `json:"guard,omitempty" doc:"silence before and after +++, 100ms to 5s (default 1s)"`
}

// WithDefaults fills in what m does not say.
func (m Modem) WithDefaults() Modem {
	m.Init, m.Dial = cmp.Or(m.Init, "ATZ;ATE0Q0V1"), cmp.Or(m.Dial, "ATDT")
	m.Connect, m.Idle = cmp.Or(m.Connect, Duration(time.Minute)), cmp.Or(m.Idle, Duration(10*time.Second))
	m.Redial, m.Guard = cmp.Or(m.Redial, Duration(30*time.Second)), cmp.Or(m.Guard, Duration(time.Second))
	return m
}

// NewLink is a link with the defaults of the site file.
func NewLink() Link {
	return Link{Protocol: Modbus, Transport: TCP, Timeout: Duration(time.Second), Retries: 2, Enabled: true}
}

// WithDefaults fills in what l's transport implies.
func (l Link) WithDefaults() Link {
	if l.Transport == Dialup {
		var m Modem
		if l.Modem != nil {
			m = *l.Modem
		}
		m = m.WithDefaults()
		l.Modem = &m
	}
	switch {
	case l.Transport.UsesSerialPort() && l.Serial != nil:
		s := *l.Serial
		s.Baud, s.DataBits, s.StopBits = cmp.Or(s.Baud, 9600), cmp.Or(s.DataBits, 8), cmp.Or(s.StopBits, 1)
		s.Parity, s.RTS = cmp.Or(s.Parity, "even"), cmp.Or(s.RTS, RTSOff)
		l.Serial = &s
	case l.Transport == TLS:
		l.Port = cmp.Or(l.Port, l.Protocol.Traits().TLSPort)
	case !l.Transport.UsesSerialPort() && l.Listen == "":
		l.Port = cmp.Or(l.Port, l.Protocol.Traits().Port)
	}
	l.Connections, l.InFlight = cmp.Or(l.Connections, 1), cmp.Or(l.InFlight, 1)
	if l.Framing == "" && len(l.Protocol.Traits().Framings) > 0 {
		l.Framing = MBAP
		if l.Transport.UsesSerialPort() {
			l.Framing = RTU
		}
	}
	return l
}

// FarEnd says where the link goes, as a person would: host:port, or the port and its settings.
func (l Link) FarEnd() string {
	if l.Transport.UsesSerialPort() && l.Serial != nil {
		parity := "?"
		if l.Serial.Parity != "" {
			parity = strings.ToUpper(l.Serial.Parity[:1])
		}
		return fmt.Sprintf("%s %d %d%s%d", l.Serial.Device, l.Serial.Baud, l.Serial.DataBits, parity, l.Serial.StopBits)
	}
	if l.Listen != "" {
		return l.Listen
	}
	return net.JoinHostPort(l.Host, strconv.Itoa(l.Port))
}

// Kind is KindLink.
func (l Link) Kind() Kind { return KindLink }

// Key is the name.
func (l Link) Key() string { return l.Name }

// Station is one addressed device on a link.
type Station struct {
	Name        string              `json:"name" doc:"unique name: letters, digits, - _ ."`
	Link        string              `json:"link" doc:"name of its link"`
	Description string              `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Unit        int                 `json:"unit" doc:"Modbus unit identifier: 0 to 255 on a network, 1 to 247 on a serial line"`
	Notation    Notation            `json:"notation" doc:"how its manual counts: offset (10 is offset 10), number (10 is the tenth), ref5 (40010), ref6 (400010)" enum:"offset,number,ref5,ref6"`
	Bits        BitNumbering        `json:"bits,omitempty" doc:"how its manual counts the bits of a register: first bit 0 or 1, least (lsb) or most significant (msb) first (default lsb0)" enum:"lsb0,lsb1,msb0,msb1"`
	Order       codec.Order         `json:"order" doc:"byte order of its points unless they say otherwise" enum:"ABCD,CDAB,BADC,DCBA"`
	Poll        Duration            `json:"poll" doc:"how often its points are read unless they say otherwise, 20ms to 24h"`
	PollGroups  map[string]Duration `json:"poll_groups,omitempty" doc:"periods by name, for points that say poll_group: {fast: 50ms, slow: 1m}"`
	Number      string              `json:"number,omitempty" doc:"telephone number, on a dialup link"`
	Enabled     bool                `json:"enabled" doc:"false: the station is not asked and its points are bad (disabled)"`

	MaxRegisters       int           `json:"max_registers,omitempty" doc:"most registers read at once, 1 to 125 (default 125)"`
	MaxBits            int           `json:"max_bits,omitempty" doc:"most coils or discrete inputs read at once, 1 to 2000 (default 2000)"`
	Gap                *int          `json:"gap,omitempty" doc:"largest gap of unused registers read to merge two requests, 0 to 124 (default 16)"`
	Charset            Charset       `json:"charset,omitempty" doc:"character set of its strings unless their points say otherwise: latin1 (ISO 8859-1) or utf8; default: latin1" enum:"latin1,utf8"`
	StringsAlone       bool          `json:"strings_alone,omitempty" doc:"true: a string is read in a request of its own"`
	WriteFunction      WriteFunction `json:"write_function,omitempty" doc:"auto (single for one address, multiple for several), single (5, 6) or multiple (15, 16) (default auto)" enum:"auto,single,multiple"`
	PartialWrite       PartialWrite  `json:"partial_write,omitempty" doc:"how one bit or byte of a register is written: mask (function 22), rewrite (read, change, write back; what the device changes in between is lost) or never (default mask)" enum:"mask,rewrite,never"`
	ReadWrite          bool          `json:"read_write,omitempty" doc:"true: registers may be written and read back in one request (function 23)"`
	Broadcast          bool          `json:"broadcast,omitempty" doc:"true, with unit 0 on a serial line: what is written goes to all devices at once; nothing is read"`
	Liveness           Duration      `json:"liveness,omitempty" doc:"the station is asked for a sign of life when nothing else was due for so long, 1s to 24h (default 15s; 1m for a Modbus station with points)"`
	LivenessAsk        string        `json:"liveness_ask,omitempty" doc:"what it is asked then: an address such as hr:0, diagnostics (function 8), identification (function 43/14) or none (default the request of one of its points, otherwise hr:0)"`
	Outstation         *int          `json:"outstation,omitempty" doc:"DNP3: link address of the outstation, 0 to 65519"`
	Master             *int          `json:"master,omitempty" doc:"DNP3: link address of this master, 0 to 65519 (default 1)"`
	IntegrityPoll      Duration      `json:"integrity_poll,omitempty" doc:"DNP3: how often all present values are read, 1s to 30 days (default 1h)"`
	EventPoll          Duration      `json:"event_poll,omitempty" doc:"DNP3: how often events are asked for, 20ms to 24h (default 5s)"`
	Class1Poll         Duration      `json:"class1_poll,omitempty" doc:"DNP3: the same for class 1 alone (default as event_poll)"`
	Class2Poll         Duration      `json:"class2_poll,omitempty" doc:"DNP3: for class 2"`
	Class3Poll         Duration      `json:"class3_poll,omitempty" doc:"DNP3: for class 3"`
	Unsolicited        bool          `json:"unsolicited,omitempty" doc:"DNP3: true: the outstation reports events by itself, as they happen"`
	UnsolicitedClasses []int         `json:"unsolicited_classes,omitempty" doc:"DNP3: classes that it reports so (default 1, 2 and 3)"`
	TimeSync           TimeSync      `json:"time_sync,omitempty" doc:"DNP3: how its clock is set when it asks for the time (default none)" enum:"none,lan,serial"`
	LinkReset          bool          `json:"link_reset,omitempty" doc:"DNP3: true: its link states are reset after connecting"`
	LinkConfirm        bool          `json:"link_confirm,omitempty" doc:"DNP3: true: its data link layer acknowledges every frame of a request"`
	AfterConnect       Duration      `json:"after_connect,omitempty" doc:"time the device needs after connecting, 0s to 30s"`
}

// Charset is the character set of strings.
type Charset string

// The character sets; the zero is Latin1.
const (
	Latin1 Charset = "latin1" // ISO 8859-1
	UTF8   Charset = "utf8"
)

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
func (s Station) ReadLimits() (registers, bits, gap int) {
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

// DefaultLiveness is how long a station is left alone where it does not say.
const DefaultLiveness = 15 * time.Second

// Convention is how addresses of the station are written.
func (s Station) Convention() Convention { return Convention{s.Notation, s.Bits} }

// LivenessRequest says how the station is asked for a sign of life: an address, or one of the words; the zero Address and
// AskNothing when it is not.
func (s Station) LivenessRequest() (address Address, word string, err error) {
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
	Type        codec.Type      `json:"type" doc:"data type (default bool for coils and discrete inputs, uint16 for registers)" enum:"bool,int8,uint8,int16,uint16,int32,uint32,int64,uint64,float32,float64,bcd16,bcd32,string,bits"`
	Length      int             `json:"length,omitempty" doc:"string: characters, or bytes of utf8, 1 to 250, at most 246 when it is writable; bits: 16, 32 or 64"`
	Charset     Charset         `json:"charset,omitempty" doc:"string: character set, latin1 or utf8; default: the station's" enum:"latin1,utf8"`
	Order       codec.Order     `json:"order,omitempty" doc:"byte order (default the station's)" enum:"ABCD,CDAB,BADC,DCBA"`
	Scaling     scaling.Scaling `json:"scaling,omitzero" doc:"raw to engineering: {raw: [0, 27648], eng: [0, 100]}, {factor: 0.1, offset: 0}, {table: [[0, 0], [100, 5]]} (default none)"`
	Unit        string          `json:"unit,omitempty" doc:"engineering unit, at most 20 characters"`
	Decimals    *int            `json:"decimals,omitempty" doc:"decimals shown, 0 to 12 (default as many as needed)"`
	Description string          `json:"description,omitempty" doc:"free text, at most 500 characters"`
	Invalid     []RawCode       `json:"invalid,omitempty" doc:"raw values with which the device says that it has none: [0x8000, 32767]; the point is bad (sensor-failure) then"`
	States      States          `json:"states,omitempty" doc:"names of values: [closed, open] or {0: stopped, 5: tripped}; of the bits for type bits"`
	Invert      bool            `json:"invert,omitempty" doc:"bool only: 0 means true"`
	Writable    bool            `json:"writable,omitempty" doc:"true: the point may be written"`
	PulseCount  uint8           `json:"pulse_count,omitempty" doc:"DNP3 bo: number of pulses, 1 to 255 (default 1)"`
	ReadBack    Address         `json:"read_back,omitzero" doc:"where a written value is read back from, when that is not its address: ir:9"`
	Pulse       Duration        `json:"pulse,omitempty" doc:"bool only: writing true sets it for so long and then back, 20ms to 1m; of a DNP3 output the device's own on-time"`
	Control     Control         `json:"control,omitempty" doc:"DNP3 bo: how it is commanded (default latch)" enum:"latch,pulse,trip-close"`
	Select      *bool           `json:"select,omitempty" doc:"DNP3 bo, ao: false: operated directly (default selected first, then operated)"`
	PulseOff    Duration        `json:"pulse_off,omitempty" doc:"DNP3 bo: time between pulses"`
	PollGroup   string          `json:"poll_group,omitempty" doc:"the group of its station's poll_groups whose period it has"`
	Poll        Duration        `json:"poll,omitempty" doc:"how often it is read (default as the station says)"`
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
		p.Type = protocols[protocol].typ(p.Address)
	}
	return p
}
