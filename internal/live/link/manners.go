package link

import (
	"context"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// Manner is a station asked in another way: with other values of some of its fields.
type Manner struct {
	Station site.Station
	Fields  map[string]any
}

// tryManners asks a station in the other ways in which it may want to be asked; true when it answers one.
func (r *Runner) tryManners(ctx context.Context, station site.Station) bool {
	driver, can := r.driver.(Alternator)
	r.mu.Lock()
	damaged := r.since.checksums+r.since.damaged > 0 // then whether it answers is chance
	r.mu.Unlock()
	if !can || damaged {
		return false
	}
	for _, m := range driver.Manners(r.link, station) {
		if ctx.Err() != nil {
			return false
		}
		_, sign, ok := r.tryOther(ctx, r.link, []site.Station{m.Station}, max(time.Duration(r.link.Timeout), othersPatient))
		if !ok || sign.Partly {
			continue
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.others.manner = &diagnose.Manner{Station: station.Name, Fields: m.Fields, Said: sign.Said}
		return true
	}
	return false
}
