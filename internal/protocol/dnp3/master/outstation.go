package master

import (
	"bytes"
	"cmp"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/protocol/dnp3"
)

// Handler takes what an outstation says. Its Response is called once at a time, in the order in which fragments came. It must not
// ask the outstation anything.
type Handler interface {
	// Heard is told that a frame came.
	Heard()
	// Response takes a fragment of a response to a request, or of an unsolicited response.
	Response(f dnp3.Fragment)
	// Keep is called before a fragment with events is confirmed, once Response has taken it, and reports whether they are kept for good.
	// What is not kept is not confirmed, so that the outstation gives it again.
	Keep() bool
	// Repeated is told that an unsolicited response came again, as it does when its confirmation was lost.
	Repeated()
}

// Outstation is one outstation on a channel. One request is under way at a time; further ones wait.
type Outstation struct {
	channel *Channel
	address uint16
	master  uint16
	handler Handler

	// Confirmed says that requests are sent as confirmed user data: the data link layer acknowledges every frame.
	Confirmed bool

	asking sync.Mutex // held while a request is under way
	seq    byte
	count  dnp3.Control // frame count bit of the next confirmed frame
	reset  bool         // its link states are
	wrote  time.Time    // when the last octet of a request was written
	full   atomic.Bool  // its data link layer said that its buffers are (DFC, 9.2.4.1.3)

	mu      sync.Mutex
	segment byte // number of the next
	pending *exchange
	knock   *knock
	knocked bool             // somebody asked for the link status and does not wait
	past    [remembered]byte // sequence numbers of the last requests that timed out, the newest first; zeros for none

	// Of the reader alone.
	gather   dnp3.Reassembly
	kind     EventKind // of the fragment that is being gathered
	first    time.Time // when its first octet came
	misfit   string    // why it is no answer
	report   []byte    // the last unsolicited response
	counted  bool      // an FCB is expected from the outstation
	countBit dnp3.Control
	heard    atomic.Int64 // when it was, in nanoseconds since 1970
	coming   atomic.Int64 // when something of a response to the request under way came
}

// remembered is how many requests that timed out may still be answered: a slow device works off what was asked of it, one after the other.
const remembered = 4

// timedOut marks a sequence number of past as one.
const timedOut = 0x80

// exchange is a request under way.
type exchange struct {
	seq   byte
	first bool // a fragment has come
	sent  time.Time
	came  time.Time // when the first octet of the response did
	iin   dnp3.IIN
	each  func(dnp3.Fragment)
	done  chan struct{}
}

// knock is a request to the data link layer under way.
type knock struct {
	asked dnp3.LinkFunction
	got   dnp3.LinkFunction
	done  chan struct{}
}

// answers reports whether a secondary frame is one that answers a primary one (9.2.6): link status is answered by link status or by not
// supported, all others by ack or nack, or not supported.
func answers(asked, got dnp3.LinkFunction) bool {
	switch got {
	case dnp3.NotSupported:
		return true
	case dnp3.LinkStatus:
		return asked == dnp3.RequestStatus
	case dnp3.Ack, dnp3.Nack:
		return asked != dnp3.RequestStatus
	}
	return false
}

// Address is its link address.
func (o *Outstation) Address() uint16 { return o.address }

// Heard is when anything came from it, the zero time when nothing has.
func (o *Outstation) Heard() time.Time {
	if at := o.heard.Load(); at != 0 {
		return time.Unix(0, at)
	}
	return time.Time{}
}

// waits reports whether a request is under way.
func (o *Outstation) waits() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.pending != nil || o.knock != nil
}

