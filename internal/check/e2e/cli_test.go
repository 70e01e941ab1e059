package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
)

func TestABackupIsAWholeDatabase(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	to := filepath.Join(t.TempDir(), "arithmon.db")
	saved := p.run("backup", to)
	require.Equal(t, 0, saved.code, saved.err)
	assert.Contains(t, saved.err, "saved "+to)
	again := p.run("backup", to)
	assert.Equal(t, 1, again.code)
	assert.Contains(t, again.err, "is there already; nothing was saved")

	_, url := serve(t, "serve", "--data", filepath.Dir(to), "--listen", "127.0.0.1:0")
	other := client.New(url, "test")
	points, err := other.Points(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, points, 5)
	changes, err := other.Changes(t.Context(), "", "", 10)
	require.NoError(t, err)
	assert.NotEmpty(t, changes, "with its history")
}

func TestExplain(t *testing.T) {
	t.Parallel()
	r := command(t, "", "explain", "timeout", "unit-silent", "exception-2")
	assert.Equal(t, 0, r.code, r.err)
	for _, part := range []string{"timeout (bad): the station did not answer in time", "arithmon station test STATION", "exception-2 (bad): the device refused: exception 2 (illegal data address)", "unit-silent (finding of a station): "} {
		assert.Contains(t, r.out, part)
	}
	r = command(t, "", "explain", "timeot")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "did you mean timeout?")
	var all api.Explanations
	require.NoError(t, json.Unmarshal([]byte(command(t, "", "explain", "-o", "json").out), &all))
	assert.Greater(t, len(all.Reasons)+len(all.Findings), 75)
}

// The log says what connects, is changed, is written and is refused, in the form and from the level on that were asked for.
func TestTheLog(t *testing.T) {
	t.Parallel()
	read, write, err := os.Pipe()
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), binary, "serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--log-format", "json", "--log-level", "debug")
	cmd.Stderr = write
	url := begin(t, cmd)
	require.NoError(t, write.Close())
	c := client.New(url, "ann")
	_, err = c.Apply(t.Context(), "site.yaml", []byte("arithmon: 1\nlinks: [{name: gate, host: 127.0.0.1, port: 1, timeout: 50ms}]\nstations: [{name: plc, link: gate, unit: 1}]\npoints: [{tag: a, station: plc, address: hr:0}]\n"), false, false)
	require.NoError(t, err)
	require.NoError(t, read.SetReadDeadline(time.Now().Add(patience)))
	var said strings.Builder
	lines := bufio.NewScanner(read)
	for wanted := []string{`"msg":"site changed","who":"ann","changes":3,"first":"add link gate"`, `"reason":"127.0.0.1:1: connection refused`, `"method":"POST","path":"/api/v1/apply","status":200`}; len(wanted) > 0; {
		require.True(t, lines.Scan(), "%s\nwithout %v", said.String(), wanted)
		said.WriteString(lines.Text() + "\n")
		assert.True(t, json.Valid(lines.Bytes()), lines.Text())
		wanted = slices.DeleteFunc(wanted, func(w string) bool { return strings.Contains(lines.Text(), w) })
	}
	require.NoError(t, cmd.Process.Kill())
}

