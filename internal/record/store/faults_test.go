package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// limit lets the database grow by so many pages at most, as a disk that is full does; less than 0 takes that back.
func limit(t *testing.T, s *Store, pages int) {
	var n int
	require.NoError(t, s.db.Writer.QueryRow("PRAGMA page_count").Scan(&n))
	if pages < 0 {
		n = 1 << 30
	}
	_, err := s.db.Writer.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", n+pages))
	require.NoError(t, err)
}

func addLink(s *Store, name string) error {
	_, _, err := s.Modify(context.Background(), Edit{Who: "test"}, func(d *site.Draft, _ *site.Site) {
		l := site.NewLink()
		l.Name, l.Host, l.Description = name, "127.0.0.1", strings.Repeat("x", 400)
		d.Add(l)
	})
	return err
}

func TestAFullDiskIsSaidAndLosesNothing(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), Options{})
	require.NoError(t, err)
	defer s.Close()
	limit(t, s, 0)
	added := 0
	for ; added < 1000; added++ {
		if err = addLink(s, fmt.Sprint("link", added)); err != nil {
			break
		}
	}
	require.ErrorIs(t, err, database.ErrFull)
	assert.NotErrorIs(t, err, database.ErrDamaged)
	assert.Len(t, s.Site().Links(), added, "what was not stored is not there")
	for err = nil; err == nil; {
		_, err = s.BeginWrite(t.Context(), WriteRecord{Time: time.Now(), Station: "a", Address: "hr:0", Message: "m"})
	}
	assert.ErrorIs(t, err, database.ErrFull, "so that nothing is sent")
	limit(t, s, -1)
	require.NoError(t, addLink(s, "after"))
}

// A value was sent, and then the disk is full: the record is completed as soon as that is possible.
func TestARecordIsCompletedOnceTheDiskTakesItAgain(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	defer s.Close()
	w := WriteRecord{Time: time.Now(), Station: "a", Address: "hr:0", Outcome: "done"}
	id, err := s.BeginWrite(t.Context(), w)
	require.NoError(t, err)
	limit(t, s, 0)
	w.Message = strings.Repeat("long ", 10_000)
	require.ErrorIs(t, s.EndWrite(t.Context(), id, w), database.ErrFull)
	s.Later(id, w)
	list, err := s.Writes(t.Context(), "", 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "unknown", list[0].Outcome)
	limit(t, s, -1)
	require.Eventually(t, func() bool {
		list, err := s.Writes(t.Context(), "", 0, 1)
		return err == nil && list[0].Outcome == "done" && list[0].Message == w.Message
	}, 10*time.Second, 10*time.Millisecond)
}

func TestADatabaseThatIsTakenAwayIsNoticed(t *testing.T) {
	for name, take := range map[string]func(dir string) error{
		"the directory is removed": os.RemoveAll,
		"the file is replaced": func(dir string) error {
			path := filepath.Join(dir, database.FileName)
			b, err := os.ReadFile(path)
			if err == nil {
				err = os.Remove(path)
			}
			if err == nil {
				err = os.WriteFile(path, b, 0o600)
			}
			return err
		},
		"the directory is renamed": func(dir string) error { return os.Rename(dir, dir+"-old") },
	} {
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "data")
			s, err := Open(t.Context(), dir, Options{})
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, addLink(s, "before"))
			require.NoError(t, take(dir))
			assert.ErrorIs(t, addLink(s, "after"), database.ErrGone)
			assert.Len(t, s.Site().Links(), 1)
			_, err = s.BeginWrite(t.Context(), WriteRecord{Time: time.Now()})
			assert.ErrorIs(t, err, database.ErrGone)
			assert.ErrorIs(t, s.AddEvents(t.Context(), []EventRecord{{ID: 1}}), database.ErrGone)
		})
	}
}

func TestAnUnreadableDatabaseIsNotCalledDamaged(t *testing.T) {
	if os.Getuid() == 0 {
		dir := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(dir, database.FileName), 0o700)) // what root may not read, either
		_, err := Open(t.Context(), dir, Options{})
		require.Error(t, err)
		assert.NotErrorIs(t, err, database.ErrDamaged)
		return
	}
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	require.NoError(t, os.Chmod(filepath.Join(dir, database.FileName), 0))
	_, err = Open(t.Context(), dir, Options{})
	assert.ErrorIs(t, err, database.ErrForbidden)
	assert.NotErrorIs(t, err, database.ErrDamaged)
}

