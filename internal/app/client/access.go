package client

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"syscall"
	"time"

	"github.com/coder/websocket"

	"arithmon/internal/app/api"
)

// Access is how a client shows who it is, and knows the service again.
type Access struct {
	Token       string // shown with every request; empty for none
	Fingerprint string // the service's certificate must have this key (sha256:…); empty: one that this machine trusts
}

// ErrCertificate says that the service shows a certificate that is not known to this machine.
var ErrCertificate = errors.New("its certificate is not known to this machine")

// With returns a client of the same service that shows something else.
func (c *Client) With(a Access) *Client {
	service := &http.Client{}
	if a.Fingerprint != "" {
		service.Transport = pinned(a.Fingerprint)
	}
	return &Client{base: c.base, who: c.who, access: a, http: service, Warn: c.Warn, Told: c.Told, Said: c.Said}
}

// pinned connects to services whose certificate has a key.
func pinned(fingerprint string) *http.Transport {
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, ForceAttemptHTTP2: true, IdleConnTimeout: time.Minute}
	t.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // what stands for it is the key
		VerifyConnection: func(state tls.ConnectionState) error {
			if is := keyOf(state.PeerCertificates[0]); is != fingerprint {
				return fmt.Errorf("%w: its key is %s, and was %s when you signed in. Somebody may be between you and it; or it has another key now, which its admin can tell you. arithmon login takes the new one", ErrCertificate, is, fingerprint)
			}
			return nil
		}}
	return t
}

// keyOf names the key of a certificate.
func keyOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Certificate says which key the certificate of a service has, and whether this machine trusts it. It is empty for a service without TLS.
func Certificate(ctx context.Context, base string) (fingerprint string, trusted bool, err error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "https" {
		return "", true, nil
	}
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "443")
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	dialer := tls.Dialer{Config: &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, ServerName: u.Hostname()}} // it is only looked at
	conn, err := dialer.DialContext(ctx, "tcp", host)
	if err != nil {
		return "", false, unreachable(base, err)
	}
	defer conn.Close()
	shown := conn.(*tls.Conn).ConnectionState().PeerCertificates
	roots := x509.NewCertPool()
	if system, err := x509.SystemCertPool(); err == nil {
		roots = system
	}
	between := x509.NewCertPool()
	for _, c := range shown[1:] {
		between.AddCert(c)
	}
	_, err = shown[0].Verify(x509.VerifyOptions{DNSName: u.Hostname(), Roots: roots, Intermediates: between})
	return keyOf(shown[0]), err == nil, nil
}

// unreachable says why a service does not answer.
func unreachable(base string, err error) error {
	var unknown x509.UnknownAuthorityError
	var wrongHost x509.HostnameError
	var header tls.RecordHeaderError
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("no service answers at %s. Start one with arithmon serve, or name another with --server or ARITHMON_SERVER", base)
	case errors.Is(err, ErrCertificate):
		return fmt.Errorf("service at %s: %w", base, errors.Unwrap(err))
	case errors.As(err, &unknown), errors.As(err, &wrongHost):
		return fmt.Errorf("service at %s: %w; arithmon login %s shows it, and keeps it when you say so", base, ErrCertificate, base)
	case errors.As(err, &header), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return fmt.Errorf("%s speaks plain HTTP and not TLS; use http://, or start it with --tls", base)
	case errors.Is(err, io.EOF) && strings.HasPrefix(base, "http:"):
		return fmt.Errorf("service at %s ended the connection; if it speaks TLS, use https://", base)
	}
	if inner := errors.Unwrap(err); inner != nil {
		err = inner
	}
	return fmt.Errorf("service at %s: %w", base, err)
}

// send makes one request and returns the response, whatever its status.
func (c *Client) send(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fmt.Errorf("server %q: %w", c.base, err)
	}
	request.Header = c.header()
	response, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, unreachable(c.base, err)
	}
	return response, nil
}

// header is what every request says of who asks.
func (c *Client) header() http.Header {
	h := http.Header{}
	h.Set("Arithmon-Who", url.QueryEscape(c.who))
	if c.access.Token != "" {
		h.Set("Authorization", "Bearer "+c.access.Token)
	}
	for name, value := range map[string]string{"Arithmon-Message": c.Said.Message, "Arithmon-Propose": c.Said.Propose} {
		if value != "" {
			h.Set(name, url.QueryEscape(value))
		}
	}
	return h
}

