// Shots takes the pictures of docs/screenshots from the demo: the console's pages, and two commands in a terminal.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/check/browser"
)

const (
	width  = 1280
	height = 800
	binary = "bin/arithmon"
)

// page is a picture of the console.
type page struct {
	name, path string
	wait       string // a selector that shows when the page is ready
	steps      []step // what is done before the picture; where the last of several was done is shown
}

// step is a click, or a text that is typed; {port} in it is that of the demo's gate.
type step struct{ selector, text string }

func click(selectors ...string) (steps []step) {
	for _, s := range selectors {
		steps = append(steps, step{selector: s})
	}
	return steps
}

var pages = []page{
	{"overview", "/overview", "[data-test=finding-word-order]", nil},
	{"points", "/points", "[data-test=sheet-faults]", nil},
	{"templates", "/templates?part=stations&station=drive5", "[data-test=own] td", nil},
	{"import", "/points?import=list", "[data-test=import-dialog]", []step{{"[data-test=import-dialog] textarea", pasted}, {"[data-test=import-faults]", ""}}},
	{"live-lens", "/live?search=gate1&point=sallow/gate1/position", "[data-cell=float32-CDAB]", nil},
	{"first-value", "/begin", "[data-test=have-network]", []step{{"[data-test=have-network]", ""}, {"input[name=begin-host]", "127.0.0.1"}, {"[name=begin-port] input, input[name=begin-port]", "{port}"},
		{"[data-test=begin-look]", ""}, {"[data-test=begin-unit-1]", ""}, {"input[name=begin-range]", "hr:9..16"}, {"[data-test=begin-read]", ""}, {`[data-test="value-hr:9-float32-CDAB"]`, ""}}},
	{"rig", "/rig", "[data-test=rig-tern-bus-2]", nil},
	{"communication", "/communication", ".el-table__row", nil},
	{"traffic", "/traffic?link=tern-bus", ".frame", click(".frame:nth-child(6)")},
	{"finding", "/findings", "[data-test=finding-word-order]", nil},
	{"trends", "/trends?tags=tern/basin/level,tern/pump1/current,heron/power,tern/pump1/running&last=300", "[data-lane='tern/pump1/running'] .band", nil},
	{"alarms", "/alarms", "[data-test=alarms] tbody tr", nil},
	{"board", "/boards?board=sluice", "[data-display='sallow/gate1/position'][data-quality=good]", nil},
}

// tablet are pictures as on a tablet held upright.
var tablet = []page{{"board-tablet", "/boards?board=pump-house", "[data-display='tern/basin/level'][data-quality=good]", nil}}

// typed is a draft of the sheet of points: cells that were changed, one of them wrong, and a new row.
const typed = `{"edits": [{"tag": "mill/damping", "cells": {"unit": "min", "description": "Damping of the flow"}, "was": {"unit": "s", "description": "Damping of the flow meter"}},
	{"tag": "mill/flow", "cells": {"type": "flot32"}, "was": {"type": "float32"}}]}`

// pasted is a list with habits and faults of its own.
const pasted = `station;Register;Name;Datentyp;Skalierung;Einheit;Zugriff
sallow-plc;40301;Vorlauf Druck;FLOAT CDAB;;bar;R
sallow-plc;40303;Motor Strom;INT16;0,1;[A];R
sallow-plc;40304;Freigabe;WORD;;-;R/W
sallow-plc;40305;Füllstand;UINT16;0..27648 = 0..5;m;R
sallow-plc;40306;Zähler;DWORT;1/100;m³;R
`

// prepared is what is done before the pictures: a byte order that is wrong, an outstation that has another address, breakers that
// trip, and an address that its device refuses.
var prepared = [][]string{
	{"station", "set", "tern-meter", "--order", "CDAB"},
	{"link", "copy", "heron-line", "spare-line"},
	{"link", "enable", "spare-line"},
	{"station", "add", "spare-rtu", "--link", "spare-line", "--outstation", "12", "--description", "a wrong link address"},
	{"write", "heron/feeder2/cmd", "trip"},
	{"write", "heron/feeder2/cmd", "close"},
	{"template", "make", "drive-one", "--station", "tern-drive1", "--identifies", "*Drive one*", "--description", "Pump drive with one status word"},
	{"station", "add", "drive4", "--template", "drive-one", "--link", "tern-bus", "--unit", "4", "--values", "{tag: tern/pump4}", "--enabled=false", "--description", "ordered"},
	{"station", "add", "drive5", "--template", "drive-one", "--link", "tern-bus", "--unit", "5", "--values", "{tag: tern/pump5}", "--enabled=false", "--description", "ordered"},
	{"point", "set", "tern/pump5/speed", "--unit", "1/min", "--scaling", "{factor: 0.1}"},
	{"point", "remove", "tern/pump5/torque"},
	{"point", "add", "tern/pump1/spare", "--station", "tern-drive1", "--address", "40045", "--description", "beyond the drive's registers"},
}

// Two devices are away for a while, so that a trend has something to say.
const (
	before = 25 * time.Second
	away   = 12 * time.Second
)

// settle is how long a page may take to come to rest after it is ready: drawers slide, tables measure themselves.
const settle = 1500 * time.Millisecond

