package site

import (
	"cmp"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
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
	Port        int           `json:"port,omitempty" zero:"no" doc:"TCP or UDP port, 1 to 65535 (default 502, 802 for tls; DNP3: 20000, 19999 for tls)"`
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
	Baud     int      `json:"baud,omitempty" zero:"no" doc:"300 to 4000000 (default 9600)"`
	DataBits int      `json:"data_bits,omitempty" zero:"no" doc:"7 or 8 (default 8)"`
	Parity   string   `json:"parity,omitempty" doc:"default even" enum:"none,even,odd"`
	StopBits int      `json:"stop_bits,omitempty" zero:"no" doc:"1 or 2 (default 1)"`
	RTS      RTS      `json:"rts,omitempty" doc:"default off" enum:"off,on,toggle"`
	Before   Duration `json:"rts_before,omitempty" doc:"toggle: RTS is on so long before the first bit"`
	After    Duration `json:"rts_after,omitempty" doc:"toggle: and so long after the last"`
	Echo     bool     `json:"echo,omitempty" doc:"true: the adapter gives back what it sends"`
}

// UsualLineSettings are those that lines commonly have, with the port and its direction as of own, which come first.
func UsualLineSettings(own LineSettings) []LineSettings {
	list := []LineSettings{own}
	type frame struct {
		parity string
		stop   int
	}
	for _, frames := range [][]frame{{{"even", 1}, {"none", 1}}, {{"odd", 1}, {"none", 2}}} { // the usual ones at every rate come before the others
		for _, baud := range []int{9600, 19200, 38400, 115200, 57600, 4800, 2400, 1200} {
			for _, f := range frames {
				s := own
				s.Baud, s.Parity, s.StopBits = baud, f.parity, f.stop
				if s != own {
					list = append(list, s)
				}
			}
		}
	}
	return list
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

// Unsecured is the link without TLS, at the same port.
func (l Link) Unsecured() Link {
	l.Transport, l.TLS = TCP, nil
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
