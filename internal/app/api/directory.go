package api

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"arithmon/internal/app/directory"
	"arithmon/internal/record/audit"
)

// directoryCookie keeps the state of a sign-in in the browser that began it.
const directoryCookie = "arithmon-directory"

// directoryReturn is where the directory sends browsers back to.
const directoryReturn = "/api/v1/directory/return"

// what a directory may say when it sends a browser back; OpenID Connect Core 1.0, clause 3.1.2.5, and what directories add
var returnQuery = []parameter{{name: "code", doc: "of the sign-in"}, {name: "state", doc: "as it was sent there"}, {name: "error", doc: "why it did not sign in"}, {name: "error_description", doc: "in words"}, {name: "error_uri", doc: "more of it"},
	{name: "iss", doc: "not used"}, {name: "session_state", doc: "not used"}, {name: "scope", doc: "not used"}, {name: "authuser", doc: "not used"}, {name: "prompt", doc: "not used"}, {name: "hd", doc: "not used"}}

// directoryRoutes sign in through the company's directory, where there is one.
func (s *Server) directoryRoutes() []route {
	if s.directory == nil {
		return nil
	}
	return []route{
		{"GET", "/api/v1/directory", anyone, "sign in through the company's directory: sends the browser there", nil, nil, nil, 302, s.toDirectory},
		{"GET", directoryReturn, anyone, "where the directory sends the browser back to", returnQuery, nil, nil, 302, s.fromDirectory},
	}
}

func (s *Server) toDirectory(c *gin.Context) error {
	if s.gate.open() {
		return fail(http.StatusConflict, "there are no accounts yet; the first one is made on the machine itself: arithmon account add NAME --role admin")
	}
	to, state, err := s.directory.Begin(c.Request.Context())
	if err != nil {
		return s.refusedByDirectory(c, "", err)
	}
	s.keepState(c, state)
	c.Redirect(http.StatusFound, to)
	return nil
}

// keepState keeps the state of a sign-in in the browser. It comes from elsewhere when it returns, so that the cookie cannot be a strict one.
func (s *Server) keepState(c *gin.Context, state string) {
	age := 600
	if state == "" {
		age = -1
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: directoryCookie, Value: state, Path: "/api/v1/directory", MaxAge: age, HttpOnly: true, Secure: s.gate.secure, SameSite: http.SameSiteLaxMode})
}

func (s *Server) fromDirectory(c *gin.Context) error {
	kept, _ := c.Cookie(directoryCookie)
	s.keepState(c, "")
	account, role, err := s.directory.Finish(c.Request.Context(), c.Request.URL.Query(), kept)
	if err != nil {
		return s.refusedByDirectory(c, account, err)
	}
	secret, session, err := s.accounts.Directed(c.Request.Context(), account, role, address(c), c.Request.UserAgent())
	if err != nil {
		return s.refusedByDirectory(c, account, err)
	}
	s.keepSession(c, secret)
	s.log.Info("signed in by the directory", "account", session.Account, "role", role, "from", session.From)
	c.Redirect(http.StatusFound, "/")
	return nil
}

// refusedByDirectory sends the browser back to the page of the service, which says why in its own words: those of the directory are in the log.
func (s *Server) refusedByDirectory(c *gin.Context, account string, err error) error {
	s.log.Warn("not signed in by the directory", "account", account, "error", err)
	if s.audit != nil {
		if fault := s.audit.Add(c.Request.Context(), audit.Entry{Who: account, From: address(c), Action: audit.Refused, Subject: "sign-in", Detail: "by the directory: " + err.Error()}); fault != nil {
			return fault
		}
	}
	why := "failed"
	switch {
	case errors.Is(err, directory.ErrUnreachable):
		why = "unreachable"
	case errors.Is(err, directory.ErrNoRole):
		why = "no-role"
	case errors.Is(err, directory.ErrStale):
		why = "stale"
	}
	c.Redirect(http.StatusFound, "/?directory="+why)
	return nil
}