func main() {
	if err := run(context.Background(), "docs/screenshots"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, dir string) error {
	ctx, cancel := context.WithTimeout(ctx, 6*time.Minute)
	defer cancel()
	said, end, err := started(ctx, 1, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer end()
	url := said[0]
	for _, args := range prepared {
		step := exec.CommandContext(ctx, binary, append(args, "--server", url)...)
		if out, err := step.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", strings.Join(args, " "), err, out)
		}
	}
	show := exec.CommandContext(ctx, binary, "link", "show", "sallow-gate", "-o", "json", "--server", url)
	found, err := show.Output()
	if err != nil {
		return fmt.Errorf("link show: %w", err)
	}
	var gate struct{ Port int }
	if err := json.Unmarshal(found, &gate); err != nil {
		return fmt.Errorf("link show: %w", err)
	}
	for _, p := range pages {
		for i := range p.steps {
			p.steps[i].text = strings.ReplaceAll(p.steps[i].text, "{port}", strconv.Itoa(gate.Port))
		}
	}
	for _, step := range []struct {
		after time.Duration
		args  []string
	}{{before, []string{"fault", "tern-bus", "1", "drop"}}, {0, []string{"fault", "tern-bus", "10", "drop"}}, {away, []string{"clear", "tern-bus", "1"}}, {0, []string{"clear", "tern-bus", "10"}}} {
		time.Sleep(step.after)
		if out, err := exec.CommandContext(ctx, binary, append(append([]string{"rig"}, step.args...), "--server", url)...).CombinedOutput(); err != nil {
			return fmt.Errorf("rig %s: %w: %s", step.args[0], err, out)
		}
	}
	time.Sleep(before)
	if err := console(ctx, url, dir, width, height, pages); err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, binary, "station", "set", "tern-meter", "--order", "ABCD", "--server", url).CombinedOutput(); err != nil { // its values are looked at now
		return fmt.Errorf("station set: %w: %s", err, out)
	}
	if err := console(ctx, url, dir, 820, 1180, tablet); err != nil {
		return err
	}
	if err := people(ctx, dir); err != nil {
		return fmt.Errorf("people: %w", err)
	}
	for name, command := range map[string]string{
		"terminal-alarms": strings.ReplaceAll("$ history tern/basin/level --from 11s; $ history 'tern/pump1/current' --from 90s --every 30s --as mean,min,max,count; $ alarms; $ alarm ack '*' --note 'seen from the pump house'; $ alarm history; $ history state; sleep 60", "$", "./"+binary),
		"terminal-watch":  "./" + binary + " watch 'sallow/*'",
	} {
		if err := terminal(ctx, url, command, filepath.Join(dir, name+".png")); err != nil {
			return err
		}
	}
	return nil
}

// console takes pictures of pages in a window of a size.
func console(ctx context.Context, url, dir string, width, height int, pages []page) error {
	tab, err := browser.Open(ctx, width, height)
	if err != nil {
		return err
	}
	defer tab.Close()
	if err := tab.Go(url + "/overview"); err != nil {
		return err
	}
	if err := tab.Run("localStorage.setItem('look', 'light'); localStorage.setItem('sheet-draft', `" + typed + "`)"); err != nil {
		return err
	}
	for _, p := range pages {
		if err := take(tab, url, p, filepath.Join(dir, p.name+".png")); err != nil {
			return fmt.Errorf("page %s: %w", p.path, err)
		}
	}
	return nil
}

func take(tab *browser.Page, url string, p page, file string) error {
	if err := tab.Go(url + p.path); err != nil {
		return err
	}
	if err := tab.Wait(p.wait); err != nil {
		return err
	}
	for _, s := range p.steps {
		do := func() error { return tab.Click(s.selector) }
		if s.text != "" {
			do = func() error { return tab.Fill(s.selector, s.text) }
		}
		if err := do(); err != nil {
			return err
		}
	}
	time.Sleep(settle)
	if n := len(p.steps); n > 1 {
		if err := tab.Run(fmt.Sprintf("document.querySelector(%q)?.scrollIntoView({block: 'center'})", p.steps[n-1].selector)); err != nil {
			return err
		}
		time.Sleep(settle)
	}
	picture, err := tab.Picture()
	if err != nil {
		return err
	}
	return os.WriteFile(file, picture, 0o644)
}

// terminal runs a command in a terminal window under Xvfb and takes its picture.
func terminal(ctx context.Context, url, command, file string) error {
	script := fmt.Sprintf(`
		Xvfb -displayfd 3 -screen 0 1000x640x24 3>"$DIR/display" >/dev/null 2>&1 & server=$!
		for i in $(seq 100); do [ -s "$DIR/display" ] && break; sleep 0.1; done
		export DISPLAY=:$(cat "$DIR/display")
		ARITHMON_SERVER=%s xterm -u8 -fa 'DejaVu Sans Mono' -fs 11 -geometry 108x34+0+0 -bg '#1d2322' -fg '#e9e5da' +sb -e bash -c %q & window=$!
		sleep 14
		import -window root %q
		kill $window $server`, url, command, file)
	dir, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	shell := exec.CommandContext(ctx, "bash", "-c", script)
	shell.Env = append(os.Environ(), "DIR="+dir)
	if out, err := shell.CombinedOutput(); err != nil {
		if _, made := os.Stat(file); made != nil {
			return fmt.Errorf("terminal: %w\n%s", err, out)
		}
	}
	return nil
}

// started starts the program, and gives the first lines that it says.
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
