package store

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// Modifications that wait together are written together, and each has its own outcome, record and version.
func TestModificationsTogether(t *testing.T) {
	var followed []string // what was added, in order
	transactions, left := 0, 0
	release := make(chan struct{})
	s, err := Open(t.Context(), t.TempDir(), Options{Follow: func(now *site.Site, changes []site.Change) {
		for _, c := range changes {
			followed = append(followed, c.Name())
		}
		transactions, left = transactions+1, now.Count(site.KindLink)
	}})
	require.NoError(t, err)
	defer s.Close()
	var waiting sync.WaitGroup
	waiting.Go(func() { // holds the one who modifies, so that the others gather
		_, _, err := s.Modify(t.Context(), Edit{Who: "first"}, func(d *site.Draft, _ *site.Site) {
			<-release
			d.Add(link("first"))
		})
		assert.NoError(t, err)
	})
	for i := range 20 {
		waiting.Go(func() {
			edit := Edit{Who: fmt.Sprint(i)}
			if i == 7 {
				edit.Expect, edit.ExpectKind, edit.ExpectName = 4, site.KindLink, "first"
			}
			changes, left, err := s.Modify(t.Context(), edit, func(d *site.Draft, now *site.Site) {
				switch i {
				case 5:
					d.Add(link("not allowed"))
				case 6:
					panic("a fault")
				default:
					d.Add(link(fmt.Sprintf("l%d", i)))
				}
			})
			var faults site.Errors
			var panicked *crash.Error
			switch i {
			case 5:
				assert.ErrorAs(t, err, &faults)
			case 6:
				assert.ErrorAs(t, err, &panicked)
			case 7:
				assert.ErrorIs(t, err, ErrStale)
			default:
				require.NoError(t, err)
				require.Len(t, changes, 1)
				assert.Equal(t, int64(1), left.Version(site.KindLink, fmt.Sprintf("l%d", i)))
			}
		})
	}
	close(release)
	waiting.Wait()
	assert.Equal(t, 18, s.Site().Count(site.KindLink))
	assert.Equal(t, 18, left, "who follows has the newest")
	assert.Less(t, transactions, 18, "some were written together")
	records, err := s.Changes(t.Context(), "", "", 0, 100)
	require.NoError(t, err)
	require.Len(t, records, 18)
	slices.Reverse(records)
	for i, r := range records {
		assert.Equal(t, r.Name, followed[i], "who follows sees every one, in order")
	}
	slices.Reverse(records)
	for _, r := range records {
		assert.Equal(t, r.ID, r.Batch, "each is undone alone")
	}
	_, _, err = s.Undo(t.Context(), Edit{Who: "ann"}, records[3].ID)
	require.NoError(t, err)
	assert.Equal(t, 17, s.Site().Count(site.KindLink))
}

// What rests on a modification that could not be stored is not told either: neither that it is there already, nor that it stands in the way.
func TestWhatRestsOnAModificationThatFailed(t *testing.T) {
	s := open(t, t.TempDir())
	_, err := s.db.Writer.Exec("PRAGMA query_only = 1")
	require.NoError(t, err)
	held, release := make(chan struct{}), make(chan struct{})
	var waiting sync.WaitGroup
	waiting.Go(func() { // holds the one who modifies, so that the others gather
		_, _, err := s.Modify(t.Context(), Edit{DryRun: true}, func(*site.Draft, *site.Site) {
			close(held)
			<-release
		})
		assert.NoError(t, err)
	})
	<-held
	var list []*modification
	for _, fill := range []func(*site.Draft, *site.Site){
		func(d *site.Draft, _ *site.Site) { d.Add(link("a")) },
		func(d *site.Draft, _ *site.Site) { d.Put(link("a")) }, // no change, if the first one were there
		func(d *site.Draft, _ *site.Site) { d.Add(link("a")) }, // taken, if it were
	} {
		m := &modification{ctx: t.Context(), fill: fill, done: make(chan struct{})}
		list = append(list, m)
		s.edits <- m
	}
	close(release)
	waiting.Wait()
	for i, m := range list {
		<-m.done
		assert.ErrorIs(t, m.err, database.ErrForbidden, i)
		assert.Empty(t, m.changes)
	}
	assert.Empty(t, s.Site().Links())
}

// Those who were just answered are waited for, so that editors do not fall into groups that take turns; someone alone waits for nobody.
func TestWhoIsWaitedFor(t *testing.T) {
	for name, c := range map[string]struct {
		last            round
		waiting, coming int // beside the first
		want            int
		waits           time.Duration
	}{
		"the first ever":           {waiting: 2, coming: 1, want: 3},
		"alone":                    {last: round{expected: 1, wait: time.Second}, coming: 1, want: 1},
		"all come":                 {last: round{expected: 4, wait: time.Second}, waiting: 1, coming: 2, want: 4, waits: 200 * time.Millisecond},
		"one went home":            {last: round{expected: 4, wait: time.Second}, waiting: 1, coming: 1, want: 3, waits: time.Second},
		"all that were waited for": {last: round{expected: 2, wait: time.Second}, waiting: 2, coming: 1, want: 3},
		"more than fit":            {last: round{expected: 2 * mostTogether, wait: time.Second}, waiting: mostTogether - 1, want: mostTogether},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := &Store{edits: make(chan *modification, mostTogether), closing: make(chan struct{})}
				for range c.waiting {
					s.edits <- &modification{}
				}
				go func() {
					for range c.coming {
						time.Sleep(100 * time.Millisecond)
						s.edits <- &modification{}
					}
				}()
				began := time.Now()
				c.last.ended = began
				assert.Len(t, s.gather(&modification{}, c.last), c.want)
				assert.Equal(t, c.waits, time.Since(began))
				time.Sleep(time.Second)
				assert.Len(t, s.gather(&modification{}, c.last), 1+1+c.waiting+c.coming-c.want, "whoever comes later is not held up")
			})
		})
	}
}

