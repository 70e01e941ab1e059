package modbus

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"testing"
	"time"
)

// said is a connection on which the far end says what it says, in pieces, and then nothing more.
type said struct {
	net.Conn
	bytes []byte
	piece int
	end   error
}

func (s *said) Read(b []byte) (int, error) {
	n := min(len(b), len(s.bytes), s.piece)
	if n == 0 {
		return 0, s.end
	}
	copy(b, s.bytes[:n])
	s.bytes = s.bytes[n:]
	return n, nil
}

func (s *said) Write(b []byte) (int, error)      { return len(b), nil }
func (s *said) SetReadDeadline(time.Time) error  { return nil }
func (s *said) SetWriteDeadline(time.Time) error { return nil }

// Whatever comes, a client ends, and gives as much data as were asked for or none.
func FuzzClient(f *testing.F) {
	for _, framing := range []Framing{MBAP, RTU, ASCII} {
		answer := framing.Append(nil, Frame{1, 1, []byte{3, 4, 0, 1, 0, 2}})
		f.Add(byte(framing), byte(7), answer)
		f.Add(byte(framing), byte(255), append(append(answer[:len(answer)-3:len(answer)-3], answer...), 0, 0))
	}
	f.Add(byte(MBAP), byte(50), []byte("HTTP/1.1 400 Bad Request\r\n\r\n"))
	f.Fuzz(func(t *testing.T, framing, piece byte, bytes []byte) {
		conn := &said{bytes: bytes, piece: 1 + int(piece), end: os.ErrDeadlineExceeded}
		seen := 0
		c := NewClient(conn, ClientOptions{Framing: Framing(framing % 3), Gap: time.Nanosecond, Watch: func(e Event) {
			if e.Kind != EventSent {
				seen += len(e.Data)
			}
		}})
		for at := range uint16(3) {
			data, err := c.Do(1, Request{Function: ReadHoldingRegisters, Address: at, Quantity: 2}, time.Microsecond)
			if err == nil && len(data) != 4 {
				t.Fatalf("%d bytes for two registers", len(data))
			}
			if errors.Is(err, ErrClosed) {
				break // the connection is not to be used any more
			}
		}
		if got := int(c.Counters.Got.Load()); got > len(bytes) || seen > got {
			t.Fatalf("%d bytes were said, %d counted, %d told of", len(bytes), got, seen)
		}
	})
}

// Whatever comes, a pipeline gives each of those who wait its own answer or an error, once.
func FuzzPipeline(f *testing.F) {
	answer := func(id uint16) []byte { return AppendMBAP(nil, Frame{id, 1, []byte{3, 4, 0, 1, 0, 2}}) }
	both := append(answer(1), answer(2)...)
	f.Add(byte(255), both)
	f.Add(byte(3), both)
	f.Add(byte(255), append(answer(1)[:9:9], answer(2)...))
	f.Add(byte(255), append(append(make([]byte, 50), answer(2)...), answer(1)...))
	f.Add(byte(9), append(append(append(answer(1), 0, 0), answer(1)...), answer(7)...))
	f.Fuzz(func(t *testing.T, piece byte, bytes []byte) {
		p := &Pipeline{conn: &said{bytes: bytes, piece: 1 + int(piece), end: io.EOF}, watch: func(Event) {}, waiting: map[uint16]*call{}, transaction: 3}
		var calls []*call
		for id := uint16(1); id <= 3; id++ {
			c := &call{unit: 1, request: Request{Function: ReadHoldingRegisters, Address: id, Quantity: 2}, done: make(chan struct{})}
			p.sent.note(id, time.Now())
			p.waiting[id], calls = c, append(calls, c)
		}
		p.read()
		for i, c := range calls {
			<-c.done
			if c.err != nil {
				continue
			}
			if len(c.answer.Data) != 4 {
				t.Fatalf("%d bytes for two registers", len(c.answer.Data))
			}
			if !contains(bytes, uint16(i+1), c.answer.Data) {
				t.Fatalf("% X was not said in one piece behind the identifier %d", c.answer.Data, i+1)
			}
		}
	})
}

// contains reports whether data stand in a stream behind the head of the response with an identifier.
func contains(stream []byte, id uint16, data []byte) bool {
	for at := 0; at+9+len(data) <= len(stream); at++ {
		if binary.BigEndian.Uint16(stream[at:]) == id && string(stream[at+9:at+9+len(data)]) == string(data) {
			return true
		}
	}
	return false
}
