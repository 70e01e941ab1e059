package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(context.Background(), dir, Options{})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func link(name string) site.Link {
	l := site.NewLink()
	l.Name, l.Host = name, "127.0.0.1"
	return l
}

// fill makes a site of one link, one station and one point.
func fill(t *testing.T, s *Store) {
	t.Helper()
	_, _, err := s.Modify(context.Background(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) {
		d.Add(link("gate"))
		st := site.NewStation()
		st.Name, st.Link = "plc", "gate"
		d.Add(st)
		decimals := 1
		d.Add(site.Point{Tag: "a/b", Station: "plc", Address: site.Address{Space: site.HoldingRegisters, Offset: 40010, Part: site.Bit(3)}, Decimals: &decimals, States: site.States{0: "off", 1: "on"}})
	})
	require.NoError(t, err)
}

func contents(s *Store) (links []site.Link, stations []site.Station, points []site.Point) {
	links, stations, points = s.Site().Links(), s.Site().Stations(), s.Site().Points()
	return
}

func TestWhatWasStoredIsThereAfterReopening(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	fill(t, s)
	links, stations, points := contents(s)
	require.NoError(t, s.Close())

	again := open(t, dir)
	links2, stations2, points2 := contents(again)
	assert.Equal(t, links, links2)
	assert.Equal(t, stations, stations2)
	assert.Equal(t, points, points2)
	assert.Equal(t, int64(1), again.Site().Version(site.KindPoint, "a/b"))
}

func TestEveryModificationIsRecorded(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	fill(t, s)
	l := link("gate")
	l.Port = 1502
	_, _, err := s.Modify(ctx, Edit{Who: "bob"}, func(d *site.Draft, _ *site.Site) { d.Put(l) })
	require.NoError(t, err)
	_, _, err = s.Modify(ctx, Edit{Who: "bob"}, func(d *site.Draft, _ *site.Site) { d.Remove(site.KindStation, "plc", true) })
	require.NoError(t, err)

	records, err := s.Changes(ctx, "", "", 0, 100)
	require.NoError(t, err)
	require.Len(t, records, 6)
	assert.Equal(t, site.Remove, records[0].Action)
	assert.Equal(t, records[1].ID, records[0].Batch, "a point and its station went together")
	changed := records[2]
	assert.Equal(t, "bob", changed.Who)
	assert.Contains(t, string(changed.Before), `"port":502`)
	assert.Contains(t, string(changed.After), `"port":1502`)
	assert.Equal(t, int64(2), s.Site().Version(site.KindLink, "gate"))

	of, err := s.Changes(ctx, site.KindPoint, "a/b", 0, 100)
	require.NoError(t, err)
	assert.Len(t, of, 2)
	page, err := s.Changes(ctx, "", "", of[0].ID, 2)
	require.NoError(t, err)
	assert.Len(t, page, 2)
}

func TestARefusedModificationChangesNothing(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	_, _, err := s.Modify(context.Background(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) {
		d.Add(link("second"))
		d.Add(link("gate")) // taken
	})
	assert.ErrorAs(t, err, new(site.Errors))
	links, _, _ := contents(s)
	assert.Len(t, links, 1)
	records, err := s.Changes(context.Background(), "", "", 0, 100)
	require.NoError(t, err)
	assert.Len(t, records, 3)
}

func TestDryRun(t *testing.T) {
	s := open(t, t.TempDir())
	changes, _, err := s.Modify(context.Background(), Edit{DryRun: true}, func(d *site.Draft, _ *site.Site) { d.Add(link("gate")) })
	require.NoError(t, err)
	assert.Len(t, changes, 1)
	links, _, _ := contents(s)
	assert.Empty(t, links)
}

func TestStaleVersionsAreRefused(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	fill(t, s)
	edit := Edit{Who: "ann", Expect: 1, ExpectKind: site.KindLink, ExpectName: "gate"}
	l := link("gate")
	l.Port = 1
	_, _, err := s.Modify(ctx, edit, func(d *site.Draft, _ *site.Site) { d.Put(l) })
	require.NoError(t, err)
	_, _, err = s.Modify(ctx, edit, func(d *site.Draft, _ *site.Site) { d.Put(link("gate")) })
	assert.ErrorIs(t, err, ErrStale)
}

