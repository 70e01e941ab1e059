package client

import (
	"bytes"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
)

// answering is a client of a service that answers so, and what it was asked last.
func answering(t *testing.T, status int, body string, header ...string) (*Client, *http.Request) {
	t.Helper()
	var asked http.Request
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = *r
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Add(header[i], header[i+1])
		}
		w.WriteHeader(status)
		w.Write([]byte(body))
	}))
	t.Cleanup(s.Close)
	return New(s.URL+"/", "ann é"), &asked
}

func TestWhoAsksIsTold(t *testing.T) {
	c, asked := answering(t, 200, `{"items": []}`)
	_, err := c.Links(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "ann+%C3%A9", asked.Header.Get("Arithmon-Who"))
	assert.Equal(t, "/api/v1/links", asked.URL.Path)
}

func TestAProblemIsToldFieldByField(t *testing.T) {
	c, _ := answering(t, 422, `{"status": 422, "detail": "two faults", "errors": [{"subject": "point a/b", "field": "type", "message": "no such type", "line": 7}, {"field": "tag", "message": "is missing"}]}`)
	_, err := c.Links(t.Context())
	var p *ProblemError
	require.ErrorAs(t, err, &p)
	assert.Equal(t, "line 7: point a/b: type: no such type\ntag: is missing", err.Error())
	c, _ = answering(t, 404, `{"status": 404, "detail": "there is no link"}`)
	_, err = c.Links(t.Context())
	assert.EqualError(t, err, "there is no link")
}

func TestWhatIsNoArithmonIsSaid(t *testing.T) {
	c, _ := answering(t, 502, "<html>")
	_, err := c.Links(t.Context())
	assert.ErrorContains(t, err, "is that an Arithmon service?")
	c, _ = answering(t, 200, "<html>")
	_, err = c.Links(t.Context())
	assert.ErrorContains(t, err, "does not answer as an Arithmon service does")

	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	require.NoError(t, free.Close())
	_, err = New("http://"+address, "").Links(t.Context())
	assert.ErrorContains(t, err, "no service answers at http://"+address)
}

func TestWarningsReachWhoeverAsked(t *testing.T) {
	c, _ := answering(t, 200, `{}`, "Arithmon-Warning", "one", "Arithmon-Warning", "two")
	var warned []string
	c.Warn = func(text string) { warned = append(warned, text) }
	_, err := c.Rig(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, warned)
}

func TestAnAnswerThatBreaksOffIsNoBackup(t *testing.T) {
	c, _ := answering(t, 200, "half", "Content-Length", "100")
	var to bytes.Buffer
	assert.Error(t, c.Backup(t.Context(), &to))
	c, _ = answering(t, 507, `{"status": 507, "detail": "the disk is full"}`)
	to.Reset()
	assert.EqualError(t, c.Backup(t.Context(), &to), "the disk is full")
	assert.Zero(t, to.Len())
}

func TestManyFaultsArePutIntoAsManyWordsAsAreRead(t *testing.T) {
	var p ProblemError
	for i := range 60 {
		p.Errors = append(p.Errors, api.ProblemField{Line: i + 1, Message: "no such thing"})
	}
	lines := strings.Split(p.Error(), "\n")
	require.Len(t, lines, mostShown+1)
	assert.Equal(t, "line 50: no such thing", lines[49])
	assert.Equal(t, "and 10 more faults; mend these first", lines[50])
}
