package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"

	"arithmon/internal/core/access"
	"arithmon/internal/live/alarm"
	"arithmon/internal/live/control"
	modbusdriver "arithmon/internal/live/driver/modbus"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/live/recent"
	"arithmon/internal/live/recorder"
	"arithmon/internal/record/account"
	"arithmon/internal/record/alarmlog"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/history"
	"arithmon/internal/record/store"
)

// clock is a clock that a test sets.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) read() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

const goodPassword = "heron lifts 40 gates slowly"

// guardedServer is a server with an admin ann, whose token is shown, and a clock.
func guardedServer(t *testing.T) (s *Server, token func(name string, role access.Role, only ...string) string, at *clock) {
	t.Helper()
	at = &clock{now: time.Now()}
	e := engine.New(engine.Options{Drivers: []link.Driver{modbusdriver.Driver{}}})
	kept, err := store.Open(t.Context(), t.TempDir(), store.Options{Follow: e.Apply})
	require.NoError(t, err)
	t.Cleanup(func() { kept.Close() })
	e.Start(context.WithoutCancel(t.Context()), kept.Site())
	t.Cleanup(e.Stop)
	book, err := account.Open(t.Context(), kept.Database(), account.Options{Now: at.read})
	require.NoError(t, err)
	t.Cleanup(func() { book.Close() })
	recorded := history.Open(t.Context(), history.Options{Dir: t.TempDir()})
	t.Cleanup(func() { recorded.Close() })
	records, looked := recorder.Start(e.Tap, recorded, kept.Site()), recent.Start(e.Tap)
	t.Cleanup(func() {
		records.Stop()
		looked.Stop()
	})
	alarms := alarmlog.Open(kept.Database())
	watching, err := alarm.Start(t.Context(), alarm.Options{Tap: e.Tap, Log: alarms, Site: kept.Site()})
	require.NoError(t, err)
	t.Cleanup(func() { watching.Stop() })
	s = New(Options{History: recorded, Recorder: records, Recent: looked, Alarms: watching, AlarmLog: alarms, Store: kept, Engine: e, Control: control.New(e, kept, nil), Accounts: book, Audit: audit.Open(kept.Database()), Dir: t.TempDir(), Version: "test"})
	furnish(t, s)
	w := ask(s, "PATCH", "/api/v1/points/a/0", `{"description": "quarry-secret", "writable": true}`)
	require.Equal(t, 200, w.Code, w.Body)
	ann := access.Principal{Account: "ann", Role: access.Admin}
	require.NoError(t, book.Add(t.Context(), ann, "ann", goodPassword, access.Admin, nil))
	return s, func(name string, role access.Role, only ...string) string {
		_, secret, err := book.AddToken(t.Context(), ann, account.Token{Name: name, Role: role, Only: only, Ends: at.read().Add(24 * time.Hour)})
		require.NoError(t, err)
		return secret
	}, at
}

func bearer(token string) []string { return []string{"Authorization", "Bearer " + token} }

// bodies are requests that mean the point a/0 and its station, by route; others get an empty body.
var bodies = map[string]string{
	"POST /api/v1/write":                  `{"tag": "a/0", "value": 1}`,
	"POST /api/v1/stations/:name/write":   `{"range": "hr:0", "values": [1]}`,
	"POST /api/v1/stations/:name/ask":     `{"action": "set-time"}`,
	"POST /api/v1/change/points":          `{"tags": ["a/*"], "set": {"unit": "kW"}}`,
	"POST /api/v1/change/sheet":           `{"rows": [{"tag": "a/0", "cells": {"unit": "kW"}}]}`,
	"POST /api/v1/import/points":          "tag,station,address\na/0,plc,hr:7\n",
	"POST /api/v1/import/points/marked":   "tag,station,address\na/0,plc,hr:7\n",
	"POST /api/v1/apply":                  `{"arithmon": 1, "points": [{"tag": "a/0", "station": "plc", "address": "hr:9"}]}`,
	"POST /api/v1/points":                 `{"tag": "b/1", "station": "plc", "address": "hr:9"}`,
	"PUT /api/v1/points/*name":            `{"station": "plc", "address": "hr:9"}`,
	"PATCH /api/v1/points/*name":          `{"unit": "kW"}`,
	"POST /api/v1/stations":               `{"name": "other", "link": "gate", "unit": 9}`,
	"PATCH /api/v1/stations/:name":        `{"unit": 9}`,
	"PUT /api/v1/stations/:name":          `{"link": "gate", "unit": 9}`,
	"POST /api/v1/links":                  `{"name": "other", "host": "127.0.0.9"}`,
	"PATCH /api/v1/links/:name":           `{"host": "127.0.0.9"}`,
	"PUT /api/v1/links/:name":             `{"host": "127.0.0.9"}`,
	"POST /api/v1/templates":              `{"name": "other"}`,
	"PUT /api/v1/templates/:name":         `{}`,
	"POST /api/v1/stations/:name/conform": `{}`,
}

