package trial

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/app/service"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/record/store"
	"arithmon/internal/rig"
)

// requests is how many random requests are made.
func requests() int {
	if n, err := strconv.Atoi(os.Getenv("TRIAL_REQUESTS")); err == nil {
		return n
	}
	return 10_000
}

// simulated are the devices of the trial, which the API can see and switch.
const simulated = `
rig: 1
lines:
  - name: gate
    listen: 127.0.0.1:0
    stations:
      - unit: 1
        tables: {hr: 40, co: 16, ir: 8}
`

// described is the part of the API's description from which requests are made.
type described struct {
	Paths map[string]map[string]struct {
		Parameters []struct {
			Name, In string
		}
		RequestBody struct {
			Content map[string]struct{ Schema schema }
		}
	}
	Components struct{ Schemas map[string]schema }
}

type schema struct {
	Ref                  string `json:"$ref"`
	Type                 string
	Enum                 []string
	Properties           map[string]schema
	Items                *schema
	OneOf, AllOf         []schema
	AdditionalProperties any
}

// names are what paths and fields are filled with: of what there may be, in each form that a field may want, and of what there is not.
var names = [2][]string{{
	"dev", "bus", "gate", "plc", "w220", "t0_0", "a", "b", "a/b", "1", "127.0.0.1", "hr:9", "hr:0..9", "co:4", "40010", "ai:0", "uint16", "float32", "string", "ABCD", "modbus", "tcp",
	"dnp3", "serial", "100ms", "1h", "true", "false", "ref5", "*", "restart", "2026-11-27T10:00:00Z", "0",
}, {
	"9999999999999999999999", "-1", "NaN", "1e400", "", " ", "\x00", "\xff\xfe", "é", "../../etc/passwd", "'; DROP TABLE points; --", "<script>", "%2F", "\u202e", "{}", "null",
	strings.Repeat("x", 300), strings.Repeat("/", 100),
}}

// maker makes random requests.
type maker struct {
	*rand.Rand
	api   described
	paths []string
}

func (m *maker) name() string {
	list := names[max(0, m.IntN(4)-2)]
	return list[m.IntN(len(list))]
}

// value is one that the schema allows, mostly.
func (m *maker) value(s schema, depth int) any {
	if m.IntN(20) == 0 || depth > 6 { // of another kind
		return []any{nil, true, 7, -1, 1e300, 3.5, m.name(), []any{}, map[string]any{}, []any{nil, 1, "a"}, map[string]any{"no": 1}}[m.IntN(11)]
	}
	switch {
	case s.Ref != "":
		return m.value(m.api.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]], depth)
	case len(s.OneOf) > 0:
		return m.value(s.OneOf[m.IntN(len(s.OneOf))], depth+1)
	case len(s.AllOf) > 0:
		return m.value(s.AllOf[0], depth+1)
	case len(s.Enum) > 0:
		return s.Enum[m.IntN(len(s.Enum))]
	}
	switch s.Type {
	case "object":
		o := map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
			if m.IntN(3) == 0 {
				o[name] = m.value(s.Properties[name], depth+1)
			}
		}
		if s.AdditionalProperties != nil && m.IntN(2) == 0 {
			o[m.name()] = m.name()
		}
		return o
	case "array":
		list := []any{}
		for range m.IntN(4) {
			list = append(list, m.value(*s.Items, depth+1))
		}
		return list
	case "boolean":
		return m.IntN(2) == 0
	case "integer", "number":
		return []float64{0, 1, 2, 5, 9, 100, 247, 502, 65535, 65536, -1, 0.5, 1e18}[m.IntN(13)]
	}
	return m.name()
}

// request is one made of the description, and whether it comes from elsewhere.
func (m *maker) request(ctx context.Context, base string) (r *http.Request, foreign bool) {
	path := m.paths[m.IntN(len(m.paths))]
	methods := slices.Sorted(maps.Keys(m.api.Paths[path]))
	method := methods[m.IntN(len(methods))]
	operation := m.api.Paths[path][method]
	if m.IntN(30) == 0 {
		method = []string{"get", "post", "put", "delete", "patch", "head", "options", "brew"}[m.IntN(8)]
	}
	query := url.Values{}
	for _, p := range operation.Parameters {
		if p.In == "path" {
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(m.name()))
		} else if m.IntN(2) == 0 {
			query.Add(p.Name, m.name())
		}
	}
	var body []byte
	for _, content := range operation.RequestBody.Content {
		body, _ = json.Marshal(m.value(content.Schema, 0))
	}
	switch {
	case strings.HasSuffix(path, "/apply"):
		body = []byte("arithmon: 1\npoints:\n  - {tag: a/b, station: dev, address: \"" + m.name() + "\", type: " + m.name() + "}\n")
	case m.IntN(20) == 0 && len(body) > 0:
		body = body[:m.IntN(len(body))]
	case m.IntN(40) == 0:
		body = []byte(m.name())
	}
	r, err := http.NewRequestWithContext(ctx, strings.ToUpper(method), base+path+"?"+query.Encode(), bytes.NewReader(body))
	if err != nil {
		return nil, false
	}
	if m.IntN(3) == 0 {
		r.Header.Set("If-Match", []string{`"1"`, "*", `"x"`, "1", `W/"1"`}[m.IntN(5)])
	}
	switch m.IntN(15) {
	case 0:
		r.Host, foreign = "elsewhere.invalid", true
	case 1:
		r.Header.Set("Origin", "http://elsewhere.invalid")
		foreign = true
	case 2:
		r.Header.Set("Sec-Fetch-Site", []string{"cross-site", "same-site"}[m.IntN(2)])
		r.Header.Set("Sec-Fetch-Mode", []string{"navigate", "cors", "no-cors"}[m.IntN(3)])
		foreign = true
	case 3:
		r.Header.Set("Origin", "null")
		foreign = true
	}
	return r, foreign
}

