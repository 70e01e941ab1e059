package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/check/browser"
	"arithmon/internal/core/access"
	"arithmon/internal/core/site"
)

// peopled is a furnished plant with accounts ann (admin), bob (engineer), eve (viewer) and dan (operator of gate/*).
func peopled(t *testing.T) *plant {
	t.Helper()
	p := furnished(t)
	admin := access.Principal{Account: "test", Role: access.Admin}
	for _, a := range []struct {
		name string
		role access.Role
		only access.Limits
	}{{"ann", access.Admin, nil}, {"bob", access.Engineer, nil}, {"eve", access.Viewer, nil}, {"dan", access.Operator, access.Limits{"gate/*"}}} {
		require.NoError(t, p.service.Accounts.Add(t.Context(), admin, a.name, password, a.role, a.only))
	}
	made, err := p.client.SignIn(t.Context(), "ann", password, "", api.NewToken{Name: "test"})
	require.NoError(t, err)
	p.client = p.client.With(client.Access{Token: made.Secret})
	return p
}

// as opens a page of the console and signs in.
func (p *plant) as(name, path string) *browser.Page {
	p.t.Helper()
	page := p.console(path)
	require.NoError(p.t, page.Fill("[data-test=account]", name))
	require.NoError(p.t, page.Fill("[data-test=password]", password))
	require.NoError(p.t, page.Click("[data-test=sign-in-go]"))
	shows(p.t, page, "[data-test=me]", name)
	return page
}

// Two people in two browsers: each sees the other, and what the other finishes; a merge, a conflict that is chosen, and a proposal of a third who
// may only look.
func TestTwoPeopleInTheConsole(t *testing.T) {
	t.Parallel()
	p := peopled(t)
	field := func(name, want string) {
		t.Helper()
		require.Eventually(t, func() bool {
			text, err := p.client.Show(t.Context(), site.KindPoint, "gate/level")
			var fields map[string]any
			return err == nil && json.Unmarshal(text, &fields) == nil && fields[name] == want
		}, patience, pollEvery, "%s %s", name, want)
	}
	save := func(page *browser.Page, input, value string) {
		t.Helper()
		require.NoError(t, page.Fill("[name="+input+"]", value))
		require.NoError(t, page.Click("[data-test=save]"))
	}
	ann := p.as("ann", "/points?point=gate/level")
	require.NoError(t, ann.Wait("input[name=unit]"))
	bob := p.as("bob", "/points?point=gate/level")
	require.NoError(t, bob.Wait("input[name=unit]"))
	shows(t, ann, "[data-test=people]", "bob")
	shows(t, ann, "[data-test=edits-too]", "bob")
	shows(t, bob, "[data-test=edits-too]", "ann")

	save(bob, "description", "by bob") // different fields: both
	field("description", "by bob")
	shows(t, ann, "[data-test=just-changed]", "bob")
	save(ann, "unit", "m")
	field("unit", "m")
	field("description", "by bob")

	require.NoError(t, bob.Go(p.service.URL+"/points?point=gate/level")) // the same field: the second one chooses
	require.NoError(t, bob.Until(`document.querySelector('input[name=unit]')?.value === 'm'`))
	require.NoError(t, ann.Go(p.service.URL+"/points?point=gate/level"))
	require.NoError(t, ann.Until(`document.querySelector('input[name=unit]')?.value === 'm'`))
	save(bob, "unit", "cm")
	field("unit", "cm")
	save(ann, "unit", "mm")
	shows(t, ann, "[data-test=conflict]", "bob: cm")
	require.NoError(t, ann.Click("[data-test=conflict] .el-radio:last-child"))
	require.NoError(t, ann.Click("[data-test=resolve]"))
	field("unit", "mm")

	require.NoError(t, ann.Go(p.service.URL+"/stations")) // a list that is open, within a moment, marked
	require.NoError(t, ann.Wait(".el-table__row"))
	require.NoError(t, bob.Go(p.service.URL+"/stations?station=one"))
	require.NoError(t, bob.Wait("[data-test=save]"))
	save(bob, "description", "the first one")
	shows(t, ann, ".el-table__row", "the first one")
	shows(t, ann, "[data-test=changed-by]", "bob")

	require.NoError(t, ann.Go(p.service.URL+"/points")) // in the sheet, who types where
	require.NoError(t, bob.Go(p.service.URL+"/points"))
	require.NoError(t, bob.Wait(cell("bus/one", "description")))
	anns := sheet{t, ann, p}
	anns.opened()
	anns.press("bus/one", "description")
	require.NoError(t, ann.Type("seen"))
	_, err := p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": "bus/aaa", "station": "one", "address": "hr:0", "type": "int16"}) // a row comes before it
	require.NoError(t, err)
	require.NoError(t, bob.Wait(cell("bus/aaa", "tag")))
	_, err = p.client.Set(t.Context(), site.KindPoint, "bus/one", map[string]any{"description": "theirs"}) // which is not seen while one types
	require.NoError(t, err)
	anns.says("sheet-news", "bus/one") // the newest of both

	// Nothing moved under the hand.
	require.NoError(t, ann.Until(`document.activeElement?.tagName === 'INPUT' && document.activeElement.value === 'seen'`))
	require.NoError(t, ann.Key(kb.Enter))
	anns.shows("bus/one", "description", "seen")
	anns.says("sheet-faults", `changed this to "theirs" since`)
	anns.shows("bus/aaa", "description", "")
	shows(t, bob, "[data-test=sheet-others]", "ann is at bus/one")
	require.NoError(t, bob.Wait(`[data-cell="bus/one tag"].theirs`))
	picture(t, bob, "at-the-sheet")
	require.NoError(t, ann.Click("[data-test=sheet-discard]"))

	eve := p.as("eve", "/points?point=gate/level") // who may only look proposes
	require.NoError(t, eve.Until(`document.querySelector('input[name=unit]')?.value === 'mm'`))
	save(eve, "unit", "km")
	require.NoError(t, eve.Fill(".el-message-box input", "Kilometres"))
	require.NoError(t, eve.Click(".el-message-box .el-button--primary"))
	shows(t, eve, ".el-message", "Kept as proposal 1")
	assert.Equal(t, "mm", p.field(site.KindPoint, "gate/level", "unit"))
	require.NoError(t, ann.Go(p.service.URL+"/changes?view=proposals"))
	shows(t, ann, "[data-test=proposal]", "km")
	picture(t, ann, "proposal")
	require.NoError(t, ann.Click("[data-test=proposal-take]"))
	field("unit", "km")
	shows(t, ann, "[data-test=proposal]", "taken over")
}

