package link

import (
	"context"
	"slices"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
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
	moving := map[site.Range][]diagnose.At{}
	for i, a := range try {
		what, ok := a.of(k)
		if !ok || slices.Contains(try[:i], a) || a.table == k.Table && a.by == 0 {
			continue
		}
		along, end, ok := r.along(station, k, a)
		if ok && r.reads(ctx, station, what) && (len(along) == 0 || r.reads(ctx, station, end)) {
			if len(along) > 0 {
				moving[what] = along
			}
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
	k.Instead, k.Along = works, moving
	return worked
}

// along is which other points would have to move with those that are refused, since each has what the one before it would get; end is what
// the last of them would be read from. It is not ok where the refused ones have a neighbour on the other side: then it is no list that is off.
func (r *Runner) along(station string, k *refusal, a alternative) (list []diagnose.At, end site.Range, ok bool) {
	if a.table != k.Table || a.by == 0 {
		return nil, end, true
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.stations[station]
	if s == nil {
		return nil, end, false
	}
	type span struct {
		at       diagnose.At
		from, to int
	}
	var spans []span
	for _, slot := range s.Slots {
		if p := slot.Point; p.Address.Space == k.Table && slot.Layout != nil {
			from := int(p.Address.Offset)
			spans = append(spans, span{diagnose.At{Tag: p.Tag, Address: p.Address}, from, from + max(1, slot.Layout.Words())})
		}
	}
	slices.SortFunc(spans, func(x, y span) int { return a.by * (x.from - y.from) })
	from, to, neighbour := k.From, k.From+k.Count, false
	for _, x := range spans {
		switch {
		case x.from < k.From+k.Count && x.to > k.From: // of the refused ones
		case a.by > 0 && x.to == k.From || a.by < 0 && x.from == k.From+k.Count:
			neighbour = true
		case x.from < to+a.by && x.to > from+a.by:
			from, to = min(from, x.from), max(to, x.to)
			list = append(list, x.at)
			end = site.Range{Start: site.Address{Space: k.Table, Offset: uint16(x.from + a.by)}, Count: x.to - x.from}
		}
	}
	return list, end, len(list) == 0 || !neighbour
}

// reads reports whether a station answers a read.
func (r *Runner) reads(ctx context.Context, station string, what site.Range) bool {
	asking, cancel := context.WithTimeout(ctx, alternativeTime)
	defer cancel()
	_, err := r.ReadAddresses(asking, station, what)
	return err == nil
}
