package probe

import (
	"context"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
)

// device answers on loopback as told, and gives the link to it.
func device(t *testing.T, framing modbus.Framing, handle func(unit byte, pdu []byte) modbus.Reply) site.Link {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		(&modbus.Server{Framing: framing, Handle: handle}).Serve(ctx, listener)
	}()
	t.Cleanup(func() {
		cancel()
		<-ended
	})
	l := site.NewLink()
	l.Name, l.Host, l.Port, l.Timeout = "link", "127.0.0.1", listener.Addr().(*net.TCPAddr).Port, site.Duration(300*time.Millisecond)
	l.Framing = site.Framing(framing.String())
	return l
}

// registers is a device with holding registers only, of which so many may be read at once.
func registers(most int, too func() modbus.Reply) func(byte, []byte) modbus.Reply {
	return func(_ byte, pdu []byte) modbus.Reply {
		switch {
		case modbus.Function(pdu[0]) != modbus.ReadHoldingRegisters:
			return refusal(pdu, modbus.IllegalFunction)
		case int(pdu[4]) > most:
			return too()
		}
		return modbus.Reply{PDU: append([]byte{pdu[0], 2 * pdu[4]}, make([]byte, 2*int(pdu[4]))...)}
	}
}

func refusal(pdu []byte, e modbus.Exception) modbus.Reply {
	return modbus.Reply{PDU: []byte{pdu[0] | 0x80, byte(e)}}
}

func never() modbus.Reply { return modbus.Reply{} }

// only lets a device answer for one unit.
func only(unit byte, handle func(byte, []byte) modbus.Reply) func(byte, []byte) modbus.Reply {
	return func(u byte, pdu []byte) modbus.Reply {
		if u != unit {
			return modbus.Reply{}
		}
		return handle(u, pdu)
	}
}

// span is a device with so many holding registers from an address on, and nothing else.
func span(first, count int) func(byte, []byte) modbus.Reply {
	return func(_ byte, pdu []byte) modbus.Reply {
		if pdu[0] != 3 {
			return refusal(pdu, modbus.IllegalFunction)
		}
		at, n := int(pdu[1])<<8|int(pdu[2]), int(pdu[3])<<8|int(pdu[4])
		if at < first || at+n > first+count {
			return refusal(pdu, modbus.IllegalDataAddress)
		}
		return modbus.Reply{PDU: append([]byte{3, byte(2 * n)}, make([]byte, 2*n)...)}
	}
}

// stages probes unit 1 and gives the text of each stage by its name, and the last.
func stages(t *testing.T, l site.Link) (all map[string]string, last Stage) {
	all = map[string]string{}
	Probe(t.Context(), l, Target{Unit: 1}, func(s Stage) { all[s.Name], last = s.Text, s })
	return all, last
}