func TestTheJobFromTheCommandLine(t *testing.T) {
	t.Parallel()
	p := start(t)
	steps := []struct {
		args []string
		code int
		out  string
	}{
		{[]string{"link", "add", "gate", "--host", "127.0.0.1", "--port", p.port("gate"), "--timeout", "200ms"}, 0, "gate"},
		{[]string{"link", "test", "gate"}, 0, "answers: "},
		{[]string{"station", "add", "plc", "--link", "gate", "--unit", "1", "--notation", "ref5", "--poll", "100ms"}, 0, "ref5"},
		{[]string{"station", "test", "plc"}, 0, "unit 1 answers"},
		{[]string{"read", "--station", "plc", "40010..40011"}, 0, "hr:10    40011     0x41C8  16840     16840"},
		{[]string{"point", "add", "gate/level", "--station", "plc", "--address", "40010", "--type", "float32", "--unit", "%", "--scaling", "{raw: [0, 50], eng: [0, 100]}"}, 0, "hr:9"},
		{[]string{"point", "list"}, 0, "gate/level  plc      40010    hr:9  float32  %"},
		{[]string{"lens", "gate/level"}, 0, "50"},
		{[]string{"point", "set", "gate/level", "--order", "CDAB", "--decimals", "1"}, 0, "CDAB"},
	}
	for _, s := range steps {
		r := p.run(s.args...)
		require.Equal(t, s.code, r.code, "%v: %s%s", s.args, r.out, r.err)
		assert.Contains(t, r.out, s.out, "%v", s.args)
	}
	p.await("gate/level", func(r api.Reading) bool { return r.Text == "50.0" })
	r := p.run("read", "gate/level", "-o", "json")
	assert.Equal(t, 0, r.code)
	var readings []api.Reading // one shape for one tag and for several
	require.NoError(t, json.Unmarshal([]byte(r.out), &readings))
	require.Len(t, readings, 1)
	assert.Equal(t, "50", readings[0].Value.String())
	assert.Equal(t, "%", readings[0].Unit)

	watched := p.run("watch", "gate/*", "--for", "700ms")
	assert.Equal(t, 0, watched.code)
	assert.Equal(t, 1, strings.Count(watched.out, "gate/level  50.0 %  ● good"), "it does not change: %s", watched.out)
	watched = p.run("watch", "gate/*", "--for", "700ms", "--every-poll")
	assert.GreaterOrEqual(t, strings.Count(watched.out, "gate/level  50.0 %  ● good"), 2, watched.out)

	exported := p.run("export")
	assert.Contains(t, exported.out, "address: 40010\n")
	again := p.run("apply", file(t, "site.yaml", exported.out))
	assert.Equal(t, "0 added, 0 changed, 0 removed\n", again.out, "an export applied changes nothing")
	renamed := p.run("station", "set", "plc", "--name", "sluice")
	assert.Equal(t, 0, renamed.code, renamed.err)
	assert.Contains(t, p.run("point", "show", "gate/level").out, "sluice")
	inUse := p.run("link", "remove", "gate")
	assert.Equal(t, 1, inUse.code)
	assert.Contains(t, inUse.err, "station sluice belongs to it")
	all := p.run("link", "remove", "gate", "--cascade")
	assert.Contains(t, all.out, "0 added, 0 changed, 3 removed")
	changes := p.run("changes", "-o", "csv").out
	assert.Contains(t, changes, "remove,link,gate")
	id, _, _ := strings.Cut(strings.Split(changes, "\n")[1], ",")
	assert.Contains(t, p.run("undo", id).out, "3 added, 0 changed, 0 removed")
	p.await("gate/level", func(r api.Reading) bool { return r.Text == "50.0" })
	assert.Equal(t, 3, p.run("undo", "99999").code)
}

