package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/rig"
)

// dialled is a plant behind a modem: two stations of number 100 and one of number 200.
func dialled(t *testing.T) *plant {
	t.Helper()
	p := startWith(t, []byte(`
rig: 1
lines:
  - name: line
    transport: dialup
    connect: 100ms
    serial: {baud: 57600, parity: none}
    stations:
      - {unit: 1, number: "100", tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 11}]}
      - {unit: 2, number: "100", tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 22}]}
      - {unit: 3, number: "200", tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 33}]}
`))
	p.apply(fmt.Sprintf(`
arithmon: 1
links:
  - {name: line, protocol: modbus, transport: dialup, serial: {device: %s, baud: 57600, parity: none}, timeout: 500ms, retries: 1,
     modem: {idle: 1s, redial: 1s, guard: 900ms}}
stations:
  - {name: one, link: line, unit: 1, number: "100", poll: 500ms}
  - {name: two, link: line, unit: 2, number: "100", poll: 500ms}
points:
  - {tag: one, station: one, address: "hr:0", writable: true}
  - {tag: two, station: two, address: "hr:0"}
`, p.rig.Address("line")))
	return p
}

func (p *plant) apply(file string) {
	p.t.Helper()
	_, err := p.client.Apply(p.t.Context(), "site.yaml", []byte(file), false, false)
	require.NoError(p.t, err)
}

// awaitLink waits until a link is as wanted.
func (p *plant) awaitLink(name string, wanted func(api.LinkStatus) bool) api.LinkStatus {
	p.t.Helper()
	var last api.LinkStatus
	require.Eventually(p.t, func() bool {
		st, err := p.client.Status(p.t.Context())
		require.NoError(p.t, err)
		for _, l := range st.Links {
			if l.Name == name {
				last = l
			}
		}
		return wanted(last)
	}, patience, pollEvery)
	return last
}

func doing(what string) func(api.LinkStatus) bool {
	return func(l api.LinkStatus) bool { return l.Doing == what }
}

func TestADialUpLineServesAllOfANumberInOneCall(t *testing.T) {
	t.Parallel()
	p := dialled(t)
	p.await("one", func(r api.Reading) bool { return said(r) == "good" && r.Text == "11" })
	p.await("two", func(r api.Reading) bool { return said(r) == "good" && r.Text == "22" })
	p.awaitLink("line", doing("connected"))
	w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "one", Value: codec.IntValue(12)})
	require.NoError(t, err)
	assert.Equal(t, control.Done, w.Outcome, w.Message)
	assert.Contains(t, p.run("status").out, "up, connected")

	// A call to another number ends the first.
	p.apply(`
arithmon: 1
stations: [{name: three, link: line, unit: 3, number: "200", poll: 1h}]
points: [{tag: three, station: three, address: "hr:0", poll: 1h}]
`)
	p.await("three", func(r api.Reading) bool { return said(r) == "good" && r.Text == "33" })
	p.awaitQuality("one", "good")
}

func TestADialUpLineHangsUpWhenIdle(t *testing.T) {
	t.Parallel()
	p := dialled(t)
	p.awaitQuality("one", "good")
	for _, tag := range []string{"one", "two"} {
		_, err := p.client.Set(t.Context(), site.KindStation, tag, map[string]any{"poll": "1h", "liveness": "1h"})
		require.NoError(t, err)
	}
	p.awaitLink("line", doing("on hook"))
}

