package modbus

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
)

// The conformance suite: what is sent and what is made of the response, octet by octet, against a far end that shares no code with the
// client (e2e/farend). AP is the MODBUS Application Protocol V1.1b3, TCP the Messaging Guide V1.0b, SL the Serial Line guide V1.02.

var framingNames = []string{"mbap", "rtu", "ascii"}

// exchanged lets a client make one exchange with a far end, which reads what is asked and says what it is given.
func exchanged(t *testing.T, framing string, r Request, say func(id [2]byte, asked []byte) [][]byte) (data []byte, asked []byte, err error) {
	t.Helper()
	conn := farend.NewConn(false)
	conn.Asked = func(b []byte) {
		id, body := farend.Request(framing, b)
		asked = body
		for _, frame := range say(id, body) {
			conn.Say(frame)
		}
	}
	c := NewClient(conn, ClientOptions{Framing: Framings[framing], Gap: 5 * time.Millisecond})
	answer, err := c.Exchange(17, r, 30*time.Millisecond)
	return answer.Data, asked, err
}

func upper(b []byte) string { return strings.ToUpper(hex.EncodeToString(b)) }

func compact(s string) string { return strings.ReplaceAll(s, " ", "") }

// AP 6: each function in each framing, as the specification's examples have it.
func TestConformanceFunctions(t *testing.T) {
	for _, framing := range framingNames {
		for _, c := range examples {
			t.Run(framing+" AP "+c.name, func(t *testing.T) {
				data, asked, err := exchanged(t, framing, c.request, func(id [2]byte, _ []byte) [][]byte {
					return [][]byte{farend.Frame(framing, id, append([]byte{17}, unhex(t, c.answer)...))}
				})
				require.NoError(t, err)
				assert.Equal(t, "11"+compact(c.pdu), upper(asked), "unit and PDU")
				assert.Equal(t, c.contents, upper(data))
			})
		}
	}
}

// AP 7: every exception code to reads and writes.
func TestConformanceExceptions(t *testing.T) {
	requests := []Request{
		{Function: ReadCoils, Quantity: 9}, {Function: ReadHoldingRegisters, Quantity: 2}, {Function: WriteSingleRegister, Words: []uint16{1}}, {Function: WriteMultipleRegisters, Words: []uint16{1, 2}},
	}
	for _, framing := range framingNames {
		for _, r := range requests {
			for _, code := range []byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 10, 11, 99, 255} {
				t.Run(fmt.Sprintf("%s AP 7 %s, exception %d", framing, r.Function, code), func(t *testing.T) {
					data, _, err := exchanged(t, framing, r, func(id [2]byte, asked []byte) [][]byte {
						return [][]byte{farend.Frame(framing, id, []byte{17, asked[1] | 0x80, code})}
					})
					assert.Equal(t, Exception(code), err)
					assert.Nil(t, data)
				})
			}
		}
	}
}

