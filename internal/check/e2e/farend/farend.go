// Package farend is the other side of conformance tests and trials: octets by the text of the standards. It shares no code with the
// clients, servers and codecs of the product, so that a fault of those is not on both sides.
package farend

import (
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"
)

// CRC is that of Modbus RTU, bit by bit, low octet first (MODBUS over Serial Line V1.02, 6.2.2).
func CRC(b []byte) [2]byte { return reflected(b, 0xFFFF, 0xA001) }

// reflected is a CRC of 16 bits with a reflected polynomial.
func reflected(b []byte, start, polynomial int) [2]byte {
	crc := start
	for _, c := range b {
		crc ^= int(c)
		for range 8 {
			odd := crc & 1
			if crc >>= 1; odd == 1 {
				crc ^= polynomial
			}
		}
	}
	return [2]byte{byte(crc), byte(crc >> 8)}
}

// Frame puts a Modbus unit and PDU into a frame: mbap, rtu or ascii.
func Frame(framing string, id [2]byte, body []byte) []byte {
	switch framing {
	case "rtu":
		crc := CRC(body)
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

// Request takes unit and PDU of a Modbus request out of its frame, which must be whole and alone.
func Request(framing string, b []byte) (id [2]byte, body []byte) {
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

// Length is how long the first Modbus request of a stream is, 0 while that is not known: of functions 3, 6 and 16.
func Length(framing string, b []byte) int {
	switch {
	case framing == "ascii":
		for i, c := range b {
			if c == '\n' {
				return i + 1
			}
		}
		return 0
	case framing == "mbap" && len(b) >= 6:
		return 6 + int(b[5])
	case framing == "rtu" && len(b) >= 7 && b[1] == 16:
		return 9 + int(b[6])
	case framing == "rtu" && len(b) >= 2 && b[1] != 16:
		return 8
	}
	return 0
}

// DNP3CRC is that of DNP3, low octet first (IEEE 1815-2012, annex E).
func DNP3CRC(b []byte) [2]byte {
	crc := reflected(b, 0, 0xA6BC)
	return [2]byte{^crc[0], ^crc[1]}
}

// DNP3Frame makes a frame of the data link layer (9.2.4).
func DNP3Frame(control byte, to, from uint16, data []byte) []byte {
	frame := []byte{0x05, 0x64, byte(5 + len(data)), control, byte(to), byte(to >> 8), byte(from), byte(from >> 8)}
	crc := DNP3CRC(frame)
	frame = append(frame, crc[0], crc[1])
	for len(data) > 0 {
		n := min(16, len(data))
		crc := DNP3CRC(data[:n])
		frame = append(append(append(frame, data[:n]...), crc[0]), crc[1])
		data = data[n:]
	}
	return frame
}

// ReadDNP3Frame reads a frame and returns its head, of 10 octets, and its user data. A wrong CRC is an error.
func ReadDNP3Frame(r io.Reader) (head, data []byte, err error) {
	head = make([]byte, 10)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, nil, err
	}
	if crc := DNP3CRC(head[:8]); crc[0] != head[8] || crc[1] != head[9] {
		return nil, nil, fmt.Errorf("wrong CRC of the header % X", head)
	}
	for n := int(head[2]) - 5; n > 0; {
		block := make([]byte, min(16, n)+2)
		if _, err := io.ReadFull(r, block); err != nil {
			return nil, nil, err
		}
		body := block[:len(block)-2]
		if crc := DNP3CRC(body); crc[0] != block[len(body)] || crc[1] != block[len(body)+1] {
			return nil, nil, fmt.Errorf("wrong CRC of the block % X", block)
		}
		data = append(data, body...)
		n -= len(body)
	}
	return head, data, nil
}

// Conn is a connection without a network: a stream, or datagrams. What is read comes from what was said. Its times are those of a
// synctest bubble where there is one.
type Conn struct {
	Datagrams bool
	Asked     func(b []byte) // is given what is written

	mu       sync.Mutex
	in       [][]byte
	deadline time.Time
	news     chan struct{}
	closed   bool
}

// NewConn makes a Conn.
func NewConn(datagrams bool) *Conn { return &Conn{Datagrams: datagrams, news: make(chan struct{}, 1)} }

// Say lets bytes be read.
func (c *Conn) Say(b []byte) {
	c.mu.Lock()
	if c.Datagrams || len(c.in) == 0 {
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

// ReadNow reads what was said, without waiting.
func (c *Conn) ReadNow(b []byte) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.in) == 0 {
		return 0
	}
	n := copy(b, c.in[0])
	if c.in[0] = c.in[0][n:]; len(c.in[0]) == 0 || c.Datagrams {
		c.in = c.in[1:]
	}
	return n
}

// Read is net.Conn's.
func (c *Conn) Read(b []byte) (int, error) {
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

// Write is net.Conn's.
func (c *Conn) Write(b []byte) (int, error) {
	c.Asked(append([]byte{}, b...))
	return len(b), nil
}

// SetReadDeadline is net.Conn's.
func (c *Conn) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.deadline = t
	return nil
}

// SetDeadline is net.Conn's.
func (c *Conn) SetDeadline(t time.Time) error { return c.SetReadDeadline(t) }

// SetWriteDeadline is net.Conn's.
func (c *Conn) SetWriteDeadline(time.Time) error { return nil }

// LocalAddr is net.Conn's.
func (c *Conn) LocalAddr() net.Addr { return nil }

// RemoteAddr is net.Conn's.
func (c *Conn) RemoteAddr() net.Addr { return nil }

// Close is net.Conn's.
func (c *Conn) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	return nil
}