// named is a route's path with the names that are there.
func named(r route) string {
	path := strings.NewReplacer("*name", "a/0", ":line", "x", ":unit", "1", ":id", "1").Replace(r.path)
	name := "x"
	switch {
	case strings.Contains(path, "/stations/"):
		name = "plc"
	case strings.Contains(path, "/links/"):
		name = "gate"
	}
	return strings.ReplaceAll(path, ":name", name)
}

// Every route, with every role, with no account, with a token that has ended, and by somebody who is limited to another part.
func TestWhoMayUseEachRoute(t *testing.T) {
	s, token, at := guardedServer(t)
	ended := token("ended", access.Admin)
	at.pass(25 * time.Hour)
	tokens := map[access.Role]string{}
	for _, role := range access.Roles() {
		tokens[role] = token(string(role), role)
	}
	foreign := token("foreign", access.Engineer, "z/*")
	request := func(r route, header ...string) *httptest.ResponseRecorder {
		path := named(r)
		for _, p := range r.query {
			if p.name == "tag" && r.path != "/api/v1/readings" && r.path != "/api/v1/live" && r.path != "/api/v1/export/points" {
				path += "?tag=a/0"
			}
		}
		return ask(s, r.method, path, bodies[r.method+" "+r.path], header...)
	}
	before := s.store.Site()
	for _, r := range s.routes() {
		if r.path == "/api/v1/sign-in" {
			continue // which is 401 by itself
		}
		t.Run(r.method+" "+r.path, func(t *testing.T) {
			if r.needs == anyone {
				assert.Less(t, request(r).Code, 300)
				assert.Less(t, request(r, bearer(ended)...).Code, 300)
				return
			}
			nobody := request(r)
			assert.Equal(t, http.StatusUnauthorized, nobody.Code)
			assert.Contains(t, nobody.Body.String(), "sign in")
			assert.Contains(t, nobody.Header().Get("WWW-Authenticate"), "Bearer")
			late := request(r, bearer(ended)...)
			assert.Equal(t, http.StatusUnauthorized, late.Code)
			assert.Contains(t, late.Body.String(), "the token has ended")
			unknown := request(r, bearer("arithmon_nothing")...)
			assert.Equal(t, http.StatusUnauthorized, unknown.Code)
			for _, role := range access.Roles() {
				if role.Includes(r.needs.role) {
					continue // what they may is tried below, since it changes things
				}
				w := request(r, bearer(tokens[role])...)
				assert.Equal(t, http.StatusForbidden, w.Code, "%s: %s", role, w.Body)
				assert.Contains(t, w.Body.String(), "this needs")
			}
			other := request(r, bearer(foreign)...)
			assert.NotContains(t, other.Body.String(), "quarry-secret")
			if !access.Engineer.Includes(r.needs.role) || !r.needs.part {
				assert.Equal(t, http.StatusForbidden, other.Code, other.Body)
			} else if changes := r.method != "GET" && strings.Contains(r.path, "points") || strings.Contains(r.path, ":name") && strings.Contains(r.path, "stations"); changes {
				assert.GreaterOrEqual(t, other.Code, 400, "%s", other.Body)
			}
		})
	}
	for _, name := range []string{"a/0", "a/1"} {
		was, _ := before.Point(name)
		is, _ := s.store.Site().Point(name)
		assert.Equal(t, was, is, "nobody changed anything")
	}
	assert.Equal(t, before, s.store.Site())
	for _, r := range s.routes() {
		if strings.HasPrefix(r.path, "/api/v1/rig") || r.path == "/api/v1/sign-in" {
			continue
		}
		role := r.needs.role
		if role == access.Nobody {
			role = access.Viewer
		}
		w := request(r, bearer(tokens[role])...)
		if own := r.path == "/api/v1/me/password" || r.path == "/api/v1/me/factor"; own || r.method == "DELETE" && (r.path == "/api/v1/tokens/:name" || r.path == "/api/v1/sessions/:id") {
			continue // not with a token, or with one that may less than its account
		}
		assert.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, w.Code, "%s %s by a %s: %s", r.method, r.path, role, w.Body)
	}
}

