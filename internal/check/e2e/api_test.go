package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
)

// ask makes a bare request and returns its status, headers and body.
func (p *plant) ask(method, path, body string, header ...string) (int, http.Header, string) {
	p.t.Helper()
	r, err := http.NewRequestWithContext(p.t.Context(), method, p.service.URL+path, strings.NewReader(body))
	require.NoError(p.t, err)
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			r.Host = header[i+1]
		}
		r.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	require.NoError(p.t, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(p.t, err)
	return response.StatusCode, response.Header, string(b)
}

func TestPagesFromElsewhereCannotUseTheService(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for _, c := range []struct {
		name   string
		header []string
		want   int
	}{
		{"a program", nil, 200},
		{"its own page", []string{"Origin", p.service.URL}, 200},
		{"by name", []string{"Host", "localhost:7340"}, 200},
		{"a page from elsewhere", []string{"Origin", "http://evil.example"}, 403},
		{"a page on another port of this machine", []string{"Origin", "http://127.0.0.1:1"}, 403},
		{"a sandboxed page", []string{"Origin", "null"}, 403},
		{"a name that was made to resolve here", []string{"Host", "evil.example"}, 403},
		{"an address of the network", []string{"Host", "192.168.1.5:7340"}, 403},
		{"a script or image tag elsewhere", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "no-cors"}, 403},
		{"a link followed from elsewhere", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate"}, 403},
		{"and from another port of this machine", []string{"Sec-Fetch-Site", "same-site", "Sec-Fetch-Mode", "navigate"}, 403},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, _, body := p.ask("GET", "/api/v1/links", "", c.header...)
			assert.Equal(t, c.want, status, body)
		})
	}
	elsewhere := []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}
	for _, c := range []struct {
		name, method, path string
		want               int
	}{
		{"a page of the console may be linked to", "GET", "/live?point=gate/level", 200},
		{"a navigation must not touch a device", "GET", "/api/v1/stations/plc/read?range=hr:0", 403},
		{"a form must not change the site", "POST", "/api/v1/links", 403},
		{"nor write", "POST", "/api/v1/write", 403},
		{"nor may a page be posted to", "POST", "/live", 403},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, _, body := p.ask(c.method, c.path, "", append(elsewhere, "Content-Type", "application/x-www-form-urlencoded")...)
			assert.Equal(t, c.want, status, body)
		})
	}
	status, _, body := p.ask("GET", "/assets/", "")
	assert.Equal(t, 200, status)
	assert.NotContains(t, body, "<pre>", "no list of files")
	assert.Contains(t, body, "<div id=\"app\">")
	_, _, err := websocket.Dial(t.Context(), "ws"+strings.TrimPrefix(p.service.URL, "http")+"/api/v1/live", &websocket.DialOptions{HTTPHeader: http.Header{"Origin": {"http://evil.example"}}})
	assert.Error(t, err, "nor over a WebSocket")
}

func TestProblemDocuments(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		field, message           string
	}{
		{"several fields at once", "POST", "/api/v1/links", `{"name": "a b", "host": "", "port": 99999}`, 422, "name", "has ' ' in it"},
		{"unknown field", "POST", "/api/v1/links", `{"nam": "a"}`, 422, "nam", "did you mean name?"},
		{"text for a number", "PATCH", "/api/v1/stations/plc", `{"unit": "1"}`, 422, "unit", "is text; a whole number is needed"},
		{"no JSON", "POST", "/api/v1/points", `{"tag": `, 422, "", "is not YAML"},
		{"nothing", "POST", "/api/v1/points", ``, 422, "", "is empty"},
		{"a list", "POST", "/api/v1/points", `[1]`, 422, "", "is a list"},
		{"unknown point", "GET", "/api/v1/points/gate/levl", ``, 404, "", ""},
		{"unknown path", "GET", "/api/v1/nothing", ``, 404, "", ""},
		{"wrong method", "DELETE", "/api/v1/links", ``, 405, "", ""},
		{"bad limit", "GET", "/api/v1/points?limit=0", ``, 400, "", ""},
		{"bad cursor", "GET", "/api/v1/changes?cursor=x", ``, 400, "", ""},
		{"no range", "GET", "/api/v1/stations/plc/read?range=hr", ``, 422, "range", "is no number"},
		{"a write to nothing", "POST", "/api/v1/write", `{"tag": "x", "value": 1}`, 404, "", ""},
		{"a write of a list", "POST", "/api/v1/write", `{"tag": "gate/setpoint", "value": [1]}`, 422, "value", "neither a number"},
		{"file too large", "POST", "/api/v1/apply", strings.Repeat("# 0123456789\n", 3<<20), 413, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, header, body := p.ask(c.method, c.path, c.body)
			assert.Equal(t, c.status, status, body)
			assert.Equal(t, "application/problem+json", header.Get("Content-Type"))
			var problem api.Problem
			require.NoError(t, json.Unmarshal([]byte(body), &problem))
			assert.Equal(t, c.status, problem.Status)
			assert.NotEmpty(t, problem.Detail)
			if c.message != "" {
				require.NotEmpty(t, problem.Errors)
				assert.Equal(t, c.field, problem.Errors[0].Field)
				assert.Contains(t, problem.Errors[0].Message, c.message)
			}
		})
	}
	_, _, body := p.ask("POST", "/api/v1/links", `{"name": "a b", "host": "", "port": 99999}`)
	var problem api.Problem
	require.NoError(t, json.Unmarshal([]byte(body), &problem))
	assert.Len(t, problem.Errors, 3, "one entry a wrong field")
}

