package main

import (
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/diagnose/weigh"
	"arithmon/internal/live/table"
)

var units = unit.BuiltIn()

// weighEvery is how often the values are weighed, in seconds.
const weighEvery = 4

// watcher is the program that judges, as far as values concern it: the live table, fed with responses, and the diagnosis. It knows what is set
// and what the registers hold, and not what is true.
type watcher struct {
	table *table.Table
	slots []*table.Slot
	block table.Block
	place []table.Place
	first int // register of the block
	count int
	set   site.Station
	seen  [][]uint16 // of the newest moments
	now   time.Time
	past  weigh.History
}

// kept is how many of the newest moments are kept for comparing.
const kept = 12

func newWatcher(set site.Station, points []site.Point) *watcher {
	w := &watcher{table: table.New(), set: set, first: 1 << 16, now: time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)}
	last := 0
	for _, p := range points {
		w.first = min(w.first, int(p.Address.Offset))
		last = max(last, int(p.Address.Offset)+p.Layout(set).Words())
	}
	w.count = last - w.first
	for i := range points {
		slot := w.table.Put(&points[i], set)
		w.slots = append(w.slots, slot)
		w.place = append(w.place, table.Place{Slot: slot, First: int32(int(points[i].Address.Offset) - w.first), Count: int32(slot.Layout.Words())})
	}
	return w
}

// see takes in what the device holds at the next second.
func (w *watcher) see(registers map[int]uint16) {
	w.now = w.now.Add(time.Second)
	words, data := make([]uint16, w.count), make([]byte, 0, 2*w.count)
	for i := range words {
		words[i] = registers[w.first+i]
		data = append(data, byte(words[i]>>8), byte(words[i]))
	}
	w.block.Store(data, false, w.place, w.now)
	table.Age(w.slots, w.now)
	if w.seen = append(w.seen, words); len(w.seen) > kept {
		w.seen = w.seen[1:]
	}
}

// findings are what stands now.
func (w *watcher) findings() ([]diagnose.Finding, []weigh.Explanation) {
	signals, sec := table.Signals(w.slots, units), uint32(w.now.Unix())
	list := w.past.Weigh(signals, sec)
	link := site.NewLink()
	link.Name = w.set.Link
	return diagnose.Find(diagnose.Evidence{
		Links: []diagnose.Link{{Link: link, Up: true}}, Stations: []diagnose.Station{{Station: w.set, Answering: true, OtherUnit: -1}},
		Points: table.Evidence([][]*table.Slot{w.slots}, w.now), Misread: list, Failing: w.past.Faults(signals, sec),
	}), list
}

// values are those of a point over the newest moments, with a station's settings; NaN where there are none.
func (w *watcher) values(p site.Point, st site.Station) (out []float64) {
	l, c := p.Layout(st), p.Conversion()
	at := int(p.Address.Offset) - w.first
	for _, words := range w.seen {
		v := math.NaN()
		if at >= 0 && at+l.Words() <= len(words) {
			if raw, err := l.Decode(words[at : at+l.Words()]); err == nil && !c.Invalid(raw) {
				eng, _ := c.Engineering(raw)
				if f, ok := eng.Float(); ok {
					v = f
				}
			}
		}
		out = append(out, v)
	}
	return out
}

// outcome is what came of a trial.
type outcome int

// The outcomes.
const (
	hit    outcome = iota // the cause, on the right subject, and its first change mends it
	near                  // the cause, and another change mends it, or none
	wrong                 // something else
	missed                // nothing
)

var names = [...]string{"hit", "near", "wrong", "missed"}

// verdict is what was said of a trial.
type verdict struct {
	outcome outcome
	list    []diagnose.Finding
	why     []weigh.Explanation
}

// judge lets a plant run for some seconds and compares what is said with what is true.
func (t *trial) judge(seconds int) verdict {
	var all []site.Point
	for _, x := range t.plant.points {
		all = append(all, x.Point)
	}
	w := newWatcher(t.set, t.points)
	both := newWatcher(t.set, append(slices.Clone(t.points), all...))
	w.first, w.count = both.first, both.count // that the truth is there for comparing, too
	for i := range w.place {
		w.place[i].First = int32(int(t.points[i].Address.Offset) - w.first)
	}
	var v verdict
	for s := range seconds {
		t.tick()
		w.see(t.words)
		if s%weighEvery == weighEvery-1 || s == seconds-1 {
			v.list, v.why = w.findings()
		}
	}
	v.outcome = t.compare(w, v.list)
	return v
}

func (t *trial) compare(w *watcher, list []diagnose.Finding) outcome {
	if len(list) == 0 {
		return missed
	}
	first := list[0]
	if t.code != "" && first.Code != t.code {
		return wrong
	}
	about := func(p site.Point) bool {
		return first.Subject == p.Tag || first.Kind == site.KindStation && first.Subject == p.Station
	}
	showing, covered := 0, 0 // wrong points that show it, and those that the finding is about
	for i, p := range t.points {
		is := t.wrong[p.Tag]
		if is && t.code == diagnose.ValueOdd || is && !right(w.values(p, t.set), w.values(t.plant.points[i].Point, t.station)) || is && t.device {
			showing++
			if about(p) {
				covered++
			}
		}
	}
	if covered == 0 {
		return wrong
	}
	if t.device { // what a setting cannot mend
		return hit
	}
	for _, step := range first.Next {
		if len(step.Changes) == 0 {
			continue
		}
		mended, broken := 0, 0
		points, st := changed(t.points, t.set, step.Changes)
		for i, p := range points {
			truth := w.values(t.plant.points[i].Point, t.station)
			was, is := right(w.values(t.points[i], t.set), truth), right(w.values(p, st), truth)
			switch {
			case !was && is:
				mended++
			case was && !is:
				broken++
			}
		}
		if broken == 0 && 2*mended >= showing {
			return hit
		}
		break // the first alone counts
	}
	return near
}

// changed are settings after the changes of a step.
func changed(points []site.Point, st site.Station, changes []diagnose.Change) ([]site.Point, site.Station) {
	points = slices.Clone(points)
	for _, c := range changes {
		fields, err := json.Marshal(c.Fields)
		if err != nil {
			panic(err)
		}
		if c.Kind == site.KindStation {
			if err := json.Unmarshal(fields, &st); err != nil {
				panic(err)
			}
		}
		for i := range points {
			if c.Kind != site.KindPoint || points[i].Tag != c.Name {
				continue
			}
			if strings.Contains(string(fields), `"scaling"`) {
				points[i].Scaling = site.Point{}.Scaling
			}
			if err := json.Unmarshal(fields, &points[i]); err != nil {
				panic(err)
			}
		}
	}
	return points, st
}

// right reports whether values are those that the device has.
func right(values, truth []float64) bool {
	if len(values) == 0 || len(values) != len(truth) {
		return false
	}
	for i, v := range values {
		if !(math.Abs(v-truth[i]) <= 0.02*max(math.Abs(truth[i]), 0.05)) && !(math.IsNaN(v) && math.IsNaN(truth[i])) {
			return false
		}
	}
	return true
}
