// Package master is the master side of DNP3 (IEEE 1815-2012) on one connection: it asks outstations, takes what they report by
// themselves, and confirms both. What the responses mean is for its user to say.
package master

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/protocol/dnp3"
)

// Options are how a Channel behaves.
type Options struct {
	Timeout time.Duration // silence after which a request has failed; 2 s
	Retries int           // of frames that want an acknowledgement
	Watch   func(Event)   // is told of what crosses the connection; nil: nobody
	// Unconfirmed says that events are not confirmed, so that they stay with the outstation; of a long response with events only the
	// first fragment comes then.
	Unconfirmed bool

	Stranger func(dnp3.Frame) // is given frames from or to an address that nobody here has; nil: nobody

	// Fault is told of a panic within the channel, which it ends; nil: nobody.
	Fault func(*crash.Error)
}

// Event is something that was seen on the connection.
type Event struct {
	Kind  EventKind
	From  int           // link address of the outstation that sent or is asked; -1 when that is not known
	Asked int           // that had been asked, of what came; -1 when that is not known
	Data  []byte        // of one frame, as on the wire; holds during the call
	After time.Duration // of a response: since its request was sent
	Text  string        // what is wrong, when something is
}

// EventKind says what was seen.
type EventKind byte

// The kinds.
const (
	EventSent     EventKind = iota
	EventAnswer             // to the request under way
	EventLate               // to a request that has timed out
	EventForeign            // of or to somebody else
	EventStray              // to nothing that was asked
	EventDamaged            // no frame, or one whose CRC is wrong
	EventEcho               // our own frame came back
	EventTimeout            // nothing came in time
	EventClosed             // the connection ended
	EventReported           // an unsolicited response
)

// Counters are what was seen on the connection.
type Counters struct {
	BytesSent, BytesReceived atomic.Uint64
	Late, Foreign, Stray     atomic.Uint64
	Damaged                  atomic.Uint64 // frames whose CRC is wrong
	Garbage                  atomic.Uint64 // pieces that are no frames
}

// Errors of requests.
var (
	ErrTimeout = errors.New("no response")
	ErrDamaged = errors.New("what came back is damaged: wrong CRC")
	ErrGarbage = errors.New("what came back is not DNP3")
	ErrClosed  = errors.New("the connection was closed by the far end")
	ErrBusy    = errors.New("the data link layer of the outstation says that its buffers are full (DFC)")
	ErrNack    = errors.New("the data link layer of the outstation refuses (nack); its link states were reset and it refuses still")
)

// Channel is a connection with the outstations on it. Close ends it and everything under way.
type Channel struct {
	conn     net.Conn
	o        Options
	Counters Counters

	writing  sync.Mutex
	out      []byte
	deadline time.Time // of writing

	mu     sync.Mutex
	on     map[uint16]*Outstation
	closed chan struct{}
	work   chan work
	queued atomic.Int64 // fragments in work, or being taken from it
	cause  error        // why it is closed; guarded by mu until closed is
	done   sync.WaitGroup
	began  time.Time // when the first octet came of the frame that is being read; the reader's
}

// New makes a channel of a connection. What comes is taken from Start on, so that nothing comes before its outstations are known.
func New(conn net.Conn, o Options) *Channel {
	o.Timeout = cmp.Or(o.Timeout, 2*time.Second)
	return &Channel{conn: conn, o: o, on: map[uint16]*Outstation{}, closed: make(chan struct{}), work: make(chan work, ahead)}
}

// ahead is how many fragments may be read before their handler has taken them.
const ahead = 32

// work is a fragment that is to be taken by its handler.
type work struct {
	o     *Outstation
	f     dnp3.Fragment
	x     *exchange // that it answers; nil of what was reported
	final bool

	buffer *[]byte // that holds its objects
}

// hand gives a fragment to its handler: at once where nothing is before it and nothing comes until it was confirmed, and otherwise in a
// goroutine of its own, so that the next can be read meanwhile. Those of a channel keep their order.
func (c *Channel) hand(w work) {
	if (w.final || dnp3.HasEvents(w.f.Objects)) && c.queued.Load() == 0 {
		w.take()
		return
	}
	buffer := buffers.Get().(*[]byte)
	*buffer = append((*buffer)[:0], w.f.Objects...)
	w.f.Objects, w.buffer = *buffer, buffer
	c.queued.Add(1)
	c.work <- w
}

