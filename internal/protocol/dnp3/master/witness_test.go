package master_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
	"arithmon/internal/protocol/dnp3/outstation"
)

// unread are objects that the analyser does not know: frozen analog inputs as integers, double-bit events with relative time.
func unread(group, variation byte) bool {
	return group == 31 && variation < 7 || group == 33 && variation < 5 || group == 4 && variation == 3
}

// everything is points of every kind, one for each variation: its index is the variation.
func everything() (points []outstation.Point) {
	for _, s := range dnp3.Shapes() {
		if unread(s.Group, s.Variation) {
			continue
		}
		for kind := dnp3.BinaryInput; kind < dnp3.KindCount; kind++ {
			p := outstation.Point{Kind: kind, Index: uint16(s.Variation), Class: 1 + int(s.Variation)%3, Value: codec.UintValue(uint64(100 + s.Variation))}
			switch kind {
			case dnp3.BinaryInput, dnp3.BinaryOutput:
				p.Value = codec.BoolValue(s.Variation%2 == 0)
			case dnp3.DoubleBitInput:
				p.Value = codec.UintValue(uint64(s.Variation % 4))
			case dnp3.OctetString:
				continue
			}
			same := func(q outstation.Point) bool { return q.Kind == kind && q.Index == p.Index }
			at := slices.IndexFunc(points, same)
			if at < 0 {
				if s.Group != kind.StaticGroup() && s.Group != kind.EventGroup() {
					continue
				}
				points, at = append(points, p), len(points)
			}
			switch s.Group {
			case kind.StaticGroup():
				points[at].Static = s.Variation
			case kind.EventGroup():
				points[at].Event = s.Variation
			}
		}
	}
	for i, p := range points { // a variation that it does not know must not be the usual one either
		if p.Kind == dnp3.FrozenAnalog {
			points[i].Static, points[i].Event = 7+byte(p.Index)%2, max(p.Event, 5)
		}
	}
	points = append(points, outstation.Point{Kind: dnp3.AnalogOutput, Index: 20, Value: codec.IntValue(1)}) // without events
	return append(points, outstation.Point{Kind: dnp3.OctetString, Index: 0, Class: 1, Value: codec.TextValue("HERON")})
}

