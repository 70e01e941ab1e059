package api

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/access"
	"arithmon/internal/record/account"
	"arithmon/internal/record/audit"
)

// Me is who asks, and what they may do.
type Me struct {
	Open      bool        `json:"open" doc:"there are no accounts yet: everybody on the service's machine may do everything"`
	Account   string      `json:"account,omitempty" doc:"empty: not signed in"`
	Token     string      `json:"token,omitempty" doc:"name of the token that was shown; empty for a session"`
	Role      access.Role `json:"role,omitempty" enum:"viewer,operator,engineer,admin"`
	Only      []string    `json:"only,omitempty" doc:"the part of the site that the role is limited to: tags, patterns, station:NAME; none for all of it"`
	Factor    bool        `json:"factor,omitempty" doc:"signing in needs a code of a second factor"`
	Directory string      `json:"directory,omitempty" doc:"what the company's directory is called, when one can sign in through it"`
}

// SignIn is what somebody who signs in knows.
type SignIn struct {
	Account  string `json:"account"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty" doc:"of the second factor, where the account has one"`
}

// Account is who may use the service.
type Account struct {
	Name      string      `json:"name"`
	Role      access.Role `json:"role" enum:"viewer,operator,engineer,admin"`
	Only      []string    `json:"only,omitempty" doc:"the part of the site that the role is limited to: tags, patterns, station:NAME; none for all of it"`
	Factor    bool        `json:"factor,omitempty" doc:"signing in needs a code of a second factor"`
	Directory bool        `json:"directory,omitempty" doc:"the company's directory says who this is and which role it has"`
	Created   time.Time   `json:"created"`
	SignedIn  *time.Time  `json:"signed_in,omitempty" doc:"the last time"`
}

// NewAccount is an account that is to be made.
type NewAccount struct {
	Name     string      `json:"name"`
	Role     access.Role `json:"role" enum:"viewer,operator,engineer,admin"`
	Only     []string    `json:"only,omitempty" doc:"the part of the site that the role is limited to: tags, patterns, station:NAME; none for all of it"`
	Password string      `json:"password" doc:"at least 12 characters, and none of the most common ones"`
}

// AccountChanges are what is to be changed of an account; what is left out stays.
type AccountChanges struct {
	Role     *access.Role `json:"role,omitempty" enum:"viewer,operator,engineer,admin"`
	Only     *[]string    `json:"only,omitempty" doc:"[] takes the limits away"`
	Password *string      `json:"password,omitempty"`
	Factor   *bool        `json:"factor,omitempty" doc:"false: take the second factor away, such as when it was lost"`
}

// OwnPassword is a new password for the account of who asks.
type OwnPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// OwnFactor sets up the second factor of who asks: without a code, what is needed for that is answered; with both, it is set up.
type OwnFactor struct {
	Secret string `json:"secret,omitempty" doc:"as it was answered before"`
	Code   string `json:"code,omitempty" doc:"that the authenticator gives for it"`
}

// Factor is what an authenticator needs to give codes.
type Factor struct {
	Secret  string `json:"secret" doc:"base32"`
	Address string `json:"address" doc:"otpauth://, as a picture to be scanned has it"`
	Picture string `json:"picture,omitempty" doc:"data: URL of a picture of the address, to be scanned"`
	Done    bool   `json:"done" doc:"the second factor is set up"`
}

// Token is what a program shows instead of a password.
type Token struct {
	Name    string      `json:"name"`
	Account string      `json:"account"`
	Role    access.Role `json:"role" enum:"viewer,operator,engineer,admin"`
	Only    []string    `json:"only,omitempty"`
	Created time.Time   `json:"created"`
	Ends    time.Time   `json:"ends"`
	Used    *time.Time  `json:"used,omitempty" doc:"the last time, roughly"`
}

// NewToken is a token that is to be made.
type NewToken struct {
	Name string      `json:"name"`
	Role access.Role `json:"role,omitempty" doc:"at most that of the account (default that)" enum:"viewer,operator,engineer,admin"`
	Only []string    `json:"only,omitempty" doc:"the part of the site that it is limited to"`
	Days int         `json:"days,omitempty" doc:"after which it ends (default 90)"`
}

