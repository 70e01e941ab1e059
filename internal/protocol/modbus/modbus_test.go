package modbus

import (
	"context"
	"encoding/hex"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func unhex(t require.TestingT, s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	require.NoError(t, err)
	return b
}

// The examples of AP 6.1 to 6.6, 6.11, 6.12 and 6.16, with the addresses on the wire as printed there.
var examples = []struct {
	name     string
	request  Request
	pdu      string
	answer   string
	contents string // data of the response
}{
	{"6.1 coils 20 to 38", Request{Function: ReadCoils, Address: 0x13, Quantity: 0x13}, "01 0013 0013", "01 03 CD6B05", "CD6B05"},
	{"6.2 discrete inputs 197 to 218", Request{Function: ReadDiscreteInputs, Address: 0xC4, Quantity: 0x16}, "02 00C4 0016", "02 03 ACDB35", "ACDB35"},
	{"6.3 holding registers 108 to 110", Request{Function: ReadHoldingRegisters, Address: 0x6B, Quantity: 3}, "03 006B 0003", "03 06 022B 0000 0064", "022B00000064"},
	{"6.4 input register 9", Request{Function: ReadInputRegisters, Address: 8, Quantity: 1}, "04 0008 0001", "04 02 000A", "000A"},
	{"6.5 coil 173 on", Request{Function: WriteSingleCoil, Address: 0xAC, Bits: []bool{true}}, "05 00AC FF00", "05 00AC FF00", ""},
	{"6.6 register 2", Request{Function: WriteSingleRegister, Address: 1, Words: []uint16{3}}, "06 0001 0003", "06 0001 0003", ""},
	{"6.11 coils 20 to 29", Request{Function: WriteMultipleCoils, Address: 0x13, Quantity: 10, Bits: []bool{true, false, true, true, false, false, true, true, true, false}},
		"0F 0013 000A 02 CD01", "0F 0013 000A", ""},
	{"6.12 registers 2 and 3", Request{Function: WriteMultipleRegisters, Address: 1, Quantity: 2, Words: []uint16{0x000A, 0x0102}},
		"10 0001 0002 04 000A 0102", "10 0001 0002", ""},
	{"6.16 mask register 5", Request{Function: MaskWriteRegister, Address: 4, And: 0xF2, Or: 0x25}, "16 0004 00F2 0025", "16 0004 00F2 0025", ""},
	{"6.8 return query data", Request{Function: Diagnostics, Words: []uint16{0xA537}}, "08 0000 A537", "08 0000 A537", ""},
	{"6.13 server ID", Request{Function: ReportServerID}, "11", "11 03 0142FF", "0142FF"},
	{"6.17 registers 4 to 9, and 15 to 17 written", Request{Function: ReadWriteMultipleRegisters, Address: 3, Quantity: 6, WriteTo: 14, Words: []uint16{0xFF, 0xFF, 0xFF}},
		"17 0003 0006 000E 0003 06 00FF 00FF 00FF", "17 0C 00FE 0ACD 0001 0003 000D 00FF", "00FE0ACD00010003000D00FF"},
	{"6.21 basic device identification", Request{Function: EncapsulatedInterface, Level: 1}, "2B 0E 01 00",
		"2B 0E 01 01 00 00 03 00 03 414243 01 02 5858 02 05 56322E3131", "0E010100000300034142430102585802055632" + "2E3131"},
}

func TestExamplesOfTheSpecification(t *testing.T) {
	for _, c := range examples {
		t.Run(c.name, func(t *testing.T) {
			pdu, err := c.request.Append(nil)
			require.NoError(t, err)
			assert.Equal(t, unhex(t, c.pdu), pdu)
			parsed, err := ParseRequest(pdu)
			require.NoError(t, err)
			assert.Equal(t, c.request, parsed)
			data, err := c.request.ParseAnswer(unhex(t, c.answer))
			require.NoError(t, err)
			assert.Equal(t, c.contents, strings.ToUpper(hex.EncodeToString(data)))
		})
	}
}

func TestParseAnswerRefuses(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 0, Quantity: 2}
	write := Request{Function: WriteSingleRegister, Address: 1, Words: []uint16{3}}
	for _, c := range []struct {
		name    string
		request Request
		pdu     string
		want    string
	}{
		{"exception", read, "83 02", "exception 2 (illegal data address)"},
		{"exception without a code", read, "83", "bad response: an exception of 1 bytes; 2 are due"},
		{"unassigned exception", read, "83 63", "exception 99 (unassigned)"},
		{"too few registers", read, "03 02 0001", "bad response: 2 bytes of data answered to Read Holding Registers (3) for 2; 4 are due"},
		{"count disagrees with length", read, "03 04 0001", "bad response: 2 bytes of data answered to Read Holding Registers (3) for 2; 4 are due"},
		{"too many", read, "03 06 0001 0002 0003", "bad response: 6 bytes of data answered to Read Holding Registers (3) for 2; 4 are due"},
		{"other function", read, "04 04 0001 0002", "bad response: function 4 answered to Read Holding Registers (3)"},
		{"nothing", read, "", "bad response: an empty PDU"},
		{"write of another value", write, "06 0001 0004", "bad response: 06 00 01 00 04 answered to Write Single Register (6); 06 00 01 00 03 is due"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := c.request.ParseAnswer(unhex(t, c.pdu))
			assert.EqualError(t, err, c.want)
		})
	}
}

