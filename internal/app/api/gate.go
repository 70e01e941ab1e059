package api

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"arithmon/internal/core/access"
	"arithmon/internal/core/site"
	"arithmon/internal/record/account"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/store"
)

// need is who may use a route: who has a role, and, where part is true, also whoever is limited to a part of the site, who gets that part and
// changes nothing else. Routes that know nothing of parts are closed to them. Where propose is true, a viewer may use it, too, to propose the
// change instead of making it.
type need struct {
	role    access.Role
	part    bool
	propose bool
}

// Who may use a route.
var (
	anyone         = need{role: access.Nobody, part: true}
	viewer         = need{role: access.Viewer}
	viewerOfPart   = need{role: access.Viewer, part: true}
	operatorOfPart = need{role: access.Operator, part: true}
	engineer       = need{role: access.Engineer}
	engineerOfPart = need{role: access.Engineer, part: true}
	changer        = need{role: access.Engineer, propose: true}
	changerOfPart  = need{role: access.Engineer, part: true, propose: true}
	admin          = need{role: access.Admin}
)

const (
	whoField        = "Arithmon-Who"        // header: who asks, in the record while there are no accounts
	messageField    = "Arithmon-Message"    // header: what is said of the change set that the request makes
	proposeField    = "Arithmon-Propose"    // header: the title of a proposal that the request makes, instead of changing the site
	proposalField   = "Arithmon-Proposal"   // header of a response: the number of the proposal
	mergedField     = "Arithmon-Merged"     // header of a response: what others changed meanwhile, with which this was put together
	unattendedField = "Arithmon-Unattended" // header: a page asks by itself, and nobody has a hand on it
	principalKey    = "principal"
)

// Requests with one token, or of an account by hand: so many a second, and so many at once. An account has accountShare times that for all.
const (
	requestsPerSecond = 500
	requestBurst      = 1500
	accountShare      = 2
)

// gate finds out who asks, and lets through who may.
type gate struct {
	book   *account.Book // nil: a service without accounts, such as a rig alone
	log    *audit.Log
	secure bool // over TLS, so that browsers send the session that way alone
	remote bool // it listens beyond loopback

	mu    sync.Mutex
	rates map[rated]*rate.Limiter
	told  map[string]time.Time // when a refusal of an address was last put into the log
	quiet map[string]int       // how many were not since
	parts map[string]portion   // of the site, by limits
	swept time.Time
	limit rate.Limit
}

// portion is the part of a site that somebody is limited to.
type portion struct{ whole, part *site.Site }

func newGate(book *account.Book, log *audit.Log, secure, remote bool) *gate {
	return &gate{book: book, log: log, secure: secure, remote: remote, limit: requestsPerSecond, rates: map[rated]*rate.Limiter{}, told: map[string]time.Time{}, quiet: map[string]int{}, parts: map[string]portion{}}
}

// open reports whether there are no accounts, so that whoever is on this machine may do everything.
func (g *gate) open() bool { return g.book == nil || !g.book.Any() }

// cookie is what the session is called in browsers. The prefix has them keep it to this host and to TLS.
func (g *gate) cookie() string {
	if g.secure {
		return "__Host-arithmon"
	}
	return "arithmon"
}

// unknown is a request of somebody who is not known.
type unknown struct{ why string }

func (e *unknown) Error() string { return e.why }

const howToSignIn = "sign in: on the page of the service, or with arithmon login URL --account NAME; programs show a token (Authorization: Bearer)"

// shown is what a request shows of who asks: a token, or the secret of a session.
func (g *gate) shown(c *gin.Context) string {
	if kind, secret, ok := strings.Cut(c.GetHeader("Authorization"), " "); ok && strings.EqualFold(kind, "Bearer") {
		return strings.TrimSpace(secret)
	}
	secret, _ := c.Cookie(g.cookie())
	return secret
}

// address is where a request comes from.
func address(c *gin.Context) string {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return c.Request.RemoteAddr
	}
	return host
}

