package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/site"
)

// What one person does with an account of one's own: a token that works, another password, a second factor, and the way out.
func TestAnAccountOfOnesOwnInTheConsole(t *testing.T) {
	t.Parallel()
	p := peopled(t)
	does := func(steps ...error) {
		t.Helper()
		for i, err := range steps {
			require.NoError(t, err, "step %d", i)
		}
	}
	bob := p.as("bob", "/accounts?part=tokens")
	does(bob.Click("[data-test=add-token]"), bob.Fill("[data-test=token-name]", "display"), bob.Click("[data-test=save-token]"), bob.Wait("[data-test=token]"))
	secret, err := bob.Text("[data-test=token]")
	require.NoError(t, err)
	_, err = client.New(p.service.URL, "display").With(client.Access{Token: strings.TrimSpace(secret)}).Points(t.Context(), "plc")
	require.NoError(t, err)

	does(bob.Click("[data-test=part-own]"), bob.Fill("[data-test=old]", "not the right one"), bob.Fill("[data-test=new]", password+" and more"), bob.Fill("[data-test=again]", password+" and more"), bob.Click("[data-test=change-password]"))
	does(bob.Until(`!!document.querySelector('.own .el-form-item__error')`))
	does(bob.Fill("[data-test=old]", password), bob.Fill("[data-test=again]", "something else"), bob.Click("[data-test=change-password]"))
	does(bob.Until(`!!document.querySelector('.own .el-form-item__error')`))
	does(bob.Fill("[data-test=again]", password+" and more"), bob.Click("[data-test=change-password]"))
	does(bob.Until(`document.querySelectorAll('.el-message--success').length > 0`))
	_, err = p.client.SignIn(t.Context(), "bob", password+" and more", "", api.NewToken{Name: "try"})
	require.NoError(t, err)

	does(bob.Click("[data-test=factor]"), bob.Until(`document.querySelector('[data-test=factor-picture]')?.naturalWidth > 0`))
	shared, err := bob.Text(".own .secret")
	require.NoError(t, err)
	code, err := totp.GenerateCode(strings.TrimSpace(shared), time.Now())
	require.NoError(t, err)
	does(bob.Fill("[data-test=factor-code]", code), bob.Run(`[...document.querySelectorAll('.own button[type=submit]')].at(-1).click()`))
	p.until("the second factor", func() bool {
		_, err := p.client.SignIn(t.Context(), "bob", password+" and more", "", api.NewToken{Name: "try"})
		return err != nil
	})
	does(bob.Go(p.service.URL+"/accounts?part=own"), bob.Until(`!!document.querySelector('[data-test=factor]')`))
}

// A note at a point, a state that is named and compared, a draft that becomes a proposal, is talked about and dropped.
func TestNotesVersionsAndProposalsInTheConsole(t *testing.T) {
	t.Parallel()
	p := peopled(t)
	does := func(steps ...error) {
		t.Helper()
		for i, err := range steps {
			require.NoError(t, err, "step %d", i)
		}
	}
	ann := p.as("ann", "/points?point=gate/level")
	does(ann.Fill("[data-test=note-text]", "cable swapped, check on Monday"), ann.Click("[data-test=note-add]"))
	shows(t, ann, "[data-test=note]", "cable swapped, check on Monday")
	does(ann.Go(p.service.URL+"/live?search=gate/level"), ann.Wait("[data-test=note-mark]"))
	does(ann.Go(p.service.URL + "/notes"))
	shows(t, ann, ".page", "cable swapped, check on Monday")
	does(ann.Click(".el-table__body .el-checkbox__inner"))
	does(ann.Until(`![...document.querySelectorAll('.page td')].some(e => e.textContent.includes('cable swapped'))`))

	does(ann.Go(p.service.URL+"/changes?view=versions"), ann.Fill("[data-test=version-name]", "day-1"), ann.Click("[data-test=version-add]"), ann.Wait("[data-test=compare-day-1]"))
	_, err := p.client.Set(t.Context(), site.KindPoint, "gate/level", map[string]any{"description": "after day 1"})
	require.NoError(t, err)
	does(ann.Click("[data-test=compare-day-1]"))
	shows(t, ann, "[data-test=compared]", "after day 1")
	does(ann.Click("[data-test=restore-day-1]"), ann.Wait(".el-message-box__btns"), ann.Click(".el-message-box__btns .el-button--primary"))
	p.until("the state of day 1", func() bool {
		list, err := p.client.Points(t.Context(), "", "gate/level")
		return err == nil && list[0].Description != "after day 1"
	})

	does(ann.Go(p.service.URL + "/points"))
	anns := sheet{t, ann, p}
	anns.opened()
	anns.types("gate/level", "description", "proposed")
	does(ann.Until(`document.querySelector('[data-test=sheet-counts]')?.textContent.includes('1')`), ann.Click("[data-test=sheet-undo]"))
	anns.shows("gate/level", "description", "")
	does(ann.Click("[data-test=sheet-redo]"))
	anns.shows("gate/level", "description", "proposed")
	does(ann.Until(`!document.querySelector('[data-test=sheet-propose]').disabled`), ann.Click("[data-test=sheet-propose]"), ann.Fill(".el-message-box__input input", "Words for the level"), ann.Click(".el-message-box__btns .el-button--primary"))
	p.until("the proposal", func() bool {
		list, err := p.client.Proposals(t.Context(), "open")
		return err == nil && len(list) == 1 && list[0].Title == "Words for the level"
	})
	does(ann.Go(p.service.URL + "/changes?view=proposals&proposal=1"))
	shows(t, ann, "[data-test=proposal]", "proposed")
	does(ann.Fill("[data-test=proposal-say]", "not like that"), ann.Run(`[...document.querySelectorAll('[data-test=proposal] form button')].at(-1).click()`))
	shows(t, ann, "[data-test=proposal] .comments", "not like that")
	does(ann.Click("[data-test=proposal-drop]"), ann.Until(`!document.querySelector('[data-test=proposal-drop]')`))
	list, err := p.client.Points(t.Context(), "", "gate/level")
	require.NoError(t, err)
	assert.NotEqual(t, "proposed", list[0].Description)
}