// Who is limited to a part sees and changes that, and nothing else.
func TestAPartOfTheSite(t *testing.T) {
	s, token, _ := guardedServer(t)
	mine := bearer(token("mine", access.Engineer, "a/[12]", "a/1", "a/2"))
	count := func(path string) int { return strings.Count(ask(s, "GET", path, "", mine...).Body.String(), `"tag"`) }
	assert.Equal(t, 2, count("/api/v1/points"))
	assert.Equal(t, 2, count("/api/v1/readings"))
	assert.JSONEq(t, `{"branches": [{"path": "", "points": 2, "good": 0, "uncertain": 0, "bad": 2}, {"path": "a", "points": 2, "good": 0, "uncertain": 0, "bad": 2}]}`,
		ask(s, "GET", "/api/v1/branches", "", mine...).Body.String())
	assert.Equal(t, 404, ask(s, "GET", "/api/v1/points/a/0", "", mine...).Code)
	assert.Equal(t, 200, ask(s, "GET", "/api/v1/points/a/1", "", mine...).Code)
	assert.Contains(t, ask(s, "GET", "/api/v1/stations", "", mine...).Body.String(), "plc", "which its points are of")
	assert.Equal(t, 403, ask(s, "GET", "/api/v1/stations/plc/read?range=hr:0", "", mine...).Code, "but not everything of it")
	exported := ask(s, "GET", "/api/v1/export", "", mine...).Body.String()
	assert.Contains(t, exported, "a/1")
	assert.NotContains(t, exported, "a/0")

	for _, c := range []struct {
		method, path, body string
		want               int
	}{
		{"PATCH", "/api/v1/points/a/1", `{"unit": "A"}`, 200},
		{"PATCH", "/api/v1/points/a/1", `{"tag": "a/9"}`, 403}, // out of the part
		{"PATCH", "/api/v1/stations/plc", `{"unit": 4}`, 403},
		{"DELETE", "/api/v1/stations/plc?cascade=true", "", 403},
		{"POST", "/api/v1/change/points", `{"tags": ["a/*"], "set": {"unit": "kW"}}`, 403},
		{"POST", "/api/v1/change/points", `{"tags": ["a/2"], "set": {"unit": "kW"}}`, 200},
		{"POST", "/api/v1/points", `{"tag": "a/7", "station": "plc", "address": "hr:9"}`, 403},
	} {
		w := ask(s, c.method, c.path, c.body, mine...)
		assert.Equal(t, c.want, w.Code, "%s %s %s: %s", c.method, c.path, c.body, w.Body)
	}
	admin := bearer(token("all", access.Admin))
	require.Equal(t, 201, ask(s, "POST", "/api/v1/stations", `{"name": "other", "link": "gate", "unit": 9}`, admin...).Code)
	branch := bearer(token("branch", access.Engineer, "a/*"))
	assert.Equal(t, 201, ask(s, "POST", "/api/v1/points", `{"tag": "a/new", "station": "plc", "address": "hr:77"}`, branch...).Code)
	w := ask(s, "POST", "/api/v1/points", `{"tag": "a/way-in", "station": "other", "address": "hr:0", "writable": true}`, branch...)
	assert.Equal(t, 403, w.Code, "no way to what a station has that is none of theirs")
	assert.Contains(t, w.Body.String(), "station other has nothing of that")
	assert.Equal(t, 403, ask(s, "PATCH", "/api/v1/points/a/new", `{"station": "other"}`, branch...).Code)
	assert.Equal(t, 1, strings.Count(ask(s, "GET", "/api/v1/changes?name=a/1", "", mine...).Body.String(), `"action":"change"`))
	assert.NotContains(t, ask(s, "GET", "/api/v1/changes", "", mine...).Body.String(), "quarry-secret")
	refused := ask(s, "GET", "/api/v1/audit?action=refused", "", bearer(token("admin", access.Admin))...).Body.String()
	assert.Contains(t, refused, "is limited to a/[12], a/1, a/2", "it is on record")
}

