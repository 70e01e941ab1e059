package database

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// with makes a database in a directory that has one version of a name, and leaves it closed.
func with(t *testing.T, dir, name string) {
	t.Helper()
	db, err := Open(t.Context(), dir)
	require.NoError(t, err)
	_, err = db.Exec(t.Context(), "INSERT INTO versions (name, change, time, who, message) VALUES (?, 0, '', '', '')", name)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// named is the name of the version that a database has.
func named(t *testing.T, dir string) (name string) {
	t.Helper()
	db, err := Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(t.Context(), "SELECT name FROM versions").Scan(&name))
	return name
}

func TestABackupIsPutInThePlaceOfTheDatabase(t *testing.T) {
	old, dir := t.TempDir(), t.TempDir()
	with(t, old, "old")
	with(t, dir, "new")
	backup := filepath.Join(old, FileName)
	kept, err := Restore(t.Context(), backup, dir, time.Now())
	require.NoError(t, err)
	assert.Equal(t, "old", named(t, dir))
	assert.FileExists(t, backup, "which stays")
	aside := t.TempDir()
	require.NoError(t, os.Rename(kept, filepath.Join(aside, FileName)))
	assert.Equal(t, "new", named(t, aside), "what it replaced is whole")
	kept, err = Restore(t.Context(), backup, filepath.Join(t.TempDir(), "fresh"), time.Now())
	require.NoError(t, err)
	assert.Empty(t, kept)
}

func TestWhatIsNoBackupReplacesNothing(t *testing.T) {
	dir := t.TempDir()
	with(t, dir, "mine")
	write := func(data []byte) string {
		path := filepath.Join(t.TempDir(), "x.db")
		require.NoError(t, os.WriteFile(path, data, 0o600))
		return path
	}
	good, err := os.ReadFile(filepath.Join(dir, FileName))
	require.NoError(t, err)
	cut := write(good[:len(good)/2])
	foreign := filepath.Join(t.TempDir(), "foreign.db")
	other, err := sql.Open("sqlite", foreign)
	require.NoError(t, err)
	_, err = other.Exec("CREATE TABLE songs (name TEXT)")
	require.NoError(t, err)
	require.NoError(t, other.Close())
	for what, path := range map[string]string{"empty": write(nil), "text": write([]byte("a letter")), "cut off": cut, "another program's": foreign} {
		_, err := Restore(t.Context(), path, dir, time.Now())
		assert.Error(t, err, what)
		assert.Equal(t, "mine", named(t, dir), what)
	}
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(list), 2, "nothing is left behind: %v", list)
	db, err := Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	_, err = Restore(t.Context(), filepath.Join(dir, FileName), dir, time.Now())
	assert.ErrorIs(t, err, ErrInUse)
}

func TestDailyBackups(t *testing.T) {
	dir := t.TempDir()
	db, err := Open(t.Context(), dir)
	require.NoError(t, err)
	defer db.Close()
	day := time.Date(2026, 2, 20, 9, 0, 0, 0, time.UTC)
	for i := range 20 {
		require.NoError(t, db.Daily(t.Context(), day.AddDate(0, 0, i), 14))
		require.NoError(t, db.Daily(t.Context(), day.AddDate(0, 0, i).Add(time.Hour), 14), "once a day")
	}
	other := filepath.Join(dir, DailyDir, "mine.db")
	require.NoError(t, os.WriteFile(other, nil, 0o600))
	require.NoError(t, db.Daily(t.Context(), day.AddDate(0, 0, 20), 14))
	list, err := filepath.Glob(filepath.Join(dir, DailyDir, "arithmon-*.db"))
	require.NoError(t, err)
	assert.Len(t, list, 14)
	assert.Equal(t, "arithmon-2026-02-27.db", filepath.Base(list[0]))
	assert.FileExists(t, other)
	aside := t.TempDir()
	_, err = Restore(t.Context(), list[13], aside, time.Now())
	assert.NoError(t, err)
}
