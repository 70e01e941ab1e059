package site

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
)

// FieldError is one fault of one field of an entity.
type FieldError struct {
	Kind    Kind
	Name    string // name or tag of the entity; may be empty when that is what is missing
	Field   string // as in the site file, such as scaling.raw
	Value   string // as given; empty when there is none
	Message string // what is wrong and what to do
	Line    int    // in the document that it came from; 0 when not known
}

func (e *FieldError) Error() string {
	s := string(e.Kind)
	if e.Name != "" {
		s += " " + e.Name
	}
	if e.Field != "" {
		s += ": " + e.Field
	}
	return s + ": " + e.Message
}

// Errors is every fault found, in the order found; it is not empty when used as an error.
type Errors []*FieldError

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, f := range e {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// The limits of what a person types.
const (
	MaxName        = 100
	MaxTag         = 200
	MaxDescription = 500
	MaxUnitText    = 20
	MinPulse       = 20 * time.Millisecond
	MaxPulse       = time.Minute
	MinPoll        = 20 * time.Millisecond
	MaxPoll        = 24 * time.Hour
	MaxParallel    = 16 // connections, and requests in flight on each
	MaxPollGroups  = 20
)

// faults collects the errors of one entity.
type faults struct {
	entity Entity
	list   Errors
}

func (f *faults) add(field string, value any, format string, args ...any) {
	f.list = append(f.list, &FieldError{Kind: f.entity.Kind(), Name: f.entity.Key(), Field: field, Value: fmt.Sprint(value), Message: fmt.Sprintf(format, args...)})
}

func choose[T ~string](f *faults, field string, value T, allowed ...T) {
	if !slices.Contains(allowed, value) {
		names := make([]string, len(allowed))
		for i, a := range allowed {
			names[i] = string(a)
		}
		f.add(field, value, "%q is not known; choose %s", value, strings.Join(names, ", "))
	}
}

func (f *faults) span(field string, d Duration, lo, hi time.Duration) {
	if time.Duration(d) < lo || time.Duration(d) > hi {
		f.add(field, d, "%s is out of range: %s to %s", d, Duration(lo), Duration(hi))
	}
}

func (f *faults) count(field string, n, lo, hi int) {
	if n < lo || n > hi {
		f.add(field, n, "%d is out of range: %d to %d", n, lo, hi)
	}
}

func (f *faults) text(field, s string, limit int) {
	if n := utf8.RuneCountInString(s); n > limit {
		f.add(field, s[:20]+"…", "has %d characters; at most %d are allowed", n, limit)
	}
	if i := strings.IndexFunc(s, unicode.IsControl); i >= 0 {
		f.add(field, s, "has a control character at byte %d; remove it", i+1)
	}
}

func (f *faults) name(field, s string, limit int, separators string) {
	switch {
	case s == "":
		f.add(field, s, "is missing")
		return
	case utf8.RuneCountInString(s) > limit:
		f.add(field, s[:20]+"…", "has %d characters; at most %d are allowed", utf8.RuneCountInString(s), limit)
	}
	for _, r := range s {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-_."+separators, r) {
			f.add(field, s, "%q has %q in it; use letters, digits, - _ . %s", s, r, separators)
			return
		}
	}
	if separators != "" && (strings.HasPrefix(s, "/") || strings.HasSuffix(s, "/") || strings.Contains(s, "//")) {
		f.add(field, s, "%q has an empty part; put / only between parts", s)
	}
	if s == "." || s == ".." {
		f.add(field, s, "%q is no name", s)
	}
}