func TestAClosedStoreTakesNothing(t *testing.T) {
	s := open(t, t.TempDir())
	require.NoError(t, s.Close())
	_, _, err := s.Modify(context.Background(), Edit{}, func(d *site.Draft, _ *site.Site) { d.Add(link("late")) })
	assert.ErrorContains(t, err, "nothing was changed")
}

// A database that the previous version wrote opens, and has everything it had.
func TestTablesOfTheVersionBefore(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, database.FileName)+"?_pragma=journal_mode(WAL)&_pragma=foreign_keys(1)")
	require.NoError(t, err)
	p, err := database.Migrator(db)
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), 4)
	require.NoError(t, err)
	for _, insert := range []string{
		`INSERT INTO links (name, version, body) VALUES ('gate', 3, '{"name":"gate","protocol":"modbus","transport":"tcp","host":"127.0.0.1","port":502,"timeout":"1s","retries":2,"pause":"0s","enabled":true}')`,
		`INSERT INTO stations (name, link, version, body) VALUES ('plc', 'gate', 5, '{"name":"plc","link":"gate","unit":7,"enabled":true}')`,
		`INSERT INTO points (tag, station, version, body) VALUES ('a/b', 'plc', 9, '{"tag":"a/b","station":"plc","address":"hr:40010","type":"uint16"}')`,
		`INSERT INTO points (tag, station, version, body) VALUES ('a/a', 'plc', 1, '{"tag":"a/a","station":"plc","address":"hr:1","type":"uint16"}')`,
		`INSERT INTO changes (batch, time, who, kind, action, name, after) VALUES (1, '2026-01-02T03:04:05Z', 'ann', 'link', 'add', 'gate', '{"name":"gate"}')`,
	} {
		_, err := db.Exec(insert)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	s := open(t, dir)
	assert.Empty(t, s.Aside())
	now := s.Site()
	assert.Equal(t, []string{"a/a", "a/b"}, now.Tags())
	assert.Equal(t, int64(9), now.Version(site.KindPoint, "a/b"))
	assert.Equal(t, int64(5), now.Version(site.KindStation, "plc"))
	l, ok := now.Link("gate")
	assert.True(t, ok)
	assert.Equal(t, 502, l.Port)
	records, err := s.Changes(t.Context(), "", "", 0, 10)
	require.NoError(t, err)
	assert.Len(t, records, 1)
}

func TestABackupOfTheRunningDatabase(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	dir := t.TempDir()
	to := filepath.Join(dir, database.FileName)
	require.NoError(t, s.db.Backup(t.Context(), to))
	fault := s.db.Backup(t.Context(), to)
	assert.ErrorContains(t, fault, "is there already")
	_, _, err := s.Modify(t.Context(), Edit{}, func(d *site.Draft, _ *site.Site) { d.Add(link("later")) })
	require.NoError(t, err)

	again := open(t, dir)
	assert.Equal(t, []string{"a/b"}, again.Site().Tags())
	assert.Equal(t, 1, again.Site().Count(site.KindLink), "as it was then")
	records, err := again.Changes(t.Context(), "", "", 0, 10)
	require.NoError(t, err)
	assert.Len(t, records, 3)
	assert.Error(t, s.db.Backup(t.Context(), filepath.Join(dir, "nowhere", "x")))
}

// What a backup leaves that was cut off is removed at the next start; nothing else is.
func TestBackupsThatWereCutOff(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	on, _, err := s.db.BackupDir()
	require.NoError(t, err)
	require.NoError(t, s.db.Backup(t.Context(), filepath.Join(on, database.FileName)))
	other := filepath.Join(dir, "backup of mine")
	require.NoError(t, os.Mkdir(other, 0o700))
	require.NoError(t, s.Close())
	open(t, dir)
	assert.NoDirExists(t, on)
	assert.DirExists(t, other)
}

// A long look at the records, here one that is held open, stops nobody who modifies.
func TestReadersOfRecordsStopNobody(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	rows, err := s.db.Query(t.Context(), "SELECT id FROM changes")
	require.NoError(t, err)
	defer rows.Close()
	require.True(t, rows.Next())
	require.NoError(t, addLink(s, "meanwhile"))
	id, err := s.BeginWrite(t.Context(), WriteRecord{})
	require.NoError(t, err)
	assert.Positive(t, id)
	assert.True(t, rows.Next(), "and it goes on")
}
