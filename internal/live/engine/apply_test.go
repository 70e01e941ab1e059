package engine

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
)

// Whatever is changed, and however many modifications are put into force at once, each station has the slots of its points and no others.
func TestApplyingRandomChanges(t *testing.T) {
	for seed := range uint64(20) {
		applying(t, rand.New(rand.NewPCG(seed, 1)), seed)
	}
}

func applying(t *testing.T, random *rand.Rand, seed uint64) {
	const links, stations, points = 2, 3, 12
	now := site.New()
	e := New(Options{Drivers: []link.Driver{newPlant()}})
	e.Start(t.Context(), now)
	defer e.Stop()
	fill := []func(*site.Draft){
		func(d *site.Draft) { d.Put(disabledLink(random.IntN(links))) },
		func(d *site.Draft) {
			l := fmt.Sprint("l", random.IntN(links))
			if _, ok := d.Get(site.KindLink, l); ok {
				s := site.NewStation()
				n := random.IntN(stations)
				s.Name, s.Link, s.Unit, s.Poll = fmt.Sprint("s", n), l, n+1, site.Duration(time.Duration(1+random.IntN(2))*time.Second)
				d.Put(s)
			}
		},
		func(d *site.Draft) { d.Remove(site.KindPoint, pointTag(random.IntN(points)), false) },
		func(d *site.Draft) {
			if random.IntN(8) == 0 {
				d.Remove(site.KindStation, fmt.Sprint("s", random.IntN(stations)), true)
			}
		},
	}
	put := func(d *site.Draft) {
		s := fmt.Sprint("s", random.IntN(stations))
		if _, ok := d.Get(site.KindStation, s); ok {
			p := site.Point{Tag: pointTag(random.IntN(points)), Station: s, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(random.IntN(3))}}
			d.Put(p)
		}
	}
	rename := func(d *site.Draft) {
		from, to := pointTag(random.IntN(points)), pointTag(random.IntN(points))
		was, ok := d.Get(site.KindPoint, from)
		if _, taken := d.Get(site.KindPoint, to); ok && !taken {
			p := was.(site.Point)
			p.Tag = to
			d.Replace(from, p)
		}
	}
	fill = append(fill, put, put, put, rename)
	for step := range 150 {
		var changes []site.Change
		for range 1 + random.IntN(4) {
			d := now.Edit()
			fill[random.IntN(len(fill))](d)
			some, err := d.Changes()
			if err != nil {
				continue // such as a point that is not there
			}
			now = now.With(some)
			changes = append(changes, some...)
		}
		e.Apply(now, changes)
		total := 0
		for _, st := range now.Stations() {
			points := now.SharedPointsOf(st.Name)
			total += len(points)
			require.Len(t, e.slots[st.Name], len(points), "seed %d, step %d, station %s", seed, step, st.Name)
			for i, slot := range e.slots[st.Name] {
				require.Equal(t, points[i], slot.Point, "seed %d, step %d", seed, step)
				require.Equal(t, points[i].Period(st), slot.Period, "seed %d, step %d", seed, step)
				require.Same(t, e.table.Get(points[i].Tag), slot, "seed %d, step %d, %s", seed, step, points[i].Tag)
			}
		}
		here := 0
		for n := range points {
			if e.table.Get(pointTag(n)) != nil {
				here++
			}
		}
		require.Equal(t, total, here, "seed %d, step %d: nothing is left behind", seed, step)
	}
	assert.LessOrEqual(t, len(e.slots), stations)
}

func pointTag(n int) string { return fmt.Sprintf("p%02d", n) }

func disabledLink(n int) site.Link {
	l := site.NewLink()
	l.Name, l.Host, l.Enabled = fmt.Sprint("l", n), "127.0.0.1", false
	return l
}
