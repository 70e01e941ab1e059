package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/check/browser"
	"arithmon/internal/core/site"
)

// sheet is the page with points as a sheet.
type sheet struct {
	t *testing.T
	*browser.Page
	p *plant
}

func (p *plant) sheet(path string) sheet {
	s := sheet{p.t, p.console(path), p}
	s.opened()
	return s
}

func (s sheet) opened() {
	s.t.Helper()
	require.NoError(s.t, s.Until(`document.querySelector('[data-test=sheet]')?.dataset.loaded === 'yes' && document.querySelectorAll('.rgRow').length > 0`))
}

func cell(tag, field string) string { return fmt.Sprintf(`[data-cell="%s %s"]`, tag, field) }

// types puts a text into a cell, with the keyboard.
func (s sheet) types(tag, field, text string) {
	s.t.Helper()
	s.press(tag, field)
	s.fills(text)
}

// fills puts a text into the cell that has the focus.
func (s sheet) fills(text string) {
	s.t.Helper()
	require.NoError(s.t, s.Key(kb.Enter))
	require.NoError(s.t, s.Until(`document.activeElement?.tagName === 'INPUT' && !!document.activeElement.closest('revo-grid')`))
	require.NoError(s.t, s.Run(`document.activeElement.select()`))
	require.NoError(s.t, s.Type(text))
	require.NoError(s.t, s.Key(kb.Enter))
	require.NoError(s.t, s.Until(`!(document.activeElement?.tagName === 'INPUT' && document.activeElement.closest('revo-grid'))`))
}

// press puts the focus on a cell with the mouse, as a person does: again, where a value was painted just then.
func (s sheet) press(tag, field string) {
	s.t.Helper()
	require.Eventually(s.t, func() bool {
		s.rests()
		if s.Press(cell(tag, field)) != nil {
			return false
		}
		is, err := s.Number(fmt.Sprintf(`Number(document.querySelector('[data-test=sheet]').dataset.focus === %q)`, tag+" "+field))
		return err == nil && is == 1
	}, patience, 300*time.Millisecond, "the focus is not on %s %s", tag, field)
}

// rests waits until the sheet has come to rest.
func (s sheet) rests() {
	s.t.Helper()
	require.NoError(s.t, s.Until(`document.querySelector('[data-test=sheet]').dataset.rest !== 'no'`))
}

// focused waits until a cell has the focus.
func (s sheet) focused(tag, field string) {
	s.t.Helper()
	require.NoError(s.t, s.Until(fmt.Sprintf(`document.querySelector('[data-test=sheet]').dataset.focus === %q`, tag+" "+field)), "the focus is not on %s %s", tag, field)
}

func (s sheet) shows(tag, field, text string) {
	s.t.Helper()
	require.NoError(s.t, s.Until(fmt.Sprintf(`document.querySelector('%s')?.textContent.trim() === %q`, cell(tag, field), text)), "%s %s is not %s", tag, field, text)
}

func (s sheet) says(test, part string) {
	s.t.Helper()
	require.NoError(s.t, s.Until(fmt.Sprintf(`document.querySelector('[data-test=%s]')?.textContent.includes(%q)`, test, part)), "%s does not say %s", test, part)
}

func (s sheet) gone(test string) {
	s.t.Helper()
	require.NoError(s.t, s.Until(fmt.Sprintf(`!document.querySelector('[data-test=%s]')`, test)))
}

// paste gives the sheet a block, as a spreadsheet program put it into the clipboard.
func (s sheet) paste(text string) {
	s.t.Helper()
	require.NoError(s.t, s.Run(fmt.Sprintf(`{ const data = new DataTransfer(); data.setData('text/plain', %q); document.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true })) }`, text)))
}

