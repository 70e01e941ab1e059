package history

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/record/database"
	"arithmon/internal/record/history/chunk"
)

// place is a directory with a history that a test opens, whose clock it sets.
type place struct {
	t   *testing.T
	dir string
	now time.Time
	*History
}

func newPlace(t *testing.T) *place {
	p := &place{t: t, dir: t.TempDir(), now: time.Date(2026, 11, 5, 10, 0, 0, 0, time.UTC)}
	p.open()
	return p
}

func (p *place) open() {
	p.t.Helper()
	p.History = Open(p.t.Context(), Options{Dir: p.dir, Late: -1, Now: func() time.Time { return p.now }})
	p.foldAfter, p.foldEvery = 3, 2 // so that it happens in a test
}

// crash ends the history as a kill does: nothing more reaches the disk.
func (p *place) crash() {
	if p.current != nil {
		p.current.db.Close()
	}
	p.catalogue.close()
	p.readings.dropAll()
}

// moved follows points that were renamed together.
func (p *place) moved(moves []Move) { p.Follow(0, moves, nil) }

func good(at time.Time, v float64) chunk.Sample {
	return chunk.Sample{Time: at.UnixMilli(), Source: chunk.NoTime, Value: codec.FloatValue(v), Quality: reading.Good}
}

// read gives all samples of a tag, without those that say that nothing was recorded.
func (p *place) read(tag string) (list []chunk.Sample) {
	p.t.Helper()
	series := p.Find(func(t string) bool { return t == tag })
	if len(series) == 0 {
		return nil
	}
	require.NoError(p.t, p.Each(p.t.Context(), series[0].ID, Span{math.MinInt64 / 2, math.MaxInt64 / 2}, func(x Recorded) bool {
		if x.Reason != NotRecorded {
			list = append(list, x.Sample)
		}
		return true
	}))
	return list
}

func TestWhatIsReadIsOnTheDisk(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	a, b, c := good(p.now, 1), good(p.now.Add(time.Second), 2.5), good(p.now.Add(2*time.Second), 3)
	assert.True(t, p.Add("x/level", chunk.Line{}, a))
	assert.True(t, p.Add("x/level", chunk.Line{}, b))
	assert.Empty(t, p.read("x/level"), "it is not on the disk")
	require.NoError(t, p.Flush(t.Context()))
	assert.Equal(t, []chunk.Sample{a, b}, p.read("x/level"))
	p.Add("x/level", chunk.Line{}, c)
	assert.Equal(t, []chunk.Sample{a, b}, p.read("x/level"))
	p.crash()
	p.open()
	assert.Equal(t, []chunk.Sample{a, b}, p.read("x/level"), "the last one was not on the disk")
	p.Add("x/level", chunk.Line{}, c)
	require.NoError(t, p.Close())
	p.open()
	assert.Equal(t, []chunk.Sample{a, b, c}, p.read("x/level"))
}

// Between two runs nothing was recorded, and whoever reads over that is told.
func TestGapsAreSaid(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	p.Add("x", chunk.Line{}, good(p.now, 1))
	p.now = p.now.Add(10 * time.Second)
	ended := p.now
	require.NoError(t, p.Close())
	p.now = p.now.Add(time.Hour)
	p.open()
	p.Add("x", chunk.Line{}, good(p.now, 2))
	require.NoError(t, p.Flush(t.Context()))
	var said []string
	require.NoError(t, p.Each(t.Context(), 1, Span{0, math.MaxInt64 / 2}, func(x Recorded) bool {
		said = append(said, fmt.Sprintf("%s %s %s", x.At().Format("15:04:05"), x.Value, x.Reason))
		return true
	}))
	assert.Equal(t, []string{"10:00:00 1 ", "10:00:10  not-recorded", "11:00:10 2 "}, said)
	gaps, err := p.Gaps(t.Context(), Span{0, math.MaxInt64 / 2})
	require.NoError(t, err)
	assert.Equal(t, []Gap{{Span{ended.UnixMilli(), p.now.UnixMilli()}, GapStopped, 0}}, gaps)
}

