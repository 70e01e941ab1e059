package table

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
)

// counted works out every reading of the table and counts it.
func counted(t *Table) (c Count) {
	for _, s := range t.slots {
		switch s.Reading().Quality {
		case reading.Good:
			c.Good++
		case reading.Uncertain:
			c.Uncertain++
		default:
			c.Bad++
		}
	}
	return c
}

// qualities counts what is said of each point.
func qualities(t *Table) (c Count) {
	Qualities(slices.Collect(maps.Values(t.slots)), func(_ string, q reading.Quality) {
		switch q {
		case reading.Good:
			c.Good++
		case reading.Uncertain:
			c.Uncertain++
		default:
			c.Bad++
		}
	})
	return c
}

// any of a table's slots, from which the station is known.
func (t *Table) some() []*Slot {
	for _, s := range t.slots {
		return []*Slot{s}
	}
	return nil
}

// TestTrialOfCounts does at random what happens to points, and compares the counts that are kept with what counting gives.
func TestTrialOfCounts(t *testing.T) {
	seed := uint64(1)
	if text := os.Getenv("TRIAL_SEED"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
		seed = n
	}
	random := rand.New(rand.NewPCG(seed, 2))
	table, st := New(), site.NewStation()
	st.Name = "plc"
	kinds := []site.Point{
		{Type: codec.TypeUint16}, {Type: codec.TypeBCD16}, {Type: codec.TypeUint16, Invalid: []site.RawCode{7}},
		{Type: codec.TypeUint16, Scaling: scaling.Scaling{Raw: &[2]float64{0, 100}, Eng: &[2]float64{0, 1}}},
	}
	const points = 12
	blocks, at := make([]Block, 3), time.Now()
	put := func(i int) {
		p := kinds[random.IntN(len(kinds))]
		p.Tag, p.Station, p.Address = fmt.Sprint("p", i), "plc", site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}
		table.Put(&p, st)
	}
	for i := range points {
		put(i)
	}
	for step := range 5000 {
		at = at.Add(time.Duration(random.IntN(2000)) * time.Millisecond)
		tag := fmt.Sprint("p", random.IntN(points))
		switch slot := table.Get(tag); random.IntN(8) {
		case 0:
			put(random.IntN(points))
		case 1:
			table.Remove(tag)
		case 2:
			if slot != nil {
				slot.Bad(reading.Timeout, at)
			}
		case 3:
			Age(slices.Collect(maps.Values(table.slots)), at)
		case 4:
			if slot != nil {
				table.Emit([]Sample{{Slot: slot, Quality: reading.Good, Value: codec.IntValue(int64(random.IntN(300))), Time: at}})
			}
		default:
			var places []Place
			for i := range points {
				if s := table.Get(fmt.Sprint("p", i)); s != nil && random.IntN(3) > 0 {
					places = append(places, Place{s, int32(i), 1})
				}
			}
			if len(places) > 0 {
				blocks[random.IntN(len(blocks))].Store(registers(points, uint16([]int{5, 7, 300, 0xABCD}[random.IntN(4)])), false, places, at)
			}
		}
		each, kept := qualities(table), table.Count(table.some()) // before anything is worked out
		require.Equal(t, counted(table), kept, "step %d, seed %d", step, seed)
		require.Equal(t, kept, each, "step %d, seed %d: point by point", step, seed)
	}
}

// BenchmarkCount counts 100,000 points of 1,000 stations, all of which have new data, a tenth of them such as may turn out to be none.
func BenchmarkCount(b *testing.B) {
	const stations, points = 1000, 100
	table, st := New(), site.NewStation()
	places := make([][]Place, stations)
	for s := range places {
		st.Name = fmt.Sprint("s", s)
		for i := range points {
			p := site.Point{Tag: fmt.Sprintf("%s/%d", st.Name, i), Station: st.Name, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}, Type: codec.TypeUint16}
			if i%10 == 0 {
				p.Type = codec.TypeBCD16
			}
			places[s] = append(places[s], Place{table.Put(&p, st), int32(i), 1})
		}
	}
	blocks := make([]Block, stations)
	store := func(n int) {
		for s := range blocks {
			blocks[s].Store(registers(points, uint16(n%10)), false, places[s], time.Now())
		}
	}
	b.Run("kept", func(b *testing.B) {
		for n := range b.N {
			b.StopTimer()
			store(n)
			b.StartTimer()
			for s := range places {
				table.Count([]*Slot{places[s][0].Slot})
			}
		}
	})
	b.Run("decoding", func(b *testing.B) {
		for n := range b.N {
			b.StopTimer()
			store(n)
			b.StartTimer()
			counted(table)
		}
	})
}
