package audit

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/record/database"
)

func opened(t *testing.T, dir string) (*Log, *database.Database) {
	t.Helper()
	db, err := database.Open(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return Open(db), db
}

func add(t *testing.T, l *Log, n int) {
	t.Helper()
	for i := range n {
		require.NoError(t, l.Add(t.Context(), Entry{Who: "ann", From: "192.0.2.7", Action: Write, Subject: fmt.Sprint("tern/", i), Detail: "sent 4"}))
	}
}

// Whatever is altered or removed by who has the database is found, and named; what is whole is called whole.
func TestTrialOfTampering(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	for range 30 {
		l, db := opened(t, t.TempDir())
		n := 3 + random.IntN(20)
		add(t, l, n)
		v, err := l.Verify(t.Context())
		require.NoError(t, err)
		require.Empty(t, v.Faults)
		require.Equal(t, int64(n), v.Entries)

		id := 1 + random.IntN(n)
		var change string
		removed := false
		switch random.IntN(6) {
		case 0:
			change = "UPDATE audit SET detail = 'sent 5' WHERE id = ?"
		case 1:
			change = "UPDATE audit SET who = 'bob' WHERE id = ?"
		case 2:
			change = "UPDATE audit SET time = '2020-01-01T00:00:00Z' WHERE id = ?"
		case 3:
			change = "UPDATE audit SET address = '' WHERE id = ?"
		case 4:
			change = "UPDATE audit SET hash = '" + strings.Repeat("0", 64) + "' WHERE id = ?"
		case 5:
			change, removed = "DELETE FROM audit WHERE id = ?", true
		}
		_, err = db.Writer.Exec(change, id)
		require.NoError(t, err)
		v, err = l.Verify(t.Context())
		require.NoError(t, err)
		require.NotEmpty(t, v.Faults, "%s of %d: %s", change, n, fmt.Sprint(id))
		assert.Equal(t, int64(id), v.Faults[0].ID, change)
		if removed {
			assert.Equal(t, fmt.Sprintf("entry %d was removed", id), v.Faults[0].Why)
		} else {
			assert.Contains(t, v.Faults[0].Why, "is not as it was written")
		}
		add(t, l, 2) // which follow on what is there
		again, err := l.Verify(t.Context())
		require.NoError(t, err)
		assert.Equal(t, v.Faults[0], again.Faults[0])
	}
}

// An entry that is made anew, hash and all, does not carry the one after it; and the last ones that are cut off are missed.
func TestAForgedEntryAndACutEnd(t *testing.T) {
	l, db := opened(t, t.TempDir())
	add(t, l, 5)
	list, err := l.Entries(t.Context(), Filter{Limit: 10})
	require.NoError(t, err)
	forged := list[2] // number 3
	forged.Detail = "sent 5"
	_, err = db.Writer.Exec("UPDATE audit SET detail = ?, hash = ? WHERE id = 3", forged.Detail, forged.chained(list[3].Hash))
	require.NoError(t, err)
	v, err := l.Verify(t.Context())
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	assert.Equal(t, int64(4), v.Faults[0].ID)

	l, db = opened(t, t.TempDir())
	add(t, l, 5)
	_, err = db.Writer.Exec("DELETE FROM audit WHERE id >= 4")
	require.NoError(t, err)
	v, err = l.Verify(t.Context())
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	assert.Equal(t, "entries 4 to 5 were removed", v.Faults[0].Why)
	_, err = db.Writer.Exec("DELETE FROM audit WHERE id = 1")
	require.NoError(t, err)
	v, err = l.Verify(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "entry 1 was removed", v.Faults[0].Why)
}

// An entry and what it tells of are on the disk together, or neither is.
func TestAnEntryStandsOrFallsWithWhatItTells(t *testing.T) {
	l, db := opened(t, t.TempDir())
	failed := errors.New("no")
	err := db.Change(t.Context(), func(tx *database.Tx) error {
		require.NoError(t, Append(t.Context(), tx, Entry{Who: "ann", Action: SiteChange}))
		return failed
	})
	assert.ErrorIs(t, err, failed)
	add(t, l, 1)
	v, err := l.Verify(t.Context())
	require.NoError(t, err)
	assert.Empty(t, v.Faults)
	assert.Equal(t, int64(1), v.Entries)
}

func TestEntriesOfMany(t *testing.T) {
	l, _ := opened(t, t.TempDir())
	var all sync.WaitGroup
	for who := range 8 {
		all.Go(func() {
			for range 20 {
				assert.NoError(t, l.Add(context.Background(), Entry{Who: fmt.Sprint("w", who), Action: SignIn, Detail: strings.Repeat("é", 3000)}))
			}
		})
	}
	all.Wait()
	v, err := l.Verify(t.Context())
	require.NoError(t, err)
	assert.Empty(t, v.Faults)
	assert.Equal(t, int64(160), v.Entries)
	list, err := l.Entries(t.Context(), Filter{Who: "w3", Limit: 5})
	require.NoError(t, err)
	assert.Len(t, list, 5)
	assert.LessOrEqual(t, len(list[0].Detail), maxText+len("…"), "a long one is cut")
	forward, err := l.Entries(t.Context(), Filter{After: 155, Limit: 100})
	require.NoError(t, err)
	require.Len(t, forward, 5)
	assert.Equal(t, int64(156), forward[0].ID)
}
