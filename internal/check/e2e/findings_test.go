package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/rig"
)

// found waits for a finding of a subject.
func (p *plant) found(code diagnose.Code, subject string) api.Finding {
	p.t.Helper()
	var found api.Finding
	var list []api.Finding
	seen := assert.Eventually(p.t, func() bool {
		var err error
		list, err = p.client.Findings(p.t.Context(), "")
		require.NoError(p.t, err)
		for _, f := range list {
			if f.Code == code && f.Subject == subject {
				found = f
				return true
			}
		}
		return false
	}, 2*patience, 100*time.Millisecond)
	if !seen {
		require.Fail(p.t, fmt.Sprintf("no %s of %s", code, subject), "%+v\n%s", list, p.run("status", "--figures").out+p.run("traffic", "--limit", "12").out)
	}
	assert.NotEmpty(p.t, found.Cause)
	assert.NotEmpty(p.t, found.Evidence)
	assert.NotEmpty(p.t, found.Next)
	assert.Greater(p.t, found.Certainty, 0.5)
	same := 0
	for _, f := range list {
		if f.Subject == subject {
			same++
		}
	}
	assert.Equal(p.t, 1, same, "one cause, one finding: %v", list)
	return found
}

// step is the first step of a finding that is a change of settings.
func step(t *testing.T, f api.Finding) *api.Change {
	t.Helper()
	for _, s := range f.Next {
		if s.Change != nil {
			return s.Change
		}
	}
	require.Fail(t, "no step is a change", "%v", f.Next)
	return nil
}

// Every fault of a device or line, and what is concluded from it.
func TestFindingsOfAStation(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		fault   rig.Faults
		code    diagnose.Code
		subject string
		says    string
	}{
		{"connects but never answers", rig.Faults{Drop: true}, diagnose.UnitSilent, "two", "unit 2 does not answer, while another on the link does"},
		{"another unit answers", rig.Faults{WrongUnit: true}, diagnose.OtherUnit, "two", "answers as unit 3, not as unit 2"},
		{"another identifier", rig.Faults{Identifier: true}, diagnose.IdentifierIgnored, "two", "another transaction identifier"},
		{"a gateway without a path", rig.Faults{Exception: 10}, diagnose.GatewayPath, "two", "The gateway has no path to unit 2"},
		{"a gateway without a response", rig.Faults{Exception: 11}, diagnose.GatewayTarget, "two", "unit 2 behind it does not answer the gateway"},
		{"no such function", rig.Faults{Exception: 1}, diagnose.FunctionRefused, "two", "does not have the function that reads holding registers"},
		{"no such value", rig.Faults{Exception: 3}, diagnose.ValueRefused, "two", "does not read hr:0"},
		{"device failure", rig.Faults{Exception: 4}, diagnose.DeviceFailure, "two", "failed while it carried requests out"},
		{"answers too late", rig.Faults{Delay: site.Duration(700 * time.Millisecond)}, diagnose.TimeoutShort, "two", "Responses come after the timeout of 400ms"},
		{"too few registers", rig.Faults{Short: true}, diagnose.ShortResponse, "two", "gives fewer registers"},
		{"closes within each response", rig.Faults{Close: true, Some: 2}, diagnose.ClosesConnection, "bus", "closes the connection"},
		{"not Modbus", rig.Faults{Garbage: true}, diagnose.NotTheProtocol, "gate", "does not speak Modbus"},
		{"closes whatever it is asked", rig.Faults{Close: true}, diagnose.ClosesConnection, "gate", "closes it when it is asked"},
		{"responses that end early", rig.Faults{Truncate: true}, diagnose.AnswersMalformed, "two", "invalid"},
		{"some responses that end early", rig.Faults{Truncate: true, Some: 3}, diagnose.AnswersMalformed, "two", "Some of the device's responses"},
		{"a byte count that is wrong", rig.Faults{Miscount: true}, diagnose.AnswersMalformed, "two", "invalid"},
		{"bytes behind each response", rig.Faults{Trailing: true}, diagnose.ExtraBytes, "two", "Bytes that belong to no response"},
		{"bytes before each response", rig.Faults{Noise: true}, diagnose.ExtraBytes, "two", "Bytes that belong to no response"},
		{"some responses that are missing", rig.Faults{Drop: true, Some: 3}, diagnose.AnswersMissing, "two", "Some requests stay without a response"},
		{"each response twice", rig.Faults{Duplicate: true}, diagnose.UnitTwice, "two", "two devices behind it have the unit 2"},
		{"a busy device", rig.Faults{Exception: 6}, diagnose.DeviceBusy, "two", "busy with something else"},
		{"an exception of the maker's own", rig.Faults{Exception: 85}, diagnose.ExceptionUnknown, "two", "a code that the standard does not have"},
		{"our own request comes back", rig.Faults{Echo: true}, diagnose.Echo, "bus", "What is sent comes back"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := furnished(t)
			p.apply("arithmon: 1\npoints: [{tag: bus/pair, station: two, address: hr:0, type: uint32}]\n")
			p.awaitQuality("bus/two", "good")
			line, unit := "bus", 2
			if c.subject == "gate" {
				line, unit = "gate", 1
			}
			require.NoError(t, p.rig.SetFaults(line, unit, c.fault))
			p.found(c.code, c.subject)
			p.until("that "+c.says, func() bool { // once all evidence is there
				list, err := p.client.Findings(t.Context(), "")
				return err == nil && slices.ContainsFunc(list, func(f api.Finding) bool {
					return f.Code == c.code && f.Subject == c.subject && strings.Contains(f.Cause, c.says)
				})
			})
		})
	}
}