func (l Link) validate(f *faults) {
	f.name("name", l.Name, MaxName, "")
	f.text("description", l.Description, MaxDescription)
	choose(f, "protocol", l.Protocol, Protocols()...)
	choose(f, "transport", l.Transport, Transports[:]...)
	if l.Protocol.Known() {
		l.Protocol.rules().link(l, f)
	}
	if l.Transport.UsesSerialPort() {
		l.validateLine(f)
	} else {
		l.validateNetwork(f)
	}
	l.validateModem(f)
	f.count("connections", l.Connections, 1, MaxParallel)
	f.count("in_flight", l.InFlight, 1, MaxParallel)
	if l.Connections > 1 && l.Transport.UsesSerialPort() {
		f.add("connections", l.Connections, "a port carries one conversation at a time; use 1")
	}
	f.span("timeout", l.Timeout, 10*time.Millisecond, time.Minute)
	f.count("retries", l.Retries, 0, 10)
	f.span("retry_delay", l.RetryDelay, 0, time.Minute)
	f.span("pause", l.Pause, 0, 10*time.Second)
}

// validateNetwork checks what a link over a network needs.
func (l Link) validateNetwork(f *faults) {
	switch {
	case l.Listen != "": // checked with its protocol
	case l.Host == "":
		f.add("host", "", "is missing; give the host name or IP address of the device or gateway")
	case len(l.Host) > 253 || strings.ContainsAny(l.Host, " \t\r\n/@?#") || strings.Contains(l.Host, ":") && !isIP(l.Host):
		f.add("host", l.Host, "%q is no host name or IP address; the port goes into its own field", l.Host)
	}
	if l.Listen == "" {
		f.count("port", l.Port, 1, 65535)
	}
	if l.Bind != "" && !isIP(l.Bind) && (len(l.Bind) > 15 || strings.ContainsAny(l.Bind, " /:") || strings.Trim(l.Bind, "0123456789.") == "") {
		f.add("bind", l.Bind, "%q is no IP address and no name of a network interface of this machine", l.Bind)
	}
	if l.Serial != nil {
		f.add("serial", "", "line settings belong to a serial link; this one is %s", l.Transport)
	}
	if l.TLS != nil && l.Transport != TLS {
		f.add("tls", "", "belongs to a tls link; this one is %s", l.Transport)
	}
	if l.TLS != nil && (l.TLS.Certificate == "") != (l.TLS.Key == "") {
		f.add("tls.key", l.TLS.Key, "a client certificate and its key are given together")
	}
}

// validateLine checks what a serial link needs.
func (l Link) validateLine(f *faults) {
	if l.Host != "" || l.Port != 0 || l.Bind != "" {
		f.add("host", l.Host, "host, port and bind belong to links over a network; this one is %s", l.Transport)
	}
	if l.Framing == MBAP {
		f.add("framing", l.Framing, "mbap is for networks; on a serial line use rtu or ascii")
	}
	s := l.Serial
	if s == nil {
		f.add("serial", "", "is missing; give the port, such as serial: {device: /dev/ttyUSB0, baud: 9600, parity: even}")
		return
	}
	if s.Device == "" && l.Enabled { // a copy waits for its port, disabled
		f.add("serial.device", "", "is missing; give the name of the port, such as /dev/ttyUSB0 or COM3; arithmon ports lists them")
	}
	f.text("serial.device", s.Device, MaxName)
	f.count("serial.baud", s.Baud, 300, 4000000)
	f.count("serial.data_bits", s.DataBits, 7, 8)
	f.count("serial.stop_bits", s.StopBits, 1, 2)
	choose(f, "serial.parity", s.Parity, "none", "even", "odd")
	choose(f, "serial.rts", s.RTS, RTSOff, RTSOn, RTSToggle)
	f.span("serial.rts_before", s.Before, 0, time.Second)
	f.span("serial.rts_after", s.After, 0, time.Second)
	if l.Framing == RTU && s.DataBits == 7 {
		f.add("serial.data_bits", 7, "rtu needs 8 data bits (MODBUS over Serial Line V1.02, 2.5.1); 7 are for ascii")
	}
}

