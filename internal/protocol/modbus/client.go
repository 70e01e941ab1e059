package modbus

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sync/atomic"
	"time"

	"arithmon/internal/core/crash"
)

// Errors of Client.Do beside Exception and those that wrap ErrBadResponse.
var (
	ErrTimeout = errors.New("no response in time") // the connection is still good
	ErrClosed  = errors.New("connection lost")     // it is not; open another
)

// Counters are what a Client has seen. They may be read at any time.
type Counters struct {
	Late    atomic.Uint64 // responses that came after their request had timed out
	Foreign atomic.Uint64 // answers to no request of ours, or for another unit or function
	Stray   atomic.Uint64 // bytes or responses that came though nothing was asked
	Sent    atomic.Uint64 // bytes
	Got     atomic.Uint64 // bytes
}

// ClientOptions say what a client speaks.
type ClientOptions struct {
	Framing Framing
	// Character is the time of one character on the line, 0 where it does not matter. The wait for a response begins when
	// the request has left the line and goes on while a response comes in.
	Character time.Duration
	// Gap is the silence that ends a frame that is none: on a serial line 3.5 characters, through a gateway more.
	// The zero means 50 ms.
	Gap time.Duration
	// Begun is the silence that ends a frame that began as the response does which is waited for: adapters, radios and gateways hold up
	// what is behind, and characters of an ASCII frame may be a second apart (MODBUS over Serial Line V1.02, 2.5.2.1). Less than Gap means that.
	Begun time.Duration
	// Echo: the line gives back what is sent, which is then taken off.
	Echo bool
	// Datagrams: each read of the connection gives one frame, whole and alone, as over UDP. What is not one is dropped, and nothing
	// is ever joined.
	Datagrams bool
	// Watch, when it is set, is told of everything that the client sees.
	Watch func(Event)
	// Fault, when it is set, is told of a panic in a goroutine of the Pipeline, which it ends.
	Fault func(*crash.Error)
}

// Client asks devices over one connection, one request at a time. It is not safe for concurrent use.
// An exchange is cancelled by closing the connection.
type Client struct {
	Counters Counters

	conn        timed
	options     ClientOptions
	transaction uint16
	pdu, out    []byte
	in          []byte  // read buffer
	held        int     // bytes in in
	used        int     // of them, how many are used up
	stamps      []stamp // when they came, the oldest first
	unsettled   bool    // the last exchange failed, so that its response may still come
	unit        byte    // that was asked last
	sent        sentAt
	expected    expected
}

// stamp says that bytes before an end came at a time, as far as they did not come before.
type stamp struct {
	end int
	at  time.Time
}

// came is when the byte at an index of the buffer did.
func (c *Client) came(i int) time.Time {
	for _, s := range c.stamps {
		if i < s.end {
			return s.at
		}
	}
	return time.Now()
}

// moved forgets the bytes before an index.
func (c *Client) moved(by int) {
	kept := c.stamps[:0]
	for _, s := range c.stamps {
		if s.end -= by; s.end > 0 {
			kept = append(kept, s)
		}
	}
	c.stamps = kept
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
	o.Begun = max(o.Begun, o.Gap)
	return &Client{
		conn: timed{Conn: conn}, options: o, pdu: make([]byte, 0, MaxPDU), out: make([]byte, 0, o.Framing.longest()), in: make([]byte, 2*o.Framing.longest()),
		expected: expected{unordered: o.Datagrams, single: o.Character > 0},
	}
}

// Answered is what a request was answered with.
type Answered struct {
	Data []byte    // those of Request.ParseAnswer
	At   time.Time // when its first byte was there, so that its values were true at the latest

	// Took is how long the request itself took, when another one was made before it; 0 otherwise.
	Took time.Duration

	// Widened is set when more addresses were asked for than were wanted, up to Request.Spare; also of an Exception.
	Widened bool

	// Doubtful is set of an Exception that may be meant for an earlier request.
	Doubtful bool

	like  likeness // whether the data may be a second copy of those of an earlier response
	shape shape
}