func TestCallsThatDoNotComeAbout(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ fault, state, reason string }{
		{"busy", "busy", "calling 100: busy"},
		{"no_answer", "no answer", "calling 100: no answer"},
		{"no_carrier", "no carrier", "calling 100: no carrier"},
		{"drop", "no carrier", "connection lost"},
	} {
		t.Run(c.fault, func(t *testing.T) {
			t.Parallel()
			p := dialled(t)
			p.awaitQuality("one", "good")
			require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{Call: c.fault}))
			if c.fault != "drop" { // what is up stays up; the next call does not come about
				p.rig.Cut("line")
				require.NoError(t, p.rig.Restore("line"))
				_, err := p.client.Set(t.Context(), site.KindLink, "line", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600, "parity": "none"}})
				require.NoError(t, err)
			}
			p.awaitQuality("one", "bad (link-down)")
			if c.fault != "drop" { // after which it dials again at once
				p.awaitLink("line", doing(c.state))
				f := p.found(diagnose.CallFails, "one")
				assert.Contains(t, f.Evidence, c.reason)
				assert.Contains(t, f.Evidence, "the stations at that number: one, two")
			}
			p.until("that "+c.reason, func() bool { // it dials again and again
				st, err := p.client.Status(t.Context())
				return err == nil && strings.Contains(st.Stations[0].Reason+st.Stations[1].Reason, c.reason)
			})
			require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{}))
			p.awaitQuality("one", "good")
		})
	}
}

func TestAPortWithoutAModem(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	p.apply(fmt.Sprintf(`
arithmon: 1
links: [{name: line, protocol: modbus, transport: dialup, serial: {device: %s, baud: 57600}, modem: {guard: 100ms}}]
stations: [{name: one, link: line, unit: 1, number: "100"}]
`, p.rig.Address("line")))
	down := p.awaitLink("line", func(l api.LinkStatus) bool { return l.State == link.Down })
	assert.Contains(t, down.Reason, "no modem answers on "+p.rig.Address("line"))
}

func TestSeveralConnectionsAndRequestsInFlight(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Set(t.Context(), site.KindLink, "bus", map[string]any{"connections": 2, "in_flight": 4})
	require.NoError(t, err)
	require.NoError(t, p.rig.SetFaults("bus", 2, rig.Faults{Drop: true}))
	p.awaitQuality("bus/two", "bad (timeout)")
	p.await("bus/one", func(r api.Reading) bool { return said(r) == "good" && r.Text == "11" })
	require.NoError(t, p.rig.SetFaults("bus", 2, rig.Faults{Identifier: true}))
	p.awaitLink("bus", func(l api.LinkStatus) bool { return l.Traffic.Foreign > 0 })
	require.NoError(t, p.rig.SetFaults("bus", 2, rig.Faults{}))
	p.awaitQuality("bus/two", "good")
}

func TestALinkGoesOutByAnInterface(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Set(t.Context(), site.KindLink, "gate", map[string]any{"bind": "lo"})
	require.NoError(t, err)
	p.awaitQuality("gate/level", "good")
	_, err = p.client.Set(t.Context(), site.KindLink, "gate", map[string]any{"bind": "eth99"})
	require.NoError(t, err)
	down := p.awaitLink("gate", func(l api.LinkStatus) bool { return l.State == link.Down })
	assert.Contains(t, down.Reason, `this machine has no network interface "eth99"; there are`)
}

func TestABroadcastIsWrittenToAllDevicesOfALine(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600}})
	p.apply(`
arithmon: 1
stations: [{name: all, link: line, unit: 0, broadcast: true}]
points: [{tag: all/start, station: all, address: "hr:0", writable: true}]
`)
	w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "all/start", Value: codec.IntValue(77)})
	require.NoError(t, err)
	assert.Equal(t, control.Unknown, w.Outcome)
	assert.Contains(t, w.Message, "77 was sent to all devices of the line; none answers a broadcast")
	for unit := 1; unit <= 2; unit++ {
		words, err := p.rig.Registers("line", unit, 0, 1)
		require.NoError(t, err)
		assert.Equal(t, uint16(77), words[0], "unit %d", unit)
	}
}