// identify finds out on whose behalf a request is.
func (g *gate) identify(c *gin.Context) (access.Principal, error) {
	from := address(c)
	if g.open() {
		return access.Principal{Account: claimed(c), Role: access.Admin, From: from}, nil
	}
	secret := g.shown(c)
	if secret == "" {
		return access.Principal{From: from}, nil
	}
	p, err := g.book.PrincipalOf(secret, digestOf(c, secret), from, c.GetHeader(unattendedField) == "")
	if err != nil {
		return access.Principal{From: from}, &unknown{err.Error()}
	}
	return p, nil
}

// connection keeps the digest of the secret that was shown on a connection last, since the next request mostly shows the same.
type connection struct{ shown atomic.Pointer[shownSecret] }

type shownSecret struct {
	secret []byte
	digest account.Digest
}

type connectionKey struct{}

// Connected gives the context of a connection's requests, for an http.Server.
func Connected(ctx context.Context, _ net.Conn) context.Context {
	return context.WithValue(ctx, connectionKey{}, &connection{})
}

func digestOf(c *gin.Context, secret string) account.Digest {
	at, _ := c.Request.Context().Value(connectionKey{}).(*connection)
	if at == nil {
		return account.Hashed(secret)
	}
	if last := at.shown.Load(); last != nil && subtle.ConstantTimeCompare(last.secret, []byte(secret)) == 1 {
		return last.digest
	}
	digest := account.Hashed(secret)
	at.shown.Store(&shownSecret{[]byte(secret), digest})
	return digest
}

// header is a header of a request as text; it is written as in a query, so that it may have any characters.
func header(c *gin.Context, name string) string {
	text := c.GetHeader(name)
	if decoded, err := url.QueryUnescape(text); err == nil {
		text = decoded
	}
	return strings.TrimSpace(text)
}

// claimed is who a request says it is of, which counts while there are no accounts.
func claimed(c *gin.Context) string {
	w := header(c, whoField)
	if w == "" || len(w) > 100 {
		return "local"
	}
	return w
}

// maxMessage is how long a message may be, in bytes.
const maxMessage = 1000

// principal is on whose behalf a request is.
func principal(c *gin.Context) access.Principal {
	p, _ := c.Get(principalKey)
	who, _ := p.(access.Principal)
	return who
}

// admit lets a request through to a route, or says why not.
func (g *gate) admit(c *gin.Context, route route) error {
	who, err := g.identify(c)
	c.Set(principalKey, who)
	if err != nil && route.needs != anyone {
		g.refused(c, who, err.Error())
		return err
	}
	if route.needs.role != access.Nobody && who.Role == access.Nobody {
		return &unknown{howToSignIn}
	}
	least := route.needs.role
	if header(c, proposeField) != "" {
		if !route.needs.propose {
			return fail(http.StatusBadRequest, "%s %s cannot be proposed; it is done, or not", route.method, route.path)
		}
		least = access.Viewer
	}
	if err := who.May(least); err != nil {
		return err // which is put into the log where it is answered, as every refusal
	}
	if len(who.Only) > 0 && !route.needs.part {
		err := fail(http.StatusForbidden, "%s is limited to %s; this is of the whole site", who.Name(), strings.Join(who.Only, ", "))
		g.refused(c, who, err.Error())
		return err
	}
	if !g.allowed(who) {
		c.Header("Retry-After", "1")
		return fail(http.StatusTooManyRequests, "these are more than %d requests a second, or %d with all tokens of an account; ask less often, or for more at once", requestsPerSecond, accountShare*requestsPerSecond)
	}
	return nil
}

// rated is whose requests are counted together: those of an account by hand, those with one of its tokens, all of an account, or those of an
// address where nobody signed in.
type rated struct{ account, token, from string }

// everything stands for all tokens of an account, and what is done by hand; no token is called so.
const everything = "*"

