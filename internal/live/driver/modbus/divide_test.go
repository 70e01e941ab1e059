package modbus

import (
	"fmt"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/modbus"
)

// registerMap is a device whose registers say their own address, and which refuses some reads.
type registerMap struct {
	refuse func(first, count int) modbus.Exception // 0: it does not
	asked  int
}

// Exchange is part of asker.
func (m *registerMap) Exchange(_ byte, r modbus.Request, _ time.Duration) (modbus.Answered, error) {
	m.asked++
	if code := m.refuse(int(r.Address), int(r.Quantity)); code != 0 {
		return modbus.Answered{}, code
	}
	answer := modbus.Answered{At: time.Now()}
	for i := range r.Quantity {
		answer.Data = append(answer.Data, byte((r.Address+i)>>8), byte(r.Address+i))
	}
	return answer, nil
}

// holes refuses reads of addresses that do not exist.
func holes(at ...int) func(first, count int) modbus.Exception {
	return func(first, count int) modbus.Exception {
		for _, a := range at {
			if a >= first && a < first+count {
				return modbus.IllegalDataAddress
			}
		}
		return 0
	}
}

// polling does a station's jobs as a runner would, without its times.
type polling struct {
	session *session
	station link.Station
	jobs    []link.Job
}

func newPolling(m *registerMap, points ...site.Point) *polling {
	_, st := station(points...)
	st.Memory = new(atomic.Value)
	p := &polling{session: &session{asker: m, counters: new(modbus.Counters)}, station: st}
	p.jobs = Driver{}.Jobs(site.Link{}, st)
	return p
}

// round does every job once, what takes the place of jobs included.
func (p *polling) round(t require.TestingT) {
	todo := slices.Clone(p.jobs)
	for n := 0; len(todo) > 0; n++ {
		require.Less(t, n, 5000, "it comes to an end")
		j := todo[0]
		todo = todo[1:]
		if !slices.Contains(p.jobs, j) {
			continue
		}
		out := p.session.Do(j)
		if j.(*job).search != nil && out.Instead == nil {
			todo = append(todo, j)
		}
		if out.Instead != nil {
			p.jobs = slices.DeleteFunc(p.jobs, func(o link.Job) bool { return o == j })
			p.jobs = append(p.jobs, out.Instead...)
			todo = append(todo, out.Instead...)
		}
		if out.Replan {
			fresh := Driver{}.Jobs(site.Link{}, p.station)
			for _, j := range fresh {
				if !slices.ContainsFunc(p.jobs, func(o link.Job) bool { return j.(link.Adopter).Adopt(o) }) {
					todo = append(todo, j)
				}
			}
			p.jobs = fresh
		}
	}
}

// polls is how many requests a poll of the points takes, without those that are refused and asked seldom.
func (p *polling) polls() (n int) {
	for _, j := range p.jobs {
		if j.Period() < refusedPeriod {
			n++
		}
	}
	return n
}

// good lists the addresses whose points have been read, and checks what they read.
func (p *polling) good(t require.TestingT) (list []int) {
	read := map[*table.Slot]bool{}
	for _, work := range p.jobs {
		j := work.(*job)
		if j.refused || j.block == nil {
			continue
		}
		for _, it := range j.items {
			read[it.Slot] = true
		}
	}
	for _, slot := range p.station.Slots {
		if read[slot] {
			list = append(list, int(slot.Point.Address.Offset))
		}
	}
	return list
}

func row(from, to int) (points []site.Point) {
	for i := from; i < to; i++ {
		points = append(points, point(site.HoldingRegisters, i, codec.TypeUint16))
	}
	return points
}

func TestWhatIsRefusedIsFoundAndTheRestReadWithTheFewestRequests(t *testing.T) {
	boundaries := func(first, count int) modbus.Exception {
		if first/100 != (first+count-1)/100 {
			return modbus.IllegalDataAddress
		}
		return 0
	}
	limit := func(n int) func(int, int) modbus.Exception {
		return func(_, count int) modbus.Exception {
			if count > n {
				return modbus.IllegalDataValue
			}
			return 0
		}
	}
	for _, c := range []struct {
		name   string
		points []site.Point
		refuse func(int, int) modbus.Exception
		polls  int
		bad    []int
	}{
		{"all is read", row(0, 18), holes(), 1, nil},
		{"two holes in 18", row(0, 18), holes(5, 11), 3, []int{5, 11}},
		{"neighbouring holes", row(0, 18), holes(7, 8, 9), 2, []int{7, 8, 9}},
		{"one hole in 100", row(0, 100), holes(40), 2, []int{40}},
		{"the first and the last", row(0, 100), holes(0, 99), 1, []int{0, 99}},
		{"a hole that no point has", append(row(0, 10), row(12, 20)...), holes(10), 2, nil},
		{"a boundary each 100", row(0, 500), boundaries, 5, nil},
		{"a limit of 20", row(0, 300), limit(20), 15, nil},
		{"a limit of 1", row(0, 12), limit(1), 12, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := &registerMap{refuse: c.refuse}
			p := newPolling(m, c.points...)
			for range 8 {
				p.round(t)
			}
			assert.Equal(t, c.polls, p.polls())
			var bad []int
			good := p.good(t)
			for _, slot := range p.station.Slots {
				if at := int(slot.Point.Address.Offset); !slices.Contains(good, at) {
					bad = append(bad, at)
				}
			}
			slices.Sort(bad)
			assert.Equal(t, c.bad, bad)
			m.asked = 0
			p.round(t)
			assert.Equal(t, c.polls+len(c.bad), m.asked-rechecksOf(p), "and nothing else is asked")
		})
	}
}

