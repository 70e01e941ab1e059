// Package probe asks a device what it is, stage by stage, and looks for devices on a line. It opens its own connection, so
// whoever calls it makes sure that nothing else uses the line meanwhile.
package probe

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
	"arithmon/internal/protocol/wire"
)

// Stage is one step of a probe.
type Stage struct {
	Name   string
	OK     bool
	Text   string // what was found, or why it stops here and what to try
	TookMS float64
	Points []Held // what an outstation has, with the stage points
	Says   string // what the device said of itself, with the stages identification and attributes; "" for nothing
}

// stage is how one is found out.
type stage struct {
	name string
	run  func() (string, error)
}

// Target is the device that is probed on a link.
type Target struct {
	Unit   int    // or link address of an outstation
	Master int    // link address of this end, DNP3 only
	Number string // telephone number, on a dial-up line
}

// prober is a probe under way.
type prober struct {
	says   string // of the stage that runs: what the device says of itself
	ctx    context.Context
	link   site.Link
	unit   int
	number string
	report func(Stage)

	conn  net.Conn
	modem *wire.Modem
	ask   *modbus.Client
	used  bool         // something was answered on conn
	heard map[int]bool // units that answered

	master int // of an outstation
	far    *far
	found  []Held
	table  site.Space // one that answers
	at     uint16     // where that table answers
	step   uint16     // how many registers it gives at least
}

// Probe runs the stages in order until one fails; report is told of each as it ends.
func Probe(ctx context.Context, link site.Link, to Target, report func(Stage)) {
	p := &prober{ctx: ctx, link: link.WithDefaults(), unit: to.Unit, master: to.Master, number: to.Number, report: report, heard: map[int]bool{}}
	defer p.close()
	stages := []stage{{"name", p.name}, {"route", p.route}, {"connect", p.connect}}
	stages = append(stages, ways[link.Protocol].stages(p)...)
	if p.link.Transport.UsesSerialPort() {
		stages = stages[2:]
	}
	for _, s := range stages {
		began := time.Now()
		text, err := s.run()
		stage := Stage{Name: s.name, OK: err == nil, Text: text, TookMS: float64(time.Since(began).Round(10*time.Microsecond)) / float64(time.Millisecond)}
		if s.name == "points" {
			stage.Points = p.found
		}
		stage.Says, p.says = p.says, ""
		if err != nil {
			stage.Text = err.Error()
		}
		if ctx.Err() != nil {
			return
		}
		report(stage)
		if err != nil {
			return
		}
	}
}

func (p *prober) close() {
	if p.far != nil {
		p.far.channel.Close()
	} else if p.modem != nil {
		p.modem.HangUp() // the port is closed in any case
		p.modem.Close()
	} else if p.conn != nil {
		p.conn.Close()
	}
}

func (p *prober) name() (string, error) {
	if ip := net.ParseIP(p.link.Host); ip != nil {
		return p.link.Host + " is an address; no name to resolve", nil
	}
	ctx, cancel := context.WithTimeout(p.ctx, wire.ConnectTimeout)
	defer cancel()
	addresses, err := net.DefaultResolver.LookupHost(ctx, p.link.Host)
	if err != nil {
		return "", fmt.Errorf("the name %q does not resolve: %w. Check the spelling, or use the IP address", p.link.Host, err)
	}
	return p.link.Host + " is " + strings.Join(addresses, ", "), nil
}

func (p *prober) route() (string, error) {
	conn, err := net.DialTimeout("udp", net.JoinHostPort(p.link.Host, "9"), wire.ConnectTimeout) // sends nothing
	if err != nil {
		return "", fmt.Errorf("this machine has no way to %s: %w. Check its address, network mask and cable", p.link.Host, err)
	}
	defer conn.Close()
	host, _, _ := net.SplitHostPort(conn.LocalAddr().String())
	return "goes out by " + host, nil
}

func (p *prober) connect() (string, error) {
	var err error
	if p.link.Listen != "" {
		return "", fmt.Errorf("stations call in at %s; a probe cannot call them. The station's test asks through the call that is there", p.link.Listen)
	}
	if p.link.Transport == site.Dialup {
		if p.modem, err = wire.OpenModem(p.ctx, p.link, func(string) {}); err == nil {
			p.conn, err = p.modem.Dial(p.number)
		}
	} else {
		p.conn, err = wire.Open(p.ctx, p.link)
	}
	if err != nil {
		return "", err
	}
	ways[p.link.Protocol].open(p)
	switch p.link.Transport {
	case site.TCP, site.TLS:
		return p.link.FarEnd() + " takes the connection", nil
	case site.UDP:
		return "UDP connects to nothing; whether anything is there, the next stage tells", nil
	case site.Dialup:
		return "the call to " + p.number + " is up", nil
	}
	return p.link.FarEnd() + " opens", nil
}

// client speaks on a connection as the link says.
func client(conn net.Conn, link site.Link) *modbus.Client {
	o := modbus.ClientOptions{Framing: modbus.Framings[string(link.Framing)]}
	if link.Serial != nil {
		o.Character, o.Echo = link.Serial.Character(), link.Serial.Echo
	}
	return modbus.NewClient(conn, o)
}

