// Package outstation is the outstation side of DNP3 (IEEE 1815-2012): points, event buffers, and the answers to a master.
//
// An Outstation is a pure state machine: it has no connection and no clock. It is told what came and what time it is, and says
// what to send. Server puts it on a line.
package outstation

import (
	"bytes"
	"cmp"
	"math"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
)

// Config is how an outstation behaves. The zero of a duration or number takes the default.
type Config struct {
	Address        uint16
	Master         uint16        // whom it reports to
	AnyMaster      bool          // it answers others, too
	MaxFragment    int           // 2048
	ConfirmTimeout time.Duration // 5 s
	SelectTimeout  time.Duration // 10 s
	Unsolicited    bool          // it can report by itself
	HoldTime       time.Duration // events wait so long for others before they are reported by themselves; 50 ms
	MostTries      int           // times an unsolicited response is repeated before a pause; 3
	Buffer         int           // events of each class that are kept; 1000
	NeedTime       bool          // it asks for the time
	CommandEvents  bool          // it reports commands as events, too (groups 13 and 43)
	Attributes     []dnp3.Attribute
	// Act carries out a command on a point that exists; select asks only whether it would. nil lets outputs follow.
	Act func(Command) dnp3.Status
	// NoEvents says that it knows no event classes.
	NoEvents bool
	// Refuse are functions that it does not have.
	Refuse []dnp3.Function
}

// Command is what a master wants of an output.
type Command struct {
	Kind   dnp3.Kind
	Index  uint16
	Output dnp3.Output // of a binary output
	Value  codec.Value // of an analog output
	Select bool        // only ask
}

// Point is a point as configured.
type Point struct {
	Kind     dnp3.Kind
	Index    uint16
	Class    int  // of its events, 1 to 3; 0: it has none
	Static   byte // default variations; 0: the standard's usual ones
	Event    byte
	Deadband float64 // of analogs and counters
	Value    codec.Value
	Flags    dnp3.Flags
	Hidden   bool // it is not reported with class 0
}

// The default variations where a point does not say.
var (
	defaultStatic = [dnp3.KindCount]byte{dnp3.BinaryInput: 2, dnp3.DoubleBitInput: 2, dnp3.BinaryOutput: 2, dnp3.Counter: 1, dnp3.FrozenCounter: 5, dnp3.AnalogInput: 5, dnp3.FrozenAnalog: 7, dnp3.AnalogOutput: 3}
	defaultEvent  = [dnp3.KindCount]byte{dnp3.BinaryInput: 2, dnp3.DoubleBitInput: 2, dnp3.BinaryOutput: 2, dnp3.Counter: 5, dnp3.FrozenCounter: 5, dnp3.AnalogInput: 7, dnp3.FrozenAnalog: 7, dnp3.AnalogOutput: 7}
)

// point is a point as it is.
type point struct {
	Point
	at       dnp3.Time // of its last change
	reported float64   // value of the last event, from which the deadband counts
}

// event waits in the buffer until the master has confirmed it.
type event struct {
	point   *point
	class   int
	group   byte // its own; 0: the kind's event group
	variant byte // its own; 0: the point's
	value   codec.Value
	flags   dnp3.Flags
	status  dnp3.Status
	at      dnp3.Time
	unsync  bool
	chosen  bool // it is in a fragment that was not confirmed yet
	gone    bool // it was confirmed
}

// Outstation is one outstation. It is not safe for concurrent use.
type Outstation struct {
	config Config
	points [dnp3.KindCount][]*point // by index

	events   []*event // the oldest first
	buffered [4]int   // by class
	given    [4]int   // of these, in fragments that were not confirmed yet
	overflow bool
	restart  bool
	stuck    bool // and stays
	needTime bool
	local    bool
	trouble  bool
	corrupt  bool
	offset   time.Duration // of its clock
	recorded time.Time     // when it was told to record the time
	heard    bool          // a broadcast came since the last response
	mustTell bool          // and that is told until it is confirmed: it came to the address that wants that

	solicited *waiting // for a confirmation
	reporting *waiting // an unsolicited response
	deferred  []byte   // a read that came while reporting
	from      uint16
	enabled   [4]bool // classes that are reported by themselves
	told      bool    // the master has confirmed the first, empty report
	unsSeq    byte
	holdUntil time.Time
	tries     int
	pauseTo   time.Time

	last     []byte // request
	lastSaid []byte // and what it was answered
	selected *selection

	freezes []freeze
	pulses  []pulse
}

