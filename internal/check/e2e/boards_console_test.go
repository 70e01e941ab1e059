package e2e

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A board is begun, copied for other tags and taken away; an alarm is shelved and comes back; a trend is taken along as figures and as a picture.
func TestBoardsShelvingAndFiguresInTheConsole(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.Zero(t, p.run("station", "set", "plc", "--record", "true").code)
	require.Zero(t, p.run("point", "set", "gate/setpoint", "--limits", "{high: 50}").code)
	page := p.console("/boards")
	does := func(steps ...error) {
		t.Helper()
		for i, err := range steps {
			require.NoError(t, err, "step %d", i)
		}
	}
	menu := func(button, word string) { // chooses from what a button opens
		t.Helper()
		item := fmt.Sprintf(`[...document.querySelectorAll('.el-dropdown-menu__item')].find(e => e.textContent.trim().startsWith(%q) && e.offsetParent)`, word)
		does(page.Click(button), page.Until("!!"+item), page.Run(item+".click()"))
	}
	says := func(text string) {
		t.Helper()
		does(page.Fill(".el-message-box__input input", text), page.Click(".el-message-box__btns .el-button--primary"), page.Until(`![...document.querySelectorAll('.el-message-box__input input')].some(e => e.value === '`+text+`' && e.offsetParent)`))
	}
	has := func(name string) bool { return p.run("board", "show", name).code == 0 }
	menu("[data-test=more]", "New board")
	says("mine")
	does(page.Wait("[data-test=save-board]"))
	p.until("the board", func() bool { return has("mine") })
	require.Zero(t, p.run("board", "set", "mine", "--displays", "[{show: figure, tag: gate/setpoint, x: 0, y: 0, w: 4, h: 2}]").code)
	does(page.Go(p.service.URL + "/boards?board=mine"))
	menu("[data-test=more]", "Duplicate")
	says("theirs")
	says("gate/setpoint=gate/level")
	p.until("the copy", func() bool {
		return strings.Contains(p.run("board", "show", "theirs", "-o", "json").out, "gate/level")
	})
	does(page.Until(`new URLSearchParams(location.search).get('board') === 'theirs'`))
	menu("[data-test=more]", "Remove")
	does(page.Click(".el-message-box__btns .el-button--primary"))
	p.until("the copy is gone", func() bool { return !has("theirs") && has("mine") })

	require.Zero(t, p.run("write", "gate/setpoint", "60").code)
	does(page.Go(p.service.URL+"/alarms"), page.Wait(`[data-alarm="gate/setpoint high"]`))
	menu(`[data-alarm="gate/setpoint high"] [data-test=shelve]`, "15 min")
	says("under repair")
	does(page.Until(`!document.querySelector('[data-alarm="gate/setpoint high"]')`), page.Click("[data-test=view-shelved]"), page.Click(`[data-alarm="gate/setpoint high"] [data-test=unshelve]`))
	does(page.Until(`!document.querySelector('[data-alarm="gate/setpoint high"]')`), page.Run(`document.querySelector('.page-bar input[type=radio]').click()`), page.Wait(`[data-alarm="gate/setpoint high"]`))

	does(page.Go(p.service.URL+"/trends?tags=gate/setpoint&last=300"), page.Wait("[data-test=csv]"), page.Until(`!!document.querySelector('canvas')`))
	does(page.Run(`window.saved = ''; HTMLAnchorElement.prototype.click = function () { window.saved = this.download + ' ' + this.href.slice(0, 14) }`), page.Until(`!document.querySelector('[data-test=picture]').disabled`), page.Click("[data-test=picture]"))
	does(page.Until(`window.saved.endsWith('data:image/png') || window.saved.includes('blob:')`))
	require.NoError(t, page.Run(`document.body.insertAdjacentHTML('beforeend', '<p id=where></p>'); document.querySelector('#where').textContent = document.querySelector('[data-test=csv]').href`))
	where, err := page.Text("#where")
	require.NoError(t, err)
	response, err := http.Get(where)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Equal(t, 200, response.StatusCode, "%s", text)
	assert.Contains(t, string(text), "gate/setpoint")
}