func TestFollowersSeeTheSiteAsItIsThen(t *testing.T) {
	var seen []int
	s, err := Open(context.Background(), t.TempDir(), Options{Follow: func(now *site.Site, changes []site.Change) {
		seen = append(seen, now.Count(site.KindPoint), len(changes))
	}})
	require.NoError(t, err)
	defer s.Close()
	fill(t, s)
	assert.Equal(t, []int{1, 3}, seen)
}

// Readers wait neither for who modifies nor for who follows that.
func TestReadersDoNotWait(t *testing.T) {
	var s *Store
	read := func() {
		done := make(chan int)
		go func() {
			done <- len(s.Site().Links())
		}()
		select {
		case <-done:
		case <-time.After(30 * time.Second):
			t.Error("a reader waits")
		}
	}
	s, err := Open(t.Context(), t.TempDir(), Options{Follow: func(*site.Site, []site.Change) { read() }})
	require.NoError(t, err)
	defer s.Close()
	_, _, err = s.Modify(t.Context(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) {
		d.Put(link("gate"))
		read()
	})
	require.NoError(t, err)
}

func TestRename(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	fill(t, s)
	_, _, err := s.Modify(context.Background(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) { d.Replace("gate", link("gate-2")) })
	require.NoError(t, err)
	require.NoError(t, s.Close())
	_, stations, _ := contents(open(t, dir))
	assert.Equal(t, "gate-2", stations[0].Link)
}

// What was added and has got something of its own since is not taken back, and the change that added that is named.
func TestUndoOfWhatHasGotMore(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	fill(t, s)
	_, _, err := s.Modify(ctx, Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) { d.Add(link("bank")) })
	require.NoError(t, err)
	added, err := s.Changes(ctx, site.KindLink, "bank", 0, 1)
	require.NoError(t, err)
	_, _, err = s.Modify(ctx, Edit{Who: "eve"}, func(d *site.Draft, _ *site.Site) {
		st := site.NewStation()
		st.Name, st.Link = "drive", "bank"
		d.Add(st)
	})
	require.NoError(t, err)
	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, added[0].ID)
	assert.ErrorContains(t, err, "link bank: has station drive since, which was added by change ")
	assert.NotContains(t, err.Error(), "cascade")
	later, err := s.Changes(ctx, site.KindStation, "drive", 0, 1)
	require.NoError(t, err)
	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, later[0].ID)
	require.NoError(t, err)
	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, added[0].ID)
	assert.NoError(t, err)
}

func TestUndo(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	fill(t, s)
	_, _, err := s.Modify(ctx, Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) { d.Replace("gate", link("gate-2")) })
	require.NoError(t, err)
	links, stations, points := contents(s)
	_, _, err = s.Modify(ctx, Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) { d.Remove(site.KindLink, "gate-2", true) })
	require.NoError(t, err)
	last, err := s.Changes(ctx, "", "", 0, 1)
	require.NoError(t, err)

	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, 1)
	assert.ErrorContains(t, err, "was changed again since by change ")
	assert.ErrorContains(t, err, "by ann at ")
	assert.Regexp(t, `link gate: was changed again since by change (\d+) \(change gate, by ann at [^)]*\); undo change \d+ first`, err.Error())
	changes, _, err := s.Undo(ctx, Edit{Who: "bob"}, last[0].ID)
	require.NoError(t, err)
	assert.Len(t, changes, 3, "what was removed together comes back together")
	links2, stations2, points2 := contents(s)
	assert.Equal(t, links, links2)
	assert.Equal(t, stations, stations2)
	assert.Equal(t, points, points2)

	renamed, err := s.Changes(ctx, site.KindLink, "gate-2", 0, 10)
	require.NoError(t, err)
	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, renamed[2].ID)
	require.NoError(t, err)
	_, stations2, _ = contents(s)
	assert.Equal(t, "gate", stations2[0].Link, "a renaming is undone with what followed it")
	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, 999)
	assert.ErrorIs(t, err, ErrNoChange)
}

