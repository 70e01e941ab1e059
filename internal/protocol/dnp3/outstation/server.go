package outstation

import (
	"context"
	"errors"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"arithmon/internal/protocol/closing"
	"arithmon/internal/protocol/dnp3"
)

// Line puts outstations on a line: one connection after the other, or one port that all share.
type Line struct {
	Outstations []*Outstation
	Lock        sync.Locker                // held while the outstations are used
	Before      func(now time.Time)        // called with Lock held before anything is asked of them
	Faults      func(o *Outstation) Faults // with Lock held; nil: none
	Every       time.Duration              // how often Before is called and reports are made; 0: when something is due

	home map[*Outstation]*port // connection on which its master spoke last, to which it reports; guarded by Lock
	open int                   // connections; guarded by Lock
}

// Faults are what is wrong with an outstation's communication.
type Faults struct {
	Delay        time.Duration
	Silent       bool // it does not answer
	LinkOnly     bool // its data link layer answers, its application does not
	Checksum     bool // every CRC of user data is wrong
	Noise        bool // octets before each frame
	Garbage      bool // octets in the place of frames
	Sequence     bool // responses carry another sequence number
	LostConfirms bool // confirmations do not reach it
	Close        bool // the connection ends after each response
	Cut          bool // frames end too early
	Twice        bool // every frame is sent twice
	Other        bool // frames carry another source address
	Refuse       bool // it knows no function but read and write
	NoEvents     bool // it knows no event classes
	Masters      bool // another master, at address 99, asks it, too
	Deaf         bool // its data link layer answers no master but its own either
	WantsReset   bool // it takes no requests before its link states were reset
	WantsConfirm bool // it takes requests only that its data link layer is to acknowledge
}

// Serve answers on a connection until it ends or ctx does.
func (l *Line) Serve(ctx context.Context, conn io.ReadWriteCloser) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	frames := make(chan dnp3.Frame)
	var reading sync.WaitGroup
	defer reading.Wait()
	defer conn.Close()
	reading.Go(func() {
		defer cancel()
		read(ctx, conn, frames)
	})
	p := &port{line: l, out: conn, on: map[uint16]*linkState{}}
	for _, o := range l.Outstations {
		p.on[o.Address()] = &linkState{o: o}
	}
	p.came()
	defer p.gone()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case f := <-frames:
			err = p.take(f)
		case <-timer.C:
			err = p.tick()
		}
		if err != nil {
			return
		}
		timer.Reset(p.wait())
	}
}

// read passes on the frames that masters send.
func read(ctx context.Context, conn io.Reader, frames chan<- dnp3.Frame) {
	b := make([]byte, 0, 4*dnp3.MaxFrame)
	for {
		for len(b) > 0 {
			f, n, err := dnp3.ParseFrame(b, make([]byte, 0, dnp3.MaxUserData))
			if errors.Is(err, dnp3.ErrIncomplete) {
				break
			}
			b = b[n:]
			if err == nil && f.Control&dnp3.FromMaster != 0 {
				select {
				case frames <- f:
				case <-ctx.Done():
					return
				}
			}
		}
		b = append(make([]byte, 0, 4*dnp3.MaxFrame), b...)
		n, err := conn.Read(b[len(b):cap(b)])
		b = b[:len(b)+n]
		if err != nil {
			return
		}
	}
}

// port is a connection that is served.
type port struct {
	line *Line
	out  io.Writer
	on   map[uint16]*linkState
}

// linkState is an outstation on a port, with the state of its layers below the application.
type linkState struct {
	o        *Outstation
	reset    bool // link states are
	expected dnp3.Control
	gather   dnp3.Reassembly
	number   byte // of segments
}

var errClosed = errors.New("closed on purpose")

func (p *port) came() {
	p.line.Lock.Lock()
	defer p.line.Lock.Unlock()
	p.line.open++
}

func (p *port) gone() {
	p.line.Lock.Lock()
	defer p.line.Lock.Unlock()
	for _, s := range p.on {
		if p.reports(s) {
			s.o.Disconnected()
			delete(p.line.home, s.o)
		}
	}
	p.line.open--
}

// reports reports whether an outstation reports by this connection: its master's, or the only one while that has not spoken. Among several
// it could be that of somebody else, who confirms nothing, and requests would wait meanwhile.
func (p *port) reports(s *linkState) bool {
	home := p.line.home[s.o]
	return home == p || home == nil && p.line.open == 1
}

