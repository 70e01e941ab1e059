package rig

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
)

// pair is a rig of one device on a line with each framing, and clients to them.
func pair(t *testing.T) (*Rig, map[site.Framing]*modbus.Client) {
	t.Helper()
	station := Station{Unit: 1, Name: "tank", Tables: map[string]int{"hr": 10, "co": 4}, Values: []Value{
		{At: site.Address{Space: site.HoldingRegisters}, Type: codec.TypeUint32, Set: codec.FloatValue(0x00010002)},
		{At: site.Address{Space: site.HoldingRegisters, Offset: 4}, Signal: "level"},
	}}
	max := 1e9
	c := &Config{Rig: Version, Signals: map[string]Signal{"level": {Kind: Counter, Value: 1000, Max: &max}}}
	for _, framing := range []site.Framing{site.MBAP, site.RTU, site.ASCII} {
		c.Lines = append(c.Lines, Line{Name: string(framing), Framing: framing, Listen: "127.0.0.1:0", Stations: []Station{station}})
	}
	r, err := Start(c, Options{})
	require.NoError(t, err)
	t.Cleanup(r.Stop)
	clients := map[site.Framing]*modbus.Client{}
	for _, l := range c.Lines {
		clients[l.Framing] = dial(t, r, l.Framing)
	}
	return r, clients
}

func dial(t *testing.T, r *Rig, framing site.Framing) *modbus.Client {
	conn, err := net.Dial("tcp", r.Address(string(framing)))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return modbus.NewClient(conn, modbus.ClientOptions{Framing: modbus.Framings[string(framing)]})
}

// firstTwo asks for the fixed value.
var firstTwo = modbus.Request{Function: modbus.ReadHoldingRegisters, Quantity: 2}

// What a client gets of each fault, under each framing; "" is the right value, never a fault that cannot be there.
func TestWhatFaultsDo(t *testing.T) {
	const none, checksum, never = "no response in time", "bad response: checksum", "never"
	for _, c := range []struct {
		name             string
		faults           Faults
		mbap, rtu, ascii string
	}{
		{"none", Faults{}, "", "", ""},
		{"drop", Faults{Drop: true}, none, none, none},
		{"close", Faults{Close: true}, "closed by the other side", "closed by the other side", "closed by the other side"},
		{"garbage", Faults{Garbage: true}, "not Modbus TCP", "checksum", "bad response"},
		{"wrong unit", Faults{WrongUnit: true}, "unit 2 answered instead of unit 1", "unit 2 answered instead of unit 1", "unit 2 answered instead of unit 1"},
		{"wrong identifier", Faults{Identifier: true}, "a response has the identifier", never, never},
		{"checksum", Faults{Checksum: true}, never, checksum, checksum},
		{"noise", Faults{Noise: true}, "", "", ""},
		{"trailing", Faults{Trailing: true}, "", "", ""},
		{"miscount", Faults{Miscount: true}, "announces 6 bytes of data and holds the 4", "bad response", "announces 6 bytes of data and holds the 4"},
		{"echo", Faults{Echo: true}, "", "", ""},
		{"short", Faults{Short: true}, "2 bytes of data", "2 bytes of data", "2 bytes of data"},
		{"truncate", Faults{Truncate: true}, "a response broke off", "bad response", "bad response"},
		{"exception", Faults{Exception: 6}, "exception 6", "exception 6", "exception 6"},
		{"duplicate", Faults{Duplicate: true}, "", "", ""},
		{"delay", Faults{Delay: site.Duration(time.Millisecond)}, "", "", ""},
		{"mute writes", Faults{MuteWrites: true}, "", "", ""},
		{"late writes", Faults{LateWrites: site.Duration(time.Hour)}, "", "", ""},
		{"outage", Faults{Outage: &Outage{Every: site.Duration(time.Hour), For: site.Duration(time.Hour - 1)}}, none, none, none},
		{"restart", Faults{Restart: site.Duration(time.Hour)}, none, none, none},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			r, clients := pair(t)
			for framing, want := range map[site.Framing]string{site.MBAP: c.mbap, site.RTU: c.rtu, site.ASCII: c.ascii} {
				err := r.SetFaults(string(framing), 1, c.faults)
				if want == never {
					assert.ErrorContains(t, err, "has no effect on line "+string(framing))
					continue
				}
				require.NoError(t, err)
				timeout := 5 * time.Second
				if want != "" {
					timeout = 300 * time.Millisecond
				}
				data, err := clients[framing].Do(1, firstTwo, timeout)
				if want == "" {
					require.NoError(t, err, framing)
					assert.Equal(t, []uint16{1, 2}, modbus.AppendWords(nil, data), framing)
					continue
				}
				assert.ErrorContains(t, err, want, framing)
			}
		})
	}
}