// do makes one exchange, on a serial line after its silence.
func (p *prober) do(unit int, r modbus.Request) ([]byte, error) {
	if p.ctx.Err() != nil {
		return nil, p.ctx.Err()
	}
	if p.link.Serial != nil {
		time.Sleep(modbus.Silence(p.link.Serial.Baud, p.link.Serial.Bits()))
	}
	for {
		data, err := p.ask.Do(byte(unit), r, time.Duration(p.link.Timeout))
		if !errors.Is(err, modbus.ErrClosed) || p.modem != nil {
			p.used = true
			return data, err
		}
		// Some devices close after each response, or after each refusal. That is known once another connection was asked.
		p.conn.Close()
		conn, again := wire.Open(p.ctx, p.link)
		if again != nil {
			return nil, err
		}
		p.conn, p.ask = conn, client(conn, p.link)
		if !p.used {
			return nil, err
		}
		p.used = false
	}
}

// life is the request that most devices answer, be it with a refusal.
var life = modbus.Request{Function: modbus.ReadHoldingRegisters, Quantity: 1, Spare: 8}

// alive reports whether a response, or an error, shows that a unit is there.
func alive(err error) bool {
	var refused modbus.Exception
	if errors.As(err, &refused) {
		return refused != modbus.GatewayPathFailure && refused != modbus.GatewayTargetFailed
	}
	return err == nil
}

func (p *prober) anything() (string, error) {
	var last error
	units := []int{p.unit}
	if !p.link.Transport.UsesSerialPort() {
		for _, u := range []int{1, 255, 0} {
			if u != p.unit {
				units = append(units, u)
			}
		}
	}
	for _, u := range units {
		_, err := p.do(u, life)
		var wrong *modbus.WrongUnitError
		var refused modbus.Exception
		switch {
		case alive(err):
			p.heard[u] = true
			return fmt.Sprintf("unit %d speaks Modbus", u), nil
		case errors.As(err, &wrong):
			p.heard[int(wrong.Answered)] = true
			return fmt.Sprintf("asked unit %d, and unit %d answered", u, wrong.Answered), nil
		case errors.As(err, &refused):
			return fmt.Sprintf("a gateway answers: %s", refused), nil
		}
		last = err
	}
	if errors.Is(last, modbus.ErrChecksum) {
		return "", fmt.Errorf("bytes come back, and their checksum is wrong (%w). Compare the line settings, or let them be found with a scan", last)
	}
	if errors.Is(last, modbus.ErrClosed) && !p.link.Transport.UsesSerialPort() {
		return "", fmt.Errorf("the far end takes the connection and closes it when it is asked (%w). It may bear no further connection beside those it has, or none from this address, or speak another protocol or framing on this port", last)
	}
	if p.link.Transport.UsesSerialPort() {
		return "", fmt.Errorf("nothing comes back (%w). Check wiring, power, unit and line settings; a scan looks for units and settings", last)
	}
	return "", fmt.Errorf("the connection is there, and no Modbus response (%w). Is Modbus switched on, and is this its port? A gateway may need framing rtu", last)
}

func (p *prober) this() (string, error) {
	_, err := p.do(p.unit, life)
	if alive(err) {
		p.heard[p.unit] = true
		if err != nil {
			return fmt.Sprintf("unit %d is there: it refuses hr:0 with %s", p.unit, err), nil
		}
		return fmt.Sprintf("unit %d answers", p.unit), nil
	}
	for u := range p.heard {
		return "", fmt.Errorf("unit %d does not answer (%w), but unit %d does; use that, or let the units be found with a scan", p.unit, err, u)
	}
	return "", fmt.Errorf("unit %d does not answer: %w", p.unit, err)
}

func (p *prober) identify() (string, error) {
	var said []string
	if objects := p.objects(); len(objects) > 0 {
		said = append(said, "functions 43/14: "+strings.Join(objects, ", "))
	}
	if data, err := p.do(p.unit, modbus.Request{Function: modbus.ReportServerID}); err == nil {
		said = append(said, fmt.Sprintf("function 17: %s", printable(data)))
	}
	if _, err := p.do(p.unit, modbus.Request{Function: modbus.Diagnostics, Words: []uint16{0xA537}}); err == nil {
		said = append(said, "function 8 echoes")
	}
	if said == nil {
		return "it does not say what it is: functions 43/14, 17 and 8 are refused, as by most devices", nil
	}
	p.says = strings.Join(said, "; ")
	return p.says, nil
}

// objects are what the device says of itself by functions 43/14.
func (p *prober) objects() (list []string) {
	from := byte(0)
	for range 10 {
		data, err := p.do(p.unit, modbus.Request{Function: modbus.EncapsulatedInterface, Level: 1, Object: from})
		if err != nil {
			return list
		}
		objects, next, more, err := modbus.ParseIdentification(data)
		if err != nil {
			return list
		}
		for id := from; ; id++ {
			if text, ok := objects[id]; ok && text != "" {
				list = append(list, fmt.Sprintf("%s %s", modbus.ObjectName(id), printable([]byte(text))))
			}
			if id == 255 {
				break
			}
		}
		if !more {
			return list
		}
		from = next
	}
	return list
}

