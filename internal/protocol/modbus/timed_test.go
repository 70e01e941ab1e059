package modbus

import (
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// settings counts the deadlines that are set on a connection.
type settings struct {
	net.Conn
	reads, writes int
}

func (s *settings) SetReadDeadline(t time.Time) error {
	s.reads++
	return s.Conn.SetReadDeadline(t)
}

func (s *settings) SetWriteDeadline(t time.Time) error {
	s.writes++
	return s.Conn.SetWriteDeadline(t)
}

func TestDeadlinesAreSetWhenTheOldOnesDoNotServe(t *testing.T) {
	here, there := net.Pipe()
	defer here.Close()
	defer there.Close()
	go func() {
		b := make([]byte, 1)
		for n, err := there.Read(b); err == nil && n == 1; n, err = there.Read(b) {
			there.Write(b)
		}
	}()
	s := &settings{Conn: here}
	c := timed{Conn: s}
	b := make([]byte, 1)
	began := time.Now()
	for i := range 100 {
		until := began.Add(time.Minute + time.Duration(i)*time.Millisecond)
		_, err := c.write([]byte{byte(i)}, until)
		require.NoError(t, err)
		_, err = c.read(b, until)
		require.NoError(t, err)
		assert.Equal(t, byte(i), b[0])
	}
	assert.Equal(t, 1, s.reads, "one serves until it has passed")
	assert.Equal(t, 1, s.writes)

	_, err := c.read(b, time.Now().Add(time.Millisecond))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "an earlier one ends earlier")
	_, err = c.write([]byte{7}, began.Add(time.Minute))
	require.NoError(t, err)
	_, err = c.read(b, began.Add(time.Minute))
	require.NoError(t, err, "one that has passed does not end what may take longer")
	assert.Equal(t, byte(7), b[0])

	_, err = c.write([]byte{8}, time.Now().Add(-2*writeSlack))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
	_, err = c.write([]byte{9}, time.Now().Add(time.Minute))
	require.NoError(t, err)
	s.Conn.Close()
	_, err = c.read(b, time.Now())
	assert.ErrorContains(t, err, "closed")
}

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
