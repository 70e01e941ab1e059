package alarm

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/alarmlog"
	"arithmon/internal/record/database"
)

// plant is a table with a Book of it, on a database, and a clock that the test sets.
type plant struct {
	t     *testing.T
	site  *site.Site
	table *table.Table
	log   *alarmlog.Log
	*Book

	mu sync.Mutex
	at time.Time
}

func (p *plant) clock() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.at
}

func (p *plant) pass(d time.Duration) {
	p.mu.Lock()
	p.at = p.at.Add(d)
	p.mu.Unlock()
	p.look()
}

func number(f float64) *float64 { return &f }

func newPlant(t *testing.T, points ...site.Point) *plant {
	db, err := database.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	p := &plant{t: t, site: site.New(), table: table.New(), log: alarmlog.Open(db), at: time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)}
	l, st := site.NewLink(), site.NewStation()
	l.Name, l.Host, st.Name, st.Link = "gate", "127.0.0.1", "plc", "gate"
	p.open()
	p.change(func(d *site.Draft) {
		d.Add(l)
		d.Add(st)
		for i, x := range points {
			x.Station, x.Address = "plc", site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}
			d.Add(x)
		}
	})
	return p
}

func (p *plant) open() {
	var err error
	p.Book, err = Start(p.t.Context(), Options{Tap: p.table.Tap, Log: p.log, Site: p.site, Now: p.clock})
	require.NoError(p.t, err)
}

// again stops the book and starts another one on what it left.
func (p *plant) again() {
	require.NoError(p.t, p.Stop())
	p.open()
}

func (p *plant) change(f func(*site.Draft)) {
	p.t.Helper()
	d := p.site.Edit()
	f(d)
	changes, err := d.Changes()
	require.NoError(p.t, err)
	now := p.site.With(changes)
	tags := p.Before(now, changes)
	for _, c := range changes {
		if x, ok := c.Before.(site.Point); ok {
			if _, still := now.Point(x.Tag); !still {
				p.table.Remove(x.Tag)
			}
		}
	}
	for _, st := range now.Stations() {
		for _, x := range now.SharedPointsOf(st.Name) {
			p.table.Put(x, st)
		}
	}
	p.After(tags)
	p.site = now
}

func (p *plant) read(tag string, v codec.Value) {
	p.pass(time.Second)
	p.table.Emit([]table.Sample{{Slot: p.table.Get(tag), Value: v, Quality: reading.Good, Time: p.clock()}})
	p.take()
}

func (p *plant) fail(tag string) {
	p.pass(time.Second)
	p.table.Get(tag).Bad(reading.Timeout, p.clock())
	p.take()
}

// said lists the alarms, and what happened to them since the last call.
func (p *plant) said() string {
	p.t.Helper()
	require.NoError(p.t, p.save(p.t.Context()))
	var list []string
	for _, a := range p.List(func(*alarm.Alarm) bool { return true }) {
		text := a.Tag + " " + string(a.Key.Limit) + " " + string(a.State)
		if a.Unknown {
			text += "?"
		}
		if a.Shelved() {
			text += " shelved"
		}
		list = append(list, strings.TrimSpace(text))
	}
	return strings.Join(list, ", ")
}

func all(*alarm.Alarm) bool { return true }

func TestTheLifeOfAnAlarm(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "level", Type: codec.TypeFloat32, Unit: "m", Limits: &site.Limits{High: number(2), Severity: 2}})
	p.read("level", codec.FloatValue(1))
	assert.Empty(t, p.said())
	p.read("level", codec.FloatValue(2.5))
	assert.Equal(t, "level high active", p.said())
	one := p.List(all)[0]
	assert.Equal(t, "2.5 m", one.Was)
	assert.Equal(t, "2 m", one.Limit)
	assert.Equal(t, Counts{1, 1, 0, 2}, p.Counts(all))
	n, err := p.Acknowledge(t.Context(), all, "ann", "pump is on its way")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, "level high acknowledged", p.said())
	assert.Equal(t, Counts{1, 0, 0, 2}, p.Counts(all))
	p.again()
	assert.Equal(t, "level high acknowledged?", p.said(), "after a restart nobody has to acknowledge it again")
	p.read("level", codec.FloatValue(2.6))
	assert.Equal(t, "level high acknowledged", p.said())
	p.read("level", codec.FloatValue(1))
	assert.Empty(t, p.said())

	p.read("level", codec.FloatValue(3))
	p.read("level", codec.FloatValue(1))
	assert.Equal(t, "level high gone", p.said(), "it stays until somebody has seen it")
	p.again()
	assert.Equal(t, "level high gone", p.said())
	_, err = p.Acknowledge(t.Context(), all, "ann", "")
	require.NoError(t, err)
	assert.Empty(t, p.said())

	entries, err := p.log.Entries(t.Context(), alarmlog.Filter{Limit: 100, Forward: true})
	require.NoError(t, err)
	var steps []string
	for _, e := range entries {
		steps = append(steps, strings.TrimSpace(string(e.Step)+" "+e.Who+" "+e.Note))
	}
	assert.Equal(t, []string{"active", "acknowledged ann pump is on its way", "gone", "active", "gone", "acknowledged ann"}, steps)
}

func TestQualityHasItsOwnAlarm(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "level", Type: codec.TypeFloat32, Limits: &site.Limits{High: number(2), Delay: site.Duration(10 * time.Second)}})
	p.pass(time.Minute)
	p.take()
	assert.Empty(t, p.said(), "not read yet is none")
	p.read("level", codec.FloatValue(2.5))
	p.pass(9 * time.Second)
	assert.Empty(t, p.said())
	p.pass(2 * time.Second)
	assert.Equal(t, "level high active", p.said(), "after its delay, without another reading")
	p.fail("level")
	assert.Equal(t, "level high active?", p.said(), "whether it still holds nobody knows")
	p.pass(10 * time.Second)
	assert.Equal(t, "level quality active, level high active?", p.said())
	p.read("level", codec.FloatValue(1))
	assert.Equal(t, "level quality gone, level high gone", p.said())
}

