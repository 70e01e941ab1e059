// Corpus makes commissioning mistakes at random on simulated plants, keeps the true cause apart from the program that judges, and
// counts what it finds. make corpus runs it.
package main

import (
	"flag"
	"fmt"
	"os"
	"slices"

	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/diagnose/weigh"
)

func main() {
	trials := flag.Int("trials", 500, "how many")
	healthy := flag.Int("healthy", 60, "plants without a mistake")
	seed := flag.Uint64("seed", 1, "of the random numbers")
	seconds := flag.Int("seconds", 30, "how long each is watched")
	verbose := flag.Bool("v", false, "tell each trial that was not hit")
	only := flag.Int("kind", -1, "this kind alone")
	flag.Parse()
	run(*trials, *healthy, *seed, *seconds, *only, *verbose)
}

var units = unit.BuiltIn()

// watched is what the program that judges sees.
type watched struct {
	signals []*weigh.Signal
	truth   map[string][]float64
}

const kept = 16

// watch lets a plant go on and keeps what a program would have seen.
func (t *trial) watch(seconds int) watched {
	first, last := 1<<16, 0
	for _, p := range append(slices.Clone(t.points), truths(t)...) {
		first = min(first, int(p.Address.Offset))
		last = max(last, int(p.Address.Offset)+p.Layout(t.set).Words())
	}
	first = max(0, first-2)
	area := &weigh.Area{Space: site.HoldingRegisters, First: first}
	w := watched{truth: map[string][]float64{}}
	stride := 1
	for s := range seconds {
		t.tick()
		if s%stride != 0 {
			continue
		}
		if len(area.Words) == kept {
			stride *= 2
			halve(&area.Words)
			halve(&area.Secs)
			if s%stride != 0 {
				continue
			}
		}
		words := make([]uint16, last-first+3)
		for i := range words {
			words[i] = t.words[first+i]
		}
		area.Words, area.Secs = append(area.Words, words), append(area.Secs, uint32(1000+s))
	}
	signal := func(p *site.Point, st site.Station) *weigh.Signal {
		s := &weigh.Signal{Point: p, Layout: p.Layout(st), Inherits: p.Order == "", Expect: weigh.ExpectationOf(p, units.Find(p.Unit)), Area: area, At: int(p.Address.Offset) - first}
		if f, err := p.Scaling.Compile(); err == nil && !f.IsZero() {
			s.Scale = func(raw float64) float64 { v, _ := f.Apply(raw); return v }
		}
		return s
	}
	for _, x := range t.plant.points {
		w.truth[x.Tag] = signal(&x.Point, t.station).Values(weigh.Reading{})
	}
	for i := range t.points {
		w.signals = append(w.signals, signal(&t.points[i], t.set))
	}
	return w
}

func truths(t *trial) (list []site.Point) {
	for _, x := range t.plant.points {
		list = append(list, x.Point)
	}
	return list
}

func halve[T any](list *[]T) {
	out := (*list)[:0]
	for i, x := range *list {
		if i%2 == 0 {
			out = append(out, x)
		}
	}
	*list = out
}

// outcome is what came of a trial.
type outcome int

const (
	hit outcome = iota
	near
	wrong
	missed
)

var names = [...]string{"hit", "near", "wrong", "missed"}

func (t *trial) judge(seconds int) (outcome, []weigh.Explanation) {
	w := t.watch(seconds)
	list := weigh.Station(w.signals)
	if len(list) == 0 {
		return missed, nil
	}
	first := list[0]
	on, mended := 0, 0
	for _, s := range first.Points {
		if t.wrong[s.Point.Tag] {
			on++
			if right(s.Values(first.Reading), w.truth[s.Point.Tag]) {
				mended++
			}
		}
	}
	all := 0 // of the wrong points that show it at all
	for _, s := range w.signals {
		if t.wrong[s.Point.Tag] && !right(s.Values(weigh.Reading{}), w.truth[s.Point.Tag]) {
			all++
		}
	}
	switch {
	case on == 0 || on < len(first.Points):
		return wrong, list
	case mended == on && mended*2 >= all:
		return hit, list
	case first.Reading.Kind() == t.kind:
		return near, list
	}
	return wrong, list
}

