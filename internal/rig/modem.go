package rig

import (
	"context"
	"io"
	"strings"
	"sync"
	"time"

	"arithmon/internal/protocol/modbus"
)

// guard is the silence around +++ that brings the modem from data to commands (ITU-T V.250 leaves it to S12; its usual
// value is one second).
const guard = 800 * time.Millisecond

// ringing is how long a number rings that nobody answers.
const ringing = 2 * time.Second

// modem is a simulated modem on a serial line. It understands the commands of V.250 that a client needs.
type modem struct {
	rig  *Rig
	line *line
	port io.ReadWriter

	writing sync.Mutex
	quiet   bool // Q1: no result codes
	echo    bool
	call    *call
}

// call is a connection to the stations of one number.
type call struct {
	modem  *modem
	in     *io.PipeReader // what the client sends, for the stations
	out    *io.PipeWriter
	done   chan struct{}
	online bool // data, not commands
}

// Read is for the stations.
func (c *call) Read(b []byte) (int, error) { return c.in.Read(b) }

// Write is for the stations.
func (c *call) Write(b []byte) (int, error) { return c.modem.Write(b) }

func (m *modem) Write(b []byte) (int, error) {
	m.writing.Lock()
	defer m.writing.Unlock()
	return m.port.Write(b)
}

// chunk is what was read at once, and how long it was quiet before.
type chunk struct {
	data  []byte
	quiet time.Duration
}

// run answers until the port is closed.
func (m *modem) run(ctx context.Context) {
	m.echo = true
	defer m.hangUp()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	chunks := make(chan chunk)
	go func() { // ends with the port
		defer close(chunks)
		last := time.Now()
		b := make([]byte, 256)
		for {
			n, err := m.port.Read(b)
			if err != nil {
				return
			}
			c := chunk{append([]byte(nil), b[:n]...), time.Since(last)}
			last = time.Now()
			select {
			case chunks <- c:
			case <-ctx.Done():
				return
			}
		}
	}()
	var command []byte
	var escape <-chan time.Time // fires when +++ was followed by silence
	for {
		select {
		case <-escape:
			escape = nil
			m.call.online = false
			m.say("OK")
		case c, open := <-chunks:
			if !open {
				return
			}
			escape = nil
			if m.call != nil && m.call.online {
				if string(c.data) == "+++" && c.quiet >= guard {
					escape = time.After(guard)
					continue
				}
				if m.ended() {
					m.hangUp()
					m.say("NO CARRIER")
				} else {
					m.call.out.Write(c.data) // a call that is over drops it
				}
				continue
			}
			if m.echo {
				m.Write(c.data)
			}
			command = append(command, c.data...)
			for end := strings.IndexByte(string(command), '\r'); end >= 0; end = strings.IndexByte(string(command), '\r') {
				line := strings.ToUpper(strings.TrimSpace(string(command[:end])))
				command = command[end+1:]
				m.obey(ctx, line)
			}
		}
	}
}

func (m *modem) say(result string) {
	if !m.quiet {
		io.WriteString(m, "\r\n"+result+"\r\n")
	}
}

// obey does one command line.
func (m *modem) obey(ctx context.Context, line string) {
	body, isCommand := strings.CutPrefix(line, "AT")
	switch {
	case line == "":
	case !isCommand:
		m.say("ERROR")
	case strings.HasPrefix(body, "D"):
		m.dial(ctx, strings.TrimLeft(body[1:], "TP "))
	case strings.HasPrefix(body, "H"):
		m.hangUp()
		m.say("OK")
	case strings.HasPrefix(body, "O") && m.call != nil:
		m.call.online = true
		m.say("CONNECT 9600")
	default:
		if strings.HasPrefix(body, "Z") {
			m.hangUp()
			m.echo, m.quiet = true, false
		}
		m.echo = m.echo && !strings.Contains(body, "E0")
		m.quiet = (m.quiet || strings.Contains(body, "Q1")) && !strings.Contains(body, "Q0")
		m.say("OK")
	}
}

// dial connects to the stations of a number.
func (m *modem) dial(ctx context.Context, number string) {
	m.hangUp()
	fate, known := m.rig.fate(m.line, number)
	wait := time.Duration(m.line.config.Connect)
	switch {
	case !known:
		wait, fate = ringing, "NO ANSWER"
	case fate == "busy":
		wait = wait / 2
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
		return
	}
	if fate != "" && fate != "drop" {
		m.say(strings.ToUpper(strings.ReplaceAll(fate, "_", " ")))
		return
	}
	m.say("CONNECT 9600")
	in, out := io.Pipe()
	c := &call{modem: m, in: in, out: out, done: make(chan struct{}), online: true}
	server := modbus.Server{
		Framing: modbus.Framings[string(m.line.config.Framing)],
		Handle:  func(unit byte, pdu []byte) modbus.Reply { return m.rig.handle(m.line, number, unit, pdu) },
	}
	m.call = c
	go func() {
		defer close(c.done)
		server.ServeConn(ctx, c)
		in.Close()
	}()
}

// ended reports whether the call is to break down now.
func (m *modem) ended() bool {
	for _, s := range m.line.stations {
		f, err := m.rig.Faults(m.line.config.Name, s.config.Unit)
		if err == nil && f.Call == "drop" {
			return true
		}
	}
	return false
}

func (m *modem) hangUp() {
	if m.call == nil {
		return
	}
	m.call.out.Close()
	<-m.call.done
	m.call = nil
}

// fate is how a call to a number ends, "" when it comes about; known is false when nobody has that number.
func (r *Rig) fate(l *line, number string) (fate string, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range l.stations {
		if s.config.Number == number {
			known = true
			if s.faults.Call != "" {
				fate = s.faults.Call
			}
		}
	}
	return fate, known
}