// TestTrialRequests: whatever is asked of the API, valid or not, it makes no mistake of its own, answers in its own form, lets nothing in
// from elsewhere, and what it keeps is a site that loads.
func TestTrialRequests(t *testing.T) {
	t.Parallel()
	config, err := rig.Load("devices.yaml", []byte(simulated))
	require.NoError(t, err)
	devices, err := rig.Start(config, rig.Options{})
	require.NoError(t, err)
	defer devices.Stop()
	dir := t.TempDir()
	running, err := service.Start(t.Context(), service.Options{Dir: dir, Listen: "127.0.0.1:0", Rig: devices, Version: "trial"})
	require.NoError(t, err)
	dev := &device{framing: "mbap", random: rand.New(rand.NewPCG(seed(), 15)), holes: map[int]bool{}, limit: 125, held: map[int]uint16{}, executed: map[uint16]int{}, refused: map[uint16]bool{}}
	var file strings.Builder
	require.NoError(t, sitefile.Write(&file, plant(t, dev.listen(t, "tcp")), sitefile.Options{}))
	base := strings.TrimSuffix(running.URL, "/")
	_, err = client.New(base, "trial").Apply(t.Context(), "site.yaml", []byte(file.String()), false, false)
	require.NoError(t, err)

	description, err := api.DescriptionJSON()
	require.NoError(t, err)
	var mu sync.Mutex
	counts, bad := map[string]int{}, 0
	fault := func(r *http.Request, format string, args ...any) {
		if bad++; bad < 20 {
			t.Errorf("%s %s: %s", r.Method, r.URL, fmt.Sprintf(format, args...))
		}
	}
	var clients sync.WaitGroup
	const workers = 8
	for i := range workers {
		m := &maker{Rand: rand.New(rand.NewPCG(seed(), uint64(100+i)))}
		require.NoError(t, json.Unmarshal(description, &m.api))
		m.paths = slices.Sorted(maps.Keys(m.api.Paths))
		clients.Go(func() {
			for range requests() / workers {
				ctx, cancel := context.WithTimeout(t.Context(), time.Second) // there are responses without end
				r, foreign := m.request(ctx, base)
				if r == nil {
					cancel()
					continue
				}
				status, media, answer, err := ask(r)
				cancel()
				mu.Lock()
				switch {
				case err != nil:
					counts["cut"]++
					if ctx.Err() == nil {
						fault(r, "%s", err)
					}
				case status == http.StatusInternalServerError:
					fault(r, "%d %s", status, answer)
				case foreign && status != http.StatusForbidden:
					fault(r, "let in from elsewhere: %d %s", status, answer)
				case status >= 400 && len(answer) > 0 && media != "application/problem+json":
					fault(r, "%d in the form %q: %s", status, media, answer)
				default:
					counts[fmt.Sprintf("%dxx", status/100)]++
				}
				mu.Unlock()
			}
		})
	}
	clients.Wait()
	t.Logf("%d requests: %v", requests(), counts)
	assert.Positive(t, counts["2xx"])
	assert.Positive(t, counts["4xx"])

	exported, err := client.New(base, "trial").Export(t.Context())
	require.NoError(t, err)
	read, err := sitefile.Read("exported", exported)
	require.NoError(t, err)
	again := site.New().Edit()
	read.Into(again, site.New(), false)
	_, err = again.Changes()
	require.NoError(t, read.Place(err), "what the service exports is a site")
	require.NoError(t, running.Stop())
	kept, err := store.Open(t.Context(), dir, store.Options{})
	require.NoError(t, err)
	defer kept.Close()
	assert.Empty(t, kept.Aside(), "what the service stored is a site")
}

// ask makes a request and gives what is answered.
func ask(r *http.Request) (status int, media string, answer []byte, err error) {
	response, err := asker.Do(r)
	if err != nil {
		return 0, "", nil, err
	}
	defer response.Body.Close()
	answer, err = io.ReadAll(io.LimitReader(response.Body, 1000))
	media, _, _ = strings.Cut(response.Header.Get("Content-Type"), ";")
	return response.StatusCode, media, answer, err
}

var asker = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16, DialContext: (&net.Dialer{}).DialContext}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
