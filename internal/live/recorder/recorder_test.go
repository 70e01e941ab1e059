package recorder

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/history"
	"arithmon/internal/record/history/chunk"
)

// book notes what a Recorder gives.
type book struct {
	mu    sync.Mutex
	lines []string
	lost  uint64
}

func (b *book) Add(tag string, _ chunk.Line, x chunk.Sample) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lines = append(b.lines, strings.TrimSpace(fmt.Sprintf("%s=%s %s", tag, x.Value, x.Reason)))
	return true
}

func (b *book) Lost(n uint64, _ time.Time) { b.lost += n }

func (b *book) Follow(_ int64, moves []history.Move, gone []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, m := range moves {
		b.lines = append(b.lines, m.From+" is "+m.To)
	}
	for _, tag := range gone {
		b.lines = append(b.lines, tag+" is gone")
	}
}

func (b *book) take() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	lines := b.lines
	b.lines = nil
	return lines
}

// bench is a site with a live table and a Recorder of it.
type bench struct {
	t     *testing.T
	site  *site.Site
	table *table.Table
	book  *book
	*Recorder
	at time.Time
}

func newBench(t *testing.T, of ...site.Entity) *bench {
	b := &bench{t: t, site: site.New(), table: table.New(), book: &book{}, at: time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)}
	l, st := site.NewLink(), site.NewStation()
	l.Name, l.Host, st.Name, st.Link = "gate", "127.0.0.1", "plc", "gate"
	b.Recorder = Start(b.table.Tap, b.book, b.site)
	t.Cleanup(b.Stop)
	b.change(func(d *site.Draft) {
		d.Add(l)
		d.Add(st)
		for _, e := range of {
			d.Put(e)
		}
	})
	b.book.take()
	return b
}

// change changes the site as the service does.
func (b *bench) change(f func(*site.Draft)) {
	b.t.Helper()
	d := b.site.Edit()
	f(d)
	changes, err := d.Changes()
	require.NoError(b.t, err)
	now := b.site.With(changes)
	again := b.Before(1, now, changes)
	for _, c := range changes { // as the engine does: what is gone goes first
		if p, ok := c.Before.(site.Point); ok {
			if _, still := now.Point(p.Tag); !still {
				b.table.Remove(p.Tag)
			}
		}
	}
	for _, st := range now.Stations() {
		for _, p := range now.SharedPointsOf(st.Name) {
			b.table.Put(p, st)
		}
	}
	b.After(again)
	b.site = now
}

func (b *bench) read(tag string, value float64) {
	b.at = b.at.Add(time.Second)
	b.table.Emit([]table.Sample{{Slot: b.table.Get(tag), Value: codec.FloatValue(value), Quality: reading.Good, Time: b.at}})
}

func (b *bench) said() []string {
	b.take()
	return b.book.take()
}

func recorded(tag string, record *site.Sampling) site.Point {
	return site.Point{Tag: tag, Station: "plc", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(len(tag))}, Type: codec.TypeFloat32, Record: record}
}

func TestWhatIsRecorded(t *testing.T) {
	for _, c := range []struct {
		name   string
		record site.Sampling
		values []float64
		want   string
	}{
		{"all", site.Sampling{On: true}, []float64{1, 1, 2}, "1 1 2"},
		{"beyond a deadband", site.Sampling{On: true, Deadband: 0.5}, []float64{1, 1.2, 1.4, 1.5, 1.6, 1.1, 1}, "1 1.5 1"},
		{"changes, and one after a while", site.Sampling{On: true, AtLeast: site.Duration(3 * time.Second)}, []float64{1, 1, 1, 1, 1, 2, 2}, "1 1 2"},
		{"beyond a deadband, and one after a while", site.Sampling{On: true, Deadband: 10, AtLeast: site.Duration(3 * time.Second)}, []float64{1, 2, 3, 4, 5, 6, 20}, "1 4 20"},
		{"one in a period", site.Sampling{On: true, Every: site.Duration(4 * time.Second)}, []float64{1, 2, 3, 4, 5, 6, 7, 8, 9}, "1 4 8"},
		{"nothing", site.Sampling{}, []float64{1, 2}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBench(t, recorded("p", &c.record))
			b.said()
			for _, v := range c.values {
				b.read("p", v)
			}
			assert.Equal(t, c.want, strings.ReplaceAll(strings.Join(b.said(), " "), "p=", ""))
		})
	}
}

