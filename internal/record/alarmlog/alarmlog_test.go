package alarmlog

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

func opened(t *testing.T) *Log {
	db, err := database.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return Open(db)
}

func TestAlarmsAreKeptAsTheyWere(t *testing.T) {
	l := opened(t)
	at, bound := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC), 2.5
	high := alarm.Alarm{Key: alarm.Key{Tag: "a", Limit: site.High}, State: alarm.Acknowledged, Since: at, Value: codec.FloatValue(3.5), Said: "3.5 m", Bound: &bound, Severity: 2, AckedBy: "ann", AckedAt: at, Note: "seen"}
	shelved := alarm.Alarm{Key: alarm.Key{Tag: "b", Limit: site.InState}, ShelvedBy: "bob", ShelvedTo: at.Add(time.Hour), Severity: 3}
	require.NoError(t, l.Save(t.Context(), []alarm.Alarm{high, shelved}, nil))
	kept, err := l.Load(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []alarm.Alarm{high, shelved}, kept)
	high.State = alarm.Normal
	require.NoError(t, l.Save(t.Context(), []alarm.Alarm{high}, nil))
	kept, err = l.Load(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []alarm.Alarm{shelved}, kept, "of one that is over nothing is kept")
}

func TestWhatHappenedIsFound(t *testing.T) {
	l := opened(t)
	at := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)
	for i := range 10 {
		entries := []Entry{{Time: at.Add(time.Duration(i) * 500 * time.Millisecond), Tag: fmt.Sprintf("t/%d", i%2), Limit: site.High, Step: alarm.Raised, Value: fmt.Sprint(i)}}
		require.NoError(t, l.Save(t.Context(), nil, entries))
		assert.Equal(t, int64(i+1), entries[0].ID)
	}
	found := func(f Filter) string {
		if f.Limit == 0 {
			f.Limit = 100
		}
		list, err := l.Entries(t.Context(), f)
		require.NoError(t, err)
		var values []string
		for _, e := range list {
			values = append(values, e.Value)
		}
		return strings.Join(values, " ")
	}
	assert.Equal(t, "9 8 7 6 5 4 3 2 1 0", found(Filter{}))
	assert.Equal(t, "9 8 7", found(Filter{Limit: 3}))
	assert.Equal(t, "2 1 0", found(Filter{Before: 4}))
	assert.Equal(t, "8 9", found(Filter{After: 8, Forward: true}))
	assert.Equal(t, "9 7 5 3 1", found(Filter{Match: func(tag string) bool { return tag == "t/1" }}))
	assert.Equal(t, "5 4 3 2", found(Filter{From: at.Add(time.Second), Until: at.Add(3 * time.Second)}), "to the millisecond, whole seconds among them")
	last, err := l.Last(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(10), last)
}
