package store

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

func fromEnvironment(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return usual
}

// truth is what the store acknowledged.
type truth struct {
	links  map[string]string // descriptions by name
	writes map[int64]string  // outcomes by id
	events map[uint64]bool
	last   uint64
}

// bear lets the files of this process grow up to so many bytes, and writes beyond that fail, as those to a failing disk do; less than 0
// takes that back.
func bear(t *testing.T, bytes int64) {
	most := syscall.Rlimit{Cur: uint64(bytes), Max: math.MaxUint64}
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &most))
}

// TestTrialOfDisks: on disks that are full, failing, read-only, taken away and replaced, and that come back, at random, all that was
// acknowledged is there and nothing that was refused.
func TestTrialOfDisks(t *testing.T) {
	// The limit on files is that of a whole process, so that the trial has one of its own: what go test writes meanwhile has none.
	if os.Getenv("TRIAL_CHILD") == "" {
		child := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^TestTrialOfDisks$", "-test.v")
		child.Env = append(os.Environ(), "TRIAL_CHILD=1")
		out, err := child.CombinedOutput()
		t.Logf("%s", out)
		require.NoError(t, err)
		require.Contains(t, string(out), "--- PASS: TestTrialOfDisks")
		return
	}
	signal.Ignore(syscall.SIGXFSZ)
	defer signal.Reset(syscall.SIGXFSZ)
	defer bear(t, -1)
	random := rand.New(rand.NewPCG(uint64(fromEnvironment("TRIAL_SEED", 1)), 21))
	dir := filepath.Join(t.TempDir(), "data")
	is := truth{links: map[string]string{}, writes: map[int64]string{}, events: map[uint64]bool{}}
	counts := map[string]int{}
	for round := range fromEnvironment("TRIAL_ROUNDS", 20) {
		s, err := Open(t.Context(), dir, Options{})
		require.NoError(t, err, "round %d", round)
		is.compare(t, s)
		for range 10 + random.IntN(40) {
			switch random.IntN(16) {
			case 0:
				limit(t, s, random.IntN(4))
			case 1:
				bear(t, 4096*random.Int64N(30))
			case 2:
				_, err := s.db.Writer.Exec("PRAGMA query_only = 1")
				require.NoError(t, err)
			case 3, 4, 5: // all is well again
				bear(t, -1)
				_, err := s.db.Writer.Exec("PRAGMA query_only = 0")
				require.NoError(t, err)
				limit(t, s, -1)
			default:
				err := is.do(t, s, random)
				counts[outcome(err)]++
				if outcome(err) == "other" {
					t.Errorf("round %d: %s", round, err)
				}
			}
		}
		bear(t, -1)
		away := dir + "-away"
		if random.IntN(2) == 0 { // it is taken away, or another one is in its place
			require.NoError(t, os.Rename(dir, away))
			if random.IntN(2) == 0 {
				require.NoError(t, os.Mkdir(dir, 0o700))
				require.NoError(t, os.WriteFile(filepath.Join(dir, database.FileName), nil, 0o600))
			}
			for range 5 {
				err := is.do(t, s, random)
				counts[outcome(err)]++
				assert.Error(t, err, "there is no disk to keep it on")
			}
		}
		s.Close()
		if _, err := os.Stat(away); err == nil {
			require.NoError(t, os.RemoveAll(dir))
			require.NoError(t, os.Rename(away, dir))
		}
	}
	t.Log(counts)
	assert.Positive(t, counts["kept"])
	assert.Positive(t, counts["full"])
	assert.Positive(t, counts["gone"])
	assert.Positive(t, counts["failing"])
	assert.Positive(t, counts["read-only"])
}

func outcome(err error) string {
	switch {
	case err == nil:
		return "kept"
	case errors.Is(err, database.ErrFull):
		return "full"
	case errors.Is(err, database.ErrGone):
		return "gone"
	case errors.Is(err, database.ErrUnreadable):
		return "failing"
	case errors.Is(err, database.ErrForbidden):
		return "read-only"
	}
	return "other"
}

