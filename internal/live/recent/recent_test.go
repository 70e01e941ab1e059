package recent

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/history"
	"arithmon/internal/record/history/chunk"
)

func point(t *table.Table, tag string, at uint16) *table.Slot {
	p := site.Point{Tag: tag, Station: "plc", Type: codec.TypeUint16, Address: site.Address{Space: site.HoldingRegisters, Offset: at}}
	return t.Put(&p, site.NewStation())
}

// samples are those that are kept of a tag.
func samples(t *testing.T, r *Recent, tag string) (list []chunk.Sample) {
	chunks, _ := r.Of(tag)
	for _, c := range chunks {
		of, err := chunk.All(c)
		require.NoError(t, err)
		list = append(list, of...)
	}
	return list
}

// What is kept is what came since somebody looked, in its order, of those points alone; and it is forgotten once nobody looks.
func TestWhatIsLookedAtIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		live := table.New()
		a, b := point(live, "a", 0), point(live, "b", 1)
		r := Start(live.Tap)
		defer r.Stop()
		emit := func(slot *table.Slot, v int64, q reading.Quality) {
			live.Emit([]table.Sample{{Slot: slot, Value: codec.IntValue(v), Quality: q, Reason: map[bool]reading.Reason{true: reading.Timeout}[q == reading.Bad], Time: time.Now()}})
		}
		emit(a, 1, reading.Good)
		time.Sleep(time.Hour)
		chunks, since := r.Of("a")
		assert.Nil(t, chunks)
		assert.True(t, since.IsZero())
		began := time.Now()
		r.Look([]string{"a", "nothing"}, began)
		random := rand.New(rand.NewPCG(1, 2))
		want := []string{"1 good"} // as it stood
		for i := range 3000 {
			time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond)
			v, q := int64(i), reading.Good
			if random.IntN(20) == 0 {
				q = reading.Bad
			}
			emit(b, v, q)
			emit(a, v, q)
			want = append(want, map[bool]string{false: fmt.Sprint(v, " good"), true: " bad"}[q == reading.Bad])
		}
		var got []string
		for _, x := range samples(t, r, "a") {
			got = append(got, x.Value.String()+" "+x.Quality.String())
		}
		assert.Equal(t, slices.Compact(want), got, "what tells nothing new is not kept")
		assert.Equal(t, began.UnixMilli(), samples(t, r, "a")[0].Time, "nothing is said of the time before")
		assert.Empty(t, samples(t, r, "b"))
		_, since = r.Of("a")
		assert.Equal(t, began, since)

		for i := range chunkLong * (mostChunks + 2) {
			time.Sleep(time.Millisecond)
			emit(a, int64(i), reading.Good)
		}
		list := samples(t, r, "a")
		assert.LessOrEqual(t, len(list), chunkLong*mostChunks)
		_, since = r.Of("a")
		assert.WithinDuration(t, list[0].At(), since, chunkLong*time.Millisecond, "what went first is not claimed to be known")

		changed := site.Point{Tag: "a", Station: "plc", Type: codec.TypeUint16, Address: site.Address{Space: site.HoldingRegisters, Offset: 7}}
		a = live.Put(&changed, site.NewStation())
		emit(a, 5, reading.Good)
		list = samples(t, r, "a")
		assert.LessOrEqual(t, len(list), 2, "another address is another point")
		assert.Equal(t, codec.IntValue(5), list[len(list)-1].Value)

		time.Sleep(forgotten + 2*sweepEvery)
		emit(a, 6, reading.Good)
		chunks, _ = r.Of("a")
		assert.Nil(t, chunks)

		for i := range mostPoints + 5 {
			r.Look([]string{fmt.Sprint("many", i)}, time.Now().Add(time.Duration(i)))
		}
		assert.Len(t, r.points, mostPoints)
		assert.NotContains(t, r.points, "many0")
	})
}

// What is drawn of chunks is what they hold.
func TestChunksAreDrawn(t *testing.T) {
	var a chunk.Appender
	for i := range 10 {
		a.Add(chunk.Sample{Time: int64(i) * 100, Source: chunk.NoTime, Value: codec.IntValue(int64(i)), Quality: reading.Good})
	}
	list := history.Columns([][]byte{a.Bytes()}, history.Span{From: 250, To: 650}, 200)
	require.Len(t, list, 2)
	assert.Equal(t, []float64{3, 4, 5, 6}, []float64{list[0].Least, list[0].Most, list[1].Least, list[1].Most})
	v, ok := history.At([][]byte{a.Bytes()}, 250)
	assert.True(t, ok)
	assert.Equal(t, codec.IntValue(2), v)
	a.Add(chunk.Sample{Time: 1000, Source: chunk.NoTime, Quality: reading.Bad, Reason: reading.Timeout})
	v, ok = history.At([][]byte{a.Bytes()}, 1001)
	assert.True(t, ok)
	assert.True(t, v.IsZero(), "the last good one does not hold on")
	_, ok = history.At([][]byte{a.Bytes()}, 0)
	assert.False(t, ok)
}
