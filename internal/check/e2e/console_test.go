package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/check/browser"
	"arithmon/internal/rig"
)

// console opens a page of the plant's console.
func (p *plant) console(path string) *browser.Page {
	p.t.Helper()
	page, err := browser.Open(p.t.Context(), 1280, 800)
	require.NoError(p.t, err)
	p.t.Cleanup(page.Close)
	require.NoError(p.t, page.Go(p.service.URL+path))
	return page
}

// shows waits until an element's text has a part.
func shows(t *testing.T, page *browser.Page, selector, part string) {
	t.Helper()
	require.NoError(t, page.Until(fmt.Sprintf("[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))", selector, part)))
}

func TestConsoleFromTheFirstLinkToARightValue(t *testing.T) {
	t.Parallel()
	p := start(t)
	page := p.console("/")
	steps := []func() error{
		func() error { return page.Wait("[data-test=begin]") }, // an empty site says where to begin
		func() error { return page.Go(p.service.URL + "/links?new=link") },
		func() error { return page.Fill("input[name=name]", "gate") },
		func() error { return page.Fill("input[name=host]", "127.0.0.1") },
		func() error { return page.Fill("input[name=port]", p.port("gate")) },
		func() error { return page.Fill("input[name=timeout]", "200") },
		func() error { return page.Click("[data-test=save]") },
		// The service's message stands beside its field.
		func() error { return page.Until(`document.body.textContent.includes('write a number with its unit')`) },
		func() error { return page.Fill("input[name=timeout]", "200ms") },
		func() error { return page.Click("[data-test=save]") },
		func() error {
			return page.Until(`document.querySelector('.el-table__row')?.textContent.includes('gate')`)
		},

		func() error { return page.Go(p.service.URL + "/stations?new=station") },
		func() error { return page.Fill("input[name=name]", "plc") },
		func() error { return page.Fill("input[name=poll]", "200ms") },
		func() error { return page.Click("[data-test=save]") },
		func() error {
			return page.Until(`document.querySelector('.el-table__row')?.textContent.includes('plc')`)
		},
		func() error { return page.Click(".el-table__row") },
		func() error { return page.Click("[data-test=ask]") },
		func() error {
			return page.Until(`document.querySelector('[data-test=answer]')?.textContent.includes('unit 1 answers')`)
		},

		func() error { return page.Go(p.service.URL + "/points?new=point") },
		func() error { return page.Fill("input[name=tag]", "gate/level") },
		func() error { return page.Fill("input[name=address]", "hr:9x") },
		func() error { return page.Until(`document.body.textContent.includes('is no number')`) },
		func() error { return page.Fill("input[name=address]", "hr:9") },
		func() error {
			return page.Until(`document.querySelector('[data-test=meaning]')?.textContent.includes('reference 40010')`)
		},
		func() error { return page.Click("[data-test=type] .el-select__wrapper") },
		func() error {
			return page.Until(`[...document.querySelectorAll('.el-select-dropdown__item')].some(e => e.textContent === 'float32' && e.offsetParent)`)
		},
		func() error {
			return page.Run(`[...document.querySelectorAll('.el-select-dropdown__item')].find(e => e.textContent === 'float32' && e.offsetParent).click()`)
		},
		func() error { return page.Fill("input[name=decimals]", "1") },
		func() error { return page.Click("[data-test=save]") },
		func() error {
			return page.Until(`!!document.querySelector('[data-cell="gate/level tag"]')`)
		},

		func() error { return page.Go(p.service.URL + "/live?point=gate/level") },
		func() error {
			return page.Until(`document.querySelector('[data-test=value]')?.textContent.trim() === '0.0'`)
		}, // implausible
		func() error {
			return page.Until(`document.querySelector('[data-cell=float32-CDAB]')?.textContent.trim() === '25.0'`)
		},
		func() error { return page.Click("[data-cell=float32-CDAB]") },
		func() error { return page.Click("[data-test=take]") },
		func() error {
			return page.Until(`document.querySelector('[data-test=value]')?.textContent.trim() === '25.0'`)
		},
		func() error {
			return page.Until(`document.querySelector('[data-test=quality]')?.textContent.trim() === 'good'`)
		},
	}
	for i, step := range steps {
		require.NoError(t, step(), "step %d", i)
	}
	r := p.await("gate/level", func(r api.Reading) bool { return r.Text == "25.0" })
	assert.Equal(t, "good", said(r))
	records, err := p.client.Changes(t.Context(), "", "", 1)
	require.NoError(t, err)
	assert.Equal(t, "console", records[0].Who)
}

