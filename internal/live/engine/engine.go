// Package engine keeps the readings of a site's points up to date.
//
// Each link has a runner that owns its connections and does what is due on them, one exchange at a time unless the link
// allows several: commands first, then the job that is due longest. What a job learns goes into the live table, from which readers
// take the newest readings; the engine never waits for a reader. The protocols are drivers (Driver).
//
// A station that does not answer is set back: it is asked once, with growing pauses, until it answers again, so that
// its neighbours keep their rate.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// Options are what an Engine needs.
type Options struct {
	Drivers []link.Driver
	Log     *slog.Logger     // nil discards
	Units   *unit.Dictionary // what values are in plants; nil: the one that is built in

	Counts  Counts                  // of what else is counted; nil for nothing
	History func() diagnose.History // says how the recording of readings goes; nil: there is none
}

// ageEvery is how often readings are looked at for being stale.
const ageEvery = 500 * time.Millisecond

// Engine runs the links of a site.
type Engine struct {
	drivers map[site.Protocol]link.Driver
	table   *table.Table
	log     *slog.Logger

	mu      sync.Mutex
	ctx     context.Context // of the runners; nil before Start
	cancel  context.CancelFunc
	runners map[string]*link.Runner  // by link
	linkOf  map[string]string        // by station
	slots   map[string][]*table.Slot // of the points of each station, by tag
	ending  sync.WaitGroup

	traffic   *traffic.Log
	findings  findings // guarded by mu
	stalls    stalls
	units     *unit.Dictionary
	history   func() diagnose.History
	counts    Counts
	own       []string              // tags of the service's own points; guarded by mu
	weighed   map[string]*weighed   // by station
	mendings  []Mending             // guarded by mu
	elsewhere map[string]*elsewhere // by station; guarded by mu
	trying    atomic.Bool           // alternatives to what is refused
}

// New makes an engine without links.
func New(o Options) *Engine {
	e := &Engine{drivers: map[site.Protocol]link.Driver{}, table: table.New(), runners: map[string]*link.Runner{}, linkOf: map[string]string{}, slots: map[string][]*table.Slot{}, weighed: map[string]*weighed{}, elsewhere: map[string]*elsewhere{}, units: o.Units, history: o.History, counts: o.Counts, traffic: traffic.NewLog()}
	if e.units == nil {
		e.units = unit.BuiltIn()
	}
	if e.log = o.Log; e.log == nil {
		e.log = slog.New(slog.DiscardHandler)
	}
	for _, d := range o.Drivers {
		e.drivers[d.Protocol()] = d
	}
	return e
}

// Start runs the links of s until Stop. s must not change meanwhile; later changes go to Apply.
func (e *Engine) Start(ctx context.Context, s *site.Site) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.ctx, e.cancel = context.WithCancel(ctx)
	e.findings.stale = true
	for _, l := range s.Links() {
		e.startLink(s, l, nil)
	}
	aging := e.ctx
	e.ending.Go(func() { e.diagnose(aging) })
	e.ending.Go(func() { e.keepOwn(aging) })
	e.ending.Go(func() { e.stalls.watch(aging) })
	e.ending.Go(func() {
		ticker := time.NewTicker(ageEvery)
		defer ticker.Stop()
		for {
			select {
			case <-aging.Done():
				return
			case now := <-ticker.C:
				e.guarded("ageing readings", func() {
					for _, slots := range e.slotsOfAll() {
						table.Age(slots, now)
					}
				})
			}
		}
	})
}

// guarded does something whose panic must not end the service.
func (e *Engine) guarded(what string, f func()) {
	if fault := crash.Catch(f); fault != nil {
		e.log.Error("internal fault", "while", what, "fault", fault.Value, "stack", string(fault.Stack))
	}
}

// Stop ends all links, lets exchanges under way end, and waits for that.
func (e *Engine) Stop() {
	e.traffic.StopRecording()
	e.mu.Lock()
	if e.cancel != nil {
		e.cancel()
	}
	e.mu.Unlock()
	e.ending.Wait()
}