// Two points change places: each has the other's tag and its own value, in one change that one undo takes back.
func TestTwoTagsChangePlaces(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("bus/one", "good")
	p.awaitQuality("bus/two", "good")
	was := [2]string{p.field(site.KindPoint, "bus/one", "station"), p.field(site.KindPoint, "bus/two", "station")}
	require.NotEqual(t, was[0], was[1])
	s := p.sheet("/points")
	s.types("bus/one", "tag", "bus/two")
	s.says("sheet-faults", `"bus/two"`)
	require.Eventually(t, func() bool { // the other row of that tag, which was not typed into
		s.rests()
		if s.Press(`[data-cell="bus/two tag"]:not(.typed)`) != nil {
			return false
		}
		is, err := s.Number(`Number(!!document.querySelector('[data-cell="bus/two tag"]:not(.typed)')?.closest('.rgRow')?.classList.contains('focused-rgRow'))`)
		return err == nil && is == 1
	}, patience, 300*time.Millisecond)
	s.fills("bus/one")
	s.gone("sheet-faults")
	s.says("sheet-counts", "2 changed")
	require.NoError(t, s.Chord("s", false))
	s.gone("sheet-counts")
	assert.Equal(t, was[1], p.field(site.KindPoint, "bus/one", "station"))
	assert.Equal(t, was[0], p.field(site.KindPoint, "bus/two", "station"))
	p.awaitQuality("bus/one", "good")
	s.shows("bus/one", "station", was[1])
	records, err := p.client.Changes(t.Context(), "", "", 4)
	require.NoError(t, err)
	for _, r := range records {
		assert.NotContains(t, r.Name+string(r.Before)+string(r.After), "~")
	}
	set := p.run("changes", "show", fmt.Sprint(records[0].ID)).out
	assert.Contains(t, set, "bus/one")
	assert.NotContains(t, set, "~", "what only makes way for another is not shown")
	require.Zero(t, p.run("undo", fmt.Sprint(records[0].ID)).code)
	assert.Equal(t, was[0], p.field(site.KindPoint, "bus/one", "station"))
	s.shows("bus/one", "station", was[0])
}

// Points are typed in place: what is wrong stands in its cell while one types, nothing is saved before all is right, undo goes back step by step,
// and what is beside the row is what the device says.
func TestTheSheet(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	s := p.sheet("/points")
	require.NoError(t, s.Until(`[...document.querySelectorAll('.live.good')].some(e => e.textContent.includes('25.0 %'))`))

	s.types("gate/level", "type", "flot32")
	s.says("sheet-faults", `"flot32" is not known`)
	require.NoError(t, s.Until(fmt.Sprintf(`document.querySelector('%s').classList.contains('wrong') && document.querySelector('%s').title.includes('not known')`, cell("gate/level", "type"), cell("gate/level", "type"))))
	require.NoError(t, s.Until(`document.querySelector('[data-test=sheet-save]').disabled`))
	s.types("gate/level", "type", "float32")
	s.gone("sheet-faults")
	s.gone("sheet-counts") // as it was: nothing is to be saved
	s.types("gate/level", "unit", "mm")
	s.types("gate/setpoint", "scaling", "x0.5")
	s.says("sheet-counts", "2 changed")
	assert.Equal(t, "%", p.field(site.KindPoint, "gate/level", "unit"), "nothing is saved yet")

	// It stays when the page is loaded anew.
	require.NoError(t, s.Go(p.service.URL+"/points"))
	s.opened()
	s.shows("gate/level", "unit", "mm")
	s.says("sheet-counts", "2 changed")
	// A key that is pressed on a cell begins what is typed into it, and is there once.
	s.press("gate/setpoint", "description")
	require.NoError(t, s.Type("sl"))
	require.NoError(t, s.Until(`document.activeElement?.tagName === 'INPUT' && document.activeElement.value === 'sl'`))
	require.NoError(t, s.Type("ow"))
	require.NoError(t, s.Key(kb.Enter))
	s.shows("gate/setpoint", "description", "slow")
	s.types("gate/level", "decimals", "2")
	s.press("gate/level", "unit")
	require.NoError(t, s.Chord("z", false))
	s.shows("gate/level", "decimals", "1")
	require.NoError(t, s.Chord("z", true))
	s.shows("gate/level", "decimals", "2")
	require.NoError(t, s.Chord("s", false))
	s.gone("sheet-counts")
	assert.Equal(t, "mm", p.field(site.KindPoint, "gate/level", "unit"))
	p.await("gate/setpoint", func(r api.Reading) bool { return r.Text == "50" })
	require.NoError(t, s.Until(`[...document.querySelectorAll('.live.good')].some(e => e.textContent.includes('25.00 mm'))`))
	records, err := p.client.Changes(t.Context(), "", "", 2)
	require.NoError(t, err)
	assert.Equal(t, records[0].Batch, records[1].Batch, "in one change")
}

