package engine

import (
	"context"
	"maps"
	"slices"
	"time"

	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// diagnoseEvery is how often conclusions are drawn.
const diagnoseEvery = 2 * time.Second

// findings keeps what stands now.
type findings struct {
	list     []diagnose.Finding
	since    map[string]time.Time // by code and subject
	watching []diagnose.Watch
	stale    bool // the site has changed since
}

// diagnose draws conclusions until ctx ends.
func (e *Engine) diagnose(ctx context.Context) {
	ticker := time.NewTicker(diagnoseEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			e.guarded("diagnosing", func() {
				e.conclude(now)
				read := e.readStations()
				for _, r := range e.all() {
					e.tries(ctx, r, read[r.Link().Name], now)
				}
			})
		}
	}
}

// tries has it looked what else a link or a station may be, of which nothing is heard. read are the stations of the link that are read.
func (e *Engine) tries(ctx context.Context, r *link.Runner, read []string, now time.Time) {
	try := func(what string, f func() error) {
		e.ending.Go(func() {
			e.guarded("trying "+what, func() {
				if err := f(); err != nil {
					e.log.Info(what+" were not tried", "link", r.Link().Name, "reason", err)
				}
			})
		})
	}
	if station := r.Refused(now); station != "" && e.trying.CompareAndSwap(false, true) {
		try("alternatives", func() error {
			defer e.trying.Store(false)
			r.TryAlternatives(ctx, station)
			return nil
		})
	}
	if a, b, ok := r.Doubted(now); ok {
		try("interchanged stations", func() error {
			r.TryInterchanged(ctx, a, b)
			return nil
		})
	}
	for _, station := range read {
		if slots := e.zeros(station, now); slots != nil {
			try("another table", func() error {
				e.tryElsewhere(ctx, r, station, slots, now)
				return nil
			})
		}
	}
	if r.WantsOthers(now) {
		try("other settings", func() error { return r.TryOthers(ctx) })
	}
	if station := r.WantsRest(now); station != "" {
		try("how soon it hears", func() error { return r.TryRests(ctx, station) })
	}
	if station := r.WantsAddress(now); station != "" {
		try("other addresses", func() error { return r.TryAddresses(ctx, station) })
	}
}

// readStations are the stations that are read, by link.
func (e *Engine) readStations() map[string][]string {
	e.mu.Lock()
	defer e.mu.Unlock()
	read := map[string][]string{}
	for station, of := range e.linkOf {
		if len(e.slots[station]) > 0 {
			read[of] = append(read[of], station)
		}
	}
	return read
}

// conclude draws conclusions from what is known at a moment.
func (e *Engine) conclude(now time.Time) {
	var all diagnose.Evidence
	for _, r := range e.all() {
		l, stations := r.Evidence(now)
		all.Links = append(all.Links, l)
		all.Stations = append(all.Stations, stations...)
	}
	all.Points = table.Evidence(e.slotsOfAll(), now)
	all.Misread, all.Failing = e.misread(now, all.Stations)
	all.Zeros = e.foundElsewhere()
	all.Stalls = e.stalls.lately(now)
	if e.history != nil {
		all.History = e.history()
	}
	list := diagnose.Find(all)
	e.mu.Lock()
	defer e.mu.Unlock()
	since := map[string]time.Time{}
	for i := range list {
		key := string(list[i].Code) + " " + list[i].Subject
		if since[key] = e.findings.since[key]; since[key].IsZero() {
			since[key] = now.UTC().Truncate(time.Millisecond)
		}
		list[i].Since = since[key]
	}
	e.findings = findings{list, since, diagnose.Watching(all, list), false}
}

// slotsOfAll are the slots of each station.
func (e *Engine) slotsOfAll() [][]*table.Slot {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Collect(maps.Values(e.slots))
}

// concluded is how many findings there were when conclusions were last drawn.
func (e *Engine) concluded() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.findings.list)
}

// Findings are the conclusions that stand now, the most certain first.
func (e *Engine) Findings() []diagnose.Finding {
	e.refresh()
	e.mu.Lock()
	defer e.mu.Unlock()
	return append([]diagnose.Finding{}, e.findings.list...)
}

// refresh draws conclusions when the site has changed since they were drawn.
func (e *Engine) refresh() {
	e.mu.Lock()
	stale := e.findings.stale
	e.mu.Unlock()
	if stale {
		e.guarded("diagnosing", func() { e.conclude(time.Now()) })
	}
}

// Watching lists the stations without a good point of which too little is known yet to say why.
func (e *Engine) Watching() []diagnose.Watch {
	e.refresh()
	e.mu.Lock()
	defer e.mu.Unlock()
	return append([]diagnose.Watch{}, e.findings.watching...)
}

// Found notes units or outstations that a scan or a probe has found on a link.
func (e *Engine) Found(name string, units ...int) {
	e.mu.Lock()
	r := e.runners[name]
	e.mu.Unlock()
	if r != nil {
		r.Found(units, time.Now())
	}
}

// Traffic is what crossed the links.
func (e *Engine) Traffic() *traffic.Log { return e.traffic }

// ResetFigures begins the figures of all links and stations anew.
func (e *Engine) ResetFigures() {
	for _, r := range e.all() {
		r.ResetFigures()
	}
}
