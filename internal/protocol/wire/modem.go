package wire

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// What a modem is doing, and how a call ended.
const (
	Initialising = "initialising"
	OnHook       = "on hook"
	Dialling     = "dialling"
	Connected    = "connected"
	HangingUp    = "hanging up"
	Busy         = "busy"
	NoCarrier    = "no carrier"
	NoAnswer     = "no answer"
	NoDialtone   = "no dialtone"
)

// commandTime is how long a modem may take to answer a command other than dialling.
const commandTime = 3 * time.Second

// Modem is a modem on a serial port, driven by the commands of ITU-T V.250. It is used by one goroutine at a time, but
// for Interrupt.
type Modem struct {
	port     net.Conn
	device   string
	settings site.Modem
	doing    func(string)
	held     []byte // received and not yet used
	heard    bool   // something since the last command
	gone     error
	cut      atomic.Bool
	carrier  bool
	dropped  bool // the last call ended by itself
}

// OpenModem opens the port and initialises the modem. doing is told what it does.
func OpenModem(ctx context.Context, link site.Link, doing func(string)) (*Modem, error) {
	port, err := Open(ctx, link)
	if err != nil {
		return nil, err
	}
	m := &Modem{port: port, device: link.Serial.Device, settings: link.Modem.WithDefaults(), doing: doing}
	doing(Initialising)
	for command := range strings.SplitSeq(m.settings.Init, ";") {
		answer, err := m.command(ctx, strings.TrimSpace(command), commandTime)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			// A call of before may still be up, so that the modem takes what it gets for data.
			if answer, err = "", m.escape(); err == nil {
				answer, err = m.command(ctx, strings.TrimSpace(command), commandTime)
			}
		}
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			err = &OpenError{Kind: failure.Modem, Err: fmt.Errorf("no modem answers on %s to %s within %s; check the cable, the port and its baud", m.device, command, commandTime)}
		case err == nil && answer != "OK":
			err = fmt.Errorf("the modem on %s answers %q to %s; change modem.init", m.device, answer, command)
		}
		if err != nil {
			port.Close()
			doing("")
			return nil, err
		}
	}
	doing(OnHook)
	return m, nil
}

// results are the final answers of a modem (V.250, table 1), with what they mean of a call.
var results = map[string]string{
	"OK": "", "ERROR": "", "NO CARRIER": NoCarrier, "BUSY": Busy, "NO ANSWER": NoAnswer, "NO DIALTONE": NoDialtone, "NO DIAL TONE": NoDialtone,
}

// failed are the ends of calls that did not come about.
var failed = map[string]failure.Kind{NoCarrier: failure.NoCarrier, Busy: failure.Busy, NoAnswer: failure.NoAnswer, NoDialtone: failure.NoDialtone}

// command sends a command and returns the modem's final answer to it.
func (m *Modem) command(ctx context.Context, text string, limit time.Duration) (string, error) {
	m.held, m.heard = nil, false
	if err := m.write(text + "\r"); err != nil {
		return "", err
	}
	return m.answer(ctx, time.Now().Add(limit))
}

// answer reads the modem's next final answer.
func (m *Modem) answer(ctx context.Context, deadline time.Time) (string, error) {
	for {
		line, err := m.line(ctx, deadline)
		if err != nil {
			return "", err
		}
		if _, final := results[line]; final || strings.HasPrefix(line, "CONNECT") {
			return line, nil
		}
		// What else comes is the echo of the command, or tells of something between.
	}
}

func (m *Modem) write(text string) error {
	m.port.SetWriteDeadline(time.Now().Add(commandTime)) // an error shows in what is written
	if _, err := m.port.Write([]byte(text)); err != nil {
		return m.lost(err)
	}
	return nil
}

func (m *Modem) lost(err error) error {
	if !errors.Is(err, os.ErrDeadlineExceeded) {
		m.gone = err
	}
	return err
}

// pollTime is how soon an interruption shows.
const pollTime = 200 * time.Millisecond

