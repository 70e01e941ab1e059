package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/rig"
)

// wired is a plant of one line with two units over some transport.
func wired(t *testing.T, transport, framing, listen string) *plant {
	t.Helper()
	return startWith(t, fmt.Appendf(nil, `
rig: 1
signals: {level: {kind: constant, value: 25}}
lines:
  - name: line
    transport: %s
    framing: %s
    listen: %q
    serial: {baud: 57600}
    stations:
      - {unit: 1, tables: {hr: 40}, values: [{at: "hr:9", type: float32, signal: level}, {at: "hr:20", type: int16, set: 100}]}
      - {unit: 2, tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 22}]}
`, transport, framing, listen))
}

// link adds the link to the line on the command line, with further fields, and its stations and points.
func (p *plant) link(transport, framing string, more map[string]any) {
	p.t.Helper()
	fields := map[string]any{"transport": transport, "framing": framing, "timeout": "300ms", "retries": 1}
	if host, port, err := net.SplitHostPort(p.rig.Address("line")); err == nil {
		fields["host"], fields["port"] = host, number(p.t, port)
	}
	for k, v := range more {
		fields[k] = v
	}
	add := func(kind site.Kind, fields map[string]any) {
		_, err := p.client.Add(p.t.Context(), kind, fields)
		require.NoError(p.t, err)
	}
	args := []string{"link", "add", "line"}
	for name, value := range fields {
		text, ok := value.(string)
		if !ok {
			b, err := json.Marshal(value)
			require.NoError(p.t, err)
			text = string(b)
		}
		if text != "" {
			args = append(args, "--"+name, text)
		}
	}
	added := p.run(args...)
	require.Zero(p.t, added.code, added.err)
	add(site.KindStation, map[string]any{"name": "one", "link": "line", "unit": 1, "poll": "200ms"})
	add(site.KindStation, map[string]any{"name": "two", "link": "line", "unit": 2, "poll": "200ms"})
	add(site.KindPoint, map[string]any{"tag": "level", "station": "one", "address": "hr:9", "type": "float32"})
	add(site.KindPoint, map[string]any{"tag": "setpoint", "station": "one", "address": "hr:20", "type": "int16", "writable": true})
	add(site.KindPoint, map[string]any{"tag": "other", "station": "two", "address": "hr:0"})
}

// A framing that is another is asked for, not guessed, and so is the setting of a line; the first step mends it.
func TestAnotherFramingIsFound(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ is, set string }{{"rtu", "mbap"}, {"ascii", "mbap"}, {"mbap", "rtu"}, {"ascii", "rtu"}, {"mbap", "ascii"}, {"rtu", "ascii"}} {
		t.Run(c.is+" set as "+c.set, func(t *testing.T) {
			t.Parallel()
			p := wired(t, "tcp", c.is, "127.0.0.1:0")
			p.link("tcp", c.set, nil)
			f := p.found(diagnose.FramingDiffers, "line")
			assert.Contains(t, f.Cause, "speaks framing "+c.is+", and the link has "+c.set)
			assert.Contains(t, f.Evidence[1], "unit 1 answers")
			took := p.run("findings", "apply", "framing-differs", "line")
			require.Zero(t, took.code, took.err)
			p.awaitQuality("level", "good")
			p.until("all is well", func() bool { return p.run("findings").code == 0 })
		})
	}
	t.Run("another unit", func(t *testing.T) {
		t.Parallel()
		p := wired(t, "tcp", "rtu", "127.0.0.1:0")
		host, port, err := net.SplitHostPort(p.rig.Address("line"))
		require.NoError(t, err)
		p.apply(fmt.Sprintf(`
arithmon: 1
links: [{name: line, protocol: modbus, transport: tcp, framing: rtu, host: %s, port: %s, timeout: 200ms}]
stations: [{name: one, link: line, unit: 7, poll: 200ms}]
points: [{tag: level, station: one, address: "hr:9", type: float32}]
`, host, port))
		p.until("unit 1 is offered", func() bool {
			list, err := p.client.Findings(t.Context(), "one")
			require.NoError(t, err)
			return len(list) > 0 && len(list[0].Next) > 0 && strings.Contains(list[0].Next[0].Text, "set unit: 1, which answered")
		})
	})
	t.Run("a line", func(t *testing.T) {
		t.Parallel()
		p := startWith(t, []byte(`
rig: 1
lines:
  - {name: line, transport: serial, framing: rtu, strict: true, serial: {baud: 38400}, stations: [{unit: 2, tables: {hr: 4}, values: [{at: "hr:0", type: uint16, set: 22}]}]}
`))
		p.apply(`
arithmon: 1
links: [{name: line, protocol: modbus, transport: serial, timeout: 200ms, serial: {device: ` + p.rig.Address("line") + `, baud: 19200}}]
stations: [{name: two, link: line, unit: 2, poll: 200ms}]
points: [{tag: other, station: two, address: "hr:0"}]
`)
		p.until("the settings are found", func() bool {
			list, err := p.client.Findings(t.Context(), "line")
			require.NoError(t, err)
			return len(list) > 0 && strings.Contains(list[0].Cause, "The line is set to 38400 8E1, and the link to 19200 8E1.")
		})
		took := p.run("findings", "apply", "line-settings", "line")
		require.Zero(t, took.code, took.err)
		p.awaitQuality("other", "good")
	})
}

