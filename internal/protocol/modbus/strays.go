package modbus

import (
	"bytes"
	"encoding/binary"
	"net"
	"slices"
	"syscall"
	"time"
)

// What comes that is not the response to the request under way: what it is, and who is told.

// leastFrame is fewer bytes than any frame has: what a line gives that changes its direction.
const leastFrame = minRTU

// waited is how soon after a request a response to another is read that had come before.
const waited = 2 * time.Millisecond

// drainTime is enough to read what has come in; a deadline in the past would read nothing.
const drainTime = 200 * time.Microsecond

// settle makes room in the buffer. Without transaction identifiers what came in before a request cannot be its response, so it is
// dropped. With them, the beginning of a frame stays.
func (c *Client) settle() {
	if c.options.Framing == MBAP && !c.options.Datagrams {
		if c.held > c.used {
			c.leftOver()
		}
		c.moved(c.used)
		c.held = copy(c.in, c.in[c.used:c.held])
		c.used = 0
		return
	}
	if c.held > c.used {
		c.stale(c.in[c.used:c.held])
	}
	c.held, c.used, c.stamps = 0, 0, c.stamps[:0]
	for range mostDrained {
		n := c.waiting()
		c.Counters.Got.Add(uint64(n))
		if n == 0 {
			break
		}
		c.stale(c.in[:n])
	}
}

// mostDrained bounds how much is dropped before a request, so that noise without end does not keep it.
const mostDrained = 256

// leftOver counts and tells of what came behind the last response, while it is known whose that was. What may be the beginning of an
// answer to come stays.
func (c *Client) leftOver() {
	for c.held > c.used {
		b := c.in[c.used:c.held]
		frame, n, err := CutMBAP(b)
		if n == 0 && err == nil && len(b) > 1 {
			if kind, _ := c.sent.unexpected(binary.BigEndian.Uint16(b), c.transaction); kind != EventForeign {
				return
			}
		}
		if n == 0 {
			c.Counters.Stray.Add(1)
			c.watch(Event{Kind: EventDamaged, Unit: c.unit, Data: b, Text: "bytes of no frame behind a response"})
			n = len(b)
		} else {
			c.unexpected(frame, b[:n], nil)
		}
		c.used += n
	}
}

// stale counts and tells of bytes that came in before a request.
func (c *Client) stale(b []byte) {
	e := Event{Kind: EventStray, Unit: c.unit, Data: slices.Clone(b), At: time.Now()} // ASCII is decoded in place
	for rest := b; ; {                                                                // it may be several frames; the last one names what was seen
		frame, n, _ := c.options.Framing.Cut(rest, Answers)
		if n == 0 || len(frame.PDU) == 0 {
			break
		}
		if c.options.Framing == MBAP {
			e.Kind, e.Text = c.sent.unexpected(frame.Transaction, c.transaction)
		} else if after, late := c.expected.late(frame, e.At); late {
			e.Kind, e.Unit, e.After = EventLate, frame.Unit, after
		} else if c.expected.second(frame, e.At) {
			e.Text = "a second response to one request"
		}
		rest = rest[n:]
	}
	switch {
	case e.Kind == EventLate, e.Text != "":
	case len(b) < leastFrame:
		e.Kind, e.Text = EventDamaged, "bytes of no frame"
	case c.unsettled:
		e.Kind, e.After = EventLate, c.sent.since(c.transaction, e.At)
	}
	if e.Kind == EventLate {
		c.Counters.Late.Add(1)
	} else {
		c.Counters.Stray.Add(1)
	}
	c.watch(e)
}

// waiting reads what has come in already into the buffer, without waiting for more.
func (c *Client) waiting() (n int) {
	switch conn := c.conn.Conn.(type) {
	case interface{ ReadNow([]byte) int }:
		return conn.ReadNow(c.in)
	case syscall.Conn:
		if control, err := conn.SyscallConn(); err == nil {
			return max(0, readNow(control, c.in))
		}
	case interface{ NetConn() net.Conn }: // TLS: what it holds decrypted, or can decrypt, is read at once
		n, _ = c.conn.read(c.in, time.Now().Add(drainTime))
		return n
	}
	if !c.unsettled {
		return 0
	}
	n, _ = c.conn.read(c.in, time.Now().Add(drainTime))
	return n
}

// collect drops what comes until a moment.
func (c *Client) collect(until time.Time) {
	for echo := 0; time.Now().Before(until) && c.more(until, c.options.Gap, &echo) == nil; {
		for n := 1; n > 0; { // frame by frame; less than one stays until the rest of it is there
			b := slices.Clone(c.in[c.used:c.held]) // ASCII is decoded in place
			if _, n, _ = c.cut(); n > 0 {
				c.used += n
				c.stale(b[:n])
			}
		}
	}
	c.settle()
}

// late counts and tells of a frame that answers a request that timed out; false when this one does not.
func (c *Client) late(f Frame, raw []byte) bool {
	now := time.Now()
	after, late := c.expected.late(f, now)
	if late {
		c.Counters.Late.Add(1)
		c.watch(Event{Kind: EventLate, Unit: f.Unit, Data: raw, At: now, After: after})
	}
	return late
}

// unexpected counts and tells of a response whose identifier is not that of the request under way. It returns what came instead of the
// answer, now.
func (c *Client) unexpected(f Frame, raw []byte, wrong error) error {
	e := Event{Unit: f.Unit, Data: raw, At: time.Now()}
	switch e.Kind, e.Text = c.sent.unexpected(f.Transaction, c.transaction); e.Kind {
	case EventLate:
		c.Counters.Late.Add(1)
		if c.sent.since(c.transaction, e.At) > waited { // otherwise it lay there, who knows since when
			e.After = c.sent.since(f.Transaction, e.At)
		}
	case EventStray:
		c.Counters.Stray.Add(1)
	default:
		c.Counters.Foreign.Add(1)
		wrong = badResponse("a response has the identifier %d, and the request had %d", f.Transaction, c.transaction)
	}
	c.watch(e)
	return wrong
}

// watchRest tells of bytes that silence followed and that hold no answer.
func (c *Client) watchRest(unit byte, raw, out []byte, req Request, err error) {
	if req.Function.reads() && len(raw) >= len(out) && bytes.Equal(raw[:len(out)], out) {
		c.watch(Event{Kind: EventEcho, Unit: unit, Data: out})
		raw = raw[len(out):]
	}
	if len(raw) > 0 {
		c.watch(Event{Kind: EventDamaged, Unit: unit, Data: raw, Text: err.Error()})
	}
}