// line reads the next line that is not empty.
func (m *Modem) line(ctx context.Context, deadline time.Time) (string, error) {
	for {
		if end := bytes.IndexAny(m.held, "\r\n"); end >= 0 {
			line := strings.TrimSpace(string(m.held[:end]))
			m.held = m.held[end+1:]
			if line != "" {
				return line, nil
			}
			continue
		}
		if len(m.held) > 1000 {
			m.held = nil // no modem says so much in a line
		}
		now := time.Now()
		switch {
		case ctx.Err() != nil:
			return "", ctx.Err()
		case m.cut.Load():
			return "", errors.New("the link was stopped")
		case !now.Before(deadline):
			return "", os.ErrDeadlineExceeded
		}
		until := now.Add(pollTime)
		if until.After(deadline) {
			until = deadline
		}
		if err := m.port.SetReadDeadline(until); err != nil {
			return "", m.lost(err)
		}
		b := make([]byte, 64)
		n, err := m.port.Read(b)
		m.held, m.heard = append(m.held, b[:n]...), m.heard || n > 0
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return "", m.lost(err)
		}
	}
}

// Dial calls a number and returns the connection to what answers there. It holds until HangUp or until the carrier is
// lost, which ends reads with io.EOF.
func (m *Modem) Dial(number string) (net.Conn, error) {
	m.doing(Dialling)
	late := m.dropped // answers to what went before may come still
	if m.dropped {
		// What was sent after the carrier was lost went to the modem as the start of a command; this ends it.
		m.command(context.Background(), "\rAT", commandTime/3)
		m.settle()
		m.dropped = false
	}
	limit := time.Duration(m.settings.Connect)
	answer, err := m.command(context.Background(), m.settings.Dial+number, limit)
	// OK is no answer to it either, unless the number ends in a semicolon: it comes late, where this machine or the modem took its time.
	for until := time.Now().Add(limit); err == nil && (answer == "OK" || late && answer == "ERROR"); {
		next, more := m.answer(context.Background(), until)
		if errors.Is(more, os.ErrDeadlineExceeded) {
			break // it was the answer after all
		}
		answer, err = next, more
	}
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		m.write("\r") // any character ends the attempt (V.250, 5.6.1)
		m.settle()
		if !m.heard {
			_ = m.escape() // a call of before may still be up, so that the modem takes all of this for data
		}
		m.doing(NoAnswer)
		return nil, &OpenError{Kind: failure.NoAnswer, Err: fmt.Errorf("calling %s: no connection within %s", number, limit)}
	case err != nil:
		m.doing("")
		return nil, err
	case !strings.HasPrefix(answer, "CONNECT"):
		ended := results[answer]
		m.doing(ended)
		kind := failed[ended]
		if ended == "" {
			ended, kind = "the modem answers "+answer+"; check modem.dial and the number", failure.Undialled
		}
		return nil, &OpenError{Kind: kind, Err: fmt.Errorf("calling %s: %s", number, ended)}
	}
	m.endLine()
	m.carrier = true
	m.doing(Connected)
	return &carrier{Conn: m.port, modem: m, before: m.held}, nil
}

// endLine takes the line feed off that follows the carriage return of a response (V.250, 5.7.1), so that the data begin after
// it.
func (m *Modem) endLine() {
	if len(m.held) == 0 && m.port.SetReadDeadline(time.Now().Add(pollTime)) == nil {
		b := make([]byte, 64)
		n, _ := m.port.Read(b) // an error shows when the call is used
		m.held = b[:n]
	}
	m.held = bytes.TrimPrefix(m.held, []byte("\n"))
}

// settle drops what the modem still says.
func (m *Modem) settle() {
	m.line(context.Background(), time.Now().Add(commandTime/6)) // whatever it is, or nothing
	m.held = nil
}

