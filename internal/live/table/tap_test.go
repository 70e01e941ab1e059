package table

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
)

// bus is a table of one station with points of one register each.
func bus(points int) (*Table, []Place) {
	t, st := New(), site.NewStation()
	st.Name = "plc"
	places := make([]Place, points)
	for i := range places {
		p := site.Point{Tag: fmt.Sprintf("p/%d", i), Station: "plc", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}, Type: codec.TypeUint16}
		places[i] = Place{Slot: t.Put(&p, st), First: int32(i), Count: 1}
	}
	return t, places
}

// registers are so many of one value.
func registers(n int, value uint16) []byte {
	data := make([]byte, 0, 2*n)
	for range n {
		data = binary.BigEndian.AppendUint16(data, value)
	}
	return data
}

func TestATapGetsWhatIsNewInItsOrder(t *testing.T) {
	table, places := bus(2)
	tap := table.Tap(TapOptions{Patterns: []string{"p/0"}})
	every := table.Tap(TapOptions{Patterns: []string{"p/*"}, Every: true})
	at := time.Now()
	var block Block
	for _, value := range []uint16{1, 1, 2, 2, 1} {
		at = at.Add(time.Second)
		block.Store(registers(2, value), false, places, at)
	}
	places[0].Slot.Bad(reading.Timeout, at.Add(time.Second))
	<-tap.Ready()
	list, lost := tap.Take(nil, 100)
	assert.Zero(t, lost)
	var said []string
	for _, r := range list {
		assert.Equal(t, "p/0", r.Point.Tag)
		said = append(said, r.Reading.Value.String()+" "+string(r.Reading.Reason))
	}
	assert.Equal(t, []string{"1 ", "2 ", "1 ", "1 timeout"}, said)
	list, lost = every.Take(nil, 100)
	assert.Zero(t, lost)
	assert.Len(t, list, 11)

	table.Remove("p/0")
	list, _ = tap.Take(nil, 100)
	require.Len(t, list, 1)
	assert.True(t, list[0].Removed)
	tap.Close()
	every.Close()
	block.Store(registers(2, 9), false, places, at)
	list, _ = every.Take(nil, 100)
	assert.Len(t, list, 1, "the removal, and nothing after its end")
}

// A point that is changed goes on where it means the same, and begins anew where it does not.
func TestATapFollowsAPointThatIsChanged(t *testing.T) {
	table, places := bus(1)
	tap := table.Tap(TapOptions{Patterns: []string{"*"}})
	var block Block
	block.Store(registers(1, 7), false, places, time.Now())
	st := site.NewStation()
	st.Name = "plc"
	same := *places[0].Slot.Point
	same.Description = "the same"
	table.Put(&same, st)
	list, _ := tap.Take(nil, 100)
	assert.Len(t, list, 1, "nothing new was read")
	other := same
	other.Address.Offset = 9
	slot := table.Put(&other, st)
	list, _ = tap.Take(nil, 100)
	require.Len(t, list, 2)
	assert.True(t, list[0].Removed)
	assert.Equal(t, reading.NeverRead, list[1].Reading.Reason)
	table.Emit([]Sample{{Slot: slot, Value: codec.UintValue(3), Quality: reading.Good, Words: []uint16{3}}})
	list, _ = tap.Take(nil, 100)
	require.Len(t, list, 1)
	assert.Equal(t, "3", list[0].Reading.Value.String())
}

// Whoever takes too slowly loses the newest, is told how many, and of each point knows the right value after that.
func TestATapThatIsFull(t *testing.T) {
	table, places := bus(1)
	tap := table.Tap(TapOptions{Patterns: []string{"*"}, Room: 10})
	var block Block
	for i := range 25 {
		block.Store(registers(1, uint16(i)), false, places, time.Now())
	}
	list, lost := tap.Take(nil, 4)
	assert.Len(t, list, 4)
	assert.Zero(t, lost, "the loss is behind what still waits")
	list, lost = tap.Take(list, 100)
	assert.Len(t, list, 10)
	assert.Equal(t, uint64(15), lost)
	assert.Equal(t, "9", list[9].Reading.Value.String())
	block.Store(registers(1, 24), false, places, time.Now())
	list, lost = tap.Take(nil, 100)
	require.Len(t, list, 1, "though it was given, and lost, before")
	assert.Zero(t, lost)
	assert.Equal(t, "24", list[0].Reading.Value.String())
}