// validateModem checks what a dial-up link needs.
func (l Link) validateModem(f *faults) {
	if l.Transport != Dialup {
		if l.Modem != nil {
			f.add("modem", "", "belongs to a dialup link; this one is %s", l.Transport)
		}
		return
	}
	m := l.Modem.WithDefaults()
	f.text("modem.init", m.Init, MaxName)
	f.text("modem.dial", m.Dial, MaxName)
	for command := range strings.SplitSeq(m.Init+";"+m.Dial, ";") {
		if !strings.HasPrefix(strings.ToUpper(strings.TrimSpace(command)), "AT") {
			f.add("modem.init", command, "%q is no modem command; they begin with AT (ITU-T V.250, 5.2.1)", command)
		}
	}
	f.span("modem.connect", m.Connect, time.Second, 3*time.Minute)
	f.span("modem.idle", m.Idle, time.Second, time.Hour)
	f.span("modem.redial", m.Redial, time.Second, time.Hour)
	f.span("modem.guard", m.Guard, 100*time.Millisecond, 5*time.Second)
}

func isIP(s string) bool {
	_, err := netip.ParseAddr(s)
	return err == nil
}

func (s Station) validate(f *faults) {
	f.name("name", s.Name, MaxName, "")
	f.text("description", s.Description, MaxDescription)
	choose(f, "charset", cmp.Or(s.Charset, Latin1), Latin1, UTF8)
	f.span("after_connect", s.AfterConnect, 0, 30*time.Second)
	s.Record.validate(f, "record")
	f.span("liveness", cmp.Or(s.Liveness, Duration(DefaultLiveness)), time.Second, MaxPoll)
	s.ModbusStation.validate(f) // its values are sound, whatever the station speaks
	s.Speaks().rules().station(s, f)
}

// Check says what is wrong with p by itself; nothing when it is sound.
func (p Point) Check() Errors {
	f := &faults{entity: p}
	p.validate(f)
	return f.list
}

// MaxRange is how far from zero the ends of a point's range are at most.
const MaxRange = 1e300

func (p Point) validate(f *faults) {
	f.name("tag", p.Tag, MaxTag, "/")
	f.text("description", p.Description, MaxDescription)
	f.text("unit", p.Unit, MaxUnitText)
	p.validateRange(f)
	p.Record.validate(f, "record")
	if p.Decimals != nil {
		f.count("decimals", *p.Decimals, 0, 12)
	}
	if p.Poll != 0 {
		f.span("poll", p.Poll, MinPoll, MaxPoll)
	}
	if p.Order != "" {
		choose(f, "order", p.Order, codec.Orders[:]...)
	}
	known := slices.Contains(codec.Types[:], p.Type)
	if !known && p.Type != "" {
		choose(f, "type", p.Type, codec.Types[:]...)
	}
	if p.Address.Space == "" {
		f.add("address", "", "is missing; give one such as hr:9 or 40010")
	} else if known {
		if protocol := p.Address.Space.Protocol(); protocol.Known() {
			protocol.rules().point(p, f)
		}
	}
	if known {
		p.validateMeaning(f)
	}
}

// MaxWriteRegisters is the most registers of one write request (MODBUS Application Protocol V1.1b3, 6.12).
const MaxWriteRegisters = 123

