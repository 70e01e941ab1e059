package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/outstation"
	"arithmon/internal/rig"
)

// substation is a rig of one outstation that reports by itself.
const substation = `
rig: 1
signals:
  still: {kind: constant, value: 12.5}
lines:
  - name: yard
    protocol: dnp3
    listen: 127.0.0.1:0
    stations:
      - outstation: 10
        name: Yard controller
        unsolicited: true
        need_time: true
        confirm_timeout: 1s
        buffer: 500
        values:
          - {at: "bi:0", set: true, class: 1}
          - {at: "bi:1", set: false, class: 1}
          - {at: "dbi:0", set: 2, class: 1}
          - {at: "bo:0", set: false, class: 1}
          - {at: "ctr:0", set: 4711, class: 3}
          - {at: "fctr:0", set: 0, class: 3}
          - {at: "ai:0", signal: still, class: 2, deadband: 1}
          - {at: "ai:1", set: 7, class: 2, static: 1, event: 3}
          - {at: "ao:0", set: 50, static: 3}
          - {at: "ao:1", set: 50, static: 2}
          - {at: "os:0", set: YARD}
`

const yardSite = `
arithmon: 1
links: [{name: yard, protocol: dnp3, transport: tcp, host: 127.0.0.1, port: PORT, timeout: 1s, retries: 1}]
stations: [{name: rtu, link: yard, outstation: 10, integrity_poll: 1m, event_poll: 200ms, unsolicited: true, time_sync: lan}]
points:
  - {tag: yard/closed, station: rtu, address: "bi:0", states: [open, closed]}
  - {tag: yard/alarm, station: rtu, address: "bi:1"}
  - {tag: yard/position, station: rtu, address: "dbi:0"}
  - {tag: yard/cmd, station: rtu, address: "bo:0", states: [open, close], writable: true}
  - {tag: yard/energy, station: rtu, address: "ctr:0", scaling: {factor: 0.1}, unit: kWh, decimals: 1}
  - {tag: yard/frozen, station: rtu, address: "fctr:0"}
  - {tag: yard/current, station: rtu, address: "ai:0", unit: A}
  - {tag: yard/count, station: rtu, address: "ai:1"}
  - {tag: yard/limit, station: rtu, address: "ao:0", writable: true}
  - {tag: yard/steps, station: rtu, address: "ao:1", writable: true, select: false}
  - {tag: yard/name, station: rtu, address: "os:0"}
`

// yard is a service that watches the substation.
func yard(t *testing.T) *plant {
	t.Helper()
	p := startWith(t, []byte(substation))
	p.applyYard(yardSite)
	p.awaitQuality("yard/closed", "good")
	p.until("its clock is set", func() bool { return len(p.station("rtu").Says) == 0 })
	return p
}

// applyYard applies a site file whose PORT is that of the yard.
func (p *plant) applyYard(file string) {
	p.t.Helper()
	_, port, err := net.SplitHostPort(p.rig.Address("yard"))
	require.NoError(p.t, err)
	_, err = p.client.Apply(p.t.Context(), "site.yaml", []byte(strings.ReplaceAll(file, "PORT", port)), false, false)
	require.NoError(p.t, err)
}

// far changes the simulated outstation.
func (p *plant) far(f func(now time.Time, o *outstation.Outstation)) {
	p.t.Helper()
	require.True(p.t, p.rig.Outstation("yard", 10, f))
}

// station is the state of a station.
func (p *plant) station(name string) api.StationStatus {
	p.t.Helper()
	st, err := p.client.Status(p.t.Context())
	require.NoError(p.t, err)
	for _, s := range st.Stations {
		if s.Name == name {
			return s
		}
	}
	p.t.Fatalf("no station %s", name)
	return api.StationStatus{}
}

// until waits until something holds.
func (p *plant) until(what string, holds func() bool) {
	p.t.Helper()
	require.Eventually(p.t, holds, patience, pollEvery, "%s did not come about", what)
}

// reading is the newest reading of a point.
func (p *plant) reading(tag string) api.Reading {
	p.t.Helper()
	list, err := p.client.Readings(p.t.Context(), tag)
	require.NoError(p.t, err)
	require.NotEmpty(p.t, list, tag)
	return list[0]
}