// TestTrialOfTaps: blocks, single samples and failures at random, taken at random; what a tap gave and what it lost is all that was given.
func TestTrialOfTaps(t *testing.T) {
	readings, seed := 20_000, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("TRIAL_READINGS")); err == nil {
		readings = n
	}
	if n, err := strconv.ParseUint(os.Getenv("TRIAL_SEED"), 10, 64); err == nil {
		seed = n
	}
	random := rand.New(rand.NewPCG(seed, 0))
	const points = 20
	table, places := bus(points)
	tap := table.Tap(TapOptions{Patterns: []string{"*"}, Room: 500, Every: true})
	blocks := [2]Block{}
	var given [points][]string // what was given to each point
	var taken [points][]string
	var lost, total uint64
	take := func(limit int) {
		list, n := tap.Take(nil, limit)
		lost += n
		for _, r := range list {
			i := int(r.Point.Address.Offset)
			taken[i] = append(taken[i], r.Reading.Value.String()+" "+string(r.Reading.Reason))
		}
	}
	last := [points]string{}
	for total < uint64(readings) {
		switch random.IntN(4) {
		case 0, 1:
			which, value := random.IntN(2), uint16(random.IntN(3))
			half := places[which*points/2 : (which+1)*points/2]
			data := registers(points, value)
			blocks[which].Store(data, false, half, time.Now())
			for _, p := range half {
				last[p.First] = strconv.Itoa(int(value))
				given[p.First] = append(given[p.First], last[p.First]+" ")
				total++
			}
		case 2:
			i := random.IntN(points)
			value := uint64(random.IntN(3))
			table.Emit([]Sample{{Slot: places[i].Slot, Value: codec.UintValue(value), Words: []uint16{uint16(value)}, Quality: reading.Good}})
			last[i] = strconv.Itoa(int(value))
			given[i] = append(given[i], last[i]+" ")
			total++
		case 3:
			i := random.IntN(points)
			if r := places[i].Slot.Reading(); r.Quality == reading.Bad && r.Reason == reading.Timeout {
				continue
			}
			places[i].Slot.Bad(reading.Timeout, time.Now())
			given[i] = append(given[i], last[i]+" timeout")
			total++
		}
		if random.IntN(30) == 0 {
			take(random.IntN(600))
		}
	}
	for tap.Ready(); len(tap.queue) > 0; {
		take(1 << 20)
	}
	var got uint64
	for i := range taken {
		got += uint64(len(taken[i]))
		at := 0
		for _, r := range taken[i] { // in its order, with gaps where some were lost
			for at < len(given[i]) && given[i][at] != r {
				at++
			}
			require.Less(t, at, len(given[i]), "point %d was not given %q then", i, r)
			at++
		}
	}
	assert.Equal(t, total, got+lost, "what was not taken was told")
	t.Logf("%d given, %d taken, %d lost and told", total, got, lost)
	assert.Positive(t, lost)
}