// Do is Exchange for those who want the data alone. Where an earlier response could be mistaken for that to req, it waits.
func (c *Client) Do(unit byte, req Request, timeout time.Duration) ([]byte, error) {
	answer, err := c.Exchange(unit, req, timeout)
	if unsettled, ok := err.(*UnsettledError); ok {
		c.collect(unsettled.Until)
		answer, err = c.exchange(unit, req, req, timeout)
	}
	return answer.Data, err
}

// Exchange sends req to a unit and waits for its response, at most timeout, or longer for a unit that is known to be slower. The data
// returned hold until the next call. A response that is not to this request is dropped and counted, and the wait goes on; when nothing
// better comes in time, the error tells of it. Where responses have no identifier, a read is widened within its Spare so that no other
// response can be mistaken for its own; where that is not possible, a shorter read is made first, whose response shows that no earlier
// one is under way, and when that is not possible either, the error is an *UnsettledError and nothing was sent.
//
// After an error that wraps ErrClosed the connection must be closed; after any other the client can go on.
func (c *Client) Exchange(unit byte, req Request, timeout time.Duration) (Answered, error) {
	if _, err := req.Append(c.pdu[:0]); err != nil {
		return Answered{}, err
	}
	if c.options.Framing == MBAP || !req.Function.reads() {
		return c.exchange(unit, req, req, timeout)
	}
	answer, err := c.told(unit, req, timeout)
	if err != nil || answer.like == unlike {
		return answer, err
	}
	// It may be a second copy of an earlier response: a second reading tells. What came then, for whatever of the two requests, was read
	// after the first one.
	first, like, shape, began := bytes.Clone(answer.Data), answer.like, answer.shape, time.Now()
	answer, err = c.told(unit, req, timeout)
	answer.Took = time.Since(began)
	_, marked := c.expected.marker(unit, req, began)
	switch {
	case answer.shape != shape:
	case err != nil || marked || c.expected.unit(unit).doubled(began): // if it was, that to this one is to come
		c.expected.failed(unit, req, began)
	default: // nothing can be asked before the next request that would tell; silence does
		answer.Data = bytes.Clone(answer.Data)
		c.collect(time.Now().Add(c.expected.silence(unit)))
	}
	if err != nil || bytes.Equal(first, answer.Data) {
		return answer, err
	}
	if like == likeCopy {
		c.expected.unit(unit).double(time.Now()) // so it was one
	}
	if answer.like != unlike {
		return Answered{}, badResponse("a response that may be a second copy of an earlier one")
	}
	return answer, err
}

// mostMarkers is how many shorter reads are made at most before a request.
const mostMarkers = 3

// told makes one exchange whose response cannot be mistaken for that to a request that failed.
func (c *Client) told(unit byte, req Request, timeout time.Duration) (Answered, error) {
	for try := 0; ; try++ {
		sent, until := c.expected.choose(unit, req, timeout, time.Now())
		if until.IsZero() {
			began := time.Now()
			answer, err := c.exchange(unit, req, sent, timeout)
			if try > 0 {
				answer.Took = time.Since(began)
			}
			return answer, err
		}
		marker, ok := c.expected.marker(unit, req, time.Now())
		if !ok || try == mostMarkers {
			return Answered{}, &UnsettledError{until}
		}
		answer, err := c.exchange(unit, marker, marker, timeout)
		switch {
		case errors.Is(err, ErrClosed), err == ErrTimeout:
			return answer, err
		case err != nil:
			return Answered{}, &UnsettledError{until}
		}
	}
}