// freeze is one that is to come.
type freeze struct {
	at      dnp3.Time
	every   uint32 // milliseconds
	headers []byte
}

// pulse is an output that goes back.
type pulse struct {
	at    time.Time
	point *point
	value bool
	left  int // further changes
	on    time.Duration
	off   time.Duration
}

// waiting is a fragment that awaits its confirmation.
type waiting struct {
	seq      byte
	until    time.Time
	chosen   []*event
	rest     []item // of a response that goes on
	to       uint16
	fragment []byte

	broadcast bool // it tells of a broadcast
}

// Send is a fragment to be sent.
type Send struct {
	To       uint16
	Fragment []byte
}

// New makes an outstation that has just started.
func New(c Config, points []Point) *Outstation {
	c.MaxFragment = cmp.Or(c.MaxFragment, dnp3.MaxFragment)
	c.ConfirmTimeout = cmp.Or(c.ConfirmTimeout, 5*time.Second)
	c.SelectTimeout = cmp.Or(c.SelectTimeout, 10*time.Second)
	c.HoldTime = cmp.Or(c.HoldTime, 50*time.Millisecond)
	c.Buffer = cmp.Or(c.Buffer, 1000)
	c.MostTries = cmp.Or(c.MostTries, 3)
	o := &Outstation{config: c, restart: true, needTime: c.NeedTime}
	for _, p := range points {
		p.Static = cmp.Or(p.Static, defaultStatic[p.Kind])
		p.Event = cmp.Or(p.Event, defaultEvent[p.Kind])
		if p.Value.IsZero() {
			p.Value = codec.BoolValue(false)
		}
		made := &point{Point: p}
		made.Flags |= dnp3.Online
		made.reported, _ = p.Value.Float()
		list := o.points[p.Kind]
		at, _ := slices.BinarySearchFunc(list, p.Index, func(p *point, i uint16) int { return int(p.Index) - int(i) })
		o.points[p.Kind] = slices.Insert(list, at, made)
	}
	return o
}

// Address is its link address.
func (o *Outstation) Address() uint16 { return o.config.Address }

// point finds a point, nil when there is none.
func (o *Outstation) point(k dnp3.Kind, index uint16) *point {
	list := o.points[k]
	if int(index) < len(list) && list[index].Index == index { // most are numbered without gaps
		return list[index]
	}
	at, found := slices.BinarySearchFunc(list, index, func(p *point, i uint16) int { return int(p.Index) - int(i) })
	if !found {
		return nil
	}
	return list[at]
}

// Value is that of a point now, nothing when there is no such point.
func (o *Outstation) Value(k dnp3.Kind, index uint16) (v codec.Value, f dnp3.Flags) {
	if p := o.point(k, index); p != nil {
		return p.Value, p.Flags
	}
	return codec.Value{}, 0
}

// Clock is the time as the outstation has it.
func (o *Outstation) Clock(now time.Time) dnp3.Time { return dnp3.TimeOf(now.Add(o.offset)) }

// Set gives a point another value and flags, and makes an event of that where the point has a class and the change is beyond its
// deadband.
func (o *Outstation) Set(now time.Time, k dnp3.Kind, index uint16, v codec.Value, flags dnp3.Flags) {
	p := o.point(k, index)
	if p == nil || p.Value == v && p.Flags == flags {
		return
	}
	changed := p.Flags != flags || beyond(p, v)
	p.Value, p.Flags, p.at = v, flags, o.Clock(now)
	if changed {
		o.happen(now, p)
	}
}

