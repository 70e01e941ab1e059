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
	"fmt"
	"log/slog"
	"reflect"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/traffic"
)

// Options are what an Engine needs.
type Options struct {
	Drivers []Driver
	Log     *slog.Logger // nil discards
}

// ageEvery is how often readings are looked at for being stale.
const ageEvery = 500 * time.Millisecond

// Engine runs the links of a site.
type Engine struct {
	drivers map[site.Protocol]Driver
	table   *table
	log     *slog.Logger

	mu      sync.Mutex
	ctx     context.Context // of the runners; nil before Start
	cancel  context.CancelFunc
	runners map[string]*runner // by link
	linkOf  map[string]string  // by station
	ending  sync.WaitGroup
	pulses  *pulses

	traffic  *traffic.Log
	findings findings // guarded by mu
}

// New makes an engine without links.
func New(o Options) *Engine {
	e := &Engine{drivers: map[site.Protocol]Driver{}, table: newTable(), runners: map[string]*runner{}, linkOf: map[string]string{}, pulses: newPulses(), traffic: traffic.NewLog()}
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
				e.guarded("ageing readings", func() { e.table.age(now) })
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

// pulsesEnd is how long the ends of pulses may take when the engine stops.
const pulsesEnd = time.Second

// EndPulses ends pulses early, and lets no further one begin.
func (e *Engine) EndPulses() { e.pulses.halt(pulsesEnd) }

// Stop ends pulses early, then all links, lets exchanges under way end, and waits for that.
func (e *Engine) Stop() {
	e.EndPulses()
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
	var stations []Station
	for _, st := range s.StationsOf(l.Name) {
		e.linkOf[st.Name] = l.Name
		stations = append(stations, e.station(s, st))
	}
	r := start(e.ctx, e.log, l, e.drivers[l.Protocol], e.table, e.traffic.Ring(l.Name, len(s.Links())), stations, after)
	e.runners[l.Name] = r
	e.ending.Go(func() { <-r.done })
}

// station gathers the slots of a station's points.
func (e *Engine) station(s *site.Site, st site.Station) Station {
	points := s.SharedPointsOf(st.Name)
	station := Station{Station: st, Slots: make([]*Slot, len(points))}
	for i, p := range points {
		station.Slots[i] = e.table.put(p, st)
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
		e.table.remove(tag)
	}
	// Stations leave their old links before anything takes them up on the new ones.
	for name := range stations {
		st, exists := s.Station(name)
		if was, ok := e.linkOf[name]; ok && (!exists || was != st.Link) {
			if r := e.runners[was]; r != nil && !links[was] {
				r.inbox.put(func(*connection) { r.drop(name) })
			}
			delete(e.linkOf, name)
		}
	}
	for name := range links {
		var after <-chan struct{}
		if old := e.runners[name]; old != nil {
			old.stop()
			after = old.done
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
			r, station := e.runners[st.Link], e.station(s, st)
			r.inbox.put(func(*connection) { r.configure(station) })
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

func (e *Engine) runnerOf(station string) (*runner, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if r := e.runners[e.linkOf[station]]; r != nil {
		return r, nil
	}
	return nil, fmt.Errorf("%w: %q", ErrNoStation, station)
}

// Reading returns the newest reading of a point.
func (e *Engine) Reading(tag string) (Live, bool) {
	slot := e.table.get(tag)
	if slot == nil {
		return Live{}, false
	}
	return slot.live(), true
}

// Subscribe follows the points whose tags fit any of the patterns; the caller closes the subscription.
func (e *Engine) Subscribe(patterns ...string) *Subscription { return e.table.subscribe(patterns) }

// all lists the runners by the names of their links.
func (e *Engine) all() []*runner {
	e.mu.Lock()
	runners := make([]*runner, 0, len(e.runners))
	for _, r := range e.runners {
		runners = append(runners, r)
	}
	e.mu.Unlock()
	slices.SortFunc(runners, func(a, b *runner) int {
		if a.link.Name < b.link.Name {
			return -1
		}
		return 1
	})
	return runners
}

// Status returns the state of all links and stations, by name.
func (e *Engine) Status() ([]LinkStatus, []StationStatus) {
	runners := e.all()
	links, stations := []LinkStatus{}, []StationStatus{}
	for _, r := range runners {
		link, its := r.snapshot(e.table)
		links = append(links, link)
		stations = append(stations, its...)
	}
	return links, stations
}

// Raw is the wire data of a sample.
func (sample Sample) Raw() reading.Raw {
	raw := reading.Raw{Words: sample.Words, HasBit: sample.HasBit, Object: sample.Object}
	if sample.Bit {
		raw.Bit = 1
	}
	return raw
}
