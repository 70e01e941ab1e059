package modbus

import (
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stalled is a connection on which a read ends late, as one does when the machine gives this program no time.
type stalled struct {
	net.Conn
	by    time.Duration // later than told
	until time.Time
	reads int
	data  []byte // that came meanwhile
}

func (s *stalled) SetReadDeadline(t time.Time) error { s.until = t; return nil }

func (s *stalled) Read(b []byte) (int, error) {
	if s.reads++; s.reads == 1 {
		time.Sleep(time.Until(s.until.Add(s.by)))
		return 0, os.ErrDeadlineExceeded
	}
	if n := copy(b, s.data); n > 0 {
		return n, nil
	}
	return 0, os.ErrDeadlineExceeded
}

func TestWhatCameWhileThisProgramWasHeldUpCameInTime(t *testing.T) {
	b := make([]byte, 8)
	late := &stalled{by: 3 * heldUp, data: []byte{1, 2}}
	n, err := (&timed{Conn: late}).read(b, time.Now().Add(time.Millisecond))
	require.NoError(t, err)
	assert.Equal(t, []byte{1, 2}, b[:n])
	empty := &stalled{by: 3 * heldUp}
	_, err = (&timed{Conn: empty}).read(b, time.Now().Add(time.Millisecond))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
	assert.Greater(t, empty.reads, 1, "it is looked once more")
	over, until := &stalled{by: 3 * heldUp}, time.Now().Add(time.Millisecond)
	conn := &timed{Conn: over}
	for range 2 {
		_, err = conn.read(b, until)
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "once, so that noise does not go on for ever")
		over.data = []byte{1}
		over.reads = 0 // each read ends late
	}
}

// A transmitter that never stops, as one does that is broken, must not hold the line.
func TestNoiseWithoutAPauseEndsAnExchange(t *testing.T) {
	for _, framing := range []Framing{RTU, ASCII} {
		near, far := net.Pipe()
		go func() { // what is sent is taken in
			b := make([]byte, 64)
			for {
				if _, err := far.Read(b); err != nil {
					return
				}
			}
		}()
		go func() {
			for i := byte(0); ; i += 37 {
				if _, err := far.Write([]byte{i, i ^ 0x55, 0xAA, i >> 1}); err != nil {
					return
				}
			}
		}()
		c := NewClient(near, ClientOptions{Framing: framing, Character: 10 * time.Microsecond, Gap: 5 * time.Millisecond})
		_, err := c.Do(1, Request{Function: ReadHoldingRegisters, Quantity: 2}, 20*time.Millisecond)
		assert.Error(t, err, framing)
		near.Close()
		far.Close()
	}
}