// eventsOf are the events of a tag.
func (p *plant) eventsOf(tag string) []api.EventRecord {
	p.t.Helper()
	page, err := p.client.Events(p.t.Context(), url.Values{"tag": {tag}, "limit": {"10000"}})
	require.NoError(p.t, err)
	return page.Items
}

func TestAnOutstationsPointsAreReadWithTheirFlags(t *testing.T) {
	t.Parallel()
	p := yard(t)
	readings, err := p.client.Readings(t.Context(), "yard/*")
	require.NoError(t, err)
	got := map[string]string{}
	for _, r := range readings {
		assert.Equal(t, "good", r.Quality.String(), "%s: %s", r.Tag, r.Reason)
		got[r.Tag] = r.Text
	}
	assert.Equal(t, map[string]string{"yard/closed": "closed", "yard/alarm": "false", "yard/position": "on", "yard/cmd": "open", "yard/energy": "471.1", "yard/frozen": "0",
		"yard/current": "12.5", "yard/count": "7", "yard/limit": "50", "yard/steps": "50", "yard/name": "YARD"}, got)
	for flags, want := range map[dnp3.Flags]string{
		dnp3.Online | dnp3.CommLost: "comm-lost", dnp3.Restart: "offline", dnp3.Online | dnp3.Restart: "restarted", dnp3.Online | dnp3.RemoteForced: "forced", dnp3.Online | dnp3.LocalForced: "forced", dnp3.Online | dnp3.Chatter: "chatter",
	} {
		p.far(func(now time.Time, o *outstation.Outstation) {
			o.Set(now, dnp3.BinaryInput, 1, codec.BoolValue(true), flags)
		})
		p.until("yard/alarm "+want, func() bool { return string(p.reading("yard/alarm").Reason) == want })
	}
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.AnalogInput, 1, codec.FloatValue(3e9), dnp3.Online) // more than 32 bits hold
	})
	p.until("over-range", func() bool { return p.reading("yard/count").Reason == "raw-range" })
	raw := p.run("read", "yard/count", "-o", "json")
	assert.Contains(t, raw.out, `"object": "g32v3 2147483647, 0x21 online, over-range"`)
}

func TestEventsArriveInOrderWithTheDevicesTime(t *testing.T) {
	t.Parallel()
	p := yard(t)
	begin := time.Now().Truncate(time.Millisecond)
	const n = 400
	p.far(func(now time.Time, o *outstation.Outstation) {
		for i := range n {
			o.Set(begin.Add(time.Duration(i)*time.Millisecond), dnp3.BinaryInput, 0, codec.BoolValue(i%2 == 1), dnp3.Online)
		}
	})
	p.until("all events", func() bool { return len(p.eventsOf("yard/closed")) >= n })
	list := p.eventsOf("yard/closed")
	require.Len(t, list, n)
	for i, e := range list {
		require.NotNil(t, e.SourceTime)
		assert.InDelta(t, i, e.SourceTime.Sub(list[0].SourceTime.Time).Milliseconds(), 1)
		assert.Equal(t, []string{"open", "closed"}[i%2], e.Text)
		if i > 0 {
			assert.Equal(t, list[i-1].ID+1, e.ID, "none is lost")
		}
	}
	out := p.run("events", "yard/*", "--last", "3")
	assert.Contains(t, out.out, "DEVICE TIME")
	assert.Equal(t, 4, strings.Count(out.out, "\n"))
	assert.Equal(t, 1, p.run("events", "--last", "0").code)
	assert.Equal(t, 3, p.run("events", "--station", "nobody").code)

	// They are kept: a service that starts anew has them, and goes on counting.
	last := list[n-1].ID
	p.restart()
	p.until("the same events", func() bool { return len(p.eventsOf("yard/closed")) == n })
	p.awaitQuality("yard/closed", "good")
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.BinaryInput, 0, codec.BoolValue(false), dnp3.Online)
	})
	p.until("one more", func() bool { return len(p.eventsOf("yard/closed")) == n+1 })
	assert.Greater(t, p.eventsOf("yard/closed")[n].ID, last)
}