func TestRequestsBeyondTheLimits(t *testing.T) {
	for _, c := range []struct {
		name string
		r    Request
		want string
	}{
		{"126 registers", Request{Function: ReadHoldingRegisters, Quantity: 126}, "Read Holding Registers (3): quantity 126 is out of range: 1 to 125"},
		{"2001 coils", Request{Function: ReadCoils, Quantity: 2001}, "Read Coils (1): quantity 2001 is out of range: 1 to 2000"},
		{"none", Request{Function: ReadCoils}, "Read Coils (1): quantity 0 is out of range: 1 to 2000"},
		{"beyond the table", Request{Function: ReadInputRegisters, Address: 65535, Quantity: 2}, "Read Input Registers (4): 2 addresses from 65535 end beyond 65535"},
		{"124 registers written", Request{Function: WriteMultipleRegisters, Words: make([]uint16, 124)}, "Write Multiple Registers (16): quantity 124 is out of range: 1 to 123"},
		{"no value", Request{Function: WriteSingleCoil}, "Write Single Coil (5) takes one value"},
		{"unknown function", Request{Function: 99, Quantity: 1}, "function 99 is not spoken here"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := c.r.Append(nil)
			assert.EqualError(t, err, c.want)
		})
	}
	pdu, err := Request{Function: ReadCoils, Quantity: 2000}.Append(nil)
	require.NoError(t, err)
	assert.Equal(t, unhex(t, "01 0000 07D0"), pdu)
}

// memory is a Model of 100 addresses a table.
type memory struct {
	mu    sync.Mutex
	bits  [2][100]bool
	words [4][100]uint16
}

func (m *memory) span(address uint16, n int) error {
	if int(address)+n > 100 {
		return IllegalDataAddress
	}
	return nil
}

func (m *memory) ReadBits(t Table, address uint16, bits []bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.span(address, len(bits)); err != nil {
		return err
	}
	copy(bits, m.bits[t][address:])
	return nil
}

func (m *memory) ReadRegisters(t Table, address uint16, words []uint16) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.span(address, len(words)); err != nil {
		return err
	}
	copy(words, m.words[t][address:])
	return nil
}

func (m *memory) WriteBits(address uint16, bits []bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.span(address, len(bits)); err != nil {
		return err
	}
	copy(m.bits[Coils][address:], bits)
	return nil
}

func (m *memory) WriteRegisters(address uint16, words []uint16) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.span(address, len(words)); err != nil {
		return err
	}
	copy(m.words[HoldingRegisters][address:], words)
	return nil
}

