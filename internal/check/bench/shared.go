package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"arithmon/internal/app/client"
	"arithmon/internal/app/service"
	"arithmon/internal/core/access"
	"arithmon/internal/core/site"
	"arithmon/internal/record/account"
	"arithmon/internal/record/store"

	"github.com/coder/websocket"
)

// shared measures what sharing costs: permission, many who edit, many who watch.
func shared() error {
	for _, f := range []func() error{permission, manyEditors, manyConsoles} {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// served starts a service in a directory that is removed at the end, with a site, and accounts whose tokens it returns; none: it is open.
func served(accounts int, fill func(*site.Draft, *site.Site)) (s *service.Service, tokens []string, stop func(), err error) {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return nil, nil, nil, err
	}
	if s, err = service.Start(context.Background(), service.Options{Dir: dir, Listen: "127.0.0.1:0"}); err != nil {
		os.RemoveAll(dir)
		return nil, nil, nil, err
	}
	stop = func() {
		s.Stop()
		os.RemoveAll(dir)
	}
	if _, _, err = s.Store.Modify(context.Background(), store.Edit{Who: "bench"}, fill); err != nil {
		stop()
		return nil, nil, nil, err
	}
	for i := range accounts {
		role := access.Engineer
		if i == 0 {
			role = access.Admin
		}
		who := access.Principal{Account: fmt.Sprint("person", i), Role: role}
		if err = s.Accounts.Add(context.Background(), who, who.Account, "heron lifts 40 gates slowly", role, nil); err != nil {
			break
		}
		var token string
		if _, token, err = s.Accounts.AddToken(context.Background(), who, account.Token{Name: who.Account}); err != nil {
			break
		}
		tokens = append(tokens, token)
	}
	if err != nil {
		stop()
	}
	return s, tokens, stop, err
}

// permission compares the requests a second of an open service with those of one that asks for a token.
func permission() error {
	few := func(d *site.Draft, _ *site.Site) {
		l := site.NewLink()
		l.Name, l.Host, l.Enabled = "link0", "127.0.0.1", false
		d.Add(l)
		st := site.NewStation()
		st.Name, st.Link = "station0", l.Name
		d.Add(st)
		for k := range 100 {
			d.Add(site.Point{Tag: pointTag(0, k), Station: st.Name, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(k)}})
		}
	}
	open, _, stop, err := served(0, few)
	if err != nil {
		return err
	}
	defer stop()
	guarded, tokens, end, err := served(8, few)
	if err != nil {
		return err
	}
	defer end()
	var people []*http.Client // each with a connection of its own to each service
	for range tokens {
		people = append(people, &http.Client{Transport: &http.Transport{}})
	}
	ask := func(url string) func() error {
		n := 0
		return func() error {
			request, err := http.NewRequest(http.MethodGet, url+"/api/v1/points/"+pointTag(0, n%100), nil)
			if err != nil {
				return err
			}
			request.Header.Set("Arithmon-Who", fmt.Sprint("person", n%8))        // several, each below the limit of requests
			request.Header.Set("Authorization", "Bearer "+tokens[n%len(tokens)]) // which an open service does not look at
			n++
			return done(people[(n-1)%len(people)].Do(request))
		}
	}
	var took [2][]time.Duration
	pair := []func() error{ask(open.URL), ask(guarded.URL)}
	for i := range 2 * permissionRequests {
		k := (i + i/2) % 2 // in turns, of which each begins as often as the other
		began := time.Now()
		if err := pair[k](); err != nil {
			return err
		}
		took[k] = append(took[k], time.Since(began))
	}
	middle := func(k int) float64 { return float64(slices.Sorted(slices.Values(took[k]))[permissionRequests/2]) }
	fmt.Printf("what permission costs: %.3f of the requests a second of an open service (medians of %d requests in turns: %s and %s; 99th percentiles: %s, %s)\n",
		middle(0)/middle(1), permissionRequests, at(took[0], 50), at(took[1], 50), at(took[0], 99), at(took[1], 99))
	return nil
}