// TestALostConfirmationGivesNoDuplicateAndNoGap loses confirmations of unsolicited responses and of polls.
func TestALostConfirmationGivesNoDuplicateAndNoGap(t *testing.T) {
	t.Parallel()
	p := yard(t)
	begin := time.Now().Truncate(time.Millisecond)
	change := func(i int) {
		p.far(func(_ time.Time, o *outstation.Outstation) {
			o.Set(begin.Add(time.Duration(i)*time.Millisecond), dnp3.BinaryInput, 0, codec.BoolValue(i%2 == 1), dnp3.Online)
		})
	}
	total := 0
	for round := range 3 {
		require.NoError(t, p.rig.SetFaults("yard", 10, rig.Faults{LostConfirms: true}))
		for range 5 {
			change(total)
			total++
		}
		p.until("what was reported", func() bool { return len(p.eventsOf("yard/closed")) >= total })
		change(total)
		total++
		p.until("the one that came meanwhile", func() bool { return len(p.eventsOf("yard/closed")) >= total })
		if round == 1 { // a new connection must know what the one before has brought
			p.rig.Cut("yard")
			require.NoError(t, p.rig.Restore("yard"))
		}
		require.NoError(t, p.rig.SetFaults("yard", 10, rig.Faults{}))
		change(total)
		total++
		p.until("the last", func() bool { return len(p.eventsOf("yard/closed")) >= total })
	}
	list := p.eventsOf("yard/closed")
	for i, e := range list {
		assert.InDelta(t, i, e.SourceTime.Sub(list[0].SourceTime.Time).Milliseconds(), 1, "event %d", i)
	}
	assert.Len(t, list, total)
}

func TestARestartAndAnOverflowAreFollowedByAnIntegrityPoll(t *testing.T) {
	t.Parallel()
	p := yard(t)
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.OctetString, 0, codec.TextValue("NEW"), dnp3.Online) // without a class: only an integrity poll tells of it
		o.Restart()
	})
	p.until("the value after a restart", func() bool { return p.reading("yard/name").Text == "NEW" })
	p.until("the restart is cleared", func() bool { return len(p.station("rtu").Says) == 0 })
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.OctetString, 0, codec.TextValue("NEWER"), dnp3.Online)
		o.Overflow()
	})
	p.until("the value after an overflow", func() bool { return p.reading("yard/name").Text == "NEWER" })
	p.found(diagnose.EventsLost, "rtu")
}

func TestCommandsOfEachOutcome(t *testing.T) {
	t.Parallel()
	p := yard(t)
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"write", "yard/cmd", "close"}, 0, "done: wrote close; reads back close"},
		{[]string{"write", "yard/limit", "12.25"}, 0, "done: wrote 12.25; reads back 12.25"},
		{[]string{"write", "yard/steps", "70"}, 0, "done: wrote 70; reads back 70"},
		{[]string{"write", "yard/steps", "40000"}, 1, "beyond what g41v2 takes"},
		{[]string{"write", "yard/closed", "open"}, 5, "is read-only"},
		{[]string{"write", "--station", "rtu", "bo:9", "1"}, 1, "the device refused: select: not supported"},
		{[]string{"write", "--station", "rtu", "ai:0.deadband", "2.5"}, 0, "reads back 2.5"},
		{[]string{"write", "--station", "rtu", "bi:1.class", "3"}, 1, "unknown: the device accepted 3, but it could not be read back: the standard has no request that reads the class of a point"},
		{[]string{"read", "--station", "rtu", "ai:0..1"}, 0, "g30v1 7, 0x01 online"},
		{[]string{"read", "--station", "rtu", "ai:7"}, 1, "parameter error"},
		{[]string{"read", "--station", "rtu", "hr:7"}, 1, "no DNP3 address"},
		{[]string{"station", "ask", "rtu", "freeze"}, 0, "all counters are frozen"},
		{[]string{"station", "ask", "rtu", "clock"}, 0, "which is"},
		{[]string{"station", "ask", "rtu", "attributes"}, 0, "product: Yard controller"},
		{[]string{"station", "ask", "rtu", "dance"}, 1, "nothing that station rtu can be asked to do"},
	} {
		got := p.run(c.args...)
		assert.Equal(t, c.code, got.code, "%v: %s%s", c.args, got.out, got.err)
		assert.Contains(t, got.out+got.err, c.want, "%v", c.args)
	}
	p.until("the frozen counter", func() bool { return p.reading("yard/frozen").Text == "4711" })
	require.NoError(t, p.rig.SetFaults("yard", 10, rig.Faults{Local: true}))
	out := p.run("write", "yard/cmd", "open", "-o", "json")
	assert.Equal(t, 1, out.code)
	var w struct{ Outcome, Message string }
	require.NoError(t, json.Unmarshal([]byte(out.out), &w))
	assert.Equal(t, "refused", w.Outcome)
	assert.Contains(t, w.Message, "local control")
	assert.Equal(t, "close", p.reading("yard/cmd").Text, "nothing moved")
	records, err := p.client.Writes(t.Context(), "yard/cmd", 10)
	require.NoError(t, err)
	assert.Len(t, records, 2)
}

