package modbus

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestCRCOfTheSpecification(t *testing.T) {
	assert.Equal(t, uint16(0x1241), CRC([]byte{0x02, 0x07}), "serial line 6.2.2, the example")
	assert.Equal(t, unhex(t, "01 03 0000 000A C5CD"), AppendRTU(nil, Frame{Unit: 1, PDU: unhex(t, "03 0000 000A")}))
}

func TestASCIIFrame(t *testing.T) {
	frame := AppendASCII(nil, Frame{Unit: 1, PDU: unhex(t, "03 0000 000A")})
	assert.Equal(t, ":01030000000AF2\r\n", string(frame))
	f, n, err := CutASCII([]byte("noise" + string(frame) + "rest"))
	require.NoError(t, err)
	assert.Equal(t, 5+len(frame), n)
	assert.Equal(t, Frame{Unit: 1, PDU: unhex(t, "03 0000 000A")}, f)
	for name, bad := range map[string]string{
		"LRC": ":01030000000AF3\r\n", "no colon": "01030000000AF2\r\n", "odd": ":01030000000AF\r\n",
		"no hex": ":0103000000XXF2\r\n", "too short": ":01FF\r\n",
	} {
		_, n, err := CutASCII([]byte(bad))
		assert.ErrorIs(t, err, ErrChecksum, name)
		assert.Equal(t, len(bad), n, name)
	}
	_, n, err = CutASCII([]byte(":0103"))
	assert.NoError(t, err)
	assert.Zero(t, n, "not complete")
}

func TestSilence(t *testing.T) {
	assert.Equal(t, 4010416*time.Nanosecond, Silence(9600, 11), "3.5 characters of 11 bits")
	assert.Equal(t, 1750*time.Microsecond, Silence(115200, 11), "fixed above 19200")
}

func TestFramesOfAllFramingsRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		example := rapid.SampledFrom(examples).Draw(t, "example")
		side := rapid.SampledFrom([]Side{Requests, Answers}).Draw(t, "side")
		hex := example.pdu
		if side == Answers {
			hex = example.answer
		}
		want := Frame{Unit: rapid.Byte().Draw(t, "unit"), PDU: unhex(t, hex)}
		framing := rapid.SampledFrom([]Framing{MBAP, RTU, ASCII}).Draw(t, "framing")
		stream := framing.Append(nil, want)
		for i := range stream {
			_, n, err := framing.Cut(append([]byte{}, stream[:i]...), side)
			require.NoError(t, err)
			require.Zero(t, n, "%d of %d bytes are no frame", i, len(stream))
		}
		got, n, err := framing.Cut(append(stream, 0x55), side)
		require.NoError(t, err)
		assert.Equal(t, n, len(stream))
		assert.Equal(t, want, got)
	})
}

// serveFramed is serve with a framing and options of the client.
func serveFramed(t *testing.T, o ClientOptions, handle func(unit byte, pdu []byte) Reply) *Client {
	t.Helper()
	near, far := net.Pipe()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		(&Server{Framing: o.Framing, Handle: handle}).serve(ctx, far)
	}()
	t.Cleanup(func() { cancel(); near.Close(); <-done })
	return NewClient(near, o)
}

// Faults of a line without transaction identifiers.
func TestSerialFaults(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Quantity: 2}
	answer := []byte{3, 4, 0, 7, 0, 8}
	for _, c := range []struct {
		name    string
		framing Framing
		alter   func([]byte) []byte
		want    error // nil: it is read all the same
	}{
		{"RTU", RTU, nil, nil},
		{"ASCII", ASCII, nil, nil},
		{"RTU, noise before", RTU, func(f []byte) []byte { return append([]byte{0x00, 0xFF, 0x13}, f...) }, nil},
		{"RTU, noise that looks like a long frame", RTU, func(f []byte) []byte { return append([]byte{0x01, 0x03, 0xC8}, f...) }, nil},
		{"ASCII, noise before", ASCII, func(f []byte) []byte { return append([]byte("\x00\xFF:01"), f...) }, nil},
		{"RTU, wrong CRC", RTU, func(f []byte) []byte { f[len(f)-1] ^= 1; return f }, ErrChecksum},
		{"ASCII, wrong LRC", ASCII, func(f []byte) []byte { f[len(f)-3] ^= 1; return f }, ErrChecksum},
		{"RTU, cut short", RTU, func(f []byte) []byte { return f[:6] }, ErrChecksum},
		{"RTU, two bytes only", RTU, func(f []byte) []byte { return f[:2] }, ErrBadResponse},
		{"RTU, another unit", RTU, func([]byte) []byte { return AppendRTU(nil, Frame{Unit: 9, PDU: answer}) }, ErrBadResponse},
		{"RTU, silence", RTU, func([]byte) []byte { return nil }, ErrTimeout},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			client := serveFramed(t, ClientOptions{Framing: c.framing, Gap: 30 * time.Millisecond}, func(byte, []byte) Reply { return Reply{PDU: answer, Alter: c.alter} })
			data, err := client.Do(1, read, 200*time.Millisecond)
			if c.want != nil {
				require.ErrorIs(t, err, c.want)
				assert.NotErrorIs(t, err, ErrClosed, "the line goes on")
				return
			}
			require.NoError(t, err)
			assert.Equal(t, []uint16{7, 8}, AppendWords(nil, data))
		})
	}
}

