package modbus

import (
	"context"
	"encoding/binary"
	"io"
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
	return NewPipeline(conn, ClientOptions{}), conn
}

func readOne(address uint16) Request {
	return Request{Function: ReadHoldingRegisters, Address: address, Quantity: 1}
}

// Responses come in the reverse order of their requests, and each finds the one who asked.
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
	t.Run("late and foreign responses are counted", func(t *testing.T) {
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
		assert.ErrorIs(t, err, ErrBadResponse)
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

// What a device does to its responses, and what two requests that are under way together come to: never the data of another.
func TestAPipelineOverASpoiltStream(t *testing.T) {
	const good, brokenOff, identifier, length = "good", "a response broke off", "a response has the identifier", "announces"
	for _, c := range []struct {
		name  string
		alter func(f []byte) []byte
		want  [2]string
	}{
		{"responses that end early", func(f []byte) []byte { return f[:len(f)-3] }, [2]string{brokenOff, brokenOff}},
		{"responses without their data", func(f []byte) []byte { return f[:9] }, [2]string{brokenOff, brokenOff}},
		{"a length that is too long", func(f []byte) []byte { f[5]++; return f }, [2]string{brokenOff, brokenOff}},
		{"bytes behind each response", func(f []byte) []byte { return append(f, 0, 0) }, [2]string{good, good}},
		{"many bytes before each response", func(f []byte) []byte { return append(make([]byte, 50), f...) }, [2]string{good, good}},
		{"each response twice", func(f []byte) []byte { return append(f, f...) }, [2]string{good, good}},
		{"no identifier", func(f []byte) []byte { f[0], f[1] = 0, 0; return f }, [2]string{identifier, identifier}},
		{"a count that is wrong", func(f []byte) []byte { f[8]++; return f }, [2]string{length, length}},
	} {
		t.Run(c.name, func(t *testing.T) {
			arrived := make(chan struct{})
			far, near := net.Pipe()
			defer far.Close()
			defer near.Close()
			go func() { // answers both once both are there
				var out []byte
				request := make([]byte, 12)
				for range 2 {
					if _, err := io.ReadFull(far, request); err != nil {
						return
					}
					arrived <- struct{}{}
					f := AppendMBAP(nil, Frame{binary.BigEndian.Uint16(request), 1, []byte{3, 6, 0x0A, request[9], 0x0B, request[9], 0x0C, request[9]}})
					out = append(out, c.alter(f)...)
				}
				far.Write(out)
			}()
			p := NewPipeline(near, ClientOptions{})
			var all sync.WaitGroup
			for i := range 2 {
				all.Go(func() {
					answer, err := p.Exchange(1, Request{Function: ReadHoldingRegisters, Address: uint16(i), Quantity: 3}, 150*time.Millisecond)
					if c.want[i] == good {
						if assert.NoError(t, err) {
							assert.Equal(t, []uint16{0x0A00 + uint16(i), 0x0B00 + uint16(i), 0x0C00 + uint16(i)}, AppendWords(nil, answer.Data))
						}
						return
					}
					assert.ErrorIs(t, err, ErrBadResponse)
					assert.ErrorContains(t, err, c.want[i])
				})
				<-arrived // so that they are in their order
			}
			all.Wait()
		})
	}
}

// A second device on a serial line answers the same request; its response must not be taken for the next one's.
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