// A fault that all stations of a link have is one finding of the link, which who asks for a station or a point of it gets, too.
func TestAGatewayWithoutItsLine(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("bus/two", "good")
	for unit := range 2 {
		require.NoError(t, p.rig.SetFaults("bus", unit+1, rig.Faults{Exception: 11}))
	}
	f := p.found(diagnose.GatewayTarget, "bus")
	assert.Contains(t, f.Cause, "none of the 2 units behind it answers")
	assert.Contains(t, f.Evidence, "two (unit 2)")
	for subject, want := range map[string]int{"": 1, "bus": 1, "one": 1, "bus/two": 1, "gate": 0, "plc": 0, "gate/level": 0} {
		list, err := p.client.Findings(t.Context(), subject)
		require.NoError(t, err)
		assert.Len(t, list, want, subject)
	}
	unknown := p.run("findings", "bu")
	assert.Equal(t, 3, unknown.code)
	assert.Contains(t, unknown.err, `there is no link, station or point "bu"; did you mean bus?`)
}

func TestFindingsOfALink(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		fields map[string]any
		code   diagnose.Code
	}{
		{"a name that does not resolve", map[string]any{"host": "no-such-host.invalid"}, diagnose.NameUnresolved},
		{"an unreachable host", map[string]any{"host": "255.255.255.255"}, diagnose.HostUnreachable},
		{"a port nothing listens on", map[string]any{"port": 1}, diagnose.ConnectionRefused},
		{"an interface that is none", map[string]any{"bind": "eth99"}, diagnose.BindWrong},
		{"a port that is none", map[string]any{"transport": "serial", "host": nil, "port": nil, "serial": map[string]any{"device": "/dev/ttyNONE7"}}, diagnose.PortMissing},
		{"no TLS", map[string]any{"transport": "tls"}, diagnose.TLSRefused},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := furnished(t)
			fields := map[string]any{"port": number(t, p.port("gate"))}
			for k, v := range c.fields {
				fields[k] = v
			}
			_, err := p.client.Set(t.Context(), site.KindLink, "gate", fields)
			require.NoError(t, err)
			f := p.found(c.code, "gate")
			assert.Equal(t, site.KindLink, f.Kind)
			list, err := p.client.Findings(t.Context(), "plc")
			require.NoError(t, err)
			require.Len(t, list, 1, "what follows from the link is no finding of its stations; who asks for one gets the link's")
			assert.Equal(t, "gate", list[0].Subject)
		})
	}
}