// beyond reports whether a value is an event of its point.
func beyond(p *point, v codec.Value) bool {
	f, ok := v.Float()
	if !ok || p.Deadband == 0 {
		return true
	}
	return math.Abs(f-p.reported) > p.Deadband
}

// happen puts the point's present value into the buffer of its class.
func (o *Outstation) happen(now time.Time, p *point) {
	p.reported, _ = p.Value.Float()
	o.buffer(now, &event{point: p, class: p.Class, value: p.Value, flags: p.Flags, at: o.Clock(now), unsync: o.needTime})
}

// buffer keeps an event; when its class is full the oldest makes room (IIN2.3).
func (o *Outstation) buffer(now time.Time, e *event) {
	if e.class == 0 {
		return
	}
	if o.buffered[e.class] >= o.config.Buffer {
		o.overflow = true
		for i, old := range o.events {
			if old.class == e.class && !old.chosen {
				o.events = slices.Delete(o.events, i, i+1)
				o.buffered[e.class]--
				break
			}
		}
	}
	o.events = append(o.events, e)
	o.buffered[e.class]++
	if o.holdUntil.IsZero() {
		o.holdUntil = now.Add(o.config.HoldTime)
	}
}

// Overflow pretends that events were lost.
func (o *Outstation) Overflow() { o.overflow = true }

// SetOffset sets how wrong its clock is.
func (o *Outstation) SetOffset(d time.Duration) { o.offset = d }

// SetStuck lets its restart indication stay whatever is written, or go away as it should.
func (o *Outstation) SetStuck(on bool) {
	o.stuck = on
	o.restart = o.restart || on
}

// SetLocal switches its points to local control, which refuses commands (IIN1.5).
func (o *Outstation) SetLocal(on bool) { o.local = on }

// SetTrouble sets device trouble and configuration corrupt (IIN1.6, IIN2.5).
func (o *Outstation) SetTrouble(trouble, corrupt bool) { o.trouble, o.corrupt = trouble, corrupt }

// SetNeedTime makes it ask for the time.
func (o *Outstation) SetNeedTime(on bool) { o.needTime = on }

// Restart forgets everything but the points, as a restart does.
func (o *Outstation) Restart() {
	o.Disconnected()
	o.events, o.buffered, o.given, o.overflow = nil, [4]int{}, [4]int{}, false
	o.restart, o.needTime = true, o.config.NeedTime
	o.enabled, o.told, o.selected, o.freezes, o.last = [4]bool{}, false, nil, nil, nil
	o.tries, o.pauseTo = 0, time.Time{}
}

// Disconnected forgets what was under way on a connection that ended; events stay.
func (o *Outstation) Disconnected() {
	o.drop(o.solicited)
	o.drop(o.reporting)
	o.solicited, o.reporting, o.deferred = nil, nil, nil
	o.tries, o.pauseTo = 0, time.Time{}
}

// drop gives the events of a fragment that is given up back to the buffer.
func (o *Outstation) drop(w *waiting) {
	if w == nil {
		return
	}
	for _, e := range w.chosen {
		e.chosen = false
		o.given[e.class]--
	}
}

// confirmed takes events out of the buffer.
func (o *Outstation) confirmed(w *waiting) {
	if len(w.chosen) == 0 {
		return
	}
	for _, e := range w.chosen {
		e.gone = true
		o.buffered[e.class]--
		o.given[e.class]--
	}
	for len(o.events) > 0 && o.events[0].gone { // as they mostly are, the oldest
		o.events = o.events[1:]
	}
	if sum(o.buffered) < len(o.events) {
		o.events = slices.DeleteFunc(o.events, func(e *event) bool { return e.gone })
	}
	if o.overflow && o.buffered[1] < o.config.Buffer && o.buffered[2] < o.config.Buffer && o.buffered[3] < o.config.Buffer {
		o.overflow = false
	}
}

