package api

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/directory"
	"arithmon/internal/core/access"
	"arithmon/internal/record/audit"
)

// provider is a small company directory. What is wrong with its answers can be said.
type provider struct {
	*httptest.Server

	mu       sync.Mutex
	claims   map[string]any // of the one who signs in
	spoil    func(claims map[string]any)
	strange  bool              // tokens are signed with a key that it does not publish
	nonces   map[string]string // by code
	verifier map[string]string // what the code's verifier must hash to
}

func newProvider(t *testing.T) *provider {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p := &provider{nonces: map[string]string{}, verifier: map[string]string{}}
	mux := http.NewServeMux()
	write := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		assert.NoError(t, json.NewEncoder(w).Encode(v))
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		write(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys", "id_token_signing_alg_values_supported": []string{"RS256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		write(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("/authorize", func(w http.ResponseWriter, r *http.Request) { // it knows the person already
		q := r.URL.Query()
		p.mu.Lock()
		p.nonces["code-1"], p.verifier["code-1"] = q.Get("nonce"), q.Get("code_challenge")
		p.mu.Unlock()
		assert.Equal(t, "S256", q.Get("code_challenge_method"))
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {"code-1"}, "state": {q.Get("state")}, "session_state": {"x"}}.Encode(), http.StatusFound)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if p.verifier[r.FormValue("code")] != base64.RawURLEncoding.EncodeToString(sum[:]) {
			http.Error(w, "no", http.StatusBadRequest)
			return
		}
		claims := map[string]any{"iss": p.URL, "aud": "arithmon", "sub": "1", "nonce": p.nonces[r.FormValue("code")], "iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix()}
		maps.Copy(claims, p.claims)
		if p.spoil != nil {
			p.spoil(claims)
		}
		signing := key
		if p.strange {
			signing, _ = rsa.GenerateKey(rand.Reader, 2048)
		}
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: signing, KeyID: "one"}}, nil)
		assert.NoError(t, err)
		body, err := json.Marshal(claims)
		assert.NoError(t, err)
		signed, err := signer.Sign(body)
		assert.NoError(t, err)
		text, err := signed.CompactSerialize()
		assert.NoError(t, err)
		write(w, map[string]any{"access_token": "a", "token_type": "Bearer", "id_token": text})
	})
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	return p
}

// settings are a file that names the directory.
func (p *provider) settings(t *testing.T) *directory.Settings {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("hush\n"), 0o600))
	file := filepath.Join(dir, "directory.yaml")
	require.NoError(t, os.WriteFile(file, []byte("name: Merrowfen\nissuer: "+p.URL+"\nclient_id: arithmon\nsecret_file: "+filepath.Join(dir, "secret")+"\nurl: http://127.0.0.1\nroles: {sluice: engineer, everyone: viewer, lords: admin}\n"), 0o600))
	s, err := directory.Read(file)
	require.NoError(t, err)
	return s
}

// through goes the way of a browser: to the directory and back; it returns where that ends and the session's cookie.
func through(t *testing.T, s *Server, spoil func(returned url.Values, cookie *http.Cookie)) (ends string, session *http.Cookie) {
	t.Helper()
	begun := ask(s, "GET", "/api/v1/directory", "")
	require.Equal(t, http.StatusFound, begun.Code, begun.Body)
	if begun.Header().Get("Location")[0] == '/' {
		return begun.Header().Get("Location"), nil
	}
	cookie := begun.Result().Cookies()[0]
	assert.Equal(t, http.SameSiteLaxMode, cookie.SameSite)
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Get(begun.Header().Get("Location"))
	require.NoError(t, err)
	response.Body.Close()
	back, err := url.Parse(response.Header.Get("Location"))
	require.NoError(t, err)
	query := back.Query()
	if spoil != nil {
		spoil(query, cookie)
	}
	w := ask(s, "GET", directoryReturn+"?"+query.Encode(), "", "Cookie", cookie.Name+"="+cookie.Value, "Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate")
	for _, c := range w.Result().Cookies() {
		if c.Name == "arithmon" {
			session = c
		}
	}
	return w.Header().Get("Location"), session
}