func rechecksOf(p *polling) (n int) {
	for _, j := range p.jobs {
		if len(j.(*job).items) == 0 {
			n++
		}
	}
	return n
}

func TestARefusedDoubleWordLeavesItsWords(t *testing.T) {
	m := &registerMap{refuse: func(first, count int) modbus.Exception {
		if first == 0 && count >= 2 {
			return modbus.IllegalDataAddress
		}
		return 0
	}}
	p := newPolling(m, point(site.HoldingRegisters, 0, codec.TypeUint32), point(site.HoldingRegisters, 0, codec.TypeUint16), point(site.HoldingRegisters, 1, codec.TypeUint16))
	for range 3 {
		p.round(t)
	}
	var good []string
	for _, work := range p.jobs {
		if j := work.(*job); !j.refused {
			for _, it := range j.items {
				good = append(good, fmt.Sprint(it.Slot.Point.Address, " ", it.Slot.Point.Type))
			}
		}
	}
	assert.ElementsMatch(t, []string{"hr:0 uint16", "hr:1 uint16"}, good)
}

func TestAHoleThatIsFilledIsReadWithItsNeighboursAgain(t *testing.T) {
	m := &registerMap{refuse: holes(5, 11)}
	p := newPolling(m, row(0, 18)...)
	p.round(t)
	require.Equal(t, 3, p.polls())
	m.refuse = holes()
	p.round(t)
	p.round(t)
	assert.Equal(t, 1, p.polls())
	assert.Equal(t, 1, len(p.jobs))
}

func TestALimitThatIsGoneIsUnlearnt(t *testing.T) {
	limit := 20
	m := &registerMap{refuse: func(_, count int) modbus.Exception {
		if count > limit {
			return modbus.IllegalDataValue
		}
		return 0
	}}
	p := newPolling(m, row(0, 100)...)
	p.round(t)
	require.Equal(t, 5, p.polls())
	limit = 125
	p.round(t)
	p.round(t)
	assert.Equal(t, 1, p.polls())
}

// Twenty thousand refused addresses are not worth forty thousand requests.
func TestManyRefusalsAreBounded(t *testing.T) {
	m := &registerMap{refuse: func(int, int) modbus.Exception { return modbus.IllegalDataAddress }}
	p := newPolling(m, row(0, 20_000)...)
	p.round(t)
	assert.Less(t, m.asked, 700)
	assert.Zero(t, p.polls(), "all are asked seldom from now on")
}

// Whatever a device refuses, each point that it gives by itself is read in the end, as what it is.
func TestPointsThatAreReadAloneAreReadInAnyCase(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		missing := rapid.SliceOfNDistinct(rapid.IntRange(0, 59), 0, 8, rapid.ID[int]).Draw(t, "missing")
		limit := rapid.SampledFrom([]int{125, 125, 30, 16, 7, 2, 1}).Draw(t, "limit")
		boundary := rapid.SampledFrom([]int{1000, 1000, 50, 16, 10}).Draw(t, "boundary")
		refused := holes(missing...)
		m := &registerMap{refuse: func(first, count int) modbus.Exception {
			if count > limit || first/boundary != (first+count-1)/boundary {
				return modbus.IllegalDataAddress
			}
			return refused(first, count)
		}}
		p := newPolling(m, row(0, 60)...)
		for range 8 {
			known := p.jobs[0].(*job).learnt
			known.budget, known.inARow = mostBudget, 0 // as after a while
			p.round(t)
		}
		good := p.good(t)
		for at := range 60 {
			require.Equal(t, refused(at, 1) == 0, slices.Contains(good, at), "hr:%d", at)
		}
	})
}