// wait is how long nothing is due.
func (p *port) wait() time.Duration {
	p.line.Lock.Lock()
	defer p.line.Lock.Unlock()
	wait := time.Hour
	if p.line.Every > 0 {
		wait = p.line.Every
	}
	now := time.Now()
	for _, s := range p.on {
		if next := s.o.Next(); !next.IsZero() && p.reports(s) {
			wait = min(wait, max(time.Millisecond, next.Sub(now)))
		}
	}
	return wait
}

func (p *port) before(now time.Time) {
	if p.line.Before != nil {
		p.line.Before(now)
	}
}

func (p *port) faults(o *Outstation) Faults {
	if p.line.Faults == nil {
		return Faults{}
	}
	return p.line.Faults(o)
}

// tick lets outstations report.
func (p *port) tick() error {
	type due struct {
		s    *linkState
		f    Faults
		list []Send
	}
	var all []due
	p.line.Lock.Lock()
	now := time.Now()
	p.before(now)
	for _, s := range p.on {
		if !p.reports(s) {
			continue
		}
		f := p.faults(s.o)
		if list := s.o.Tick(now); !f.Silent && !f.LinkOnly {
			all = append(all, due{s, f, list})
		}
	}
	p.line.Lock.Unlock()
	for _, d := range all {
		if err := p.send(d.s, d.f, d.list); err != nil {
			return err
		}
	}
	return nil
}

// take does what a frame asks for (IEEE 1815-2012, 9.2.4.1.3, 9.2.6).
func (p *port) take(f dnp3.Frame) error {
	if dnp3.Broadcast(f.Destination) {
		if f.Function() == dnp3.UnconfirmedData {
			for _, s := range p.on {
				if err := p.data(s, f, true); err != nil {
					return err
				}
			}
		}
		return nil
	}
	s := p.on[f.Destination]
	if f.Destination == dnp3.SelfAddress && len(p.on) == 1 {
		for _, only := range p.on {
			s = only
		}
	}
	if s == nil {
		return nil
	}
	p.line.Lock.Lock()
	faults := p.faults(s.o)
	p.line.Lock.Unlock()
	if faults.Silent || faults.Deaf && f.Source != s.o.config.Master {
		return nil
	}
	answer := func(fn dnp3.LinkFunction) error {
		return p.write(dnp3.AppendFrame(nil, dnp3.Frame{Control: dnp3.Control(fn), Destination: f.Source, Source: s.o.Address()}))
	}
	switch f.Function() {
	case dnp3.ResetLinkStates:
		s.reset, s.expected = true, dnp3.CountBit
		return answer(dnp3.Ack)
	case dnp3.TestLinkStates:
		if !s.reset || f.Control&dnp3.CountBit != s.expected {
			return answer(dnp3.Nack)
		}
		s.expected ^= dnp3.CountBit
		return answer(dnp3.Ack)
	case dnp3.RequestStatus:
		return answer(dnp3.LinkStatus)
	case dnp3.ConfirmedData:
		if !s.reset {
			return answer(dnp3.Nack)
		}
		if err := answer(dnp3.Ack); err != nil || f.Control&dnp3.CountBit != s.expected {
			return err // one that came twice is acknowledged twice and taken once
		}
		s.expected ^= dnp3.CountBit
		return p.data(s, f, false)
	case dnp3.UnconfirmedData:
		if asks := len(f.Data) > 2 && dnp3.Function(f.Data[2]) != dnp3.FuncConfirm; asks && (faults.WantsConfirm || faults.WantsReset && !s.reset) {
			return nil
		}
		return p.data(s, f, false)
	}
	if f.Control&dnp3.Primary != 0 {
		return answer(dnp3.NotSupported)
	}
	return nil
}

// data takes user data.
func (p *port) data(s *linkState, f dnp3.Frame, broadcast bool) error {
	fragment, err := s.gather.Add(f.Data)
	if err != nil || fragment == nil {
		return nil
	}
	p.line.Lock.Lock()
	now := time.Now()
	p.before(now)
	faults := p.faults(s.o)
	var list []Send
	app, _ := dnp3.ParseFragment(fragment)
	if p.line.home == nil {
		p.line.home = map[*Outstation]*port{}
	}
	if f.Source == s.o.config.Master {
		p.line.home[s.o] = p
	}
	lost := faults.LostConfirms && app.Function == dnp3.FuncConfirm
	if !lost && !faults.Silent && !faults.LinkOnly {
		s.o.config.NoEvents = faults.NoEvents
		if s.o.config.Refuse = nil; faults.Refuse {
			s.o.config.Refuse = refusable[:]
		}
		if broadcast && f.Destination == dnp3.BroadcastMustAck {
			s.o.MustTell()
		}
		list = s.o.Receive(now, f.Source, broadcast, fragment)
	}
	p.line.Lock.Unlock()
	return p.send(s, faults, list)
}