func TestAnswer(t *testing.T) {
	m := &memory{}
	m.words[HoldingRegisters][4] = 0x12
	m.words[InputRegisters][8] = 10
	m.bits[DiscreteInputs][1] = true
	for _, c := range []struct{ name, request, answer string }{
		{"read input register", "04 0008 0001", "04 02 000A"},
		{"read discrete inputs", "02 0000 0003", "02 01 02"},
		{"6.16 mask write", "16 0004 00F2 0025", "16 0004 00F2 0025"},
		{"and its result 0x17", "03 0004 0001", "03 02 0017"},
		{"write coils", "0F 0013 000A 02 CD01", "0F 0013 000A"},
		{"and read them", "01 0013 000A", "01 02 CD01"},
		{"write coil with a value that is neither", "05 0000 1234", "85 03"},
		{"identification of a device that has none", "2B 0E 01 00", "AB 01"},
		{"another MEI type", "2B 0D 01 00", "AB 01"},
		{"identification of a kind that is none", "2B 0E 05 00", "AB 03"},
		{"unknown function", "14 00", "94 01"},
		{"6.8 return query data", "08 0000 A537", "08 0000 A537"},
		{"another diagnostic", "08 0001 0000", "88 01"},
		{"6.17 reads what it wrote", "17 0004 0002 0005 0001 02 00AB", "17 04 0017 00AB"},
		{"6.17 with a count that contradicts itself", "17 0004 0002 0005 0002 02 00AB", "97 03"},
		{"6.17 beyond the end", "17 0063 0002 0005 0001 02 00AB", "97 02"},
		{"exception 3 before 2: a quantity of 0 at a bad address", "03 FFFF 0000", "83 03"},
		{"exception 3 before 2: 126 registers at a bad address", "03 0070 007E", "83 03"},
		{"bad address", "03 0063 0002", "83 02"},
		{"beyond 65535", "03 FFFF 0002", "83 02"},
		{"byte count that contradicts the quantity", "10 0001 0002 03 000A 01", "90 03"},
		{"cut short", "03 00", "83 03"},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, unhex(t, c.answer), Answer(m, unhex(t, c.request)))
		})
	}
	assert.Equal(t, []byte{0x80, 1}, Answer(m, nil))
}

func TestCutMBAP(t *testing.T) {
	whole := unhex(t, "1501 0000 0006 FF 04 0000 0001")
	for i := range whole {
		_, n, err := CutMBAP(whole[:i])
		require.NoError(t, err)
		require.Zero(t, n, "%d bytes are no frame yet", i)
	}
	f, n, err := CutMBAP(append(whole, 0x15))
	require.NoError(t, err)
	assert.Equal(t, len(whole), n)
	assert.Equal(t, Frame{0x1501, 0xFF, unhex(t, "04 0000 0001")}, f)
	assert.Equal(t, whole, AppendMBAP(nil, f))

	for _, garbage := range []string{"48545450 2F31", "0001 0000 0001 01", "0001 0000 00FF 01", "0001 0001"} {
		_, _, err := CutMBAP(unhex(t, garbage))
		assert.ErrorIs(t, err, ErrBadResponse, garbage)
	}
}

// serve starts a server and returns a client on a connection to it.
func serve(t *testing.T, handle func(unit byte, pdu []byte) Reply) *Client {
	t.Helper()
	return serveAs(t, ClientOptions{}, handle)
}

// serveAs is serve for a client with options.
func serveAs(t *testing.T, o ClientOptions, handle func(unit byte, pdu []byte) Reply) *Client {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- (&Server{Framing: o.Framing, Handle: handle}).Serve(ctx, listener) }()
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-done)
		conn.Close()
	})
	return NewClient(conn, o)
}

func TestClientReadsAndWrites(t *testing.T) {
	m := &memory{}
	c := serve(t, func(_ byte, pdu []byte) Reply { return Reply{PDU: Answer(m, pdu)} })
	_, err := c.Do(1, Request{Function: WriteMultipleRegisters, Address: 7, Words: []uint16{0x41C8, 0}}, time.Second)
	require.NoError(t, err)
	data, err := c.Do(1, Request{Function: ReadHoldingRegisters, Address: 7, Quantity: 2}, time.Second)
	require.NoError(t, err)
	assert.Equal(t, []uint16{0x41C8, 0}, AppendWords(nil, data))
	_, err = c.Do(1, Request{Function: ReadHoldingRegisters, Address: 99, Quantity: 2}, time.Second)
	assert.Equal(t, IllegalDataAddress, err)
}