// MadeToken is a token as it is shown once.
type MadeToken struct {
	Token
	Secret string `json:"token" doc:"what is to be shown (Authorization: Bearer); it cannot be found out later"`
}

// Session is somebody who is signed in.
type Session struct {
	ID      int64     `json:"id"`
	Account string    `json:"account"`
	Began   time.Time `json:"began"`
	Seen    time.Time `json:"seen" doc:"when a hand was last on it, roughly"`
	From    string    `json:"from" doc:"network address"`
	Agent   string    `json:"agent" doc:"what the browser says of itself"`
	Here    bool      `json:"here,omitempty" doc:"it is the one that asks"`
}

// AuditEntry is one entry of the audit log.
type AuditEntry struct {
	ID      int64        `json:"id"`
	Time    time.Time    `json:"time"`
	Who     string       `json:"who"`
	From    string       `json:"from,omitempty" doc:"network address"`
	Action  audit.Action `json:"action" enum:"sign-in,sign-out,refused,account,token,change,write,recording,export,service"`
	Subject string       `json:"subject"`
	Detail  string       `json:"detail"`
	Hash    string       `json:"hash" doc:"SHA-256 of this entry and of the hash before, hexadecimal"`
}

// AuditVerdict is whether the audit log is as it was written.
type AuditVerdict struct {
	Whole   bool         `json:"whole"`
	Entries int64        `json:"entries"`
	First   int64        `json:"first"`
	Last    int64        `json:"last"`
	Hash    string       `json:"hash" doc:"of the last entry; kept elsewhere, it shows later that nothing before was changed"`
	Faults  []AuditFault `json:"faults"`
}

// AuditFault is an entry that was altered, or entries that were removed.
type AuditFault struct {
	ID  int64  `json:"id"`
	Why string `json:"why"`
}

var auditQuery = append([]parameter{
	{name: "who", doc: "only of this account"}, {name: "action", doc: "only this", is: choice(audit.Actions()...)}, {name: "after", doc: "only entries of a higher number, from the oldest on", is: natural},
	{name: "from", doc: "only from that time on", is: instant}, {name: "until", doc: "only before", is: instant}, {name: "follow", doc: "true: a line of JSON for each entry, now and as they come, until the client goes", is: truth},
}, paging...)

// accountRoutes are who may use the service, and what was done.
func (s *Server) accountRoutes() []route {
	return []route{
		{"GET", "/api/v1/me", anyone, "who asks, and what they may do", nil, nil, Me{}, 200, s.me},
		{"POST", "/api/v1/sign-in", anyone, "open a session, which the browser keeps as a cookie", nil, SignIn{}, Me{}, 200, s.signIn},
		{"POST", "/api/v1/sign-out", viewerOfPart, "end the session that asks", nil, nil, nil, 204, s.signOut},
		{"PUT", "/api/v1/me/password", viewerOfPart, "change the own password; other sessions of the account end", nil, OwnPassword{}, nil, 204, s.ownPassword},
		{"PUT", "/api/v1/me/factor", viewerOfPart, "set up a second factor (TOTP, RFC 6238) for the own account, in two steps", nil, OwnFactor{}, Factor{}, 200, s.ownFactor},
		{"GET", "/api/v1/accounts", admin, "who may use the service", paging, nil, Page[Account]{}, 200, s.listAccounts},
		{"POST", "/api/v1/accounts", admin, "make an account; the first one must be an admin, and is made on the service's machine", nil, NewAccount{}, Account{}, 201, s.addAccount},
		{"PATCH", "/api/v1/accounts/:name", admin, "change an account", nil, AccountChanges{}, Account{}, 200, s.setAccount},
		{"DELETE", "/api/v1/accounts/:name", admin, "remove an account with its tokens and sessions", nil, nil, nil, 204, s.removeAccount},
		{"GET", "/api/v1/tokens", viewerOfPart, "the own tokens; all for an admin", paging, nil, Page[Token]{}, 200, s.listTokens},
		{"POST", "/api/v1/tokens", viewerOfPart, "make a token of the own account", nil, NewToken{}, MadeToken{}, 201, s.addToken},
		{"DELETE", "/api/v1/tokens/:name", viewerOfPart, "end a token", nil, nil, nil, 204, s.removeToken},
		{"GET", "/api/v1/sessions", viewerOfPart, "the own sessions; all for an admin", paging, nil, Page[Session]{}, 200, s.listSessions},
		{"DELETE", "/api/v1/sessions/:id", viewerOfPart, "end a session", nil, nil, nil, 204, s.endSession},
		{"GET", "/api/v1/audit", admin, "what was done and refused, newest first", auditQuery, nil, Page[AuditEntry]{}, 200, s.auditLog},
		{"GET", "/api/v1/audit/verify", admin, "whether the audit log is as it was written", nil, nil, AuditVerdict{}, 200, s.verifyAudit},
	}
}