func TestVersions(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, header, _ := p.ask("GET", "/api/v1/links/gate", "")
	tag := header.Get("ETag")
	require.Equal(t, `"1"`, tag)
	status, header, _ := p.ask("PATCH", "/api/v1/links/gate", `{"description": "mine"}`, "If-Match", tag)
	assert.Equal(t, 200, status)
	assert.Equal(t, `"2"`, header.Get("ETag"))
	status, _, body := p.ask("PATCH", "/api/v1/links/gate", `{"description": "theirs"}`, "If-Match", tag)
	assert.Equal(t, 412, status)
	assert.Contains(t, body, "was changed meanwhile by local")
	status, _, _ = p.ask("DELETE", "/api/v1/points/bus/one", "", "If-Match", `"9"`)
	assert.Equal(t, 412, status)
	status, _, _ = p.ask("PATCH", "/api/v1/links/gate", `{"timeout": null}`)
	assert.Equal(t, 200, status)
	_, _, body = p.ask("GET", "/api/v1/links/gate", "")
	assert.Contains(t, body, `"timeout":"1s"`, "null gives the default")
}

func TestTagsInPaths(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for _, path := range []string{"/api/v1/points/gate/level", "/api/v1/points/gate%2Flevel"} {
		status, _, body := p.ask("GET", path, "")
		assert.Equal(t, 200, status, path)
		assert.Contains(t, body, `"canonical":"hr:9"`)
		assert.Contains(t, body, `"address":"40010"`)
	}
	status, _, body := p.ask("PUT", "/api/v1/points/gate/new", `{"tag": "gate/new", "station": "plc", "address": "co:1"}`)
	assert.Equal(t, 200, status, body)
	status, _, body = p.ask("PUT", "/api/v1/points/gate/new", `{"tag": "gate/newer", "station": "plc", "address": "co:1"}`)
	assert.Equal(t, 200, status, body)
	status, _, _ = p.ask("GET", "/api/v1/points/gate/new", "")
	assert.Equal(t, 404, status, "renamed")
}

func TestAPointKeepsItsAddressWhereTheNotationChanges(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	status, _, body := p.ask("PATCH", "/api/v1/points/gate/setpoint", `{"station": "one"}`) // from ref5 to offset
	assert.Equal(t, 200, status, body)
	assert.Contains(t, body, `"canonical":"hr:20"`)
	status, _, body = p.ask("PATCH", "/api/v1/stations/plc", `{"notation": "ref6"}`)
	assert.Equal(t, 200, status, body)
	_, _, body = p.ask("GET", "/api/v1/points/gate/level", "")
	assert.Contains(t, body, `"canonical":"hr:9"`)
	assert.Contains(t, body, `"address":"400010"`)
	_, _, body = p.ask("PATCH", "/api/v1/points/gate/level", `{"address": "co:3", "order": null, "decimals": null}`)
	assert.Contains(t, body, "float32 does not fit co:3", "a type that was chosen is not dropped in silence")
	_, _, body = p.ask("PATCH", "/api/v1/points/bus/one", `{"address": "co:3"}`)
	assert.Contains(t, body, `"type":"bool"`, "one that followed from the table is")
}