func TestFindingsOfASerialLine(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		one     rig.Faults
		two     rig.Faults
		code    diagnose.Code
		subject string
	}{
		{"no bytes at all", rig.Faults{Drop: true}, rig.Faults{Drop: true}, diagnose.LineSilent, "line"},
		{"every checksum fails", rig.Faults{Checksum: true}, rig.Faults{Checksum: true}, diagnose.LineSettings, "line"},
		{"some checksums fail", rig.Faults{Checksum: true, Some: 4}, rig.Faults{Checksum: true, Some: 5}, diagnose.LineNoise, "line"},
		{"two devices of one unit", rig.Faults{Duplicate: true}, rig.Faults{}, diagnose.UnitTwice, "one"},
		{"one device whose frames are damaged", rig.Faults{}, rig.Faults{Checksum: true}, diagnose.UnitDamaged, "two"},
		{"one device some of whose frames are", rig.Faults{}, rig.Faults{Checksum: true, Some: 3}, diagnose.UnitDamaged, "two"},
		{"two masters", rig.Faults{TwoMasters: true}, rig.Faults{}, diagnose.TwoMasters, "line"},
		{"one device of several", rig.Faults{}, rig.Faults{Drop: true}, diagnose.UnitSilent, "two"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := wired(t, "serial", "rtu", "")
			p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600}})
			p.awaitQuality("level", "good")
			p.awaitQuality("other", "good")
			require.NoError(t, p.rig.SetFaults("line", 1, c.one))
			require.NoError(t, p.rig.SetFaults("line", 2, c.two))
			p.found(c.code, c.subject)
		})
	}
}

func TestAnEchoIsMendedFromItsFinding(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{Echo: true}))
	require.NoError(t, p.rig.SetFaults("line", 2, rig.Faults{Echo: true}))
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600}})
	p.found(diagnose.Echo, "line")
	dry := p.run("findings", "apply", "echo", "line", "--dry-run")
	assert.Contains(t, dry.out, `"echo":true`)
	assert.Contains(t, dry.out, "would be set to")
	applied := p.run("findings", "apply", "echo", "line")
	require.Zero(t, applied.code, applied.err)
	e, err := p.client.Show(t.Context(), site.KindLink, "line")
	require.NoError(t, err)
	assert.Contains(t, string(e), `"echo":true`)
	p.awaitQuality("level", "good")
	gone := p.run("findings", "apply", "echo", "nobody")
	assert.Equal(t, 3, gone.code)
}

func TestALateDeviceIsMendedInTheConsoleAndUndone(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Delay: site.Duration(700 * time.Millisecond)}))
	f := p.found(diagnose.TimeoutShort, "plc")
	assert.Equal(t, "gate", step(t, f).Name)
	page := p.console("/overview")
	shows(t, page, "[data-test=finding-timeout-short]", "Responses come after the timeout of 400ms")
	require.NoError(t, page.Click("[data-test=finding-timeout-short]")) // to its page
	require.NoError(t, page.Click("[data-test=finding-timeout-short] [data-test=take-step]"))
	shows(t, page, ".el-message-box", "timeout")
	require.NoError(t, page.Click(".el-message-box .el-button--primary"))
	p.awaitQuality("gate/level", "good")
	e, err := p.client.Show(t.Context(), site.KindLink, "gate")
	require.NoError(t, err)
	assert.NotContains(t, string(e), `"timeout":"400ms"`)
	changes, err := p.client.Changes(t.Context(), "", "", 1)
	require.NoError(t, err)
	_, err = p.client.Undo(t.Context(), changes[0].ID)
	require.NoError(t, err)
	e, err = p.client.Show(t.Context(), site.KindLink, "gate")
	require.NoError(t, err)
	assert.Contains(t, string(e), `"timeout":"400ms"`)
}

func TestARefusedAddressSaysWhatWouldWork(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.apply(`
arithmon: 1
points:
  - {tag: gate/beyond, station: plc, address: "hr:40"}
  - {tag: gate/wrong-table, station: plc, address: "ir:20"}
`)
	var f api.Finding
	require.Eventually(t, func() bool {
		f = p.found(diagnose.AddressRefused, "plc")
		return len(f.Next) >= 4
	}, patience, 200*time.Millisecond)
	var texts []string
	for _, s := range f.Next {
		texts = append(texts, s.Text)
	}
	assert.Contains(t, strings.Join(texts, "\n"), "hr:39 answers: set the address of gate/beyond to it")
	assert.Contains(t, strings.Join(texts, "\n"), "hr:20 answers: set the address of gate/wrong-table to it")
	assert.Contains(t, f.Cause, "ir:20")
	assert.Contains(t, f.Cause, "hr:40")
}

func TestAUnitOfAnotherStationAnswers(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.NoError(t, p.rig.SetFaults("bus", 1, rig.Faults{WrongUnit: true})) // unit 2 answers, which is that of two
	f := p.found(diagnose.UnitOfAnother, "one")
	assert.Contains(t, f.Cause, "that is the unit of station two")
}

