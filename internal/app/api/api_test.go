package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/live/control"
	"arithmon/internal/live/engine"
	"arithmon/internal/record/account"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
	"arithmon/internal/record/store"
)

// server is a server without links, on a database of its own.
func server(t *testing.T) *Server {
	t.Helper()
	e := engine.New(engine.Options{})
	s, err := store.Open(t.Context(), t.TempDir(), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	book, err := account.Open(t.Context(), s.Database(), account.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { book.Close() })
	return New(Options{Store: s, Engine: e, Control: control.New(e, s, nil), Accounts: book, Audit: audit.Open(s.Database()), Version: "test"})
}

// ask makes a request; header are names and values in turn.
func ask(s *Server, method, path, body string, header ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, "http://127.0.0.1"+path, strings.NewReader(body))
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	return w
}

// furnish makes a link, a station and points a/0 to a/4.
func furnish(t *testing.T, s *Server) {
	t.Helper()
	w := ask(s, "POST", "/api/v1/apply", `{"arithmon": 1, "links": [{"name": "gate", "host": "127.0.0.1"}], "stations": [{"name": "plc", "link": "gate", "unit": 1}],
		"points": [{"tag": "a/0", "station": "plc", "address": "hr:0"}, {"tag": "a/1", "station": "plc", "address": "hr:1"}, {"tag": "a/2", "station": "plc", "address": "hr:2"},
		{"tag": "a/3", "station": "plc", "address": "hr:3"}, {"tag": "a/4", "station": "plc", "address": "hr:4"}]}`)
	require.Equal(t, 200, w.Code, w.Body)
}

func TestAnEntityIsChangedOverTheVersionThatWasSeen(t *testing.T) {
	s := server(t)
	furnish(t, s)
	seen := ask(s, "GET", "/api/v1/points/a/1", "").Header().Get("ETag")
	assert.Equal(t, `"1"`, seen)
	first := ask(s, "PATCH", "/api/v1/points/a/1", `{"unit": "A"}`, "If-Match", seen)
	require.Equal(t, 200, first.Code, first.Body)
	assert.Equal(t, `"2"`, first.Header().Get("ETag"), "the version of what is answered")
	second := ask(s, "PATCH", "/api/v1/points/a/1", `{"unit": "V"}`, "If-Match", seen)
	assert.Equal(t, http.StatusPreconditionFailed, second.Code)
	assert.Equal(t, "application/problem+json", second.Header().Get("Content-Type"))
	assert.Contains(t, second.Body.String(), `from its default to \"A\"; you have \"V\"`)
	other := ask(s, "PATCH", "/api/v1/points/a/1", `{"description": "Flow"}`, "If-Match", seen)
	require.Equal(t, 200, other.Code, "another field is put together with that: %s", other.Body)
	assert.Contains(t, other.Body.String(), `"unit":"A"`)
	assert.Contains(t, other.Header().Get(mergedField), "local+changed+unit")
	assert.Equal(t, `"3"`, other.Header().Get("ETag"))
	whole := ask(s, "PUT", "/api/v1/points/a/1", `{"station": "plc", "address": "hr:1", "decimals": 2}`, "If-Match", seen)
	require.Equal(t, 200, whole.Code, whole.Body)
	assert.Contains(t, whole.Body.String(), `"description":"Flow"`, "what the replaced one did not have is as others made it")
	assert.Equal(t, 400, ask(s, "PATCH", "/api/v1/points/a/1", `{}`, "If-Match", "yesterday").Code)
	assert.Equal(t, http.StatusPreconditionFailed, ask(s, "DELETE", "/api/v1/points/a/1", "", "If-Match", seen).Code)
	assert.Equal(t, 200, ask(s, "DELETE", "/api/v1/points/a/1", "", "If-Match", `"4"`).Code)
}

func TestPagesFollowEachOther(t *testing.T) {
	s := server(t)
	furnish(t, s)
	var tags []string
	for cursor := ""; ; {
		w := ask(s, "GET", "/api/v1/points?limit=2&cursor="+cursor, "")
		var page Page[Point]
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &page))
		assert.LessOrEqual(t, len(page.Items), 2)
		for _, p := range page.Items {
			tags = append(tags, p.Tag)
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	assert.Equal(t, []string{"a/0", "a/1", "a/2", "a/3", "a/4"}, tags)
}

func TestAProblemNamesEveryWrongField(t *testing.T) {
	s := server(t)
	furnish(t, s)
	w := ask(s, "POST", "/api/v1/points", `{"tag": "a b", "station": "nowhere", "address": "hr:1", "type": "uint99"}`)
	assert.Equal(t, http.StatusUnprocessableEntity, w.Code)
	var p Problem
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &p))
	fields := map[string]bool{}
	for _, f := range p.Errors {
		fields[f.Field] = true
	}
	assert.Equal(t, map[string]bool{"tag": true, "station": true, "type": true}, fields)
	assert.Equal(t, 422, p.Status)
}

func TestRequestsFromElsewhereAreRefused(t *testing.T) {
	s := server(t)
	r := httptest.NewRequest("GET", "http://plant.example/api/v1/links", nil)
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	assert.Equal(t, http.StatusForbidden, w.Code)
	assert.Equal(t, http.StatusForbidden, ask(s, "POST", "/api/v1/links", `{}`, "Origin", "http://evil.example").Code)
}