func TestEveryTransportAndFraming(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ transport, framing string }{
		{"tcp", "mbap"}, {"tcp", "rtu"}, {"tcp", "ascii"}, {"udp", "mbap"}, {"udp", "rtu"},
		{"tls", "mbap"}, {"serial", "rtu"}, {"serial", "ascii"},
	} {
		t.Run(c.framing+" over "+c.transport, func(t *testing.T) {
			t.Parallel()
			listen := "127.0.0.1:0"
			if c.transport == "serial" {
				listen = ""
			}
			p := wired(t, c.transport, c.framing, listen)
			more := map[string]any{}
			switch c.transport {
			case "tls":
				more["tls"] = map[string]any{"ca": file(t, "ca.pem", string(p.rig.CertificatePEM()))}
			case "serial":
				more["serial"] = map[string]any{"device": p.rig.Address("line"), "baud": 57600}
			}
			p.link(c.transport, c.framing, more)
			p.await("level", func(r api.Reading) bool { return said(r) == "good" && r.Text == "25" })
			p.await("other", func(r api.Reading) bool { return said(r) == "good" && r.Text == "22" })
			w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "setpoint", Value: codec.IntValue(-7)})
			require.NoError(t, err)
			assert.Equal(t, "done", string(w.Outcome), w.Message)

			require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{Drop: true}))
			p.awaitQuality("level", "bad (timeout)")
			p.awaitQuality("other", "good")
			if c.framing != "mbap" {
				require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{Checksum: true}))
				p.awaitQuality("level", "bad (checksum)")
				p.awaitQuality("other", "good")
			}
			require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{Noise: c.framing != "mbap"})) // which a serial framing bears
			p.awaitQuality("level", "good")
		})
	}
}

func TestAnAdapterThatEchoes(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	require.NoError(t, p.rig.SetFaults("line", 1, rig.Faults{Echo: true}))
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": p.rig.Address("line"), "baud": 57600, "echo": true}})
	p.await("level", func(r api.Reading) bool { return said(r) == "good" && r.Text == "25" })
}

func TestASerialPortThatVanishesAndComesBack(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "port")
	p := wired(t, "serial", "rtu", path)
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": path, "baud": 57600}})
	p.awaitQuality("level", "good")
	p.rig.Cut("line")
	p.awaitQuality("level", "bad (link-down)")
	require.NoError(t, p.rig.Restore("line"))
	p.awaitQuality("level", "good")
}

func TestLinksThatCannotBe(t *testing.T) {
	t.Parallel()
	p := wired(t, "serial", "rtu", "")
	device := p.rig.Address("line")
	p.link("serial", "rtu", map[string]any{"serial": map[string]any{"device": device, "baud": 57600}})
	for _, c := range []struct {
		name   string
		fields map[string]any
		want   string
	}{
		{"a port used twice", map[string]any{"transport": "serial", "serial": map[string]any{"device": device}}, "is used by link line; two links cannot share a port"},
		{"mbap on a serial line", map[string]any{"transport": "serial", "framing": "mbap", "serial": map[string]any{"device": "/dev/ttyX"}}, "mbap is for networks"},
		{"rtu with 7 bits", map[string]any{"transport": "serial", "serial": map[string]any{"device": "/dev/ttyX", "data_bits": 7}}, "rtu needs 8 data bits"},
		{"no line settings", map[string]any{"transport": "serial"}, "give the port, such as"},
		{"no such parity", map[string]any{"transport": "serial", "serial": map[string]any{"device": "/dev/ttyX", "parity": "mark"}}, "choose none, even, odd"},
		{"line settings on tcp", map[string]any{"host": "h", "serial": map[string]any{"device": "/dev/ttyX"}}, "line settings belong to a serial link"},
		{"a certificate without its key", map[string]any{"transport": "tls", "host": "h", "tls": map[string]any{"certificate": "c.pem"}}, "are given together"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.fields["name"] = "second"
			_, err := p.client.Add(t.Context(), site.KindLink, c.fields)
			assert.ErrorContains(t, err, c.want)
		})
	}
	_, err := p.client.Add(t.Context(), site.KindLink, map[string]any{"name": "nowhere", "transport": "serial", "serial": map[string]any{"device": "/dev/ttyNONE7"}})
	require.NoError(t, err)
	test, err := p.client.Test(t.Context(), site.KindLink, "nowhere")
	require.NoError(t, err)
	assert.False(t, test.Answers)
	assert.Contains(t, test.Message, "there is no serial port /dev/ttyNONE7;")
}