func TestProbesOfOddDevices(t *testing.T) {
	plain := registers(125, never)
	closing := func(handle func(byte, []byte) modbus.Reply) func(byte, []byte) modbus.Reply {
		return func(unit byte, pdu []byte) modbus.Reply {
			reply := handle(unit, pdu)
			reply.Close = true
			return reply
		}
	}
	for _, c := range []struct {
		name    string
		framing modbus.Framing
		handle  func(byte, []byte) modbus.Reply
		stage   string // that is the last
		ok      bool
		want    []string
	}{
		{"a plain one", modbus.MBAP, only(1, plain), "limits", true, []string{"unit 1 answers", "functions 43/14, 17 and 8 are refused", "hr answers at 0; ir not there", "125 registers at once, the most there is"}},
		{"one that closes after each response", modbus.MBAP, only(1, closing(plain)), "limits", true, []string{"hr answers at 0; ir not there; co not there", "125 registers at once"}},
		{"one that closes when it is asked", modbus.MBAP, closing(func(byte, []byte) modbus.Reply { return modbus.Reply{} }), "modbus", false, []string{"takes the connection and closes it when it is asked"}},
		{"one that looks at no unit", modbus.MBAP, plain, "limits", true, []string{"unit 239, which is hardly there, answers as well"}},
		{"one that refuses long reads", modbus.MBAP, only(1, registers(50, func() modbus.Reply { return modbus.Reply{PDU: []byte{0x83, 3}} })), "limits", true, []string{"50 registers at once from hr:0; more are refused"}},
		{"one that is silent about long reads", modbus.MBAP, only(1, registers(60, never)), "limits", true, []string{"at least 60 registers at once from hr:0; longer reads get no valid response"}},
		{"one that reads single registers only", modbus.MBAP, only(1, registers(1, func() modbus.Reply { return modbus.Reply{PDU: []byte{0x83, 3}} })), "limits", true, []string{"single registers only"}},
		{"one of seven registers from 100 on", modbus.MBAP, only(1, span(100, 7)), "limits", true, []string{"hr answers at 100", "7 registers at once from hr:100; more are refused, there or for their number"}},
		{"one that refuses half a value", modbus.MBAP, only(1, func(u byte, pdu []byte) modbus.Reply {
			if pdu[0] == 3 && pdu[4]%2 == 1 {
				return refusal(pdu, modbus.IllegalDataValue)
			}
			return span(0, 14)(u, pdu)
		}), "limits", true, []string{"hr answers at 0, and refuses single ones", "14 registers at once from hr:0"}},
		{"one of another unit", modbus.MBAP, only(255, plain), "unit", false, []string{"unit 255 speaks Modbus", "unit 1 does not answer", "but unit 255 does"}},
		{"one that answers in the name of another", modbus.MBAP, func(u byte, pdu []byte) modbus.Reply {
			reply := plain(u, pdu)
			reply.Other = true
			return reply
		}, "unit", false, []string{"asked unit 1, and unit 2 answered", "but unit 2 does"}},
		{"a gateway without it", modbus.MBAP, func(_ byte, pdu []byte) modbus.Reply { return refusal(pdu, modbus.GatewayTargetFailed) }, "unit", false, []string{"a gateway answers", "unit 1 does not answer"}},
		{"one that says nothing", modbus.MBAP, func(byte, []byte) modbus.Reply { return modbus.Reply{} }, "modbus", false, []string{"no Modbus response", "framing rtu"}},
		{"one that refuses everything", modbus.MBAP, only(1, func(_ byte, pdu []byte) modbus.Reply { return refusal(pdu, modbus.IllegalFunction) }), "limits", true, []string{"it refuses hr:0", "hr not there; ir not there", "no registers were found at 0, 1, 100 or 1000 to try it on"}},
		{"one behind a serial gateway", modbus.RTU, only(1, plain), "limits", true, []string{"125 registers at once"}},
		{"one with wrong checksums", modbus.RTU, func(u byte, pdu []byte) modbus.Reply {
			reply := plain(u, pdu)
			reply.Alter = func(frame []byte) []byte { frame[len(frame)-1]++; return frame }
			return reply
		}, "modbus", false, []string{"their checksum is wrong"}},
		{"one that says what it is", modbus.MBAP, only(1, func(_ byte, pdu []byte) modbus.Reply {
			return modbus.Reply{PDU: modbus.Answer(pump{}, pdu)}
		}), "limits", true, []string{`functions 43/14: vendor "Tarn Works", product code "P7", revision "1.2"`, `function 17: "T7`, "function 8 echoes"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			all, last := stages(t, device(t, c.framing, c.handle))
			assert.Equal(t, c.stage, last.Name, last.Text)
			assert.Equal(t, c.ok, last.OK, last.Text)
			var said strings.Builder
			for _, text := range all {
				said.WriteString(text + "\n")
			}
			for _, want := range c.want {
				assert.Contains(t, said.String(), want)
			}
		})
	}
}

// pump is a model with a name and one register.
type pump struct{}

func (pump) Identify() modbus.Identification {
	return modbus.Identification{Objects: map[byte]string{0: "Tarn Works", 1: "P7", 2: "1.2"}, ID: append([]byte("T7"), 0xFF)}
}

func (pump) ReadBits(modbus.Table, uint16, []bool) error { return modbus.IllegalDataAddress }

func (pump) ReadRegisters(_ modbus.Table, at uint16, words []uint16) error {
	if int(at)+len(words) > 1 {
		return modbus.IllegalDataAddress
	}
	return nil
}

func (pump) WriteBits(uint16, []bool) error        { return modbus.IllegalDataAddress }
func (pump) WriteRegisters(uint16, []uint16) error { return modbus.IllegalDataAddress }

// found scans and gives what was found, and how it ended.
func found(t *testing.T, l site.Link, r ScanRequest) (units map[int]string, ended string) {
	require.NoError(t, r.Check(l.Protocol))
	units = map[int]string{}
	steps := 0
	require.NoError(t, Scan(t.Context(), l, r, nil, func(p Progress) {
		if p.Found != nil {
			units[p.Found.Unit] = p.Found.Text
		}
		if ended = p.Ended; ended == "" {
			steps++
			assert.Equal(t, steps, p.Done)
		}
		assert.LessOrEqual(t, p.Done, p.Total)
	}))
	assert.Equal(t, r.Last-r.First+1, steps)
	return units, ended
}