// validateMeaning checks length, scaling, states and inversion against the type.
func (p Point) validateMeaning(f *faults) {
	switch {
	case p.Address.Space == OctetStrings && p.Length == 0: // it says its length itself
	case p.Type == codec.TypeString && (p.Length < 1 || p.Length > codec.MaxStringLength):
		f.add("length", p.Length, "a string needs its length in characters, 1 to %d", codec.MaxStringLength)
	case p.Type == codec.TypeString && p.Writable && p.Address.Space.Registers() && p.Layout(Station{}).Words() > MaxWriteRegisters:
		f.add("length", p.Length, "%d characters are %d registers, and one request writes at most %d (function 16): at most %d characters, or make the point read-only",
			p.Length, p.Layout(Station{}).Words(), MaxWriteRegisters, 2*MaxWriteRegisters)
	case p.Type == codec.TypeBits && !slices.Contains([]int{0, 16, 32, 64}, p.Length):
		f.add("length", p.Length, "%d: a bit field has 16, 32 or 64 bits", p.Length)
	case p.Length != 0 && p.Type != codec.TypeString && p.Type != codec.TypeBits:
		f.add("length", p.Length, "only string and bits have a length; %s has its own", p.Type)
	default:
		if end := int(p.Address.Offset) + p.Layout(Station{}).Words(); p.Address.Space.Registers() && end > 0x10000 {
			f.add("address", p.Address, "%s: a %s of %d registers from there ends beyond 65535", p.Address, p.Type, p.Layout(Station{}).Words())
		}
	}
	if p.Charset != "" {
		if choose(f, "charset", p.Charset, Latin1, UTF8); p.Type != codec.TypeString {
			f.add("charset", p.Charset, "only a string has a character set; this is %s", p.Type)
		}
	}
	scalable := p.Type != codec.TypeBool && p.Type != codec.TypeString && p.Type != codec.TypeBits
	if !p.Scaling.IsZero() && !scalable {
		f.add("scaling", "", "a %s has no scaling; remove it", p.Type)
	}
	compiled, err := p.Scaling.Compile()
	if err != nil {
		for _, fault := range unjoin(err) {
			var field *scaling.FieldError
			if errors.As(fault, &field) {
				f.add(strings.TrimSuffix("scaling."+field.Field, "."), "", "%s", field.Message)
			}
		}
	} else if p.Writable && !compiled.Invertible() {
		f.add("scaling", "", "%s; make the table rise or fall throughout, or the point read-only", scaling.ErrNoInverse)
	}
	if p.Invert && p.Type != codec.TypeBool {
		f.add("invert", true, "only a bool can be inverted; this is %s", p.Type)
	}
	p.validateStates(f, compiled)
	p.validateInvalid(f)
	p.validateLimits(f)
}

// validateRange checks what a value is said to be able to be.
func (p Point) validateRange(f *faults) {
	r := p.Range
	switch {
	case r == nil:
	case p.Type == codec.TypeBool || p.Type == codec.TypeString || p.Type == codec.TypeBits:
		f.add("range", "", "a %s has no range; remove it", p.Type)
	case !(math.Abs(r[0]) <= MaxRange && math.Abs(r[1]) <= MaxRange):
		f.add("range", fmt.Sprintf("[%g, %g]", r[0], r[1]), "the ends are numbers within ±%g", MaxRange)
	case r[0] >= r[1]:
		f.add("range", fmt.Sprintf("[%g, %g]", r[0], r[1]), "the lower end comes first: range: [0, 2.8]")
	}
}

func (p Point) validateStates(f *faults, compiled scaling.Func) {
	if len(p.States) == 0 {
		return
	}
	if len(p.States) > MaxStates {
		f.add("states", len(p.States), "%d names; at most %d are allowed", len(p.States), MaxStates)
		return
	}
	last := int64(-1) // no limit
	switch p.Type {
	case codec.TypeString, codec.TypeFloat32, codec.TypeFloat64:
		f.add("states", "", "names are for whole numbers and bits, not for %s", p.Type)
		return
	case codec.TypeBool:
		last = 1
	case codec.TypeBits:
		last = int64(16*p.Layout(Station{}).Words()) - 1
	}
	if !compiled.IsZero() {
		f.add("states", "", "a point has names for its values or a scaling, not both")
	}
	seen := make(map[string]int64, len(p.States))
	for _, n := range p.States.numbers() {
		name := p.States[n]
		if last >= 0 && (n < 0 || n > last) {
			f.add("states", n, "%d: a %s has only 0 to %d", n, p.Type, last)
		}
		if strings.TrimSpace(name) == "" {
			f.add("states", n, "the name of %d is empty", n)
		}
		f.text("states", name, MaxName)
		key := strings.ToLower(name)
		if first, twice := seen[key]; twice {
			f.add("states", name, "%q names both %d and %d", name, first, n)
		}
		seen[key] = n
	}
}

func unjoin(err error) []error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		return joined.Unwrap()
	}
	return []error{err}
}

// CheckTag says why a text cannot be a tag; "" when it can.
func CheckTag(tag string) string {
	f := faults{entity: Point{Tag: tag}}
	if f.name("tag", tag, MaxTag, "/"); len(f.list) > 0 {
		return f.list[0].Message
	}
	return ""
}