// HangUp ends the call: by the line DTR where the port has it, otherwise by the escape sequence.
func (m *Modem) HangUp() error {
	if !m.carrier {
		return nil
	}
	m.carrier = false
	m.doing(HangingUp)
	if dtr, ok := m.port.(interface{ SetDTR(bool) error }); ok && dtr.SetDTR(false) == nil {
		time.Sleep(500 * time.Millisecond)
		if dtr.SetDTR(true) == nil {
			if answer, err := m.command(context.Background(), "AT", commandTime/3); err == nil && answer == "OK" {
				m.doing(OnHook)
				return nil
			}
		}
	}
	err := m.escape()
	if err == nil {
		m.doing(OnHook)
	}
	return err
}

// escapes is how often it is tried, with more silence each time: a machine that is busy does not keep its times.
const escapes = 3

// escape brings the modem from data to commands, and hangs up.
func (m *Modem) escape() (err error) {
	for i := range escapes {
		if err = m.escapeOnce(time.Duration(i+1)*time.Duration(m.settings.Guard), i+1 == escapes); !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
	}
	return err
}

// escapeOnce tries it with so much silence around the escape sequence. A modem says OK to that (V.250); to one that says nothing, a command is worth its
// time the last time alone.
func (m *Modem) escapeOnce(guard time.Duration, last bool) error {
	time.Sleep(guard)
	m.held, m.heard = nil, false
	if err := m.write("+++"); err != nil {
		return err
	}
	time.Sleep(guard)
	m.settle()
	if !m.heard && !last {
		return fmt.Errorf("the modem on %s does not take the escape sequence: %w", m.device, os.ErrDeadlineExceeded)
	}
	if _, err := m.command(context.Background(), "ATH", commandTime); err != nil {
		return fmt.Errorf("the modem on %s does not hang up: %w", m.device, err)
	}
	return nil
}

// Dropped notes that the call ended by itself, and reports whether the port is gone.
func (m *Modem) Dropped() bool {
	if m.gone == nil {
		m.doing(NoCarrier)
		m.carrier, m.dropped = false, true
	}
	return m.Gone()
}

// Gone reports whether the port is.
func (m *Modem) Gone() bool { return m.gone != nil }

// Interrupt ends waiting for the modem, from any goroutine.
func (m *Modem) Interrupt() { m.cut.Store(true) }

// Close closes the port.
func (m *Modem) Close() {
	m.doing("")
	m.port.Close()
}

// carrier is the data of a call.
type carrier struct {
	net.Conn
	modem  *Modem
	before []byte // came with the connection
	tail   []byte // of what was read
}

var lostCarrier = []byte("\r\nNO CARRIER\r")

// Read gives the data of the call. When the modem says that the carrier is lost, it is the end.
func (c *carrier) Read(b []byte) (int, error) {
	if c.modem.cut.Load() {
		return 0, io.EOF
	}
	if len(c.before) > 0 {
		n := copy(b, c.before)
		c.before = c.before[n:]
		return n, nil
	}
	if bytes.Contains(c.tail, lostCarrier) {
		return 0, io.EOF
	}
	n, err := c.Conn.Read(b)
	if err != nil {
		return n, c.modem.lost(err)
	}
	if c.tail = append(c.tail, b[:n]...); bytes.Contains(c.tail, lostCarrier) {
		return 0, io.EOF
	}
	if keep := len(lostCarrier) - 1; len(c.tail) > keep {
		c.tail = append(c.tail[:0], c.tail[len(c.tail)-keep:]...)
	}
	return n, nil
}

// ReadNow reads what has come in already.
func (c *carrier) ReadNow(b []byte) int {
	if p, ok := c.Conn.(interface{ ReadNow([]byte) int }); ok {
		n := p.ReadNow(b)
		if bytes.Contains(b[:n], lostCarrier) {
			c.tail = append(c.tail[:0], lostCarrier...) // the next read finds it
		}
		return n
	}
	return 0
}

// Close does not close the port, which outlives the call.
func (c *carrier) Close() error { return nil }
