package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/browser"
)

// complaints runs the rules of accessibility over what a page shows, all of them or some, and gives what is serious.
func complaints(t *testing.T, page *browser.Page, rules, which string) string {
	t.Helper()
	require.NoError(t, page.Run(rules))
	require.NoError(t, page.Run(`document.getElementById('complaints')?.remove(); axe.run(document, {resultTypes: ['violations']`+which+`}).then((r) => {
		const e = document.createElement('pre')
		e.id = 'complaints'
		e.textContent = r.violations.filter((v) => ['serious', 'critical'].includes(v.impact)).map((v) => v.id + ': ' + v.nodes.slice(0, 4).map((n) => n.target.join(' ') + ' ' + n.failureSummary.split('\n').slice(1, 2).join(' ')).join(' | ')).join('\n') || 'none'
		document.body.append(e)
	})`))
	require.NoError(t, page.Wait("#complaints"))
	text, err := page.Text("#complaints")
	require.NoError(t, err)
	require.NoError(t, page.Run(`document.getElementById('complaints').remove()`))
	return strings.TrimSpace(text)
}

// Every page, form and panel, in both looks, is free of what makes it unusable for some.
func TestTheConsoleIsAccessible(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	rules, err := os.ReadFile(filepath.Join("..", "..", "..", "web", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	for _, args := range [][]string{{"version", "add", "day-1"}, {"point", "set", "gate/level", "--unit", "m", "--propose", "Metres"}, {"point", "set", "gate/level", "--unit", "cm"}, {"note", "add", "point", "gate/level", "look again"},
		{"station", "set", "plc", "--record", "true"}, {"point", "set", "gate/level", "--limits", "{high: 10}"}, {"board", "make", "plc"}, {"template", "make", "plc-kind", "--station", "plc"}} {
		require.Equal(t, 0, p.run(args...).code)
	}
	page := p.console("/overview")
	for look, which := range map[string]string{"light": "", "dark": ", runOnly: ['color-contrast']"} { // all else is as it is in light
		require.NoError(t, page.Run("localStorage.setItem('look', '"+look+"')"))
		for _, c := range []struct{ path, wait string }{
			{"/overview", "[data-test=overview] tbody tr"},
			{"/begin", "[data-test=have-network]"},
			{"/links", ".el-table__row"},
			{"/links?new=link", "[data-test=save]"},
			{"/links?link=gate", "[data-test=save]"},
			{"/stations", ".el-table__row"},
			{"/stations?station=plc", "[data-test=save]"},
			{"/templates", "[data-test=template-points]"},
			{"/points", ".rgRow"},
			{"/points?point=gate/level", "[data-test=meaning]"},
			{"/live", ".el-table-v2__row"},
			{"/live?point=gate/level", "[data-test=quality]"},
			{"/boards?board=plc", "[data-display]"},
			{"/boards?board=plc&edit=yes", "[data-test=save-board]"},
			{"/trends?tags=gate/level,gate/open-cmd&last=300", "[data-test=trend-table]"},
			{"/alarms", "[data-alarm]"},
			{"/alarms?view=history", "[data-test=alarms] td"},
			{"/events", "h1"},
			{"/communication", ".el-table__row"},
			{"/findings", "[data-test=no-finding]"},
			{"/traffic", ".frame"},
			{"/changes", ".el-table__row"},
			{"/changes?view=versions&from=day-1", "[data-test=compared] .el-table__row"},
			{"/changes?view=proposals", "[data-test=proposal-conflicts]"},
			{"/notes", ".el-table__row"},
			{"/accounts", "[data-test=open]"},
		} {
			require.NoError(t, page.Go(p.service.URL+c.path))
			if !assert.NoError(t, page.Wait(c.wait), c.path) {
				continue
			}
			require.NoError(t, page.Until("document.getAnimations().every((a) => a.playState !== 'running' || a.effect.getTiming().iterations === Infinity)"))
			assert.Equal(t, "none", complaints(t, page, string(rules), which), "%s, %s", c.path, look)
		}
	}
}