// A fault of the server, what the client says of it, and whether the connection can go on.
func TestClientFaults(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 0, Quantity: 1}
	answer := []byte{3, 2, 0, 7}
	for _, c := range []struct {
		name  string
		reply Reply
		want  error
		text  string
	}{
		{"silence", Reply{}, ErrTimeout, ""},
		{"another unit", Reply{PDU: answer, Alter: func(f []byte) []byte { f[6] = 9; return f }}, ErrBadResponse, "unit 9 answered instead of unit 1"},
		{"another function", Reply{PDU: []byte{4, 2, 0, 7}}, ErrBadResponse, "function 4 answered"},
		{"another transaction", Reply{PDU: answer, Alter: func(f []byte) []byte { f[0] ^= 0x80; return f }}, ErrBadResponse, "a response has the identifier 32769, and the request had 1"},
		{"no transaction", Reply{PDU: answer, Alter: func(f []byte) []byte { f[1] = 0; return f }}, ErrBadResponse, "has the identifier 0"},
		{"an exception of another function", Reply{PDU: []byte{0x84, 2}}, ErrBadResponse, "function 132 answered"},
		{"an exception without a code", Reply{PDU: []byte{0x83}}, ErrBadResponse, "an exception of 1 bytes"},
		{"a count that is wrong", Reply{PDU: []byte{3, 4, 0, 7}}, ErrBadResponse, "announces 4 bytes of data and holds the 2 that are due"},
		{"half a response", Reply{PDU: answer, Alter: func(f []byte) []byte { return f[:9] }}, ErrClosed, "a response broke off: 9 bytes came of the 11 that its length field announces"},
		{"the start of a header", Reply{PDU: answer, Alter: func(f []byte) []byte { return f[:3] }}, ErrClosed, "a response broke off after 3 bytes"},
		{"a length that is too long", Reply{PDU: answer, Alter: func(f []byte) []byte { f[5]++; return f }}, ErrClosed, "broke off: 11 bytes came of the 12"},
		{"too few bytes", Reply{PDU: []byte{3, 1, 0}}, ErrBadResponse, "1 bytes of data"},
		{"garbage", Reply{PDU: answer, Alter: func([]byte) []byte { return []byte("220 ready\r\n") }}, ErrClosed, "not Modbus TCP"},
		{"closed mid-frame", Reply{PDU: answer, Alter: func(f []byte) []byte { return f[:9] }, Close: true}, ErrClosed, "after 9 bytes of a frame"},
		{"closed", Reply{Close: true}, ErrClosed, "closed by the other side"},
	} {
		t.Run(c.name, func(t *testing.T) {
			client := serve(t, func(byte, []byte) Reply { return c.reply })
			_, err := client.Do(1, read, 50*time.Millisecond)
			require.ErrorIs(t, err, c.want)
			assert.ErrorContains(t, err, c.text)
		})
	}
}

// Some devices and gateways add bytes of their own to a stream, or say everything twice.
func TestWhatComesBesideAnswers(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 0, Quantity: 1}
	for _, c := range []struct {
		name  string
		alter func(f []byte) []byte
		kinds []EventKind // beside requests and answers, of three exchanges
	}{
		{"bytes behind each response", func(f []byte) []byte { return append(f, 0, 0) }, []EventKind{EventDamaged, EventDamaged}},
		{"one byte behind each", func(f []byte) []byte { return append(f, 0xFF) }, []EventKind{EventDamaged, EventDamaged}},
		{"bytes before each", func(f []byte) []byte { return append(make([]byte, 50), f...) }, []EventKind{EventDamaged, EventDamaged, EventDamaged}},
		{"every response twice", func(f []byte) []byte { return append(f, f...) }, []EventKind{EventStray, EventStray}},
		{"nothing", func(f []byte) []byte { return f }, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			client := serve(t, func(_ byte, pdu []byte) Reply {
				return Reply{PDU: []byte{3, 2, 0, 7}, Alter: func(f []byte) []byte { return c.alter(append([]byte{}, f...)) }}
			})
			var kinds []EventKind
			client.options.Watch = func(e Event) {
				assert.False(t, e.At.IsZero())
				if e.Kind != EventSent && e.Kind != EventAnswer {
					kinds = append(kinds, e.Kind)
				}
			}
			for range 3 {
				data, err := client.Do(1, read, time.Second)
				require.NoError(t, err)
				assert.Equal(t, uint16(7), Word(data, 0))
			}
			assert.Equal(t, c.kinds, kinds)
			assert.Equal(t, uint64(len(kinds)), client.Counters.Stray.Load())
		})
	}
}

// Identifiers say what a response is that nobody waits for.
func TestUnexpectedIdentifiers(t *testing.T) {
	var s sentAt
	now := time.Now()
	is := func(id, latest uint16) EventKind {
		kind, _ := s.unexpected(id, latest)
		return kind
	}
	for id := range uint16(40) {
		s.note(id+1, now)
		if id%2 == 1 {
			s.answered(id + 1)
		}
	}
	assert.Equal(t, EventStray, is(38, 40), "answered already")
	assert.Equal(t, EventLate, is(39, 40))
	assert.Equal(t, EventLate, is(3, 40), "too long ago to know more")
	assert.Equal(t, EventForeign, is(0, 40), "never sent")
	assert.Equal(t, EventForeign, is(41, 40))
	assert.Equal(t, EventForeign, is(0x9234, 40))
	for id := uint16(41); id != 5; id++ { // once round
		s.note(id, now)
	}
	assert.Equal(t, EventLate, is(0xFFFF, 4))
}

