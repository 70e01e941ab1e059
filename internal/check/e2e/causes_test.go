package e2e

import (
	"fmt"
	"net"
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

// The true cause, found by asking: each of these is mended by the first step of its finding that changes something.

// take takes the first step of a finding on the command line.
func (p *plant) take(code diagnose.Code, subject string) {
	p.t.Helper()
	took := p.run("findings", "apply", string(code), subject)
	require.Zero(p.t, took.code, took.err)
}

// field is one of an entity's as it is now.
func (p *plant) field(kind site.Kind, name, field string) string {
	p.t.Helper()
	shown, err := p.client.Show(p.t.Context(), kind, name)
	require.NoError(p.t, err)
	_, rest, found := strings.Cut(string(shown), fmt.Sprintf("%q:", field))
	require.True(p.t, found, "%s in %s", field, shown)
	end := strings.IndexAny(rest, ",}")
	return strings.Trim(rest[:end], `"`)
}

func TestADeviceThatLeavesLongRequestsWithoutAWord(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Longest: 11}))
	var points strings.Builder
	for i := range 30 {
		fmt.Fprintf(&points, "  - {tag: gate/r%d, station: plc, address: \"hr:%d\"}\n", i, i)
	}
	p.apply("arithmon: 1\npoints:\n" + points.String())
	f := p.found(diagnose.LengthLimit, "plc")
	assert.Contains(t, f.Cause, "more than 11 registers")
	for i := range 30 {
		p.awaitQuality(fmt.Sprintf("gate/r%d", i), "good") // meanwhile
	}
	p.take(diagnose.LengthLimit, "plc")
	assert.Equal(t, "11", p.field(site.KindStation, "plc", "max_registers"))
	p.awaitQuality("gate/r29", "good")
	p.gone("plc")
}