// What is wrong is said with field and value, with the exit code that fits, and nothing changes.
func TestWhatIsWrongIsSaid(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	before := p.run("export").out
	bad := func(text string) string { return file(t, "bad.yaml", "arithmon: 1\n"+text) }
	for _, c := range []struct {
		name string
		args []string
		code int
		want string
	}{
		{"unknown field in a file", []string{"apply", bad("links: [{name: x, host: h, prot: 1}]\n")}, 1, `line 2: link x: links[0].prot: unknown field "prot"; did you mean protocol or port?`},
		{"tag twice", []string{"apply", bad("points:\n- {tag: a, station: plc, address: hr:1}\n- {tag: a, station: plc, address: hr:2}\n")}, 1, `"a" is in the file twice, in lines 3 and 4`},
		{"taken tag", []string{"point", "add", "gate/level", "--station", "plc", "--address", "hr:1"}, 1, `point gate/level: TAG: "gate/level" is taken by another point`},
		{"address out of range", []string{"point", "add", "x", "--station", "plc", "--address", "hr:70000"}, 2, "offset 70000 is out of range: 0 to 65535"},
		{"float32 on a coil", []string{"point", "add", "x", "--station", "plc", "--address", "co:1", "--type", "float32"}, 2, "float32 does not fit co:1"},
		{"reference that contradicts its table", []string{"point", "add", "x", "--station", "plc", "--address", "40010", "--table", "ir"}, 2, "contradicts its table"},
		{"ambiguous number", []string{"point", "add", "x", "--station", "one", "--address", "40010", "--table", "hr"}, 2, "it may be hr:9 or hr:40010"},
		{"text for a number", []string{"station", "set", "plc", "--unit", "one"}, 2, `--unit: "one" is text; a whole number is needed`},
		{"unit taken", []string{"station", "set", "two", "--unit", "1"}, 2, "unit 1 on link bus is taken by station one"},
		{"not YAML", []string{"apply", file(t, "bad.yaml", "arithmon: [")}, 1, "is not YAML"},
		{"no file", []string{"apply", "nowhere.yaml"}, 3, `there is no file "nowhere.yaml"`},
		{"unknown tag", []string{"read", "gate/levle"}, 3, `there is no point "gate/levle"; did you mean gate/level?`},
		{"unknown station", []string{"station", "show", "plcc"}, 3, `there is no station "plcc"; did you mean plc?`},
		{"pattern without a tag", []string{"read", "nothing/*"}, 3, "no tag fits nothing/*"},
		{"value out of the type's range", []string{"write", "gate/setpoint", "4000"}, 1, ""},
		{"not writable", []string{"write", "gate/level", "1"}, 5, ""},
		{"no such field", []string{"point", "set", "gate/level", "--colour", "red"}, 2, "unknown flag: --colour"},
		{"a negative number", []string{"write", "gate/level", "-7"}, 2, "-7 looks like an option"},
		{"no such verb", []string{"raed", "x"}, 2, `unknown verb "raed"; did you mean read?`},
		{"too few arguments", []string{"write", "gate/setpoint"}, 2, "takes a tag and a value"},
		{"no such form", []string{"status", "-o", "xml"}, 2, "choose text, json, yaml or csv"},
		{"nothing to change", []string{"point", "set", "gate/level"}, 2, "nothing to change"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := p.run(c.args...)
			assert.Equal(t, c.code, r.code, r.out+r.err)
			assert.Contains(t, r.err, c.want)
		})
	}
	assert.Equal(t, before, p.run("export").out)
	refused := p.run("write", "gate/setpoint", "4000", "-o", "json")
	assert.Contains(t, refused.out, `"outcome": "refused"`)
	assert.Contains(t, refused.out, "4000 is out of the engineering range 0 to 100")
}

func TestExitCodeOfAReadingThatIsNotGood(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("bus/one", "good")
	assert.Equal(t, 0, p.run("read", "bus/one").code)
	p.rig.Cut("bus")
	p.awaitQuality("bus/one", "bad (link-down)")
	r := p.run("read", "bus/one")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.out, "(11)", "the last good value is not shown as if live")
	assert.Contains(t, r.out, "✕ bad (link-down)")
}

func TestWithoutAService(t *testing.T) {
	t.Parallel()
	r := command(t, "", "status", "--server", "http://127.0.0.1:1")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "no service answers at http://127.0.0.1:1. Start one with arithmon serve")
}

// serve starts the binary as a service and returns its URL.
func serve(t *testing.T, args ...string) (*exec.Cmd, string) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), binary, args...)
	return cmd, begin(t, cmd)
}

// begin starts a command and returns its first line.
func begin(t *testing.T, cmd *exec.Cmd) string {
	t.Helper()
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return strings.TrimSpace(line)
}

func TestNoAcknowledgedChangeIsLostWhenTheServiceIsKilled(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for round := range 3 {
		cmd, url := serve(t, "serve", "--data", dir, "--listen", "127.0.0.1:0")
		c := client.New(url, "tester")
		links, err := c.Links(t.Context())
		require.NoError(t, err)
		require.Len(t, links, round*5, "what was acknowledged before the kill is there")
		for i := range 5 {
			_, err := c.Add(t.Context(), "link", map[string]any{"name": fmt.Sprintf("l%d-%d", round, i), "host": "127.0.0.1", "enabled": false})
			require.NoError(t, err)
		}
		require.NoError(t, cmd.Process.Kill()) // SIGKILL, with no chance to tidy up
		cmd.Wait()
	}
}

