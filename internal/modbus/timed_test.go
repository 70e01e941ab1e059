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
	over := &stalled{by: 3 * heldUp, data: []byte{1}}
	_, err = (&timed{Conn: over}).read(b, time.Now().Add(-time.Second))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "nothing is waited for any more, so that noise does not go on for ever")
	assert.Equal(t, 1, over.reads)
}
