package engine

import (
	"context"
	"time"

	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/traffic"
)

// diagnoseEvery is how often conclusions are drawn.
const diagnoseEvery = 2 * time.Second

// findings keeps what stands now.
type findings struct {
	list  []diagnose.Finding
	since map[string]time.Time // by code and subject
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
				for _, r := range e.all() {
					r.ProbeAlternatives(ctx, now)
				}
			})
		}
	}
}

// conclude draws conclusions from what is known at a moment.
func (e *Engine) conclude(now time.Time) {
	var all diagnose.Evidence
	for _, r := range e.all() {
		l, stations := r.Evidence(now)
		all.Links = append(all.Links, l)
		all.Stations = append(all.Stations, stations...)
	}
	all.Points = e.table.Evidence(now)
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
	e.findings = findings{list, since}
}

// Findings are the conclusions that stand now, the most certain first.
func (e *Engine) Findings() []diagnose.Finding {
	e.mu.Lock()
	defer e.mu.Unlock()
	return append([]diagnose.Finding{}, e.findings.list...)
}

// Traffic is what crossed the links.
func (e *Engine) Traffic() *traffic.Log { return e.traffic }

// ResetFigures begins the figures of all links and stations anew.
func (e *Engine) ResetFigures() {
	for _, r := range e.all() {
		r.ResetFigures()
	}
}
