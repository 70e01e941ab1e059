package e2e

import (
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/rig"
)

var shownRow = regexp.MustCompile(`(?m)^\| (\S+/\S+) \| (.*?) \|$`)

// Each made-up device, with its manual, from an empty service to right values by the commands that the manual gives, and no other.
func TestTheManuals(t *testing.T) {
	t.Parallel()
	dir := filepath.Join("..", "..", "..", "demo", "manuals")
	data, err := os.ReadFile(filepath.Join(dir, "devices.yaml"))
	require.NoError(t, err)
	for manual, c := range map[string]struct {
		line     string
		commands int // how many it takes
	}{
		"basin-controller.md": {"controller", 9},
		"flow-computer.md":    {"computer", 7},
		"sensor.md":           {"sensor", 8},
		"power-box.md":        {"box", 7},
		"io-box.md":           {"inputs-outputs", 9},
	} {
		t.Run(c.line, func(t *testing.T) {
			config, err := rig.Load("devices.yaml", data)
			require.NoError(t, err)
			for i := range config.Lines { // several tests may run at once
				if config.Lines[i].Transport == "serial" {
					config.Lines[i].Listen = filepath.Join(t.TempDir(), "port")
				} else {
					config.Lines[i].Listen = "127.0.0.1:0"
				}
			}
			devices, err := rig.Start(config, rig.Options{})
			require.NoError(t, err)
			t.Cleanup(devices.Stop)
			p := serving(t, nil)
			at := devices.Address(c.line)
			text, err := os.ReadFile(filepath.Join(dir, manual))
			require.NoError(t, err)
			lines := written(t, filepath.Join("demo", "manuals", manual))
			assert.Len(t, lines, c.commands)
			for _, line := range lines {
				if host, port, err := net.SplitHostPort(at); err == nil {
					line = strings.Replace(line, "192.0.2.40", host+" --port "+port, 1)
				}
				line = strings.ReplaceAll(line, "/dev/ttyUSB0", at)
				if strings.HasPrefix(line, "arithmon read ") && strings.HasSuffix(line, "/") || strings.HasPrefix(line, "arithmon write") && !strings.Contains(line, "--unit") {
					for _, m := range shownRow.FindAllStringSubmatch(string(text), -1) {
						p.await(m[1], func(r api.Reading) bool { return said(r) == "good" })
					}
				}
				if strings.Contains(line, "hr:6 12") { // the device is gone from the address under which it was written
					out := p.run(shellWords(line)[1:]...)
					assert.Contains(t, out.out, "unknown", out.err)
					continue
				}
				shell(t, t.TempDir(), p.service.URL, line)
			}
			rows := shownRow.FindAllStringSubmatch(string(text), -1)
			require.NotEmpty(t, rows)
			for _, m := range rows {
				p.await(m[1], func(r api.Reading) bool { return strings.TrimSpace(r.Text+" "+r.Unit) == m[2] && said(r) == "good" })
			}
			p.until("nothing is wrong", func() bool {
				list, err := p.client.Findings(t.Context(), "")
				return err == nil && len(list) == 0
			})
		})
	}
}

// shellWords are the words of a line as a shell makes them.
func shellWords(line string) (list []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			list = append(list, part)
			continue
		}
		list = append(list, strings.Fields(part)...)
	}
	return list
}
