package reading

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
)

func TestRawJSON(t *testing.T) {
	for _, c := range []struct {
		name string
		raw  Raw
		want string
	}{
		{"words", Raw{Words: []uint16{0x41C8, 0}}, `{"words":["0x41C8","0x0000"]}`},
		{"bit set", Raw{Bit: 1, HasBit: true}, `{"bit":1}`},
		{"bit clear", Raw{HasBit: true}, `{"bit":0}`},
		{"object", Raw{Object: Text("30.1 online")}, `{"object":"30.1 online"}`},
		{"nothing", Raw{}, `null`},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := json.Marshal(c.raw)
			require.NoError(t, err)
			assert.JSONEq(t, c.want, string(got))
			var back Raw
			require.NoError(t, json.Unmarshal(got, &back))
			assert.Equal(t, c.raw, back)
		})
	}
	var r Raw
	assert.Error(t, json.Unmarshal([]byte(`{"words":["0x12345"]}`), &r), "a word has 16 bits")
}

func TestNothingIsGoodByOmission(t *testing.T) {
	assert.Equal(t, Bad, Reading{}.Quality)
}

func TestFailedKeepsTheLastGoodValueAndItsTime(t *testing.T) {
	good := time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)
	r := Reading{Value: codec.FloatValue(24.5), Quality: Good, Time: good, GoodTime: good}
	failed := r.Failed(Timeout, good.Add(time.Minute))
	assert.Equal(t, "bad (timeout)", failed.ShortName())
	assert.Equal(t, codec.FloatValue(24.5), failed.Value)
	assert.Equal(t, good, failed.GoodTime)
	assert.Equal(t, failed, failed.Aged(), "a bad reading does not become better by ageing")
	assert.Equal(t, "uncertain (stale)", r.Aged().ShortName())
}

func TestExceptionReason(t *testing.T) {
	code, ok := ExceptionReason(2).Exception()
	assert.True(t, ok)
	assert.Equal(t, byte(2), code)
	_, ok = Timeout.Exception()
	assert.False(t, ok)
}

func TestQualityText(t *testing.T) {
	for _, q := range []Quality{Good, Uncertain, Bad} {
		text, err := q.MarshalText()
		require.NoError(t, err)
		var back Quality
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, q, back)
	}
	var q Quality
	assert.Error(t, q.UnmarshalText([]byte("fine")))
}