// startLink starts a runner for l with all its stations.
func (e *Engine) startLink(s *site.Site, l site.Link, replaces *link.Runner) {
	var stations []link.Station
	for _, st := range s.StationsOf(l.Name) {
		e.linkOf[st.Name] = l.Name
		stations = append(stations, e.station(s, st))
	}
	r := link.Start(e.ctx, link.Options{Log: e.log, Link: l, Driver: e.drivers[l.Protocol], Others: e.drivers, Table: e.table, Ring: e.traffic.Ring(l.Name, s.Count(site.KindLink)), Stations: stations, Replaces: replaces})
	e.runners[l.Name] = r
	e.ending.Go(func() { <-r.Done() })
}

// station gathers the slots of all points of a station.
func (e *Engine) station(s *site.Site, st site.Station) link.Station {
	points := s.SharedPointsOf(st.Name)
	slots := make([]*table.Slot, len(points))
	for i, p := range points {
		slots[i] = e.table.Put(p, st)
	}
	e.slots[st.Name] = slots
	return link.Station{Station: st, Slots: slots}
}

// among gathers them where points changed and nothing else did; tags are all those that the station has or had of them.
func (e *Engine) among(s *site.Site, st site.Station, tags []string) link.Station {
	slices.Sort(tags)
	before := e.slots[st.Name]
	slots := make([]*table.Slot, 0, len(before)+len(tags))
	for _, tag := range slices.Compact(tags) {
		i, had := slices.BinarySearchFunc(before, tag, func(slot *table.Slot, tag string) int { return strings.Compare(slot.Point.Tag, tag) })
		slots = append(slots, before[:i]...)
		if before = before[i:]; had {
			before = before[1:]
		}
		if p := s.SharedPoint(tag); p != nil && p.Station == st.Name {
			slots = append(slots, e.table.Put(p, st))
		}
	}
	slots = append(slots, before...)
	e.slots[st.Name] = slots
	return link.Station{Station: st, Slots: slots}
}

func (e *Engine) runnerOf(station string) (*link.Runner, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if r := e.runners[e.linkOf[station]]; r != nil {
		return r, nil
	}
	return nil, fmt.Errorf("%w: %q", ErrNoStation, station)
}

// Known reports whether there is a point with a tag, in the site or of the service's own.
func (e *Engine) Known(tag string) bool { return e.table.Get(tag) != nil }

// Reading returns the newest reading of a point.
func (e *Engine) Reading(tag string) (table.Live, bool) {
	slot := e.table.Get(tag)
	if slot == nil {
		return table.Live{}, false
	}
	return slot.Live(), true
}

// Qualities gives f the quality of each point of the site, in no order. What f does holds up who comes from the devices; it is to be brief.
func (e *Engine) Qualities(f func(tag string, q reading.Quality)) {
	for _, slots := range e.slotsOfAll() {
		table.Qualities(slots, f)
	}
}

// Subscribe follows the points whose tags fit any of the patterns; the caller closes the subscription.
func (e *Engine) Subscribe(patterns ...string) *table.Subscription {
	return e.table.Subscribe(patterns...)
}

// Tap begins a queue of every reading of some points; the caller closes it.
func (e *Engine) Tap(o table.TapOptions) *table.Tap { return e.table.Tap(o) }

// all lists the runners by the names of their links.
func (e *Engine) all() []*link.Runner {
	e.mu.Lock()
	runners := make([]*link.Runner, 0, len(e.runners))
	for _, r := range e.runners {
		runners = append(runners, r)
	}
	e.mu.Unlock()
	slices.SortFunc(runners, func(a, b *link.Runner) int {
		if a.Link().Name < b.Link().Name {
			return -1
		}
		return 1
	})
	return runners
}

// Status returns the state of all links and stations, by name.
func (e *Engine) Status() ([]link.Status, []link.StationStatus) {
	runners := e.all()
	links, stations := []link.Status{}, []link.StationStatus{}
	for _, r := range runners {
		status, its := r.Snapshot()
		links = append(links, status)
		stations = append(stations, its...)
	}
	return links, stations
}

// Slot is the place of a point in the live table; nil when there is no such point.
func (e *Engine) Slot(tag string) *table.Slot { return e.table.Get(tag) }

// Emit takes in readings that come from elsewhere than a link.
func (e *Engine) Emit(samples []table.Sample) { e.table.Emit(samples) }

// Events are those of all points.
func (e *Engine) Events() *table.Events { return e.table.Events() }

// ErrNoStation says that there is no station of a name.
var ErrNoStation = errors.New("no such station")
