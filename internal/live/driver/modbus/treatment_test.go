package modbus

import (
	"context"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
)

// device answers with what handle says and notes what it was asked.
type device struct {
	mu    sync.Mutex
	asked []modbus.Request
}

// open connects a session to a device.
func open(t *testing.T, framing site.Framing, handle func(unit byte, r modbus.Request) []byte) (*session, *device) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	d := &device{}
	go func() {
		defer close(done)
		(&modbus.Server{Framing: modbus.Framings[string(framing)], Handle: func(unit byte, pdu []byte) modbus.Reply {
			r, err := modbus.ParseRequest(pdu)
			d.mu.Lock()
			d.asked = append(d.asked, r)
			d.mu.Unlock()
			if err != nil {
				return modbus.Reply{}
			}
			return modbus.Reply{PDU: handle(unit, r)}
		}}).Serve(ctx, listener)
	}()
	l := site.NewLink()
	l.Host, l.Port, l.Framing = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port, framing
	s, err := Driver{}.Open(context.Background(), l.WithDefaults(), nil)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close(); cancel(); <-done })
	return s.(*session), d
}

func (d *device) functions() (list []modbus.Function) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, r := range d.asked {
		list = append(list, r.Function)
	}
	return list
}

func refusal(r modbus.Request, code modbus.Exception) []byte {
	return []byte{byte(r.Function) | 0x80, byte(code)}
}

func registers(r modbus.Request, words ...uint16) []byte {
	pdu := []byte{byte(r.Function), byte(2 * r.Quantity)}
	for i := range int(r.Quantity) {
		w := words[i%len(words)]
		pdu = append(pdu, byte(w>>8), byte(w))
	}
	return pdu
}

// Exception 1 says that the device does not have the function at all (AP 7).
func TestAFunctionThatADeviceDoesNotHaveIsNotAskedForAgain(t *testing.T) {
	s, d := open(t, "", func(_ byte, r modbus.Request) []byte {
		if r.Function == modbus.ReadInputRegisters {
			return refusal(r, modbus.IllegalFunction)
		}
		return registers(r, 7)
	})
	_, st := station(point(site.InputRegisters, 0, ""), point(site.InputRegisters, 900, ""), point(site.HoldingRegisters, 0, ""))
	jobs := Driver{}.Jobs(site.Link{}, st)
	require.Len(t, jobs, 3)
	first, second := s.Do(jobs[0]), s.Do(jobs[1])
	assert.Equal(t, "exception-1", string(first.Reason))
	assert.False(t, first.Skipped)
	assert.Equal(t, "exception-1", string(second.Reason))
	assert.True(t, second.Skipped, "of the same function")
	assert.NoError(t, s.Do(jobs[2]).Err)
	assert.Equal(t, []modbus.Function{4, 3}, d.functions())
}

func TestWhatExceptionsMean(t *testing.T) {
	for _, c := range []struct {
		code            modbus.Exception
		answered, later bool
		rest            time.Duration
	}{
		{modbus.IllegalFunction, true, false, 0}, {modbus.ServerDeviceFailure, true, false, 0},
		{modbus.Acknowledge, true, true, 0}, {modbus.ServerDeviceBusy, true, true, 0}, {modbus.MemoryParityError, true, false, 0},
		{modbus.GatewayPathFailure, false, false, gatewayRest}, {modbus.GatewayTargetFailed, false, false, 0},
	} {
		out := outcome(c.code)
		assert.Equal(t, c.answered, out.Answered, "%s: %s", c.code, "whether it is the station that speaks")
		assert.Equal(t, c.later, out.Later, c.code)
		assert.Equal(t, c.rest, out.Rest, c.code)
	}
}