func TestExplanationsAreWhole(t *testing.T) {
	w := ask(server(t), "GET", "/api/v1/explanations", "")
	var e Explanations
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &e))
	assert.Greater(t, len(e.Reasons), 25)
	assert.Greater(t, len(e.Findings), 50)
	for _, r := range e.Reasons {
		assert.NotEmpty(t, r.Text, r.Reason)
	}
}

func TestABackupIsADatabase(t *testing.T) {
	s := server(t)
	furnish(t, s)
	w := ask(s, "GET", "/api/v1/backup", "")
	require.Equal(t, 200, w.Code)
	assert.Contains(t, w.Header().Get("Content-Disposition"), database.FileName)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, database.FileName), w.Body.Bytes(), 0o600))
	kept, err := store.Open(t.Context(), dir, store.Options{})
	require.NoError(t, err)
	defer kept.Close()
	assert.Len(t, kept.Site().Tags(), 5)
}

// The description is sound by itself, and names every operation once.
func TestTheDescriptionIsSound(t *testing.T) {
	b, err := DescriptionJSON()
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(b)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	seen := map[string]string{}
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			require.NotEmpty(t, operation.OperationID, path)
			assert.Empty(t, seen[operation.OperationID], "%s %s", method, path)
			seen[operation.OperationID] = path
		}
	}
	assert.Equal(t, "/metrics", seen["getMetrics"])
}

// Parameters that a route does not have, values that it does not take, cursors that it did not give, and bodies of another kind are refused.
func TestWhatARouteDoesNotTake(t *testing.T) {
	s := server(t)
	for _, c := range []struct {
		method, path, says string
		status             int
	}{
		{"GET", "/api/v1/points?limt=5", `has no parameter "limt"; did you mean limit?`, 400},
		{"GET", "/api/v1/points?limit=x", "limit=x: 1 to 10000 is possible", 400},
		{"GET", "/api/v1/points?limit=0", "limit=0: 1 to 10000 is possible", 400},
		{"GET", "/api/v1/points?cursor=gate", "that is none this service gave", 400},
		{"GET", "/api/v1/changes?cursor=" + cursorOf("gate"), "it is of another list", 400},
		{"GET", "/api/v1/changes?kind=gate", "kind=gate: choose template, link, station, point", 400},
		{"GET", "/api/v1/traffic?wrong=perhaps", "wrong=perhaps: true or false is needed", 400},
		{"GET", "/api/v1/traffic?after=-1", "a whole number from 0 on is needed", 400},
		{"GET", "/api/v1/events?from=yesterday", "a time as 2026-11-23T08:00:00Z is needed", 400},
		{"GET", "/api/v1/status?a=b", `has no parameter "a"`, 400},
		{"GET", "/api/v1/lens?tag=a&tag=b", "tag is given 2 times; it is possible once", 400},
		{"GET", "/api/v1/points?tag=&station=", "", 200},
		{"GET", "/api/v1/address?text=0x10&notation=hex&table=hr", "", 200},
		{"GET", "/api/v1/address?text=10&notation=octal", "notation=octal: choose offset, number, ref5, ref6, hex", 400},
	} {
		w := ask(s, c.method, c.path, "")
		assert.Equal(t, c.status, w.Code, "%s: %s", c.path, w.Body)
		assert.Contains(t, w.Body.String(), strings.ReplaceAll(c.says, `"`, `\"`), c.path)
	}
	for kind, status := range map[string]int{"image/png": 415, "multipart/form-data; boundary=x": 415, "application/json; charset=utf-8": 201, "application/x-www-form-urlencoded": 201, "": 201} {
		r := httptest.NewRequest("POST", "http://127.0.0.1/api/v1/links", strings.NewReader(fmt.Sprintf(`{"name": "l%d", "host": "h"}`, len(kind))))
		if kind != "" {
			r.Header.Set("Content-Type", kind)
		}
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		assert.Equal(t, status, w.Code, "%s: %s", kind, w.Body)
	}
}

// A list is a file of one of several kinds, which a browser names by the end of its name.
func TestListsMaySayWhatTheyAre(t *testing.T) {
	s := server(t)
	for kind, status := range map[string]int{"text/csv": 200, "application/vnd.ms-excel": 200, spreadsheet: 200, "text/tab-separated-values": 200, "": 200, "multipart/form-data; boundary=x": 415} {
		r := httptest.NewRequest("POST", "http://127.0.0.1/api/v1/import/points?dry_run=true", strings.NewReader("tag,address\na,40001\n"))
		r.Header.Set("Content-Type", kind)
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		assert.Equal(t, status, w.Code, "%s: %s", kind, w.Body)
	}
}

// A document that replaces an entity need not repeat what the path calls it.
func TestReplacingByItsPath(t *testing.T) {
	s := server(t)
	w := ask(s, "PUT", "/api/v1/links/spare", `{"host": "h"}`)
	require.Equal(t, 200, w.Code, w.Body)
	assert.Contains(t, w.Body.String(), `"name":"spare"`)
	w = ask(s, "PUT", "/api/v1/links/spare", `{"host": "h2"}`)
	assert.Contains(t, w.Body.String(), `"host":"h2"`)
}
