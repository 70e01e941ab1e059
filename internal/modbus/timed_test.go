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
