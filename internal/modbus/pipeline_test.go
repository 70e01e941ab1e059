package modbus

import (
	"context"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// piped is a pipeline to a server with the handler given.
func piped(t *testing.T, handle func(unit byte, pdu []byte) Reply) (*Pipeline, net.Conn) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		(&Server{Handle: handle}).Serve(ctx, listener)
	}()
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(); cancel(); <-done })
	return NewPipeline(conn, nil), conn
}

func readOne(address uint16) Request {
	return Request{Function: ReadHoldingRegisters, Address: address, Quantity: 1}
}

// Answers come in the reverse order of their requests, and each finds the one who asked.
func TestAPipelineMatchesAnswersByTheirIdentifiers(t *testing.T) {
	const n = 8
	arrived := make(chan struct{}, n)
	p, _ := piped(t, func(_ byte, pdu []byte) Reply {
		arrived <- struct{}{}
		return Reply{PDU: []byte{3, 2, 0x10, pdu[2]}, Delay: time.Duration(n-pdu[2]) * 20 * time.Millisecond}
	})
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			answer, err := p.Exchange(1, readOne(uint16(i)), 5*time.Second)
			if assert.NoError(t, err) {
				assert.Equal(t, 0x1000+uint16(i), Word(answer.Data, 0))
			}
		})
	}
	for range n { // all are outstanding before the first is answered
		<-arrived
	}
	all.Wait()
}

func TestPipelineFaults(t *testing.T) {
	t.Run("one that is not answered leaves the others alone", func(t *testing.T) {
		p, _ := piped(t, func(_ byte, pdu []byte) Reply {
			if pdu[2] == 1 {
				return Reply{}
			}
			return Reply{PDU: []byte{3, 2, 0, 7}}
		})
		var all sync.WaitGroup
		all.Go(func() {
			_, err := p.Exchange(1, readOne(1), 100*time.Millisecond)
			assert.ErrorIs(t, err, ErrTimeout)
		})
		all.Go(func() {
			_, err := p.Exchange(1, readOne(2), 5*time.Second)
			assert.NoError(t, err)
		})
		all.Wait()
	})
	t.Run("late and foreign answers are counted", func(t *testing.T) {
		p, _ := piped(t, func(_ byte, pdu []byte) Reply {
			if pdu[2] == 1 {
				return Reply{PDU: []byte{3, 2, 0, 7}, Delay: 100 * time.Millisecond}
			}
			return Reply{PDU: []byte{3, 2, 0, 7}, Wrong: pdu[2] == 3, Delay: 200 * time.Millisecond}
		})
		_, err := p.Exchange(1, readOne(1), 20*time.Millisecond)
		assert.ErrorIs(t, err, ErrTimeout)
		_, err = p.Exchange(1, readOne(2), 5*time.Second)
		require.NoError(t, err)
		assert.Equal(t, uint64(1), p.Counters.Late.Load())
		_, err = p.Exchange(1, readOne(3), 400*time.Millisecond)
		assert.ErrorIs(t, err, ErrTimeout)
		assert.Equal(t, uint64(1), p.Counters.Foreign.Load())
	})
	t.Run("another unit", func(t *testing.T) {
		p, _ := piped(t, func(byte, []byte) Reply { return Reply{PDU: []byte{3, 2, 0, 7}, Other: true} })
		_, err := p.Exchange(1, readOne(1), 100*time.Millisecond)
		var wrong *WrongUnitError
		require.ErrorAs(t, err, &wrong)
		assert.ErrorIs(t, err, ErrBadResponse)
		assert.Equal(t, byte(2), wrong.Answered)
	})
	t.Run("an exception", func(t *testing.T) {
		p, _ := piped(t, func(byte, []byte) Reply { return Reply{PDU: []byte{0x83, 2}} })
		_, err := p.Exchange(1, readOne(1), time.Second)
		assert.Equal(t, IllegalDataAddress, err)
	})
	t.Run("a connection that ends fails all that wait, and all after", func(t *testing.T) {
		p, conn := piped(t, func(byte, []byte) Reply { return Reply{} })
		var all sync.WaitGroup
		for i := range 4 {
			all.Go(func() {
				_, err := p.Exchange(1, readOne(uint16(i)), 10*time.Second)
				assert.ErrorIs(t, err, ErrClosed)
			})
		}
		conn.Close()
		all.Wait()
		_, err := p.Exchange(1, readOne(1), time.Second)
		assert.ErrorIs(t, err, ErrClosed)
	})
	t.Run("garbage ends it", func(t *testing.T) {
		p, _ := piped(t, func(byte, []byte) Reply {
			return Reply{PDU: []byte{3, 2, 0, 7}, Alter: func([]byte) []byte { return []byte("220 ready\r\n") }}
		})
		_, err := p.Exchange(1, readOne(1), time.Second)
		assert.ErrorIs(t, err, ErrClosed)
	})
}

