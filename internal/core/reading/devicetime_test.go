package reading

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTimesOfDevicesAreCarriedWhateverTheyAre(t *testing.T) {
	for want, at := range map[string]time.Time{
		`"2026-11-27T10:00:00.25Z"`:     time.Date(2026, 11, 27, 10, 0, 0, 250e6, time.UTC),
		`"1970-01-01T00:00:00Z"`:        time.UnixMilli(0),
		`"9999-12-31T23:59:59.999Z"`:    time.Date(9999, 12, 31, 23, 59, 59, 999e6, time.UTC),
		`"+010000-01-01T00:00:00.000Z"`: time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC),
		`"+010889-08-02T05:31:50.655Z"`: time.UnixMilli(1<<48 - 1),
		`"+010888-02-29T12:00:00.000Z"`: time.Date(10888, 2, 29, 12, 0, 0, 0, time.UTC),
	} {
		b, err := json.Marshal(DeviceTime{at})
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
		var back DeviceTime
		require.NoError(t, json.Unmarshal(b, &back))
		assert.True(t, at.Equal(back.Time), "%s came back as %s", want, back.Time)
	}
}