// take is called by the reader with a frame from the outstation to us.
func (o *Outstation) take(f dnp3.Frame, raw []byte) {
	o.heard.Store(time.Now().UnixNano())
	o.handler.Heard()
	if f.Control&dnp3.Primary == 0 {
		e := Event{Kind: EventAnswer, From: int(o.address), Asked: int(o.address), Data: raw}
		o.full.Store(f.Control&dnp3.FlowFull != 0)
		o.mu.Lock()
		if k := o.knock; k != nil && answers(k.asked, f.Function()) {
			k.got, o.knock = f.Function(), nil
			defer close(k.done)
		} else if k != nil || !o.knocked || f.Function() != dnp3.LinkStatus {
			e.Kind, e.Text = EventStray, "it answers no request to the data link layer that is under way"
			o.channel.Counters.Stray.Add(1)
		} else {
			o.knocked = false
		}
		o.mu.Unlock()
		o.channel.see(e)
		return
	}
	answer := func(fn dnp3.LinkFunction) { o.channel.send(o.address, o.master, dnp3.Control(fn)) }
	switch f.Function() {
	case dnp3.RequestStatus:
		o.channel.see(Event{Kind: EventReported, From: int(o.address), Asked: -1, Data: raw})
		answer(dnp3.LinkStatus)
	case dnp3.ResetLinkStates:
		o.channel.see(Event{Kind: EventReported, From: int(o.address), Asked: -1, Data: raw})
		o.counted, o.countBit = true, dnp3.CountBit
		answer(dnp3.Ack)
	case dnp3.TestLinkStates:
		o.channel.see(Event{Kind: EventReported, From: int(o.address), Asked: -1, Data: raw})
		switch {
		case !o.counted:
			answer(dnp3.Nack)
		case f.Control&dnp3.CountBit != o.countBit: // sent again: the response before is, too
			answer(dnp3.Ack)
		default:
			o.countBit ^= dnp3.CountBit
			answer(dnp3.Ack)
		}
	case dnp3.ConfirmedData:
		if !o.counted {
			answer(dnp3.Nack)
			return
		}
		answer(dnp3.Ack)
		if f.Control&dnp3.CountBit != o.countBit { // sent again, since our acknowledgement was lost
			o.channel.see(Event{Kind: EventStray, From: int(o.address), Asked: -1, Data: raw, Text: "sent again"})
			return
		}
		o.countBit ^= dnp3.CountBit
		o.data(f, raw)
	case dnp3.UnconfirmedData:
		o.data(f, raw)
	default:
		o.channel.see(Event{Kind: EventStray, From: int(o.address), Asked: -1, Data: raw})
		answer(dnp3.NotSupported)
	}
}

// data takes a segment.
func (o *Outstation) data(f dnp3.Frame, raw []byte) {
	if begun, err := dnp3.ParseFragment(dnp3.Opening(f.Data)); err == nil { // the first segment tells what the fragment is
		o.kind, o.first, o.misfit = o.sort(begun.Control, begun.Function), o.channel.began, ""
		if o.kind == EventStray && begun.Function == dnp3.FuncResponse {
			o.misfit = fmt.Sprintf("its sequence number %d is that of no request under way", begun.Control.Seq())
		}
	}
	e := Event{Kind: o.kind, From: int(o.address), Asked: int(o.address), Data: raw}
	o.mu.Lock()
	if o.pending != nil && e.Kind == EventAnswer {
		e.After = time.Since(o.pending.sent)
	}
	o.mu.Unlock()
	fragment, err := o.gather.Add(f.Data)
	if err != nil {
		e.Kind, e.Text = EventDamaged, err.Error()
	}
	if e.Kind == EventStray {
		e.Text = cmp.Or(e.Text, o.misfit)
	}
	switch e.Kind {
	case EventAnswer:
		o.coming.Store(time.Now().UnixNano())
	case EventLate:
		o.channel.Counters.Late.Add(1)
	case EventStray:
		o.channel.Counters.Stray.Add(1)
	}
	o.channel.see(e)
	if fragment != nil {
		o.fragment(fragment)
	}
}

// sort says what a fragment is by its first two octets.
func (o *Outstation) sort(c dnp3.AppControl, f dnp3.Function) EventKind {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case !consistent(c, f):
		return EventStray
	case f == dnp3.FuncUnsolicited:
		return EventReported
	case f == dnp3.FuncResponse && o.pending != nil && c.Seq() == o.pending.seq:
		return EventAnswer
	case f == dnp3.FuncResponse && bytes.IndexByte(o.past[:], c.Seq()|timedOut) >= 0:
		return EventLate
	}
	return EventStray
}

