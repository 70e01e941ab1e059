// Lines makes commissioning mistakes at random on sites beside simulated devices, as they are on lines and links, lets the service run as a user
// would, and counts what it finds within half a minute, and what its steps mend. make corpus runs it.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/app/service"
	"arithmon/internal/core/reading"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/rig"
	"arithmon/web"
)

// How long a mistake is watched, and how long it may take until everything is right after its step.
const (
	watched     = 30 * time.Second
	watchedSlow = 90 * time.Second
	mendsWithin = 25 * time.Second
)

type outcome int

// The outcomes.
const (
	hit    outcome = iota // the cause, on the right subject, and where a setting mends it, its first step did
	near                  // the cause, and its first step did not mend it
	wrong                 // something else
	missed                // nothing
)

var names = [...]string{"hit", "near", "wrong", "missed"}

// verdict is what came of a trial.
type verdict struct {
	outcome outcome
	list    []api.Finding
	note    string
}

func main() {
	trials := flag.Int("trials", 2*len(mistakes), "how many")
	sound := flag.Int("healthy", 16, "sites without a mistake")
	minutes := flag.Int("minutes", 1, "for which each of those is watched")
	seed := flag.Uint64("seed", 1, "of the random numbers")
	together := flag.Int("together", 24, "how many at once")
	only := flag.Int("kind", -1, "this kind alone")
	verbose := flag.Bool("v", false, "tell each trial that was not hit")
	flag.Parse()
	verdicts := make([]verdict, *trials+*sound)
	kinds := make([]int, len(verdicts))
	var running sync.WaitGroup
	places := make(chan struct{}, *together)
	for i := range verdicts {
		kind := i % len(mistakes)
		if i >= *trials {
			kind = -1
		} else if *only >= 0 {
			kind = *only
		}
		kinds[i] = kind
		places <- struct{}{}
		running.Go(func() {
			defer func() { <-places }()
			verdicts[i] = newTrial(*seed+uint64(i), kind).judge(kind, time.Duration(*minutes)*time.Minute)
		})
	}
	running.Wait()
	report(verdicts, kinds, *verbose)
	fmt.Printf("(healthy sites were watched for %d min)\n", *minutes)
}

func report(verdicts []verdict, kinds []int, verbose bool) {
	counts := make([][4]int, len(mistakes))
	var sum [4]int
	sound, alarms := 0, 0
	for i, v := range verdicts {
		what := "a healthy site"
		if kinds[i] < 0 {
			if sound++; len(v.list) > 0 {
				alarms++
			}
		} else {
			counts[kinds[i]][v.outcome]++
			sum[v.outcome]++
			what = mistakes[kinds[i]].name
		}
		if (verbose || kinds[i] < 0) && (v.outcome != hit && kinds[i] >= 0 || kinds[i] < 0 && len(v.list) > 0) {
			fmt.Printf("%s (trial %d): %s %s\n", what, i, names[v.outcome], v.note)
			for _, f := range v.list {
				fmt.Printf("    %.2f %s %s: %s %q\n", f.Certainty, f.Code, f.Subject, f.Cause, f.Evidence)
			}
		}
	}
	for k, m := range mistakes {
		if c := counts[k]; c != [4]int{} {
			fmt.Printf("%-48s %3d hit %3d near %3d wrong %3d missed\n", m.name, c[hit], c[near], c[wrong], c[missed])
		}
	}
	all := max(1, sum[hit]+sum[near]+sum[wrong]+sum[missed])
	fmt.Printf("%d mistakes of lines: %d hit, %d near, %d wrong, %d missed: %.1f %% hit\n", all, sum[hit], sum[near], sum[wrong], sum[missed], 100*float64(sum[hit])/float64(all))
	fmt.Printf("%d healthy sites: %d with a finding\n", sound, alarms)
}

// judge lets the service run beside the devices and compares what it says with what is true.
func (t *trial) judge(kind int, healthyFor time.Duration) (v verdict) {
	failed := func(err error) verdict { return verdict{outcome: missed, note: err.Error()} }
	devices, err := rig.Start(&t.devices, rig.Options{})
	if err != nil {
		return failed(err)
	}
	defer devices.Stop()
	defer func() {
		for _, f := range t.closing {
			f()
		}
	}()
	dir, err := os.MkdirTemp("", "lines-")
	if err != nil {
		return failed(err)
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	run, err := service.Start(ctx, service.Options{Dir: dir, Listen: "127.0.0.1:0", Console: web.Console(), Version: "corpus"})
	if err != nil {
		return failed(err)
	}
	defer run.Stop()
	c := client.New(run.URL, "corpus")
	if t.after != nil {
		t.after(devices)
	}
	if _, err := c.Apply(ctx, "site.yaml", t.siteFile(devices), false, false); err != nil {
		return failed(err)
	}
	if kind < 0 {
		return sound(ctx, c, healthyFor)
	}
	patience := watched
	if mistakes[kind].slow {
		patience = watchedSlow
	}
	for began := time.Now(); time.Since(began) < patience && v.outcome != hit || len(v.list) == 0 && time.Since(began) < patience; time.Sleep(time.Second) {
		if v.list, err = c.Findings(ctx, ""); err != nil {
			return failed(err)
		}
		v.list = ofSite(v.list)
		if v.outcome = t.compare(v.list); v.outcome == hit && t.mends && !slices.ContainsFunc(v.list[0].Next, func(s api.Step) bool { return s.Change != nil }) {
			v.outcome = near // so far: what would mend it is being asked for
		}
	}
	if v.outcome != hit || !t.mends {
		return v
	}
	if _, err := c.Take(ctx, api.Take{Code: v.list[0].Code, Subject: v.list[0].Subject}); err != nil {
		v.outcome, v.note = near, err.Error()
		return v
	}
	for began := time.Now(); time.Since(began) < mendsWithin; time.Sleep(500 * time.Millisecond) {
		if v.note = t.bad(ctx, c); v.note == "" {
			return v
		}
		if list, err := c.Findings(ctx, ""); err == nil && t.compare(list) == hit && time.Since(began) > 6*time.Second { // there is more of it
			c.Take(ctx, api.Take{Code: list[0].Code, Subject: list[0].Subject}) // it shows below whether that mends
		}
	}
	v.outcome = near
	return v
}

// compare tells what the first finding is worth.
func (t *trial) compare(list []api.Finding) outcome {
	switch {
	case len(list) == 0:
		return missed
	case !slices.Contains(t.codes, list[0].Code) || t.subject != "" && list[0].Subject != t.subject:
		return wrong
	}
	return hit
}

// bad names a point that is not good; "" when all are.
func (t *trial) bad(ctx context.Context, c *client.Client) string {
	list, err := c.Readings(ctx)
	if err != nil {
		return err.Error()
	}
	for _, r := range list {
		tag := r.Tag
		if r.Quality != reading.Good {
			return fmt.Sprintf("%s is %s (%s)", tag, r.Quality, r.Reason)
		}
	}
	return ""
}

// ofSite are findings that are not of this machine, which may be busy.
func ofSite(list []api.Finding) []api.Finding {
	return slices.DeleteFunc(list, func(f api.Finding) bool { return f.Code == diagnose.MachineBusy })
}

// sound watches a site on which nothing is wrong.
func sound(ctx context.Context, c *client.Client, span time.Duration) (v verdict) {
	for range int(span.Seconds()) {
		time.Sleep(time.Second)
		if list, err := c.Findings(ctx, ""); err == nil && len(ofSite(list)) > 0 {
			return verdict{outcome: wrong, list: list}
		}
	}
	return verdict{outcome: hit}
}