func (c *Channel) handle() {
	for w := range c.work {
		w.take()
		buffers.Put(w.buffer)
		c.queued.Add(-1)
	}
}

// buffers hold fragments until they are taken.
var buffers = sync.Pool{New: func() any { return new([]byte) }}

// take gives a fragment to its handler and confirms it then, so that what is confirmed has been taken in.
func (w work) take() {
	if w.x != nil && w.x.each != nil {
		w.x.each(w.f)
	}
	w.o.handler.Response(w.f)
	if w.o.confirmable(w.f) && (!dnp3.HasEvents(w.f.Objects) || w.o.handler.Keep()) {
		w.o.confirm(w.f.Control)
	}
	if w.x != nil && w.final {
		close(w.x.done)
	}
}

// Start begins to take what comes.
func (c *Channel) Start() {
	c.done.Go(func() {
		defer close(c.work)
		if fault := crash.Catch(c.read); fault != nil {
			c.faulted(fault)
			c.end(fault)
		}
	})
	c.done.Go(func() {
		if fault := crash.Catch(c.handle); fault != nil {
			c.faulted(fault)
			c.conn.Close()
			for w := range c.work { // what waits for them sees the connection end
				buffers.Put(w.buffer)
				c.queued.Add(-1)
			}
		}
	})
}

func (c *Channel) faulted(fault *crash.Error) {
	if c.o.Fault != nil {
		c.o.Fault(fault)
	}
}

// Close closes the connection and waits for its reader.
func (c *Channel) Close() {
	c.conn.Close()
	c.done.Wait()
}

// Lost reports whether the connection has ended.
func (c *Channel) Lost() bool {
	select {
	case <-c.closed:
		return true
	default:
		return false
	}
}

// Outstation gives the outstation at a link address, as seen by a master address. What it says goes to h.
func (c *Channel) Outstation(address, master uint16, h Handler) *Outstation {
	o := &Outstation{channel: c, address: address, master: master, handler: h}
	c.mu.Lock()
	c.on[address] = o
	c.mu.Unlock()
	return o
}

// Forget forgets the outstation at an address where its handler is the one that is meant, and not one that has taken the address since.
func (c *Channel) Forget(address uint16, meant func(Handler) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if o := c.on[address]; o != nil && meant(o.handler) {
		delete(c.on, address)
	}
}

// Wait waits until the connection has ended.
func (c *Channel) Wait() { c.done.Wait() }

// roomToRead is how much is read at once.
const roomToRead = 16 * 1024

// read takes frames until the connection ends.
func (c *Channel) read() {
	buffer, room := make([]byte, roomToRead), make([]byte, 0, dnp3.MaxUserData)
	held := 0
	for {
		n, err := c.conn.Read(buffer[held:])
		c.Counters.BytesReceived.Add(uint64(n))
		if now := time.Now(); held == 0 {
			c.began = now // of the frame that comes now
		}
		held += n
		b := buffer[:held]
		for len(b) > 0 {
			f, size, fault := dnp3.ParseFrame(b, room)
			if errors.Is(fault, dnp3.ErrIncomplete) {
				break
			}
			if fault != nil {
				if errors.Is(fault, dnp3.ErrChecksum) {
					c.Counters.Damaged.Add(1)
				} else {
					c.Counters.Garbage.Add(1)
				}
				c.see(Event{Kind: EventDamaged, From: -1, Asked: c.asked(), Data: b[:size], Text: fault.Error()})
			} else {
				c.take(f, b[:size])
			}
			b = b[size:]
			c.began = time.Now()
		}
		held = copy(buffer, b)
		if held > dnp3.MaxFrame { // more than a frame has never to be waited for
			held = 0
		}
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			c.end(err)
			return
		}
	}
}

