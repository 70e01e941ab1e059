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
	"reflect"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// Options are what an Engine needs.
type Options struct {
	Drivers []link.Driver
	Log     *slog.Logger // nil discards
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
	runners map[string]*link.Runner // by link
	linkOf  map[string]string       // by station
	ending  sync.WaitGroup

	traffic  *traffic.Log
	findings findings // guarded by mu
}

// New makes an engine without links.
func New(o Options) *Engine {
	e := &Engine{drivers: map[site.Protocol]link.Driver{}, table: table.New(), runners: map[string]*link.Runner{}, linkOf: map[string]string{}, traffic: traffic.NewLog()}
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
	for _, l := range s.Links() {
		e.startLink(s, l, nil)
	}
	aging := e.ctx
	e.ending.Go(func() { e.diagnose(aging) })
	e.ending.Go(func() {
		ticker := time.NewTicker(ageEvery)
		defer ticker.Stop()
		for {
			select {
			case <-aging.Done():
				return
			case now := <-ticker.C:
				e.guarded("ageing readings", func() { e.table.Age(now) })
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
func (e *Engine) startLink(s *site.Site, l site.Link, after <-chan struct{}) {
	var stations []link.Station
	for _, st := range s.StationsOf(l.Name) {
		e.linkOf[st.Name] = l.Name
		stations = append(stations, e.station(s, st))
	}
	r := link.Start(e.ctx, link.Options{Log: e.log, Link: l, Driver: e.drivers[l.Protocol], Table: e.table, Ring: e.traffic.Ring(l.Name, s.Count(site.KindLink)), Stations: stations, After: after})
	e.runners[l.Name] = r
	e.ending.Go(func() { <-r.Done() })
}

// station gathers the slots of a station's points.
func (e *Engine) station(s *site.Site, st site.Station) link.Station {
	points := s.SharedPointsOf(st.Name)
	station := link.Station{Station: st, Slots: make([]*table.Slot, len(points))}
	for i, p := range points {
		station.Slots[i] = e.table.Put(p, st)
	}
	return station
}

// Apply follows changes that s has already taken in. Only what a change touches is stopped or planned anew.
func (e *Engine) Apply(s *site.Site, changes []site.Change) {
	e.mu.Lock()
	defer e.mu.Unlock()
	links, stations := map[string]bool{}, map[string]bool{} // to restart, to configure
	var removed []string
	for _, c := range changes {
		for _, entity := range []site.Entity{c.Before, c.After} {
			switch v := entity.(type) {
			case site.Link:
				if !sameLink(c.Before, c.After) {
					links[v.Name] = true
				}
			case site.Station:
				stations[v.Name] = true
			case site.Point:
				stations[v.Station] = true
				if _, still := s.Point(v.Tag); !still {
					removed = append(removed, v.Tag)
				}
			}
		}
	}
	for _, tag := range removed {
		e.table.Remove(tag)
	}
	// Stations leave their old links before anything takes them up on the new ones.
	for name := range stations {
		st, exists := s.Station(name)
		if was, ok := e.linkOf[name]; ok && (!exists || was != st.Link) {
			if r := e.runners[was]; r != nil && !links[was] {
				r.Drop(name)
			}
			delete(e.linkOf, name)
		}
	}
	for name := range links {
		var after <-chan struct{}
		if old := e.runners[name]; old != nil {
			old.Stop()
			after = old.Done()
			delete(e.runners, name)
		}
		if l, ok := s.Link(name); ok {
			e.startLink(s, l, after)
		} else {
			e.traffic.Drop(name)
		}
	}
	for name := range stations {
		if st, exists := s.Station(name); exists && !links[st.Link] {
			e.linkOf[name] = st.Link
			e.runners[st.Link].Configure(e.station(s, st))
		}
	}
}

// sameLink reports whether two links differ in nothing that matters to a runner.
func sameLink(before, after site.Entity) bool {
	b, ok1 := before.(site.Link)
	a, ok2 := after.(site.Link)
	b.Description = a.Description
	return ok1 && ok2 && reflect.DeepEqual(a, b)
}

func (e *Engine) runnerOf(station string) (*link.Runner, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if r := e.runners[e.linkOf[station]]; r != nil {
		return r, nil
	}
	return nil, fmt.Errorf("%w: %q", ErrNoStation, station)
}

// Reading returns the newest reading of a point.
func (e *Engine) Reading(tag string) (table.Live, bool) {
	slot := e.table.Get(tag)
	if slot == nil {
		return table.Live{}, false
	}
	return slot.Live(), true
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

// Command runs f on a connection of a station's link, between two exchanges, and waits for it. When ctx ends before f's turn, f is not run.
func (e *Engine) Command(ctx context.Context, station string, f func(*link.Turn) error) error {
	r, err := e.runnerOf(station)
	if err != nil {
		return err
	}
	return r.Command(ctx, station, f)
}

// Hold keeps the link of a station from being lent until release is called.
func (e *Engine) Hold(station string) (release func()) {
	r, err := e.runnerOf(station)
	if err != nil {
		return func() {}
	}
	return r.Hold()
}

// ReadAddresses asks a station for addresses that no point needs to have.
func (e *Engine) ReadAddresses(ctx context.Context, station string, what site.Range) ([]table.Sample, error) {
	r, err := e.runnerOf(station)
	if err != nil {
		return nil, err
	}
	return r.ReadAddresses(ctx, station, what)
}

// Refresh plans a station anew and asks it everything at once, what it refused before included.
func (e *Engine) Refresh(ctx context.Context, station string) error {
	r, err := e.runnerOf(station)
	if err != nil {
		return err
	}
	return r.Refresh(ctx, station)
}

// TestStation asks a station for any sign of life.
func (e *Engine) TestStation(ctx context.Context, station string) (link.Test, error) {
	r, err := e.runnerOf(station)
	if err != nil {
		return link.Test{}, err
	}
	return r.TestStation(ctx, station)
}

// Perform has a station do one of its Actions and says what came of it.
func (e *Engine) Perform(ctx context.Context, station, action string) (string, error) {
	r, err := e.runnerOf(station)
	if err != nil {
		return "", err
	}
	return r.Perform(ctx, station, action)
}

// Actions are what stations of a protocol can do beside reading and writing.
func (e *Engine) Actions(p site.Protocol) []link.Action {
	if actor, ok := e.drivers[p].(link.Actor); ok {
		return actor.Actions()
	}
	return nil
}

// Borrow gives a link to f alone: its connections are closed and its polls pause until f returns. f ends soon after its context does,
// which is when ctx ends or the link is stopped or changed.
func (e *Engine) Borrow(ctx context.Context, name, why string, f func(context.Context)) error {
	e.mu.Lock()
	r := e.runners[name]
	e.mu.Unlock()
	if r == nil {
		return link.ErrStopped
	}
	return r.Lend(ctx, why, f)
}

// ErrNoStation says that there is no station of a name.
var ErrNoStation = errors.New("no such station")