// dial opens a WebSocket.
func (c *Client) dial(ctx context.Context, path string) (*websocket.Conn, error) {
	conn, response, err := websocket.Dial(ctx, "ws"+strings.TrimPrefix(c.base, "http")+path, &websocket.DialOptions{HTTPClient: c.http, HTTPHeader: c.header()})
	if err == nil {
		return conn, nil
	}
	if response != nil && response.StatusCode >= 300 {
		if p := refusal(response); p != nil {
			return nil, p
		}
	}
	return nil, fmt.Errorf("following at %s: %w", c.base, err)
}

// mostTokens is how many tokens of one account on one machine are told apart.
const mostTokens = 100

// SignIn makes a token of an account for this machine, by its password and, where it has a second factor, a code.
func (c *Client) SignIn(ctx context.Context, account, password, code string, token api.NewToken) (made api.MadeToken, err error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return made, err
	}
	session := c.With(Access{Fingerprint: c.access.Fingerprint})
	session.http.Jar = jar
	if err := session.do(ctx, http.MethodPost, "/api/v1/sign-in", nil, api.SignIn{Account: account, Password: password, Code: code}, nil); err != nil {
		return made, err
	}
	name := token.Name
	for n := 2; ; n++ { // the same account may be signed in on this machine more than once
		err = session.do(ctx, http.MethodPost, "/api/v1/tokens", nil, token, &made)
		var problem *ProblemError
		if taken := errors.As(err, &problem) && len(problem.Errors) == 1 && problem.Errors[0].Field == "name"; !taken || n > mostTokens {
			break
		}
		token.Name = fmt.Sprintf("%s-%d", name, n)
	}
	if fault := session.do(ctx, http.MethodPost, "/api/v1/sign-out", nil, nil, nil); err == nil {
		err = fault
	}
	return made, err
}

// Me says who asks, and what they may do.
func (c *Client) Me(ctx context.Context) (me api.Me, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/me", nil, nil, &me)
	return me, err
}

// Accounts lists who may use the service.
func (c *Client) Accounts(ctx context.Context) ([]api.Account, error) {
	return all[api.Account](ctx, c, "/api/v1/accounts", nil)
}

// AddAccount makes an account.
func (c *Client) AddAccount(ctx context.Context, a api.NewAccount) (made api.Account, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/accounts", nil, a, &made)
	return made, err
}

// SetAccount changes an account.
func (c *Client) SetAccount(ctx context.Context, name string, changes api.AccountChanges) (a api.Account, err error) {
	err = c.do(ctx, http.MethodPatch, "/api/v1/accounts/"+url.PathEscape(name), nil, changes, &a)
	return a, err
}

// RemoveAccount removes an account.
func (c *Client) RemoveAccount(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/accounts/"+url.PathEscape(name), nil, nil, nil)
}

// Tokens lists the own tokens; all for an admin.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return all[api.Token](ctx, c, "/api/v1/tokens", nil)
}

// AddToken makes a token of the own account.
func (c *Client) AddToken(ctx context.Context, t api.NewToken) (made api.MadeToken, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/tokens", nil, t, &made)
	return made, err
}

// RemoveToken ends a token.
func (c *Client) RemoveToken(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/tokens/"+url.PathEscape(name), nil, nil, nil)
}

// Sessions lists who is signed in: the own account, or everybody for an admin.
func (c *Client) Sessions(ctx context.Context) ([]api.Session, error) {
	return all[api.Session](ctx, c, "/api/v1/sessions", nil)
}

// EndSession ends a session.
func (c *Client) EndSession(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprint("/api/v1/sessions/", id), nil, nil, nil)
}

// Audit lists entries of the audit log, newest first; query is that of the route.
func (c *Client) Audit(ctx context.Context, query url.Values) (page api.Page[api.AuditEntry], err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/audit", query, nil, &page)
	return page, err
}

// AllAudit lists all entries of the audit log, newest first.
func (c *Client) AllAudit(ctx context.Context, query url.Values) ([]api.AuditEntry, error) {
	return all[api.AuditEntry](ctx, c, "/api/v1/audit", query)
}

// FollowAudit calls f with entries of the audit log as they come.
func (c *Client) FollowAudit(ctx context.Context, query url.Values, f func(api.AuditEntry) error) error {
	query.Set("follow", "true")
	return lines(ctx, c, http.MethodGet, "/api/v1/audit?"+query.Encode(), nil, f)
}

// VerifyAudit says whether the audit log is as it was written.
func (c *Client) VerifyAudit(ctx context.Context) (v api.AuditVerdict, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/audit/verify", nil, nil, &v)
	return v, err
}