// A device that takes one connection only.
func TestADeviceThatLimitsConnections(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { // the first connection is passed on; then nothing listens
		near, err := listener.Accept()
		if err != nil {
			return
		}
		listener.Close()
		far, err := net.Dial("tcp", p.rig.Address("gate"))
		if err != nil {
			near.Close()
			return
		}
		go func() { defer near.Close(); copyAll(near, far) }()
		copyAll(far, near)
		far.Close()
	}()
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Delay: site.Duration(150 * time.Millisecond)})) // more than there is time for on one
	_, err = p.client.Set(t.Context(), site.KindLink, "gate", map[string]any{"port": listener.Addr().(*net.TCPAddr).Port, "connections": 3, "timeout": "5s"})
	require.NoError(t, err)
	f := p.found(diagnose.ConnectionLimit, "gate")
	assert.Equal(t, map[string]any{"connections": 1.0}, step(t, f).Fields)
}

func copyAll(to, from net.Conn) {
	b := make([]byte, 1024)
	for {
		n, err := from.Read(b)
		if err != nil {
			return
		}
		if _, err := to.Write(b[:n]); err != nil {
			return
		}
	}
}

func TestValuesThatAreStrange(t *testing.T) {
	t.Parallel()
	t.Run("a wrong byte order", func(t *testing.T) {
		t.Parallel()
		p := furnished(t)
		_, err := p.client.Set(t.Context(), site.KindPoint, "gate/level", map[string]any{"order": "ABCD"})
		require.NoError(t, err)
		f := p.found(diagnose.WordOrder, "gate/level")
		assert.Equal(t, map[string]any{"order": "CDAB"}, step(t, f).Fields)
		assert.Contains(t, f.Evidence[0], "would show 25.0")
	})
	t.Run("a wrong byte order of a station whose values move", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(strings.NewReplacer("level: {kind: constant, value: 25}", "level: {kind: walk, value: 1, min: 20, max: 30, start: 25}",
			`- {at: "hr:20"`, "- {at: \"hr:30\", type: float64, order: CDAB, signal: level}\n          - {at: \"hr:20\"").Replace(devices)))
		p.apply(strings.Replace(p.site(), "type: float32, order: CDAB", "type: float32", 1) + "  - {tag: gate/twin, station: plc, address: \"hr:30\", type: float64}\n")
		f := p.found(diagnose.WordOrder, "plc")
		assert.Equal(t, &api.Change{Kind: site.KindStation, Name: "plc", Fields: map[string]any{"order": "CDAB"}}, step(t, f))
		assert.Contains(t, f.Evidence[0], "gate/level shows")
		require.Len(t, f.Drawn, 2)
		require.Len(t, f.Drawn[0].Would, len(f.Drawn[0].Times))
		for _, v := range f.Drawn[0].Would {
			assert.True(t, *v >= 20 && *v <= 30, "what the device had: %g", *v)
		}
		page := p.console("/findings")
		shows(t, page, "[data-test=drawn] figcaption", "gate/level")
		for number, says := range map[string]string{"7": "has no step 7; its steps are 1 to 2", "2": "is no change of settings"} {
			wrong := p.run("findings", "apply", "word-order", "plc", "--step", number)
			assert.Equal(t, 2, wrong.code)
			assert.Contains(t, wrong.err, says)
		}
		require.Zero(t, p.run("findings", "apply", "word-order", "plc", "--step", "1").code)
		p.await("gate/level", func(r api.Reading) bool { f, _ := r.Value.Float(); return f >= 20 && f <= 30 })
		require.Eventually(t, func() bool { return p.run("findings").code == 0 }, 10*time.Second, 200*time.Millisecond)
	})
	t.Run("an address that is one off", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(strings.NewReplacer("level: {kind: constant, value: 25}", "level: {kind: walk, value: 0.2, min: 20, max: 30, start: 25}\n  flow: {kind: walk, value: 0.01, min: 3, max: 4, start: 3.2}",
			`- {at: "hr:20"`, "- {at: \"hr:11\", type: float32, order: CDAB, signal: flow}\n          - {at: \"hr:20\"").Replace(devices)))
		p.apply(strings.NewReplacer("type: float32, order: CDAB", "type: float32", "notation: ref5", "notation: ref5, order: CDAB").Replace(p.site()) +
			"  - {tag: gate/off, station: plc, address: \"hr:10\", type: float32}\n")
		f := p.found(diagnose.AddressShifted, "gate/off")
		assert.Contains(t, f.Evidence[0], "and would show 3.")
		assert.Equal(t, map[string]any{"address": "hr:11"}, step(t, f).Fields, "the value before is another point's")
		require.Zero(t, p.run("findings", "apply", "address-shifted", "gate/off").code)
		p.await("gate/off", func(r api.Reading) bool { f, _ := r.Value.Float(); return f >= 3 && f <= 4 })
	})
	t.Run("all addresses of a device", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(strings.NewReplacer("level: {kind: constant, value: 25}", "level: {kind: walk, value: 0.2, min: 20, max: 30, start: 25}\n  flow: {kind: walk, value: 0.01, min: 3, max: 4, start: 3.2}",
			`- {at: "hr:20"`, "- {at: \"hr:11\", type: float32, order: CDAB, signal: flow}\n          - {at: \"hr:20\"").Replace(devices)))
		p.apply(strings.NewReplacer("type: float32, order: CDAB", "type: float32", "notation: ref5", "notation: ref5, order: CDAB").Replace(p.site()) +
			"  - {tag: gate/flow, station: plc, address: \"hr:10\", type: float32, unit: m³/h}\n")
		_, err := p.client.Set(t.Context(), site.KindPoint, "gate/level", map[string]any{"address": "hr:8"})
		require.NoError(t, err)
		f := p.found(diagnose.AddressShifted, "plc")
		assert.Contains(t, f.Cause, "Each of 2 points")
		assert.Len(t, f.Next[0].Changes, 2)
		dry := p.run("findings", "apply", "address-shifted", "plc", "--dry-run")
		assert.Contains(t, dry.out, `point gate/flow would be set to {"address":"hr:11"}`)
		assert.Contains(t, dry.out, `point gate/level would be set to {"address":"hr:9"}`)
		took := p.run("findings", "apply", "address-shifted", "plc", "-o", "json")
		require.Zero(t, took.code, took.err)
		assert.Contains(t, took.out, `"changed": 2`)
		p.await("gate/flow", func(r api.Reading) bool { f, _ := r.Value.Float(); return f >= 3 && f <= 4 })
		p.await("gate/level", func(r api.Reading) bool { f, _ := r.Value.Float(); return f >= 20 && f <= 30 })
		records, err := p.client.Changes(t.Context(), site.KindPoint, "gate/flow", 1)
		require.NoError(t, err)
		undone, err := p.client.Undo(t.Context(), records[0].ID)
		require.NoError(t, err)
		assert.Equal(t, 2, undone.Changed, "what was made together is taken back together")
		points, err := p.client.Points(t.Context(), "plc")
		require.NoError(t, err)
		for _, point := range points {
			assert.NotContains(t, []string{"hr:9", "hr:11"}, point.Address)
		}
	})
	t.Run("words that change places", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(strings.Replace(devices, "level: {kind: constant, value: 25}", "level: {kind: walk, value: 1, min: 20, max: 30, start: 25}", 1)))
		p.apply(strings.Replace(p.site(), "notation: ref5, poll: 200ms", "notation: ref5, poll: 1s", 1))
		p.awaitQuality("gate/level", "good")
		require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{WordSwap: true}))
		f := p.found(diagnose.WordOrder, "gate/level")
		assert.Contains(t, f.Cause, "jumps between two magnitudes")
	})
	t.Run("a value that stands still", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(strings.Replace(devices, `values: [{at: "hr:0", type: uint16, set: 11}]`, `values: [{at: "hr:0", type: uint16, signal: slow, factor: 1000}]`, 1)))
		p.apply(p.site() + "  - {tag: gate/slow, station: plc, address: \"ir:0\", type: int16}\n")
		p.awaitQuality("bus/one", "good")
		require.Never(t, func() bool { list, _ := p.client.Findings(t.Context(), ""); return len(list) > 0 }, 65*time.Second, time.Second, "nothing while it moves")
		require.NoError(t, p.rig.SetFaults("bus", 1, rig.Faults{Frozen: true}))
		f := p.found(diagnose.ValueFrozen, "bus/one")
		assert.Contains(t, f.Cause, "no longer move, though they used to, and others still do")
	})
}

