package modbus

import (
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"
)

// The far end of trials: octets by the text of the standards. It shares no code with the client, the server or the framings, so that a
// fault of those is not on both sides.

// farCRC is the CRC of serial line 6.2.2, bit by bit.
func farCRC(b []byte) [2]byte {
	crc := 0xFFFF
	for _, c := range b {
		crc ^= int(c)
		for range 8 {
			odd := crc & 1
			crc >>= 1
			if odd == 1 {
				crc ^= 0xA001
			}
		}
	}
	return [2]byte{byte(crc), byte(crc >> 8)}
}

// farFrame puts unit and PDU into a frame.
func farFrame(framing string, id [2]byte, body []byte) []byte {
	switch framing {
	case "rtu":
		crc := farCRC(body)
		return append(append([]byte{}, body...), crc[0], crc[1])
	case "ascii":
		sum := byte(0)
		text := ":"
		for _, c := range body {
			sum += c
			text += fmt.Sprintf("%02X", c)
		}
		return fmt.Appendf(nil, "%s%02X\r\n", text, byte(-int(sum)))
	}
	return append([]byte{id[0], id[1], 0, 0, byte(len(body) >> 8), byte(len(body))}, body...)
}

// farRequest takes a request out of its frame; requests are sent one by one.
func farRequest(framing string, b []byte) (id [2]byte, body []byte) {
	switch framing {
	case "rtu":
		return id, b[:len(b)-2]
	case "ascii":
		for i := 1; i+1 < len(b)-4; i += 2 {
			var c byte
			fmt.Sscanf(string(b[i:i+2]), "%02X", &c)
			body = append(body, c)
		}
		return id, body
	}
	return [2]byte{b[0], b[1]}, b[6:]
}

// farConn is a connection without a network: a stream, or datagrams. What is read comes from what was put in.
type farConn struct {
	datagrams bool
	asked     func(b []byte) // is given what the client writes

	mu       sync.Mutex
	in       [][]byte
	deadline time.Time
	news     chan struct{}
	closed   bool
}

func newFarConn(datagrams bool) *farConn {
	return &farConn{datagrams: datagrams, news: make(chan struct{}, 1)}
}

// say lets the client read bytes.
func (c *farConn) say(b []byte) {
	c.mu.Lock()
	if c.datagrams || len(c.in) == 0 {
		c.in = append(c.in, append([]byte{}, b...))
	} else {
		c.in[len(c.in)-1] = append(c.in[len(c.in)-1], b...)
	}
	c.mu.Unlock()
	select {
	case c.news <- struct{}{}:
	default:
	}
}

func (c *farConn) ReadNow(b []byte) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.in) == 0 {
		return 0
	}
	n := copy(b, c.in[0])
	if c.in[0] = c.in[0][n:]; len(c.in[0]) == 0 || c.datagrams {
		c.in = c.in[1:]
	}
	return n
}

func (c *farConn) Read(b []byte) (int, error) {
	for {
		c.mu.Lock()
		closed, deadline := c.closed, c.deadline
		c.mu.Unlock()
		if n := c.ReadNow(b); n > 0 {
			return n, nil
		}
		if closed {
			return 0, io.EOF
		}
		timer := time.NewTimer(time.Until(deadline))
		select {
		case <-c.news:
			timer.Stop()
		case <-timer.C:
			return 0, os.ErrDeadlineExceeded
		}
	}
}

func (c *farConn) Write(b []byte) (int, error) {
	c.asked(append([]byte{}, b...))
	return len(b), nil
}

func (c *farConn) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.deadline = t
	return nil
}

func (c *farConn) SetDeadline(t time.Time) error    { return c.SetReadDeadline(t) }
func (c *farConn) SetWriteDeadline(time.Time) error { return nil }
func (c *farConn) LocalAddr() net.Addr              { return nil }
func (c *farConn) RemoteAddr() net.Addr             { return nil }

func (c *farConn) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	return nil
}