func sum(n [4]int) int { return n[1] + n[2] + n[3] }

// indications are those of a response, apart from what the request adds.
func (o *Outstation) indications() (i dnp3.IIN) {
	for class := 1; class <= 3; class++ {
		if o.buffered[class] > o.given[class] {
			i |= dnp3.IIN(1) << class
		}
	}
	for _, b := range []struct {
		on  bool
		bit dnp3.IIN
	}{{o.heard, dnp3.IINBroadcast}, {o.needTime, dnp3.IINNeedTime}, {o.local, dnp3.IINLocalControl}, {o.trouble, dnp3.IINTrouble},
		{o.restart, dnp3.IINRestart}, {o.overflow, dnp3.IINOverflow}, {o.corrupt, dnp3.IINCorrupt}} {
		if b.on {
			i |= b.bit
		}
	}
	return i
}

// MustTell says that the broadcast that is received next is to be told of until that is confirmed (4.2.2.8: address 0xFFFE).
func (o *Outstation) MustTell() { o.mustTell = true }

// Receive takes a fragment from a master; broadcast says that it was sent to all.
func (o *Outstation) Receive(now time.Time, master uint16, broadcast bool, b []byte) []Send {
	f, err := dnp3.ParseFragment(b)
	if err != nil || f.Function.Response() {
		return nil // garbage is not answered: 4.2.2.5
	}
	if master != o.config.Master && !o.config.AnyMaster {
		return nil
	}
	if f.Function == dnp3.FuncConfirm {
		return o.confirm(now, f.Control)
	}
	if f.Control&(dnp3.First|dnp3.Final) != dnp3.First|dnp3.Final {
		return nil // requests have one fragment
	}
	if f.Function == dnp3.FuncRead && o.reporting != nil && !broadcast {
		o.deferred, o.from = bytes.Clone(b), master // until the report is confirmed: 4.6.2.3
		return nil
	}
	// The same request again is answered as before, and not carried out again: 4.2.2.2.4.
	if f.Function != dnp3.FuncRead && bytes.Equal(b, o.last) {
		if o.lastSaid == nil || broadcast {
			return nil
		}
		return []Send{{master, o.lastSaid}}
	}
	o.drop(o.solicited)
	o.solicited = nil
	o.last, o.lastSaid = bytes.Clone(b), nil
	items, iin := o.carryOut(now, f)
	if broadcast {
		o.heard = true
		return nil
	}
	if f.Function.Unanswered() {
		return nil
	}
	said := o.respond(now, master, f.Control.Seq(), items, iin, true)
	o.lastSaid = said.Fragment
	o.heard = o.mustTell
	return []Send{said}
}

// confirm takes a confirmation.
func (o *Outstation) confirm(now time.Time, c dnp3.AppControl) []Send {
	if c&dnp3.Unsolicited != 0 {
		w := o.reporting
		if w == nil || w.seq != c.Seq() {
			return nil
		}
		o.confirmed(w)
		o.reporting, o.told, o.tries = nil, true, 0
		o.unsSeq++
		o.holdUntil = time.Time{}
		if len(o.events) > 0 {
			o.holdUntil = now
		}
		return append(o.takeUp(now), o.Tick(now)...)
	}
	w := o.solicited
	if w == nil || w.seq != c.Seq() {
		return nil
	}
	o.confirmed(w)
	o.solicited = nil
	if w.broadcast {
		o.heard, o.mustTell = false, false
	}
	if w.rest == nil {
		return o.Tick(now)
	}
	return []Send{o.respond(now, w.to, (w.seq+1)&0x0F, w.rest, 0, false)}
}

// takeUp answers the read that had to wait.
func (o *Outstation) takeUp(now time.Time) []Send {
	b := o.deferred
	o.deferred = nil
	if b == nil {
		return nil
	}
	return o.Receive(now, o.from, false, b)
}