func (s *Server) me(c *gin.Context) error {
	who, err := s.gate.identify(c)
	if err != nil {
		who = access.Principal{} // a session that has ended is none
	}
	c.JSON(http.StatusOK, s.newMe(who))
	return nil
}

func (s *Server) newMe(who access.Principal) Me {
	me := Me{Open: s.gate.open(), Account: who.Account, Token: who.Token, Role: who.Role, Only: who.Only}
	if s.directory != nil {
		me.Directory = s.directory.Name()
	}
	if a, err := s.accounts.Account(who.Account); err == nil && !me.Open {
		me.Factor = a.Factor
	}
	return me
}

// signIn opens a session. It is in the cookie alone, which no script of a page can read.
func (s *Server) signIn(c *gin.Context) error {
	request, err := request[SignIn](c)
	if err != nil {
		return err
	}
	if s.gate.open() {
		return fail(http.StatusConflict, "there are no accounts yet; the service is open to this machine")
	}
	secret, session, err := s.accounts.SignIn(c.Request.Context(), request.Account, request.Password, request.Code, address(c), c.Request.UserAgent())
	if err != nil {
		return err
	}
	s.keepSession(c, secret)
	who, err := s.accounts.Principal(secret, address(c), true)
	if err != nil {
		return err
	}
	s.log.Info("signed in", "account", session.Account, "from", session.From)
	c.JSON(http.StatusOK, s.newMe(who))
	return nil
}

// keepSession has the browser keep a session, until it ends; an empty one has it forget.
func (s *Server) keepSession(c *gin.Context, secret string) {
	age := int(account.SessionLife / time.Second)
	if secret == "" {
		age = -1
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: s.gate.cookie(), Value: secret, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.gate.secure, SameSite: http.SameSiteStrictMode})
}

func (s *Server) signOut(c *gin.Context) error {
	if s.gate.open() {
		return fail(http.StatusConflict, "there are no accounts yet; nobody is signed in")
	}
	if principal(c).Token != "" {
		return fail(http.StatusConflict, "this is a token and no session; remove it, or forget it")
	}
	if err := s.accounts.SignOut(c.Request.Context(), principal(c), s.gate.shown(c)); err != nil {
		return err
	}
	s.keepSession(c, "")
	c.Status(http.StatusNoContent)
	return nil
}

// person is an error unless a person with a session of their own asks.
func (s *Server) person(c *gin.Context) error {
	switch {
	case s.gate.open():
		return fail(http.StatusConflict, "there are no accounts yet")
	case principal(c).Token != "":
		return fail(http.StatusForbidden, "a token may not do this; sign in with the password")
	}
	return nil
}

// wholeAccount is an error for a token that may less than its account: it must not live on in tokens that it makes, nor end what others of the account do.
func (s *Server) wholeAccount(c *gin.Context) error {
	who := principal(c)
	a, err := s.accounts.Account(who.Account)
	if who.Token != "" && err == nil && (who.Role != a.Role || !a.Only.Within(who.Only)) {
		return fail(http.StatusForbidden, "the token %s may less than %s; tokens and sessions are made and ended by who is signed in", who.Token, who.Account)
	}
	return nil
}