func TestAHealthyPlantHasNoFindings(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	require.Never(t, func() bool { list, _ := p.client.Findings(t.Context(), ""); return len(list) > 0 }, 8*time.Second, 500*time.Millisecond)
	out := p.run("findings")
	assert.Equal(t, "nothing is wrong with communication\n", out.out)
	assert.Zero(t, out.code)
	assert.Equal(t, "[]\n", p.run("findings", "-o", "json").out)
}

// A port without RTS says so at once, and the step changes that one setting.
func TestAPortWithoutRTS(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600, "rts": "toggle"}})
	began := time.Now()
	f := p.found(diagnose.RTSMissing, "line")
	assert.Less(t, time.Since(began), 6*time.Second)
	assert.Contains(t, f.Cause, "has no RTS that can be driven, and rts is toggle")
	status := p.run("status").out
	assert.Contains(t, status, "down")
	assert.Contains(t, status, "has no RTS to drive")
	change := step(t, f)
	body, err := p.client.Set(t.Context(), change.Kind, change.Name, change.Fields)
	require.NoError(t, err)
	assert.Contains(t, string(body), `"baud":57600`)
	p.until("the line works", func() bool {
		list, err := p.client.Findings(t.Context(), "")
		return err == nil && len(list) == 0
	})
}

// A capture of the traffic over a network and a serial line, dissected by an independent protocol analyser.
func TestACaptureIsReadByAnotherProgram(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600}})
	tcp := furnished(t)
	tcp.awaitQuality("gate/level", "good")
	p.awaitQuality("level", "good")
	p.awaitQuality("other", "good")
	for _, c := range []struct {
		plant *plant
		as    []string
		layer string
		field string
		want  string
	}{
		{tcp, []string{"-d", "tcp.port==" + tcp.port("gate") + ",mbtcp", "-d", "tcp.port==" + tcp.port("bus") + ",mbtcp"}, "mbtcp", "mbtcp.unit_id", "1"},
		{p, []string{"-o", `uat:user_dlts:"User 0 (DLT=147)","mbrtu","0","","0",""`, "-o", "mbrtu.crc_verification:TRUE"}, "mbrtu", "mbrtu.crc16.status", "1"},
	} {
		file := filepath.Join(t.TempDir(), "traffic.pcapng")
		out := c.plant.run("traffic", "export", file)
		require.Zero(t, out.code, out.err)
		dissect := func(filter string, fields ...string) string {
			args := append([]string{"-r", file, "-T", "fields", "-Y", filter}, c.as...)
			for _, f := range fields {
				args = append(args, "-e", f)
			}
			got, err := exec.Command("tshark", args...).Output()
			require.NoError(t, err, "make tools installs it")
			return string(got)
		}
		assert.Empty(t, dissect("_ws.malformed || tcp.checksum.status == 0 || tcp.analysis.flags", "frame.number"))
		units := dissect(c.layer, c.field)
		assert.Contains(t, units, c.want)
		assert.Greater(t, strings.Count(units, "\n"), 4)
	}
}