// A session is the browser's; it ends by signing out, when it is idle, after a day, and when its password changes.
func TestSessions(t *testing.T) {
	s, token, at := guardedServer(t)
	signIn := func(password string) *httptest.ResponseRecorder {
		return ask(s, "POST", "/api/v1/sign-in", `{"account": "ann", "password": "`+password+`"}`)
	}
	session := func(t *testing.T) []string {
		w := signIn(goodPassword)
		require.Equal(t, 200, w.Code, w.Body)
		cookie := w.Result().Cookies()[0]
		assert.True(t, cookie.HttpOnly)
		assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
		assert.NotContains(t, w.Body.String(), cookie.Value)
		return []string{"Cookie", cookie.Name + "=" + cookie.Value}
	}
	first := session(t)
	assert.Equal(t, 200, ask(s, "GET", "/api/v1/accounts", "", first...).Code)
	require.Equal(t, 204, ask(s, "POST", "/api/v1/sign-out", "", first...).Code)
	replayed := ask(s, "GET", "/api/v1/accounts", "", first...)
	assert.Equal(t, 401, replayed.Code)
	assert.Contains(t, replayed.Body.String(), "the session has ended")

	idle := session(t)
	at.pass(account.SessionIdle - time.Minute)
	assert.Equal(t, 200, ask(s, "GET", "/api/v1/accounts", "", append(idle, unattendedField, "1")...).Code, "a page that asks by itself")
	at.pass(2 * time.Minute)
	assert.Equal(t, 401, ask(s, "GET", "/api/v1/accounts", "", idle...).Code, "keeps no session")

	busy := session(t)
	for range 24 {
		at.pass(59 * time.Minute)
		assert.Equal(t, 200, ask(s, "GET", "/api/v1/accounts", "", busy...).Code)
	}
	at.pass(25 * time.Minute)
	assert.Equal(t, 401, ask(s, "GET", "/api/v1/accounts", "", busy...).Code, "not even that for more than a day")

	here, there := session(t), session(t)
	assert.Contains(t, ask(s, "PUT", "/api/v1/me/password", `{"old": "wrong one it is", "new": "a gate of 12 grey geese"}`, here...).Body.String(), "is not the password")
	require.Equal(t, 204, ask(s, "PUT", "/api/v1/me/password", `{"old": "`+goodPassword+`", "new": "a gate of 12 grey geese"}`, here...).Code)
	assert.Equal(t, 200, ask(s, "GET", "/api/v1/accounts", "", here...).Code)
	assert.Equal(t, 401, ask(s, "GET", "/api/v1/accounts", "", there...).Code)
	assert.Equal(t, 401, signIn(goodPassword).Code)
	at.pass(time.Hour)
	assert.Equal(t, 403, ask(s, "PUT", "/api/v1/me/password", `{"old": "a gate of 12 grey geese", "new": "`+goodPassword+`"}`, bearer(token("t", access.Admin))...).Code, "a token knows no password")
}

// A token that may less than its account cannot make itself last longer, nor end what else the account has.
func TestALesserTokenMakesNone(t *testing.T) {
	s, token, _ := guardedServer(t)
	lesser, whole := bearer(token("lesser", access.Viewer)), bearer(token("whole", access.Admin))
	for _, w := range []*httptest.ResponseRecorder{
		ask(s, "POST", "/api/v1/tokens", `{"name": "longer", "days": 3000}`, lesser...),
		ask(s, "DELETE", "/api/v1/tokens/whole", "", lesser...),
		ask(s, "DELETE", "/api/v1/sessions/1", "", lesser...),
	} {
		assert.Equal(t, 403, w.Code, w.Body)
		assert.Contains(t, w.Body.String(), "may less than ann")
	}
	assert.Equal(t, 201, ask(s, "POST", "/api/v1/tokens", `{"name": "other"}`, whole...).Code)
	assert.Equal(t, 204, ask(s, "DELETE", "/api/v1/tokens/lesser", "", whole...).Code)
}