// A list of whole numbers that counts from 1, of which none says so but the last, which the device does not have.
func TestAListOfWholeNumbersThatIsOneOff(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - {name: gate, listen: "127.0.0.1:0", stations: [{unit: 1, tables: {hr: 12}, values: [{at: "hr:0", type: uint16, set: 7}, {at: "hr:11", type: uint16, set: 9}]}]}
`))
	_, port, err := net.SplitHostPort(p.rig.Address("gate"))
	require.NoError(t, err)
	var points strings.Builder
	for i := range 12 {
		fmt.Fprintf(&points, "  - {tag: r%d, station: plc, address: \"hr:%d\"}\n", i, i+1)
	}
	p.apply("arithmon: 1\nlinks: [{name: gate, protocol: modbus, transport: tcp, host: 127.0.0.1, port: " + port + "}]\nstations: [{name: plc, link: gate, unit: 1, poll: 200ms}]\npoints:\n" + points.String())
	p.found(diagnose.AddressRefused, "plc")
	p.until("its step", func() bool {
		out := p.run("findings", "apply", "address-refused", "plc")
		return out.code == 0 && strings.Count(out.out, "is set to") == 12
	})
	p.awaitQuality("r11", "good")
	assert.Equal(t, "9", p.reading("r11").Value.String())
	assert.Equal(t, "7", p.reading("r0").Value.String())
	p.gone("plc")
}

// gone waits until nothing is found about a subject.
func (p *plant) gone(subject string) {
	p.t.Helper()
	var list []api.Finding
	require.Eventually(p.t, func() bool {
		var err error
		list, err = p.client.Findings(p.t.Context(), subject)
		require.NoError(p.t, err)
		return len(list) == 0
	}, 2*patience, 100*time.Millisecond, "%v", list)
}

func TestAUnitBesideOthersThatIsAnother(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("bus/two", "good")
	_, err := p.client.Set(t.Context(), site.KindStation, "two", map[string]any{"unit": 5})
	require.NoError(t, err)
	var f api.Finding
	require.Eventually(t, func() bool {
		f = p.found(diagnose.UnitSilent, "two")
		return strings.Contains(f.Cause, "unit 2")
	}, patience, 100*time.Millisecond)
	assert.Contains(t, f.Cause, "What does, and is no station's: unit 2.")
	p.take(diagnose.UnitSilent, "two")
	p.awaitQuality("bus/two", "good")
	assert.Equal(t, "2", p.field(site.KindStation, "two", "unit"))
}

func TestMoreIsPolledThanThereIsTimeFor(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for unit := range 2 {
		require.NoError(t, p.rig.SetFaults("bus", unit+1, rig.Faults{Delay: site.Duration(100 * time.Millisecond)}))
	}
	p.apply("arithmon: 1\nstations: [{name: one, link: bus, unit: 1, poll: 100ms}, {name: two, link: bus, unit: 2, poll: 100ms}]\n")
	f := p.found(diagnose.PollsLate, "bus")
	assert.Contains(t, f.Cause, "times the time there is")
	p.take(diagnose.PollsLate, "bus")
	assert.Equal(t, "500ms", p.field(site.KindStation, "one", "poll"))
	assert.Equal(t, "500ms", p.field(site.KindStation, "two", "poll"))
	p.awaitQuality("bus/one", "good")
	p.gone("bus")
}

func TestPointsOfTheOtherTableMoveTogether(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.apply(`
arithmon: 1
points:
  - {tag: gate/a, station: plc, address: "ir:20", type: int16}
  - {tag: gate/b, station: plc, address: "ir:21", type: int16}
  - {tag: gate/bit, station: plc, address: "ir:22.3", type: bool}
`)
	require.Eventually(t, func() bool {
		f := p.found(diagnose.AddressRefused, "plc")
		return f.Next[0].Change != nil
	}, patience, 100*time.Millisecond)
	p.take(diagnose.AddressRefused, "plc")
	p.awaitQuality("gate/a", "good")
	p.awaitQuality("gate/b", "good")
	p.awaitQuality("gate/bit", "good")
	assert.Equal(t, "40021", p.field(site.KindPoint, "gate/a", "address"))
	assert.Equal(t, "40023.3", p.field(site.KindPoint, "gate/bit", "address"))
}

func TestPointsOfAnotherKindInAnOutstation(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - name: yard
    protocol: dnp3
    listen: 127.0.0.1:0
    stations: [{outstation: 10, values: [{at: "ai:0", set: 1}, {at: "ao:5", set: 50}, {at: "bo:7", set: true}, {at: "ctr:9", set: 3}]}]
`))
	p.applyYard(`
arithmon: 1
links: [{name: yard, protocol: dnp3, host: 127.0.0.1, port: PORT, timeout: 1s}]
stations: [{name: rtu, link: yard, outstation: 10}]
points:
  - {tag: yard/level, station: rtu, address: "ai:0"}
  - {tag: yard/limit, station: rtu, address: "ai:5"}
  - {tag: yard/pump, station: rtu, address: "bi:7"}
  - {tag: yard/hours, station: rtu, address: "ai:9"}
  - {tag: yard/nowhere, station: rtu, address: "ai:40"}
`)
	f := p.found(diagnose.PointsMissing, "rtu")
	assert.Contains(t, f.Cause, "does not have 4 of the site's points as they are, and it has 3 of them under another kind")
	p.take(diagnose.PointsMissing, "rtu")
	for tag, address := range map[string]string{"yard/limit": "ao:5", "yard/pump": "bo:7", "yard/hours": "ctr:9"} {
		p.awaitQuality(tag, "good")
		assert.Equal(t, address, p.field(site.KindPoint, tag, "address"))
	}
	require.Eventually(t, func() bool {
		f = p.found(diagnose.PointsMissing, "rtu")
		return strings.Contains(f.Cause, "does not have 1 of the site's points.")
	}, patience, 100*time.Millisecond, "%v", f)
}