func TestRenamedAndRemovedPoints(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	add := func(tag string, v float64) {
		p.now = p.now.Add(time.Second)
		p.Add(tag, chunk.Line{}, good(p.now, v))
		require.NoError(t, p.Flush(t.Context()))
	}
	values := func(tag string) (list []string) {
		for _, x := range p.read(tag) {
			list = append(list, x.Value.String())
		}
		return list
	}
	again := func() {
		require.NoError(t, p.Close())
		p.open()
	}
	add("a", 1)
	add("b", 2)
	add("c", 3)
	p.moved([]Move{{"a", "b"}, {"b", "c"}}) // c goes
	add("b", 11)
	add("c", 12)
	assert.Equal(t, []string{"1", "11"}, values("b"))
	assert.Equal(t, []string{"2", "12"}, values("c"))
	again()
	assert.Empty(t, values("a"))
	assert.Equal(t, []string{"1", "11"}, values("b"))
	p.Follow(0, nil, []string{"b"})
	again()
	assert.Equal(t, []string{"1", "11"}, values("b"), "what was recorded of a point that is gone stays")
	add("b", 21)
	assert.Equal(t, []string{"1", "11", "21"}, values("b"), "a point that is there again goes on")
	p.moved([]Move{{"b", "c"}, {"c", "b"}}) // they change places
	assert.Equal(t, []string{"2", "12"}, values("b"))
	p.moved([]Move{{"b", "x"}, {"x", "y"}}) // one after the other
	assert.Equal(t, []string{"2", "12"}, values("y"))
}

func TestFilesThatAreMissingDamagedOrForeign(t *testing.T) {
	p := newPlace(t)
	month := func(n time.Month) {
		p.now = time.Date(2026, n, 5, 10, 0, 0, 0, time.UTC)
		require.NoError(t, p.Flush(t.Context())) // what comes until then is still in the month before
		for i := range 3000 {
			p.Add("x", chunk.Line{}, good(p.now.Add(time.Duration(i)*time.Second), float64(i)*math.Pi))
		}
		require.NoError(t, p.Flush(t.Context()))
	}
	for n := time.June; n <= time.November; n++ {
		month(n)
	}
	require.NoError(t, p.Close())
	other := newPlace(t)
	other.now = time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC)
	other.Add("x", chunk.Line{}, good(other.now, 7))
	require.NoError(t, other.Close())

	name := func(of, month string) string { return filepath.Join(of, Folder, month+".db") }
	require.NoError(t, os.Remove(name(p.dir, "2026-06")))
	copyFile(t, name(other.dir, "2026-07"), name(p.dir, "2026-07"))
	copyFile(t, name(p.dir, "2026-08"), name(p.dir, "2026-05"))
	b, err := os.ReadFile(name(p.dir, "2026-09"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name(p.dir, "2026-09"), slices.Concat([]byte("no database"), b[11:]), 0o600))
	b, err = os.ReadFile(name(p.dir, "2026-10")) // some bytes of samples, which SQLite does not see
	require.NoError(t, err)
	db, err := sql.Open("sqlite", "file:"+name(p.dir, "2026-10")+"?mode=ro")
	require.NoError(t, err)
	var body []byte
	require.NoError(t, db.QueryRow("SELECT body FROM chunk LIMIT 1").Scan(&body))
	require.NoError(t, db.Close())
	require.Positive(t, bytes.Count(b, body[:64]))
	damaged := slices.Clone(body[:64])
	damaged[10] ^= 0x55
	b = bytes.ReplaceAll(b, body[:64], damaged)
	require.NoError(t, os.WriteFile(name(p.dir, "2026-10"), b, 0o600))

	p.open()
	defer func() { assert.NoError(t, p.Close()) }()
	months := map[string]int{}
	for _, x := range p.read("x") {
		months[x.At().Format(monthForm)]++
		assert.InDelta(t, float64((x.Time-time.Date(2026, x.At().Month(), 5, 10, 0, 0, 0, time.UTC).UnixMilli())/1000)*math.Pi, float(x.Value), 1e-9, "nothing wrong is shown")
	}
	assert.Equal(t, 3000, months["2026-08"])
	assert.Equal(t, 3000, months["2026-11"])
	assert.Less(t, months["2026-10"], 3000)
	assert.Equal(t, []string{"2026-08", "2026-10", "2026-11"}, slices.Sorted(maps.Keys(months)))
	said := map[string]string{}
	for _, f := range p.Figures().Files {
		said[f.Month] = f.Fault
	}
	assert.Contains(t, said["2026-05"], "holds another month")
	assert.Contains(t, said["2026-06"], "is gone")
	assert.Contains(t, said["2026-07"], "another history")
	assert.Contains(t, said["2026-09"], "is damaged")
	assert.Contains(t, said["2026-10"], "is damaged")
	assert.Empty(t, said["2026-08"]+said["2026-11"])
	require.NoError(t, p.RemoveMonth(t.Context(), "2026-06"))
	assert.ErrorIs(t, p.RemoveMonth(t.Context(), "2026-06"), ErrNoMonth)
}