// allowed counts a request, and reports whether it is within what is allowed: to the token, and to the account as a whole, so that a program that
// asks too much leaves something to the person, and many tokens are not many limits.
func (g *gate) allowed(who access.Principal) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if who.Account == "" {
		return g.rate(rated{from: who.From}, 1).Allow()
	}
	return g.rate(rated{account: who.Account, token: who.Token}, 1).Allow() && g.rate(rated{account: who.Account, token: everything}, accountShare).Allow()
}

// rate is a limiter of so many times the usual; the lock is held.
func (g *gate) rate(of rated, times int) *rate.Limiter {
	l := g.rates[of]
	if l == nil {
		if now := time.Now(); len(g.rates) > 1000 && now.Sub(g.swept) > time.Minute {
			g.swept = now
			for other, l := range g.rates {
				if l.TokensAt(now) >= float64(l.Burst()) {
					delete(g.rates, other)
				}
			}
		}
		l = rate.NewLimiter(g.limit*rate.Limit(times), requestBurst*times)
		g.rates[of] = l
	}
	return l
}

// long reports whether a request goes on until its client goes, so that what was shown may end meanwhile.
func (r route) long(c *gin.Context) bool {
	_, streams := r.answer.(lines)
	return streams || c.IsWebsocket() || c.Query("follow") != ""
}

// While what was shown holds, the request goes on: ctx ends when it does not any more.
func (g *gate) while(c *gin.Context) (stop func()) {
	secret := g.shown(c)
	if g.open() || secret == "" {
		return func() {}
	}
	ctx, cancel := context.WithCancelCause(c.Request.Context())
	unwatch := g.book.Watch(secret, func() { cancel(errSessionOver) })
	c.Request = c.Request.WithContext(ctx)
	return func() {
		unwatch()
		cancel(nil)
	}
}

var errSessionOver = errors.New("the session or token does not hold any more; sign in again")

// tellEvery is how often a refusal of the same address is put into the log; those between are counted.
const tellEvery = 10 * time.Second

// refused puts into the log that somebody was refused.
func (g *gate) refused(c *gin.Context, who access.Principal, why string) {
	if g.log == nil {
		return
	}
	key, now := who.From+" "+who.Name(), time.Now()
	g.mu.Lock()
	if now.Sub(g.told[key]) < tellEvery {
		g.quiet[key]++
		g.mu.Unlock()
		return
	}
	more := g.quiet[key]
	if len(g.told) > 10_000 {
		clear(g.told)
		clear(g.quiet)
	}
	g.told[key] = now
	delete(g.quiet, key)
	g.mu.Unlock()
	if more > 0 {
		why += fmt.Sprintf("; and %d more refusals since the one before", more)
	}
	_ = g.log.Add(c.Request.Context(), audit.Entry{Who: who.Name(), From: who.From, Action: audit.Refused, Subject: c.Request.Method + " " + c.Request.URL.Path, Detail: why}) // it is refused all the same
}

// mostParts is how many parts of the site are kept.
const mostParts = 256

// part is what of the site a principal sees.
func (g *gate) part(who access.Principal, whole *site.Site) *site.Site {
	if len(who.Only) == 0 {
		return whole
	}
	key := strings.Join(who.Only, "\n")
	g.mu.Lock()
	kept, ok := g.parts[key]
	g.mu.Unlock()
	if ok && kept.whole == whole {
		return kept.part
	}
	kept = portion{whole, who.Only.Of(whole)}
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.parts) >= mostParts {
		clear(g.parts)
	}
	g.parts[key] = kept
	return kept.part
}

// site is what of the site the one who asks sees.
func (s *Server) site(c *gin.Context) *site.Site { return s.gate.part(principal(c), s.store.Site()) }

// by says of an edit who makes it, and what they may change.
func by(c *gin.Context, edit store.Edit) store.Edit {
	who := principal(c)
	edit.Who, edit.From, edit.Message = who.Name(), who.From, header(c, messageField)
	if len(who.Only) > 0 {
		edit.Permit = who.Permits
	}
	return edit
}

