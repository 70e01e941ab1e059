// Package recorder gives the history the readings of those points that are to be recorded, each as often as its point says.
package recorder

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/history"
	"arithmon/internal/record/history/chunk"
)

// History is where samples go; a *history.History is one. Nothing of it waits.
type History interface {
	Add(tag string, line chunk.Line, x chunk.Sample) bool
	Lost(n uint64, at time.Time)
	Follow(change int64, moves []history.Move, gone []string)
}

// room is how many readings may wait to be taken: some seconds of a large site.
const room = 1 << 19

// Recorder follows the points of a site that are to be recorded.
type Recorder struct {
	history History
	tap     *table.Tap

	planning sync.RWMutex // of plan, which the table asks for
	plan     map[string]*point

	mu       sync.Mutex             // of what is taken from the tap
	list     []table.Tapped         // room for it
	renamed  map[*site.Point]string // points whose last readings are still to come under the old name
	stopping chan struct{}
	running  sync.WaitGroup
}

// point is what is to be recorded of a point, and what was recorded last.
type point struct {
	sampling site.Sampling
	line     chunk.Line
	of       *site.Point // whose line it is

	any  bool
	last chunk.Sample
}

// Start begins to record the points of a site. Following changes it needs Before and After.
func Start(tap func(table.TapOptions) *table.Tap, h History, s *site.Site) *Recorder {
	r := &Recorder{history: h, plan: map[string]*point{}, renamed: map[*site.Point]string{}, stopping: make(chan struct{})}
	for _, st := range s.Stations() {
		for _, p := range s.SharedPointsOf(st.Name) {
			if sampling := p.Recorded(st); sampling.On {
				r.plan[p.Tag] = &point{sampling: sampling}
			}
		}
	}
	for tag, sampling := range own(s) {
		r.plan[tag] = &point{sampling: sampling}
	}
	r.tap = tap(table.TapOptions{Wants: r.wants, Room: room, Every: true})
	r.running.Go(r.run)
	return r
}

// own are the service's own points that are recorded: those of stations that record all of their points, and of the links that they are on; and
// the counts of the site where anything is recorded.
func own(s *site.Site) map[string]site.Sampling {
	all, minute := site.Sampling{On: true}, site.Sampling{On: true, Every: site.Duration(time.Minute)}
	list := map[string]site.Sampling{}
	for _, st := range s.Stations() {
		if st.Record == nil || !st.Record.On {
			continue
		}
		list[site.Own+st.Link+"/state"], list[site.Own+st.Name+"/state"] = all, all
		list[site.Own+st.Name+"/good-share"] = site.Sampling{On: true, Deadband: 1}
		list[site.Own+st.Name+"/round-trip"], list[site.Own+st.Name+"/last-response"] = minute, minute
	}
	if len(list) > 0 {
		list[site.Own+"site/findings"], list[site.Own+"site/alarms"] = all, all
	}
	return list
}

// Records reports whether a point is recorded.
func (r *Recorder) Records(tag string) bool { return r.wants(tag) }

func (r *Recorder) wants(tag string) bool {
	r.planning.RLock()
	defer r.planning.RUnlock()
	return r.plan[tag] != nil
}

func (r *Recorder) run() {
	for {
		select {
		case <-r.stopping:
			return
		case <-r.tap.Ready():
			r.take()
		}
	}
}

// Stop ends the recording, once all that came until then is taken.
func (r *Recorder) Stop() {
	r.tap.Close()
	close(r.stopping)
	r.running.Wait()
	r.take()
}

// together is how many readings are taken at once.
const together = 4096

// take takes what waits.
func (r *Recorder) take() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for {
		var lost uint64
		r.list, lost = r.tap.Take(r.list[:0], together)
		for i := range r.list {
			r.record(&r.list[i])
		}
		if lost > 0 {
			r.history.Lost(lost, time.Now())
		}
		if len(r.list) < together {
			clear(r.list) // so that what they hold may go
			return
		}
	}
}

// record gives the history a reading, if it is to have it.
func (r *Recorder) record(t *table.Tapped) {
	tag := t.Point.Tag
	if to, is := r.renamed[t.Point]; is {
		if t.Removed {
			delete(r.renamed, t.Point)
			return
		}
		tag = to
	}
	r.planning.RLock()
	p := r.plan[tag]
	r.planning.RUnlock()
	if p == nil || t.Removed {
		return
	}
	if p.of != t.Point {
		p.of, p.line = t.Point, lineOf(t.Point)
	}
	x := Sample(&t.Reading)
	if p.wants(&x) {
		p.any, p.last = true, x
		r.history.Add(tag, p.line, x)
	}
}

// lineOf is how the values of a point come from its raw numbers, where that is a straight line.
func lineOf(p *site.Point) chunk.Line {
	f, err := p.Scaling.Compile()
	if err != nil {
		return chunk.Line{}
	}
	factor, offset := f.Steps()
	return chunk.Line{Factor: factor, Offset: offset}
}

// The device's own time is the moment that a sample stands for, unless it is further than this from when it came: then it is kept beside it.
const (
	mostAhead  = time.Minute
	mostBehind = 31 * 24 * time.Hour
)

// Sample is what is recorded of a reading. A bad one has no value.
func Sample(r *reading.Reading) chunk.Sample {
	x := chunk.Sample{Time: r.Time.UnixMilli(), Source: chunk.NoTime, Value: r.Value, Quality: r.Quality, Reason: r.Reason}
	if !r.SourceTime.IsZero() {
		x.Source = r.SourceTime.UnixMilli()
		if ahead := r.SourceTime.Sub(r.Time); ahead <= mostAhead && ahead >= -mostBehind && r.Reason != reading.TimeUnsynchronised {
			x.Time = x.Source
		}
	}
	if x.Quality == reading.Bad {
		x.Value = codec.Value{}
	}
	return x
}

