package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/access"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/live/control"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/record/account"
	"arithmon/internal/record/database"
	"arithmon/internal/record/store"
)

// statusError is an error with the HTTP status it answers.
type statusError struct {
	status int
	detail string
	near   []string
}

func (e *statusError) Error() string { return e.detail }

func fail(status int, format string, args ...any) error {
	return &statusError{status: status, detail: fmt.Sprintf(format, args...)}
}

// CodeNeeded is the type of the problem that a sign-in lacks the code of the second factor.
const CodeNeeded = "urn:arithmon:code-needed"

// problem turns any error of a handler into the document a client gets. It is the one place where that is decided.
func problem(err error) Problem {
	p := Problem{Type: "about:blank", Status: http.StatusInternalServerError, Detail: err.Error()}
	var (
		plain    *statusError
		fields   site.Errors
		file     *sitefile.Error
		document document.Faults
		tooLarge *http.MaxBytesError
		entry    *account.Fault
		both     *conflicting
		decided  *store.Conflicting
	)
	switch {
	case errors.As(err, &plain):
		p.Status, p.Near = plain.status, plain.near
	case errors.As(err, new(*unknown)), errors.Is(err, account.ErrSignIn), errors.Is(err, account.ErrFactor), errors.Is(err, account.ErrEnded), errors.Is(err, account.ErrExpired):
		p.Status = http.StatusUnauthorized
		if errors.Is(err, account.ErrFactor) {
			p.Type = CodeNeeded
		}
	case errors.As(err, new(*access.Refusal)):
		p.Status = http.StatusForbidden
	case errors.As(err, new(*account.TooSoon)):
		p.Status = http.StatusTooManyRequests
	case errors.As(err, &both):
		p.Status = http.StatusPreconditionFailed
		p.Conflicts = both.told()
	case errors.As(err, &decided):
		p.Status = http.StatusConflict
		p.Conflicts = each(decided.Conflicts, newConflict)
	case errors.Is(err, store.ErrDecided):
		p.Status = http.StatusConflict
	case errors.Is(err, store.ErrNoVersion), errors.Is(err, store.ErrForgotten), errors.Is(err, store.ErrNoNote), errors.Is(err, store.ErrNoProposal):
		p.Status = http.StatusNotFound
	case errors.As(err, &entry):
		p.Status = http.StatusUnprocessableEntity
		p.Errors = []ProblemField{{Field: entry.Field, Value: entry.Value, Message: entry.Message}}
	case errors.As(err, &fields):
		p.Status = http.StatusUnprocessableEntity
		for _, f := range fields {
			p.Errors = append(p.Errors, ProblemField{Subject: strings.TrimSpace(string(f.Kind) + " " + f.Name), Field: f.Field, Value: f.Value, Message: f.Message, Line: f.Line})
		}
	case errors.As(err, &file):
		p.Status = http.StatusUnprocessableEntity
		p.Errors = faultFields(file.Faults)
	case errors.As(err, &document):
		p.Status = http.StatusUnprocessableEntity
		p.Errors = faultFields(document)
	case errors.As(err, &tooLarge):
		p.Status = http.StatusRequestEntityTooLarge
		p.Detail = fmt.Sprintf("the request is too large: at most %d MB are read. Divide it into several", max(1, tooLarge.Limit>>20))
	case errors.Is(err, store.ErrStale):
		p.Status = http.StatusPreconditionFailed
	case errors.Is(err, control.ErrNoPoint), errors.Is(err, engine.ErrNoStation), errors.Is(err, store.ErrNoChange), errors.Is(err, account.ErrNone), errors.Is(err, account.ErrNoToken), errors.Is(err, account.ErrNoneOpen):
		p.Status = http.StatusNotFound
	case errors.Is(err, control.ErrGivenUp):
		p.Status = http.StatusRequestTimeout
	case errors.Is(err, database.ErrFull):
		p.Status = http.StatusInsufficientStorage
	case database.OnDisk(err):
		p.Status = http.StatusServiceUnavailable
	case errors.Is(err, link.ErrStopped), errors.Is(err, link.ErrBorrowed):
		p.Status = http.StatusServiceUnavailable
	}
	p.Title = http.StatusText(p.Status)
	return p
}

func faultFields(faults document.Faults) (list []ProblemField) {
	for _, f := range faults {
		list = append(list, ProblemField{Field: f.Path, Value: f.Value, Message: f.Message, Line: f.Line})
	}
	return list
}

func (s *Server) abort(c *gin.Context, err error) {
	p := problem(err)
	var soon *account.TooSoon
	if errors.As(err, &soon) {
		c.Header("Retry-After", strconv.Itoa(int(soon.Wait.Seconds())+1))
	}
	if p.Status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", `Bearer realm="Arithmon"`)
	}
	if errors.As(err, new(*access.Refusal)) && principal(c).Role.Includes(access.Viewer) {
		s.gate.refused(c, principal(c), err.Error())
	}
	if p.Status >= 500 {
		s.log.Error("request not served", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
	}
	body, err := json.Marshal(p)
	if err != nil {
		c.AbortWithStatus(p.Status)
		return
	}
	c.Abort()
	c.Data(p.Status, "application/problem+json", body)
}
