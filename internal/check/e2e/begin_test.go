package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
)

// From an empty service to a right value, on one page: what there is, where, which unit, what it says, which value.
func TestTheFirstValue(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - {name: gate, listen: "127.0.0.1:0", stations: [{unit: 3, tables: {hr: 40}, values: [{at: "hr:4", type: float32, order: CDAB, set: 21.5}, {at: "hr:8", type: uint16, set: 417}]}]}
`))
	_, port, err := net.SplitHostPort(p.rig.Address("gate"))
	require.NoError(t, err)
	page := p.console("/overview")
	require.NoError(t, page.Click("[data-test=begin]"))
	began := time.Now()
	require.NoError(t, page.Click("[data-test=have-network]"))
	require.NoError(t, page.Fill("input[name=begin-host]", "127.0.0.1"))
	require.NoError(t, page.Fill("[name=begin-port] input, input[name=begin-port]", port))
	require.NoError(t, page.Click("[data-test=begin-look]"))
	require.NoError(t, page.Click("[data-test=begin-unit-3]"))
	shows(t, page, "[data-test=begin-stages]", "unit 3 answers")
	require.NoError(t, page.Click(`[data-test="value-hr:4-float32-CDAB"]`))
	shows(t, page, `[data-test="value-hr:4-float32-CDAB"]`, "21.5")
	require.NoError(t, page.Fill("input[name=begin-tag]", "tank/temperature"))
	require.NoError(t, page.Fill("input[name=begin-eng]", "°C"))
	require.NoError(t, page.Click("[data-test=begin-save]"))
	shows(t, page, "[data-test=value]", "21.5")
	shows(t, page, "[data-test=quality]", "good")
	assert.Less(t, time.Since(began), 2*time.Minute)
	r := p.await("tank/temperature", func(r api.Reading) bool { return r.Text == "21.5" })
	assert.Equal(t, "°C", r.Unit)
}

// A place where nothing listens says so, and what to do.
func TestTheFirstValueOfNothing(t *testing.T) {
	t.Parallel()
	p := start(t)
	page := p.console("/begin")
	require.NoError(t, page.Click("[data-test=have-network]"))
	require.NoError(t, page.Fill("input[name=begin-host]", "127.0.0.1"))
	require.NoError(t, page.Fill("[name=begin-port] input, input[name=begin-port]", "1"))
	require.NoError(t, page.Click("[data-test=begin-look]"))
	shows(t, page, "[data-test=begin-problem]", "nothing listens on that port")
}

// The search goes anywhere by the keyboard alone, and the frame speaks another language.
func TestTheFrame(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	page := p.console("/overview")
	require.NoError(t, page.Wait("[data-test=overview] tbody tr"))
	search := func(text, selector, part string) {
		t.Helper()
		require.NoError(t, page.Run(`dispatchEvent(new KeyboardEvent('keydown', {key: 'k', ctrlKey: true}))`))
		require.NoError(t, page.Fill("input[name=search-anything]", text))
		shows(t, page, "[data-test=goals] li.chosen", part)
		require.NoError(t, page.Key("\r"))
		require.NoError(t, page.Wait(selector))
	}
	search("gate/lev", "[data-test=quality]", "gate/level")
	require.NoError(t, page.Until("location.pathname === '/live' && location.search.includes('gate')"))
	search("plc", "[data-test=save]", "plc")
	require.NoError(t, page.Until("location.pathname === '/stations' && location.search.includes('plc')"))
	search("traffic", ".frame", "Traffic")

	require.NoError(t, page.Go(p.service.URL+"/overview"))
	p.rig.Cut("bus")
	shows(t, page, "[data-test=count-live]", "2")
	require.NoError(t, page.Run(`const s = document.querySelector('[data-test=language]'); s.value = 'de'; s.dispatchEvent(new Event('change'))`))
	shows(t, page, "h1", "Übersicht")
	shows(t, page, "[data-test=page-links]", "Verbindungen")
	require.NoError(t, page.Until("document.documentElement.lang === 'de' && document.title.startsWith('Übersicht')"))
	require.NoError(t, page.Click("[data-test=fold]"))
	require.NoError(t, page.Until("document.querySelector('.app-rail').offsetWidth < 80"))
}

// Two hundred links: the worst first, a line each, in a moment.
func TestTheOverviewOfTwoHundredLinks(t *testing.T) {
	t.Parallel()
	p := start(t)
	file := "arithmon: 1\nlinks:\n"
	stations := "stations:\n"
	for i := range 200 {
		file += fmt.Sprintf("  - {name: link%03d, host: 127.0.0.1, port: %d, enabled: %v}\n", i, 1+i%7, i == 120)
		stations += fmt.Sprintf("  - {name: st%03d, link: link%03d}\n", i, i)
	}
	p.apply(file + stations)
	page := p.console("/overview")
	require.NoError(t, page.Until("document.querySelectorAll('[data-test=overview] tbody tr').length === 200"))
	require.NoError(t, page.Until("document.querySelector('[data-test=overview] tbody tr').textContent.includes('link120')"))
	require.NoError(t, page.Click("[data-test=only-wrong]"))
	require.NoError(t, page.Until("document.querySelectorAll('[data-test=overview] tbody tr').length === 1"))
	require.NoError(t, page.Go(p.service.URL+"/overview?search=link19"))
	require.NoError(t, page.Until("document.querySelectorAll('[data-test=overview] tbody tr').length === 10"))
}

// What the entry page loads is small.
func TestTheEntryIsSmall(t *testing.T) {
	t.Parallel()
	assets := filepath.Join("..", "..", "..", "web", "dist")
	html, err := os.ReadFile(filepath.Join(assets, "index.html"))
	require.NoError(t, err)
	total := 0
	for _, path := range entryScripts(string(html)) {
		data, err := os.ReadFile(filepath.Join(assets, path))
		require.NoError(t, err)
		total += compressed(t, data)
	}
	assert.Positive(t, total)
	assert.Less(t, total, 300_000, "bytes of scripts, compressed")
}

var script = regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.js)"`)

// entryScripts are those that a page loads before anything is shown.
func entryScripts(html string) (paths []string) {
	for _, m := range script.FindAllStringSubmatch(html, -1) {
		paths = append(paths, m[1])
	}
	return paths
}

func compressed(t *testing.T, data []byte) int {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Len()
}

// An address of the console opens a form at a field, unfolds it, begins what it asks for once, and says when there is no such thing.
func TestWhatAConsoleAddressNames(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	page := p.console("/stations?station=plc&field=max_registers")
	require.NoError(t, page.Until("document.activeElement?.closest('[data-field=max_registers]')"))
	require.NoError(t, page.Wait("[data-field=max_registers] input"))
	require.NoError(t, page.Go(p.service.URL+"/links?link=gate&do=scan"))
	require.NoError(t, page.Wait("[data-test=scan-start]"))
	require.NoError(t, page.Until("location.search === '?link=gate'"))
	require.NoError(t, page.Go(p.service.URL+"/points?point=nope"))
	shows(t, page, "[data-test=missing]", "no point nope")
}
