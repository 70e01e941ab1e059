package modbus

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"arithmon/internal/protocol/closing"
)

// Table is one of the four data tables (AP 4.3).
type Table byte

// The tables.
const (
	Coils Table = iota
	DiscreteInputs
	InputRegisters
	HoldingRegisters
)

// Model is the data of one device. Its errors are Exceptions; another error answers exception 4.
type Model interface {
	ReadBits(t Table, address uint16, bits []bool) error
	ReadRegisters(t Table, address uint16, words []uint16) error
	WriteBits(address uint16, bits []bool) error
	WriteRegisters(address uint16, words []uint16) error
}

// Answer makes the response PDU that a device with the given data gives to a request PDU. Exceptions are found in the
// order of the standard's state diagrams: function, then quantity, then address (AP 6).
func Answer(m Model, pdu []byte) []byte {
	r, err := ParseRequest(pdu)
	var answer []byte
	if err == nil && int(r.Address)+r.quantity() > 0x10000 {
		err = IllegalDataAddress
	}
	if err == nil {
		answer, err = answerTo(m, r)
	}
	if err == nil {
		return answer
	}
	code := ServerDeviceFailure
	errors.As(err, &code)
	return []byte{byte(r.Function) | exceptionFlag, byte(code)}
}

func answerTo(m Model, r Request) ([]byte, error) {
	switch r.Function {
	case ReadCoils, ReadDiscreteInputs:
		bits := make([]bool, r.Quantity)
		if err := m.ReadBits(r.Function.table(), r.Address, bits); err != nil {
			return nil, err
		}
		return appendBits([]byte{byte(r.Function), byte((len(bits) + 7) / 8)}, bits), nil
	case ReadHoldingRegisters, ReadInputRegisters:
		words := make([]uint16, r.Quantity)
		if err := m.ReadRegisters(r.Function.table(), r.Address, words); err != nil {
			return nil, err
		}
		return appendWords([]byte{byte(r.Function), byte(2 * len(words))}, words), nil
	case Diagnostics:
		if r.Address != ReturnQueryData {
			return nil, IllegalFunction
		}
		return r.Append(nil)
	case ReportServerID, EncapsulatedInterface:
		if named, ok := m.(Named); ok {
			return named.Identify().answer(r)
		}
		return nil, IllegalFunction
	case ReadWriteMultipleRegisters: // the write comes before the read: AP 6.17
		words := make([]uint16, r.Quantity)
		if err := m.ReadRegisters(HoldingRegisters, r.Address, words); err != nil {
			return nil, err
		}
		if err := m.WriteRegisters(r.WriteTo, r.Words); err != nil {
			return nil, err
		}
		if err := m.ReadRegisters(HoldingRegisters, r.Address, words); err != nil {
			return nil, err
		}
		return appendWords([]byte{byte(r.Function), byte(2 * len(words))}, words), nil
	case MaskWriteRegister:
		word := make([]uint16, 1)
		if err := m.ReadRegisters(HoldingRegisters, r.Address, word); err != nil {
			return nil, err
		}
		word[0] = word[0]&r.And | r.Or&^r.And // AP 6.16
		if err := m.WriteRegisters(r.Address, word); err != nil {
			return nil, err
		}
		return r.Append(nil)
	}
	var err error
	if r.Function.Bits() {
		err = m.WriteBits(r.Address, r.Bits)
	} else {
		err = m.WriteRegisters(r.Address, r.Words)
	}
	if err != nil {
		return nil, err
	}
	echo, err := r.Append(nil)
	return echo[:5], err
}

// table is where a reading function reads.
func (f Function) table() Table {
	return [...]Table{ReadCoils: Coils, ReadDiscreteInputs: DiscreteInputs, ReadHoldingRegisters: HoldingRegisters, ReadInputRegisters: InputRegisters}[f]
}

// Reply is what a server does about one request.
type Reply struct {
	PDU   []byte                    // nil: no answer
	Delay time.Duration             // before the response
	Alter func(frame []byte) []byte // spoils the frame on its way out; nil leaves it
	Close bool                      // the connection, after the response
	Also  []byte                    // PDU of a second device that answers at the same time
	Echo  bool                      // the request comes back first, as from an adapter that hears itself
	Other bool                      // the response is in the name of the next unit
	Wrong bool                      // the response has the identifier of another request, where the framing has one
}

