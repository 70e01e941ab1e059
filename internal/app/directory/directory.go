// Package directory signs people in through the company's directory, by OpenID Connect: the authorization code flow with PKCE. The directory says
// who somebody is and in which groups; a table says which role a group has.
package directory

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"go.yaml.in/yaml/v3"
	"golang.org/x/oauth2"

	"arithmon/internal/core/access"
)

// Settings say which directory it is, and what its groups may.
type Settings struct {
	Name       string                 `yaml:"name"`        // as the page of the service calls it
	Issuer     string                 `yaml:"issuer"`      // URL; its .well-known/openid-configuration describes the rest
	ClientID   string                 `yaml:"client_id"`   // as which the directory knows the service
	SecretFile string                 `yaml:"secret_file"` // file with the client's secret; without one, PKCE alone
	URL        string                 `yaml:"url"`         // of the service, as browsers reach it; the directory sends them to URL/api/v1/directory/return
	Account    string                 `yaml:"account"`     // claim that names the account (default preferred_username)
	Groups     string                 `yaml:"groups"`      // claim with the groups (default groups)
	Scopes     []string               `yaml:"scopes"`      // asked for beside openid (default profile and email)
	Roles      map[string]access.Role `yaml:"roles"`       // of groups; who is in none of them may not sign in
	secret     string
}

// Read reads settings from a YAML file.
func Read(name string) (*Settings, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	s := &Settings{Name: "the directory", Account: "preferred_username", Groups: "groups", Scopes: []string{"profile", "email"}}
	decoder := yaml.NewDecoder(strings.NewReader(string(data)))
	decoder.KnownFields(true)
	if err := decoder.Decode(s); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for field, value := range map[string]string{"issuer": s.Issuer, "client_id": s.ClientID, "url": s.URL} {
		if value == "" {
			return nil, fmt.Errorf("%s: %s is missing", name, field)
		}
	}
	for field, value := range map[string]string{"issuer": s.Issuer, "url": s.URL} {
		if u, err := url.Parse(value); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
			return nil, fmt.Errorf("%s: %s: %q is no URL", name, field, value)
		}
	}
	if len(s.Roles) == 0 {
		return nil, fmt.Errorf("%s: roles is missing: which role each group has, such as {plant-engineers: engineer}", name)
	}
	for group, role := range s.Roles {
		if !slices.Contains(access.Roles(), role) {
			return nil, fmt.Errorf("%s: roles: %s: %q is no role; choose viewer, operator, engineer or admin", name, group, role)
		}
	}
	if s.SecretFile != "" {
		secret, err := os.ReadFile(s.SecretFile)
		if err != nil {
			return nil, fmt.Errorf("%s: secret_file: %w", name, err)
		}
		s.secret = strings.TrimSpace(string(secret))
	}
	return s, nil
}

// Errors of signing in.
var (
	ErrUnreachable = errors.New("the directory cannot be reached")
	ErrRefused     = errors.New("the directory did not sign in")
	ErrNoRole      = errors.New("is in no group that may use this service")
	ErrStale       = errors.New("the sign-in took too long, or was begun in another browser; begin again")
)

// Bounds.
const (
	within = 10 * time.Second // the directory answers
	life   = 10 * time.Minute // of a sign-in that was begun
	most   = 10_000           // sign-ins that are begun at once
)

// Directory signs people in. It is safe for concurrent use.
type Directory struct {
	settings *Settings
	client   *http.Client
	now      func() time.Time

	mu       sync.Mutex
	provider *oidc.Provider
	begun    map[string]attempt // by state
}

// attempt is a sign-in that was begun.
type attempt struct {
	nonce, verifier string
	until           time.Time
}

// New makes a Directory. It is asked for what it can do when somebody signs in, so that the service starts without it.
func New(s *Settings) *Directory {
	return &Directory{settings: s, client: &http.Client{Timeout: within}, now: time.Now, begun: map[string]attempt{}}
}

// Name is what the directory is called.
func (d *Directory) Name() string { return d.settings.Name }