// Blocks come from spreadsheet programs, rows are added and filled down, texts replaced, rows removed.
func TestBlocksOfTheSheet(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	s := p.sheet("/points")
	s.press("bus/two", "tag")
	require.NoError(t, s.Click("[data-test=sheet-add]"))
	require.NoError(t, s.Until(`!!document.querySelector('[data-cell=" tag"]')`))
	s.focused("", "tag")
	// A block whose columns are those of the sheet: tag, (value), station, address, type; what reaches beyond the last row becomes new ones.
	s.paste("new/a1\t\tplc\t40011\tuint16\r\nnew/a2\t\tplc\t40012\tuint16\r\n\"new/a3\"\t\tplc\t40013\tuint16\r\n")
	s.shows("new/a3", "address", "40013")
	s.says("sheet-counts", "3 new")

	// One cell is pasted into all that are selected; filling down goes on with names and addresses.
	s.press("new/a1", "unit")
	x := func(field string) int {
		n, err := s.Number(fmt.Sprintf(`document.querySelector('revo-grid').columns.findIndex(c => c.prop === %q)`, field))
		require.NoError(t, err)
		return int(n)
	}
	y := func(tag string) int {
		n, err := s.Number(fmt.Sprintf(`document.querySelector('revo-grid').source.findIndex(r => r.tag === %q)`, tag))
		require.NoError(t, err)
		return int(n)
	}
	selectBlock := func(tag, field string, rows int, to string) {
		s.rests()
		require.NoError(t, s.Run(fmt.Sprintf(`void document.querySelector('revo-grid').setCellsFocus({ x: %d, y: %d }, { x: %d, y: %d })`, x(field), y(tag), x(to), y(tag)+rows-1)))
		s.focused(tag, field)
		require.NoError(t, s.Until(fmt.Sprintf(`[...document.querySelectorAll('.selection-border-range')].some(e => e.getBoundingClientRect().height >= %d)`, 28*rows-6)))
	}
	selectBlock("new/a1", "unit", 3, "unit")
	s.paste("kPa")
	s.shows("new/a3", "unit", "kPa")
	s.types("new/a1", "type", "float32")
	s.types("new/a1", "address", "40021")
	selectBlock("new/a1", "address", 3, "type")
	require.NoError(t, s.Chord("d", false))
	s.shows("new/a2", "type", "float32")
	s.shows("new/a2", "address", "40023")
	s.shows("new/a3", "address", "40025")
	require.NoError(t, s.Click("[data-test=find]"))
	require.NoError(t, s.Fill("input[name=find]", "new/A"))
	require.NoError(t, s.Fill("input[name=put]", "tank/p"))
	s.says("found", "3 cells")
	require.NoError(t, s.Click("[data-test=replace-all]"))
	s.shows("tank/p2", "address", "40023")
	selectBlock("gate/open-cmd", "tag", 1, "tag")
	require.NoError(t, s.Click("[data-test=sheet-remove]"))
	s.says("sheet-counts", "0 changed, 3 new, 1 to remove")
	require.NoError(t, s.Click("[data-test=sheet-save]"))
	s.gone("sheet-counts")
	points, err := p.client.Points(t.Context(), "")
	require.NoError(t, err)
	var tags []string
	for _, point := range points {
		tags = append(tags, point.Tag+" "+point.Address)
	}
	assert.Equal(t, "bus/one hr:0, bus/two hr:0, gate/level 40010, gate/setpoint 40021, tank/p1 40021, tank/p2 40023, tank/p3 40025", strings.Join(tags, ", "))
	p.awaitQuality("tank/p3", "good")
}

// Two people at one sheet: what the other changed meanwhile is told in its cell, and this person chooses.
func TestTwoAtOneSheet(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	s := p.sheet("/points")
	s.types("gate/level", "unit", "mm")
	s.says("sheet-counts", "1 changed")
	require.Zero(t, p.run("point", "set", "gate/level", "--unit", "cm", "--description", "theirs").code)
	require.NoError(t, s.Click("[data-test=sheet-save]"))
	s.says("sheet-faults", `changed this to "cm" since`)
	assert.Equal(t, "cm", p.field(site.KindPoint, "gate/level", "unit"))
	require.NoError(t, s.Click("[data-test=sheet-theirs]"))
	s.gone("sheet-counts")
	s.shows("gate/level", "unit", "cm")
	s.types("gate/level", "unit", "mm")
	require.Zero(t, p.run("point", "set", "gate/level", "--unit", "dm").code)
	s.types("gate/setpoint", "decimals", "1") // asks anew
	s.says("sheet-faults", `"dm"`)
	require.NoError(t, s.Click("[data-test=sheet-force]"))
	s.gone("sheet-counts")
	assert.Equal(t, "mm", p.field(site.KindPoint, "gate/level", "unit"))
	assert.Equal(t, "theirs", p.field(site.KindPoint, "gate/level", "description"), "what was not touched here stays")
}