// permissionRequests are few enough that no limit of requests is reached.
const permissionRequests = 6000

// manyEditors has 20 people edit a site of 100,000 points at once, each 5 times a second.
func manyEditors() error {
	const people, every, each = 20, 200 * time.Millisecond, 50
	s, tokens, stop, err := served(people, fillSite)
	if err != nil {
		return err
	}
	defer stop()
	time.Sleep(watchedPrepare) // the site that was just applied is on its way from the log into the database
	before, err := s.Store.LatestChange(context.Background())
	if err != nil {
		return err
	}
	appended, err := os.CreateTemp("", "bare")
	if err != nil {
		return err
	}
	defer os.Remove(filepath.Clean(appended.Name()))
	defer appended.Close()
	var mu sync.Mutex
	var edits, bare []time.Duration
	var failed error
	var all sync.WaitGroup
	for p := range people {
		c := client.New(s.URL, "bench").With(client.Access{Token: tokens[p]})
		all.Go(func() {
			time.Sleep(time.Duration(p) * every / people) // people do not press a key at the same moment
			ticker := time.NewTicker(every)
			defer ticker.Stop()
			for i := range each {
				<-ticker.C
				began := time.Now()
				_, err := c.Set(context.Background(), site.KindPoint, pointTag((p*7+i)%siteStations, (p*each+i)%sitePoints), map[string]any{"description": fmt.Sprint("edited by ", p, " ", i)})
				mu.Lock()
				edits = append(edits, time.Since(began))
				if err != nil {
					failed = err
				}
				mu.Unlock()
			}
		})
	}
	over := make(chan struct{})
	go func() {
		all.Wait()
		close(over)
	}()
	for waiting := true; waiting; {
		began := time.Now()
		if _, err := appended.Write(make([]byte, 4096)); err != nil {
			return err
		}
		if err := appended.Sync(); err != nil {
			return err
		}
		bare = append(bare, time.Since(began))
		select {
		case <-over:
			waiting = false
		case <-time.After(20 * time.Millisecond):
		}
	}
	if failed != nil {
		return failed
	}
	after, err := s.Store.LatestChange(context.Background())
	if err != nil {
		return err
	}
	fmt.Printf("%d people editing %d points, %d edits a second: median %s, 99th percentile %s; a bare append with fsync meanwhile: %s, %s; %d of %d edits are recorded\n",
		people, siteStations*sitePoints, people*int(time.Second/every), at(edits, 50), at(edits, 99), at(bare, 50), at(bare, 99), after-before, people*each)
	return nil
}

// The consoles that watch, and what they watch.
const (
	consoles       = 100
	consoleTags    = 2000
	watchedLinks   = 400
	watchedPoints  = 50 // of each
	watchedFor     = 20 * time.Second
	watchedPrepare = 8 * time.Second
)