// Server answers requests with what Handle says. Requests of one connection are answered in turn; where the framing has
// identifiers, a response that is delayed lets those after it pass.
type Server struct {
	Framing Framing

	// Handle is called from one goroutine a connection. The PDU holds until it returns.
	Handle func(unit byte, pdu []byte) Reply
}

// Serve accepts connections until ctx ends, then closes them, waits for them, and returns nil;
// the error of a listener that fails before is returned. It closes the listener.
func (s *Server) Serve(ctx context.Context, listener net.Listener) error {
	var connections sync.WaitGroup
	defer connections.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer closing.With(ctx, listener)()
	for {
		conn, err := listener.Accept()
		if ctx.Err() != nil {
			if err == nil {
				conn.Close()
			}
			return nil
		}
		if err != nil {
			return err
		}
		connections.Go(func() { s.serve(ctx, conn) })
	}
}

func (s *Server) serve(ctx context.Context, conn net.Conn) {
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	s.ServeConn(ctx, conn)
}

// ServeConn answers the requests of one connection or line until it ends or cannot go on.
func (s *Server) ServeConn(ctx context.Context, conn io.ReadWriter) {
	in, out := make([]byte, 2*maxFrame), make([]byte, 0, maxFrame)
	var writing sync.Mutex // of responses that were delayed
	var delayed sync.WaitGroup
	defer delayed.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for held := 0; ; {
		frame, n, err := s.Framing.Cut(in[:held], Requests)
		if errors.Is(err, ErrChecksum) {
			held = copy(in, in[n:held]) // a server does not answer what was damaged (serial line 2.4.4)
			continue
		}
		if err != nil {
			return
		}
		if n == 0 {
			if held == len(in) {
				held = 0 // noise without end
			}
			got, err := conn.Read(in[held:])
			if err != nil {
				return
			}
			held += got
			continue
		}
		reply := s.Handle(frame.Unit, frame.PDU)
		switch {
		case reply.PDU == nil:
		case s.Framing == MBAP && reply.Delay > 0 && !reply.Close:
			late := s.answer(nil, frame, reply)
			delayed.Go(func() {
				if pause(ctx, reply.Delay) {
					writing.Lock()
					defer writing.Unlock()
					conn.Write(late) // a connection that is gone shows when it is read
				}
			})
		default:
			if !pause(ctx, reply.Delay) {
				return
			}
			out = s.answer(out[:0], frame, reply)
			writing.Lock()
			_, err := conn.Write(out)
			writing.Unlock()
			if err != nil {
				return
			}
		}
		if reply.Close {
			return
		}
		held = copy(in, in[n:held])
	}
}

// answer adds what goes out in reply to a frame to b.
func (s *Server) answer(b []byte, to Frame, reply Reply) []byte {
	if reply.Echo {
		b = s.Framing.Append(b, to)
	}
	start := len(b)
	if reply.Other {
		to.Unit++
	}
	if reply.Wrong {
		to.Transaction += 1 << 15
	}
	b = s.Framing.Append(b, Frame{to.Transaction, to.Unit, reply.PDU})
	if reply.Alter != nil {
		b = append(b[:start:start], reply.Alter(b[start:])...)
	}
	if reply.Also != nil {
		b = s.Framing.Append(b, Frame{to.Transaction, to.Unit, reply.Also})
	}
	return b
}

// ServePackets answers requests that come as datagrams until the connection is closed.
func (s *Server) ServePackets(ctx context.Context, conn net.PacketConn) {
	defer closing.With(ctx, conn)()
	in := make([]byte, 2*maxFrame)
	var delayed sync.WaitGroup
	defer delayed.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for {
		got, from, err := conn.ReadFrom(in)
		if err != nil {
			return
		}
		frame, n, err := s.Framing.Cut(in[:got], Requests)
		if err != nil || n == 0 {
			continue // a datagram that holds no request gets no answer
		}
		if reply := s.Handle(frame.Unit, frame.PDU); reply.PDU != nil {
			out := s.answer(nil, frame, reply)
			send := func() {
				if pause(ctx, reply.Delay) {
					conn.WriteTo(out, from) // a datagram may be lost
				}
			}
			if reply.Delay > 0 {
				delayed.Go(send)
			} else {
				send()
			}
		}
	}
}

// pause waits; it returns false when ctx ends first.
func pause(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return true
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}
