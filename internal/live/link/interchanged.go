package link

import (
	"context"
	"slices"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// Two stations of a link that were given each other's addresses show it by what they refuse: each has what the other is asked for in vain.

// How often that is tried of the same two, and with how many requests of each.
const (
	interchangedEvery = 10 * time.Minute
	interchangedAsked = 3
)

// pair is two stations, by name.
type pair struct{ a, b string }

// Doubted gives two stations of the link that both refuse something and of which it is to be tried now whether they are interchanged, and notes
// that it is.
func (r *Runner) Doubted(now time.Time) (a, b string, ok bool) {
	if r.link.Transport == site.Dialup {
		return "", "", false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var names []string
	for name, s := range r.stations {
		if s.status.State == StationAnswering && (len(s.refusals) > 0 || len(s.notes[diagnose.NoteMissing].Missing) > 0) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for i, a := range names {
		for _, b := range names[i+1:] {
			if at, tried := r.pairs[pair{a, b}]; !tried || now.Sub(at) >= interchangedEvery {
				if r.pairs == nil {
					r.pairs = map[pair]time.Time{}
				}
				r.pairs[pair{a, b}] = now
				return a, b, true
			}
		}
	}
	return "", "", false
}

// TryInterchanged asks each of two stations for what the other refuses.
func (r *Runner) TryInterchanged(ctx context.Context, a, b string) {
	has := r.has(ctx, b, r.refusedBy(a)) && r.has(ctx, a, r.refusedBy(b))
	r.mu.Lock()
	defer r.mu.Unlock()
	if sa, sb := r.stations[a], r.stations[b]; sa != nil && sb != nil {
		switch {
		case has:
			sa.instead, sb.instead = b, a
		case sa.instead == b:
			sa.instead, sb.instead = "", ""
		}
	}
}

// refusedBy are some of the addresses that a station refuses, or does not have.
func (r *Runner) refusedBy(station string) (list []site.Range) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.stations[station]; s != nil {
		for _, k := range s.refusals {
			list = append(list, site.Range{Start: site.Address{Space: k.Table, Offset: uint16(k.From)}, Count: k.Count})
		}
		for _, a := range s.notes[diagnose.NoteMissing].Missing {
			list = append(list, site.Range{Start: a, Count: 1})
		}
	}
	slices.SortFunc(list, func(a, b site.Range) int { return int(a.Start.Offset) - int(b.Start.Offset) })
	return list[:min(len(list), interchangedAsked)]
}

// has reports whether a station answers for all of some addresses.
func (r *Runner) has(ctx context.Context, station string, list []site.Range) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(what site.Range) bool { return !r.reads(ctx, station, what) })
}