func TestTheFourOutcomesOfAWrite(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(strings.Replace(devices, `type: int16, set: 100}`, `type: int16, set: 100, limit: [0, 900]}`, 1)))
	p.apply(p.site())
	p.awaitQuality("gate/setpoint", "good")
	write := func(value string) result { return p.run("write", "gate/setpoint", value) }
	done := write("50")
	assert.Equal(t, "gate/setpoint: done: wrote 50; reads back 50\n", done.out)
	assert.Zero(t, done.code)
	differs := write("95")
	assert.Regexp(t, `differs: the device accepted 95 but reads back 90, \S+ later`, differs.out)
	assert.Equal(t, 1, differs.code)
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{LateWrites: site.Duration(time.Second)}))
	late := write("60")
	assert.Regexp(t, `done: wrote 60; reads back 60(, \S+ later)?\n`, late.out, "in its next cycle, as it were")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{}))
	assert.Contains(t, write("90").out, "done: wrote 90")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{MuteWrites: true}))
	unknown := write("40")
	assert.Contains(t, unknown.out, "unknown: 40 was sent once; no response in time. It reads back 40 now, and 90 before")
	words, err := p.rig.Registers("gate", 1, 20, 1)
	require.NoError(t, err)
	assert.Equal(t, uint16(400), words[0], "it was carried out all the same")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Exception: 3}))
	assert.Contains(t, write("30").out, "refused: the device refused: exception 3 (illegal data value)")
	records, err := p.client.Writes(t.Context(), "gate/setpoint", 10)
	require.NoError(t, err)
	require.Len(t, records, 6)
	var outcomes []string
	for _, r := range records {
		outcomes = append(outcomes, r.Outcome)
		assert.Equal(t, "plc hr:20", r.Station+" "+r.Address)
	}
	assert.Equal(t, []string{"refused", "unknown", "done", "done", "differs", "done"}, outcomes)
}

// A device without function 22 refuses to have one bit written; the finding's step has it written otherwise.
func TestABitThatTheDeviceDoesNotWrite(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.apply("arithmon: 1\npoints: [{tag: gate/bit, station: plc, address: hr:30.3, type: bool, states: [closed, open], writable: true}]\n")
	p.awaitQuality("gate/bit", "good")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Function: 22}))
	assert.Contains(t, p.run("write", "gate/bit", "open").out, "refused: the device refused: function 22 (Mask Write Register) with exception 1 (illegal function)")
	f := p.found(diagnose.FunctionRefused, "plc")
	assert.Contains(t, f.Cause, "does not have function 22 (Mask Write Register); one bit or byte of a register is written with it")
	change := step(t, f)
	_, err := p.client.Set(t.Context(), change.Kind, change.Name, change.Fields)
	require.NoError(t, err)
	p.awaitQuality("gate/bit", "good")
	assert.Contains(t, p.run("write", "gate/bit", "open").out, "done: wrote open; reads back open")
	p.until("no finding", func() bool {
		list, err := p.client.Findings(t.Context(), "plc")
		return err == nil && len(list) == 0
	})
	refused := p.run("write", "gate/level", "12")
	assert.NotZero(t, refused.code)
	records, err := p.client.Writes(t.Context(), "gate/bit", 10)
	require.NoError(t, err)
	require.Len(t, records, 2)
	assert.Equal(t, "refused open", records[1].Outcome+" "+records[1].Tried)
	records, err = p.client.Writes(t.Context(), "gate/level", 10)
	require.NoError(t, err)
	require.Len(t, records, 1)
	assert.Contains(t, records[0].Tried, "12")
}

func TestAddressesWithoutPointsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	w := p.run("write", "--station", "plc", "hr:30..32", "1", "2", "3")
	assert.Equal(t, "plc hr:30: done: wrote 1, 2, 3; reads back 1, 2, 3\n", w.out, w.err)
	assert.Contains(t, p.run("read", "--station", "plc", "hr:30..32").out, "hr:32    40033     0x0003  3         3")
	w = p.run("write", "--station", "plc", "40035", "2.5", "--type", "float32", "--order", "CDAB")
	assert.Contains(t, w.out, "wrote 2.5; reads back 2.5")
	words, err := p.rig.Registers("gate", 1, 34, 2)
	require.NoError(t, err)
	assert.Equal(t, []uint16{0, 0x4020}, words)
	assert.Contains(t, p.run("read", "--station", "plc", "hr:34", "--type", "float32", "--order", "CDAB").out, "0x0000 0x4020  2.5")
	assert.Contains(t, p.run("write", "--station", "plc", "co:8..10", "true", "false", "1").out, "reads back true, false, true")

	forbidden := p.run("write", "--station", "plc", "hr:9", "5")
	assert.Equal(t, 5, forbidden.code)
	assert.Contains(t, forbidden.out, "point gate/level is there and is read-only")
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"write", "--station", "plc", "hr:30..32", "1"}, 1, "1 values of uint16 take 1 addresses, but hr:30..32 has 3"},
		{[]string{"write", "--station", "plc", "ir:3", "1"}, 1, "can only be read"},
		{[]string{"write", "--station", "plc", "hr:39..40", "1", "2"}, 1, "exception 2"},
		{[]string{"write", "--station", "nobody", "hr:3", "1"}, 3, "there is no station"},
		{[]string{"write", "gate/setpoint", "1", "2"}, 2, "a point takes one value"},
		{[]string{"write", "gate/setpoint", "1", "--every", "1s"}, 2, "--every goes with --station"},
		{[]string{"read", "gate/setpoint", "--type", "int16"}, 2, "--type and --order go with --station"},
		{[]string{"read", "--station", "plc", "hr:3", "--type", "int12"}, 1, "type=int12: choose bool"},
	} {
		got := p.run(c.args...)
		assert.Equal(t, c.code, got.code, c.args)
		assert.Contains(t, got.out+got.err, c.want, c.args)
	}
	assert.Contains(t, p.run("writes").out, "plc hr:30")
}

func TestFaultsAreSwitchedWhileTheRigRuns(t *testing.T) {
	t.Parallel()
	config, err := rig.Load("devices.yaml", []byte(devices))
	require.NoError(t, err)
	devices, err := rig.Start(config, rig.Options{})
	require.NoError(t, err)
	t.Cleanup(devices.Stop)
	p := serving(t, devices)
	p.apply(p.site())
	p.awaitQuality("gate/level", "good")
	assert.Contains(t, p.run("rig", "fault", "gate", "1", "exception=2").out, "gate 1: exception=2")
	p.awaitQuality("gate/level", "bad (exception-2)")
	assert.Contains(t, p.run("rig", "show").out, "exception=2")
	assert.Equal(t, 0, p.run("rig", "clear").code)
	require.NoError(t, p.client.Refresh(t.Context(), "plc"))
	p.awaitQuality("gate/level", "good")
	for _, fault := range []string{"drop", "truncate", "wrong_identifier", "short", "restart=1h"} {
		require.Zero(t, p.run("rig", "fault", "gate", "1", fault).code, fault)
		p.await("gate/level", func(r api.Reading) bool { return r.Quality.String() == "bad" })
		if fault != "restart=1h" {
			require.Zero(t, p.run("rig", "clear", "gate").code)
			p.awaitQuality("gate/level", "good")
		}
	}
	require.Zero(t, p.run("rig", "cut", "bus").code)
	p.awaitQuality("bus/one", "bad (link-down)")
	require.Zero(t, p.run("rig", "restore", "bus").code)
	p.awaitQuality("bus/one", "good")
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"rig", "fault", "gate", "9", "drop"}, 3, "the rig has no unit 9 on line gate"},
		{[]string{"rig", "fault", "gate", "1", "dorp"}, 1, "did you mean drop?"},
		{[]string{"rig", "fault", "gate", "1", "call=maybe"}, 1, "choose busy, no_answer"},
		{[]string{"rig", "fault", "gate", "x", "drop"}, 2, `unit "x" is no number`},
		{[]string{"rig", "cut", "nowhere"}, 3, `the rig has no line "nowhere"`},
		{[]string{"rig", "clear", "gate", "7"}, 3, "the rig has no gate unit 7"},
	} {
		got := p.run(c.args...)
		assert.Equal(t, c.code, got.code, "%v: %s", c.args, got.err)
		assert.Contains(t, got.err, c.want)
	}
	alone := start(t)
	assert.Contains(t, alone.run("rig", "show").err, "this service simulates nothing")

	page := p.console("/rig")
	shows(t, page, "[data-test=rig-bus-1]", "works as it should")
	require.NoError(t, page.Click("[data-test=rig-bus-1] [data-test=fault] .el-select__wrapper"))
	item := "[...document.querySelectorAll('.el-select-dropdown__item')].find(e => e.textContent.startsWith('drop') && e.offsetParent)"
	require.NoError(t, page.Until("Boolean("+item+")"))
	require.NoError(t, page.Run(item+".click()"))
	require.NoError(t, page.Click("[data-test=rig-bus-1] [data-test=switch-on]"))
	p.awaitQuality("bus/one", "bad (timeout)")
	shows(t, page, "[data-test=rig-bus-1] .faults", "drop")
	require.NoError(t, page.Click("[data-test=rig-bus-1] .el-tag__close"))
	p.awaitQuality("bus/one", "good")
}

