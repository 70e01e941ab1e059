// Corpus makes commissioning mistakes at random on simulated plants, keeps the true cause apart from the program that judges, and
// counts what it finds. make corpus runs it.
package main

import (
	"flag"
	"fmt"
)

func main() {
	trials := flag.Int("trials", 500, "how many")
	healthy := flag.Int("healthy", 60, "plants without a mistake, each for a simulated day")
	seed := flag.Uint64("seed", 1, "of the random numbers")
	seconds := flag.Int("seconds", 30, "how long each mistake is watched")
	verbose := flag.Bool("v", false, "tell each trial that was not hit")
	only := flag.Int("kind", -1, "this kind alone")
	one := flag.Int("manner", -1, "devices of this manner alone: 0 varied, 1 lively, 2 resting")
	flag.Parse()
	tally := tally{counts: make([][4]int, len(mistakes)), verbose: *verbose}
	for i := range *trials {
		kind := i % len(mistakes)
		if *only >= 0 {
			kind = *only
		}
		m := manner(i / len(mistakes) % int(manners))
		if *one >= 0 {
			m = manner(*one)
		}
		tally.mistake(*seed+uint64(i), kind, m, *seconds)
	}
	tally.print(*trials)
	alarms := 0
	for i := range *healthy {
		if at, list := aDay(*seed+1<<20+uint64(i), manner(i%int(manners))); len(list) > 0 {
			alarms++
			fmt.Printf("a healthy plant (seed %d), %d s after it began: %s %s: %s\n", *seed+1<<20+uint64(i), at, list[0].Code, list[0].Subject, list[0].Cause)
			for _, e := range list[0].Evidence {
				fmt.Println("    ", e)
			}
		}
	}
	fmt.Printf("%d healthy plants for a day: %d with a finding\n", *healthy, alarms)
}

// tally counts what came of trials.
type tally struct {
	counts  [][4]int
	manners [manners][4]int // of kinds that can be told
	bins    [10][2]int      // by certainty: those that were true, and all
	verbose bool
}

func (y *tally) mistake(seed uint64, kind int, m manner, seconds int) {
	t := newTrial(seed, kind, m)
	if mistakes[kind].slow {
		seconds += 160
	}
	v := t.judge(seconds)
	y.counts[kind][v.outcome]++
	if mistakes[kind].tellable(m) {
		y.manners[m][v.outcome]++
	}
	if len(v.list) > 0 {
		bin := &y.bins[min(9, int(v.list[0].Certainty*10))]
		bin[1]++
		if v.outcome <= near {
			bin[0]++
		}
	}
	if y.verbose && v.outcome != hit {
		fmt.Printf("%s: %s (seed %d, %s)\n", mistakes[kind].name, names[v.outcome], seed, mannerNames[m])
		tell(t, v)
	}
}

func (y *tally) print(trials int) {
	var sum, told [4]int
	for k, m := range mistakes {
		c := y.counts[k]
		if c == [4]int{} {
			continue
		}
		note := ""
		switch {
		case m.why != "":
			note = "  (" + m.why + ")"
		case m.rest != "":
			note = "  (at rest: " + m.rest + ")"
		}
		fmt.Printf("%-46s %3d hit %3d near %3d wrong %3d missed%s\n", m.name, c[hit], c[near], c[wrong], c[missed], note)
		for i := range sum {
			sum[i] += c[i]
		}
	}
	for _, c := range y.manners {
		for i := range told {
			told[i] += c[i]
		}
	}
	all := max(1, told[hit]+told[near]+told[wrong]+told[missed])
	fmt.Printf("%d trials: %d hit, %d near, %d wrong, %d missed; of the %d that can be told %.1f %% hit, %.1f %% near\n", trials, sum[hit], sum[near], sum[wrong], sum[missed], all,
		100*float64(told[hit])/float64(all), 100*float64(told[near])/float64(all))
	for m, c := range y.manners {
		fmt.Printf("  %-8s %d hit, %d near, %d wrong, %d missed\n", mannerNames[m], c[hit], c[near], c[wrong], c[missed])
	}
	for i, b := range y.bins {
		if b[1] > 0 {
			fmt.Printf("  certainty %.1f to %.1f: %d of %d true\n", float64(i)/10, float64(i+1)/10, b[0], b[1])
		}
	}
}

// tell tells of a trial what was set, what is true and what was said.
func tell(t *trial, v verdict) {
	for i, p := range t.points {
		if t.wrong[p.Tag] && len(t.wrong) < 4 {
			x := t.plant.points[i]
			fmt.Printf("    wrong: %s %s %s %s, %q, range %v; true: %s %s %s\n", p.Tag, p.Address, p.Type, p.Layout(t.set).Order, p.Unit, p.Range, x.Address, x.Type, x.Layout(t.station).Order)
		}
	}
	for _, f := range v.list[:min(3, len(v.list))] {
		fmt.Printf("    said: %.2f %s %s: %s\n", f.Certainty, f.Code, f.Subject, f.Cause)
		for _, e := range f.Evidence {
			fmt.Println("      ", e)
		}
		for _, s := range f.Next {
			fmt.Println("       step:", s.Text)
		}
	}
	for _, e := range v.why[:min(3, len(v.why))] {
		fmt.Printf("    weighed: %s on %s: gain %.1f, certainty %.2f, its own %+v\n", e.Reading, e.Points[0].Point.Tag, e.Gain, e.Certainty, e.Why)
	}
}