// picture keeps a picture where it is asked for.
func picture(t *testing.T, page *browser.Page, name string) {
	t.Helper()
	dir := os.Getenv("ARITHMON_PICTURES")
	if dir == "" {
		return
	}
	png, err := page.Picture()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o600))
}

// Signing in and out of the console, and what somebody who is limited to a part sees of it.
func TestSigningInToTheConsole(t *testing.T) {
	t.Parallel()
	p := peopled(t)
	page := p.console("/points")
	require.NoError(t, page.Fill("[data-test=account]", "dan"))
	require.NoError(t, page.Fill("[data-test=password]", "not the password"))
	require.NoError(t, page.Click("[data-test=sign-in-go]"))
	shows(t, page, "[data-test=sign-in-problem]", "account, password or code is wrong")
	require.NoError(t, page.Fill("[data-test=password]", password))
	require.NoError(t, page.Click("[data-test=sign-in-go]"))
	shows(t, page, "[data-test=me]", "operator")
	shows(t, page, "[data-test=count]", "3 of 3") // gate/* alone; and the page that was asked for
	shows(t, page, "[data-test=sheet]", "gate/level")
	hidden, err := page.Number("document.body.textContent.includes('bus/one') ? 1 : 0")
	require.NoError(t, err)
	assert.Zero(t, hidden)
	require.NoError(t, page.Go(p.service.URL+"/live?point=gate/setpoint"))
	p.awaitQuality("gate/setpoint", "good")
	require.NoError(t, page.Fill("input[name=write-value]", "55"))
	require.NoError(t, page.Click("[data-test=write]"))
	require.NoError(t, page.Click(".el-message-box .el-button--primary"))
	require.Eventually(t, func() bool {
		list, err := p.client.Writes(t.Context(), "gate/setpoint", 1)
		return err == nil && len(list) == 1 && list[0].Who == "dan" && list[0].Outcome == "done"
	}, patience, pollEvery)

	require.NoError(t, page.Click("[data-test=sign-out]"))
	require.NoError(t, page.Wait("[data-test=sign-in]"))
	ann := p.as("ann", "/accounts")
	require.NoError(t, ann.Click("[data-test=add-account]"))
	require.NoError(t, ann.Fill("[data-test=account-name]", "fay"))
	require.NoError(t, ann.Fill("[data-test=account-password]", "short"))
	require.NoError(t, ann.Click("[data-test=save-account]"))
	shows(t, ann, ".el-form-item__error", "at least 12")
	require.NoError(t, ann.Fill("[data-test=account-password]", password))
	require.NoError(t, ann.Click("[data-test=save-account]"))
	shows(t, ann, ".el-table__row", "fay")
	require.NoError(t, ann.Go(p.service.URL+"/accounts?part=audit"))
	require.NoError(t, ann.Click("[data-test=verify]"))
	shows(t, ann, "[data-test=verdict]", "as they were written")
	shows(t, ann, ".el-table__row", "wrong password")

	sessions, err := p.client.Sessions(t.Context())
	require.NoError(t, err)
	for _, s := range sessions { // ended by an admin: the page asks to sign in, over what is on it
		require.NoError(t, p.client.EndSession(t.Context(), s.ID))
	}
	require.NoError(t, ann.Wait("[data-test=sign-in]"))
}