func TestLateAndForeignAnswersAreDroppedAndCounted(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 0, Quantity: 1}
	var held []byte
	requests := 0
	client := serve(t, func(byte, []byte) Reply {
		requests++
		reply := Reply{PDU: []byte{3, 2, 0, byte(requests)}}
		switch requests {
		case 1: // withheld, and sent in front of the next answer
			reply.Alter = func(f []byte) []byte { held = append(held, f...); return nil }
		case 2:
			reply.Alter = func(f []byte) []byte {
				foreign := append([]byte{}, f...)
				foreign[0] ^= 0x80
				return append(append(held, foreign...), f...)
			}
		}
		return reply
	})
	_, err := client.Do(1, read, 30*time.Millisecond)
	require.ErrorIs(t, err, ErrTimeout)
	data, err := client.Do(1, read, time.Second)
	require.NoError(t, err)
	assert.Equal(t, uint16(2), Word(data, 0), "the response to this request, not to the one before")
	assert.Equal(t, uint64(1), client.Counters.Late.Load())
	assert.Equal(t, uint64(1), client.Counters.Foreign.Load())
	data, err = client.Do(1, read, time.Second)
	require.NoError(t, err)
	assert.Equal(t, uint16(3), Word(data, 0))
}

func TestRequestRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := Request{Function: rapid.SampledFrom([]Function{1, 2, 3, 4, 5, 6, 15, 16, 22}).Draw(t, "function"), Address: rapid.Uint16().Draw(t, "address")}
		switch r.Function {
		case WriteSingleCoil:
			r.Bits = []bool{rapid.Bool().Draw(t, "bit")}
		case WriteSingleRegister:
			r.Words = []uint16{rapid.Uint16().Draw(t, "word")}
		case MaskWriteRegister:
			r.And, r.Or = rapid.Uint16().Draw(t, "and"), rapid.Uint16().Draw(t, "or")
		case WriteMultipleCoils:
			r.Bits = rapid.SliceOfN(rapid.Bool(), 1, MaxWriteBits).Draw(t, "bits")
			r.Quantity = uint16(len(r.Bits))
		case WriteMultipleRegisters:
			r.Words = rapid.SliceOfN(rapid.Uint16(), 1, MaxWriteRegisters).Draw(t, "words")
			r.Quantity = uint16(len(r.Words))
		default:
			r.Quantity = uint16(rapid.IntRange(1, 125).Draw(t, "quantity"))
		}
		pdu, err := r.Append(nil)
		if int(r.Address)+r.quantity() > 0x10000 {
			require.Error(t, err)
			return
		}
		require.NoError(t, err)
		require.LessOrEqual(t, len(pdu), MaxPDU)
		back, err := ParseRequest(pdu)
		require.NoError(t, err)
		assert.Equal(t, r, back)
	})
}

func FuzzCutMBAP(f *testing.F) {
	f.Add([]byte{0, 1, 0, 0, 0, 3, 1, 0x83, 2})
	f.Fuzz(func(t *testing.T, b []byte) {
		frame, n, err := CutMBAP(b)
		if err == nil && n > 0 {
			assert.Equal(t, b[:n], AppendMBAP(nil, frame))
		}
	})
}

func FuzzParseAnswer(f *testing.F) {
	for _, c := range examples {
		f.Add(byte(c.request.Function), unhex(f, c.answer))
	}
	f.Fuzz(func(t *testing.T, function byte, pdu []byte) {
		for _, c := range examples {
			if byte(c.request.Function) == function {
				data, err := c.request.ParseAnswer(pdu)
				if err == nil && c.request.Function.reads() && len(data) == 0 {
					t.Fatal("a read without data")
				}
			}
		}
	})
}

func FuzzParseRequest(f *testing.F) {
	for _, c := range examples {
		f.Add(unhex(f, c.pdu))
	}
	f.Fuzz(func(t *testing.T, pdu []byte) {
		answer := Answer(&memory{}, pdu)
		if len(answer) < 2 || len(answer) > MaxPDU {
			t.Fatalf("answer of %d bytes", len(answer))
		}
	})
}
