package modbus

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// Errors of Client.Do beside Exception and those that wrap ErrBadResponse.
var (
	ErrTimeout = errors.New("no answer in time") // the connection is still good
	ErrClosed  = errors.New("connection lost")   // it is not; open another
)

// Counters are what a Client has seen. They may be read at any time.
type Counters struct {
	Late    atomic.Uint64 // answers that came after their request had timed out
	Foreign atomic.Uint64 // answers to no request of ours, or for another unit or function
	Sent    atomic.Uint64 // bytes
	Got     atomic.Uint64 // bytes
}

// Client asks devices over one connection, one request at a time. It is not safe for concurrent use.
// An exchange is cancelled by closing the connection.
type Client struct {
	Counters Counters

	conn        net.Conn
	transaction uint16
	out         []byte
	in          []byte // read buffer
	held        int    // bytes in in that are not used up
	used        int    // bytes of in that the last answer occupied
}

// NewClient speaks MBAP over conn, which the caller closes.
func NewClient(conn net.Conn) *Client {
	return &Client{conn: conn, out: make([]byte, 0, maxADU), in: make([]byte, 4*maxADU)}
}

// Do sends req to a unit and waits for its answer, at most timeout. The data returned are those of
// Request.ParseAnswer and hold until the next call. An answer that is not to this request is dropped and counted, and
// the wait goes on; when nothing better comes in time, the error tells of it.
// After an error that wraps ErrClosed the connection must be closed; after any other the client can go on.
func (c *Client) Do(unit byte, req Request, timeout time.Duration) ([]byte, error) {
	c.held = copy(c.in, c.in[c.used:c.held])
	c.used = 0
	c.transaction++
	out, err := req.Append(beginMBAP(c.out[:0], c.transaction, unit))
	if err != nil {
		return nil, err
	}
	if err := c.conn.SetDeadline(time.Now().Add(timeout)); err != nil {
		return nil, c.lost(err)
	}
	n, err := c.conn.Write(endMBAP(out, 0))
	c.Counters.Sent.Add(uint64(n))
	if err != nil {
		return nil, c.lost(err)
	}
	return c.await(unit, req)
}

// await reads frames until the answer to req is among them.
func (c *Client) await(unit byte, req Request) ([]byte, error) {
	var wrong error // what came instead
	for {
		frame, n, err := CutMBAP(c.in[c.used:c.held])
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrClosed, err)
		}
		if n == 0 {
			c.held = copy(c.in, c.in[c.used:c.held])
			c.used = 0
			got, err := c.conn.Read(c.in[c.held:])
			c.held += got
			c.Counters.Got.Add(uint64(got))
			if got == 0 && err != nil {
				if wrong != nil && errors.Is(err, os.ErrDeadlineExceeded) {
					return nil, wrong
				}
				return nil, c.lost(err)
			}
			continue
		}
		c.used += n
		switch {
		case frame.Transaction != c.transaction:
			// Identifiers are used in turn, so one a little behind is an answer that comes late.
			if behind := c.transaction - frame.Transaction; behind < 1<<15 {
				c.Counters.Late.Add(1)
			} else {
				c.Counters.Foreign.Add(1)
			}
		case frame.Unit != unit:
			c.Counters.Foreign.Add(1)
			wrong = badResponse("unit %d answered instead of unit %d", frame.Unit, unit)
		case frame.PDU[0]&^exceptionFlag != byte(req.Function):
			c.Counters.Foreign.Add(1)
			wrong = badResponse("function %d answered to %s", frame.PDU[0], req.Function)
		default:
			return req.ParseAnswer(frame.PDU)
		}
	}
}

// lost names what happened to the connection.
func (c *Client) lost(err error) error {
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return ErrTimeout
	case errors.Is(err, io.EOF) && c.held > c.used:
		return fmt.Errorf("%w: closed by the other side after %d bytes of a frame", ErrClosed, c.held-c.used)
	case errors.Is(err, io.EOF):
		return fmt.Errorf("%w: closed by the other side", ErrClosed)
	}
	return fmt.Errorf("%w: %w", ErrClosed, err)
}