func TestARefusedDatabaseIsLeftAsItIs(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	_, err = s.db.Writer.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)")
	require.NoError(t, err)
	require.NoError(t, s.Close())
	before, err := os.ReadDir(dir)
	require.NoError(t, err)
	_, err = Open(t.Context(), dir, Options{})
	require.ErrorIs(t, err, database.ErrNewer)
	after, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Equal(t, len(before), len(after), "no files beside it: %v", after)
}

// What does not fit is told of, put aside as it was, and the rest runs.
func TestRecordsThatDoNotFitArePutAside(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	require.NoError(t, addLink(s, "gate"))
	_, _, err = s.Modify(t.Context(), Edit{Who: "test"}, func(d *site.Draft, _ *site.Site) {
		st := site.NewStation()
		st.Name, st.Link, st.Unit = "plc", "gate", 1
		d.Add(st)
		d.Add(site.Point{Tag: "plc/a", Station: "plc", Address: site.Address{Space: site.HoldingRegisters}})
	})
	require.NoError(t, err)
	for _, insert := range []string{
		`INSERT INTO entities (kind, name, version, body) VALUES ('station', 'lost', 1, '{"name":"lost","link":"nowhere","unit":2}')`,
		`INSERT INTO entities (kind, name, version, body) VALUES ('point', 'p/none', 1, '{"tag":"p/none","station":"lost","address":"hr:1"}')`,
		`INSERT INTO entities (kind, name, version, body) VALUES ('point', 'p/key', 1, '{"tag":"p/other","station":"plc","address":"hr:1"}')`,
		`INSERT INTO entities (kind, name, version, body) VALUES ('point', 'p/type', 1, '{"tag":"p/type","station":"plc","address":"hr:1","type":"uint128"}')`,
		`INSERT INTO entities (kind, name, version, body) VALUES ('station', 'rtu', 1, '{"name":"rtu","link":"gate","outstation":10}')`,
		`INSERT INTO entities (kind, name, version, body) VALUES ('point', 'p/ai', 1, '{"tag":"p/ai","station":"plc","address":"ai:1"}')`,
		`INSERT INTO entities (kind, name, version, body) VALUES ('point', 'p/json', 1, '{"tag":')`,
		`UPDATE changes SET time = 'yesterday' WHERE id = 1`,
	} {
		_, err := s.db.Writer.Exec(insert)
		require.NoError(t, err)
	}
	require.NoError(t, s.Close())

	s, err = Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	why := map[string]string{}
	for _, q := range s.Aside() {
		why[q.Name] = q.Why
	}
	assert.Equal(t, map[string]string{
		"lost": `there is no link "nowhere"`, "p/none": `there is no station "lost"`, "p/key": `it is stored as "p/key" and calls itself "p/other"`,
		"rtu": "it is a dnp3 station, and link gate is a modbus link", "p/ai": "ai:1 is a dnp3 address, and station plc speaks modbus",
		"p/type": `its type is "uint128", which is none`, "p/json": "unexpected end of JSON input",
	}, why)
	_, ok := s.Site().Point("plc/a")
	assert.True(t, ok)
	assert.Len(t, s.Site().Stations(), 1)
	list, err := s.Changes(t.Context(), "", "", 0, 10)
	require.NoError(t, err)
	assert.Len(t, list, 3, "a damaged time hides nothing else")
	require.NoError(t, s.Close())

	s, err = Open(t.Context(), dir, Options{})
	require.NoError(t, err)
	defer s.Close()
	assert.Empty(t, s.Aside(), "it is told of once")
	kept, err := s.Quarantined(t.Context())
	require.NoError(t, err)
	assert.Len(t, kept, 7, "and kept as it was")
}

// An entity, its version and what a modification left belong together.
func TestWhatAModificationLeft(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir(), Options{})
	require.NoError(t, err)
	defer s.Close()
	edit := Edit{Who: "test"}
	for want := int64(1); want <= 3; want++ {
		_, left, err := s.Modify(t.Context(), edit, func(d *site.Draft, now *site.Site) {
			l, known := now.Link("gate")
			if !known {
				l = site.NewLink()
				l.Name, l.Host = "gate", "127.0.0.1"
				d.Add(l)
				return
			}
			l.Description = fmt.Sprint(want)
			d.Replace("gate", l)
		})
		require.NoError(t, err)
		assert.Equal(t, want, left.Version(site.KindLink, "gate"))
	}
	_, left, err := s.Modify(t.Context(), edit, func(*site.Draft, *site.Site) {})
	require.NoError(t, err)
	assert.Equal(t, int64(3), left.Version(site.KindLink, "gate"), "also when nothing changed")
}
