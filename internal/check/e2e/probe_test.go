package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/rig"
)

func TestAProbeSaysWhereItStops(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	well := p.run("probe", "plc")
	assert.Zero(t, well.code, well.out)
	for _, stage := range []string{"● name", "● route", "● connect", "● modbus", "● unit", "● identification", "● tables", "● limits"} {
		assert.Contains(t, well.out, stage)
	}
	assert.Contains(t, well.out, "hr answers at 0; ir answers at 0; co answers at 0; di there, but not at 0, 1, 100 or 1000")
	assert.Contains(t, well.out, "registers at once from hr:0")
	p.awaitQuality("gate/level", "good") // the polls go on
	for _, c := range []struct {
		args []string
		last string
		want string
	}{
		{[]string{"no-such-host.invalid"}, "name", "does not resolve"},
		{[]string{"127.0.0.1:1"}, "connect", "connection refused"},
		{[]string{"--link", "bus", "--unit", "9"}, "unit", "unit 9 does not answer"},
	} {
		got := p.run(append([]string{"probe"}, c.args...)...)
		assert.Equal(t, 1, got.code)
		lines := strings.Split(strings.TrimSpace(got.out), "\n")
		assert.Contains(t, lines[len(lines)-1], "✕ "+c.last)
		assert.Contains(t, lines[len(lines)-1], c.want)
	}
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Drop: true}))
	assert.Contains(t, p.run("probe", "plc").out, "✕ modbus")
	assert.Equal(t, 2, p.run("probe").code)
	assert.Equal(t, 3, p.run("probe", "--link", "nobody").code)
}

func TestAScanFindsUnitsAndMakesStationsOfThem(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Remove(t.Context(), site.KindStation, "two", true)
	require.NoError(t, err)
	out := p.run("scan", "bus", "--last", "5", "--wait", "30ms")
	assert.Equal(t, "unit 1: answers\nunit 2: answers\n2 units found\n", out.out, out.err)
	out = p.run("scan", "bus", "--first", "2", "--last", "3", "--wait", "30ms", "--add", "found")
	assert.Zero(t, out.code, out.err)
	stations, err := p.client.Stations(t.Context())
	require.NoError(t, err)
	var names []string
	for _, s := range stations {
		names = append(names, s.Name)
	}
	assert.Contains(t, names, "found2")
	p.awaitQuality("bus/one", "good")
	assert.Contains(t, p.run("scan", "bus", "--first", "9", "--last", "3").err, "the lower first")
}

func TestAScanFindsTheSettingsOfASerialLine(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - {name: line, transport: serial, framing: rtu, strict: true, serial: {baud: 38400}, stations: [{unit: 2, tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 22}]}]}
`))
	p.apply(`
arithmon: 1
links: [{name: line, protocol: modbus, transport: serial, timeout: 200ms, serial: {device: ` + p.rig.Address("line") + `, baud: 9600}}]
stations: [{name: two, link: line, unit: 2, poll: 200ms}]
points: [{tag: other, station: two, address: "hr:0"}]
`)
	p.found("line-settings", "line")
	out := p.run("scan", "line", "--settings", "--last", "3", "--wait", "100ms")
	assert.Contains(t, out.out, "unit 2 answers under "+p.rig.Address("line")+" 38400")
	assert.Contains(t, out.out, "1 unit found")
	_, err := p.client.Set(t.Context(), site.KindLink, "line", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 38400}})
	require.NoError(t, err)
	p.awaitQuality("other", "good")

	page := p.console("/links?link=line")
	require.NoError(t, page.Click("[data-test=scan]"))
	require.NoError(t, page.Fill("input[name=scan-last]", "3"))
	require.NoError(t, page.Click("[data-test=scan-start]"))
	shows(t, page, "[data-test=scan-found]", "unit 2")
	require.NoError(t, page.Go(p.service.URL+"/stations?station=two"))
	require.NoError(t, page.Click("[data-test=probe]"))
	shows(t, page, "[data-test=probe-stages]", "limits")
}

// A sensor is given another address: what was found by a scan counts, and the finding sets the station to it.
func TestADeviceThatGotAnotherAddress(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - {name: line, transport: serial, framing: rtu, serial: {baud: 57600}, stations: [{unit: 9, tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 22}]}]}
`))
	p.apply(`
arithmon: 1
links: [{name: line, protocol: modbus, transport: serial, timeout: 400ms, serial: {device: ` + p.rig.Address("line") + `, baud: 57600}}]
stations: [{name: sensor, link: line, unit: 1, poll: 500ms}]
points: [{tag: level, station: sensor, address: "hr:0"}]
`)
	first := p.run("findings")
	assert.NotContains(t, first.out, "nothing is wrong")
	assert.Equal(t, 4, first.code)
	assert.Contains(t, p.run("scan", "line", "--last", "10", "--wait", "300ms").out, "unit 9")
	f := p.found(diagnose.UnitSilent, "sensor")
	assert.Contains(t, f.Cause, "Unit 1 does not answer. What does, and is no station's: unit 9.")
	assert.Contains(t, p.run("findings", "apply", "unit-silent", "sensor").out, "is set to")
	p.awaitQuality("level", "good")
	p.until("all is well", func() bool {
		return strings.HasSuffix(p.run("findings").out, "nothing is wrong with communication\n")
	})
	p.until("that is said", func() bool { return strings.Contains(p.run("findings").out, "station sensor: mended") })
	list, err := p.client.FindingsAndWatching(t.Context(), "level")
	require.NoError(t, err)
	require.Len(t, list.Taken, 1)
	assert.Contains(t, list.Taken[0].Text, "its value is good, and nothing speaks against it")
}