func TestCopiesOnTheCommandLineAndInTheConsole(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	assert.Zero(t, p.run("link", "copy", "bus", "bus2").code)
	out := p.run("station", "copy", "one", "ten", "--link", "bus2", "--unit", "10", "--tags", "bus/one=bus2/ten")
	require.Zero(t, out.code, out.err)
	points, err := p.client.Points(t.Context(), "ten")
	require.NoError(t, err)
	require.Len(t, points, 1)
	assert.Equal(t, "bus2/ten", points[0].Tag)
	p.awaitQuality("bus2/ten", "bad (disabled)")
	assert.Equal(t, "link bus2 is enabled\n", p.run("link", "enable", "bus2").out)
	assert.Equal(t, "station ten is enabled\n", p.run("station", "enable", "ten").out)
	p.awaitQuality("bus2/ten", "bad (timeout)") // there is no unit 10
	assert.Equal(t, 2, p.run("station", "copy", "one", "x", "--tags", "nonsense").code)
	taken := p.run("station", "copy", "one", "two")
	assert.Contains(t, taken.err, `"two" is taken by another station`)
	assert.Equal(t, 3, p.run("link", "copy", "nobody", "x").code)

	page := p.console("/stations?station=two")
	require.NoError(t, page.Click("[data-test=copy]"))
	require.NoError(t, page.Fill("input[name=copy-name]", "twelve"))
	require.NoError(t, page.Fill("input[name=copy-from]", "two"))
	require.NoError(t, page.Fill("input[name=copy-to]", "twelve"))
	require.NoError(t, page.Click("[data-test=copy-make]"))
	shows(t, page, ".el-table__row", "twelve")
	points, err = p.client.Points(t.Context(), "twelve")
	require.NoError(t, err)
	assert.Len(t, points, 1)
}

func TestWarningsReachWhoeverAsked(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600}})
	out := p.run("station", "add", "odd", "--link", "line", "--unit", "250")
	assert.Zero(t, out.code)
	assert.Contains(t, out.err, "warning: station odd: unit: unit 250 is reserved on a serial line")
	page := p.console("/stations?station=odd")
	require.NoError(t, page.Fill("input[name=poll]", "2s"))
	require.NoError(t, page.Click("[data-test=save]"))
	shows(t, page, ".el-message--warning", "unit 250 is reserved")
}

func TestBitsAndPollGroupsInAStationsOwnWay(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.apply(`
arithmon: 1
stations: [{name: plc, link: gate, unit: 1, notation: ref5, bits: msb1, poll: 200ms, poll_groups: {fast: 20ms}}]
points: [{tag: gate/bit, station: plc, address: "40021.14", type: bool, writable: true, poll_group: fast}]
`)
	// 100 is 0x0064: bit 2 from the least significant, the 14th from the most.
	p.await("gate/bit", func(r api.Reading) bool { return said(r) == "good" && r.Value == codec.BoolValue(true) })
	shown := p.run("point", "list", "gate/bit")
	assert.Contains(t, shown.out, "40021.14")
	assert.Contains(t, shown.out, "hr:20.2")
	exported, err := p.client.Export(t.Context())
	require.NoError(t, err)
	assert.Contains(t, string(exported), "address: \"40021.14\"")
	sum, err := p.client.Apply(t.Context(), "again.yaml", exported, true, false)
	require.NoError(t, err)
	assert.Zero(t, sum.Changed, "an exported site is read back as it was")
}