func TestTrafficOnTheCommandLineAndRecording(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	out := p.run("traffic", "--station", "plc", "--function", "3", "--limit", "4", "--fields").out
	assert.Contains(t, out, "Read Holding Registers (3)")
	assert.Contains(t, out, "address          9 (0x0009)")
	assert.NotContains(t, out, "Read Coils")
	assert.Empty(t, p.run("traffic", "--wrong").out)
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Exception: 2}))
	p.awaitQuality("gate/level", "bad (exception-2)")
	assert.Contains(t, strings.Join(strings.Fields(p.run("traffic", "--wrong").out), " "), "refused: exception 2 (illegal data address)")
	var frame map[string]any
	line, _, _ := strings.Cut(p.run("traffic", "--wrong", "-o", "json").out, "\n")
	require.NoError(t, json.Unmarshal([]byte(line), &frame))
	assert.Equal(t, "answer", frame["kind"])

	assert.Contains(t, p.run("traffic", "record", "--limit", "1").out, "recording to ")
	assert.Contains(t, p.run("traffic", "record").err, "a recording runs already")
	require.Eventually(t, func() bool {
		r, err := p.client.Recording(context.Background(), false)
		require.NoError(t, err)
		return r.Frames > 3
	}, patience, pollEvery)
	stopped := p.run("traffic", "stop").out
	assert.Contains(t, stopped, "; stopped")
	assert.Contains(t, p.run("traffic", "--function", "300").err, "function=300")
	assert.Contains(t, p.run("status", "--figures").out, "plc")
	assert.Contains(t, fmt.Sprint(p.run("status", "--figures=hour")), "choose minute, quarter or total")
	assert.Zero(t, p.run("status", "--reset").code)
}