func TestWhatAnAddressMeans(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for query, want := range map[string]string{
		"text=40010&station=plc":             `"canonical":"hr:9"`,
		"text=40010&notation=ref6":           "is ambiguous",
		"text=10&notation=number&table=ir":   `"canonical":"ir:9"`,
		"text=10&notation=roman":             "choose offset, number, ref5, ref6, hex",
		"text=hr:1&station=nowhere":          "there is no station",
		"text=&station=plc":                  "is empty",
		"text=hr:9&table=co":                 "but the table chosen is co",
		"text=0x10&notation=offset&table=hr": `"canonical":"hr:16"`,
		"text=40010.3&station=plc":           "bit 3 of holding register",
	} {
		_, _, body := p.ask("GET", "/api/v1/address?"+query, "")
		assert.Contains(t, body, want, query)
	}
}

func TestPages(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	var tags []string
	path := "/api/v1/points?limit=2"
	for path != "" {
		_, _, body := p.ask("GET", path, "")
		var page api.Page[api.Point]
		require.NoError(t, json.Unmarshal([]byte(body), &page))
		for _, item := range page.Items {
			tags = append(tags, item.Tag)
		}
		if path = ""; page.Next != "" {
			path = "/api/v1/points?limit=2&cursor=" + page.Next
		}
	}
	assert.Equal(t, []string{"bus/one", "bus/two", "gate/level", "gate/open-cmd", "gate/setpoint"}, tags)
}

func TestDryRunAndPruneThroughTheAPI(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	less := p.site()[:strings.Index(p.site(), "  - {tag: bus/one")]
	sum, err := p.client.Apply(t.Context(), "less.yaml", []byte(less), true, true)
	require.NoError(t, err)
	assert.True(t, sum.DryRun)
	assert.Equal(t, 2, sum.Removed)
	readings, err := p.client.Readings(t.Context())
	require.NoError(t, err)
	assert.Len(t, readings, 5)
	sum, err = p.client.Apply(t.Context(), "less.yaml", []byte(less), false, true)
	require.NoError(t, err)
	assert.Equal(t, 2, sum.Removed)
	readings, err = p.client.Readings(t.Context())
	require.NoError(t, err)
	assert.Len(t, readings, 3)
	sum, err = p.client.Apply(t.Context(), "less.yaml", []byte(less), false, true)
	require.NoError(t, err)
	assert.Empty(t, sum.Changes, "applied twice it changes nothing")
}

func TestLiveFollowsOtherTagsWhenAsked(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	conn, _, err := websocket.Dial(t.Context(), "ws"+strings.TrimPrefix(p.service.URL, "http")+"/api/v1/live?tag=gate/level", nil)
	require.NoError(t, err)
	defer conn.CloseNow()
	next := func(prefix string) {
		for {
			_, data, err := conn.Read(t.Context())
			require.NoError(t, err)
			var m api.LiveMessage
			require.NoError(t, json.Unmarshal(data, &m))
			if len(m.Readings) > 0 && strings.HasPrefix(m.Readings[0].Tag, prefix) {
				return
			}
		}
	}
	next("gate/")
	require.NoError(t, conn.Write(t.Context(), websocket.MessageText, []byte(`{"tags": ["bus/*"]}`)))
	next("bus/")
	require.NoError(t, conn.Write(t.Context(), websocket.MessageText, []byte(`nonsense`)))
	for err == nil {
		_, _, err = conn.Read(t.Context())
	}
	assert.Equal(t, websocket.StatusUnsupportedData, websocket.CloseStatus(err))
}

func TestMetricsAndDescription(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("bus/one", "good")
	_, _, body := p.ask("GET", "/metrics", "")
	assert.Contains(t, body, `arithmon_link_up{link="bus"} 1`)
	assert.Contains(t, body, `arithmon_station_points{link="bus",quality="good",station="one"} 1`)
	status, _, body := p.ask("GET", "/api/v1/openapi.json", "")
	assert.Equal(t, 200, status)
	assert.True(t, json.Valid([]byte(body)))
}

func TestTheConsolesTypesAreOfThisAPI(t *testing.T) {
	t.Parallel()
	want, err := api.DescriptionJSON()
	require.NoError(t, err)
	got, err := os.ReadFile("../../../web/openapi.json")
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got), "run make types")
}