// TestDNP3OverEveryTransport reads and commands over each, and takes events.
func TestDNP3OverEveryTransport(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, line, link string }{
		{"udp", "transport: udp, listen: 127.0.0.1:0", "transport: udp, host: 127.0.0.1, port: PORT"},
		{"tls", "transport: tls, listen: 127.0.0.1:0", "transport: tls, host: 127.0.0.1, port: PORT, tls: {ca: CA}"},
		{"serial", "transport: serial, serial: {baud: 38400, parity: none}", "transport: serial, serial: {device: DEVICE, baud: 38400, parity: none}"},
		{"calling in", "call: CALL", "transport: tcp, listen: CALL"},
	} {
		t.Run(c.name, func(t *testing.T) {
			free, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			call := free.Addr().String()
			free.Close()
			p := startWith(t, []byte(strings.ReplaceAll(fmt.Sprintf(`{rig: 1, lines: [{name: yard, protocol: dnp3, %s, stations: [
				{outstation: 10, unsolicited: true, confirm_timeout: 2s, values: [{at: "bi:0", set: true, class: 1}, {at: "bo:0", set: false, class: 1}, {at: "ai:0", set: 5, class: 2}]},
				{outstation: 11, values: [{at: "ai:0", set: 11, class: 2}]}]}]}`, c.line), "CALL", call)))
			link := strings.NewReplacer("CALL", call, "DEVICE", p.rig.Address("yard"), "CA", file(t, "ca.pem", string(p.rig.CertificatePEM()))).Replace(c.link)
			if _, port, err := net.SplitHostPort(p.rig.Address("yard")); err == nil {
				link = strings.ReplaceAll(link, "PORT", port)
			}
			_, err = p.client.Apply(t.Context(), "site.yaml", []byte(fmt.Sprintf(`{arithmon: 1, links: [{name: yard, protocol: dnp3, timeout: 1s, %s}], stations: [
				{name: rtu, link: yard, outstation: 10, event_poll: 2s, unsolicited: true, link_confirm: %t}, {name: second, link: yard, outstation: 11, event_poll: 300ms}],
				points: [{tag: on, station: rtu, address: "bi:0"}, {tag: out, station: rtu, address: "bo:0", writable: true}, {tag: eleven, station: second, address: "ai:0"}]}`, link, c.name == "serial")), false, false)
			require.NoError(t, err)
			p.awaitQuality("on", "good")
			p.awaitQuality("eleven", "good")
			assert.Equal(t, "11", p.reading("eleven").Text)
			out := p.run("write", "out", "1")
			assert.Equal(t, 0, out.code, out.out+out.err)
			p.far(func(now time.Time, o *outstation.Outstation) {
				o.Set(now, dnp3.BinaryInput, 0, codec.BoolValue(false), dnp3.Online)
			})
			p.until("an event", func() bool { return len(p.eventsOf("on")) == 1 })
			assert.Contains(t, p.run("station", "test", "rtu").out, "outstation 10 answers")
		})
	}
}