func float(v codec.Value) float64 {
	f, _ := v.Float()
	return f
}

func copyFile(t *testing.T, from, to string) {
	t.Helper()
	b, err := os.ReadFile(from)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(to, b, 0o600))
}

// A catalogue that is lost is made again from the months; one that is damaged is kept beside it.
func TestACatalogueThatIsLost(t *testing.T) {
	p := newPlace(t)
	p.Add("a", chunk.Line{}, good(p.now, 1))
	p.Add("b", chunk.Line{}, good(p.now, 2))
	require.NoError(t, p.Close())
	for _, damage := range []func(path string) error{os.Remove, func(path string) error { return os.WriteFile(path, []byte("no database at all"), 0o600) }} {
		path := filepath.Join(p.dir, Folder, CatalogueName)
		require.NoError(t, damage(path))
		p.open()
		assert.Len(t, p.read("a"), 1)
		assert.Equal(t, codec.FloatValue(2), p.read("b")[0].Value)
		require.NoError(t, p.Close())
	}
	kept, _ := filepath.Glob(filepath.Join(p.dir, Folder, CatalogueName+".damaged-*"))
	assert.Len(t, kept, 1)
}

func TestAFileThatIsTakenAway(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	p.Add("a", chunk.Line{}, good(p.now, 1))
	require.NoError(t, p.Flush(t.Context()))
	for _, rest := range []string{"", "-wal", "-shm"} {
		require.NoError(t, os.Remove(p.path("2026-11")+rest))
	}
	p.Add("a", chunk.Line{}, good(p.now.Add(time.Second), 2))
	assert.Error(t, p.Flush(t.Context()), "it is said")
	assert.NotEmpty(t, p.Figures().Fault)
	require.NoError(t, p.Flush(t.Context()), "and goes on in a new one")
	list := p.read("a")
	require.Len(t, list, 1)
	assert.Equal(t, codec.FloatValue(2), list[0].Value)
}

// A disk that is full stops nothing but the recording: what came meanwhile waits, and is there once there is room.
func TestAFullDisk(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	p.Add("a", chunk.Line{}, good(p.now, 0))
	require.NoError(t, p.Flush(t.Context()))
	var pages int
	require.NoError(t, p.current.db.QueryRow("PRAGMA page_count").Scan(&pages))
	_, err := p.current.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages+1))
	require.NoError(t, err)
	failed := 0
	for i := range 40_000 {
		p.Add("a", chunk.Line{}, good(p.now.Add(time.Duration(i+1)*time.Second), math.Sqrt(float64(i))))
		if i%2000 == 0 {
			if err := p.Flush(t.Context()); err != nil {
				assert.ErrorIs(t, err, database.ErrFull)
				assert.Equal(t, database.ErrFull, p.Figures().Kind)
				failed++
			}
		}
	}
	assert.Positive(t, failed)
	kept := p.read("a")
	assert.Less(t, len(kept), 40_001)
	for i, x := range kept {
		require.Equal(t, p.now.Add(time.Duration(i)*time.Second).UnixMilli(), x.Time, "what is read is on the disk, without a hole")
	}
	_, err = p.current.db.Exec("PRAGMA max_page_count = 1000000")
	require.NoError(t, err)
	require.NoError(t, p.Flush(t.Context()))
	assert.Empty(t, p.Figures().Fault)
	assert.Len(t, p.read("a"), 40_001)
	assert.Zero(t, p.Figures().Lost)
}