func TestTLSRefusesAServerThatItCannotVerify(t *testing.T) {
	t.Parallel()
	p := wired(t, "tls", "mbap", "127.0.0.1:0")
	p.link("tls", "mbap", nil)
	p.awaitQuality("level", "bad (link-down)")
	st, err := p.client.Status(t.Context())
	require.NoError(t, err)
	assert.Contains(t, st.Links[0].Reason, "the server's certificate is not accepted")
}

func TestTheTransportOfALinkCanBeChanged(t *testing.T) {
	t.Parallel()
	p := wired(t, "tcp", "rtu", "127.0.0.1:0")
	p.link("tcp", "", nil)
	_, err := p.client.Set(t.Context(), site.KindLink, "line", map[string]any{"framing": "rtu"})
	require.NoError(t, err)
	p.awaitQuality("level", "good")
	e, err := p.client.Set(t.Context(), site.KindLink, "line", map[string]any{"transport": "serial", "host": nil, "port": nil, "serial": map[string]any{"device": "/dev/ttyX"}})
	require.NoError(t, err)
	assert.Contains(t, string(e), `"parity":"even"`)
	shown := p.run("link", "list")
	assert.True(t, strings.Contains(shown.out, "/dev/ttyX 9600 8E1"), shown.out)
}

// A device that wants TLS asked without it, and the reverse: found, and where no certificate is needed mended.
func TestALinkWithTheOtherSecurity(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ rig, link string }{{"tcp", "tls"}, {"tls", "tcp"}} {
		t.Run(c.link+" where it is "+c.rig, func(t *testing.T) {
			t.Parallel()
			p := wired(t, c.rig, "mbap", "127.0.0.1:0")
			p.link(c.link, "mbap", nil)
			f := p.found(diagnose.TransportDiffers, "line")
			assert.Contains(t, f.Cause, "TLS")
			took := p.run("findings", "apply", "transport-differs", "line")
			require.Zero(t, took.code, took.err)
			if c.rig == "tls" {
				ca := filepath.Join(t.TempDir(), "ca.pem")
				require.NoError(t, os.WriteFile(ca, p.rig.CertificatePEM(), 0o600))
				set := p.run("link", "set", "line", "--tls", "{ca: "+ca+"}")
				require.Zero(t, set.code, set.err)
			}
			p.awaitQuality("level", "good")
		})
	}
}

// A device all of whose places are taken closes connections before anything is asked.
func TestAPlaceThatIsTaken(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - {name: line, listen: "127.0.0.1:0", places: 1, stations: [{unit: 1, tables: {hr: 40}, values: [{at: "hr:9", type: float32, set: 25}]}, {unit: 2, tables: {hr: 4}}]}
`))
	holder, err := net.Dial("tcp", p.rig.Address("line"))
	require.NoError(t, err)
	defer holder.Close()
	p.link("tcp", "mbap", nil)
	f := p.found(diagnose.ClosesConnection, "line")
	assert.Contains(t, f.Cause, "before anything is asked")
	holder.Close()
	p.awaitQuality("level", "good")

	second := p.run("link", "copy", "line", "again")
	require.Zero(t, second.code, second.err)
	p.apply(`{arithmon: 1, stations: [{name: three, link: again, unit: 3}], points: [{tag: three, station: three, address: "hr:0"}]}`)
	require.Zero(t, p.run("link", "enable", "again").code)
	f = p.found(diagnose.ClosesConnection, "again")
	assert.Contains(t, f.Cause, "while it serves link line")
	took := p.run("findings", "apply", "closes-connection", "again")
	require.Zero(t, took.code, took.err)
	shown, err := p.client.Show(t.Context(), site.KindStation, "three")
	require.NoError(t, err)
	assert.Contains(t, string(shown), `"link":"line"`)
}