func (s *Server) ownPassword(c *gin.Context) error {
	request, err := request[OwnPassword](c)
	if err != nil {
		return err
	}
	if err := s.person(c); err != nil {
		return err
	}
	who := principal(c)
	if err := s.accounts.Knows(c.Request.Context(), who, request.Old); err != nil {
		return err
	}
	if err := s.accounts.Set(c.Request.Context(), who, who.Account, account.Changes{Password: &request.New}, s.gate.shown(c)); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) ownFactor(c *gin.Context) error {
	request, err := request[OwnFactor](c)
	if err != nil {
		return err
	}
	if err := s.person(c); err != nil {
		return err
	}
	who := principal(c)
	if request.Secret == "" {
		f, err := account.NewFactor(who.Account)
		if err != nil {
			return err
		}
		c.JSON(http.StatusOK, Factor{Secret: f.Secret, Address: f.Address, Picture: "data:image/png;base64," + base64.StdEncoding.EncodeToString(f.Picture)})
		return nil
	}
	if !s.accounts.CheckFactor(request.Secret, request.Code) {
		return &account.Fault{Field: "code", Value: request.Code, Message: "is not the one that belongs to the secret now; look at the clock of the authenticator, and type the code that it shows"}
	}
	if err := s.accounts.Set(c.Request.Context(), who, who.Account, account.Changes{Factor: &request.Secret}, s.gate.shown(c)); err != nil {
		return err
	}
	c.JSON(http.StatusOK, Factor{Secret: request.Secret, Done: true})
	return nil
}

// moment is a time, nil when it is none.
func momentOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

func newAccount(a account.Account) Account {
	return Account{a.Name, a.Role, a.Only, a.Factor, a.Directory, a.Created.UTC(), momentOf(a.SignedIn)}
}

func newToken(t account.Token) Token {
	return Token{t.Name, t.Account, t.Role, t.Only, t.Created.UTC(), t.Ends.UTC(), momentOf(t.Used)}
}

// give answers with a page of a list.
func give[A, B any](c *gin.Context, list []A, f func(A) B) error {
	page, next, err := part(c, list)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Page[B]{Items: each(page, f), Next: next})
	return nil
}

func (s *Server) listAccounts(c *gin.Context) error {
	return give(c, s.accounts.Accounts(), newAccount)
}

func (s *Server) addAccount(c *gin.Context) error {
	request, err := request[NewAccount](c)
	if err != nil {
		return err
	}
	if s.gate.open() && !loopback(address(c)) {
		return fail(http.StatusForbidden, "the first account is made on the machine itself: arithmon account add NAME --role admin")
	}
	if err := s.accounts.Add(c.Request.Context(), principal(c), request.Name, request.Password, request.Role, request.Only); err != nil {
		return err
	}
	return s.giveAccount(c, http.StatusCreated, request.Name)
}

func (s *Server) giveAccount(c *gin.Context, status int, name string) error {
	a, err := s.accounts.Account(name)
	if err != nil {
		return err
	}
	c.JSON(status, newAccount(a))
	return nil
}

func (s *Server) setAccount(c *gin.Context) error {
	request, err := request[AccountChanges](c)
	if err != nil {
		return err
	}
	changes := account.Changes{Role: request.Role, Password: request.Password}
	if request.Only != nil {
		only := access.Limits(*request.Only)
		changes.Only = &only
	}
	if request.Factor != nil {
		if *request.Factor {
			return &account.Fault{Field: "factor", Value: "true", Message: "is set up by the one who has the authenticator; an admin can take it away (false)"}
		}
		changes.Factor = new(string)
	}
	if err := s.accounts.Set(c.Request.Context(), principal(c), name(c), changes, s.gate.shown(c)); err != nil {
		return err
	}
	return s.giveAccount(c, http.StatusOK, name(c))
}