// A history that cannot be opened keeps nobody from starting; it is opened once that can be.
func TestAHistoryThatCannotBeOpened(t *testing.T) {
	p := newPlace(t)
	p.Add("a", chunk.Line{}, good(p.now, 1))
	require.NoError(t, p.Close())
	folder := filepath.Join(p.dir, Folder)
	require.NoError(t, os.Rename(folder, folder+"-away"))
	require.NoError(t, os.WriteFile(folder, nil, 0o600)) // a file in its place
	p.open()
	defer func() { assert.NoError(t, p.Close()) }()
	assert.NotEmpty(t, p.Figures().Fault)
	assert.False(t, p.Add("a", chunk.Line{}, good(p.now.Add(time.Second), 2)), "it is said, and counted")
	p.moved([]Move{{"a", "b"}})
	assert.Error(t, p.Flush(t.Context()))
	_, err := p.Import(t.Context(), "a", []chunk.Sample{good(p.now, 5)})
	assert.Error(t, err)
	require.NoError(t, os.Remove(folder))
	require.NoError(t, os.Rename(folder+"-away", folder))
	require.NoError(t, p.Flush(t.Context()))
	assert.Empty(t, p.Figures().Fault)
	p.Add("b", chunk.Line{}, good(p.now.Add(2*time.Second), 3))
	require.NoError(t, p.Flush(t.Context()))
	assert.Len(t, p.read("b"), 2, "and what was renamed meanwhile is followed")
	assert.EqualValues(t, 1, p.Figures().Lost)
}

func TestWhatTheDiskCannotTakeIsCounted(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	p.Add("a", chunk.Line{}, good(p.now, 1))
	require.NoError(t, p.Flush(t.Context()))
	p.mu.Lock()
	p.waiting = mostWaiting + 1
	p.mu.Unlock()
	for i := range 10 {
		assert.False(t, p.Add("a", chunk.Line{}, good(p.now.Add(time.Duration(i+1)*time.Second), 9)))
	}
	p.Lost(5, p.now.Add(time.Minute))
	p.mu.Lock()
	p.waiting = 0
	p.mu.Unlock()
	require.NoError(t, p.Flush(t.Context()))
	p.Add("a", chunk.Line{}, good(p.now.Add(2*time.Minute), 2))
	require.NoError(t, p.Flush(t.Context()))
	assert.EqualValues(t, 15, p.Figures().Lost)
	gaps, err := p.Gaps(t.Context(), Span{0, math.MaxInt64 / 2})
	require.NoError(t, err)
	assert.Equal(t, []Gap{{Span{p.now.Add(time.Second).UnixMilli(), p.now.Add(time.Minute).UnixMilli()}, GapBehind, 15}}, gaps)
	assert.Len(t, p.read("a"), 2)
}

func TestWhatIsTooOldOrTooMuchGoes(t *testing.T) {
	p := newPlace(t)
	defer func() { p.Close() }()
	p.options.Keep = 60 * 24 * time.Hour
	for n := time.January; n <= time.November; n++ {
		p.now = time.Date(2026, n, 28, 0, 0, 0, 0, time.UTC)
		require.NoError(t, p.Flush(t.Context()))
		p.Add("x", chunk.Line{}, good(p.now, 1))
		require.NoError(t, p.Flush(t.Context()))
	}
	p.clock = clock{began: time.Now()}
	p.History.upkeep(t.Context())
	assert.Len(t, p.Figures().Files, 11, "right after a start, or when the clock was set, nothing is removed for its age")
	p.clock = clock{began: p.now.Add(-2 * time.Hour)}
	p.History.upkeep(t.Context())
	assert.Len(t, p.Figures().Files, 3, "November, October and September, which ended 58 days ago")
	assert.Len(t, p.read("x"), 3)
	p.options.Most = p.Figures().Bytes - 1
	p.History.upkeep(t.Context())
	assert.Len(t, p.Figures().Files, 2)
}