func TestAProbeListsWhatAnOutstationHasAndTakesItOver(t *testing.T) {
	t.Parallel()
	p := yard(t)
	out := p.run("probe", "rtu", "--points", "--add", "taken/", "--only", "ai:*")
	require.Equal(t, 0, out.code, out.out+out.err)
	for _, want := range []string{"● link", "● application", "product: Yard controller", "11 points: 2 bi, 1 dbi, 1 bo, 1 ctr, 1 fctr, 2 ai, 2 ao, 1 os", "ai:1", "g30v1", "2 added"} {
		assert.Contains(t, out.out, want)
	}
	p.until("a point that was taken over", func() bool { return p.reading("taken/ai1").Text == "7" })
	wrong := p.run("probe", "--link", "yard", "--unit", "77")
	assert.Equal(t, 1, wrong.code)
	assert.Contains(t, wrong.out, "outstation 77 does not answer (no response within 1s), but 10 does; use that address")
	stranger := p.run("probe", "--link", "yard", "--unit", "10", "--master", "9")
	assert.Contains(t, stranger.out, "Is 9 the master address that it was told")
	scan := p.run("scan", "yard", "--last", "30", "--wait", "50ms")
	assert.Equal(t, "outstation 10: answers a request for its link status\n1 outstation found\n", scan.out)
	assert.Equal(t, 1, p.run("scan", "yard", "--last", "70000").code)
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.BinaryInput, 0, codec.BoolValue(false), dnp3.Online)
	})
	p.until("the polls go on", func() bool { return p.reading("yard/closed").Text == "open" })
}

func TestADeviceProfileIsTakenOver(t *testing.T) {
	t.Parallel()
	p := yard(t)
	profile := file(t, "yard.xml", `<DNP3DeviceProfileDocument><dataPointsList><analogInputPoints><dataPoints>
		<analogInput><index>1</index><name>Load of feeder 1</name><changeEventClass>two</changeEventClass><scaleFactor>0.5</scaleFactor><units>A</units></analogInput>
		</dataPoints></analogInputPoints></dataPointsList></DNP3DeviceProfileDocument>`)
	dry := p.run("station", "import", "rtu", profile, "--dry-run")
	assert.Contains(t, dry.out, "1 would be added", dry.err)
	out := p.run("station", "import", "rtu", profile, "--prefix", "yard/p/")
	require.Equal(t, 0, out.code, out.err)
	p.until("its point", func() bool { return p.run("read", "yard/p/Load-of-feeder-1").code == 0 })
	r := p.reading("yard/p/Load-of-feeder-1")
	assert.Equal(t, "3.5 A", r.Text+" "+r.Unit)
	assert.Equal(t, 1, p.run("station", "import", "rtu", file(t, "no.xml", "<html/>")).code)
}

// TestTheConsoleOfAnOutstation adds one, takes its points over, commands one and watches events, all in the browser.
func TestTheConsoleOfAnOutstation(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(substation))
	_, port, err := net.SplitHostPort(p.rig.Address("yard"))
	require.NoError(t, err)
	tab := p.console("/links?new=link")
	require.NoError(t, tab.Click("[data-test=protocol] label:nth-child(2) input"))
	require.NoError(t, tab.Fill("input[name=name]", "yard"))
	require.NoError(t, tab.Fill("input[name=host]", "127.0.0.1"))
	require.NoError(t, tab.Fill("[name=port] input, input[name=port]", port))
	require.NoError(t, tab.Click("[data-test=save]"))
	p.until("the link", func() bool {
		links, err := p.client.Links(t.Context())
		return err == nil && len(links) == 1 && links[0].Protocol == site.DNP3
	})
	require.NoError(t, tab.Go(p.service.URL+"/stations?new=station"))
	require.NoError(t, tab.Fill("input[name=name]", "rtu"))
	require.NoError(t, tab.Fill("[name=outstation] input, input[name=outstation]", "10"))
	require.NoError(t, tab.Click("input[name=unsolicited]"))
	require.NoError(t, tab.Click("[data-test=save]"))
	p.until("the station", func() bool {
		stations, err := p.client.Stations(t.Context())
		return err == nil && len(stations) == 1 && stations[0].LinkAddress() == 10 && stations[0].Unsolicited
	})
	require.NoError(t, tab.Go(p.service.URL+"/stations?station=rtu"))
	require.NoError(t, tab.Click("[data-test=probe]"))
	require.NoError(t, tab.Click("[data-test=held] thead input[type=checkbox]"))
	require.NoError(t, tab.Until(`!document.querySelector("[data-test=take]").disabled`))
	require.NoError(t, tab.Click("[data-test=take]"))
	p.until("its points", func() bool {
		points, err := p.client.Points(t.Context(), "rtu")
		return err == nil && len(points) == 11
	})
	p.awaitQuality("rtu/bi1", "good")
	require.NoError(t, tab.Go(p.service.URL+"/events"))
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.BinaryInput, 1, codec.BoolValue(true), dnp3.Online)
	})
	require.NoError(t, tab.Until(`document.querySelector("[data-test=events]")?.textContent.includes("rtu/bi1")`))
	text, err := tab.Text("[data-test=events] tbody tr")
	require.NoError(t, err)
	assert.Contains(t, text, "g2v2 true, 0x81 online")
}