// consistent reports whether the control octet of a fragment fits its function: unsolicited responses have UNS set and are one
// fragment, other responses have it clear (4.2.2.4).
func consistent(c dnp3.AppControl, f dnp3.Function) bool {
	const one = dnp3.First | dnp3.Final
	switch f {
	case dnp3.FuncUnsolicited:
		return c&dnp3.Unsolicited != 0 && c&one == one
	case dnp3.FuncResponse:
		return c&dnp3.Unsolicited == 0
	}
	return true
}

// fragment takes a whole fragment.
func (o *Outstation) fragment(b []byte) {
	f, err := dnp3.ParseFragment(b)
	switch {
	case err != nil, !consistent(f.Control, f.Function):
		return
	case f.Function == dnp3.FuncUnsolicited:
		o.unsolicited(f, b)
	case f.Function == dnp3.FuncResponse:
		o.solicited(f)
	}
}

// unsolicited takes a report. The same again is confirmed again and not taken: its confirmation was lost (4.6.2.4). One without objects
// is never the same: it tells of a restart.
func (o *Outstation) unsolicited(f dnp3.Fragment, b []byte) {
	repeated := len(f.Objects) > 0 && bytes.Equal(b, o.report)
	if !repeated {
		o.report = append(o.report[:0], b...)
	} else if o.confirmable(f) && o.handler.Keep() {
		o.confirm(f.Control)
	}
	if repeated {
		if o.confirmable(f) {
			o.handler.Repeated()
		}
		return
	}
	o.channel.hand(work{o: o, f: f, final: true})
}

// confirmable reports whether a fragment is to be confirmed: when its sender wants that, and its events can be taken in, each of them.
func (o *Outstation) confirmable(f dnp3.Fragment) bool {
	switch {
	case f.Control&dnp3.Confirm == 0:
		return false
	case o.channel.o.Unconfirmed:
		return !dnp3.HasEvents(f.Objects)
	}
	return understood(f.Objects)
}

// understood reports whether every object of a fragment can at least be passed over.
func understood(objects []byte) bool {
	o := dnp3.ReadObjects(objects, dnp3.FuncResponse)
	for o.Next() {
	}
	return o.Err == nil
}

// solicited takes a fragment of a response (4.2.2.2).
func (o *Outstation) solicited(f dnp3.Fragment) {
	o.mu.Lock()
	x := o.pending
	if x == nil || f.Control.Seq() != x.seq || (f.Control&dnp3.First != 0) == x.first {
		o.mu.Unlock()
		return
	}
	if !x.first {
		x.came = o.first
	}
	x.first = true
	x.iin |= f.IIN
	final := f.Control&dnp3.Final != 0
	x.seq = (x.seq + 1) & 0x0F // of the next fragment, if there is one
	if final {
		o.pending = nil
	}
	o.mu.Unlock()
	// A fragment that more are to follow is here, whole and in its turn; the outstation may send the next while this is taken in.
	if !final && !dnp3.HasEvents(f.Objects) && o.confirmable(f) {
		o.confirm(f.Control)
		f.Control &^= dnp3.Confirm
	}
	o.channel.hand(work{o: o, f: f, x: x, final: final})
}

// confirm sends an application confirmation. It is sent without one of the data link layer, since that would be waited for by the
// reader, which alone could take it.
func (o *Outstation) confirm(c dnp3.AppControl) {
	fragment := [2]byte{byte(dnp3.First | dnp3.Final | c&dnp3.Unsolicited | dnp3.AppControl(c.Seq())), byte(dnp3.FuncConfirm)}
	o.channel.send(o.address, o.master, dnp3.Control(dnp3.UnconfirmedData), o.cut(fragment[:])...) // a connection that is gone is noticed by the reader
}

// cut makes segments of a fragment, whose numbers follow each other, whoever else sends meanwhile.
func (o *Outstation) cut(fragment []byte) (list [][]byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var segments dnp3.Segments
	segments.Cut(fragment)
	for s := segments.Next(&o.segment); s != nil; s = segments.Next(&o.segment) {
		list = append(list, bytes.Clone(s))
	}
	return list
}

// Answer is the end of a response.
type Answer struct {
	IIN   dnp3.IIN  // of all its fragments
	Began time.Time // when the first octet of the request was sent
	Sent  time.Time // when the last one was
	Came  time.Time // when the first octet of the response was there
	Took  time.Duration
}