// A request that goes on for long ends with what was shown for it.
func TestWhatRunsEndsWithItsToken(t *testing.T) {
	s, token, _ := guardedServer(t)
	server := httptest.NewServer(s)
	defer server.Close()
	shown := token("follower", access.Viewer)
	request, err := http.NewRequestWithContext(context.Background(), "GET", server.URL+"/api/v1/events?follow=true", nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+shown)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	require.Equal(t, 200, response.StatusCode)
	require.NoError(t, s.accounts.RemoveToken(t.Context(), access.Principal{Account: "ann", Role: access.Admin}, "follower"))
	n, err := response.Body.Read(make([]byte, 1)) // until the connection ends
	assert.Zero(t, n)
	assert.Error(t, err)
}

func TestPagesFromElsewhereAreRefused(t *testing.T) {
	s, token, _ := guardedServer(t)
	admin := bearer(token("admin", access.Admin))
	for _, header := range [][]string{
		{"Origin", "https://elsewhere.example"}, {"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"},
		{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate", "Content-Type", "application/x-www-form-urlencoded"},
	} {
		w := ask(s, "POST", "/api/v1/points", `{"tag": "b", "station": "plc", "address": "hr:50"}`, append(header, admin...)...)
		assert.Equal(t, 403, w.Code)
		assert.Contains(t, w.Body.String(), "may not use this service")
	}
	headers := ask(s, "GET", "/api/v1/me", "").Header()
	assert.Contains(t, headers.Get("Content-Security-Policy"), "script-src 'self';")
	assert.Equal(t, "no-store", headers.Get("Cache-Control"))
}

// The audit log is followed as it grows, and says what was refused.
func TestTheAuditLogIsFollowed(t *testing.T) {
	s, token, _ := guardedServer(t)
	server := httptest.NewServer(s)
	t.Cleanup(server.Close) // after what follows has ended
	get := func(path, shown string) *http.Response {
		request, err := http.NewRequestWithContext(t.Context(), "GET", server.URL+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+shown)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	admin, viewer := token("admin", access.Admin), token("viewer", access.Viewer)
	following := json.NewDecoder(get("/api/v1/audit?follow=true&action=refused", admin).Body)
	require.Equal(t, 403, get("/api/v1/accounts", viewer).StatusCode)
	var e AuditEntry
	require.NoError(t, following.Decode(&e))
	assert.Equal(t, "ann (viewer)", e.Who)
	assert.Equal(t, "127.0.0.1", e.From)
	assert.Contains(t, e.Detail, "this needs an admin")
	for range 20 { // many at once are counted, and not each told
		require.Equal(t, 403, get("/api/v1/accounts", viewer).StatusCode)
	}
	list, err := s.audit.Entries(t.Context(), audit.Filter{Action: audit.Refused, Limit: 100})
	require.NoError(t, err)
	assert.Len(t, list, 1)
	exported := get("/api/v1/export", viewer)
	require.Equal(t, 200, exported.StatusCode)
	list, err = s.audit.Entries(t.Context(), audit.Filter{Action: audit.Export, Limit: 100})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "site", list[0].Subject)
}

// More requests than anybody needs are put off, for one and not for others.
func TestTooManyRequestsOfOne(t *testing.T) {
	s, token, _ := guardedServer(t)
	greedy, other := bearer(token("greedy", access.Viewer)), bearer(token("other", access.Viewer))
	var put bool
	for range 2*requestBurst + requestsPerSecond*10 {
		if w := ask(s, "GET", "/api/v1/points/a/1", "", greedy...); w.Code == http.StatusTooManyRequests {
			assert.Equal(t, "1", w.Header().Get("Retry-After"))
			put = true
			break
		}
	}
	assert.True(t, put)
	assert.Equal(t, 200, ask(s, "GET", "/api/v1/points/a/1", "", other...).Code)
}

// Many tokens of an account are not many limits, and one of them leaves something to the others.
func TestTooManyRequestsOfAnAccount(t *testing.T) {
	g := newGate(nil, nil, false, false)
	g.limit = 0 // nothing comes back meanwhile
	let := func(account, token string) (n int) {
		for n < 10*requestBurst && g.allowed(access.Principal{Account: account, Token: token}) {
			n++
		}
		return n
	}
	assert.Equal(t, requestBurst, let("ann", "a"))
	assert.Equal(t, requestBurst, let("ann", ""))
	assert.Zero(t, let("ann", "b"), "the account has used what it has")
	assert.Equal(t, requestBurst, let("bob", "a"))
}

// What is kept of a connection is no way in: another secret on it is another one's, and one that does not hold any more is refused.
func TestSecretsOnOneConnection(t *testing.T) {
	s, token, _ := guardedServer(t)
	server := httptest.NewUnstartedServer(s)
	server.Config.ConnContext = Connected
	server.Start()
	defer server.Close()
	ask := func(secret string) (int, Me) {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL+"/api/v1/me", nil)
		require.NoError(t, err)
		if secret != "" {
			request.Header.Set("Authorization", "Bearer "+secret)
		}
		response, err := server.Client().Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		var me Me
		require.NoError(t, json.NewDecoder(response.Body).Decode(&me))
		return response.StatusCode, me
	}
	ann, bob := token("ann2", access.Engineer), token("bob2", access.Viewer)
	for range 3 {
		_, me := ask(ann)
		assert.Equal(t, access.Engineer, me.Role)
		_, me = ask(bob)
		assert.Equal(t, access.Viewer, me.Role)
		_, me = ask(ann)
		assert.Equal(t, access.Engineer, me.Role)
		code, me := ask(ann[:len(ann)-1] + "x")
		assert.True(t, code == http.StatusUnauthorized || me.Role == "", "%d %s", code, me.Role)
		code, me = ask("")
		assert.True(t, code == http.StatusUnauthorized || me.Role == "", "%d %s", code, me.Role)
	}
	list := s.accounts.Tokens("")
	for _, x := range list {
		require.NoError(t, s.accounts.RemoveToken(t.Context(), access.Principal{Account: "ann", Role: access.Admin}, x.Name))
	}
	for _, secret := range []string{ann, bob} {
		code, me := ask(secret)
		assert.True(t, code == http.StatusUnauthorized || me.Role == "", "%d %s", code, me.Role)
	}
}