func (s *Server) removeAccount(c *gin.Context) error {
	if err := s.accounts.Remove(c.Request.Context(), principal(c), name(c)); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// mine is the account whose tokens and sessions who asks may see; empty: all.
func mine(c *gin.Context) string {
	if who := principal(c); who.Role != access.Admin {
		return who.Account
	}
	return ""
}

func (s *Server) listTokens(c *gin.Context) error {
	return give(c, s.accounts.Tokens(mine(c)), newToken)
}

func (s *Server) addToken(c *gin.Context) error {
	request, err := request[NewToken](c)
	if err != nil {
		return err
	}
	if s.gate.open() {
		return fail(http.StatusConflict, "there are no accounts yet, so that no token is needed; make an account first: arithmon account add NAME --role admin")
	}
	if err := s.wholeAccount(c); err != nil {
		return err
	}
	if request.Days < 0 || request.Days > account.MaxDays {
		return &account.Fault{Field: "days", Value: strconv.Itoa(request.Days), Message: fmt.Sprintf("1 to %d are possible", account.MaxDays)}
	}
	t := account.Token{Name: request.Name, Role: request.Role, Only: request.Only}
	if request.Days > 0 {
		t.Ends = time.Now().AddDate(0, 0, request.Days)
	}
	made, secret, err := s.accounts.AddToken(c.Request.Context(), principal(c), t)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, MadeToken{newToken(made), secret})
	return nil
}

func (s *Server) removeToken(c *gin.Context) error {
	if err := s.wholeAccount(c); err != nil {
		return err
	}
	if err := s.accounts.RemoveToken(c.Request.Context(), principal(c), name(c)); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Server) listSessions(c *gin.Context) error {
	here := s.gate.shown(c)
	return give(c, s.accounts.Sessions(mine(c)), func(of account.Session) Session {
		return Session{of.ID, of.Account, of.Began.UTC(), of.Seen.UTC(), of.From, of.Agent, of.Is(here)}
	})
}

func (s *Server) endSession(c *gin.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return fail(http.StatusBadRequest, "%q is no number of a session", c.Param("id"))
	}
	if err := s.wholeAccount(c); err != nil {
		return err
	}
	if err := s.accounts.EndSession(c.Request.Context(), principal(c), id); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func newAuditEntry(e audit.Entry) AuditEntry {
	return AuditEntry{e.ID, e.Time.UTC(), e.Who, e.From, e.Action, e.Subject, e.Detail, e.Hash}
}

// auditLog lists what was done and refused, or follows it.
func (s *Server) auditLog(c *gin.Context) error {
	limit, before, err := recordCursor(c)
	if err != nil {
		return err
	}
	f := audit.Filter{Who: c.Query("who"), Action: audit.Action(c.Query("action")), Before: before, Limit: limit}
	f.After, _ = strconv.ParseInt(c.Query("after"), 10, 64) // checked with the query
	f.From, _ = time.Parse(time.RFC3339Nano, c.Query("from"))
	f.Until, _ = time.Parse(time.RFC3339Nano, c.Query("until"))
	if follow, _ := flag(c, "follow"); follow {
		return s.followAudit(c, f)
	}
	list, err := s.audit.Entries(c.Request.Context(), f)
	if err != nil {
		return err
	}
	out := Page[AuditEntry]{Items: each(list, newAuditEntry)}
	if len(list) == limit && f.After == 0 {
		out.Next = cursorOf(strconv.FormatInt(list[limit-1].ID, 10))
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// followAudit gives entries as they come, from the one after f.After on.
func (s *Server) followAudit(c *gin.Context, f audit.Filter) error {
	ctx := c.Request.Context()
	if f.After == 0 {
		last, err := s.audit.Last(ctx)
		if err != nil {
			return err
		}
		f.After = last
	}
	put := stream(c)
	for {
		more := s.audit.More()
		list, err := s.audit.Entries(ctx, f)
		if err != nil {
			return nil // it has begun: the connection ends
		}
		for _, e := range list {
			f.After = e.ID
			put(newAuditEntry(e))
		}
		if len(list) == f.Limit {
			continue
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.closing:
			return nil
		case <-more:
		}
	}
}

func (s *Server) verifyAudit(c *gin.Context) error {
	v, err := s.audit.Verify(c.Request.Context())
	if err != nil {
		return err
	}
	out := AuditVerdict{Whole: len(v.Faults) == 0, Entries: v.Entries, First: v.First, Last: v.Last, Hash: v.Hash, Faults: []AuditFault{}}
	for _, f := range v.Faults {
		out.Faults = append(out.Faults, AuditFault(f))
	}
	c.JSON(http.StatusOK, out)
	return nil
}