// respond makes the next fragment of a response.
func (o *Outstation) respond(now time.Time, to uint16, seq byte, items []item, iin dnp3.IIN, first bool) Send {
	b := builder{o: o, now: now, limit: o.config.MaxFragment - 4}
	rest := b.fill(items)
	control := dnp3.AppControl(seq)
	if first {
		control |= dnp3.First
	}
	if rest == nil {
		control |= dnp3.Final
	}
	if rest != nil || len(b.chosen) > 0 || o.mustTell {
		control |= dnp3.Confirm
		o.solicited = &waiting{seq: seq, until: now.Add(o.config.ConfirmTimeout), chosen: b.chosen, rest: rest, to: to, broadcast: o.mustTell}
	}
	fragment := dnp3.AppendFragment(nil, dnp3.Fragment{Control: control, Function: dnp3.FuncResponse, IIN: iin | o.indications() | b.iin, Objects: b.out})
	return Send{to, fragment}
}

// Tick does what time brings: confirmations that did not come, reports, freezes, the ends of pulses. It is called at Next, or
// more often.
func (o *Outstation) Tick(now time.Time) (list []Send) {
	o.happenings(now)
	if w := o.solicited; w != nil && !now.Before(w.until) {
		o.drop(w)
		o.solicited = nil
	}
	if w := o.reporting; w != nil {
		if now.Before(w.until) {
			return nil
		}
		if o.tries++; o.tries <= o.config.MostTries && o.deferred == nil {
			w.until = now.Add(o.config.ConfirmTimeout)
			return []Send{{w.to, w.fragment}} // the same again, with the same number: 4.6.2.4
		}
		o.drop(w)
		o.reporting = nil
		if o.tries > o.config.MostTries {
			o.tries, o.pauseTo = 0, now.Add(6*o.config.ConfirmTimeout)
		}
		list = o.takeUp(now)
	}
	if s, ok := o.report(now); ok {
		list = append(list, s)
	}
	return list
}

// report makes an unsolicited response when there is something to say.
func (o *Outstation) report(now time.Time) (s Send, ok bool) {
	if !o.config.Unsolicited || o.reporting != nil || o.solicited != nil || now.Before(o.pauseTo) {
		return s, false
	}
	b := builder{o: o, now: now, limit: o.config.MaxFragment - 4}
	if o.told {
		if o.holdUntil.IsZero() || now.Before(o.holdUntil) || !slices.ContainsFunc(o.events, func(e *event) bool { return o.enabled[e.class] }) {
			return s, false
		}
		b.fill([]item{{kind: itemEvents, classes: o.enabled}})
		if len(b.chosen) == 0 {
			return s, false
		}
	}
	control := dnp3.First | dnp3.Final | dnp3.Confirm | dnp3.Unsolicited | dnp3.AppControl(o.unsSeq&0x0F)
	fragment := dnp3.AppendFragment(nil, dnp3.Fragment{Control: control, Function: dnp3.FuncUnsolicited, IIN: o.indications(), Objects: b.out})
	o.reporting = &waiting{seq: o.unsSeq & 0x0F, until: now.Add(o.config.ConfirmTimeout), chosen: b.chosen, to: o.config.Master, fragment: fragment}
	return Send{o.config.Master, fragment}, true
}

// Next is when Tick has something to do at the latest; the zero time when nothing is waited for.
func (o *Outstation) Next() (next time.Time) {
	sooner := func(t time.Time) {
		if !t.IsZero() && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	if o.solicited != nil {
		sooner(o.solicited.until)
	}
	switch {
	case o.reporting != nil:
		sooner(o.reporting.until)
	case o.config.Unsolicited && (!o.told || !o.holdUntil.IsZero() && o.enabled != [4]bool{}):
		if sooner(o.holdUntil); next.Before(o.pauseTo) {
			next = o.pauseTo
		}
	}
	for _, p := range o.pulses {
		sooner(p.at)
	}
	for _, f := range o.freezes {
		sooner(f.at.Go().Add(-o.offset))
	}
	return next
}
