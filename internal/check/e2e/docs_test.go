package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/app/service"
	"arithmon/internal/core/reading"
	"arithmon/internal/rig"
)

var commandLine = regexp.MustCompile(`(?m)^    (arithmon .*)$`)

// written are the commands in a document, in their order.
func written(t *testing.T, document string) (lines []string) {
	text, err := os.ReadFile(filepath.Join("..", "..", "..", document))
	require.NoError(t, err)
	for _, m := range commandLine.FindAllStringSubmatch(string(text), -1) {
		lines = append(lines, m[1])
	}
	require.NotEmpty(t, lines)
	return lines
}

// The commands about sharing, in their order: on a service that is stopped, and then over TLS, each with what it is asked for.
func TestTheCommandsOfSharing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	plant := filepath.Join(dir, "plant")
	require.NoError(t, os.Mkdir(plant, 0o700))
	person := someone(t)
	var p *plantOf
	for _, line := range written(t, "docs/sharing.md") {
		words := strings.Fields(strings.TrimPrefix(line, "arithmon "))
		offline := strings.Contains(line, "--data plant")
		switch {
		case words[0] == "serve":
			p = serveOver(t, plant)
			continue
		case words[0] == "login":
			line = strings.Replace(line, "https://plant:7340", p.url, 1) + " --fingerprint " + p.fingerprint
		case offline:
			if p != nil {
				p.stop()
			}
			p = nil
		case p == nil:
			p = serveOver(t, plant)
			r := person.shell(dir, "arithmon login "+p.url+" --account ann --fingerprint "+p.fingerprint)
			require.Equal(t, 0, r.code, r.err)
		}
		r := person.shell(dir, line)
		assert.Equal(t, 0, r.code, "%s\n%s%s", line, r.out, r.err)
		if words[0] == "login" {
			site := file(t, "site.yaml", "arithmon: 1\nlinks: [{name: gate, host: 192.0.2.7, enabled: false}]\nstations: [{name: plc, link: gate, unit: 1}]\npoints: [{tag: gate/level, station: plc, address: hr:9, type: float32}]\n")
			r := person.shell(dir, "arithmon apply "+site)
			require.Equal(t, 0, r.code, r.err)
		}
	}
}

// plantOf is a service over TLS on a directory that is there.
type plantOf struct {
	url, fingerprint string
	stop             func()
}

func serveOver(t *testing.T, dir string) *plantOf {
	t.Helper()
	s, err := service.Start(context.Background(), service.Options{Dir: dir, Listen: "127.0.0.1:0", TLS: "self", Version: "test"})
	require.NoError(t, err)
	stop := sync.OnceFunc(func() { require.NoError(t, s.Stop()) })
	t.Cleanup(stop)
	return &plantOf{s.URL, s.Fingerprint, stop}
}

// shell runs a line as a person types it; one that goes on for ever is ended once it says something.
func shell(t *testing.T, dir, url, line string) {
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", "exec "+line)
	cmd.Dir = dir // for what it writes
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "ARITHMON_SERVER="+url)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	if strings.HasPrefix(line, "arithmon watch") {
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		_, err = out.Read(make([]byte, 1))
		assert.NoError(t, err, line)
		assert.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		return
	}
	out, err := cmd.Output()
	assert.NoError(t, err, "%s\n%s%s", line, out, errs.String())
}

// The job as the README tells it, with a simulated device in the place of the one it names.
func TestTheCommandsOfTheReadme(t *testing.T) {
	t.Parallel()
	p := serving(t, nil)
	config, err := rig.Load("devices.yaml", []byte("rig: 1\nlines: [{name: gate, listen: '127.0.0.1:0', stations: [{unit: 1, tables: {hr: 100}}]}]"))
	require.NoError(t, err)
	running, err := rig.Start(config, rig.Options{})
	require.NoError(t, err)
	t.Cleanup(running.Stop)
	host, port, err := net.SplitHostPort(running.State()[0].Listen)
	require.NoError(t, err)
	dir := t.TempDir()
	for _, line := range written(t, "README.md") {
		if strings.HasPrefix(line, "arithmon serve") {
			continue // it runs
		}
		if line = strings.Replace(line, "192.0.2.7", fmt.Sprintf("%s --port %s", host, port), 1); strings.HasPrefix(line, "arithmon lens") {
			p.awaitQuality("gate1/position", "good")
		}
		shell(t, dir, p.service.URL, line)
	}
}

// Those of the guide: the ones that make something on an empty service, the others on the demo.
func TestTheCommandsOfTheGuide(t *testing.T) {
	t.Parallel()
	empty := serving(t, nil)
	_, demo := serve(t, "demo", "--listen", "127.0.0.1:0")
	c := client.New(demo, "tester")
	require.Eventually(t, func() bool {
		list, err := c.Readings(t.Context(), "sallow/gate1/open-cmd")
		return err == nil && len(list) == 1 && list[0].Quality == reading.Good
	}, patience, 10*time.Millisecond)
	dir, made := t.TempDir(), false
	for _, line := range written(t, "docs/using.md") {
		url := demo
		if strings.Contains(line, " add ") && !strings.Contains(line, "--template") {
			url = empty.service.URL
		}
		if strings.Contains(line, "--station drive2") && !made { // one of those the guide takes for given
			made = true
			shell(t, dir, url, "arithmon station add drive2 --link bus --unit 3")
		}
		shell(t, dir, url, line)
	}
}

// Those of watching, on the demo, once it has been looked at for a moment.
func TestTheCommandsOfWatching(t *testing.T) {
	t.Parallel()
	_, demo := serve(t, "demo", "--listen", "127.0.0.1:0")
	c := client.New(demo, "tester")
	require.Eventually(t, func() bool {
		n := 0
		err := c.Samples(t.Context(), []string{"tern/basin/level", "tern/pump1/current"}, "1h", "now", func(page []api.Sample) error {
			n += len(page)
			return nil
		})
		return err == nil && n > 6
	}, patience, 50*time.Millisecond)
	dir := t.TempDir()
	for _, line := range written(t, "docs/watching.md") {
		shell(t, dir, demo, line)
	}
}