func TestShelves(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "level", Type: codec.TypeFloat32, Limits: &site.Limits{High: number(2)}}, site.Point{Tag: "other", Type: codec.TypeFloat32})
	_, err := p.Shelve(t.Context(), func(tag string) bool { return tag == "other" }, "", p.clock().Add(time.Hour), "ann", "")
	assert.ErrorIs(t, err, ErrNone)
	n, err := p.Shelve(t.Context(), func(tag string) bool { return tag == "level" }, site.High, p.clock().Add(time.Hour), "ann", "being calibrated")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	p.read("level", codec.FloatValue(3))
	assert.Equal(t, "level high active shelved", p.said())
	assert.Equal(t, Counts{0, 0, 1, 0}, p.Counts(all), "nobody is told")
	p.again()
	assert.Equal(t, "level high active? shelved", p.said())
	p.pass(2 * time.Hour)
	p.read("level", codec.FloatValue(3))
	assert.Equal(t, "level high active", p.said(), "the shelf has ended")
	_, err = p.Shelve(t.Context(), func(string) bool { return true }, site.High, p.clock().Add(time.Hour), "ann", "")
	require.NoError(t, err)
	n, err = p.Unshelve(t.Context(), all, "ann")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, "level high active", p.said())
}

func TestAlarmsFollowTheSite(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "a", Type: codec.TypeFloat32, Limits: &site.Limits{High: number(2), LowLow: number(-5)}})
	edit := func(tag string, f func(*site.Point)) {
		p.change(func(d *site.Draft) {
			e, _ := d.Get(site.KindPoint, tag)
			x := e.(site.Point)
			f(&x)
			d.Replace(tag, x)
		})
		p.take()
	}
	p.read("a", codec.FloatValue(3))
	edit("a", func(x *site.Point) { x.Tag = "b" })
	assert.Equal(t, "b high active?", p.said())
	p.read("b", codec.FloatValue(3))
	assert.Equal(t, "b high active", p.said())
	edit("b", func(x *site.Point) { x.Limits = &site.Limits{High: number(4)} })
	assert.Equal(t, "b high gone", p.said(), "within the new limit")
	p.read("b", codec.FloatValue(5))
	assert.Equal(t, "b high active", p.said())
	edit("b", func(x *site.Point) { x.Limits = &site.Limits{Low: number(0)} })
	assert.Empty(t, p.said(), "its limit is gone")
	p.read("b", codec.FloatValue(-1))
	edit("b", func(x *site.Point) { x.Limits = nil })
	assert.Empty(t, p.said())
	edit("b", func(x *site.Point) { x.Limits = &site.Limits{Low: number(0)} })
	assert.Equal(t, "b low active", p.said(), "of the value as it stands")
	p.change(func(d *site.Draft) { d.Remove(site.KindPoint, "b", false) })
	assert.Empty(t, p.said())
}

// The alarm of a point that changes places with another, and then moves on, is that of the point.
func TestAlarmsChangePlaces(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "a", Type: codec.TypeFloat32, Limits: &site.Limits{High: number(2)}}, site.Point{Tag: "b", Type: codec.TypeFloat32, Limits: &site.Limits{Low: number(2)}})
	p.read("a", codec.FloatValue(3))
	p.read("b", codec.FloatValue(3))
	require.Equal(t, "a high active", p.said())
	p.change(func(d *site.Draft) {
		first, second := d.Base().Points()[0], d.Base().Points()[1]
		first.Tag, second.Tag = "b", "a"
		d.ReplaceAll([]site.Replacement{{Old: "a", New: first}, {Old: "b", New: second}})
	})
	p.take()
	assert.Equal(t, "b high active?", p.said())
	p.read("b", codec.FloatValue(3))
	p.read("a", codec.FloatValue(3))
	assert.Equal(t, "b high active", p.said())
}

func TestARateThatIsNotReadAgain(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "level", Type: codec.TypeFloat32, Limits: &site.Limits{Rate: number(30)}})
	p.read("level", codec.FloatValue(1))
	p.read("level", codec.FloatValue(2))
	assert.Equal(t, "level rate active", p.said(), "60 a minute")
	p.pass(2 * time.Minute)
	assert.Equal(t, "level rate gone", p.said())
}

// forgetful is a log whose disk is full for a while.
type forgetful struct {
	Log
	full bool
}

func (f *forgetful) Save(ctx context.Context, alarms []alarm.Alarm, entries []alarmlog.Entry) error {
	if f.full {
		return errors.New("the disk is full")
	}
	return f.Log.Save(ctx, alarms, entries)
}

func TestWhatCouldNotBeWrittenIsWrittenLater(t *testing.T) {
	p := newPlant(t, site.Point{Tag: "level", Type: codec.TypeFloat32, Limits: &site.Limits{High: number(2)}})
	disk := &forgetful{Log: p.log, full: true}
	p.Book.log = disk
	p.read("level", codec.FloatValue(3))
	assert.Error(t, p.save(t.Context()))
	_, err := p.Acknowledge(t.Context(), all, "ann", "")
	assert.Error(t, err, "that it is acknowledged is said only when it is on the disk")
	disk.full = false
	require.NoError(t, p.save(t.Context()))
	entries, err := p.log.Entries(t.Context(), alarmlog.Filter{Limit: 10})
	require.NoError(t, err)
	assert.Len(t, entries, 2)
	kept, err := p.log.Load(t.Context())
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, alarm.Acknowledged, kept[0].State)
}