// refusable are the functions that a simple device may lack.
var refusable = [...]dnp3.Function{
	dnp3.FuncSelect, dnp3.FuncOperate, dnp3.FuncDirectOperate, dnp3.FuncDirectOperateNR, dnp3.FuncFreeze, dnp3.FuncFreezeNR, dnp3.FuncAssignClass,
	dnp3.FuncEnableUnsolicited, dnp3.FuncDisableUnsolicited, dnp3.FuncDelayMeasure, dnp3.FuncRecordTime, dnp3.FuncColdRestart, dnp3.FuncWarmRestart,
}

// send cuts fragments into frames and writes them.
func (p *port) send(s *linkState, faults Faults, list []Send) error {
	for _, send := range list {
		if faults.Delay > 0 {
			time.Sleep(faults.Delay)
		}
		fragment := send.Fragment
		if faults.Sequence {
			fragment = slices.Clone(fragment)
			fragment[0] = fragment[0]&0xF0 | (fragment[0]+5)&0x0F
		}
		var segments dnp3.Segments
		segments.Cut(fragment)
		var out []byte
		if faults.Masters { // what it asks is seen on a line that all share
			out = dnp3.AppendFrame(out, dnp3.Frame{Control: dnp3.FromMaster | dnp3.Control(dnp3.RequestStatus), Destination: s.o.Address(), Source: 99})
		}
		source := s.o.Address()
		if faults.Other {
			source++
		}
		for segment := segments.Next(&s.number); segment != nil; segment = segments.Next(&s.number) {
			frame := dnp3.AppendFrame(nil, dnp3.Frame{Control: dnp3.Control(dnp3.UnconfirmedData), Destination: send.To, Source: source, Data: segment})
			out = append(out, spoil(frame, faults)...)
		}
		if err := p.write(out); err != nil {
			return err
		}
		if faults.Close {
			return errClosed
		}
	}
	return nil
}

// spoil makes of a frame what faults make of it.
func spoil(frame []byte, f Faults) []byte {
	switch {
	case f.Garbage:
		return []byte("login: ")
	case f.Checksum:
		frame[len(frame)-1] ^= 1
	case f.Cut:
		frame = frame[:len(frame)-3]
	case f.Noise:
		frame = append([]byte{0xFF, 0x00, 0x05, 0x7F}, frame...)
	case f.Twice:
		frame = append(frame, frame...)
	}
	return frame
}

func (p *port) write(b []byte) error {
	_, err := p.out.Write(b)
	return err
}

// Listen serves every connection that a listener takes, until ctx ends.
func (l *Line) Listen(ctx context.Context, listener net.Listener) {
	defer closing.With(ctx, listener)()
	var serving sync.WaitGroup
	defer serving.Wait()
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		serving.Go(func() { l.Serve(ctx, conn) })
	}
}

// Call connects to a master that listens, and serves that connection; again and again until ctx ends.
func (l *Line) Call(ctx context.Context, address string, pause time.Duration) {
	var dialer net.Dialer
	for ctx.Err() == nil {
		if conn, err := dialer.DialContext(ctx, "tcp", address); err == nil {
			l.Serve(ctx, conn)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// Packets makes of a packet connection one that answers whoever spoke last.
func Packets(conn net.PacketConn) io.ReadWriteCloser { return &packets{PacketConn: conn} }

type packets struct {
	net.PacketConn
	mu   sync.Mutex
	last net.Addr
}

func (p *packets) Read(b []byte) (int, error) {
	n, from, err := p.ReadFrom(b)
	if err == nil {
		p.mu.Lock()
		p.last = from
		p.mu.Unlock()
	}
	return n, err
}

func (p *packets) Write(b []byte) (int, error) {
	p.mu.Lock()
	to := p.last
	p.mu.Unlock()
	if to == nil {
		return len(b), nil // nobody has spoken yet
	}
	for rest := b; len(rest) > 0; { // a frame a packet, or several that fit
		n := min(len(rest), 1400)
		for end := 0; ; {
			size := frameSize(rest[end:])
			if size == 0 || end+size > n {
				if end > 0 {
					n = end
				}
				break
			}
			end += size
		}
		if _, err := p.WriteTo(rest[:n], to); err != nil {
			return 0, err
		}
		rest = rest[n:]
	}
	return len(b), nil
}

// frameSize is the size of the frame that b begins with, 0 for none.
func frameSize(b []byte) int {
	if len(b) < 10 || b[0] != 0x05 || b[1] != 0x64 || b[2] < 5 {
		return 0
	}
	data := int(b[2]) - 5
	return 10 + data + 2*((data+15)/16)
}
