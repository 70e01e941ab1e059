package modbus

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
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
	Stray   atomic.Uint64 // bytes or answers that came though nothing was asked
	Sent    atomic.Uint64 // bytes
	Got     atomic.Uint64 // bytes
}

// ClientOptions say what a client speaks.
type ClientOptions struct {
	Framing Framing
	// Character is the time of one character on the line, 0 where it does not matter. The wait for an answer begins when
	// the request has left the line and goes on while an answer comes in.
	Character time.Duration
	// Gap is the silence that ends a frame that is none: on a serial line 3.5 characters, through a gateway more.
	// The zero means 50 ms.
	Gap time.Duration
	// Echo: the line gives back what is sent, which is then taken off.
	Echo bool
	// Watch, when it is set, is told of everything that the client sees.
	Watch func(Event)
}

// Client asks devices over one connection, one request at a time. It is not safe for concurrent use.
// An exchange is cancelled by closing the connection.
type Client struct {
	Counters Counters

	conn        timed
	options     ClientOptions
	transaction uint16
	pdu, out    []byte
	in          []byte // read buffer
	held        int    // bytes in in
	used        int    // of them, how many are used up
	unsettled   bool   // the last exchange failed, so that its answer may still come
	unit        byte   // that was asked last
	sent        sentAt
	debts       debts
}

func (c *Client) watch(e Event) {
	if c.options.Watch != nil {
		if e.Asked = int(c.unit); e.At.IsZero() {
			e.At = time.Now()
		}
		c.options.Watch(e)
	}
}

// NewClient speaks over conn, which the caller closes.
func NewClient(conn net.Conn, o ClientOptions) *Client {
	if o.Gap == 0 {
		o.Gap = 50 * time.Millisecond
	}
	return &Client{conn: timed{Conn: conn}, options: o, pdu: make([]byte, 0, MaxPDU), out: make([]byte, 0, o.Framing.longest()), in: make([]byte, 2*o.Framing.longest())}
}

// Answered is what a request was answered with.
type Answered struct {
	Data []byte    // those of Request.ParseAnswer
	At   time.Time // when it was there

	// Took is how long it took, when something else was waited for before; 0 otherwise.
	Took time.Duration
}

// Do is Exchange for those who want the data alone.
func (c *Client) Do(unit byte, req Request, timeout time.Duration) ([]byte, error) {
	answer, err := c.Exchange(unit, req, timeout)
	return answer.Data, err
}

// Exchange sends req to a unit and waits for its answer, at most timeout. The data returned hold until the next call. An answer that
// is not to this request is dropped and counted, and the wait goes on; when nothing better comes in time, the error tells of it.
// After an error that wraps ErrClosed the connection must be closed; after any other the client can go on.
func (c *Client) Exchange(unit byte, req Request, timeout time.Duration) (Answered, error) {
	pdu, err := req.Append(c.pdu[:0])
	if err != nil {
		return Answered{}, err
	}
	c.settle()
	collected := c.collect(unit, req)
	c.transaction++
	c.unit = unit
	out := c.options.Framing.Append(c.out[:0], Frame{c.transaction, unit, pdu})
	began := time.Now()
	deadline := began.Add(timeout + time.Duration(len(out))*c.options.Character)
	n, err := c.conn.write(out, deadline)
	c.Counters.Sent.Add(uint64(n))
	c.sent.note(c.transaction, began)
	c.watch(Event{Kind: EventSent, Unit: unit, Data: out[:n], At: began})
	if err != nil {
		c.watch(Event{Kind: EventClosed, Unit: unit, Text: err.Error()})
		return Answered{}, fmt.Errorf("%w: %w", ErrClosed, err) // a part of a frame may be on its way
	}
	echo := 0
	if c.options.Echo {
		echo = len(out)
	}
	answer, err := c.await(unit, req, deadline, echo, out)
	c.unsettled = err != nil
	switch {
	case errors.Is(err, ErrClosed):
		c.watch(Event{Kind: EventClosed, Unit: unit, Text: err.Error()})
	case err == ErrTimeout: // with nothing to say beside
		if c.options.Framing != MBAP {
			c.debts.miss(unit, req, began, timeout)
		}
		c.watch(Event{Kind: EventTimeout, Unit: unit, Text: fmt.Sprintf("no answer within %s", timeout)})
	}
	if collected {
		answer.Took = time.Since(began)
	}
	return answer, err
}

// Send sends req to all units of a serial line at once; nobody answers (serial line 2.2). It returns when the devices
// have had turnaround to take it in.
func (c *Client) Send(req Request, turnaround time.Duration) error {
	pdu, err := req.Append(c.pdu[:0])
	if err != nil {
		return err
	}
	c.settle()
	out := c.options.Framing.Append(c.out[:0], Frame{0, 0, pdu})
	n, err := c.conn.write(out, time.Now().Add(time.Minute))
	c.Counters.Sent.Add(uint64(n))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrClosed, err)
	}
	time.Sleep(time.Duration(len(out))*c.options.Character + turnaround)
	c.unsettled = c.options.Echo
	return nil
}