// TestFindingsOfDNP3 provokes each and looks for what it says and mends.
func TestFindingsOfDNP3(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, code string
		fault      rig.Faults
		set        map[string]any
		mend       string // what the change it proposes sets
	}{
		{"wrong link address", "other-outstation", rig.Faults{}, map[string]any{"outstation": 12}, `"outstation":10`},
		{"wrong master address", "other-master", rig.Faults{}, map[string]any{"master": 5}, `"master":1`},
		{"listening but silent", "application-silent", rig.Faults{LinkOnly: true}, nil, ""},
		{"silent", "outstation-silent", rig.Faults{Drop: true}, nil, ""},
		{"CRC errors", "frames-damaged", rig.Faults{Checksum: true}, nil, ""},
		{"not DNP3", "not-the-protocol", rig.Faults{Garbage: true}, nil, ""},
		{"refuses functions", "function-refused", rig.Faults{Exception: 1}, nil, `"unsolicited":false`},
		{"confirmations missing", "confirms-lost", rig.Faults{LostConfirms: true}, nil, ""},
		{"time wrong", "clock-wrong", rig.Faults{Clock: site.Duration(2 * time.Hour)}, map[string]any{"time_sync": "none"}, `"time_sync":"lan"`},
		{"refuses objects", "class-refused", rig.Faults{NoEvents: true}, nil, ""},
		{"two masters", "two-masters", rig.Faults{TwoMasters: true}, nil, ""},
		{"local control", "local-control", rig.Faults{Local: true}, nil, ""},
		{"device trouble", "device-trouble", rig.Faults{Trouble: true}, nil, ""},
		{"answers one master alone", "other-master", rig.Faults{Deaf: true}, map[string]any{"master": 5}, `"master":1`},
		{"wants its link states reset", "application-silent", rig.Faults{Wants: "reset"}, nil, `"link_reset":true`},
		{"wants its data link layer to confirm", "application-silent", rig.Faults{Wants: "confirm"}, nil, `"link_confirm":true`},
		{"answers with other numbers", "answers-malformed", rig.Faults{Identifier: true}, nil, ""},
		{"goes on restarting", "device-restarts", rig.Faults{Stuck: true}, nil, ""},
		{"points are offline", "points-flagged", rig.Faults{Flag: "offline"}, nil, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := yard(t)
			p.awaitQuality("yard/closed", "good") // it has begun, and its clock is set
			require.NoError(t, p.rig.SetFaults("yard", 10, c.fault))
			if c.set != nil {
				_, err := p.client.Set(t.Context(), site.KindStation, "rtu", c.set)
				require.NoError(t, err)
			} else if !c.fault.LinkOnly && !c.fault.Drop { // a new beginning, at which everything is asked for again
				_, err := p.client.Set(t.Context(), site.KindLink, "yard", map[string]any{"retries": 0})
				require.NoError(t, err)
			}
			stir := func() { // something to report
				p.far(func(now time.Time, o *outstation.Outstation) {
					v, _ := o.Value(dnp3.BinaryInput, 0)
					o.Set(now, dnp3.BinaryInput, 0, codec.BoolValue(!v.Bool()), dnp3.Online)
				})
			}
			stirred := make(chan struct{})
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			go func() { // again and again, as a plant does
				defer close(stirred)
				for ticker := time.NewTicker(200 * time.Millisecond); ; {
					stir()
					select {
					case <-ctx.Done():
						ticker.Stop()
						return
					case <-ticker.C:
					}
				}
			}()
			subject := "rtu"
			if c.code == "not-the-protocol" {
				subject = "yard"
			}
			p.found(diagnose.Code(c.code), subject)
			cancel()
			<-stirred
			if c.mend == "" {
				return
			}
			var out result
			p.until("a step that mends it", func() bool { // what it is may be found out a moment later
				out = p.run("findings", "apply", c.code, subject)
				return out.code == 0
			})
			assert.Contains(t, out.out, c.mend)
			require.NoError(t, p.rig.SetFaults("yard", 10, rig.Faults{}))
			p.awaitQuality("yard/closed", "good")
		})
	}
	t.Run("a list that counts from 1", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(substation))
		p.applyYard(strings.NewReplacer(`"bi:1"`, `"bi:2"`, `"bi:0"`, `"bi:1"`, `"ai:1"`, `"ai:2"`, `"ai:0"`, `"ai:1"`).Replace(yardSite))
		f := p.found(diagnose.PointsMissing, "rtu")
		assert.Contains(t, f.Cause, "it counts from 0, and the site's list from 1")
		out := p.run("findings", "apply", "points-missing", "rtu")
		assert.Contains(t, out.out, `point yard/closed is set to {"address":"bi:0"}`)
		p.awaitQuality("yard/count", "good")
		assert.Equal(t, codec.UintValue(7).String(), p.reading("yard/count").Value.String())
		p.until("all is well", func() bool { return strings.HasSuffix(p.run("findings").out, "nothing is wrong with communication\n") })
	})
	t.Run("another protocol is spoken there", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(substation))
		_, port, err := net.SplitHostPort(p.rig.Address("yard"))
		require.NoError(t, err)
		p.apply(`
arithmon: 1
links: [{name: wrong, protocol: modbus, transport: tcp, host: 127.0.0.1, port: ` + port + `, timeout: 300ms}]
stations: [{name: plc, link: wrong, unit: 10, poll: 200ms}]
points: [{tag: x, station: plc, address: "hr:0"}]
`)
		p.until("what speaks there", func() bool { return strings.Contains(p.run("findings").out, "speaks DNP3, and the link is of Modbus") })
	})
	t.Run("points that are not there", func(t *testing.T) {
		t.Parallel()
		p := yard(t)
		_, err := p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": "yard/none", "station": "rtu", "address": "bi:40"})
		require.NoError(t, err)
		p.found(diagnose.PointsMissing, "rtu")
		assert.Contains(t, p.run("findings", "rtu").out, "it has no bi:40")
	})
}