func TestSigningInThroughTheDirectory(t *testing.T) {
	s, token, _ := guardedServer(t)
	p := newProvider(t)
	s = withDirectory(s, directory.New(p.settings(t)))
	p.claims = map[string]any{"preferred_username": "ann.m@merrowfen.example", "groups": []string{"everyone", "sluice", "others"}}
	assert.Contains(t, ask(s, "GET", "/api/v1/me", "").Body.String(), `"directory":"Merrowfen"`)

	ends, session := through(t, s, nil)
	assert.Equal(t, "/", ends)
	require.NotNil(t, session)
	me := ask(s, "GET", "/api/v1/me", "", "Cookie", session.Name+"="+session.Value).Body.String()
	assert.Contains(t, me, `"account":"ann.m@merrowfen.example","role":"engineer"`, "the highest role of the groups")

	p.claims["groups"] = "everyone"
	_, session = through(t, s, nil)
	require.NotNil(t, session)
	me = ask(s, "GET", "/api/v1/me", "", "Cookie", session.Name+"="+session.Value).Body.String()
	assert.Contains(t, me, `"role":"viewer"`, "as the directory says now")
	admin := bearer(token("admin", access.Admin))
	assert.Equal(t, 422, ask(s, "PATCH", "/api/v1/accounts/ann.m@merrowfen.example", `{"role": "admin"}`, admin...).Code, "and nobody else")
	assert.Equal(t, 401, ask(s, "POST", "/api/v1/sign-in", `{"account": "ann.m@merrowfen.example", "password": ""}`).Code, "it has no password")

	p.claims["groups"] = []string{"guests"}
	ends, session = through(t, s, nil)
	assert.Equal(t, "/?directory=no-role", ends)
	assert.Nil(t, session)
	p.claims["groups"] = []string{"lords"}
	p.claims["preferred_username"] = "ann"
	ends, _ = through(t, s, nil)
	assert.Equal(t, "/?directory=failed", ends, "an account with a password is not taken over by one of the directory")
	p.claims["preferred_username"] = "carl"

	for what, spoil := range map[string]func(){
		"another audience": func() { p.spoil = func(c map[string]any) { c["aud"] = "another" } },
		"another issuer":   func() { p.spoil = func(c map[string]any) { c["iss"] = "https://elsewhere.example" } },
		"another question": func() { p.spoil = func(c map[string]any) { c["nonce"] = "old" } },
		"too old":          func() { p.spoil = func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() } },
		"nobody":           func() { p.spoil = func(c map[string]any) { delete(c, "preferred_username") } },
		"a strange key":    func() { p.strange = true },
	} {
		p.spoil, p.strange = nil, false
		spoil()
		ends, session = through(t, s, nil)
		assert.Equal(t, "/?directory=failed", ends, what)
		assert.Nil(t, session, what)
	}
	p.spoil, p.strange = nil, false
	for what, spoil := range map[string]func(url.Values, *http.Cookie){
		"another browser": func(_ url.Values, c *http.Cookie) { c.Value = "x" },
		"another state":   func(q url.Values, _ *http.Cookie) { q.Set("state", "x") },
	} {
		ends, session = through(t, s, spoil)
		assert.Equal(t, "/?directory=stale", ends, what)
		assert.Nil(t, session, what)
	}
	ends, _ = through(t, s, func(q url.Values, _ *http.Cookie) { q.Set("error", "access_denied") })
	assert.Equal(t, "/?directory=failed", ends)
	log, err := s.audit.Entries(t.Context(), audit.Filter{Action: audit.Refused, Limit: 100})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(log), 9, "all of it is on record")
	_, session = through(t, s, nil)
	assert.NotNil(t, session)

	gone := p.settings(t)
	p.Close()
	s = withDirectory(s, directory.New(gone))
	ends, _ = through(t, s, nil)
	assert.Equal(t, "/?directory=unreachable", ends)
}

// withDirectory is a server with the parts of another, and a directory.
func withDirectory(s *Server, d *directory.Directory) *Server {
	return New(Options{Store: s.store, Engine: s.engine, Control: s.control, Accounts: s.accounts, Audit: s.audit, Directory: d, Dir: s.dir, Version: "test"})
}

func TestSettingsOfADirectoryThatAreWrong(t *testing.T) {
	for text, why := range map[string]string{
		"issuer: https://x.example\nurl: https://y.example\nroles: {a: viewer}":                                  "client_id is missing",
		"issuer: nowhere\nclient_id: a\nurl: https://y.example\nroles: {a: viewer}":                              "is no URL",
		"issuer: https://x.example\nclient_id: a\nurl: https://y.example":                                        "roles is missing",
		"issuer: https://x.example\nclient_id: a\nurl: https://y.example\nroles: {a: lord}":                      "is no role",
		"issuer: https://x.example\nclient_id: a\nurl: https://y.example\nroles: {a: viewer}\nfoo: 1":            "foo",
		"issuer: https://x.example\nclient_id: a\nurl: https://y.example\nroles: {a: viewer}\nsecret_file: nope": "secret_file",
	} {
		file := filepath.Join(t.TempDir(), "d.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := directory.Read(file)
		assert.ErrorContains(t, err, why, strings.ReplaceAll(text, "\n", "; "))
	}
}