func TestAnAdapterThatEchoesWhatItSends(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	request := AppendRTU(nil, Frame{Unit: 1, PDU: unhex(t, "06 0001 0003")})
	go func() { // echo and answer look alike for function 6
		b := make([]byte, 64)
		n, err := far.Read(b)
		for i := 0; i < 2 && err == nil; i++ {
			_, err = far.Write(b[:n])
		}
	}()
	c := NewClient(near, ClientOptions{Framing: RTU, Echo: true})
	_, err := c.Do(1, Request{Function: WriteSingleRegister, Address: 1, Words: []uint16{3}}, time.Second)
	require.NoError(t, err)
	assert.Equal(t, uint64(2*len(request)), c.Counters.Got.Load(), "both were taken off the line")
}

func TestWhatCameLateIsNotTakenForTheNextAnswer(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	go func() {
		b := make([]byte, 64)
		far.Read(b)
		far.Read(b) // the first request gets no response in time
	}()
	c := NewClient(near, ClientOptions{Framing: RTU, Gap: 20 * time.Millisecond})
	read := Request{Function: ReadHoldingRegisters, Quantity: 1}
	_, err := c.Do(1, read, 30*time.Millisecond)
	require.ErrorIs(t, err, ErrTimeout)
	c.held = copy(c.in, AppendRTU(nil, Frame{Unit: 1, PDU: []byte{3, 2, 0, 1}})) // it comes now
	_, err = c.Do(1, read, 30*time.Millisecond)
	assert.ErrorIs(t, err, ErrTimeout)
	assert.Equal(t, uint64(1), c.Counters.Late.Load())
}

// On a bus, a response that is late comes while another station is asked.
func TestALateAnswerIsKnownWhileAnotherIsAsked(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	answer := func(unit, value byte) []byte { return AppendRTU(nil, Frame{Unit: unit, PDU: []byte{3, 2, 0, value}}) }
	go func() {
		b := make([]byte, 64)
		far.Read(b) // unit 11, not answered in time
		far.Read(b) // unit 1
		far.Write(append(answer(11, 7), answer(1, 9)...))
	}()
	var seen []EventKind
	c := NewClient(near, ClientOptions{Framing: RTU, Gap: 20 * time.Millisecond, Watch: func(e Event) {
		if e.Kind == EventLate {
			assert.Equal(t, byte(11), e.Unit)
			assert.GreaterOrEqual(t, e.After, 30*time.Millisecond)
		}
		seen = append(seen, e.Kind)
	}})
	read := Request{Function: ReadHoldingRegisters, Quantity: 1}
	_, err := c.Do(11, read, 30*time.Millisecond)
	require.ErrorIs(t, err, ErrTimeout)
	data, err := c.Do(1, read, time.Second)
	require.NoError(t, err)
	assert.Equal(t, uint16(9), Word(data, 0))
	assert.Equal(t, []EventKind{EventSent, EventTimeout, EventSent, EventLate, EventAnswer}, seen)
}

func FuzzCut(f *testing.F) {
	for _, c := range examples {
		for _, framing := range []Framing{MBAP, RTU, ASCII} {
			f.Add(byte(framing), byte(Requests), framing.Append(nil, Frame{Unit: 1, PDU: unhex(f, c.pdu)}))
			f.Add(byte(framing), byte(Answers), framing.Append(nil, Frame{Unit: 1, PDU: unhex(f, c.answer)}))
		}
	}
	f.Fuzz(func(t *testing.T, framing, side byte, b []byte) {
		frame, n, err := Framing(framing%3).Cut(b, Side(side%2))
		if n < 0 || n > len(b) {
			t.Fatalf("%d bytes taken of %d", n, len(b))
		}
		if err == nil && n > 0 && len(frame.PDU) == 0 {
			t.Fatal("a frame without a PDU")
		}
		SeekRTU(b, Side(side%2))
	})
}