func TestDNP3TrafficIsDecodedToTheFlag(t *testing.T) {
	t.Parallel()
	p := yard(t)
	p.far(func(now time.Time, o *outstation.Outstation) {
		o.Set(now, dnp3.BinaryInput, 1, codec.BoolValue(true), dnp3.Online|dnp3.LocalForced)
	})
	p.until("a report", func() bool { return len(p.eventsOf("yard/alarm")) == 1 })
	page, err := p.client.Traffic(t.Context(), url.Values{"station": {"rtu"}, "limit": {"500"}, "fields": {"true"}})
	require.NoError(t, err)
	var said []string
	for _, f := range page.Frames {
		said = append(said, f.Summary)
		for _, field := range f.Fields {
			said = append(said, field.Name+" = "+field.Value)
		}
	}
	all := strings.Join(said, "\n")
	for _, want := range []string{"disable unsolicited responses", "write; g80v1 7 to 7", "record current time", "read; g60v2 all; g60v3 all; g60v4 all; g60v1 all", "enable unsolicited responses",
		"unsolicited response", "binary input event 1 = true, online, local forced, ", "analog input 0 = 12.5, online", "octet string 0 = YARD", "confirm"} {
		assert.Contains(t, all, want)
	}
	require.NoError(t, p.rig.SetFaults("yard", 10, rig.Faults{Noise: true}))
	p.until("noise among the frames", func() bool {
		page, err := p.client.Traffic(t.Context(), url.Values{"station": {"rtu"}, "wrong": {"true"}})
		require.NoError(t, err)
		return strings.Contains(fmt.Sprint(page.Frames), "damaged")
	})
	p.awaitQuality("yard/closed", "good") // frames are found among it
}