func TestScansOfOddDevices(t *testing.T) {
	wait := site.Duration(200 * time.Millisecond)
	of := func(units ...byte) func(byte, []byte) modbus.Reply {
		return func(u byte, pdu []byte) modbus.Reply {
			if !strings.Contains(string(units), string([]byte{u})) {
				return modbus.Reply{}
			}
			reply := registers(125, never)(u, pdu)
			reply.Close = true
			return reply
		}
	}
	units, ended := found(t, device(t, modbus.MBAP, of(2, 3, 5)), ScanRequest{Last: 6, Wait: wait})
	assert.Equal(t, map[int]string{2: "answers", 3: "answers", 5: "answers"}, units, "though each response ends the connection")
	assert.Equal(t, "3 units found", ended)

	units, ended = found(t, device(t, modbus.MBAP, registers(125, never)), ScanRequest{First: 10, Last: 17, Wait: wait})
	assert.Len(t, units, 8)
	assert.Contains(t, ended, "may not look at the unit")

	units, _ = found(t, device(t, modbus.MBAP, only(1, func(_ byte, pdu []byte) modbus.Reply { return modbus.Reply{PDU: modbus.Answer(pump{}, pdu)} })), ScanRequest{Last: 2, Wait: wait})
	assert.Equal(t, map[int]string{1: `vendor "Tarn Works", product code "P7", revision "1.2"`}, units)

	units, ended = found(t, device(t, modbus.MBAP, func(_ byte, pdu []byte) modbus.Reply { return refusal(pdu, modbus.GatewayTargetFailed) }), ScanRequest{Last: 4, Wait: wait})
	assert.Empty(t, units, "a gateway is no unit")
	assert.Equal(t, "0 units found", ended)
}

func TestAScanEndsWhenItIsCancelled(t *testing.T) {
	var asked atomic.Int64
	ctx, cancel := context.WithCancel(t.Context())
	l := device(t, modbus.MBAP, func(byte, []byte) modbus.Reply {
		if asked.Add(1) == 3 {
			cancel()
		}
		return modbus.Reply{}
	})
	r := ScanRequest{Wait: site.Duration(20 * time.Millisecond)}
	require.NoError(t, r.Check(site.Modbus))
	err := Scan(ctx, l, r, nil, func(Progress) {})
	assert.ErrorIs(t, err, context.Canceled)
	assert.LessOrEqual(t, asked.Load(), int64(4))
}

func TestScanRequestsAreChecked(t *testing.T) {
	for _, c := range []struct {
		request  ScanRequest
		protocol site.Protocol
		want     string
	}{
		{ScanRequest{First: 9, Last: 3}, site.Modbus, "the lower first"},
		{ScanRequest{First: -1}, site.Modbus, "0 to 255 are possible"},
		{ScanRequest{Last: 256}, site.Modbus, "0 to 255 are possible"},
		{ScanRequest{Last: 65520}, site.DNP3, "0 to 65519 are possible"},
		{ScanRequest{Master: 65520}, site.DNP3, "master 65520"},
		{ScanRequest{Wait: site.Duration(time.Millisecond)}, site.Modbus, "20ms to 5s are possible"},
		{ScanRequest{Wait: site.Duration(time.Minute)}, site.Modbus, "20ms to 5s are possible"},
	} {
		assert.ErrorContains(t, c.request.Check(c.protocol), c.want)
	}
	r := ScanRequest{First: 250}
	require.NoError(t, r.Check(site.Modbus))
	assert.Equal(t, 250, r.Last, "the last is not before the first")
	one := site.NewLink()
	one.Transport = site.Dialup
	assert.ErrorContains(t, Scan(t.Context(), one, r, nil, nil), "probe a station instead")
	one = site.NewLink()
	one.Protocol, one.Listen = site.DNP3, "127.0.0.1:20000"
	assert.ErrorContains(t, Scan(t.Context(), one, r, nil, nil), "nothing to look for")
}

func TestCandidatesBeginWithTheOwnSettings(t *testing.T) {
	own := site.LineSettings{Device: "/dev/x", Baud: 19200, DataBits: 8, Parity: "odd", StopBits: 1}
	list := site.UsualLineSettings(own)
	assert.Equal(t, own, list[0])
	seen := map[site.LineSettings]bool{}
	for _, s := range list {
		assert.False(t, seen[s], "%+v is there twice", s)
		seen[s] = true
		assert.Equal(t, "/dev/x", s.Device)
	}
	assert.Len(t, list, 32)
}