// end wakes all who wait.
func (c *Channel) end(err error) {
	c.mu.Lock()
	c.cause = ErrClosed
	if errors.Is(err, syscall.ECONNREFUSED) { // of datagrams: nothing takes them
		c.cause = err
	} else if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		c.cause = fmt.Errorf("%w: %w", ErrClosed, err)
	}
	c.mu.Unlock()
	c.conn.Close()
	close(c.closed)
	c.see(Event{Kind: EventClosed, From: c.asked(), Asked: -1, Text: "the connection ended"})
}

func (c *Channel) see(e Event) {
	if c.o.Watch != nil {
		c.o.Watch(e)
	}
}

// asked is the outstation that a request is under way to, -1 for none.
func (c *Channel) asked() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	for address, o := range c.on {
		if o.waits() {
			return int(address)
		}
	}
	return -1
}

// take passes a frame to its outstation.
func (c *Channel) take(f dnp3.Frame, raw []byte) {
	c.mu.Lock()
	o := c.on[f.Source]
	c.mu.Unlock()
	if o != nil && f.Destination == o.master && f.Control&dnp3.FromMaster == 0 {
		o.take(f, raw)
		return
	}
	kind, text := EventForeign, fmt.Sprintf("from %d to %d", f.Source, f.Destination)
	if f.Control&dnp3.FromMaster != 0 {
		c.mu.Lock()
		if to := c.on[f.Destination]; to != nil && to.master == f.Source {
			kind, text = EventEcho, "our own frame came back"
		} else {
			text = fmt.Sprintf("another master: from %d to %d", f.Source, f.Destination)
		}
		c.mu.Unlock()
	}
	if kind == EventForeign {
		c.Counters.Foreign.Add(1)
	}
	c.see(Event{Kind: kind, From: int(f.Source), Asked: c.asked(), Data: raw, Text: text})
	if c.o.Stranger != nil && kind == EventForeign {
		c.o.Stranger(f)
	}
}

// send writes frames to an outstation; a fragment's go together.
func (c *Channel) send(to, from uint16, control dnp3.Control, segments ...[]byte) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	c.out = c.out[:0]
	if len(segments) == 0 {
		segments = [][]byte{nil}
	}
	for _, data := range segments {
		at := len(c.out)
		c.out = dnp3.AppendFrame(c.out, dnp3.Frame{Control: control | dnp3.FromMaster, Destination: to, Source: from, Data: data})
		c.see(Event{Kind: EventSent, From: int(to), Asked: -1, Data: c.out[at:]})
	}
	if now := time.Now(); now.Add(c.o.Timeout).After(c.deadline) { // it costs as much as a write, so it is not set each time
		c.deadline = now.Add(2*c.o.Timeout + time.Duration(len(c.out))*40*time.Millisecond) // at 300 bit/s and faster
		c.conn.SetWriteDeadline(c.deadline)
	}
	n, err := c.conn.Write(c.out)
	c.Counters.BytesSent.Add(uint64(n))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrClosed, err)
	}
	return nil
}

// Broadcast sends a request to all outstations, from a master address; none answers (4.2.2.8).
func (c *Channel) Broadcast(from uint16, f dnp3.Function, objects []byte) error {
	all := Outstation{channel: c} // whose numbers begin anew, as first segments may
	fragment := dnp3.AppendFragment(nil, dnp3.Fragment{Control: dnp3.First | dnp3.Final, Function: f, Objects: objects})
	return c.send(dnp3.BroadcastMayAck, from, dnp3.Control(dnp3.UnconfirmedData), all.cut(fragment)...)
}

// KnockAs sends what Knock does to one outstation, in the name of other masters: one that answers a certain master alone tells thereby which.
func (c *Channel) KnockAs(to uint16, masters ...uint16) error {
	for _, from := range masters {
		if err := c.Knock(from, to); err != nil {
			return err
		}
	}
	return nil
}

// Knock sends a request for link status to addresses that need not be there; who answers, Stranger is told.
func (c *Channel) Knock(from uint16, addresses ...uint16) error {
	for _, to := range addresses {
		if err := c.send(to, from, dnp3.Control(dnp3.RequestStatus)); err != nil {
			return err
		}
	}
	return nil
}