// await reads frames until the answer to req is among them. echo is how many bytes of our own come back first, out is
// what was sent.
func (c *Client) await(unit byte, req Request, deadline time.Time, echo int, out []byte) (Answered, error) {
	var wrong error // what came instead
	for {
		raw := c.in[c.used:c.held]
		if c.options.Framing == ASCII { // which is decoded in place
			raw = slices.Clone(raw)
		}
		frame, n, err := c.options.Framing.Cut(c.in[c.used:c.held], Answers)
		switch {
		case errors.Is(err, ErrChecksum):
			c.watch(Event{Kind: EventDamaged, Unit: unit, Data: raw[:n], Text: err.Error()})
			c.used, wrong = c.used+n, err
			continue
		case err != nil:
			if extra := seekMBAP(raw, c.transaction); extra > 0 {
				c.Counters.Stray.Add(1)
				c.watch(Event{Kind: EventDamaged, Unit: unit, Data: raw[:extra], Text: "bytes of no frame before an answer"})
				c.used += extra
				continue
			}
			c.watch(Event{Kind: EventDamaged, Unit: unit, Data: raw, Text: err.Error()})
			return Answered{}, fmt.Errorf("%w: %w", ErrClosed, err)
		case n == 0:
			err = c.more(deadline, &echo)
			if err == nil {
				continue
			}
			raw = c.in[c.used:c.held]
			if frame, n = c.seek(); n == 0 || !errors.Is(err, ErrTimeout) {
				if err = c.silence(err, wrong); len(raw) > 0 {
					c.watchRest(unit, raw, out, req, err)
				}
				if c.options.Framing != MBAP {
					c.held, c.used = 0, 0 // told of and done with; a stream with lengths goes on
				}
				return Answered{}, err
			}
		}
		c.used += n
		raw = raw[:n]
		if req.Function.reads() && len(raw) >= len(out) && bytes.Equal(raw[:len(out)], out) {
			c.watch(Event{Kind: EventEcho, Unit: unit, Data: out})
			if raw = raw[len(out):]; len(raw) == 0 {
				wrong = badResponse("our own request came back")
				continue
			}
		}
		switch {
		case c.options.Framing == MBAP && frame.Transaction != c.transaction:
			wrong = c.unexpected(frame, raw, wrong)
		case frame.Unit != unit || c.options.Framing != MBAP && frame.PDU[0]&^exceptionFlag != byte(req.Function):
			if c.late(frame, raw) {
				continue
			}
			c.Counters.Foreign.Add(1)
			wrong = misfit(frame, unit, req)
			c.watch(Event{Kind: EventForeign, Unit: frame.Unit, Data: raw, Text: wrong.Error()})
		default:
			answer := Answered{At: time.Now()}
			c.sent.answered(c.transaction)
			answer.Data, err = req.ParseAnswer(frame.PDU)
			e := Event{Kind: EventAnswer, Unit: unit, Data: raw, At: answer.At, After: c.sent.since(c.transaction, answer.At)}
			if c.options.Framing != MBAP {
				if errors.Is(err, ErrBadResponse) && c.late(frame, raw) {
					continue
				}
				if whose, after := c.debts.answered(unit, req, answer.At.Add(-e.After), answer.At); whose != ours {
					c.Counters.Late.Add(1)
					if e.Kind, e.After = EventLate, after; whose == another {
						c.watch(e)
						continue
					}
				}
			}
			if err != nil && c.options.Watch != nil {
				e.Text = err.Error()
			}
			c.watch(e)
			return answer, err
		}
	}
}

// seek looks for an RTU frame behind noise, once silence has followed.
func (c *Client) seek() (Frame, int) {
	if c.options.Framing != RTU {
		return Frame{}, 0
	}
	return SeekRTU(c.in[c.used:c.held], Answers)
}

// silence says why no answer came: what came instead, when anything did.
func (c *Client) silence(err, wrong error) error {
	held := c.in[c.used:c.held]
	switch {
	case !errors.Is(err, ErrTimeout):
		return err
	case len(held) > 0 && c.options.Framing == MBAP: // where the next frame begins is not known any more
		return fmt.Errorf("%w: %w", ErrClosed, brokenOff(held, len(held)))
	case len(held) > 0:
		return Damaged(held, c.options.Framing)
	case wrong != nil:
		return wrong
	}
	return err
}

// more reads what comes next. Where frames have no identifier, bytes that silence follows are a frame that was damaged,
// and waiting for the deadline would not mend it.
func (c *Client) more(deadline time.Time, echo *int) error {
	c.held = copy(c.in, c.in[c.used:c.held])
	c.used = 0
	if c.held == len(c.in) {
		c.held = 0 // noise without end
	}
	if c.options.Framing != MBAP && c.held > 0 {
		if quiet := time.Now().Add(c.options.Gap); quiet.Before(deadline) || c.options.Character > 0 {
			deadline = quiet
		}
	}
	got, err := c.conn.read(c.in[c.held:], deadline)
	c.Counters.Got.Add(uint64(got))
	if got == 0 && err != nil {
		return c.lost(err)
	}
	c.held += got
	if own := min(*echo, c.held); own > 0 {
		c.held = copy(c.in, c.in[own:c.held])
		*echo -= own
	}
	return nil
}

// lost names what happened to the connection.
func (c *Client) lost(err error) error {
	return ended(err, c.held-c.used)
}

// ended names what happened to a connection of which held bytes were read and not used.
func ended(err error, held int) error {
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return ErrTimeout
	case errors.Is(err, io.EOF) && held > 0:
		return fmt.Errorf("%w: closed by the other side after %d bytes of a frame", ErrClosed, held)
	case errors.Is(err, io.EOF):
		return fmt.Errorf("%w: closed by the other side", ErrClosed)
	}
	return fmt.Errorf("%w: %w", ErrClosed, err)
}