// Unknown is a sample that only says that nothing is known from then on.
func Unknown(at time.Time) chunk.Sample {
	return chunk.Sample{Time: at.UnixMilli(), Source: chunk.NoTime, Reason: history.NotRecorded}
}

// wants reports whether a sample is to be kept.
func (p *point) wants(x *chunk.Sample) bool {
	s, last := &p.sampling, &p.last
	switch {
	case !p.any, x.Quality != last.Quality, x.Reason != last.Reason:
		return true
	case s.Every != 0:
		every := time.Duration(s.Every).Milliseconds()
		return x.Time/every != last.Time/every
	case s.Deadband == 0 && s.AtLeast == 0:
		return true
	case s.AtLeast != 0 && (x.Time-last.Time >= time.Duration(s.AtLeast).Milliseconds() || x.Time < last.Time):
		return true
	}
	is, number := x.Value.Float()
	was, numbers := last.Value.Float()
	if !number || !numbers {
		return x.Value != last.Value
	}
	return x.Value != last.Value && max(is-was, was-is) >= s.Deadband
}

// Before follows changes of the site, of which the last has a number, before the live table does. It returns the tags that After is to have.
func (r *Recorder) Before(change int64, s *site.Site, changes []site.Change) (again []string) {
	r.take() // under the names and settings that it came with
	var moves []history.Move
	var gone []string
	touched, ours := map[string]bool{}, false
	for _, c := range changes {
		ours = ours || c.Kind() == site.KindStation
		switch is := c.After.(type) {
		case site.Station:
			if was, ok := c.Before.(site.Station); ok && !same(was.Record, is.Record) {
				for _, p := range s.SharedPointsOf(is.Name) {
					touched[p.Tag] = true
				}
			}
		case site.Point:
			if was, ok := c.Before.(site.Point); ok && was.Tag != is.Tag {
				moves = append(moves, history.Move{From: was.Tag, To: is.Tag})
			}
			touched[is.Tag] = true
		}
		if was, ok := c.Before.(site.Point); ok {
			if touched[was.Tag] = true; c.After == nil {
				gone = append(gone, was.Tag)
			}
		}
	}
	gone = slices.DeleteFunc(gone, func(tag string) bool { _, there := s.Point(tag); return there })
	r.mu.Lock()
	defer r.mu.Unlock()
	r.planning.Lock()
	defer r.planning.Unlock()
	at := time.Now()
	clear(r.renamed)                   // what was under way at the changes before has come
	moving := map[string]*site.Point{} // by the tag that it has after the moves so far
	for _, m := range moves {
		of := moving[m.From]
		if p := r.plan[m.From]; p != nil {
			of = p.of
		}
		delete(moving, m.From)
		delete(r.plan, m.From) // begun anew under the new tag
		if of != nil {
			r.renamed[of], moving[m.To] = m.To, of
		}
	}
	for tag := range touched {
		p, there := s.Point(tag)
		st, _ := s.Station(p.Station)
		sampling := p.Recorded(st)
		switch was := r.plan[tag]; {
		case there && sampling.On && was == nil:
			r.plan[tag] = &point{sampling: sampling}
		case there && sampling.On:
			was.sampling = sampling
		case was != nil: // what was recorded ends here
			delete(r.plan, tag)
			r.history.Add(tag, chunk.Line{}, Unknown(at))
		}
		again = append(again, tag)
	}
	if ours {
		again = append(again, r.planOwn(s, at)...)
	}
	r.history.Follow(change, moves, gone)
	return again
}

// planOwn plans the service's own points anew; both locks are held.
func (r *Recorder) planOwn(s *site.Site, at time.Time) (again []string) {
	now := own(s)
	for tag, sampling := range now {
		if r.plan[tag] == nil {
			r.plan[tag] = &point{sampling: sampling}
			again = append(again, tag)
		}
	}
	for tag := range r.plan {
		if _, still := now[tag]; !still && strings.HasPrefix(tag, site.Own) {
			delete(r.plan, tag)
			r.history.Add(tag, chunk.Line{}, Unknown(at))
			again = append(again, tag)
		}
	}
	return again
}

// After has the live table ask anew which of some points are recorded.
func (r *Recorder) After(tags []string) {
	if len(tags) > 0 {
		r.tap.Again(tags)
	}
}

func same(a, b *site.Sampling) bool { return a == b || a != nil && b != nil && *a == *b }

// Moves lists what changes of the site did to points, for a history that has missed them.
func Moves(changes []site.Change) (moves []history.Move, gone []string) {
	for _, c := range changes {
		was, point := c.Before.(site.Point)
		if !point {
			continue
		}
		if is, ok := c.After.(site.Point); !ok {
			gone = append(gone, was.Tag)
		} else if is.Tag != was.Tag {
			moves = append(moves, history.Move{From: was.Tag, To: is.Tag})
		}
	}
	return moves, gone
}

// CatchUp tells a history that was closed what became of points since, by batches of changes with the number of the last; that is 0 when there
// are no more.
func CatchUp(ctx context.Context, h History, next func(ctx context.Context) (int64, []site.Change, error)) error {
	for {
		last, changes, err := next(ctx)
		if err != nil || last == 0 {
			return err
		}
		moves, gone := Moves(changes)
		h.Follow(last, moves, gone)
	}
}
