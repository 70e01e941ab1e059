package modbus

import (
	"encoding/binary"
	"fmt"
	"net"
	"sync"
	"time"

	"arithmon/internal/core/crash"
)

// Pipeline asks devices over one connection with several requests outstanding at once, told apart by their transaction
// identifiers (TCP 4.4.1.1), so that its framing is MBAP. It is safe for concurrent use. Closing the connection ends it.
type Pipeline struct {
	Counters Counters

	conn      net.Conn
	datagrams bool
	watch     func(Event)
	sent      sentAt // guarded by mu

	mu          sync.Mutex // guards what follows
	transaction uint16
	waiting     map[uint16]*call
	out         []byte
	begun       []byte    // the head of a response that has not ended yet
	came        int       // bytes of it
	began       time.Time // when the first byte came of what is held
	failed      error     // why nothing more is possible

	writing sync.Mutex // one frame at a time
}

// call is a request that waits for its response.
type call struct {
	unit    byte
	request Request
	answer  Answered
	err     error
	wrong   error // what came instead
	done    chan struct{}
}

// NewPipeline speaks over conn, which the caller closes. Of the options it heeds Datagrams and Watch.
func NewPipeline(conn net.Conn, o ClientOptions) *Pipeline {
	if o.Watch == nil {
		o.Watch = func(Event) {}
	}
	p := &Pipeline{conn: conn, datagrams: o.Datagrams, watch: o.Watch, waiting: map[uint16]*call{}}
	go func() { // ends with the connection
		if fault := crash.Catch(p.read); fault != nil {
			if o.Fault != nil {
				o.Fault(fault)
			}
			p.fail(fmt.Errorf("%w: %w", ErrClosed, fault))
		}
	}()
	return p
}