// SIGTERM ends the service soon, whatever is under way: a body that does not come, a scan, and a pulse, whose end is sent and whose writer
// is told.
func TestTheServiceEndsInOrder(t *testing.T) {
	t.Parallel()
	cmd, url := serve(t, "demo", "--listen", "127.0.0.1:0")
	c := client.New(url, "tester")
	require.Eventually(t, func() bool {
		list, err := c.Readings(t.Context(), "sallow/gate1/open-cmd")
		return err == nil && len(list) == 1 && list[0].Quality == reading.Good
	}, patience, 10*time.Millisecond)
	_, err := c.Add(t.Context(), "point", map[string]any{"tag": "t/pulse", "station": "sallow-plc", "address": "co:4", "type": "bool", "writable": true, "pulse": "1m"})
	require.NoError(t, err)
	half, err := net.Dial("tcp", strings.TrimPrefix(url, "http://"))
	require.NoError(t, err)
	defer half.Close()
	_, err = fmt.Fprintf(half, "POST /api/v1/links HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000\r\n\r\n{")
	require.NoError(t, err)
	scanning := make(chan struct{})
	go func() {
		defer close(scanning)
		response, err := http.Post(url+"/api/v1/scan", "application/json", strings.NewReader(`{"link": "tern-bus", "wait": "5s"}`))
		if err == nil {
			io.Copy(io.Discard, response.Body)
			response.Body.Close()
		}
	}()
	pulsed := make(chan api.WriteResult, 1)
	go func() {
		w, err := c.Write(t.Context(), api.WriteRequest{Tag: "t/pulse", Value: codec.BoolValue(true)})
		assert.NoError(t, err)
		pulsed <- w
	}()
	require.Eventually(t, func() bool {
		list, err := c.Readings(t.Context(), "sallow/gate1/open-cmd")
		return err == nil && len(list) == 1 && list[0].Value.Bool()
	}, patience, 10*time.Millisecond, "the pulse has begun")
	began := time.Now()
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		assert.NoError(t, err)
		t.Logf("it ended within %s", time.Since(began))
	case <-time.After(patience):
		t.Fatal("it does not end")
	}
	w := <-pulsed
	assert.Equal(t, "done", string(w.Outcome), w.Message)
	assert.Contains(t, w.Message, "again, as read back")
	<-scanning
}

func TestServeRefusesWhatItMustNot(t *testing.T) {
	t.Parallel()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	blocked := filepath.Join(file(t, "file", ""), "data")
	damaged := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(damaged, "arithmon.db"), []byte("nonsense"), 0o600))
	for _, c := range []struct {
		name string
		args []string
		want string
	}{
		{"the network", []string{"--data", t.TempDir(), "--listen", "0.0.0.0:0"}, "is not this machine's loopback, and there are no accounts yet"},
		{"a name", []string{"--data", t.TempDir(), "--listen", "example.invalid:80"}, "is no address"},
		{"no port", []string{"--data", t.TempDir(), "--listen", "127.0.0.1"}, "is not host:port"},
		{"a port in use", []string{"--data", t.TempDir(), "--listen", taken.Addr().String()}, "is taken by another program"},
		{"a directory that cannot be made", []string{"--data", blocked, "--listen", "127.0.0.1:0"}, "data directory " + blocked},
		{"a damaged database", []string{"--data", damaged, "--listen", "127.0.0.1:0"}, "the database is damaged"},
		{"a level of the log that there is not", []string{"--data", t.TempDir(), "--log-level", "loud"}, "--log-level loud: choose debug, info, warn or error"},
		{"a form of the log that there is not", []string{"--data", t.TempDir(), "--log-format", "xml"}, "--log-format xml: choose text or json"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := command(t, "", append([]string{"serve"}, c.args...)...)
			assert.NotZero(t, r.code)
			assert.Contains(t, r.err, c.want)
			assert.Empty(t, r.out, "no URL of what does not answer")
		})
	}
}

func TestRigStandsAlone(t *testing.T) {
	t.Parallel()
	_, line := serve(t, "rig", file(t, "rig.yaml", devices))
	name, address, found := strings.Cut(line, " ")
	require.True(t, found)
	assert.Equal(t, "gate", name)
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	conn.Close()
	r := command(t, "", "rig", file(t, "rig.yaml", "rig: 1\nlines: [{name: a, listen: here}]\n"))
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, `lines[0].listen: "here" is no host:port`)
}