// Ask sends a request and waits for the whole response, each fragment of which goes to each, unless that is nil, and to the
// handler. Requests that are not answered return when they are sent.
func (o *Outstation) Ask(f dnp3.Function, objects []byte, each func(dnp3.Fragment)) (a Answer, err error) {
	return o.askAt(f, func(time.Time) []byte { return objects }, each)
}

// askAt is Ask with objects that tell the time at which they are sent.
func (o *Outstation) askAt(f dnp3.Function, objects func(time.Time) []byte, each func(dnp3.Fragment)) (a Answer, err error) {
	o.asking.Lock()
	defer o.asking.Unlock()
	if err := o.drain(); err != nil {
		return a, err
	}
	seq := o.seq
	o.seq = (o.seq + 1) & 0x0F
	a.Began = time.Now()
	fragment := dnp3.AppendFragment(nil, dnp3.Fragment{Control: dnp3.First | dnp3.Final | dnp3.AppControl(seq), Function: f, Objects: objects(a.Began)})
	x := &exchange{seq: seq, each: each, done: make(chan struct{}), sent: a.Began}
	if !f.Unanswered() {
		o.mu.Lock()
		o.pending = x
		o.mu.Unlock()
	}
	defer func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.pending == x {
			o.pending = nil
			copy(o.past[1:], o.past[:])
			o.past[0] = x.seq | timedOut
		}
	}()
	before := o.channel.spoilt()
	if err := o.transmit(fragment); err != nil {
		return a, err
	}
	a.Sent = o.wrote
	if f.Unanswered() {
		return a, nil
	}
	if err := o.await(x.done, a.Sent, before); err != nil {
		return a, err
	}
	a.Took, a.IIN = time.Since(a.Sent), x.iin
	if a.Came = x.came; a.Came.IsZero() {
		a.Came = time.Now()
	}
	return a, nil
}

// drain waits while the data link layer of the outstation says that its buffers are full: no user data are sent to it then, and its
// status is asked for (9.2.4.1.3).
func (o *Outstation) drain() error {
	for try := 0; o.full.Load(); try++ {
		if try > o.channel.o.Retries+2 {
			return ErrBusy
		}
		if _, err := o.linkRequest(dnp3.RequestStatus, 0, nil); err != nil {
			return err
		}
		if o.full.Load() {
			select {
			case <-o.channel.closed:
				return o.channel.why()
			case <-time.After(o.channel.o.Timeout / 8):
			}
		}
	}
	return nil
}

// spoilt is how much came that was no good.
type spoilt struct{ damaged, garbage uint64 }

func (c *Channel) spoilt() spoilt {
	return spoilt{c.Counters.Damaged.Load(), c.Counters.Garbage.Load()}
}

// What tells that this program was held up: how much later than told a wait has ended, and how long what came meanwhile takes to be
// read.
const (
	heldUp = 10 * time.Millisecond
	grace  = 5 * time.Millisecond
)

// reportsFor is how many timeouts a request is waited for while an outstation says other things: it may answer once its reports are
// confirmed, and it may never.
const reportsFor = 2

// await waits for done until nothing of the response has come from the outstation for the timeout, and nothing else for long.
func (o *Outstation) await(done <-chan struct{}, from time.Time, before spoilt) error {
	timer := time.NewTimer(o.channel.o.Timeout)
	defer timer.Stop()
	excused := false
	for {
		select {
		case <-done:
			return nil
		case <-o.channel.closed:
			return o.channel.why()
		case <-timer.C:
			last := from
			if heard, most := o.Heard(), from.Add(reportsFor*o.channel.o.Timeout); heard.After(most) {
				last = most
			} else if heard.After(last) {
				last = heard
			}
			if coming := time.Unix(0, o.coming.Load()); coming.After(last) {
				last = coming
			}
			rest := time.Until(last.Add(o.channel.o.Timeout))
			if rest > 0 {
				timer.Reset(rest)
				continue
			}
			if rest < -heldUp && !excused { // what came while this program was held up came in time
				timer.Reset(grace)
				excused = true
				continue
			}
			o.channel.see(Event{Kind: EventTimeout, From: int(o.address), Asked: int(o.address), Text: fmt.Sprintf("nothing within %s", o.channel.o.Timeout)})
			switch {
			case o.channel.spoilt().damaged > before.damaged:
				return fmt.Errorf("%w; %w within %s", ErrDamaged, ErrTimeout, o.channel.o.Timeout)
			case o.channel.spoilt().garbage > before.garbage:
				return fmt.Errorf("%w; %w within %s", ErrGarbage, ErrTimeout, o.channel.o.Timeout)
			}
			return fmt.Errorf("%w within %s", ErrTimeout, o.channel.o.Timeout)
		}
	}
}