func TestAStationIsAskedForASignOfLifeWhenNothingElseIsDueOftenEnough(t *testing.T) {
	slow := point(site.Coils, 3, "")
	slow.Poll = site.Duration(time.Hour)
	minutely := slow
	minutely.Poll = site.Duration(time.Minute)
	ask := func(edit func(*link.Station), points ...site.Point) []string {
		_, st := station(points...)
		if edit != nil {
			edit(&st)
		}
		return requests(Driver{}.Jobs(site.Link{}, st))
	}
	assert.Equal(t, []string{"3:0+1"}, ask(nil), "a station without points")
	assert.Equal(t, []string{"1:3+1", "1:3+1"}, ask(nil, slow), "by what its points need")
	assert.Equal(t, []string{"1:3+1"}, ask(nil, minutely), "its polls show that it lives")
	assert.Equal(t, []string{"1:3+1", "1:3+1"}, ask(func(s *link.Station) { s.Liveness = site.Duration(15 * time.Second) }, minutely), "unless it says so")
	assert.Equal(t, []string{"3:0+1"}, ask(nil, point(site.HoldingRegisters, 0, "")), "its polls show that it lives")
	assert.Equal(t, []string{"4:7+1"}, ask(func(s *link.Station) { s.LivenessAsk = "ir:7" }))
	assert.Equal(t, []string{"8:0+0"}, ask(func(s *link.Station) { s.LivenessAsk = site.AskDiagnostics }))
	assert.Equal(t, []string{"43:0+0"}, ask(func(s *link.Station) { s.LivenessAsk = site.AskIdentification }))
	assert.Empty(t, ask(func(s *link.Station) { s.LivenessAsk = site.AskNothing }))
	assert.Empty(t, ask(func(s *link.Station) { s.Broadcast = true }))
	_, st := station()
	st.Liveness = site.Duration(4 * time.Second)
	assert.Equal(t, 4*time.Second, Driver{}.Jobs(site.Link{}, st)[0].Period())

	s, _ := open(t, "", func(_ byte, r modbus.Request) []byte { return refusal(r, modbus.IllegalDataAddress) })
	out := s.Do(Driver{}.Jobs(site.Link{}, st)[0])
	assert.True(t, out.Answered, "a refusal is a sign of life, too")
	assert.Nil(t, out.Instead)
}

func TestWhatAnExchangeCosts(t *testing.T) {
	line := site.Link{Transport: site.Serial, Framing: site.RTU, Serial: &site.LineSettings{Baud: 9600, DataBits: 8, Parity: "even", StopBits: 1}}
	assert.Equal(t, 10, exchangeCost(line, time.Second), "20 characters and silences, a register has two")
	line.Pause = site.Duration(100 * time.Millisecond)
	assert.Equal(t, 10+43, exchangeCost(line, 0))
	assert.Equal(t, unknownCost, exchangeCost(site.Link{Transport: site.TCP}, 0))
	assert.Equal(t, 500, exchangeCost(site.Link{Transport: site.TCP}, 20*time.Millisecond))

	// On a quick serial line two requests are cheaper than 16 unused registers; over a slow network they are not.
	_, st := station(point(site.HoldingRegisters, 0, ""), point(site.HoldingRegisters, 15, ""))
	line.Pause = 0
	assert.Len(t, Driver{}.Jobs(line, st), 2)
	st.RoundTrip = 20 * time.Millisecond
	assert.Len(t, Driver{}.Jobs(site.Link{Transport: site.TCP}, st), 1)
}

// memory is a device with holding registers.
func memory(size int) ([]uint16, func(byte, modbus.Request) []byte) {
	held := make([]uint16, size)
	return held, func(_ byte, r modbus.Request) []byte {
		switch r.Function {
		case modbus.ReadWriteMultipleRegisters:
			copy(held[r.WriteTo:], r.Words)
		case modbus.WriteSingleRegister, modbus.WriteMultipleRegisters:
			copy(held[r.Address:], r.Words)
			echo, _ := r.Append(nil)
			return echo[:5]
		case modbus.WriteMultipleCoils:
			return []byte{byte(r.Function), byte(r.Address >> 8), byte(r.Address), 0, byte(len(r.Bits))}
		case modbus.ReadCoils:
			return []byte{1, 1, 0x05}
		}
		return registers(modbus.Request{Function: r.Function, Quantity: r.Quantity}, held[r.Address:r.Address+r.Quantity]...)
	}
}