func run(trials, healthy int, seed uint64, seconds, only int, verbose bool) {
	counts := make([][4]int, len(mistakes))
	bins := [10][2]int{}
	for i := range trials {
		kind := i % len(mistakes)
		if only >= 0 {
			kind = only
		}
		t := newTrial(seed+uint64(i), kind)
		o, list := t.judge(seconds)
		counts[kind][o]++
		if len(list) > 0 {
			b := min(9, int(list[0].Certainty*10))
			bins[b][1]++
			if o <= near {
				bins[b][0]++
			}
		}
		if verbose && o != hit {
			fmt.Printf("%s: %s (seed %d)\n", mistakes[kind].name, names[o], seed+uint64(i))
			tell(t, list)
			tellWrong(newTrial(seed+uint64(i), kind), seconds)
		}
	}
	var sum [4]int
	for k, m := range mistakes {
		c := counts[k]
		if c == [4]int{} {
			continue
		}
		note := ""
		if m.why != "" {
			note = "  " + m.why
		}
		fmt.Printf("%-46s %3d hit %3d near %3d wrong %3d missed%s\n", m.name, c[0], c[1], c[2], c[3], note)
		for i := range sum {
			sum[i] += c[i]
		}
	}
	fmt.Printf("%d trials: %d hit, %d near, %d wrong, %d missed\n", trials, sum[0], sum[1], sum[2], sum[3])
	for i, b := range bins {
		if b[1] > 0 {
			fmt.Printf("  certainty %.1f to %.1f: %d of %d true\n", float64(i)/10, float64(i+1)/10, b[0], b[1])
		}
	}
	alarms := 0
	for i := range healthy {
		t := newTrial(seed+1<<20+uint64(i), -1)
		_, list := t.judge(seconds)
		if len(list) > 0 {
			alarms++
			if verbose {
				fmt.Printf("a healthy plant (seed %d)\n", seed+1<<20+uint64(i))
				tell(t, list)
			}
		}
	}
	fmt.Printf("%d healthy plants: %d with a finding\n", healthy, alarms)
}

// tellWrong tells how the points with a mistake look.
func tellWrong(t *trial, seconds int) {
	for _, s := range t.watch(seconds).signals {
		if t.wrong[s.Point.Tag] && len(t.wrong) < 4 {
			fmt.Printf("    %s %s %q range %v fit %+v shows %.6g\n", s.Point.Tag, s.Point.Type, s.Point.Unit, s.Point.Range, s.Fit(), s.Values(weigh.Reading{}))
		}
	}
}

func tell(t *trial, list []weigh.Explanation) {
	for tag := range t.wrong {
		for i := range t.points {
			if p := t.points[i]; p.Tag == tag && len(t.wrong) < 4 {
				x := t.plant.points[i]
				fmt.Fprintf(os.Stdout, "    wrong: %s %s %s order %q scaling %+v; device %s %s\n", p.Tag, p.Address, p.Type, p.Order, p.Scaling, x.Address, x.Type)
			}
		}
	}
	for _, e := range list[:min(3, len(list))] {
		s := e.Points[0]
		fmt.Fprintf(os.Stdout, "    said: %.2f %+v of %d, first %s %s unit %q range %v\n      fit %+v shows %.6g\n      would %.6g\n", e.Certainty, e.Reading, len(e.Points), s.Point.Tag, s.Point.Type, s.Point.Unit, s.Point.Range, e.Why, s.Values(weigh.Reading{}), s.Values(e.Reading))
		if e.Reading.Raw != nil {
			fmt.Println("      raw", *e.Reading.Raw)
		}
		if e.RunnerUp != nil {
			fmt.Printf("      or %.2f %+v\n", e.Second, *e.RunnerUp)
		}
	}
}