// do does something and notes it when it was acknowledged.
func (is *truth) do(t *testing.T, s *Store, random *rand.Rand) error {
	text := strings.Repeat(fmt.Sprint(random.IntN(1000), " "), random.IntN(100))
	switch random.IntN(4) {
	case 0: // several links, all or none
		put := map[string]string{}
		for range 1 + random.IntN(20) {
			put[fmt.Sprint("l", random.IntN(60))] = text
		}
		_, _, err := s.Modify(t.Context(), Edit{Who: "trial"}, func(d *site.Draft, _ *site.Site) {
			for name, description := range put {
				l := link(name)
				l.Description = description
				d.Put(l)
			}
		})
		if err == nil {
			maps.Copy(is.links, put)
		}
		return err
	case 1:
		for _, name := range slices.Sorted(maps.Keys(is.links)) {
			if random.IntN(4) > 0 {
				continue
			}
			_, _, err := s.Modify(t.Context(), Edit{Who: "trial"}, func(d *site.Draft, _ *site.Site) { d.Remove(site.KindLink, name, true) })
			if err == nil {
				delete(is.links, name)
			}
			return err
		}
		return nil
	case 2:
		w := WriteRecord{Time: time.Now(), Who: "trial", Outcome: "done", Message: text, Sent: codec.IntValue(1)}
		id, err := s.BeginWrite(t.Context(), w)
		if err != nil {
			return err
		}
		is.writes[id] = "unknown"
		if err = s.EndWrite(t.Context(), id, w); err == nil {
			is.writes[id] = "done"
		}
		return err
	}
	var list []EventRecord
	for i := range 1 + random.IntN(20) {
		list = append(list, EventRecord{ID: is.last + 1 + uint64(i), Tag: "a", Time: time.Now(), Text: text, Quality: reading.Good})
	}
	err := s.AddEvents(t.Context(), list)
	if err == nil {
		is.last += uint64(len(list))
		for _, e := range list {
			is.events[e.ID] = true
		}
	}
	return err
}

// compare compares what is kept with what was acknowledged.
func (is *truth) compare(t *testing.T, s *Store) {
	assert.Empty(t, s.Aside())
	links := map[string]string{}
	for _, l := range s.Site().Links() {
		links[l.Name] = l.Description
	}
	assert.Equal(t, is.links, links)
	writes, err := s.Writes(t.Context(), "", 0, 100_000)
	require.NoError(t, err)
	kept := map[int64]string{}
	for _, w := range writes {
		kept[w.ID] = w.Outcome
	}
	assert.Equal(t, is.writes, kept)
	events := map[uint64]bool{}
	list, err := s.Events(t.Context(), EventFilter{Limit: KeptEvents})
	require.NoError(t, err)
	for _, e := range list {
		events[e.ID] = true
	}
	assert.Equal(t, is.events, events)
}

// TestTrialOfDamage: a database damaged at random is refused and left as it is, or opened as far as it holds together; it is never a panic,
// and what could be opened can be worked with.
func TestTrialOfDamage(t *testing.T) {
	random := rand.New(rand.NewPCG(uint64(fromEnvironment("TRIAL_SEED", 1)), 22))
	dir := t.TempDir()
	s := open(t, dir)
	fill(t, s)
	for i := range 40 {
		require.NoError(t, addLink(s, fmt.Sprint("l", i)))
	}
	require.NoError(t, s.Close())
	whole, err := os.ReadFile(filepath.Join(dir, database.FileName))
	require.NoError(t, err)
	counts := map[string]int{}
	for round := range 5 * fromEnvironment("TRIAL_ROUNDS", 20) {
		data := bytes.Clone(whole)
		at := random.IntN(len(data))
		switch random.IntN(5) {
		case 0:
			data = data[:at]
		case 1:
			for i := at; i < min(at+4096, len(data)); i++ {
				data[i] = 0
			}
		case 2:
			for i := at; i < min(at+4096, len(data)); i++ {
				data[i] = byte(random.IntN(256))
			}
		case 3: // where SQLite and the site have their order
			data[random.IntN(200)] ^= 1 << random.IntN(8)
		default:
			for range 1 + random.IntN(20) {
				data[random.IntN(len(data))] ^= 1 << random.IntN(8)
			}
		}
		path := filepath.Join(t.TempDir(), database.FileName)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		s, err := Open(t.Context(), filepath.Dir(path), Options{})
		if err != nil {
			counts["refused"]++
			assert.Greater(t, len(err.Error()), len(path)+5, "round %d", round)
			left, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, data, left, "round %d: what is refused is left", round)
			continue
		}
		counts["opened"]++
		if len(s.Aside()) > 0 {
			counts["with something put aside"]++
		}
		err = addLink(s, "after")
		_, there := s.Site().Link("after")
		assert.Equal(t, err == nil, there, "round %d: %v", round, err)
		s.Close()
	}
	t.Log(counts)
	assert.Positive(t, counts["refused"])
	assert.Positive(t, counts["opened"])
}