func sum(t *testing.T, path string) [32]byte {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return sha256.Sum256(b)
}

func TestDatabasesThatAreNotOursToWriteAreRefusedAndLeft(t *testing.T) {
	for _, c := range []struct {
		name  string
		spoil func(t *testing.T, path string)
		want  error
	}{
		{"newer", func(t *testing.T, path string) {
			db, err := sql.Open("sqlite", path)
			require.NoError(t, err)
			defer db.Close()
			_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)")
			require.NoError(t, err)
		}, database.ErrNewer},
		{"damaged in the middle", func(t *testing.T, path string) {
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			for i := 4096; i < len(b)-100; i++ {
				b[i] ^= 0x5A
			}
			require.NoError(t, os.WriteFile(path, b, 0o600))
		}, database.ErrDamaged},
		{"no database at all", func(t *testing.T, path string) {
			require.NoError(t, os.WriteFile(path, []byte("dear diary"), 0o600))
		}, database.ErrDamaged},
		{"of another program", func(t *testing.T, path string) {
			require.NoError(t, os.Remove(path))
			db, err := sql.Open("sqlite", path)
			require.NoError(t, err)
			defer db.Close()
			_, err = db.Exec("CREATE TABLE songs (title TEXT)")
			require.NoError(t, err)
		}, database.ErrDamaged},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, dir)
			fill(t, s)
			require.NoError(t, s.Close())
			path := filepath.Join(dir, database.FileName)
			c.spoil(t, path)
			before := sum(t, path)
			_, err := Open(context.Background(), dir, Options{})
			require.ErrorIs(t, err, c.want)
			assert.ErrorContains(t, err, "another data directory")
			assert.Equal(t, before, sum(t, path), "left as it was")
		})
	}
}

func TestTwoServicesCannotShareADatabase(t *testing.T) {
	dir := t.TempDir()
	first := open(t, dir)
	fill(t, first)
	_, err := Open(context.Background(), dir, Options{})
	require.ErrorIs(t, err, database.ErrInUse)
	require.NoError(t, first.Close())
	open(t, dir)
}

func TestDataDirectoryWithoutPermission(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := Open(context.Background(), filepath.Join(file, "data"), Options{})
	assert.ErrorContains(t, err, "data directory "+file)
}

func TestWritesAreRecordedBeforeTheyAreSent(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	w := WriteRecord{Time: time.Now(), Who: "ann", Tag: "a/b", Before: codec.BoolValue(false), Sent: codec.BoolValue(true)}
	id, err := s.BeginWrite(ctx, w)
	require.NoError(t, err)
	list, err := s.Writes(ctx, "a/b", 0, 10)
	require.NoError(t, err)
	assert.Equal(t, "unknown", list[0].Outcome, "what it stays when nothing more is heard")

	w.Outcome, w.After, w.Message = "done", codec.BoolValue(true), "wrote true"
	require.NoError(t, s.EndWrite(ctx, id, w))
	list, err = s.Writes(ctx, "", 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "done", list[0].Outcome)
	assert.Equal(t, codec.BoolValue(true), list[0].After)
}

func TestOnlySoMuchHistoryIsKept(t *testing.T) {
	ctx := context.Background()
	s := open(t, t.TempDir())
	fill(t, s)
	made, err := s.Changes(ctx, "", "", 0, 100)
	require.NoError(t, err)
	edit := func(tables string, last int64) { // as if so many had been recorded
		_, err := s.db.Writer.ExecContext(ctx, "UPDATE sqlite_sequence SET seq = ? WHERE name = ?", last, tables)
		require.NoError(t, err)
	}
	put := func(name string) []Record {
		_, _, err := s.Modify(ctx, Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) { d.Put(link(name)) })
		require.NoError(t, err)
		list, err := s.Changes(ctx, "", "", 0, 100)
		require.NoError(t, err)
		return list
	}
	edit("changes", KeptChanges+1)
	assert.Len(t, put("second"), len(made)+1, "what was made together with the oldest that is kept stays with it")
	edit("changes", KeptChanges+made[0].ID)
	list := put("third")
	require.Len(t, list, 2)
	assert.Equal(t, "third", list[0].Name)
	_, _, err = s.Undo(ctx, Edit{Who: "ann"}, list[1].ID)
	assert.NoError(t, err)

	write := WriteRecord{Time: time.Now(), Who: "ann", Tag: "a"}
	first, err := s.BeginWrite(ctx, write)
	require.NoError(t, err)
	edit("writes", first+KeptWrites-1)
	last, err := s.BeginWrite(ctx, write)
	require.NoError(t, err)
	writes, err := s.Writes(ctx, "", 0, 10)
	require.NoError(t, err)
	require.Len(t, writes, 1)
	assert.Equal(t, last, writes[0].ID)
}

