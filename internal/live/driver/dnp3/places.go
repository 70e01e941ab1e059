package dnp3

import (
	"slices"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// indexes are the points of an outstation by kind, or those of a site.
type indexes [dnp3.KindCount]struct {
	bits  []uint64
	count int
}

func (x *indexes) add(k dnp3.Kind, index uint16) {
	s := &x[k]
	for len(s.bits) <= int(index)/64 {
		s.bits = append(s.bits, 0)
	}
	if bit := uint64(1) << (index % 64); s.bits[index/64]&bit == 0 {
		s.bits[index/64] |= bit
		s.count++
	}
}

func (x *indexes) has(k dnp3.Kind, index int) bool {
	bits := x[k].bits
	return index >= 0 && index/64 < len(bits) && bits[index/64]&(1<<(index%64)) != 0
}

// of are the indexes of a kind, rising.
func (x *indexes) of(k dnp3.Kind) (list []int) {
	for i := range 64 * len(x[k].bits) {
		if x.has(k, i) {
			list = append(list, i)
		}
	}
	return list
}

// place is where the points of a kind are: under another kind, or with other indexes.
type place struct {
	kind dnp3.Kind
	by   int // what is added to the index
}

// kindsBeside are the kinds that a point may have in an outstation whose site has it under one: of the same values, the likelier first.
var kindsBeside = map[dnp3.Kind][]dnp3.Kind{
	dnp3.BinaryInput: {dnp3.BinaryOutput, dnp3.DoubleBitInput}, dnp3.BinaryOutput: {dnp3.BinaryInput}, dnp3.DoubleBitInput: {dnp3.BinaryInput},
	dnp3.AnalogInput: {dnp3.AnalogOutput, dnp3.Counter}, dnp3.AnalogOutput: {dnp3.AnalogInput},
	dnp3.Counter: {dnp3.FrozenCounter, dnp3.AnalogInput}, dnp3.FrozenCounter: {dnp3.Counter},
}

// places finds where the points of a site are in an outstation that does not have some of them: all of a kind one index off, which is a
// list that counts from 1, or those that are missing under another kind, or several, the one that has most of them first.
func places(wanted, has *indexes) map[dnp3.Kind][]place {
	list := map[dnp3.Kind][]place{}
	by := shift(wanted, has)
	for k := dnp3.NoKind; k < dnp3.KindCount; k++ {
		missing := lacking(wanted, has, k)
		switch {
		case by != 0 && fits(wanted, has, k, by) && (missing > 0 || along(wanted, has, k, by)):
			list[k] = []place{{k, by}}
		case missing > 0:
			for _, other := range kindsBeside[k] {
				if beside(wanted, has, k, other) > 0 {
					list[k] = append(list[k], place{kind: other})
				}
			}
			slices.SortStableFunc(list[k], func(a, b place) int { return beside(wanted, has, k, b.kind) - beside(wanted, has, k, a.kind) })
		}
	}
	return list
}

// has reports whether a point is there and not where it is taken for.
func (p place) has(wanted, has *indexes, k dnp3.Kind, index int) bool {
	if p.by != 0 {
		return has.has(p.kind, index+p.by)
	}
	return !has.has(k, index) && has.has(p.kind, index) && !wanted.has(p.kind, index)
}

// lacking is how many points of a kind the outstation does not have.
func lacking(wanted, has *indexes, k dnp3.Kind) (n int) {
	for _, i := range wanted.of(k) {
		if !has.has(k, i) {
			n++
		}
	}
	return n
}

// beside is how many of the points of a kind that are missing the outstation has under another, where the site has none.
func beside(wanted, has *indexes, k, other dnp3.Kind) (n int) {
	for _, i := range wanted.of(k) {
		if (place{kind: other}).has(wanted, has, k, i) {
			n++
		}
	}
	return n
}

// shift is what all indexes are off by, 0 when that explains nothing: by one, or by what the first indexes differ in where all others
// differ in it, too.
func shift(wanted, has *indexes) (best int) {
	tried := []int{-1, 1}
	for k := dnp3.NoKind; k < dnp3.KindCount; k++ {
		if w, h := wanted.of(k), has.of(k); len(w) > 2 && len(w) == len(h) {
			tried = append(tried, h[0]-w[0])
		}
	}
	most := 0
	for _, by := range tried {
		explained := 0
		for k := dnp3.NoKind; k < dnp3.KindCount; k++ {
			if fits(wanted, has, k, by) {
				explained += lacking(wanted, has, k)
			}
		}
		if explained > most {
			most, best = explained, by
		}
	}
	return best
}

// fits reports whether the outstation has all points of a kind, of which there are some, with their indexes off by so much.
func fits(wanted, has *indexes, k dnp3.Kind, by int) bool {
	list := wanted.of(k)
	for _, i := range list {
		if !has.has(k, i+by) {
			return false
		}
	}
	return len(list) > 0
}

// along reports whether a kind of which nothing is missing is off as others are: its list begins where theirs do, beside the first of the
// outstation's.
func along(wanted, has *indexes, k dnp3.Kind, by int) bool {
	return (by == 1 || by == -1) && has.of(k)[0] == wanted.of(k)[0]+by
}

// kindsEvery is how often an outstation is asked for all points of kinds that it has beside those of class 0.
const kindsEvery = 10 * time.Minute

// place looks where points are that the outstation does not have as the site has them.
func (r *remote) place(out *master.Outstation) ([]diagnose.Move, error) {
	r.taking.Lock()
	has, look := r.held, time.Since(r.looked) > kindsEvery
	r.taking.Unlock()
	if look {
		for k := dnp3.BinaryInput; k < dnp3.KindCount; k++ {
			if k.Code() == "" || has[k].count > 0 {
				continue
			}
			_, err := out.ReadObjects(dnp3.AppendHeader(nil, dnp3.Header{Group: k.StaticGroup(), Qualifier: dnp3.All}), nil)
			if err != nil && !isRefusal(err) {
				return nil, err
			}
		}
	}
	r.taking.Lock()
	defer r.taking.Unlock()
	if look {
		r.looked = time.Now()
		r.others = r.held
	}
	all := r.held
	for k := range all {
		if all[k].count == 0 {
			all[k] = r.others[k]
		}
	}
	var wanted indexes
	for k, entries := range r.entries {
		for i, e := range entries {
			if e != nil && len(e.slots) > 0 {
				wanted.add(dnp3.Kind(k), uint16(i))
			}
		}
	}
	found := places(&wanted, &all)
	var moves []diagnose.Move
	move := func(slot *table.Slot, to place) {
		a := slot.Point.Address
		b := a
		b.Space, b.Offset = site.Space(to.kind.Code()), uint16(int(a.Offset)+to.by)
		moves = append(moves, diagnose.Move{Tag: slot.Point.Tag, From: a, To: b})
	}
	for k := dnp3.NoKind; k < dnp3.KindCount; k++ {
		for i, e := range r.entries[k] {
			at := slices.IndexFunc(found[k], func(to place) bool { return to.has(&wanted, &all, k, i) })
			if e == nil || at < 0 {
				continue
			}
			for _, slot := range e.slots {
				move(slot, found[k][at])
			}
		}
		for _, slot := range r.extra {
			if to := found[k]; len(to) > 0 && to[0].by != 0 && dnp3.KindOf(string(slot.Point.Address.Space)) == k {
				move(slot, to[0])
			}
		}
	}
	return moves, nil
}