// Where there is room for less than a month, the oldest of this one goes.
func TestTheOldestOfThisMonthGoes(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	random := rand.New(rand.NewPCG(5, 6))
	for i := range 60_000 {
		p.Add("a", chunk.Line{}, good(p.now.Add(time.Duration(i)*time.Second), random.Float64()))
	}
	require.NoError(t, p.Flush(t.Context()))
	before := p.read("a")
	p.options.Most = p.Figures().Bytes / 2
	for range 10 {
		p.History.upkeep(t.Context())
	}
	after := p.read("a")
	assert.Less(t, len(after), len(before)*3/4)
	assert.Greater(t, len(after), len(before)/5)
	assert.Equal(t, before[len(before)-len(after):], after, "what is left is the newest")
}

func TestImportedSamples(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	p.Add("x", chunk.Line{}, good(p.now, 1))
	require.NoError(t, p.Flush(t.Context()))
	at := time.Date(2025, 12, 31, 23, 59, 58, 0, time.UTC)
	var list []chunk.Sample
	for i := range 5 {
		list = append(list, good(at.Add(time.Duration(i)*time.Second), float64(i)))
	}
	list = append(list, good(p.now.Add(-time.Second), 0.5)) // into the month that is written
	n, err := p.Import(t.Context(), "x", list)
	require.NoError(t, err)
	assert.Equal(t, 6, n)
	n, err = p.Import(t.Context(), "x", list)
	require.NoError(t, err)
	assert.Zero(t, n, "the same again adds nothing")
	assert.Len(t, p.read("x"), 7)
	imported := 0
	require.NoError(t, p.Each(t.Context(), 1, Span{0, math.MaxInt64 / 2}, func(x Recorded) bool {
		if x.Imported {
			imported++
		}
		return true
	}))
	assert.Equal(t, 6, imported)
	require.NoError(t, p.Close())
	p.open()
	assert.Len(t, p.read("x"), 7)
}

func TestBuckets(t *testing.T) {
	p := newPlace(t)
	defer func() { assert.NoError(t, p.Close()) }()
	random := rand.New(rand.NewPCG(3, 4))
	var all []chunk.Sample
	for i := range 9000 {
		x := good(p.now.Add(time.Duration(i)*time.Second), math.Round(random.NormFloat64()*1000)/10)
		if i%500 == 77 {
			x.Quality, x.Reason = reading.Bad, reading.Timeout
		}
		all = append(all, x)
		p.Add("x", chunk.Line{}, x)
		if i%100 == 0 {
			require.NoError(t, p.Flush(t.Context()))
		}
	}
	require.NoError(t, p.Flush(t.Context()))
	for _, each := range []int64{1000, 7_777, 60_000, 3_600_000} {
		span := Span{p.now.UnixMilli() + 10_000, p.now.UnixMilli() + 8_000_000}
		want := map[int64]*Bucket{}
		for _, x := range all {
			if x.Time < span.From || x.Time >= span.To {
				continue
			}
			i := (x.Time - span.From) / each
			b := want[i]
			if b == nil {
				b = &Bucket{Span: Span{span.From + i*each, min(span.From+i*each+each, span.To)}, Least: math.Inf(1), Most: math.Inf(-1)}
				want[i] = b
			}
			if x.Quality == reading.Bad {
				b.Bad, b.Last = b.Bad+1, codec.Value{}
				continue
			}
			f := float(x.Value)
			b.Count, b.Least, b.Most, b.Last = b.Count+1, min(b.Least, f), max(b.Most, f), x.Value
		}
		got, err := p.Buckets(t.Context(), 1, span, each)
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i, key := range slices.Sorted(maps.Keys(want)) {
			w, g := *want[key], got[i]
			if w.Count == 0 {
				w.Least, w.Most, g.Least, g.Most = 0, 0, 0, 0
			}
			assert.Equal(t, w, g)
		}
	}
	_, err := p.Buckets(t.Context(), 1, Span{0, 1e15}, 1)
	assert.ErrorIs(t, err, ErrTooMany)
	x, ok, err := p.Before(t.Context(), 1, all[50].Time, 60_000)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, all[49], x)
}