// Counting does not work out what needs not be, and gives what working it out gives.
func TestCountsAreThoseOfTheReadings(t *testing.T) {
	table, st := New(), site.NewStation()
	st.Name = "plc"
	var slots []*Slot
	var places []Place
	for i, p := range []site.Point{
		{Type: codec.TypeUint16}, {Type: codec.TypeUint16, Scaling: scaling.Scaling{Raw: &[2]float64{0, 100}, Eng: &[2]float64{0, 1}}}, {Type: codec.TypeBCD16}, {Type: codec.TypeInt16},
	} {
		p.Tag, p.Station, p.Address = fmt.Sprint(i), "plc", site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}
		slots = append(slots, table.Put(&p, st))
		places = append(places, Place{slots[i], int32(i), 1})
	}
	assert.Equal(t, Count{Bad: 4}, table.Count(slots), "nothing was read yet")
	var block Block
	for value, want := range map[uint16]Count{5: {Good: 4}, 0x0200: {Good: 3, Uncertain: 1}, 0xABCD: {Good: 2, Uncertain: 1, Bad: 1}} {
		block.Store(registers(4, value), false, places, time.Now())
		assert.Equal(t, want, table.Count(slots), value)
		got := Count{}
		for _, s := range slots {
			switch s.Reading().Quality {
			case reading.Good:
				got.Good++
			case reading.Uncertain:
				got.Uncertain++
			default:
				got.Bad++
			}
		}
		assert.Equal(t, want, got, value)
	}
	slots[0].Bad(reading.Timeout, time.Now())
	block.Store(registers(4, 5), false, places[1:], time.Now())
	assert.Equal(t, Count{Good: 3, Bad: 1}, table.Count(slots))
}

// BenchmarkTap: 100,000 points, of which every one changes in each round, through a tap.
func BenchmarkTap(b *testing.B) {
	const stations, points = 1000, 100
	table, st := New(), site.NewStation()
	places := make([][]Place, stations)
	for s := range places {
		st.Name = fmt.Sprint("s", s)
		for i := range points {
			p := site.Point{Tag: fmt.Sprintf("%s/%d", st.Name, i), Station: st.Name, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}, Type: codec.TypeUint16}
			places[s] = append(places[s], Place{table.Put(&p, st), int32(i), 1})
		}
	}
	tap := table.Tap(TapOptions{Patterns: []string{"*"}, Room: stations * points})
	blocks := make([]Block, stations)
	list := make([]Tapped, 0, 1<<16)
	b.ResetTimer()
	for n := range b.N {
		data := registers(points, uint16(n))
		for s := range blocks {
			blocks[s].Store(data, false, places[s], time.Now())
		}
		taken := 0
		for taken < stations*points {
			var lost uint64
			if list, lost = tap.Take(list[:0], 1<<16); lost > 0 || len(list) == 0 {
				b.Fatal(len(list), lost)
			}
			taken += len(list)
		}
	}
}

// A raw code that says that there is no value makes the point bad, whichever way it comes, and keeps the last good value.
func TestARawCodeIsASensorFailure(t *testing.T) {
	table, st := New(), site.NewStation()
	st.Name = "plc"
	p := site.Point{Tag: "a", Station: "plc", Address: site.Address{Space: site.HoldingRegisters}, Type: codec.TypeInt16, Invalid: []site.RawCode{0x8000}}
	slot := table.Put(&p, st)
	places := []Place{{slot, 0, 1}}
	var block Block
	reads := func() string {
		r := slot.Reading()
		return fmt.Sprint(r.Value, " ", r.Quality, " ", r.Reason)
	}
	block.Store(registers(1, 5), false, places, time.Now())
	assert.Equal(t, "5 good ", reads())
	block.Store(registers(1, 0x8000), false, places, time.Now())
	assert.Equal(t, "5 bad sensor-failure", reads())
	assert.Equal(t, Count{Bad: 1}, table.Count([]*Slot{slot}))
	block.Store(registers(1, 6), false, places, time.Now())
	assert.Equal(t, "6 good ", reads())
	table.Emit([]Sample{{Slot: slot, Value: codec.IntValue(-32768), Words: []uint16{0x8000}, Quality: reading.Good}})
	assert.Equal(t, "6 bad sensor-failure", reads())
	changed := p
	changed.Invalid = nil
	assert.Equal(t, reading.NeverRead, table.Put(&changed, st).Reading().Reason, "it means something else now")
}
