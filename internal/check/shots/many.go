package main

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

const manyLinks = 200

// many takes the picture of the overview of a large plant: each of its links has a device, some of which are not there, are silent, or refuse
// an address.
func many(ctx context.Context, dir string) error {
	work, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	var rig, site strings.Builder
	rig.WriteString("rig: 1\nlines:\n")
	for i := range manyLinks {
		faults := ""
		if i%40 == 17 {
			faults = ", faults: {drop: true}"
		}
		fmt.Fprintf(&rig, "  - {name: %s, listen: '127.0.0.1:0', stations: [{unit: 1, tables: {hr: 20}%s}]}\n", well(i), faults)
	}
	devices := filepath.Join(work, "rig.yaml")
	if err := os.WriteFile(devices, []byte(rig.String()), 0o600); err != nil {
		return err
	}
	listening, end, err := started(ctx, manyLinks, "rig", devices, "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer end()
	var stations, points strings.Builder
	site.WriteString("arithmon: 1\nlinks:\n")
	for i, line := range listening {
		name, address, _ := strings.Cut(line, " ")
		host, port, err := net.SplitHostPort(address)
		if err != nil {
			return fmt.Errorf("the rig says %q: %w", line, err)
		}
		if i%50 == 31 {
			port = "1" // where nobody listens
		}
		fmt.Fprintf(&site, "  - {name: %s, host: %s, port: %s}\n", name, host, port)
		fmt.Fprintf(&stations, "  - {name: %s-plc, link: %s, unit: 1}\n", name, name)
		for r, what := range []string{"level", "flow", "current", "hours"} {
			if i%70 == 5 && r == 3 {
				r = 40 // beyond its registers
			}
			fmt.Fprintf(&points, "  - {tag: %s/%s, station: %s-plc, address: 'hr:%d'}\n", name, what, name, r)
		}
	}
	fmt.Fprintf(&site, "stations:\n%spoints:\n%s", &stations, &points)
	file := filepath.Join(work, "site.yaml")
	if err := os.WriteFile(file, []byte(site.String()), 0o600); err != nil {
		return err
	}
	said, stop, err := started(ctx, 1, "serve", "--data", filepath.Join(work, "data"), "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer stop()
	url := said[0]
	if out, err := exec.CommandContext(ctx, binary, "apply", file, "--server", url).CombinedOutput(); err != nil {
		return fmt.Errorf("apply: %w: %s", err, out)
	}
	return console(ctx, url, dir, width, height, []page{{"overview-200", "/overview", "[data-test=finding-unit-silent]", nil}})
}

func well(i int) string { return fmt.Sprintf("well-%03d", i+1) }

// started runs a command until end, and returns the first lines it says.
func started(ctx context.Context, lines int, args ...string) (said []string, end func(), err error) {
	cmd := exec.CommandContext(ctx, binary, args...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, fmt.Errorf("%s: %w; make build makes it", binary, err)
	}
	end = func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	}
	reader := bufio.NewReader(out)
	for range lines {
		line, err := reader.ReadString('\n')
		if err != nil {
			end()
			return nil, nil, fmt.Errorf("%s: it did not start: %w", args[0], err)
		}
		said = append(said, strings.TrimSpace(line))
	}
	return said, end, nil
}
