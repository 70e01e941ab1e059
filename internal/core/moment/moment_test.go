package moment

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestMoments(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	there := time.FixedZone("there", 3600)
	for text, want := range map[string]time.Time{
		"now": now, "2h": now.Add(-2 * time.Hour), "1h30m": now.Add(-90 * time.Minute), "7d": now.AddDate(0, 0, -7), "2w": now.AddDate(0, 0, -14), "0.5d": now.Add(-12 * time.Hour),
		"2026-11-28": time.Date(2026, 11, 28, 0, 0, 0, 0, there), "2026-11-28 14:00": time.Date(2026, 11, 28, 14, 0, 0, 0, there),
		"2026-11-28T14:00:05": time.Date(2026, 11, 28, 14, 0, 5, 0, there), "2026-11-28T14:00:00.25Z": time.Date(2026, 11, 28, 14, 0, 0, 250e6, time.UTC),
		" 2026-11-28T14:00:00+02:00 ": time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC),
	} {
		got, err := Parse(text, now, there)
		assert.NoError(t, err, text)
		assert.True(t, want.Equal(got), "%s is %s", text, got)
	}
	for _, text := range []string{"", "yesterday", "-2h", "2", "2026-13-01", "99999999w", "28.11.2026"} {
		_, err := Parse(text, now, there)
		assert.Error(t, err, text)
	}
}