// manyConsoles has 100 consoles, signed in, follow 2,000 points each of 20,000 that are polled each second. Devices and consoles run in processes
// of their own, so that what they cost is not counted.
func manyConsoles() error {
	port, endDevices, err := elsewhere()
	if err != nil {
		return err
	}
	defer endDevices()
	s, tokens, stop, err := served(10, func(d *site.Draft, _ *site.Site) {
		for i := range watchedLinks {
			l := site.NewLink()
			l.Name, l.Host, l.Port = fmt.Sprintf("link%d", i), "127.0.0.1", port
			d.Add(l)
			st := site.NewStation()
			st.Name, st.Link, st.Poll = fmt.Sprintf("station%d", i), l.Name, site.Duration(time.Second)
			d.Add(st)
			for k := range watchedPoints {
				d.Add(site.Point{Tag: fmt.Sprintf("area%d/station%d/value%d", i*watchedPoints/consoleTags, i, k), Station: st.Name, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(k)}})
			}
		}
	})
	if err != nil {
		return err
	}
	defer stop()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	time.Sleep(watchedPrepare / 2)
	watch := exec.Command(self, "consoles")
	watch.Stderr = os.Stderr
	watch.Env = append(os.Environ(), "BENCH_URL="+s.URL, "BENCH_TOKENS="+strings.Join(tokens, " "))
	stdout, err := watch.StdoutPipe()
	if err != nil {
		return err
	}
	if err := watch.Start(); err != nil {
		return err
	}
	defer watch.Wait()
	reader := bufio.NewReader(stdout)
	if _, err := reader.ReadString('\n'); err != nil { // they follow
		return fmt.Errorf("the consoles ended: %w", err)
	}
	began, used := time.Now(), cpu()
	line, err := reader.ReadString('\n')
	if err != nil {
		return fmt.Errorf("the consoles ended: %w", err)
	}
	share := (cpu() - used).Seconds() / time.Since(began).Seconds()
	var got struct {
		Readings int
		Lags     []float64 // milliseconds: median, 99th percentile, longest
	}
	if err := json.Unmarshal([]byte(line), &got); err != nil {
		return err
	}
	fmt.Printf("%d consoles following %d of %d points each at 1 s: %.2f of a core; %.0f readings a second delivered of %d, after their poll: median %.0f ms, 99th percentile %.0f ms, longest %.0f ms\n",
		consoles, consoleTags, watchedLinks*watchedPoints, share, float64(got.Readings)/watchedFor.Seconds(), consoles*consoleTags, got.Lags[0], got.Lags[1], got.Lags[2])
	return nil
}

// watchers are the consoles of manyConsoles.
func watchers() error {
	url, tokens := os.Getenv("BENCH_URL"), strings.Fields(os.Getenv("BENCH_TOKENS"))
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var mu sync.Mutex
	var lags []float64
	counting := false
	for i := range consoles {
		go func() {
			header := http.Header{"Authorization": {"Bearer " + tokens[i%len(tokens)]}}
			conn, _, err := websocket.Dial(ctx, fmt.Sprintf("ws%s/api/v1/live?tag=area%d/*", strings.TrimPrefix(url, "http"), i%(watchedLinks*watchedPoints/consoleTags)), &websocket.DialOptions{HTTPHeader: header})
			for err == nil {
				var data []byte
				conn.SetReadLimit(16 << 20)
				if _, data, err = conn.Read(ctx); err != nil {
					break
				}
				now := time.Now()
				mu.Lock()
				if counting {
					lags = lagsOf(lags, data, now)
				}
				mu.Unlock()
			}
			if ctx.Err() == nil {
				fmt.Fprintln(os.Stderr, "a console ended:", err)
			}
		}()
	}
	time.Sleep(watchedPrepare)
	mu.Lock()
	counting = true
	mu.Unlock()
	fmt.Println("follow")
	time.Sleep(watchedFor)
	mu.Lock()
	defer mu.Unlock()
	slices.Sort(lags)
	if len(lags) == 0 {
		lags = []float64{0}
	}
	out, err := json.Marshal(map[string]any{"Readings": len(lags), "Lags": []float64{lags[len(lags)/2], lags[len(lags)*99/100], lags[len(lags)-1]}})
	if err != nil {
		return err
	}
	_, err = io.WriteString(os.Stdout, string(out)+"\n")
	return err
}

// lagsOf adds how long after their poll the readings of a message came, in milliseconds. It looks at their times alone, since what a console
// does with them is not measured.
func lagsOf(lags []float64, message []byte, now time.Time) []float64 {
	const mark, layout = `"time":"`, "2006-01-02T15:04:05.000Z"
	second, at := "", time.Time{}
	for {
		i := bytes.Index(message, []byte(mark))
		if i < 0 || len(message) < i+len(mark)+len(layout) {
			return lags
		}
		message = message[i+len(mark):]
		text := string(message[:len(layout)])
		if text != second { // those of one poll have one time
			second = text
			end := strings.IndexByte(text, '"')
			if end < 0 {
				end = len(text)
			}
			at, _ = time.Parse(time.RFC3339Nano, text[:end])
		}
		lags = append(lags, now.Sub(at).Seconds()*1000)
	}
}