// reach finds out where the directory is asked, once.
func (d *Directory) reach(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.provider == nil {
		// Its keys are fetched later, with the same client, so that its life does not hang on this request.
		p, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), d.client), d.settings.Issuer)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
		}
		d.provider = p
	}
	return d.provider, &oauth2.Config{ClientID: d.settings.ClientID, ClientSecret: d.settings.secret, Endpoint: d.provider.Endpoint(),
		RedirectURL: strings.TrimSuffix(d.settings.URL, "/") + "/api/v1/directory/return", Scopes: append([]string{oidc.ScopeOpenID}, d.settings.Scopes...)}, nil
}

// Begin begins a sign-in: where the browser goes, and the state that it comes back with, which it must keep itself, too.
func (d *Directory) Begin(ctx context.Context) (to, state string, err error) {
	_, config, err := d.reach(ctx)
	if err != nil {
		return "", "", err
	}
	now := d.now()
	state = oauth2.GenerateVerifier()
	a := attempt{oauth2.GenerateVerifier(), oauth2.GenerateVerifier(), now.Add(life)}
	d.mu.Lock()
	defer d.mu.Unlock()
	for s, old := range d.begun {
		if now.After(old.until) {
			delete(d.begun, s)
		}
	}
	for s := range d.begun { // who begins many keeps nobody else out for long
		if len(d.begun) < most {
			break
		}
		delete(d.begun, s)
	}
	d.begun[state] = a
	return config.AuthCodeURL(state, oidc.Nonce(a.nonce), oauth2.S256ChallengeOption(a.verifier)), state, nil
}

// Finish ends a sign-in: who it is, and which role the directory gives. kept is the state that the browser kept itself.
func (d *Directory) Finish(ctx context.Context, query url.Values, kept string) (account string, role access.Role, err error) {
	state := query.Get("state")
	d.mu.Lock()
	a, ok := d.begun[state]
	delete(d.begun, state) // once
	d.mu.Unlock()
	if !ok || subtle.ConstantTimeCompare([]byte(state), []byte(kept)) != 1 || d.now().After(a.until) {
		return "", "", ErrStale
	}
	if query.Get("error") != "" {
		return "", "", fmt.Errorf("%w: %s %s", ErrRefused, query.Get("error"), query.Get("error_description"))
	}
	provider, config, err := d.reach(ctx)
	if err != nil {
		return "", "", err
	}
	ctx = oidc.ClientContext(ctx, d.client)
	tokens, err := config.Exchange(ctx, query.Get("code"), oauth2.VerifierOption(a.verifier))
	if err != nil {
		return "", "", fmt.Errorf("%w: %w", ErrRefused, err)
	}
	raw, ok := tokens.Extra("id_token").(string)
	if !ok {
		return "", "", fmt.Errorf("%w: it sent no ID token", ErrRefused)
	}
	token, err := provider.Verifier(&oidc.Config{ClientID: d.settings.ClientID, Now: d.now}).Verify(ctx, raw)
	if err != nil {
		return "", "", fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if subtle.ConstantTimeCompare([]byte(token.Nonce), []byte(a.nonce)) != 1 {
		return "", "", fmt.Errorf("%w: its answer is to another question", ErrRefused)
	}
	var claims map[string]any
	if err := token.Claims(&claims); err != nil {
		return "", "", fmt.Errorf("%w: %w", ErrRefused, err)
	}
	account, _ = claims[d.settings.Account].(string)
	if account == "" {
		return "", "", fmt.Errorf("%w: its ID token has no %s", ErrRefused, d.settings.Account)
	}
	role = d.role(claims[d.settings.Groups])
	if role == access.Nobody {
		return account, "", fmt.Errorf("%s %w", account, ErrNoRole)
	}
	return account, role, nil
}

// role is the highest role of some groups: a list of texts, or one.
func (d *Directory) role(groups any) (role access.Role) {
	list, _ := groups.([]any)
	if one, is := groups.(string); is {
		list = []any{one}
	}
	for _, g := range list {
		name, _ := g.(string)
		if of, known := d.settings.Roles[name]; known && of.Includes(role) {
			role = of
		}
	}
	return role
}