// Each kind of link, typed into its form, and a station on it that answers.
func TestConsoleAddsEveryKindOfLink(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ transport, framing string }{{"tcp", "rtu"}, {"udp", ""}, {"tls", ""}, {"serial", "ascii"}, {"dialup", ""}} {
		t.Run(c.transport, func(t *testing.T) {
			listen := "127.0.0.1:0"
			if c.transport == "serial" || c.transport == "dialup" {
				listen = ""
			}
			var p *plant
			if c.transport == "dialup" {
				p = dialled(t)
				_, err := p.client.Remove(t.Context(), "link", "line", true)
				require.NoError(t, err)
			} else {
				p = wired(t, c.transport, c.framing, listen)
			}
			page := p.console("/links?new=link")
			pick := func(field, value string) {
				require.NoError(t, page.Click("[data-test="+field+"] .el-select__wrapper"))
				item := fmt.Sprintf("[...document.querySelectorAll('.el-select-dropdown__item')].find(e => e.textContent.startsWith(%q) && e.offsetParent)", value)
				require.NoError(t, page.Until("Boolean("+item+")"))
				require.NoError(t, page.Run(item+".click()"))
			}
			fill := func(name, value string) { require.NoError(t, page.Fill("input[name="+name+"]", value)) }
			fill("name", "line")
			pick("transport", c.transport)
			if c.framing != "" {
				pick("framing", c.framing)
			}
			if listen == "" {
				require.NoError(t, page.Fill("[data-test=device] input", p.rig.Address("line")))
				pick("device", p.rig.Address("line"))
			} else {
				fill("host", "127.0.0.1")
				fill("port", p.port("line"))
			}
			if c.transport == "tls" {
				fill("ca", file(t, "ca.pem", string(p.rig.CertificatePEM())))
			}
			require.NoError(t, page.Click("[data-test=save]"))
			shows(t, page, ".el-table__row", "over "+c.transport)
			st := map[string]any{"name": "one", "link": "line"}
			if c.transport == "dialup" {
				st["number"] = "100"
			}
			_, err := p.client.Add(t.Context(), "station", st)
			require.NoError(t, err)
			require.NoError(t, page.Go(p.service.URL+"/stations?station=one"))
			require.NoError(t, page.Click("[data-test=ask]"))
			shows(t, page, "[data-test=answer]", "unit 1 answers")
		})
	}
}

// Two people change one point: what only one of them changed stays, and where both did, the second one chooses.
func TestConsoleShowsAConflictWithBothValues(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	other := func(fields map[string]any) {
		_, err := p.client.Set(t.Context(), "point", "gate/level", fields)
		require.NoError(t, err)
	}
	open := func() *browser.Page {
		page := p.console("/points?point=gate/level")
		require.NoError(t, page.Wait("input[name=unit]"))
		require.NoError(t, page.Until(`document.querySelector('input[name=unit]').value === '%'`))
		return page
	}
	saved := func(unit, description string) {
		require.Eventually(t, func() bool {
			points, err := p.client.Points(t.Context(), "", "gate/level")
			return err == nil && len(points) == 1 && points[0].Unit == unit && points[0].Description == description
		}, patience, pollEvery, "unit %s, description %s", unit, description)
	}
	page := open()
	other(map[string]any{"description": "by another"})
	require.NoError(t, page.Fill("input[name=unit]", "m"))
	require.NoError(t, page.Click("[data-test=save]"))
	saved("m", "by another")

	other(map[string]any{"unit": "%"})
	page = open()
	other(map[string]any{"unit": "cm"})
	require.NoError(t, page.Fill("input[name=unit]", "mm"))
	require.NoError(t, page.Click("[data-test=save]"))
	shows(t, page, "[data-test=conflict]", ": cm")
	shows(t, page, "[data-test=conflict]", ": mm")
	saved("cm", "by another") // nothing is saved yet
	require.NoError(t, page.Click("[data-test=conflict] .el-radio:last-child"))
	require.NoError(t, page.Click("[data-test=resolve]"))
	saved("mm", "by another")
}