func TestSomeAnswersAreSpoilt(t *testing.T) {
	r, clients := pair(t)
	require.NoError(t, r.SetFaults("mbap", 1, Faults{Exception: 4, Some: 3}))
	refused := 0
	for range 9 {
		if _, err := clients[site.MBAP].Do(1, firstTwo, 5*time.Second); err != nil {
			assert.Equal(t, modbus.ServerDeviceFailure, err)
			refused++
		}
	}
	assert.Equal(t, 3, refused)
}

func TestWordsChangePlacesInEveryOtherAnswer(t *testing.T) {
	r, clients := pair(t)
	require.NoError(t, r.SetFaults("mbap", 1, Faults{WordSwap: true}))
	seen := map[string]int{}
	for range 6 {
		data, err := clients[site.MBAP].Do(1, firstTwo, 5*time.Second)
		require.NoError(t, err)
		seen[string(data)]++
	}
	assert.Equal(t, map[string]int{"\x00\x01\x00\x02": 3, "\x00\x02\x00\x01": 3}, seen)
}

func TestARestartForgetsWhatWasWritten(t *testing.T) {
	r, clients := pair(t)
	write := modbus.Request{Function: modbus.WriteSingleRegister, Address: 1, Words: []uint16{77}}
	_, err := clients[site.MBAP].Do(1, write, 5*time.Second)
	require.NoError(t, err)
	words, err := r.Registers("mbap", 1, 0, 2)
	require.NoError(t, err)
	assert.Equal(t, []uint16{1, 77}, words)
	require.NoError(t, r.SetFaults("mbap", 1, Faults{Restart: site.Duration(time.Nanosecond)}))
	data, err := clients[site.MBAP].Do(1, firstTwo, 5*time.Second)
	require.NoError(t, err)
	assert.Equal(t, []uint16{1, 2}, modbus.AppendWords(nil, data))
	faults, err := r.Faults("mbap", 1)
	require.NoError(t, err)
	assert.Zero(t, faults.Restart, "once")
}

func TestFrozenValuesDoNotMove(t *testing.T) {
	r, clients := pair(t)
	moving := func(framing site.Framing) uint16 {
		data, err := clients[framing].Do(1, modbus.Request{Function: modbus.ReadHoldingRegisters, Address: 4, Quantity: 1}, 5*time.Second)
		require.NoError(t, err)
		return modbus.Word(data, 0)
	}
	first := moving(site.MBAP)
	require.NoError(t, r.SetFaults("mbap", 1, Faults{Frozen: true}))
	other := moving(site.RTU)
	require.Eventually(t, func() bool { return moving(site.RTU) != other }, 10*time.Second, time.Millisecond, "its neighbour's do")
	assert.Equal(t, first, moving(site.MBAP))
	require.NoError(t, r.SetFaults("mbap", 1, Faults{}))
	require.Eventually(t, func() bool { return moving(site.MBAP) != first }, 10*time.Second, time.Millisecond)
}

