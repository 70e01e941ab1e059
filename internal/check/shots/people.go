package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"arithmon/internal/check/browser"
)

// password is that of everybody in the pictures.
const password = "heron lifts 40 gates slowly"

// shared is what people did before the pictures: changes with what is said of them, a version, a proposal and what conflicts with it, a note.
var shared = [][]string{
	{"account", "add", "bob", "--role", "engineer"},
	{"account", "add", "dan", "--role", "operator", "--only", "tern/*"},
	{"account", "add", "eve", "--role", "viewer"},
	{"point", "set", "tern/*", "--where", "unit=A", "--decimals", "2", "--message", "as the manual says"},
	{"version", "add", "commissioning-day-1", "--message", "as handed over on the first day"},
	{"point", "set", "tern/pump1/current", "--description", "Motor current", "--propose", "Better words"},
	{"point", "set", "tern/pump2/current", "tern/pump3/current", "--unit", "mA"},
	{"point", "rename", "tern/pump1/torque", "tern/pump1/load"},
	{"point", "set", "tern/pump1/current", "--description", "Current of pump 1"},
	{"proposal", "comment", "1", "the manual calls it motor current"},
	{"note", "add", "station", "tern-drive1", "cable swapped, check on Monday"},
}

// people takes the pictures of a demo with accounts: two browsers side by side, versions compared, a proposal, the accounts.
func people(ctx context.Context, dir string) error {
	data, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	run := func(args ...string) error {
		c := exec.CommandContext(ctx, binary, args...)
		c.Env = append(os.Environ(), "XDG_CONFIG_HOME="+data)
		c.Stdin = strings.NewReader(password + "\n")
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	if err := run("account", "add", "ann", "--role", "admin", "--data", data); err != nil {
		return err
	}
	said, end, err := started(ctx, 1, "demo", "--data", data, "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer end()
	url := said[0]
	if err := run("login", url, "--account", "ann"); err != nil {
		return err
	}
	for _, args := range shared {
		if err := run(args...); err != nil {
			return err
		}
	}
	ann, err := signedIn(ctx, url, "ann", width, height)
	if err != nil {
		return err
	}
	defer ann.Close()
	for _, p := range []page{
		{"proposal", "/changes?view=proposals", "[data-test=proposal-conflicts]", nil},
		{"accounts", "/accounts", ".el-table__row", nil},
	} {
		if err := take(ann, url, p, filepath.Join(dir, p.name+".png")); err != nil {
			return fmt.Errorf("page %s: %w", p.path, err)
		}
	}
	return together(ctx, url, filepath.Join(dir, "together.png"))
}

// signedIn is a browser in which somebody has signed in.
func signedIn(ctx context.Context, url, name string, width, height int) (*browser.Page, error) {
	tab, err := browser.Open(ctx, width, height)
	if err != nil {
		return nil, err
	}
	for _, step := range []func() error{
		func() error { return tab.Go(url + "/overview") },
		func() error { return tab.Run("localStorage.setItem('look', 'light')") },
		func() error { return tab.Fill("[data-test=account]", name) },
		func() error { return tab.Fill("[data-test=password]", password) },
		func() error { return tab.Click("[data-test=sign-in-go]") },
		func() error { return tab.Wait("[data-test=me]") },
	} {
		if err := step(); err != nil {
			tab.Close()
			return nil, err
		}
	}
	return tab, nil
}

// together puts two browsers side by side: one person saves a form while another one has it open.
func together(ctx context.Context, url, file string) error {
	const half = 960
	var tabs []*browser.Page
	for _, name := range []string{"ann", "bob"} {
		tab, err := signedIn(ctx, url, name, half, height)
		if err != nil {
			return err
		}
		defer tab.Close()
		if err := tab.Go(url + "/stations?station=tern-drive1"); err != nil {
			return err
		}
		if err := tab.Wait("[data-test=save]"); err != nil {
			return err
		}
		tabs = append(tabs, tab)
	}
	for _, step := range []func() error{
		func() error { return tabs[0].Wait("[data-test=edits-too]") },
		func() error { return tabs[1].Wait("[data-test=edits-too]") },
		func() error { return tabs[1].Fill("input[name=poll]", "500ms") },
		func() error { return tabs[1].Click("[data-test=save]") },
		func() error { return tabs[0].Wait("[data-test=just-changed]") },
		func() error { return tabs[1].Go(url + "/stations") },
		func() error { return tabs[1].Wait(".el-table__row") },
	} {
		if err := step(); err != nil {
			return fmt.Errorf("two browsers: %w", err)
		}
	}
	joined := image.NewRGBA(image.Rect(0, 0, 2*half, height))
	for i, tab := range tabs {
		data, err := tab.Picture()
		if err != nil {
			return err
		}
		one, err := png.Decode(bytes.NewReader(data))
		if err != nil {
			return err
		}
		draw.Draw(joined, image.Rect(i*half, 0, (i+1)*half, height), one, image.Point{}, draw.Src)
	}
	var out bytes.Buffer
	if err := png.Encode(&out, joined); err != nil {
		return err
	}
	return os.WriteFile(file, out.Bytes(), 0o644)
}