// Names that move on in one modification: what is on the disk, and what comes of undoing it, is as it should be.
func TestNamesThatMoveOn(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s := open(t, dir)
	_, _, err := s.Modify(ctx, Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) {
		for i, name := range []string{"a", "b", "c"} {
			l := link(name)
			l.Description = fmt.Sprint("the link ", i)
			d.Add(l)
		}
	})
	require.NoError(t, err)
	described := func(s *Store) map[string]string {
		out := map[string]string{}
		for _, l := range s.Site().Links() {
			out[l.Name] = l.Description
		}
		return out
	}
	_, _, err = s.Modify(ctx, Edit{Who: "ann"}, func(d *site.Draft, now *site.Site) {
		for _, move := range [][2]string{{"c", "d"}, {"b", "c"}, {"a", "b"}} {
			l, _ := now.Link(move[0])
			l.Name = move[1]
			d.Replace(move[0], l)
		}
		d.Add(link("a"))
	})
	require.NoError(t, err)
	moved := map[string]string{"a": "", "b": "the link 0", "c": "the link 1", "d": "the link 2"}
	assert.Equal(t, moved, described(s))
	require.NoError(t, s.Close())
	s = open(t, dir)
	assert.Equal(t, moved, described(s), "on the disk")
	last, err := s.Changes(ctx, "", "", 0, 1)
	require.NoError(t, err)
	_, _, err = s.Undo(ctx, Edit{Who: "bob"}, last[0].ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "the link 0", "b": "the link 1", "c": "the link 2"}, described(s))
}

func TestChangeSetsAreListedWithTheFirstOfTheirChanges(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	add := func(who string, from, n int) {
		_, _, err := s.Modify(t.Context(), Edit{Who: who}, func(d *site.Draft, _ *site.Site) {
			for i := range n {
				d.Add(site.Point{Tag: fmt.Sprintf("c/%04d", from+i), Station: "plc", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(from + i)}})
			}
		})
		require.NoError(t, err)
	}
	add("ben", 0, 300)
	add("ann", 300, 1)
	sets, last, err := s.SetsAfter(t.Context(), 0, 100)
	require.NoError(t, err)
	require.Len(t, sets, 3)
	assert.EqualValues(t, 304, last)
	for i, want := range []struct {
		id           int64
		who          string
		count, first int
	}{{1, "ann", 3, 3}, {4, "ben", 300, 100}, {304, "ann", 1, 1}} {
		assert.Equal(t, want.id, sets[i].ID)
		assert.Equal(t, want.who, sets[i].Who)
		assert.Equal(t, want.count, sets[i].Count)
		require.Len(t, sets[i].First, want.first)
		assert.Equal(t, want.id, sets[i].First[0].ID)
		assert.NotEmpty(t, sets[i].First[0].After)
	}
	sets, last, err = s.SetsAfter(t.Context(), 3, 1)
	require.NoError(t, err)
	require.Len(t, sets, 2)
	assert.Equal(t, "c/0000", sets[0].First[0].Name)
	assert.EqualValues(t, 304, last)
	sets, last, err = s.SetsAfter(t.Context(), 304, 1)
	require.NoError(t, err)
	assert.Empty(t, sets)
	assert.EqualValues(t, 304, last, "there is nothing after it")
}