// Whatever happens in between (kills, months that end, a clock that is set, points that are renamed, chunks that fill up), what was put on the
// disk is read as it was given, and nothing else.
func TestTrialOfHistories(t *testing.T) {
	rounds, seed := 4, uint64(time.Now().UnixNano())
	if text := os.Getenv("ARITHMON_TRIAL"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
		rounds, seed = 1, n
	}
	for round := range rounds {
		trial(t, seed+uint64(round))
	}
}

func trial(t *testing.T, seed uint64) {
	defer func() {
		if t.Failed() {
			t.Logf("ARITHMON_TRIAL=%d tries it again", seed)
		}
	}()
	random := rand.New(rand.NewPCG(seed, 9))
	p := newPlace(t)
	defer func() { p.Close() }()
	type truth struct{ kept, fresh []chunk.Sample }
	series := map[string]*truth{}
	tags := []string{"a", "b", "c", "d"}
	keep := func() {
		for _, s := range series {
			s.kept, s.fresh = append(s.kept, s.fresh...), nil
		}
	}
	check := func() {
		t.Helper()
		for tag, s := range series {
			want := slices.Clone(s.kept)
			slices.SortStableFunc(want, func(a, b chunk.Sample) int { return int(a.Time - b.Time) })
			got := p.read(tag)
			require.Equal(t, len(want), len(got), "%s", tag)
			for i := range want { // of several at one moment, the order is not known when the clock was set
				require.Equal(t, want[i].Time, got[i].Time, "%s, sample %d", tag, i)
			}
			require.ElementsMatch(t, want, got)
		}
	}
	for range 60 {
		switch random.IntN(12) {
		case 0:
			p.crash()
			for _, s := range series {
				s.fresh = nil
			}
			p.now = p.now.Add(time.Duration(random.IntN(100)) * time.Second)
			p.open()
		case 1:
			require.NoError(t, p.Close())
			keep()
			p.open()
		case 2:
			p.now = p.now.Add(time.Duration(random.IntN(60*24)-15*24) * time.Hour) // also back
		case 3:
			from, to := tags[random.IntN(len(tags))], tags[random.IntN(len(tags))]
			if series[from] != nil && len(p.Find(func(x string) bool { return x == to })) == 0 {
				p.moved([]Move{{from, to}})
				series[to] = series[from]
				delete(series, from)
				require.NoError(t, p.Flush(t.Context()))
				keep()
			}
		case 4:
			check()
		default:
			tag := tags[random.IntN(len(tags))]
			if series[tag] == nil {
				if len(p.Find(func(x string) bool { return x == tag })) > 0 {
					continue
				}
				series[tag] = &truth{}
			}
			for range random.IntN(900) {
				p.now = p.now.Add(time.Duration(random.IntN(2000)) * time.Millisecond)
				x := good(p.now, math.Round(random.Float64()*1000)/float64([]int{1, 10, 3}[random.IntN(3)]))
				if random.IntN(50) == 0 {
					x = chunk.Sample{Time: x.Time, Source: x.Time - 5, Value: x.Value, Reason: reading.Timeout}
				}
				series[tag].fresh = append(series[tag].fresh, x)
				p.Add(tag, chunk.Line{}, x)
			}
			if random.IntN(3) > 0 {
				require.NoError(t, p.Flush(t.Context()))
				keep()
			}
		}
	}
	require.NoError(t, p.Flush(context.Background()))
	keep()
	check()
}

// BenchmarkBuckets draws a million samples in 200 columns.
func BenchmarkBuckets(b *testing.B) {
	h := Open(b.Context(), Options{Dir: b.TempDir(), Late: -1})
	defer h.Close()
	random, level := rand.New(rand.NewPCG(1, 2)), 1.5
	start := time.Now().UnixMilli()
	const samples = 1_000_000
	for i := range samples {
		level += (random.Float64() - 0.5) * 0.02
		h.Add("p", chunk.Line{}, good(time.UnixMilli(start+int64(i)*250+int64(random.NormFloat64()*3)), math.Round(level*100)/100))
	}
	require.NoError(b, h.Flush(b.Context()))
	for b.Loop() {
		_, err := h.Buckets(b.Context(), 1, Span{start, start + samples*250}, samples*250/200)
		require.NoError(b, err)
	}
}