// change modifies the site on behalf of who asks, or keeps what it would change as a proposal.
func (s *Server) change(c *gin.Context, edit store.Edit, fill func(*site.Draft, *site.Site)) ([]site.Change, *site.Site, error) {
	edit = by(c, edit)
	if len(edit.Message) > maxMessage {
		return nil, s.store.Site(), fail(http.StatusBadRequest, "the message has %d bytes; at most %d are kept", len(edit.Message), maxMessage)
	}
	title, dry := header(c, proposeField), edit.DryRun
	edit.DryRun = dry || title != ""
	changes, left, err := s.store.Modify(c.Request.Context(), edit, fill)
	if title == "" || dry || err != nil || len(changes) == 0 {
		return changes, left, err
	}
	return changes, left.With(changes), s.propose(c, title, changes)
}

// enter puts into the audit log what somebody did.
func (s *Server) enter(c *gin.Context, action audit.Action, subject, detail string) error {
	who := principal(c)
	if s.audit == nil { // a rig alone
		return nil
	}
	return s.audit.Add(c.Request.Context(), audit.Entry{Who: who.Name(), From: who.From, Action: action, Subject: subject, Detail: detail})
}

// fromHere refuses requests that a page from elsewhere makes, and, while there are no accounts, those that do not come from this machine's own
// programs.
func (s *Server) fromHere(c *gin.Context) {
	if s.gate.open() && !loopbackHost(c.Request.Host) {
		s.abort(c, fail(http.StatusForbidden, "Host %q is not this machine's loopback, and there are no accounts yet; use http://127.0.0.1 or http://localhost", c.Request.Host))
		return
	}
	if s.gate.open() && s.gate.remote && !loopback(address(c)) {
		s.abort(c, fail(http.StatusForbidden, "there are no accounts yet; make the first one on the machine itself: arithmon account add NAME --role admin"))
		return
	}
	if origin := c.GetHeader("Origin"); origin != "" {
		u, err := url.Parse(origin)
		if err != nil || u.Host != c.Request.Host {
			s.abort(c, fail(http.StatusForbidden, "a page of %s may not use this service", origin))
			return
		}
	}
	// Following a link to a page of the console is all that another site may have a browser do, and coming back from the directory.
	if from := c.GetHeader("Sec-Fetch-Site"); from == "cross-site" || from == "same-site" {
		at := c.Request.URL.Path
		page := !strings.HasPrefix(at, "/api/") && at != "/metrics" && at != "/healthz" || at == directoryReturn
		if safe := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead; !safe || !page || c.GetHeader("Sec-Fetch-Mode") != "navigate" {
			s.abort(c, fail(http.StatusForbidden, "a page from elsewhere may not use this service"))
			return
		}
	}
	if err := s.origins.Check(c.Request); err != nil {
		s.abort(c, fail(http.StatusForbidden, "a page from elsewhere may not use this service: %s", err))
		return
	}
	for _, header := range always {
		c.Header(header[0], header[1])
	}
	if s.gate.secure {
		c.Header("Strict-Transport-Security", "max-age=31536000")
	}
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		c.Header("Cache-Control", "no-store") // what one person sees is not another's
	}
}

// always are the headers of every response, which tell browsers what pages of the service may not be used for.
var always = [][2]string{
	{"X-Content-Type-Options", "nosniff"},
	{"X-Frame-Options", "DENY"},
	{"Referrer-Policy", "same-origin"},
	{"Cross-Origin-Opener-Policy", "same-origin"},
	{"Cross-Origin-Resource-Policy", "same-origin"},
	{"Permissions-Policy", "camera=(), microphone=(), geolocation=()"},
	{"Content-Security-Policy", "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"},
}

func loopbackHost(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	return strings.EqualFold(host, "localhost") || loopback(strings.Trim(host, "[]"))
}

func loopback(address string) bool {
	ip, err := netip.ParseAddr(address)
	return err == nil && ip.Unmap().IsLoopback()
}