func TestAStepThatDoesNotMendIsTakenBack(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Drop: true}))
	_, err := p.client.Set(t.Context(), site.KindStation, "plc", map[string]any{"unit": 9})
	require.NoError(t, err)
	p.found(diagnose.UnitSilent, "plc")
	p.take(diagnose.UnitSilent, "plc")
	assert.Equal(t, "255", p.field(site.KindStation, "plc", "unit"), "what devices on a network often have")
	page := p.console("/findings")
	require.NoError(t, page.Click("[data-test=take-back]")) // once it is known that it did not mend
	shows(t, page, "[data-test=taken-taken-back]", "was taken back")
	assert.Equal(t, "9", p.field(site.KindStation, "plc", "unit"))
	out := p.run("findings")
	assert.Contains(t, out.out, "was taken back")
}

func TestTwoStationsThatAreInterchanged(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - name: bus
    listen: 127.0.0.1:0
    stations:
      - {unit: 1, tables: {hr: 10}, values: [{at: "hr:4", set: 11}, {at: "hr:5", set: 12}]}
      - {unit: 2, tables: {ir: 30}, values: [{at: "ir:20", set: 21}, {at: "ir:21", set: 22}]}
`))
	p.apply(strings.ReplaceAll(`
arithmon: 1
links: [{name: bus, host: 127.0.0.1, port: PORT, timeout: 300ms}]
stations: [{name: pump, link: bus, unit: 2, poll: 200ms}, {name: tank, link: bus, unit: 1, poll: 200ms}]
points:
  - {tag: pump/a, station: pump, address: "hr:4"}
  - {tag: pump/b, station: pump, address: "hr:5"}
  - {tag: tank/a, station: tank, address: "ir:20"}
  - {tag: tank/b, station: tank, address: "ir:21"}
`, "PORT", p.port("bus")))
	f := p.found(diagnose.Interchanged, "bus")
	assert.Contains(t, f.Cause, "pump and tank have each other's addresses")
	p.take(diagnose.Interchanged, "bus")
	assert.Equal(t, "1", p.field(site.KindStation, "pump", "unit"))
	assert.Equal(t, "2", p.field(site.KindStation, "tank", "unit"))
	for tag, text := range map[string]string{"pump/a": "11", "tank/b": "22"} {
		p.await(tag, func(r api.Reading) bool { return r.Text == text && said(r) == "good" })
	}
	p.gone("bus")
}

func TestATableThatHoldsNothing(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
signals: {level: {kind: sine, min: 1, max: 3, period: 20s}}
lines:
  - name: line
    listen: 127.0.0.1:0
    stations: [{unit: 1, tables: {hr: 20}, values: [{at: "ir:0", type: float32, signal: level}, {at: "ir:2", type: float32, set: 40}, {at: "ir:4", type: int16, set: 215}]}]
`))
	p.apply(strings.ReplaceAll(`
arithmon: 1
links: [{name: line, host: 127.0.0.1, port: PORT, timeout: 300ms}]
stations: [{name: tank, link: line, unit: 1, poll: 500ms}]
points:
  - {tag: tank/level, station: tank, address: "hr:0", type: float32, unit: m}
  - {tag: tank/flow, station: tank, address: "hr:2", type: float32, unit: m³/h}
  - {tag: tank/temperature, station: tank, address: "hr:4", type: int16, unit: °C, scaling: {factor: 0.1}}
`, "PORT", p.port("line")))
	f := p.found(diagnose.TableDiffers, "tank")
	assert.Contains(t, f.Cause, "All 3 values that are read of holding registers are zero, and input registers have plausible ones")
	assert.Contains(t, f.Evidence, "tank/temperature would show 21.5 °C")
	p.take(diagnose.TableDiffers, "tank")
	p.await("tank/flow", func(r api.Reading) bool { return r.Text == "40" && said(r) == "good" })
	p.gone("tank")
}
