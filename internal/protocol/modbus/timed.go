package modbus

import (
	"errors"
	"net"
	"os"
	"time"
)

// timed is a connection whose reads and writes end at given times. To set a deadline costs a share of an exchange on a fast
// network that shows, so that one set before stays for as long as it serves.
type timed struct {
	net.Conn
	readBy, writeBy time.Time // the deadlines that are set
	graced          time.Time // the end of a wait that was looked beyond
}

// writeSlack is how much later than told a write may end: it must not end early, since a part of a frame cannot be taken back.
const writeSlack = time.Second

// What tells that this program was held up, by a machine that is overloaded, say: how much later than told a wait has ended. What came
// meanwhile came in time, and is there after the grace.
const (
	heldUp = 10 * time.Millisecond
	grace  = 5 * time.Millisecond
)

// read waits for bytes, at most until a moment.
func (t *timed) read(b []byte, until time.Time) (int, error) {
	n, err := t.readBefore(b, until)
	if n == 0 && errors.Is(err, os.ErrDeadlineExceeded) && !until.Equal(t.graced) && time.Since(until) > heldUp {
		t.graced = until // once, so that noise does not go on for ever
		return t.readBefore(b, time.Now().Add(grace))
	}
	return n, err
}

func (t *timed) readBefore(b []byte, until time.Time) (int, error) {
	if t.readBy.IsZero() || t.readBy.After(until) {
		if err := t.setRead(until); err != nil {
			return 0, err
		}
	}
	for {
		n, err := t.Read(b)
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) || !t.readBy.Before(until) {
			return n, err
		}
		if err := t.setRead(until); err != nil { // it was that of an exchange before
			return 0, err
		}
	}
}

// write sends b, which takes until a moment at most, or a little longer.
func (t *timed) write(b []byte, until time.Time) (int, error) {
	if last := until.Add(writeSlack); t.writeBy.Before(until) || t.writeBy.After(last) {
		if err := t.SetWriteDeadline(last); err != nil {
			return 0, err
		}
		t.writeBy = last
	}
	return t.Write(b)
}

func (t *timed) setRead(until time.Time) error {
	t.readBy = until
	return t.SetReadDeadline(until)
}
