package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
)

// An integrator sets a limit, sees the alarm on every page, acknowledges it, looks at how the value went, and makes a board from which it writes.
func TestWatchingInTheConsole(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.Equal(t, 0, p.run("station", "set", "plc", "--record", "true").code)
	page := p.console("/points?point=gate/setpoint")
	pick := func(selector, word string) error { // chooses from a list
		if err := page.Click(selector + " .el-select__wrapper"); err != nil {
			return err
		}
		item := fmt.Sprintf(`[...document.querySelectorAll('.el-select-dropdown__item')].find(e => e.textContent.trim() === %q && e.offsetParent)`, word)
		if err := page.Until("!!" + item); err != nil {
			return err
		}
		return page.Run(item + ".click()")
	}
	does := func(steps ...func() error) {
		t.Helper()
		for i, step := range steps {
			require.NoError(t, step(), "step %d", i)
		}
	}
	does(
		func() error { return page.Fill("[data-test=limit-high] input", "50") },
		func() error { return page.Click("[data-test=save]") },
		func() error {
			return page.Until(`!document.querySelector('[data-test=limit-high]')?.offsetParent || document.body.textContent.includes('saved')`)
		},
	)
	require.Eventually(t, func() bool {
		return strings.Contains(p.run("point", "show", "gate/setpoint", "-o", "json").out, `"high": 50`)
	}, patience, pollEvery)
	require.Equal(t, 0, p.run("write", "gate/setpoint", "60").code)
	does(
		func() error { return page.Wait("[data-test=count-alarms]") },
		func() error { return page.Go(p.service.URL + "/alarms") },
		func() error { return page.Wait(`[data-alarm="gate/setpoint high"] [data-state=active]`) },
		func() error { return page.Click(`[data-alarm="gate/setpoint high"] [data-test=ack]`) },
		func() error { return page.Wait(`[data-alarm="gate/setpoint high"] [data-state=acknowledged]`) },
		func() error { return page.Click(`[data-test=view-history]`) },
	)
	shows(t, page, "[data-test=alarms] td", "acknowledged")

	// Who asks for it is told with a sound and a notice, wherever in the console they are.
	does(
		func() error {
			return page.Run(`window.told = []; window.rings = 0;
				window.Notification = class { static permission = 'granted'; static async requestPermission() { return 'granted' } constructor(title, o) { window.told.push(title + ': ' + o.body) } };
				window.AudioContext = class extends AudioContext { constructor() { super(); window.rings++ } }`)
		},
		func() error { return page.Click("[data-test=sound] input") },
		func() error { return page.Until("window.rings === 1") }, // so that one hears how it is
		func() error { return page.Click("[data-test=notices] input") },
		func() error { return page.Until("localStorage.getItem('alarm-notices') === 'on'") },
		func() error { return page.Run("document.querySelector('a[href=\"/live\"]').click()") },
		func() error { return page.Until("location.pathname === '/live'") },
	)
	for i, v := range []string{"40", "70"} {
		require.Equal(t, 0, p.run("write", "gate/setpoint", v).code)
		require.Eventually(t, func() bool {
			return strings.Contains(p.run("alarms", "-o", "json").out, `"active"`) == (i == 1)
		}, patience, pollEvery)
	}
	does(
		func() error { return page.Until("window.rings === 2 && window.told.length === 1") },
		func() error {
			return page.Until("window.told[0].startsWith('gate/setpoint: ') && window.told[0].includes('70')")
		},
		func() error {
			return page.Run("localStorage.removeItem('alarm-sound'); localStorage.removeItem('alarm-notices')")
		},
	)

	const window = `['from', 'to'].map((name) => new URLSearchParams(location.search).get(name)).map((v) => Number(v) || Date.parse(v))`
	// The trend says what it shows in its address, and of a point that is not recorded that it is not.
	does(
		func() error { return page.Go(p.service.URL + "/trends?tags=gate/setpoint,bus/one,@bus/state&last=300") },
		func() error { return page.Wait("[data-test=chart] canvas") },
	)
	shows(t, page, "[data-test=trend-table]", "70 %")
	shows(t, page, "[data-test=trend-table]", "not recorded; since")
	shows(t, page, `[data-lane="@bus/state"] .band`, "up")
	require.Equal(t, 0, p.run("write", "gate/setpoint", "95").code)
	require.NoError(t, page.Until(`Number(document.querySelector('[data-test=chart]').dataset.scales.match(/gate.setpoint \S+ ([\d.]+)/)?.[1]) > 95`), "the scale follows the values")
	shows(t, page, "[data-test=trend-table]", "11")
	does(
		func() error { return page.Click("[data-test=record]") },
		func() error { return page.Until(`document.querySelectorAll('[data-test=record]').length === 0`) },
		func() error {
			return page.Fill("[data-test=picker-search] input, input[data-test=picker-search]", "open-cmd")
		},
		func() error { return page.Drag(`[data-tag="gate/open-cmd"]`, "[data-test=chart]", 200, 60) },
		func() error { return page.Wait(`[data-lane="gate/open-cmd"] .band`) },
		func() error { return page.Click("[data-test=earlier]") },
		func() error { return page.Until(`location.search.includes('from=')`) },
		func() error { return page.Run("window.was = " + window) }, // dragged with the mouse, and made shorter with two fingers
		func() error { return page.Drag("[data-test=chart] .u-over", "[data-test=chart]", 200, 60) },
		func() error {
			return page.Until(`(([from, to]) => from > window.was[0] && Math.abs(to - from - (window.was[1] - window.was[0])) < 2000)(` + window + `)`)
		},
		func() error { return page.Pinch("[data-test=chart] .u-over", 3) },
		func() error {
			return page.Until(`(([from, to]) => to - from < (window.was[1] - window.was[0]) / 2)(` + window + `)`)
		},
		func() error { return page.Click("[data-test=scale]") },
		func() error { return page.Until(`location.search.includes('scale=unit')`) },
	)

	// A board of a station, changed, and written from.
	const place = `(({left, top, width, height}) => [left, top, width, height])(document.querySelector('[data-display="bus/two"]').getBoundingClientRect())`
	does(
		func() error { return page.Go(p.service.URL + "/boards") },
		func() error { return page.Click("[data-test=more]") },
		func() error {
			return page.Until(`[...document.querySelectorAll('.el-dropdown-menu__item')].some(e => e.textContent.includes('plc') && e.offsetParent)`)
		},
		func() error {
			return page.Run(`[...document.querySelectorAll('.el-dropdown-menu__item')].find(e => e.textContent.includes('plc')).click()`)
		},
		func() error { return page.Wait(`[data-display="gate/level"][data-quality=good]`) },
		func() error { return page.Click("[data-test=edit-board]") },
		func() error {
			return page.Fill("[data-test=picker-search] input, input[data-test=picker-search]", "two")
		},
		func() error { return page.Drag(`[data-tag="bus/two"]`, ".grid", 500, 300) },
		func() error { return page.Wait(`[data-test=display-form]`) },
		func() error { return pick("[data-test=show]", "bar") },
		func() error { return page.Wait(`[data-display="bus/two"] .straight`) },
		func() error { return page.Run(`window.was = ` + place) },
		func() error { return page.Drag(`[data-display="bus/two"]`, ".grid", 300, 420) },
		func() error {
			return page.Until(`(([x, y]) => x !== window.was[0] && y > window.was[1])(` + place + `)`)
		},
		func() error {
			return page.Drag(`.vgl-item:has([data-display="bus/two"]) .vgl-item__resizer`, ".grid", 600, 640)
		},
		func() error {
			return page.Until(`((now) => now[2] > window.was[2] && now[3] > window.was[3])(` + place + `)`)
		},
	)
	// Somebody else changes other displays meanwhile: what both did is there. What both changed alike is looked at before it is saved.
	other := func(change func(map[string]any)) {
		t.Helper()
		var board struct {
			Displays []map[string]any `json:"displays"`
		}
		require.NoError(t, json.Unmarshal([]byte(p.run("board", "show", "plc", "-o", "json").out), &board))
		for _, d := range board.Displays {
			change(d)
		}
		_, err := p.client.Set(t.Context(), site.KindBoard, "plc", map[string]any{"displays": board.Displays})
		require.NoError(t, err)
	}
	other(func(d map[string]any) {
		if d["tag"] == "gate/level" {
			d["show"] = "figure"
		}
	})
	does(
		func() error { return page.Click("[data-test=save-board]") },
		func() error { return page.Wait("[data-test=edit-board]") },
	)
	shown := p.run("board", "show", "plc", "-o", "yaml").out
	assert.Contains(t, shown, "tag: bus/two")
	assert.Contains(t, shown, "show: bar")
	assert.Regexp(t, `show: figure\n +tag: gate/level`, shown)
	does(
		func() error { return page.Click("[data-test=edit-board]") },
		func() error { return page.Drag(`[data-display="bus/two"]`, ".grid", 300, 700) },
	)
	other(func(d map[string]any) {
		if d["tag"] == "bus/two" {
			d["y"] = 30
		}
	})
	does(
		func() error { return page.Click("[data-test=save-board]") },
		func() error { return page.Wait("[data-test=both]") },
		func() error {
			return page.Until(`document.querySelector('[data-test=both]').textContent.includes('bus/two, y: 30')`)
		},
		func() error { return page.Click("[data-test=save-board]") },
		func() error { return page.Wait("[data-test=edit-board]") },
		func() error { return page.Click(`[data-display="gate/open-cmd"] [role=switch]:not([disabled])`) },
		func() error { return page.Wait(".el-message-box__btns .el-button--primary") },
		func() error { return page.Click(".el-message-box__btns .el-button--primary") },
		func() error { return page.Wait(`[data-display="gate/open-cmd"] [role=switch][aria-checked=true]`) },
	)
	writes, err := p.client.Writes(t.Context(), "gate/open-cmd", 10)
	require.NoError(t, err)
	require.NotEmpty(t, writes)
	assert.Equal(t, "console", writes[0].Who)
	assert.NotContains(t, p.run("board", "show", "plc", "-o", "yaml").out, "y: 30")

	// What is not good is never shown as if it were; what is gone says so; a locked board writes nothing.
	p.rig.Cut("bus")
	does(
		func() error { return page.Wait(`[data-display="bus/two"][data-quality=bad]`) },
		func() error {
			return page.Until(`document.querySelector('[data-display="bus/two"] .value').textContent.includes('(22)')`)
		},
	)
	require.Equal(t, 0, p.run("point", "remove", "bus/two").code)
	shows(t, page, `[data-display="bus/two"]`, "there is no point bus/two")
	does(
		func() error { return page.Click("[data-test=lock]") },
		func() error { return page.Wait(`[data-display="gate/open-cmd"] [role=switch][disabled]`) },
	)
	assert.False(t, strings.Contains(p.run("board", "show", "plc").out, "locked  false"))
}
