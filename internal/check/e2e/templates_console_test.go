package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
)

// choose picks an entry of a select.
func choose(page interface {
	Click(string) error
	Until(string) error
	Run(string) error
}, selector, entry string) error {
	if err := page.Click(selector + " .el-select__wrapper"); err != nil {
		return err
	}
	find := fmt.Sprintf(`[...document.querySelectorAll('.el-select-dropdown__item')].find(e => e.textContent.includes(%q) && e.offsetParent)`, entry)
	if err := page.Until("!!" + find); err != nil {
		return err
	}
	return page.Run(find + ".click()")
}

// From one station that works to others of its make, in the console: made, pasted, changed, own values given up.
func TestTemplatesInTheConsole(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(fans))
	_, err := p.client.Add(t.Context(), site.KindLink, map[string]any{"name": "hall", "host": "127.0.0.1", "port": number(t, p.port("fans")), "timeout": "300ms"})
	require.NoError(t, err)
	_, err = p.client.Add(t.Context(), site.KindStation, map[string]any{"name": "fan-1", "link": "hall", "unit": 1, "notation": "ref6", "order": "CDAB", "poll": "500ms"})
	require.NoError(t, err)
	for tag, fields := range map[string]map[string]any{
		"hall/fan1/speed": {"address": "400001", "type": "int16", "scaling": map[string]any{"factor": 0.1}, "unit": "rpm", "decimals": 1},
		"hall/fan1/power": {"address": "400002", "type": "float32", "unit": "kW"},
	} {
		fields["tag"], fields["station"] = tag, "fan-1"
		_, err = p.client.Add(t.Context(), site.KindPoint, fields)
		require.NoError(t, err)
	}
	page := p.console("/templates?new=template")
	steps := []func() error{
		func() error { return choose(page, "[data-test=make-station]", "fan-1") },
		func() error { return page.Fill("input[name=template-name]", "fan") },
		func() error { return page.Fill("input[name=template-identifies]", "*Fan drive*") },
		func() error { return page.Click("[data-test=make-save]") },
		func() error {
			return page.Until(`document.querySelector('[data-test=template-points]')?.textContent.includes('{tag}/speed')`)
		},

		func() error { return page.Click("[data-test=stations-list]") },
		func() error {
			return page.Fill("[data-test=stations-paste]", "name;unit;tag\nfan-2;2;hall/fan2\nfan-3;three;hall/fan3\n")
		},
		func() error { return choose(page, "[data-test=stations-link]", "hall") },
		func() error {
			return page.Until(`document.querySelector('[data-test=stations-faults]')?.textContent.includes('"three" is no address')`)
		},
		func() error {
			return page.Fill("[data-test=stations-paste]", "name;unit;tag\nfan-2;2;hall/fan2\nfan-3;3;hall/fan3\n")
		},
		func() error {
			return page.Until(`document.querySelector('[data-test=stations-sum]')?.textContent.includes('2 to add')`)
		},
		func() error { return page.Click("[data-test=stations-take]") },
		func() error {
			return page.Until(`document.querySelector('#tab-stations')?.textContent.includes('3')`)
		},
	}
	for i, step := range steps {
		require.NoError(t, step(), "step %d", i)
	}
	p.await("hall/fan2/speed", func(r api.Reading) bool { return r.Text == "-20.0" && said(r) == "good" })
	require.Zero(t, p.run("point", "set", "hall/fan2/power", "--unit", "W").code)

	steps = []func() error{
		func() error { return page.Click("[data-test=edit]") },
		func() error { return page.Wait("[data-test=text]") },
		func() error {
			return page.Run(`{ const a = document.querySelector('[data-test=text]'); const e = a.tagName === 'TEXTAREA' ? a : a.querySelector('textarea'); window.typed = (f) => { e.value = f(e.value); e.dispatchEvent(new Event('input', { bubbles: true })) }; window.typed((v) => v.replace('type: int16', 'type: int17')) }`)
		},
		func() error {
			return page.Until(`document.querySelector('[data-test=text-faults]')?.textContent.includes('line')`)
		},
		func() error {
			return page.Run(`window.typed((v) => v.replace('type: int17', 'type: int16').replace('kW', 'MW').replace('rpm', '1/min'))`)
		},
		func() error {
			return page.Until(`document.querySelector('[data-test=text-sum]')?.textContent.includes('6 to change')`)
		}, // the template, three speeds, two powers
		func() error { return page.Click("[data-test=text-save]") },
		func() error { return page.Until(`!document.querySelector('[data-test=text-save]')`) },
		func() error { return page.Go(p.service.URL + "/templates?template=fan&part=stations&station=fan-2") },
		func() error {
			return page.Until(`document.querySelector('[data-test=own]')?.textContent.includes('hall/fan2/power')`)
		},
		func() error { return page.Click("[data-test=conform]") },
		func() error {
			return page.Until(`document.querySelector('[data-test=own]')?.textContent.includes('All is as in the template')`)
		},

		func() error { return page.Go(p.service.URL + "/stations?station=fan-1&probe=now") },
		func() error { return page.Click("[data-test=probe]") },
		func() error {
			return page.Until(`document.querySelector('[data-test=probe-templates]')?.textContent.includes('fan')`)
		},

		func() error { return page.Go(p.service.URL + "/stations?new=station") },
		func() error { return choose(page, "[data-test=template]", "fan") },
		func() error { return page.Fill("input[name=name]", "fan-4") },
		func() error { return page.Fill("input[name=value-tag]", "hall/fan4") },
		func() error { return page.Click("[data-test=save]") },
		func() error {
			return page.Until(`document.body.textContent.includes('is taken by station fan-1')`)
		},
	}
	for i, step := range steps {
		require.NoError(t, step(), "step %d", i)
	}
	p.await("hall/fan2/power", func(r api.Reading) bool { return r.Unit == "MW" })
	p.await("hall/fan3/speed", func(r api.Reading) bool { return r.Unit == "1/min" })
	data, err := os.ReadFile(filepath.Join("..", "..", "..", "demo", "lists", "fan-template.yaml"))
	require.NoError(t, err)
	require.NoError(t, page.Go(p.service.URL+"/templates"))
	require.NoError(t, page.Wait("[data-test=templates]"))
	require.NoError(t, page.Run(fmt.Sprintf(`{ const input = document.querySelector('.page-bar input[type=file]'); const files = new DataTransfer(); files.items.add(new File([%q], 'fan-template.yaml')); input.files = files.files; input.dispatchEvent(new Event('change', { bubbles: true })) }`, string(data))))
	require.NoError(t, page.Until(`document.querySelector('[data-test=text-sum]')?.textContent.includes('1 to add')`))
	require.NoError(t, page.Click("[data-test=text-save]"))
	shows(t, page, "[data-test=templates]", "fan-x2")
	templates, err := p.client.Templates(t.Context())
	require.NoError(t, err)
	assert.Len(t, templates, 2)
}