// printable shows text as text, and other bytes in hex.
func printable(b []byte) string {
	text := strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7E {
			return -1
		}
		return r
	}, string(b))
	if len(text)*2 < len(b) {
		return fmt.Sprintf("% X", b)
	}
	return fmt.Sprintf("%q", text)
}

var readers = []struct {
	space    site.Space
	function modbus.Function
}{{site.HoldingRegisters, modbus.ReadHoldingRegisters}, {site.InputRegisters, modbus.ReadInputRegisters}, {site.Coils, modbus.ReadCoils}, {site.DiscreteInputs, modbus.ReadDiscreteInputs}}

func (p *prober) tables() (string, error) {
	var said []string
	for _, r := range readers {
		at, step, text := p.present(r.space, r.function)
		if at >= 0 && p.table == "" && r.space.Registers() {
			p.table, p.at, p.step = r.space, uint16(at), step
		}
		said = append(said, string(r.space)+" "+text)
	}
	return strings.Join(said, "; "), nil
}

// present looks for a table at a few addresses: where it answers, -1 when nowhere, how many addresses it gives at least, and
// that in words.
func (p *prober) present(space site.Space, function modbus.Function) (at int, step uint16, text string) {
	text = "no response"
	quantities := []uint16{1}
	if space.Registers() {
		quantities = []uint16{1, 2} // some devices refuse half of a value
	}
	for _, at := range []uint16{0, 1, 100, 1000} {
		for _, n := range quantities {
			_, err := p.do(p.unit, modbus.Request{Function: function, Address: at, Quantity: n})
			var refused modbus.Exception
			switch {
			case err == nil && n > 1:
				return int(at), n, fmt.Sprintf("answers at %d, and refuses single ones", at)
			case err == nil:
				return int(at), n, fmt.Sprintf("answers at %d", at)
			case !errors.As(err, &refused):
				return -1, 1, text
			case refused == modbus.IllegalFunction:
				return -1, 1, "not there"
			}
			text = "there, but not at 0, 1, 100 or 1000"
		}
	}
	return -1, 1, text
}

// limits finds out how much the device gives at once and, last, since a gateway may be busy with it for a while, whether it looks at
// the unit.
func (p *prober) limits() (string, error) {
	text := p.largest()
	if other := p.stranger(); other >= 0 {
		text += fmt.Sprintf("; unit %d, which is hardly there, answers as well: the device does not look at the unit", other)
	}
	return text, nil
}

// stranger is a unit that is hardly there and answers nevertheless, -1 when none does. On a line of several devices nobody is asked.
func (p *prober) stranger() int {
	if p.link.Transport.UsesSerialPort() || p.link.Framing != site.MBAP {
		return -1
	}
	other := strangeUnit
	if p.unit == other {
		other--
	}
	if _, err := p.do(other, life); err != nil {
		return -1
	}
	return other
}

// strangeUnit is a unit that devices seldom have.
const strangeUnit = 239

// mostSilent is how many sizes of a read may stay without a response before smaller ones are not tried.
const mostSilent = 7

// largest says how many registers are read at once.
func (p *prober) largest() string {
	if p.table == "" {
		return "no registers were found at 0, 1, 100 or 1000 to try it on"
	}
	function := readers[0].function
	if p.table == site.InputRegisters {
		function = readers[1].function
	}
	ask := func(n uint16) error {
		_, err := p.do(p.unit, modbus.Request{Function: function, Address: p.at, Quantity: n})
		return err
	}
	place := fmt.Sprintf("%s:%d", p.table, p.at)
	var refusal error
	silent, beyond := 0, uint16(modbus.MaxReadRegisters+1) // the fewest that were refused
	for _, n := range []uint16{125, 120, 100, 64, 60, 50, 32, 20, 16, 10, 8, 4, 2, 1} {
		err := ask(n)
		switch {
		case err == nil && n == modbus.MaxReadRegisters:
			return "125 registers at once, the most there is"
		case err == nil && alive(refusal):
			for n+p.step < beyond { // refusals cost little: the exact number is found
				if middle := n + max(p.step, (beyond-n)/2/p.step*p.step); ask(middle) == nil {
					n = middle
				} else {
					beyond = middle
				}
			}
			if n == 1 {
				return "single registers only"
			}
			return fmt.Sprintf("%d registers at once from %s; more are refused, there or for their number", n, place)
		case err == nil && n == 1:
			return "single registers only"
		case err == nil:
			return fmt.Sprintf("at least %d registers at once from %s; longer reads get no valid response (%s), so the station needs its largest read set", n, place, refusal)
		case !alive(err):
			if silent++; silent > mostSilent {
				return fmt.Sprintf("%d registers at once: %s", n, err)
			}
		}
		refusal, beyond = err, n
	}
	return place + " is not answered any more"
}
