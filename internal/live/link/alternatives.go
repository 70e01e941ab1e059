package link

import (
	"context"
	"slices"
	"time"

	"arithmon/internal/core/site"
)

// How often it is tried at most what would work instead of a refused request, and of how many of a station at once.
const (
	alternativesEvery = 10 * time.Minute
	mostAlternatives  = 24
	alternativeTime   = 5 * time.Second // for one of them
)

// alternative is where else addresses may be: in another table, or so far beside.
type alternative struct {
	table site.Space
	by    int
}

// of is the addresses that a refused request would ask for there; false when there are none.
func (a alternative) of(k *refusal) (site.Range, bool) {
	from := k.From + a.by
	return site.Range{Start: site.Address{Space: a.table, Offset: uint16(from)}, Count: k.Count}, from >= 0 && from+k.Count <= 0x10000
}

// otherTable is the table that may be meant instead of one.
var otherTable = map[site.Space]site.Space{
	site.HoldingRegisters: site.InputRegisters, site.InputRegisters: site.HoldingRegisters, site.Coils: site.DiscreteInputs, site.DiscreteInputs: site.Coils,
}

// Refused gives a station that refuses something of which it is to be tried now what would work instead, and notes that it is; "" stands
// for none.
func (r *Runner) Refused(now time.Time) string {
	if r.link.Transport == site.Dialup {
		return "" // a call costs more than the response is worth
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.stations {
		if s.status.State != StationAnswering {
			continue
		}
		for _, k := range s.refusals {
			if now.Sub(k.tried) >= alternativesEvery {
				return s.status.Name
			}
		}
	}
	return ""
}

// TryAlternatives asks, once for each refusal of a station, what would work instead: the other table, the neighbour address, fewer registers.
// What works for one is tried first for the others.
func (r *Runner) TryAlternatives(ctx context.Context, station string) {
	var list []*refusal
	r.mu.Lock()
	if s := r.stations[station]; s != nil {
		for _, k := range s.refusals {
			if time.Since(k.tried) >= alternativesEvery {
				list = append(list, k)
			}
		}
		slices.SortFunc(list, func(a, b *refusal) int { return a.From - b.From })
		list = list[:min(len(list), mostAlternatives)]
		for _, k := range list {
			k.tried = time.Now()
		}
	}
	r.mu.Unlock()
	var worked []alternative
	for _, k := range list {
		worked = r.tryAlternatives(ctx, station, k, worked)
	}
}

func (r *Runner) tryAlternatives(ctx context.Context, station string, k *refusal, worked []alternative) []alternative {
	try := append(slices.Clone(worked), alternative{otherTable[k.Table], 0})
	if k.Code != 1 {
		try = append(try, alternative{k.Table, -1}, alternative{k.Table, 1})
	}
	var works []site.Range
	for i, a := range try {
		what, ok := a.of(k)
		if !ok || slices.Contains(try[:i], a) || a.table == k.Table && a.by == 0 {
			continue
		}
		if r.reads(ctx, station, what) {
			if works = append(works, what); i < len(worked) {
				break // it is what the others are
			}
			worked = append(worked, a)
		}
	}
	if fewer := (site.Range{Start: site.Address{Space: k.Table, Offset: uint16(k.From)}, Count: 1}); len(works) == 0 && k.Count > 1 && k.Code != 1 && r.reads(ctx, station, fewer) {
		works = append(works, fewer)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	k.Instead = works
	return worked
}

// reads reports whether a station answers a read.
func (r *Runner) reads(ctx context.Context, station string, what site.Range) bool {
	asking, cancel := context.WithTimeout(ctx, alternativeTime)
	defer cancel()
	_, err := r.ReadAddresses(asking, station, what)
	return err == nil
}