// A second device on a serial line answers the same request; its answer must not be taken for the next one's.
func TestASecondAnswerIsNotTakenForTheNext(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	n := byte(0)
	go func() {
		defer close(done)
		(&Server{Framing: RTU, Handle: func(byte, []byte) Reply {
			n++
			return Reply{PDU: []byte{3, 2, 0, n}, Also: []byte{3, 2, 0x66, n}}
		}}).Serve(ctx, listener)
	}()
	defer func() { cancel(); <-done }()
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	c := NewClient(conn, ClientOptions{Framing: RTU})
	for i := range 5 {
		data, err := c.Do(1, readOne(0), time.Second)
		require.NoError(t, err)
		assert.Equal(t, uint16(i+1), Word(data, 0))
	}
	assert.NotZero(t, c.Counters.Stray.Load())
}

func TestABroadcastIsSentAndNotAwaited(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	got := make(chan []byte, 1)
	go func() {
		b := make([]byte, 64)
		n, _ := far.Read(b)
		got <- b[:n]
	}()
	c := NewClient(near, ClientOptions{Framing: RTU})
	require.NoError(t, c.Send(Request{Function: WriteSingleRegister, Address: 1, Words: []uint16{3}}, time.Millisecond))
	assert.Equal(t, AppendRTU(nil, Frame{Unit: 0, PDU: []byte{6, 0, 1, 0, 3}}), <-got)
}

// AP 6.21: a device with more to say than a PDU holds says where it goes on.
func TestIdentificationOverSeveralAnswers(t *testing.T) {
	long := map[byte]string{}
	for i := byte(0x80); i < 0x90; i++ {
		long[i] = string(make([]byte, 60))
	}
	long[0], long[1], long[2] = "Vendor", "P-1", "2.0"
	id := Identification{Objects: long}
	got, from := map[byte]string{}, byte(0)
	for range 10 {
		r := Request{Function: EncapsulatedInterface, Level: 3, Object: from}
		pdu, err := id.answer(r)
		require.NoError(t, err)
		require.LessOrEqual(t, len(pdu), MaxPDU)
		length, known := rtuLength(append([]byte{1}, append(pdu, 0, 0)...), Answers)
		assert.True(t, known)
		assert.Equal(t, len(pdu)+3, length)
		data, err := r.ParseAnswer(pdu)
		require.NoError(t, err)
		objects, next, more, err := ParseIdentification(data)
		require.NoError(t, err)
		for k, v := range objects {
			got[k] = v
		}
		if from = next; !more {
			break
		}
	}
	assert.Equal(t, long, got)
	_, err := id.answer(Request{Function: EncapsulatedInterface, Level: 4, Object: 0x70})
	assert.Equal(t, IllegalDataAddress, err)
	_, _, _, err = ParseIdentification([]byte{14, 1, 1, 0, 0, 2, 0, 9, 'x'})
	assert.ErrorIs(t, err, ErrBadResponse)
	assert.Equal(t, "product code", ObjectName(1))
	assert.Empty(t, ObjectName(0x80))
}

func FuzzParseIdentification(f *testing.F) {
	f.Add([]byte{14, 1, 1, 0, 0, 1, 0, 3, 'a', 'b', 'c'})
	f.Fuzz(func(t *testing.T, data []byte) {
		objects, _, _, err := ParseIdentification(data)
		if err == nil && len(objects) > len(data)/2 {
			t.Fatalf("%d objects in %d bytes", len(objects), len(data))
		}
	})
}