func command(at uint16, values ...int64) link.Command {
	c := link.Command{Address: site.Address{Space: site.HoldingRegisters, Offset: at}, Layout: codec.Layout{Type: codec.TypeInt16, Bit: codec.WholeRegister}}
	for _, v := range values {
		c.Raw = append(c.Raw, codec.IntValue(v))
	}
	return c
}

func TestWritesOfSeveralValuesAndReadingBackElsewhere(t *testing.T) {
	held, handle := memory(40)
	s, d := open(t, "", handle)
	w := s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1}}, command(10, 1, -2, 3))
	require.NoError(t, w.Err)
	assert.Equal(t, []uint16{1, 0xFFFE, 3}, held[10:13])
	require.Len(t, w.After, 3)
	assert.Equal(t, codec.IntValue(-2), w.After[1].Value)
	assert.Equal(t, []modbus.Function{3, 16, 3}, d.functions())

	c := command(20, 5)
	c.ReadBack = site.Address{Space: site.HoldingRegisters, Offset: 30}
	held[30] = 4
	w = s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1}}, c)
	assert.True(t, w.Accepted)
	assert.EqualError(t, w.Err, "it reads back otherwise")
	held[30] = 5
	assert.NoError(t, s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1}}, c).Err)

	coils := link.Command{Address: site.Address{Space: site.Coils}, Layout: codec.Layout{Type: codec.TypeBool},
		Raw: []codec.Value{codec.BoolValue(true), codec.BoolValue(false), codec.BoolValue(true)}}
	assert.NoError(t, s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1}}, coils).Err)

	refused := s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1, WriteFunction: site.WriteSingle}}, command(10, 1, 2))
	assert.False(t, refused.Reached)
	inputs := command(0, 1)
	inputs.Address.Space = site.InputRegisters
	assert.ErrorContains(t, s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1}}, inputs).Err, "can only be read")
}

func TestWritingAndReadingBackInOneRequest(t *testing.T) {
	held, handle := memory(40)
	s, d := open(t, "", handle)
	w := s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1, ReadWrite: true}}, command(10, 7))
	require.NoError(t, w.Err)
	assert.Equal(t, uint16(7), held[10])
	assert.Equal(t, []modbus.Function{3, 23}, d.functions(), "after the value before, one exchange")
}

// After some exceptions nothing was done; after the others, and after codes that the standard does not have, something may have been.
func TestWhatExceptionsToAWriteMean(t *testing.T) {
	for code, refused := range map[modbus.Exception]bool{1: true, 2: true, 3: true, 6: true, 4: false, 5: false, 8: false, 10: false, 11: false, 7: false, 99: false} {
		t.Run(code.Error(), func(t *testing.T) {
			held, handle := memory(40)
			s, _ := open(t, "", func(unit byte, r modbus.Request) []byte {
				if r.Function == modbus.WriteSingleRegister {
					if !refused {
						handle(unit, r)
					}
					return refusal(r, code)
				}
				return handle(unit, r)
			})
			w := s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 1}}, command(10, 7))
			require.ErrorIs(t, w.Err, code)
			assert.True(t, w.Reached)
			assert.False(t, w.Accepted)
			assert.Equal(t, refused, w.Refused)
			if !refused {
				require.Len(t, w.After, 1, "what reads back tells")
				assert.Equal(t, []uint16{7}, w.After[0].Words)
				assert.Equal(t, uint16(7), held[10])
			}
		})
	}
}

func TestABroadcastReachesAllAndNobodyAnswers(t *testing.T) {
	s, d := open(t, site.RTU, func(byte, modbus.Request) []byte { return nil })
	w := s.Write(site.Station{ModbusStation: site.ModbusStation{Unit: 0, Broadcast: true}}, command(10, 7))
	require.NoError(t, w.Err)
	assert.True(t, w.Reached && w.Broadcast)
	assert.Eventually(t, func() bool { return len(d.functions()) == 1 }, 5*time.Second, time.Millisecond)
	_, err := s.Test(site.Station{ModbusStation: site.ModbusStation{Broadcast: true}})
	assert.ErrorContains(t, err, "none answers a broadcast")
}
