package api

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
)

// A message is as the type that describes it, and what is kept is never older than the reading.
func TestLiveMessagesAreWrittenOnceAndAreTheNewest(t *testing.T) {
	p := site.NewPoint()
	p.Tag, p.Station, p.Address, p.Type = "a", "plc", site.Address{Space: site.HoldingRegisters}, codec.TypeUint16
	slot := table.NewSlot(p, site.NewStation())
	var e encodings
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	written := func(list ...table.Live) []byte {
		var out bytes.Buffer
		require.NoError(t, e.message(&out, list))
		return out.Bytes()
	}
	shown := func(l table.Live) LiveMessage {
		text := written(l)
		var m LiveMessage
		require.NoError(t, json.Unmarshal(text, &m))
		whole, err := json.Marshal(LiveMessage{Readings: []Reading{newReading(l)}})
		require.NoError(t, err)
		assert.JSONEq(t, string(whole), string(text))
		return m
	}
	l := slot.Live()
	for i := range 5 {
		l.Reading = reading.Reading{Value: codec.UintValue(uint64(i / 2)), Quality: reading.Good, Time: at.Add(time.Duration(i) * time.Second), Raw: reading.Raw{Words: []uint16{uint16(i)}}}
		for range 2 {
			m := shown(l)
			assert.Equal(t, at.Add(time.Duration(i)*time.Second), *m.Readings[0].Time)
		}
	}
	l.Reading = l.Reading.Aged()
	assert.Equal(t, reading.Stale, shown(l).Readings[0].Reason, "nor is the quality")
	l.Removed = true
	text := written(l)
	assert.JSONEq(t, `{"readings":[],"removed":["a"]}`, string(text))
	text = written()
	assert.JSONEq(t, `{"readings":[]}`, string(text))
}