func (c *Channel) why() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.cause
}

// transmit cuts a fragment into frames and sends them, each acknowledged where that is wanted.
func (o *Outstation) transmit(fragment []byte) error {
	segments := o.cut(fragment)
	if !o.Confirmed {
		err := o.channel.send(o.address, o.master, dnp3.Control(dnp3.UnconfirmedData), segments...)
		o.wrote = time.Now()
		return err
	}
	if !o.reset {
		if err := o.Reset(); err != nil {
			return err
		}
	}
	for _, s := range segments {
		if err := o.acknowledged(s); err != nil {
			return err
		}
	}
	return nil
}

// acknowledged sends one segment as confirmed user data (IEEE 1815-2012, 9.2.6).
func (o *Outstation) acknowledged(segment []byte) error {
	renewed := false
	for try := 0; ; try++ {
		got, err := o.linkRequest(dnp3.ConfirmedData, o.count|dnp3.CountValid, segment)
		switch {
		case err == nil && got == dnp3.Ack:
			o.count ^= dnp3.CountBit
			return nil
		case err == nil && got == dnp3.Nack && !renewed:
			renewed = true
			if err := o.Reset(); err != nil {
				return err
			}
		case err == nil:
			return ErrNack
		case try >= o.channel.o.Retries || o.channel.Lost():
			o.reset = false
			return err
		}
	}
}

// Reset resets the link states.
func (o *Outstation) Reset() error {
	got, err := o.linkRequest(dnp3.ResetLinkStates, 0, nil)
	if err != nil {
		return fmt.Errorf("resetting the link states: %w", err)
	}
	if got != dnp3.Ack {
		return fmt.Errorf("resetting the link states: answered with %s", got)
	}
	o.reset, o.count = true, dnp3.CountBit
	return nil
}

// Test resets the link states and tests them: the frame count of both ends must agree (9.2.6).
func (o *Outstation) Test() error {
	o.asking.Lock()
	defer o.asking.Unlock()
	if err := o.Reset(); err != nil {
		return err
	}
	for range 2 {
		got, err := o.linkRequest(dnp3.TestLinkStates, o.count|dnp3.CountValid, nil)
		if err != nil {
			return fmt.Errorf("testing the link states: %w", err)
		}
		if got != dnp3.Ack {
			return fmt.Errorf("testing the link states: answered with %s", got)
		}
		o.count ^= dnp3.CountBit
	}
	return nil
}

// Status asks for the link status, which every outstation answers.
func (o *Outstation) Status() (time.Duration, error) {
	o.asking.Lock()
	defer o.asking.Unlock()
	began := time.Now()
	_, err := o.linkRequest(dnp3.RequestStatus, 0, nil)
	return time.Since(began), err
}

// Knock asks for the link status without waiting; who answers is Heard.
func (o *Outstation) Knock() error {
	o.mu.Lock()
	o.knocked = true
	o.mu.Unlock()
	return o.channel.send(o.address, o.master, dnp3.Control(dnp3.RequestStatus))
}

// linkRequest sends a frame that the data link layer answers.
func (o *Outstation) linkRequest(f dnp3.LinkFunction, bits dnp3.Control, data []byte) (got dnp3.LinkFunction, err error) {
	k := &knock{asked: f, done: make(chan struct{})}
	o.mu.Lock()
	o.knock = k
	o.mu.Unlock()
	defer func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.knock = nil
	}()
	began, before := time.Now(), o.channel.spoilt()
	if err := o.channel.send(o.address, o.master, dnp3.Control(f)|bits, data); err != nil {
		return 0, err
	}
	o.wrote = time.Now()
	if err := o.await(k.done, began, before); err != nil {
		return 0, err
	}
	return k.got, nil
}