// What it costs to find out who asks: requests with a token beside those of an open service.
func BenchmarkPermission(b *testing.B) {
	for _, guarded := range []bool{false, true} {
		name := map[bool]string{false: "open", true: "token"}[guarded]
		b.Run(name, func(b *testing.B) {
			e := engine.New(engine.Options{})
			kept, err := store.Open(b.Context(), b.TempDir(), store.Options{})
			require.NoError(b, err)
			defer kept.Close()
			book, err := account.Open(b.Context(), kept.Database(), account.Options{})
			require.NoError(b, err)
			defer book.Close()
			s := New(Options{Store: kept, Engine: e, Control: control.New(e, kept, nil), Accounts: book, Audit: audit.Open(kept.Database()), Version: "test"})
			s.gate.limit = rate.Inf // which is not what is measured
			require.Equal(b, 200, ask(s, "POST", "/api/v1/apply", `{"arithmon": 1, "links": [{"name": "gate", "host": "127.0.0.1", "enabled": false}], "stations": [{"name": "plc", "link": "gate", "unit": 1}], "points": [{"tag": "a/1", "station": "plc", "address": "hr:0"}]}`).Code)
			header := bearer("arithmon_0123456789012345678901234567890123456789012") // which an open service does not look at
			if guarded {
				ann := access.Principal{Account: "ann", Role: access.Admin}
				require.NoError(b, book.Add(b.Context(), ann, "ann", goodPassword, access.Admin, nil))
				_, secret, err := book.AddToken(b.Context(), ann, account.Token{Name: "t"})
				require.NoError(b, err)
				header = bearer(secret)
			}
			for b.Loop() {
				if w := ask(s, "GET", "/api/v1/points/a/1", "", header...); w.Code != 200 {
					b.Fatal(w.Body)
				}
			}
		})
	}
}