// What is no answer is never taken for one.
func TestConformanceMalformedResponses(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 7, Quantity: 2}
	for _, c := range []struct {
		clause string
		body   string
		want   error
	}{
		{"AP 6.3 one register too few", "11 03 02 0001", ErrBadResponse},
		{"AP 6.3 one register too many", "11 03 06 0001 0002 0003", ErrBadResponse},
		{"AP 6.3 a count that is too large", "11 03 06 0001 0002", ErrBadResponse},
		{"AP 6.3 a count that is odd", "11 03 03 000102", ErrBadResponse},
		{"AP 6.3 a count of 0", "11 03 00", ErrBadResponse},
		{"AP 7 an exception without its code", "11 83", ErrBadResponse},
		{"AP 7 an exception to another function", "11 84 02", ErrBadResponse},
		{"AP 4.1 another function", "11 04 04 0001 0002", ErrBadResponse},
		{"AP 4.1 function 0", "11 00 04 0001 0002", nil},
		{"SL 2.2 another unit", "12 03 04 0001 0002", ErrBadResponse},
		{"SL 2.2 unit 0", "00 03 04 0001 0002", ErrBadResponse},
	} {
		for _, framing := range framingNames {
			t.Run(framing+" "+c.clause, func(t *testing.T) {
				data, _, err := exchanged(t, framing, read, func(id [2]byte, _ []byte) [][]byte {
					return [][]byte{farend.Frame(framing, id, unhex(t, compact(c.body)))}
				})
				require.Error(t, err)
				assert.Nil(t, data)
				if c.want != nil && framing != "rtu" { // which finds no frame where the length is not what its function says
					assert.ErrorIs(t, err, c.want)
				}
			})
		}
	}
	writes := []struct {
		r      Request
		answer string
	}{
		{Request{Function: WriteSingleCoil, Address: 3, Bits: []bool{true}}, "11 05 0003 0000"},
		{Request{Function: WriteSingleCoil, Address: 3, Bits: []bool{true}}, "11 05 0004 FF00"},
		{Request{Function: WriteSingleRegister, Address: 3, Words: []uint16{9}}, "11 06 0003 0008"},
		{Request{Function: WriteSingleRegister, Address: 3, Words: []uint16{9}}, "11 06 0002 0009"},
		{Request{Function: WriteMultipleRegisters, Address: 3, Words: []uint16{9, 8}}, "11 10 0003 0001"},
		{Request{Function: WriteMultipleRegisters, Address: 3, Words: []uint16{9, 8}}, "11 10 0004 0002"},
		{Request{Function: WriteMultipleCoils, Address: 3, Bits: []bool{true, true}}, "11 0F 0003 0003"},
		{Request{Function: MaskWriteRegister, Address: 3, And: 1, Or: 2}, "11 16 0003 0001 0003"},
		{Request{Function: Diagnostics, Words: []uint16{0xA537}}, "11 08 0000 A536"},
	}
	for _, framing := range framingNames {
		for _, c := range writes {
			t.Run(fmt.Sprintf("%s AP 6 %s is answered with %s", framing, c.r.Function, c.answer), func(t *testing.T) {
				_, _, err := exchanged(t, framing, c.r, func(id [2]byte, _ []byte) [][]byte {
					return [][]byte{farend.Frame(framing, id, unhex(t, compact(c.answer)))}
				})
				assert.ErrorIs(t, err, ErrBadResponse)
			})
		}
	}
}

// TCP 3.1.3 and 4.4.2: the header of a response.
func TestConformanceHeaders(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 7, Quantity: 2}
	const good = "11 03 04 0001 0002"
	for _, c := range []struct {
		clause string
		say    func(id [2]byte) []byte
		want   error // nil: it is taken
	}{
		{"TCP 3.1.3 as it is", func(id [2]byte) []byte { return farend.Frame("mbap", id, unhex(t, compact(good))) }, nil},
		{"TCP 3.1.3 another transaction identifier", func(id [2]byte) []byte {
			return farend.Frame("mbap", [2]byte{id[0] + 9, id[1]}, unhex(t, compact(good)))
		}, ErrBadResponse},
		{"TCP 3.1.3 protocol identifier 1", func(id [2]byte) []byte {
			b := farend.Frame("mbap", id, unhex(t, compact(good)))
			b[3] = 1
			return b
		}, ErrClosed},
		{"TCP 3.1.3 length 0", func(id [2]byte) []byte { return []byte{id[0], id[1], 0, 0, 0, 0, 17} }, ErrClosed},
		{"TCP 3.1.3 length 1", func(id [2]byte) []byte { return []byte{id[0], id[1], 0, 0, 0, 1, 17} }, ErrClosed},
		{"TCP 3.1.2 length 255", func(id [2]byte) []byte { return []byte{id[0], id[1], 0, 0, 0, 255, 17, 3} }, ErrClosed},
		{"TCP 3.1.3 a length that is longer than what comes", func(id [2]byte) []byte {
			b := farend.Frame("mbap", id, unhex(t, compact(good)))
			b[5]++
			return b
		}, ErrClosed},
		{"TCP 3.1.3 a response that breaks off", func(id [2]byte) []byte { return farend.Frame("mbap", id, unhex(t, compact(good)))[:9] }, ErrClosed},
		{"another protocol", func([2]byte) []byte { return []byte("HTTP/1.1 400 Bad Request\r\n\r\n") }, ErrClosed},
	} {
		t.Run("mbap "+c.clause, func(t *testing.T) {
			data, _, err := exchanged(t, "mbap", read, func(id [2]byte, _ []byte) [][]byte { return [][]byte{c.say(id)} })
			if c.want == nil {
				require.NoError(t, err)
				assert.Equal(t, "00010002", upper(data))
				return
			}
			assert.ErrorIs(t, err, c.want)
		})
	}
}