// Exchange is Client.Exchange. The data belong to the caller.
func (p *Pipeline) Exchange(unit byte, req Request, timeout time.Duration) (Answered, error) {
	pdu, err := req.Append(make([]byte, 0, MaxPDU))
	if err != nil {
		return Answered{}, err
	}
	c := &call{unit: unit, request: req, done: make(chan struct{})}
	p.mu.Lock()
	if p.failed != nil {
		defer p.mu.Unlock()
		return Answered{}, p.failed
	}
	for {
		p.transaction++
		if p.waiting[p.transaction] == nil {
			break
		}
	}
	id := p.transaction
	p.waiting[id] = c
	began := time.Now()
	p.sent.note(id, began)
	p.mu.Unlock()

	p.writing.Lock()
	p.conn.SetWriteDeadline(began.Add(timeout)) // its error shows in the write
	p.out = AppendMBAP(p.out[:0], Frame{id, unit, pdu})
	p.watch(Event{Kind: EventSent, Unit: unit, Asked: int(unit), Data: p.out, At: began}) // before its response can come
	n, err := p.conn.Write(p.out)
	p.writing.Unlock()
	p.Counters.Sent.Add(uint64(n))
	if err != nil {
		p.fail(fmt.Errorf("%w: %w", ErrClosed, err))
	}
	timer := time.NewTimer(timeout)
	defer timer.Stop()
	select {
	case <-c.done:
		return c.answer, c.err
	case <-timer.C:
		if time.Since(began) > timeout+heldUp {
			time.Sleep(grace) // for the one who reads
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	select {
	case <-c.done: // in the last moment
		return c.answer, c.err
	default:
	}
	delete(p.waiting, id)
	if len(p.begun) >= 2 && binary.BigEndian.Uint16(p.begun) == id { // where the next frame begins is not known any more
		err := fmt.Errorf("%w: %w", ErrClosed, brokenOff(p.begun, p.came))
		p.watch(Event{Kind: EventDamaged, Unit: unit, Asked: int(unit), Data: p.begun, At: time.Now(), Text: err.Error()})
		p.end(err)
		return Answered{}, err
	}
	if c.wrong != nil {
		return Answered{}, c.wrong
	}
	p.watch(Event{Kind: EventTimeout, Unit: unit, Asked: int(unit), Text: fmt.Sprintf("no response within %s", timeout), At: time.Now()})
	return Answered{}, ErrTimeout
}

// read hands answers to those who wait for them until the connection ends.
func (p *Pipeline) read() {
	in := make([]byte, 4*maxFrame)
	var got time.Time // when bytes came last
	for held := 0; ; {
		if p.datagrams && held > 0 {
			p.datagram(in[:held])
			held = 0
		}
		frame, n, err := CutMBAP(in[:held])
		if at := p.resume(in[:held], n, err); at > 0 {
			held = copy(in, in[at:held])
			p.began = got
			continue
		}
		if err != nil {
			p.fail(fmt.Errorf("%w: %w", ErrClosed, err))
			return
		}
		if n > 0 {
			p.answer(frame, in[:n])
			held = copy(in, in[n:held])
			p.began = got // what is left came with the last read at the earliest
			continue
		}
		size, err := p.conn.Read(in[held:])
		p.Counters.Got.Add(uint64(size))
		if got = time.Now(); held == 0 {
			p.began = got
		}
		if held += size; err != nil {
			p.fail(ended(err, held))
			return
		}
	}
}

// datagram takes one datagram, which is one frame or dropped.
func (p *Pipeline) datagram(b []byte) {
	frame, _, err := wholeFrame(MBAP, b)
	if err == nil {
		p.answer(frame, b)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.Counters.Stray.Add(1)
	p.watch(Event{Kind: EventDamaged, Asked: -1, Data: b, At: time.Now(), Text: err.Error()})
}

// resume looks for where the response to another request begins, when that is within what should be one frame, of n bytes, or behind
// bytes that are none: then what is before it is dropped and told of, so that its data are never taken for what they are not. It
// returns how many bytes that are, and notes what is left of a frame that has not ended.
func (p *Pipeline) resume(b []byte, n int, err error) (at int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	last := len(b) - mbapHeader
	if p.begun, p.came = append(p.begun[:0], b[:min(len(b), mbapHeader)]...), len(b); n > 0 {
		p.begun, last = p.begun[:0], min(last, n)
	}
	for at = 1; at < last && !p.expects(b[at:]); at++ {
	}
	if at >= last {
		return 0
	}
	e := Event{Kind: EventDamaged, Asked: -1, Data: b[:at], At: time.Now(), Text: "bytes of no frame before a response"}
	if c := p.waiting[binary.BigEndian.Uint16(b)]; err == nil && at >= mbapHeader && c != nil {
		c.err = brokenOff(b, at)
		e.Unit, e.Asked, e.Text = c.unit, int(c.unit), c.err.Error()
		delete(p.waiting, binary.BigEndian.Uint16(b))
		close(c.done)
	} else {
		p.Counters.Stray.Add(1)
		for _, c := range p.waiting { // any of them is of the device
			e.Unit, e.Asked = c.unit, int(c.unit)
		}
	}
	p.watch(e)
	return at
}

// expects reports whether b begins like the response to a request under way.
func (p *Pipeline) expects(b []byte) bool {
	if b[2] != 0 || b[3] != 0 || b[4] != 0 || b[5] < 3 || int(b[5]) > maxADU-6 {
		return false
	}
	c := p.waiting[binary.BigEndian.Uint16(b)]
	return c != nil && b[6] == c.unit && b[7]&^exceptionFlag == byte(c.request.Function)
}

// answer gives a frame to the call it answers.
func (p *Pipeline) answer(f Frame, raw []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	c, now := p.waiting[f.Transaction], time.Now()
	switch {
	case c == nil:
		e := Event{Unit: f.Unit, Asked: int(f.Unit), Data: raw, At: now}
		switch e.Kind, e.Text = p.sent.unexpected(f.Transaction, p.transaction); e.Kind {
		case EventLate:
			p.Counters.Late.Add(1)
			e.After = p.sent.since(f.Transaction, now)
		case EventStray:
			p.Counters.Stray.Add(1)
		default:
			p.Counters.Foreign.Add(1)
			e.Asked = -1
			for id, c := range p.waiting {
				if c.wrong == nil && c.unit == f.Unit {
					c.wrong = badResponse("a response has the identifier %d, and the request had %d", f.Transaction, id)
				}
			}
		}
		p.watch(e)
	case f.Unit != c.unit:
		p.Counters.Foreign.Add(1)
		c.wrong = misfit(f, c.unit, c.request)
		p.watch(Event{Kind: EventForeign, Unit: f.Unit, Asked: int(c.unit), Data: raw, At: now, Text: c.wrong.Error()})
	default:
		c.answer.At = p.began
		p.sent.answered(f.Transaction)
		c.answer.Data, c.err = c.request.ParseAnswer(append([]byte(nil), f.PDU...))
		e := Event{Kind: EventAnswer, Unit: f.Unit, Asked: int(f.Unit), Data: raw, At: p.began, After: p.sent.since(f.Transaction, p.began)}
		if c.err != nil {
			e.Text = c.err.Error()
		}
		p.watch(e)
		delete(p.waiting, f.Transaction)
		close(c.done)
	}
}

// fail ends all calls, once.
func (p *Pipeline) fail(err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.end(err)
}

// end is fail; the lock is held.
func (p *Pipeline) end(err error) {
	if p.failed != nil {
		return
	}
	p.failed = err
	p.watch(Event{Kind: EventClosed, Asked: -1, At: time.Now(), Text: err.Error()})
	for id, c := range p.waiting {
		c.err = err
		delete(p.waiting, id)
		close(c.done)
	}
}

// misfit says what is wrong with a response that is not from the unit or to the function asked.
func misfit(f Frame, unit byte, req Request) error {
	if f.Unit != unit {
		return &WrongUnitError{Asked: unit, Answered: f.Unit}
	}
	return badResponse("function %d answered to %s", f.PDU[0], req.Function)
}

// WrongUnitError says that another unit answered. It wraps ErrBadResponse.
type WrongUnitError struct{ Asked, Answered byte }

func (e *WrongUnitError) Error() string {
	return fmt.Sprintf("%s: unit %d answered instead of unit %d", ErrBadResponse, e.Answered, e.Asked)
}

// Unwrap is ErrBadResponse.
func (e *WrongUnitError) Unwrap() error { return ErrBadResponse }
