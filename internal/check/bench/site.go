package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/app/service"
	"arithmon/internal/core/site"
	"arithmon/internal/record/store"
)

// The size of the site that is edited.
const (
	siteStations = 100
	sitePoints   = 1000 // of each
	siteEdits    = 400
	siteEditors  = 8
)

// largeSite measures a site of 100,000 points: its memory, its start, edits by one and by several, beside bare appends that reach the same
// disk, and searches meanwhile.
func largeSite() error {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	options := service.Options{Dir: dir, Listen: "127.0.0.1:0"}
	var before runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	s, err := service.Start(context.Background(), options)
	if err != nil {
		return err
	}
	began := time.Now()
	if _, _, err := s.Store.Modify(context.Background(), store.Edit{Who: "bench"}, fillSite); err != nil {
		return err
	}
	applied := time.Since(began)
	var after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&after)
	total := siteStations * sitePoints
	fmt.Printf("a site of %d points: applied in %s; %d bytes of memory a point\n", total, applied.Round(10*time.Millisecond), (after.HeapAlloc-before.HeapAlloc)/uint64(total))
	if err := s.Stop(); err != nil {
		return err
	}
	began = time.Now()
	if s, err = service.Start(context.Background(), options); err != nil {
		return err
	}
	defer s.Stop()
	if err := get(s.URL + "/api/v1/points?limit=1"); err != nil {
		return err
	}
	fmt.Printf("  started and answering in %s\n", time.Since(began).Round(10*time.Millisecond))

	appended, err := os.Create(filepath.Join(dir, "bare"))
	if err != nil {
		return err
	}
	defer appended.Close()
	var edits, bare []time.Duration
	for i := range siteEdits {
		began := time.Now()
		if _, err := appended.Write(make([]byte, 4096)); err != nil {
			return err
		}
		if err := appended.Sync(); err != nil {
			return err
		}
		bare = append(bare, time.Since(began))
		began = time.Now()
		if err := edit(s.URL, i, i); err != nil {
			return err
		}
		edits = append(edits, time.Since(began))
	}
	fmt.Printf("  an edit: median %s, 99th percentile %s; a bare append with fsync: %s, %s\n", at(edits, 50), at(edits, 99), at(bare, 50), at(bare, 99))

	one := float64(siteEdits) / seconds(edits)
	var searches []time.Duration
	var stop atomic.Bool
	var searching, editing sync.WaitGroup
	searching.Go(func() {
		for i := 0; !stop.Load(); i++ {
			began := time.Now()
			if err := get(fmt.Sprintf("%s/api/v1/points?tag=*%d/value%d*&limit=100", s.URL, i%10, i%10)); err != nil {
				return
			}
			searches = append(searches, time.Since(began))
			time.Sleep(50 * time.Millisecond)
		}
	})
	began = time.Now()
	for e := range siteEditors {
		editing.Go(func() {
			for i := range siteEdits / 2 {
				if err := edit(s.URL, e*10+i, -i); err != nil {
					fmt.Fprintln(os.Stderr, err)
				}
			}
		})
	}
	editing.Wait()
	together := float64(siteEditors*siteEdits/2) / time.Since(began).Seconds()
	stop.Store(true)
	searching.Wait()
	fmt.Printf("  %d editors together: %.1f times the edits of one; a search meanwhile: median %s, longest %s\n", siteEditors, together/one, at(searches, 50), at(searches, 100))
	return nil
}

func fillSite(d *site.Draft, _ *site.Site) {
	for i := range siteStations {
		l := site.NewLink()
		l.Name, l.Host, l.Enabled = fmt.Sprintf("link%d", i), "127.0.0.1", false
		d.Add(l)
		st := site.NewStation()
		st.Name, st.Link, st.Unit = fmt.Sprintf("station%d", i), l.Name, 1
		d.Add(st)
		for k := range sitePoints {
			d.Add(site.Point{Tag: pointTag(i, k), Station: st.Name, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(k)}, Description: "a point of a large site"})
		}
	}
}

func pointTag(station, k int) string { return fmt.Sprintf("area%d/value%d", station, k) }

// edit changes the description of a point through the API.
func edit(url string, i, text int) error {
	body := fmt.Sprintf(`{"description": "edited %d"}`, text)
	request, err := http.NewRequest(http.MethodPatch, fmt.Sprintf("%s/api/v1/points/%s", url, pointTag(i%siteStations, i%sitePoints)), bytes.NewReader([]byte(body)))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	return done(http.DefaultClient.Do(request))
}

func get(url string) error {
	response, err := http.Get(url)
	return done(response, err)
}

func done(response *http.Response, err error) error {
	if err != nil {
		return err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode >= 300 {
		err = fmt.Errorf("%s: %s", response.Status, body)
	}
	return err
}

// at is a percentile.
func at(list []time.Duration, percent int) time.Duration {
	if len(list) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(list))
	return sorted[min(len(sorted)-1, len(sorted)*percent/100)].Round(10 * time.Microsecond)
}

func seconds(list []time.Duration) float64 {
	var sum time.Duration
	for _, d := range list {
		sum += d
	}
	return sum.Seconds()
}