// SL 2.5: frames of a serial line, damaged in every octet.
func TestConformanceChecksums(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Address: 7, Quantity: 2}
	for _, framing := range []string{"rtu", "ascii"} {
		frame := farend.Frame(framing, [2]byte{}, unhex(t, compact("11 03 04 0001 0002")))
		for i := range frame {
			t.Run(fmt.Sprintf("%s SL 6.2 octet %d is damaged", framing, i), func(t *testing.T) {
				damaged := append([]byte{}, frame...)
				damaged[i] ^= 0x04
				data, _, err := exchanged(t, framing, read, func([2]byte, []byte) [][]byte { return [][]byte{damaged} })
				require.Error(t, err)
				assert.Nil(t, data)
			})
		}
		t.Run(framing+" SL 2.5 in pieces", func(t *testing.T) {
			data, _, err := exchanged(t, framing, read, func([2]byte, []byte) [][]byte { return [][]byte{frame[:1], frame[1:4], frame[4:]} })
			require.NoError(t, err)
			assert.Equal(t, "00010002", upper(data))
		})
		t.Run(framing+" SL 2.5 behind noise", func(t *testing.T) {
			data, _, err := exchanged(t, framing, read, func([2]byte, []byte) [][]byte { return [][]byte{{0xFF, 0x00, 0x80}, frame} })
			require.NoError(t, err)
			assert.Equal(t, "00010002", upper(data))
		})
	}
	t.Run("ascii SL 2.5.2.1 a colon begins a frame anew", func(t *testing.T) {
		frame := farend.Frame("ascii", [2]byte{}, unhex(t, compact("11 03 04 0001 0002")))
		data, _, err := exchanged(t, "ascii", read, func([2]byte, []byte) [][]byte { return [][]byte{frame[:9], frame} })
		require.NoError(t, err)
		assert.Equal(t, "00010002", upper(data))
	})
	t.Run("ascii SL 2.5.2 in small letters", func(t *testing.T) {
		frame := []byte(strings.ToLower(string(farend.Frame("ascii", [2]byte{}, unhex(t, compact("11 03 04 00AB 00CD"))))))
		data, _, err := exchanged(t, "ascii", read, func([2]byte, []byte) [][]byte { return [][]byte{frame} })
		require.NoError(t, err)
		assert.Equal(t, "00AB00CD", upper(data))
	})
}