// TestAnotherProgramReadsASessionOfEverything runs a session that exercises every object and function and lets an independent
// protocol analyser read it: nothing is malformed, and it finds the values that were sent.
func TestAnotherProgramReadsASessionOfEverything(t *testing.T) {
	p := join(t, outstation.Config{Unsolicited: true, NeedTime: true, CommandEvents: true, HoldTime: time.Millisecond, Attributes: []dnp3.Attribute{
		{Variation: 252, Type: 1, Data: []byte("Simulated")}, dnp3.UnsignedAttribute(239, 3)}}, everything(), master.Options{})
	p.until(t, func() bool { return p.iin&dnp3.IINRestart != 0 })
	must := func(_ any, err error) {
		t.Helper()
		require.NoError(t, err)
	}
	ask := func(f dnp3.Function, objects []byte) { must(p.Ask(f, objects, nil)) }
	header := func(group, variation byte, q dnp3.Qualifier, start, count uint32) []byte {
		return dnp3.AppendHeader(nil, dnp3.Header{Group: group, Variation: variation, Qualifier: q, Start: start, Count: count})
	}
	must(nil, p.Reset())
	p.Confirmed = true
	must(p.Read(master.Class0, nil))
	p.Confirmed = false
	must(p.Status())
	must(p.Unsolicited(false, master.Events))
	must(p.ClearRestart())
	must(nil, p.SetTimeLAN())
	must(p.SetTimeSerial())
	must(p.Read(master.Class0|master.Events, nil))
	for _, s := range dnp3.Shapes() { // every object by itself, static and of events
		if kind := s.Group; kind < 60 && kind != 34 && !slices.Contains([]byte{12, 41, 51, 52, 13, 43}, kind) && !(s.Group == 50 && s.Variation != 1) && !unread(s.Group, s.Variation) {
			q, count := dnp3.All, uint32(0)
			if s.Group == 50 {
				q, count = dnp3.Count8, 1
			}
			ask(dnp3.FuncRead, header(s.Group, s.Variation, q, 0, count))
			if !unread(s.Group, 0) {
				ask(dnp3.FuncRead, header(s.Group, 0, dnp3.All, 0, 0))
			}
		}
	}
	ask(dnp3.FuncRead, header(34, 3, dnp3.All, 0, 0)) // its other variations have no reading to be compared with
	ask(dnp3.FuncRead, header(30, 0, dnp3.Range8, 1, 2))
	ask(dnp3.FuncRead, header(30, 0, dnp3.Range16, 1, 2))
	ask(dnp3.FuncRead, append(header(1, 2, dnp3.Index8, 0, 2), 1, 2))
	ask(dnp3.FuncRead, append(header(1, 2, dnp3.Index16, 0, 1), 1, 0))
	ask(dnp3.FuncRead, header(2, 0, dnp3.Count8, 0, 3))
	ask(dnp3.FuncRead, header(60, 2, dnp3.Count16, 0, 3))
	must(p.Attributes())
	ask(dnp3.FuncRead, header(80, 1, dnp3.Range8, 0, 16))

	// Events in every variation.
	at := time.Now()
	p.set(func(_ time.Time, o *outstation.Outstation) {
		for i, point := range everything() {
			v := codec.UintValue(uint64(200 + i))
			switch point.Kind {
			case dnp3.BinaryInput, dnp3.BinaryOutput:
				v = codec.BoolValue(!point.Value.Bool())
			case dnp3.DoubleBitInput:
				v = codec.UintValue(uint64(point.Index+1) % 4)
			case dnp3.OctetString:
				v = codec.TextValue("GREY HERON")
			}
			o.Set(at.Add(time.Duration(i)*time.Millisecond), point.Kind, point.Index, v, dnp3.Online|dnp3.LocalForced)
		}
	})
	must(p.Read(master.Class1, nil))
	must(p.Unsolicited(true, master.Class2|master.Class3))
	p.until(t, func() bool { return p.iin&dnp3.IINEvents == 0 })

	// Commands, freezes, classes, deadbands, restarts.
	for code := dnp3.PulseOn; code <= dnp3.LatchOff; code++ {
		must(p.Command(master.Command{Index: 1, Output: &dnp3.Output{Code: code, Count: 1, On: 1, Off: 1}}, master.SelectOperate))
	}
	for _, code := range []dnp3.ControlCode{dnp3.Close | dnp3.PulseOn, dnp3.Trip | dnp3.PulseOn} {
		must(p.Command(master.Command{Index: 2, Output: &dnp3.Output{Code: code, Count: 1}}, master.Direct))
		must(p.Command(master.Command{Index: 2, Output: &dnp3.Output{Code: code, Count: 1}}, master.DirectUnanswered))
	}
	for v := byte(1); v <= 4; v++ {
		must(p.Command(master.Command{Index: 20, Analog: &dnp3.AnalogCommand{Variation: v, Value: codec.IntValue(300 + int64(v))}}, master.SelectOperate))
	}
	for _, f := range []dnp3.Function{dnp3.FuncFreeze, dnp3.FuncFreezeNR, dnp3.FuncFreezeClear, dnp3.FuncFreezeClearNR} {
		ask(f, header(20, 0, dnp3.All, 0, 0))
		ask(f, header(30, 0, dnp3.All, 0, 0))
	}
	when := append(header(50, 2, dnp3.Count8, 0, 1), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	ask(dnp3.FuncFreezeAtTime, append(when, header(20, 0, dnp3.All, 0, 0)...))
	ask(dnp3.FuncFreezeAtTimeNR, append(when, header(20, 0, dnp3.All, 0, 0)...))
	must(nil, p.AssignClass(2, 1, 1))
	must(nil, p.WriteDeadband(1, 2.5))
	must(p.Read(master.Class0|master.Events, nil))
	must(nil, p.channel.Broadcast(1, dnp3.FuncFreezeNR, header(20, 0, dnp3.All, 0, 0)))
	ask(dnp3.FuncWarmRestart, nil)
	ask(dnp3.FuncColdRestart, nil)

	p.mu.Lock()
	frames := slices.Clone(p.frames)
	ours := p.got
	p.mu.Unlock()
	seen := read(t, frames)
	assert.Empty(t, seen["_ws.malformed"])
	assert.Equal(t, len(frames), len(seen["dnp3.src"]), "every frame is one")
	functions := map[string]bool{}
	for _, f := range seen["dnp3.al.func"] {
		functions[f] = true
	}
	for _, f := range []int{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 20, 21, 22, 23, 24, 129, 130} {
		assert.True(t, functions[strconv.Itoa(f)] || functions[fmt.Sprintf("0x%02x", f)], "function %d", f)
	}
	objects := map[string]bool{}
	for _, o := range seen["dnp3.al.obj"] {
		n, err := strconv.ParseUint(o, 0, 16)
		require.NoError(t, err)
		objects[fmt.Sprintf("g%dv%d", n>>8, n&0xFF)] = true
	}
	for _, s := range dnp3.Shapes() {
		if name := fmt.Sprintf("g%dv%d", s.Group, s.Variation); !slices.Contains(unseen, name) && !unread(s.Group, s.Variation) {
			assert.True(t, objects[name], name)
		}
	}
	compare(t, ours, seen)
}

// unseen are objects that are known, and that are not in the session: no outstation of ours sends them, or the analyser loses its
// way in them (it does not step over values of group 43, and does not read requests to freeze at a time).
var unseen = []string{"g12v2", "g12v3", "g13v1", "g43v1", "g43v2", "g43v5", "g43v6", "g43v3", "g43v4", "g43v7", "g43v8", "g50v2", "g50v4", "g51v2", "g52v1", "g110v0", "g111v0", "g34v1", "g34v2"}

// read lets the analyser read frames, and returns the values of its fields.
func read(t *testing.T, frames []traffic.Frame) map[string][]string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "session.pcapng")
	f, err := os.Create(path)
	require.NoError(t, err)
	w := traffic.NewWriter(f)
	for _, frame := range frames {
		require.NoError(t, w.Write(frame))
	}
	require.NoError(t, w.Flush())
	require.NoError(t, f.Close())
	fields := []string{"_ws.malformed", "dnp3.src", "dnp3.al.func", "dnp3.al.obj", "dnp3.al.cnt", "dnp3.al.ana.int", "dnp3.al.ana.double"}
	args := []string{"-r", path, "-o", "tcp.analyze_sequence_numbers:FALSE", "-d", fmt.Sprintf("tcp.port==%d,dnp3", frames[0].Ends.Remote.Port()), "-T", "fields", "-E", "separator=|"}
	for _, name := range fields {
		args = append(args, "-e", name)
	}
	out, err := exec.Command("tshark", args...).Output()
	require.NoError(t, err, "make tools installs it")
	seen := map[string][]string{}
	for line := range strings.SplitSeq(strings.TrimSpace(string(out)), "\n") {
		for i, cell := range strings.Split(line, "|") {
			if cell != "" {
				seen[fields[i]] = append(seen[fields[i]], strings.Split(cell, ",")...)
			}
		}
	}
	return seen
}

// compare holds what our master read, in its order, against what the analyser did.
func compare(t *testing.T, ours []dnp3.Measurement, seen map[string][]string) {
	t.Helper()
	want := map[string][]string{}
	for _, m := range ours {
		if m.Kind == dnp3.Counter || m.Kind == dnp3.FrozenCounter {
			want["dnp3.al.cnt"] = append(want["dnp3.al.cnt"], m.Value.String())
		}
		if m.Kind < dnp3.AnalogInput || m.Kind >= dnp3.AnalogOutput { // whose values it calls otherwise
			continue
		}
		name := "dnp3.al.ana.int"
		switch float := map[byte]byte{30: 4, 31: 6, 32: 4, 33: 4}[m.Group]; {
		case m.Variation > float && m.Variation%2 == 1:
			continue // deadbands are in the same field
		case m.Variation > float:
			name = "dnp3.al.ana.double"
		}
		want[name] = append(want[name], m.Value.String())
	}
	for name, values := range want {
		assert.Greater(t, len(values), 20, name)
		assert.Equal(t, values, seen[name], name)
	}
}