// exchange sends a request as it was chosen to be, of which only a part may be wanted.
func (c *Client) exchange(unit byte, wanted, req Request, timeout time.Duration) (Answered, error) {
	pdu, err := req.Append(c.pdu[:0])
	if err != nil {
		return Answered{}, err
	}
	c.settle()
	c.transaction++
	c.unit = unit
	out := c.options.Framing.Append(c.out[:0], Frame{c.transaction, unit, pdu})
	began, patience := time.Now(), timeout
	if c.options.Framing != MBAP {
		patience = c.expected.patience(unit, timeout)
		c.expected.sent(unit, wanted, req, began)
	}
	deadline := began.Add(patience + time.Duration(len(out))*c.options.Character)
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
	w := wait{unit: unit, request: req, deadline: deadline, timeout: timeout, echo: echo, out: out}
	answer, err := c.await(&w)
	c.unsettled = err != nil && !w.answered
	if c.options.Framing != MBAP {
		switch {
		case !w.answered && !errors.Is(err, ErrClosed):
			c.expected.failed(unit, req, began)
		case w.answered && !answer.Doubtful:
			now := began.Add(w.took)
			if err == nil && req.Function.reads() {
				answer.like = c.expected.compare(unit, wanted, req, answer.Data, now)
			}
			c.expected.answered(unit, w.took, timeout, answer.like, now)
		}
	}
	switch {
	case errors.Is(err, ErrClosed):
		c.watch(Event{Kind: EventClosed, Unit: unit, Text: err.Error()})
	case err == ErrTimeout: // with nothing to say beside
		c.expected.unit(unit).silent++
		c.watch(Event{Kind: EventTimeout, Unit: unit, Text: fmt.Sprintf("no response within %s", w.deadline.Sub(began).Round(time.Millisecond))})
	}
	answer.shape = req.shape()
	if answer.Widened = req.Quantity != wanted.Quantity; answer.Widened && len(answer.Data) > 0 {
		answer.Data = answer.Data[:wanted.Function.dataOctets(int(wanted.Quantity))]
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
	c.unit = 0
	c.watch(Event{Kind: EventSent, Data: out[:n]})
	if err != nil {
		return fmt.Errorf("%w: %w", ErrClosed, err)
	}
	time.Sleep(time.Duration(len(out))*c.options.Character + turnaround)
	c.unsettled = c.options.Echo
	return nil
}

// wait is the wait for the response to a request.
type wait struct {
	unit     byte
	request  Request // as it was sent
	deadline time.Time
	timeout  time.Duration // without what is added for slow units
	echo     int           // bytes of our own that come back first
	out      []byte        // what was sent
	wrong    error         // what came instead
	extended int           // how often the deadline was moved

	answered bool          // what is returned is the response to this request, be it a refusal or malformed
	took     time.Duration // until its first byte
}

// mostExtended is how often a late response moves the deadline of the request after it, which its unit begins with only then.
const mostExtended = 3

// await reads frames until the response is among them.
func (c *Client) await(w *wait) (Answered, error) {
	for {
		raw := c.in[c.used:c.held]
		if c.options.Framing == ASCII { // which is decoded in place
			raw = slices.Clone(raw)
		}
		if extra := c.beginsAnew(w, raw); extra > 0 {
			c.Counters.Stray.Add(1)
			c.watch(Event{Kind: EventDamaged, Unit: w.unit, Data: raw[:extra], Text: "bytes of no frame before a response"})
			c.used += extra
			continue
		}
		frame, n, err := c.cut()
		switch {
		case errors.Is(err, ErrChecksum), errors.Is(err, errDatagram):
			c.watch(Event{Kind: EventDamaged, Unit: w.unit, Data: raw[:n], Text: err.Error()})
			c.used += n
			w.wrong = err
			continue
		case err != nil:
			if extra := seekMBAP(raw, c.transaction); extra > 0 {
				c.Counters.Stray.Add(1)
				c.watch(Event{Kind: EventDamaged, Unit: w.unit, Data: raw[:extra], Text: "bytes of no frame before a response"})
				c.used += extra
				continue
			}
			c.watch(Event{Kind: EventDamaged, Unit: w.unit, Data: raw, Text: err.Error()})
			return Answered{}, fmt.Errorf("%w: %w", ErrClosed, err)
		case n == 0:
			gap := c.options.Gap
			if c.begun(w) {
				gap = c.options.Begun
			}
			err = c.more(w.deadline, gap, &w.echo)
			if err == nil {
				continue
			}
			raw = c.in[c.used:c.held]
			if frame, n = c.seek(); n == 0 || !errors.Is(err, ErrTimeout) {
				if err = c.silence(err, w.wrong); len(raw) > 0 {
					c.watchRest(w.unit, raw, w.out, w.request, err)
				}
				if c.options.Framing != MBAP {
					c.held, c.used, c.stamps = 0, 0, c.stamps[:0] // told of and done with; a stream with lengths goes on
				}
				return Answered{}, err
			}
		}
		came := c.came(c.used + n - c.options.Framing.size(frame, raw[:n]))
		c.used += n
		raw = raw[:n]
		if w.request.Function.reads() && len(raw) >= len(w.out) && bytes.Equal(raw[:len(w.out)], w.out) {
			c.watch(Event{Kind: EventEcho, Unit: w.unit, Data: w.out})
			if raw = raw[len(w.out):]; len(raw) == 0 {
				w.wrong = badResponse("our own request came back")
				continue
			}
		}
		if answer, ours, err := c.judge(w, frame, raw, came); ours {
			w.answered = true
			return answer, err
		}
	}
}

// judge says whether a frame is the response to the request under way, and counts and tells of it.
func (c *Client) judge(w *wait, frame Frame, raw []byte, came time.Time) (answer Answered, ours bool, err error) {
	if c.options.Framing == MBAP && frame.Transaction != c.transaction {
		w.wrong = c.unexpected(frame, raw, w.wrong)
		return answer, false, nil
	}
	if frame.Unit != w.unit || c.options.Framing != MBAP && frame.PDU[0]&^exceptionFlag != byte(w.request.Function) {
		if c.earlier(w, frame, raw) {
			return answer, false, nil
		}
		c.Counters.Foreign.Add(1)
		w.wrong = misfit(frame, w.unit, w.request)
		c.watch(Event{Kind: EventForeign, Unit: frame.Unit, Data: raw, Text: w.wrong.Error()})
		return answer, false, nil
	}
	answer.At = came
	answer.Data, err = w.request.ParseAnswer(frame.PDU)
	if c.options.Framing != MBAP {
		var refused Exception
		if answer.Doubtful = errors.As(err, &refused) && c.expected.doubtful(w.unit, w.request.Function); err != nil && !errors.As(err, &refused) && c.earlier(w, frame, raw) {
			return Answered{}, false, nil
		}
	}
	c.sent.answered(c.transaction)
	e := Event{Kind: EventAnswer, Unit: w.unit, Data: raw, At: time.Now(), After: c.sent.since(c.transaction, came)}
	if e.At.Sub(came) > waited {
		e.At = came
	}
	w.took = e.After
	if err != nil && c.options.Watch != nil {
		e.Text = err.Error()
	}
	if e.Kind = EventAnswer; w.took > w.timeout && c.options.Framing != MBAP {
		e.Kind = EventLate // it is the one to this request, and it came later than the link allows
		c.Counters.Late.Add(1)
	}
	c.watch(e)
	return answer, true, err
}

// earlier counts and tells of a frame that answers an earlier request; false when this one does not.
func (c *Client) earlier(w *wait, frame Frame, raw []byte) bool {
	now := time.Now()
	if c.late(frame, raw) {
		if later := now.Add(c.expected.patience(w.unit, w.timeout)); frame.Unit == w.unit && later.After(w.deadline) && w.extended < mostExtended {
			w.deadline = later
			w.extended++
		}
		return true
	}
	if c.expected.second(frame, now) {
		c.Counters.Stray.Add(1)
		c.watch(Event{Kind: EventStray, Unit: frame.Unit, Data: raw, At: now, Text: "a second response to one request"})
		return true
	}
	return false
}

// beginsAnew is where the response begins behind what looks like its own start, which broke off; 0 where it does not. Its header is
// known to the last byte, so that data are not taken for one.
func (c *Client) beginsAnew(w *wait, raw []byte) int {
	if c.options.Framing != MBAP || c.options.Datagrams || !w.request.Function.reads() || len(raw) <= mbapHeader {
		return 0
	}
	octets := w.request.Function.dataOctets(int(w.request.Quantity))
	header := [mbapHeader + 2]byte{byte(c.transaction >> 8), byte(c.transaction), 0, 0, 0, 0, w.unit, byte(w.request.Function), byte(octets)}
	binary.BigEndian.PutUint16(header[4:], uint16(octets+3))
	at := 1 + bytes.Index(raw[1:], header[:])
	if own := 6 + int(binary.BigEndian.Uint16(raw[4:])); at >= own { // behind it, another one begins
		return 0
	}
	return at
}

// errDatagram says that a datagram is not one frame and nothing else.
var errDatagram = fmt.Errorf("%w: a datagram that is not one whole frame", ErrBadResponse)

// cut takes the next frame off what is held.
func (c *Client) cut() (frame Frame, n int, err error) {
	b := c.in[c.used:c.held]
	if !c.options.Datagrams {
		return c.options.Framing.Cut(b, Answers)
	}
	if len(b) == 0 {
		return Frame{}, 0, nil
	}
	return wholeFrame(c.options.Framing, b)
}

// wholeFrame reads a datagram, which must be one frame. What a serial line behind a gateway gave before it is noise, and borne.
func wholeFrame(f Framing, b []byte) (frame Frame, n int, err error) {
	size := len(b)
	if frame, n, err = f.Cut(b, Answers); n == 0 && err == nil && f == RTU {
		frame, n = SeekRTU(b, Answers)
	}
	switch {
	case errors.Is(err, ErrChecksum) && n == size:
		return frame, size, err
	case f == RTU && n == 0 && err == nil && size >= minRTU:
		return frame, size, badFrame("% X", b[:min(size, 24)])
	case err != nil, n != size:
		return Frame{}, size, errDatagram
	}
	return frame, size, nil
}

// seek looks for an RTU frame behind noise, once silence has followed.
func (c *Client) seek() (Frame, int) {
	if c.options.Framing != RTU {
		return Frame{}, 0
	}
	return SeekRTU(c.in[c.used:c.held], Answers)
}

// begun reports whether what is held begins as the response does that is waited for, without echo, and goes on.
func (c *Client) begun(w *wait) bool {
	b := c.in[c.used:c.held]
	switch {
	case w.echo > 0 || c.options.Datagrams:
		return false
	case c.options.Framing == ASCII:
		return len(b) > 0 && b[0] == asciiStart
	case c.options.Framing != RTU || len(b) < 2 || b[0] != w.unit || b[1]&^exceptionFlag != byte(w.request.Function):
		return false
	case len(b) > 2 && b[1]&exceptionFlag == 0 && w.request.Function.reads():
		return int(b[2]) == w.request.Function.dataOctets(int(w.request.Quantity))
	}
	return true
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
func (c *Client) more(deadline time.Time, gap time.Duration, echo *int) error {
	c.moved(c.used)
	c.held = copy(c.in, c.in[c.used:c.held])
	c.used = 0
	if c.held == len(c.in) {
		c.held, c.stamps = 0, c.stamps[:0] // noise without end
	}
	if c.options.Framing != MBAP && c.held > 0 && !c.options.Datagrams {
		if quiet := time.Now().Add(gap); quiet.Before(deadline) || c.options.Character > 0 {
			deadline = quiet
		}
	}
	got, err := c.conn.read(c.in[c.held:], deadline)
	c.Counters.Got.Add(uint64(got))
	if got == 0 && err != nil {
		return c.lost(err)
	}
	c.held += got
	c.stamps = append(c.stamps, stamp{c.held, time.Now()})
	if own := min(*echo, c.held); own > 0 {
		c.moved(own)
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