func TestQualityIsAlwaysRecorded(t *testing.T) {
	b := newBench(t, recorded("p", &site.Sampling{On: true, Every: site.Duration(time.Hour)}))
	b.said()
	b.read("p", 1)
	b.read("p", 2)
	b.table.Get("p").Bad(reading.Timeout, b.at)
	b.read("p", 3)
	b.read("p", 4)
	assert.Equal(t, []string{"p=1", "p= timeout", "p=3"}, b.said())
}

func TestTheStationSaysItForItsPoints(t *testing.T) {
	b := newBench(t, recorded("a", nil), recorded("bb", &site.Sampling{}))
	b.read("a", 1)
	assert.Empty(t, b.said())
	set := func(record *site.Sampling) {
		b.change(func(d *site.Draft) {
			st, _ := d.Station("plc")
			st.Record = record
			d.Put(st)
		})
	}
	set(&site.Sampling{On: true})
	b.read("a", 2)
	b.read("bb", 3)
	assert.Equal(t, []string{"a=1", "a=2"}, b.said(), "from the reading that stands then")
	assert.True(t, b.wants("@plc/state") && b.wants("@gate/state") && b.wants("@site/alarms"), "and what its communication does")
	set(nil)
	b.read("a", 4)
	assert.Contains(t, b.said(), "a= not-recorded", "it is said that it ends")
	assert.False(t, b.wants("@plc/state") || b.wants("@site/alarms"))
}

func TestRenamedPointsGoOn(t *testing.T) {
	all := &site.Sampling{On: true}
	b := newBench(t, recorded("a", all))
	b.said()
	b.read("a", 1)
	b.change(func(d *site.Draft) {
		p, _ := d.Get(site.KindPoint, "a")
		is := p.(site.Point)
		is.Tag = "new"
		d.Replace("a", is)
	})
	b.read("new", 2)
	assert.Equal(t, []string{"a=1", "a is new", "new= never-read", "new=2"}, b.said())
	b.change(func(d *site.Draft) { d.Put(recorded("a", all)) }) // another one under the old tag
	b.read("a", 5)
	assert.Equal(t, []string{"a= never-read", "a=5"}, b.said())
	b.change(func(d *site.Draft) { d.Remove(site.KindPoint, "a", false) })
	assert.Equal(t, []string{"a= not-recorded", "a is gone"}, b.said())
}

// Two points that change places go on as what they are.
func TestPointsChangePlaces(t *testing.T) {
	all := &site.Sampling{On: true}
	b := newBench(t, recorded("a", all), recorded("bb", all))
	b.said()
	b.read("a", 1)
	b.read("bb", 2)
	b.change(func(d *site.Draft) {
		first, second := recorded("a", all), recorded("bb", all)
		first.Tag, second.Tag = "bb", "a"
		d.ReplaceAll([]site.Replacement{{Old: "a", New: first}, {Old: "bb", New: second}})
	})
	said := b.said()
	assert.Equal(t, []string{"a=1", "bb=2", "bb is bb~", "a is bb", "bb~ is a"}, said[:5])
	assert.ElementsMatch(t, []string{"a= never-read", "bb= never-read"}, said[5:])
	b.read("bb", 1)
	b.read("a", 2)
	assert.Equal(t, []string{"bb=1", "a=2"}, b.said())
}

// The device's own time is that of the sample, unless it cannot be.
func TestTimesOfDevices(t *testing.T) {
	came := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		source time.Time
		reason reading.Reason
		own    bool
	}{
		"an hour ago":    {came.Add(-time.Hour), "", true},
		"a second ahead": {came.Add(time.Second), "", true},
		"an hour ahead":  {came.Add(time.Hour), "", false},
		"years ago":      {time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC), "", false},
		"not set":        {came.Add(-time.Minute), reading.TimeUnsynchronised, false},
	} {
		r := reading.Reading{Time: came, SourceTime: c.source, Quality: reading.Uncertain, Reason: c.reason}
		x := Sample(&r)
		assert.Equal(t, c.source.UnixMilli(), x.Source, name)
		assert.Equal(t, c.own, x.Time == x.Source, name)
		if !c.own {
			assert.Equal(t, came.UnixMilli(), x.Time, name)
		}
	}
}