// The server: what a device answers, by the state diagrams of AP 6.
func TestConformanceServer(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	model := &memory{}
	go func() {
		defer close(done)
		(&Server{Handle: func(_ byte, pdu []byte) Reply { return Reply{PDU: Answer(model, pdu)} }}).Serve(ctx, listener)
	}()
	t.Cleanup(func() { cancel(); <-done })
	for _, c := range []struct{ clause, request, answer string }{
		{"AP 6.1 coils 0 to 9", "01 0000 000A", "01 02 0000"},
		{"AP 6.1 quantity 0", "01 0000 0000", "81 03"},
		{"AP 6.1 quantity 2001", "01 0000 07D1", "81 03"},
		{"AP 6.1 beyond the last", "01 0060 000A", "81 02"},
		{"AP 6.2 discrete inputs", "02 0000 0001", "02 01 00"},
		{"AP 6.2 quantity 0", "02 0000 0000", "82 03"},
		{"AP 6.3 registers", "03 0000 0002", "03 04 0000 0000"},
		{"AP 6.3 quantity 0", "03 0000 0000", "83 03"},
		{"AP 6.3 quantity 126", "03 0000 007E", "83 03"},
		{"AP 6.3 the last", "03 0063 0001", "03 02 0000"},
		{"AP 6.3 beyond the last", "03 0063 0002", "83 02"},
		{"AP 6.3 too short", "03 0000 00", "83 03"},
		{"AP 6.3 too long", "03 0000 0001 00", "83 03"},
		{"AP 6.4 quantity 126", "04 0000 007E", "84 03"},
		{"AP 6.5 a coil on", "05 0003 FF00", "05 0003 FF00"},
		{"AP 6.5 and read back", "01 0003 0001", "01 01 01"},
		{"AP 6.5 off", "05 0003 0000", "05 0003 0000"},
		{"AP 6.5 neither on nor off", "05 0003 0001", "85 03"},
		{"AP 6.5 beyond the last", "05 0064 FF00", "85 02"},
		{"AP 6.6 a register", "06 0004 ABCD", "06 0004 ABCD"},
		{"AP 6.6 and read back", "03 0004 0001", "03 02 ABCD"},
		{"AP 6.6 beyond the last", "06 0064 0001", "86 02"},
		{"AP 6.11 coils", "0F 0000 000A 02 FF03", "0F 0000 000A"},
		{"AP 6.11 quantity 0", "0F 0000 0000 00", "8F 03"},
		{"AP 6.11 a count that does not fit", "0F 0000 000A 01 FF", "8F 03"},
		{"AP 6.12 registers", "10 0000 0002 04 0001 0002", "10 0000 0002"},
		{"AP 6.12 and read back", "03 0000 0002", "03 04 0001 0002"},
		{"AP 6.12 quantity 0", "10 0000 0000 00", "90 03"},
		{"AP 6.12 quantity 124", "10 0000 007C F8" + strings.Repeat("00", 246), "90 03"},
		{"AP 6.12 a count that does not fit", "10 0000 0002 03 000100", "90 03"},
		{"AP 6.12 beyond the last", "10 0063 0002 04 0001 0002", "90 02"},
		{"AP 6.16 a mask", "16 0000 00F2 0025", "16 0000 00F2 0025"},
		{"AP 6.16 and read back", "03 0000 0001", "03 02 0005"},
		{"AP 7 a function that it does not have", "41 0000 0001", "C1 01"},
		{"AP 7 function 0", "00 0000 0001", "80 01"},
	} {
		t.Run(c.clause, func(t *testing.T) {
			conn, err := net.Dial("tcp", listener.Addr().String())
			require.NoError(t, err)
			defer conn.Close()
			_, err = conn.Write(farend.Frame("mbap", [2]byte{0xAB, 0xCD}, append([]byte{17}, unhex(t, compact(c.request))...)))
			require.NoError(t, err)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
			b := make([]byte, 300)
			n, err := conn.Read(b)
			require.NoError(t, err)
			assert.Equal(t, upper(farend.Frame("mbap", [2]byte{0xAB, 0xCD}, append([]byte{17}, unhex(t, compact(c.answer))...))), upper(b[:n]))
		})
	}
}

// A second response to one request, a response that is late and one to nobody are told apart by their identifiers (TCP 4.4.2).
func TestConformanceIdentifiers(t *testing.T) {
	for name, kind := range map[string]EventKind{"a second response": EventStray, "a response to a request that timed out": EventLate, "another identifier": EventForeign} {
		t.Run("mbap TCP 4.4.2 "+name, func(t *testing.T) {
			conn := farend.NewConn(false)
			var seen []EventKind
			c := NewClient(conn, ClientOptions{Watch: func(e Event) { seen = append(seen, e.Kind) }})
			n := 0
			answer := unhex(t, compact("11 03 02 0007"))
			conn.Asked = func(b []byte) {
				n++
				id, _ := farend.Request("mbap", b)
				switch {
				case n == 1 && kind == EventLate:
				case n == 1:
					conn.Say(farend.Frame("mbap", id, answer))
				case kind == EventForeign:
					conn.Say(farend.Frame("mbap", [2]byte{0x77, 0x77}, answer))
					conn.Say(farend.Frame("mbap", id, answer))
				default:
					conn.Say(farend.Frame("mbap", [2]byte{id[0], id[1] - 1}, unhex(t, compact("11 03 02 0006"))))
					conn.Say(farend.Frame("mbap", id, answer))
				}
			}
			_, err := c.Exchange(17, readOne(1), 10*time.Millisecond)
			if kind == EventLate {
				require.ErrorIs(t, err, ErrTimeout)
			} else {
				require.NoError(t, err)
			}
			got, err := c.Exchange(17, readOne(2), time.Second)
			require.NoError(t, err)
			assert.Equal(t, uint16(7), Word(got.Data, 0))
			assert.Contains(t, seen, kind)
			assert.False(t, errors.Is(err, ErrClosed))
		})
	}
}