func TestConsoleUndoesAChange(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Set(t.Context(), "point", "gate/level", map[string]any{"unit": "m"})
	require.NoError(t, err)
	page := p.console("/changes")
	shows(t, page, ".el-table__row", "unit: % → m")
	require.NoError(t, page.Click(".el-table__row button"))
	shows(t, page, ".el-message-box", "change point gate/level will be undone")
	require.NoError(t, page.Click(".el-message-box .el-button--primary"))
	shows(t, page, ".el-table__row", "unit: m → %")
	point, err := p.client.Points(t.Context(), "", "gate/level")
	require.NoError(t, err)
	assert.Equal(t, "%", point[0].Unit)
}

func TestConsoleWritesAfterAskingOnce(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/setpoint", "good")
	page := p.console("/live?point=gate/setpoint")
	require.NoError(t, page.Fill("input[name=write-value]", "55"))
	require.NoError(t, page.Click("[data-test=write]"))
	shows(t, page, ".el-message-box", "55 % will be sent to hr:20 of station plc, once, and read back.")
	words, err := p.rig.Registers("gate", 1, 20, 1)
	require.NoError(t, err)
	assert.Equal(t, uint16(100), words[0], "nothing is sent before the response")
	require.NoError(t, page.Click(".el-message-box .el-button--primary"))
	shows(t, page, "[data-test=outcome]", "wrote 55; reads back 55")
	words, err = p.rig.Registers("gate", 1, 20, 1)
	require.NoError(t, err)
	assert.Equal(t, uint16(550), words[0])
	require.NoError(t, page.Go(p.service.URL+"/changes?view=writes"))
	shows(t, page, ".el-table__row", "gate/setpoint")
}

func TestConsoleShowsAFailureAsItIs(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	page := p.console("/live?point=gate/level")
	shows(t, page, "[data-test=quality]", "good")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Drop: true}))
	shows(t, page, "[data-test=quality]", "bad (timeout)")
	shows(t, page, ".side", "last good value")
	shows(t, page, ".el-table-v2__row", "(25.0)")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{}))
	shows(t, page, "[data-test=quality]", "good")

	p.rig.Cut("bus")
	require.NoError(t, page.Go(p.service.URL+"/overview"))
	shows(t, page, ".why", "connection refused")
	shows(t, page, ".total.bad", "2 bad")
}

func TestConsoleWithTwentyThousandPoints(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	var many strings.Builder
	many.WriteString("arithmon: 1\npoints:\n")
	for i := range 20000 {
		fmt.Fprintf(&many, "- {tag: many/%05d, station: plc, address: hr:%d, type: uint16, poll: 1h}\n", i, i%40)
	}
	_, err := p.client.Apply(t.Context(), "many.yaml", []byte(many.String()), false, false)
	require.NoError(t, err)
	page := p.console("/points")
	shows(t, page, "[data-test=count]", "20005 of 20005")
	rows, err := page.Number("document.querySelectorAll('.rgRow').length")
	require.NoError(t, err)
	assert.Less(t, rows, 80.0, "only what is on screen is drawn")
	require.NoError(t, page.Fill("[data-test=search] input, input[data-test=search]", "many/19999"))
	shows(t, page, "[data-test=count]", "1 of 20005")
	shows(t, page, ".rgRow", "many/19999")
	require.NoError(t, page.Until("location.search.includes('many')"), "the address bar names what is on screen")

	require.NoError(t, page.Go(p.service.URL+"/live?search=many/12345"))
	shows(t, page, ".el-table-v2__row", "many/12345")
}
