package table

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// TestEventsDoNotTakeEachOthersPlace follows more events than are kept, at different paces.
func TestEventsDoNotTakeEachOthersPlace(t *testing.T) {
	host := New()
	slot := host.Put(&site.Point{Tag: "a", Station: "rtu", Address: site.Address{Space: site.AnalogInputs}, Type: codec.TypeFloat64}, site.Station{Name: "rtu"})
	log := host.Events()
	log.Begin(1000)
	assert.Equal(t, uint64(999), log.Last())
	more := log.More(999)
	select {
	case <-more:
		t.Fatal("nothing has happened")
	default:
	}
	at := time.Date(2026, 5, 1, 8, 0, 0, 0, time.UTC)
	emit := func(from, n int) {
		samples := make([]Sample, n)
		for i := range samples {
			samples[i] = Sample{Slot: slot, Value: codec.IntValue(int64(from + i)), Quality: reading.Good, Event: true, SourceTime: at.Add(time.Duration(i) * time.Millisecond), Time: at}
		}
		host.Emit(samples)
	}
	emit(0, 100)
	<-more
	<-log.More(1000)
	list, lost := log.After(nil, 0, 1000)
	assert.Zero(t, lost)
	assert.Len(t, list, 100)
	for i, e := range list {
		assert.Equal(t, uint64(1000+i), e.ID)
		assert.Equal(t, codec.IntValue(int64(i)), e.Value)
		assert.Equal(t, at.Add(time.Duration(i)*time.Millisecond), e.SourceTime.UTC())
	}
	list, _ = log.After(nil, 1089, 5)
	assert.Equal(t, uint64(1090), list[0].ID)
	assert.Len(t, list, 5)
	emit(100, MaxEvents)
	list, lost = log.After(nil, 1049, 1<<30)
	assert.Equal(t, uint64(50), lost, "who is too slow is told")
	assert.Len(t, list, MaxEvents)
	assert.Equal(t, uint64(1100), list[0].ID)
	assert.Equal(t, codec.IntValue(100), list[0].Value)
	assert.Equal(t, codec.IntValue(100+MaxEvents-1), list[len(list)-1].Value)
	host.Emit([]Sample{{Slot: slot, Value: codec.IntValue(1), Quality: reading.Good}})
	assert.Equal(t, uint64(1099+MaxEvents), log.Last(), "a present value is no event")
}

// What is confirmed to a device it forgets, so that it must be on the disk by then, where there is somebody who writes it.
func TestKeepingEvents(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		host := New()
		slot := host.Put(&site.Point{Tag: "a", Station: "rtu", Address: site.Address{Space: site.BinaryInputs}, Type: codec.TypeBool}, site.Station{Name: "rtu"})
		const within = 2 * time.Second
		happen := func() {
			host.Emit([]Sample{{Slot: slot, Value: codec.BoolValue(true), Quality: reading.Good, Event: true}})
		}
		events := host.Events()
		happen()
		assert.True(t, events.Keep(within), "nobody writes them")
		assert.Equal(t, events.Last(), events.Record(), "what is recorded begins behind what there is")
		assert.True(t, events.Keep(within), "those before are none of his")
		happen()
		began := time.Now()
		assert.False(t, events.Keep(within), "he does not come")
		assert.Equal(t, within, time.Since(began))
		go func() {
			<-events.Wanted()
			time.Sleep(30 * time.Millisecond)
			events.Recorded(events.Last())
		}()
		began = time.Now()
		assert.True(t, events.Keep(within))
		assert.Equal(t, 30*time.Millisecond, time.Since(began))
	})
}
