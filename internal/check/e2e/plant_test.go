// Package e2e drives the real thing from end to end: service and rig on loopback, through the client, the built
// binary, the network interface and the console in headless Chromium.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/app/service"
	"arithmon/internal/rig"
	"arithmon/web"
)

// patience is how long a thing may take that should happen; a machine under load is slow.
const patience = 30 * time.Second

// pollEvery is how often something is looked at that cannot be followed.
const pollEvery = 20 * time.Millisecond

// binary is the program, built once for all tests.
var binary string

// atOncePerProcessor is how many tests run at once for each processor: they wait for devices most of the time.
const atOncePerProcessor = 3

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "arithmon-e2e-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		binary = filepath.Join(dir, "arithmon")
		if out, err := exec.Command("go", "build", "-o", binary, "arithmon/cmd/arithmon").CombinedOutput(); err != nil {
			panic(string(out))
		}
		flag.Parse()
		if flag.Lookup("test.parallel").Value.String() == strconv.Itoa(runtime.GOMAXPROCS(0)) { // nobody chose how many
			_ = flag.Set("test.parallel", strconv.Itoa(atOncePerProcessor*runtime.GOMAXPROCS(0)))
		}
		way, err := newDescribed(http.DefaultTransport)
		if err != nil {
			panic(err)
		}
		http.DefaultTransport = way // of the Go client and of tests that speak HTTP themselves
		return way.judge(m.Run())
	}())
}

// devices is a rig of two lines: a PLC, and a bus of two units of which the second has a hole in its registers.
const devices = `
rig: 1
signals:
  level: {kind: constant, value: 25}
  slow: {kind: sine, min: 0, max: 10, period: 1m}
lines:
  - name: gate
    listen: 127.0.0.1:0
    stations:
      - unit: 1
        tables: {hr: 40, co: 16, ir: 8}
        values:
          - {at: "hr:9", type: float32, order: CDAB, signal: level}
          - {at: "hr:20", type: int16, set: 100}
          - {at: "ir:0", type: int16, signal: slow, factor: 100}
  - name: bus
    listen: 127.0.0.1:0
    stations:
      - unit: 1
        tables: {hr: 4}
        values: [{at: "hr:0", type: uint16, set: 11}]
      - unit: 2
        tables: {hr: 4}
        values: [{at: "hr:0", type: uint16, set: 22}]
`

const siteFile = `
arithmon: 1
links:
  - {name: gate, protocol: modbus, transport: tcp, host: 127.0.0.1, port: GATE, timeout: 400ms, retries: 1}
  - {name: bus, protocol: modbus, transport: tcp, host: 127.0.0.1, port: BUS, timeout: 400ms, retries: 1}
stations:
  - {name: plc, link: gate, unit: 1, notation: ref5, poll: 200ms}
  - {name: one, link: bus, unit: 1, poll: 200ms}
  - {name: two, link: bus, unit: 2, poll: 200ms}
points:
  - {tag: gate/level, station: plc, address: 40010, type: float32, order: CDAB, unit: "%", decimals: 1}
  - {tag: gate/setpoint, station: plc, address: 40021, type: int16, scaling: {raw: [0, 1000], eng: [0, 100]}, unit: "%", writable: true}
  - {tag: gate/open-cmd, station: plc, address: co:4, states: [idle, open], writable: true}
  - {tag: bus/one, station: one, address: hr:0, type: uint16}
  - {tag: bus/two, station: two, address: hr:0, type: uint16}
`

// plant is a running service with its devices.
type plant struct {
	t       *testing.T
	rig     *rig.Rig
	service *service.Service
	client  *client.Client
	dir     string // of its database
}

// start runs the devices and a service without a site.
func start(t *testing.T) *plant {
	t.Helper()
	return startWith(t, []byte(devices))
}

// startWith is start with other devices.
func startWith(t *testing.T, devices []byte) *plant {
	t.Helper()
	config, err := rig.Load("devices.yaml", devices)
	require.NoError(t, err)
	running, err := rig.Start(config, rig.Options{})
	require.NoError(t, err)
	t.Cleanup(running.Stop)
	p := serving(t, nil)
	p.rig = running
	return p
}

// serving runs a service, which switches the faults of a rig when there is one.
func serving(t *testing.T, devices *rig.Rig) *plant {
	t.Helper()
	p := &plant{t: t, rig: devices, dir: t.TempDir()}
	p.serve()
	t.Cleanup(func() { require.NoError(t, p.service.Stop()) })
	return p
}

// serve starts the service on its database.
func (p *plant) serve() {
	p.t.Helper()
	var err error
	p.service, err = service.Start(context.Background(), service.Options{Dir: p.dir, Listen: "127.0.0.1:0", Rig: p.rig, Console: web.Console(), Version: "test"})
	require.NoError(p.t, err)
	p.client = client.New(p.service.URL, "tester")
}

// restart stops the service and starts it again.
func (p *plant) restart() {
	p.t.Helper()
	require.NoError(p.t, p.service.Stop())
	p.serve()
}

// furnished is start with the site applied.
func furnished(t *testing.T) *plant {
	t.Helper()
	p := start(t)
	_, err := p.client.Apply(t.Context(), "site.yaml", []byte(p.site()), false, false)
	require.NoError(t, err)
	return p
}

// site is the site file with the ports of the devices.
func (p *plant) site() string {
	return strings.NewReplacer("GATE", p.port("gate"), "BUS", p.port("bus")).Replace(siteFile)
}

func (p *plant) port(line string) string {
	_, port, err := net.SplitHostPort(p.rig.Address(line))
	require.NoError(p.t, err)
	return port
}

var errSeen = errors.New("seen")

// await follows a tag until its reading is as wanted, and returns it.
func (p *plant) await(tag string, wanted func(api.Reading) bool) api.Reading {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.t.Context(), patience)
	defer cancel()
	var last api.Reading
	err := p.client.Live(ctx, []string{tag}, func(m api.LiveMessage) error {
		for _, r := range m.Readings {
			if last = r; wanted(r) {
				return errSeen
			}
		}
		return nil
	})
	require.ErrorIs(p.t, err, errSeen, "%s stayed %s %s (%s)", tag, last.Text, last.Quality, last.Reason)
	return last
}

// awaitQuality waits for a quality and reason, such as bad (timeout).
func (p *plant) awaitQuality(tag, wanted string) api.Reading {
	p.t.Helper()
	return p.await(tag, func(r api.Reading) bool { return said(r) == wanted })
}

func said(r api.Reading) string {
	if r.Reason == "" {
		return r.Quality.String()
	}
	return r.Quality.String() + " (" + string(r.Reason) + ")"
}

// result is how a run of the binary ended.
type result struct {
	out, err string
	code     int
}

// run runs the binary against the plant's service.
func (p *plant) run(args ...string) result {
	p.t.Helper()
	return command(p.t, "", append(args, "--server", p.service.URL)...)
}

func command(t *testing.T, input string, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// file writes a file for a test and returns its path.
func file(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func number(t *testing.T, s string) int {
	t.Helper()
	n, err := strconv.Atoi(s)
	require.NoError(t, err)
	return n
}