func TestWhatIsWrittenIsTakenOverLater(t *testing.T) {
	r, clients := pair(t)
	write := modbus.Request{Function: modbus.WriteSingleRegister, Address: 0, Words: []uint16{9}}
	read := func() []uint16 {
		data, err := clients[site.MBAP].Do(1, firstTwo, 5*time.Second)
		require.NoError(t, err)
		return modbus.AppendWords(nil, data)
	}
	require.NoError(t, r.SetFaults("mbap", 1, Faults{LateWrites: site.Duration(time.Hour)}))
	_, err := clients[site.MBAP].Do(1, write, 5*time.Second)
	require.NoError(t, err, "it is acknowledged")
	assert.Equal(t, []uint16{1, 2}, read())
	_, err = clients[site.MBAP].Do(1, modbus.Request{Function: modbus.WriteSingleRegister, Address: 999, Words: []uint16{9}}, 5*time.Second)
	assert.ErrorIs(t, err, modbus.IllegalDataAddress, "what it does not have it refuses at once")
	require.NoError(t, r.SetFaults("mbap", 1, Faults{Restart: site.Duration(time.Nanosecond)}))
	require.NoError(t, r.SetFaults("mbap", 1, Faults{LateWrites: site.Duration(time.Nanosecond)}))
	_, err = clients[site.MBAP].Do(1, write, 5*time.Second)
	require.NoError(t, err)
	assert.Equal(t, []uint16{9, 2}, read())
}

func TestALineIsCutAndRestored(t *testing.T) {
	r, clients := pair(t)
	at := r.Address("mbap")
	r.Cut("mbap")
	_, err := clients[site.MBAP].Do(1, firstTwo, 5*time.Second)
	assert.ErrorIs(t, err, modbus.ErrClosed)
	_, err = net.Dial("tcp", at)
	assert.ErrorContains(t, err, "refused")
	state := r.State()
	require.Len(t, state, 3)
	for _, l := range state {
		assert.Equal(t, l.Name == "mbap", l.Cut, l.Name)
	}
	require.NoError(t, r.Restore("mbap"))
	assert.Equal(t, at, r.Address("mbap"), "at the same port")
	_, err = dial(t, r, site.MBAP).Do(1, firstTwo, 5*time.Second)
	assert.NoError(t, err)
}

func TestFaultsAreChecked(t *testing.T) {
	r, _ := pair(t)
	for want, f := range map[string]Faults{
		"shorter than every": {Outage: &Outage{Every: site.Duration(time.Second), For: site.Duration(time.Second)}},
		"call":               {Call: "engaged"},
	} {
		assert.ErrorContains(t, r.SetFaults("mbap", 1, f), want)
	}
	assert.ErrorContains(t, r.SetFaults("mbap", 9, Faults{}), "no unit 9 on line mbap")
	assert.ErrorContains(t, r.SetFaults("other", 1, Faults{}), "no unit 1 on line other")
	_, err := r.Registers("mbap", 9, 0, 1)
	assert.ErrorContains(t, err, "no unit 9")
}

// Devices on serial lines take a broadcast in, and none answers.
func TestABroadcastReachesAllOfALine(t *testing.T) {
	line := Line{Name: "bus", Transport: site.Serial, Serial: site.LineSettings{Baud: 115200}}
	for unit := 1; unit <= 3; unit++ {
		line.Stations = append(line.Stations, Station{Unit: unit, Tables: map[string]int{"hr": 4}})
	}
	r, err := Start(&Config{Rig: Version, Lines: []Line{line}}, Options{})
	require.NoError(t, err)
	t.Cleanup(r.Stop)
	require.NoError(t, r.SetFaults("bus", 3, Faults{Drop: true}))
	reply := r.handle(r.lines["bus"], "", 0, []byte{6, 0, 2, 0, 99})
	assert.Nil(t, reply.PDU)
	for unit, want := range map[int]uint16{1: 99, 2: 99, 3: 0} {
		words, err := r.Registers("bus", unit, 2, 1)
		require.NoError(t, err)
		assert.Equal(t, want, words[0], "unit %d", unit)
	}
	assert.Nil(t, r.handle(r.lines["bus"], "", 9, []byte{3, 0, 0, 0, 1}).PDU, "nobody is there")
}

// A rig that is stopped leaves nothing behind that listens.
func TestARigThatIsStopped(t *testing.T) {
	r, clients := pair(t)
	at := r.Address("rtu")
	r.Stop()
	_, err := clients[site.RTU].Do(1, firstTwo, 5*time.Second)
	assert.ErrorIs(t, err, modbus.ErrClosed)
	var dialer net.Dialer
	_, err = dialer.DialContext(context.Background(), "tcp", at)
	assert.Error(t, err)
}
