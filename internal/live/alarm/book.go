// Package alarm watches the points that have limits and keeps what is out of them.
package alarm

import (
	"context"
	"fmt"
	"log/slog"
	"math"
	"strings"
	"sync"
	"time"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/alarmlog"
)

// Log keeps alarms over restarts; an *alarmlog.Log is one.
type Log interface {
	Save(ctx context.Context, alarms []alarm.Alarm, entries []alarmlog.Entry) error
	Load(ctx context.Context) ([]alarm.Alarm, error)
}

// Options are what a Book needs.
type Options struct {
	Tap  func(table.TapOptions) *table.Tap
	Log  Log
	Site *site.Site
	Logs *slog.Logger     // nil discards
	Now  func() time.Time // nil: time.Now
}

// Book keeps the alarms of a site. It is safe for concurrent use.
type Book struct {
	log  Log
	logs *slog.Logger
	now  func() time.Time
	tap  *table.Tap

	planning sync.RWMutex // of points, which the table asks for
	points   map[string]*watched

	mu      sync.Mutex
	alarms  map[alarm.Key]*alarm.Alarm
	pending map[string]*watched // with a limit that may be exceeded when nothing else is read
	changed map[alarm.Key]bool  // and not on the disk
	entries []alarmlog.Entry    // likewise
	news    chan struct{}       // closed when something happens next
	saving  sync.Mutex
	list    []table.Tapped

	stopping chan struct{}
	running  sync.WaitGroup
}

// watched is a point with its limits.
type watched struct {
	point      *site.Point
	conversion site.Conversion
	watches    []*alarm.Watch
	last       alarm.Seen
	value      float64 // last good number, and when; for the rate
	at         time.Time
}

// Start begins to watch the points of a site. Following changes it needs Before and After.
func Start(ctx context.Context, o Options) (*Book, error) {
	b := &Book{log: o.Log, logs: o.Logs, now: o.Now, points: map[string]*watched{}, alarms: map[alarm.Key]*alarm.Alarm{}, pending: map[string]*watched{}, changed: map[alarm.Key]bool{}, news: make(chan struct{}), stopping: make(chan struct{})}
	if b.logs == nil {
		b.logs = slog.New(slog.DiscardHandler)
	}
	if b.now == nil {
		b.now = time.Now
	}
	kept, err := o.Log.Load(ctx)
	if err != nil {
		return nil, fmt.Errorf("alarms: %w", err)
	}
	o.Site.EachPoint("", func(p *site.Point) bool {
		if p.Limits != nil {
			b.points[p.Tag] = watch(p)
		}
		return true
	})
	for _, a := range kept {
		b.resume(a)
	}
	b.tap = o.Tap(table.TapOptions{Wants: b.wants, Room: room, Every: true})
	b.running.Go(b.run)
	return b, nil
}

// room is how many readings may wait.
const room = 1 << 18

func watch(p *site.Point) *watched {
	return &watched{point: p, conversion: p.Conversion(), watches: alarm.Watches(p), value: math.NaN()}
}

// resume takes up an alarm as it was when the service ended.
func (b *Book) resume(a alarm.Alarm) {
	p := b.points[a.Tag]
	var of *alarm.Watch
	if p != nil {
		for _, w := range p.watches {
			if w.Limit == a.Limit {
				of = w
			}
		}
	}
	b.alarms[a.Key] = &a
	if of == nil { // the limit was taken away meanwhile
		b.drop(a.Key, b.now())
		return
	}
	if a.State == alarm.Active || a.State == alarm.Acknowledged {
		of.Resume()
		a.Unknown = true
	}
}

func (b *Book) wants(tag string) bool {
	b.planning.RLock()
	defer b.planning.RUnlock()
	return b.points[tag] != nil
}

// How often delays are looked at, and what has happened is put on the disk.
const lookEvery = 100 * time.Millisecond

func (b *Book) run() {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-b.stopping:
			return
		case <-b.tap.Ready():
			b.take()
		case <-ticker.C:
			b.look()
			_ = b.save(context.Background()) // it is tried again
		}
	}
}

// Stop ends watching; what has happened until then is on the disk.
func (b *Book) Stop() error {
	b.tap.Close()
	close(b.stopping)
	b.running.Wait()
	b.take()
	return b.save(context.Background())
}

// together is how many readings are taken at once.
const together = 4096

func (b *Book) take() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for {
		var lost uint64
		b.list, lost = b.tap.Take(b.list[:0], together)
		for i := range b.list {
			b.read(&b.list[i])
		}
		if lost > 0 {
			b.logs.Error("readings came faster than alarms could be found", "lost", lost)
		}
		if len(b.list) < together {
			clear(b.list)
			return
		}
	}
}

// read looks at a reading; the lock is held.
func (b *Book) read(t *table.Tapped) {
	b.planning.RLock()
	p := b.points[t.Point.Tag]
	b.planning.RUnlock()
	if p == nil || t.Removed || p.point != t.Point { // what still comes of the point as it was
		return
	}
	r := &t.Reading
	seen := alarm.Seen{Value: r.Value, Quality: r.Quality, Reason: r.Reason, Rate: math.NaN()}
	if f, number := r.Value.Float(); number && r.Quality == reading.Good {
		if minutes := r.Time.Sub(p.at).Minutes(); !math.IsNaN(p.value) && minutes > 0 {
			seen.Rate = math.Abs(f-p.value) / minutes
		}
		p.value, p.at = f, r.Time
	}
	p.last = seen
	for _, w := range p.watches {
		w.Read(seen, r.Time)
	}
	b.settle(p, b.now())
}

// settle makes the alarms of a point what its limits say; the lock is held.
func (b *Book) settle(p *watched, now time.Time) {
	waits := false
	for _, w := range p.watches {
		is, known, next := w.Out(now)
		waits = waits || !next.IsZero()
		key := alarm.Key{Tag: p.point.Tag, Limit: w.Limit}
		a := b.alarms[key]
		standing := a != nil && (a.State == alarm.Active || a.State == alarm.Acknowledged)
		switch {
		case is && !standing:
			if a == nil {
				a = &alarm.Alarm{Key: key}
				b.alarms[key] = a
			}
			a.State, a.Since, a.GoneAt, a.Value, a.Said, a.Bound, a.Severity = alarm.Active, now, time.Time{}, p.last.Value, p.text(), w.Bound, p.point.Limits.Weight()
			if p.last.Quality == reading.Bad {
				a.Value = codec.Value{}
			}
			a.AckedBy, a.AckedAt, a.Unknown = "", time.Time{}, false
			b.note(a, alarm.Raised, "", "", p)
		case known && !is && standing:
			step := alarm.Returned
			if a.State == alarm.Acknowledged {
				a.State = alarm.Normal
			} else {
				a.State, a.GoneAt = alarm.Gone, now
			}
			a.Unknown = false
			b.note(a, step, "", "", p)
		case standing && a.Unknown != (!is && !known):
			a.Unknown = !is && !known
			b.changed[key] = true
		}
	}
	if waits {
		b.pending[p.point.Tag] = p
	} else {
		delete(b.pending, p.point.Tag)
	}
}

// note notes that an alarm has changed; the lock is held.
func (b *Book) note(a *alarm.Alarm, step alarm.Step, who, said string, p *watched) {
	e := alarmlog.Entry{Time: b.now().UTC(), Tag: a.Tag, Limit: a.Limit, Step: step, Bound: a.Bound, Severity: a.Severity, Who: who, Note: said, Until: a.ShelvedTo}
	if p != nil {
		e.Value = p.text()
	}
	b.entries = append(b.entries, e)
	b.changed[a.Key] = true
	if a.Empty() {
		delete(b.alarms, a.Key)
	}
	level := slog.LevelInfo
	if step == alarm.Raised && a.Severity <= 2 {
		level = slog.LevelWarn
	}
	b.logs.Log(context.Background(), level, "alarm", "tag", a.Tag, "limit", string(a.Limit), "step", string(step), "value", e.Value, "who", who)
}

// text is the last value as a person reads it.
func (p *watched) text() string {
	if p.last.Quality == reading.Bad {
		return reading.Reading{Quality: p.last.Quality, Reason: p.last.Reason}.ShortName()
	}
	return strings.TrimSpace(p.conversion.Text(p.last.Value) + " " + p.point.Unit)
}

// standsAlone is how long a value that is not read again is taken to change as it did last.
const standsAlone = time.Minute

// look looks at delays that have passed, at shelves that have ended, and at rates of values that do not change any more.
func (b *Book) look() {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := b.now()
	for _, p := range b.pending {
		b.settle(p, now)
	}
	for key, a := range b.alarms {
		if a.Shelved() && !now.Before(a.ShelvedTo) {
			a.ShelvedTo, a.ShelvedBy = time.Time{}, ""
			b.note(a, alarm.Unshelved, "", "", b.points[key.Tag])
		}
		if p := b.points[key.Tag]; key.Limit == site.Rate && p != nil && a.State != alarm.Gone && now.Sub(p.at) > standsAlone {
			p.last.Rate = 0
			for _, w := range p.watches {
				if w.Limit == site.Rate {
					w.Read(p.last, now)
				}
			}
			b.settle(p, now)
		}
	}
}

// save puts on the disk what has happened.
func (b *Book) save(ctx context.Context) error {
	b.saving.Lock()
	defer b.saving.Unlock()
	b.mu.Lock()
	if len(b.changed)+len(b.entries) == 0 {
		b.mu.Unlock()
		return nil
	}
	var alarms []alarm.Alarm
	for key := range b.changed {
		if a := b.alarms[key]; a != nil {
			alarms = append(alarms, *a)
		} else {
			alarms = append(alarms, alarm.Alarm{Key: key})
		}
	}
	changed, entries := b.changed, b.entries
	b.changed, b.entries = map[alarm.Key]bool{}, nil
	b.mu.Unlock()
	err := b.log.Save(ctx, alarms, entries)
	if err == nil {
		b.tell()
		return nil
	}
	b.logs.Error("alarms could not be written; it is tried again", "error", err)
	b.mu.Lock()
	defer b.mu.Unlock()
	for key := range changed {
		b.changed[key] = true
	}
	b.entries = append(entries, b.entries...)
	if extra := len(b.entries) - mostKept; extra > 0 {
		b.entries = b.entries[extra:]
	}
	return err
}

// Changed is closed when something that happened to an alarm is on the disk next.
func (b *Book) Changed() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.news
}

func (b *Book) tell() {
	b.mu.Lock()
	defer b.mu.Unlock()
	close(b.news)
	b.news = make(chan struct{})
}

// mostKept is how many entries are kept while the disk takes none.
const mostKept = 100_000

// drop ends an alarm whose limit is gone; the lock is held, or nobody else has the book.
func (b *Book) drop(key alarm.Key, now time.Time) {
	a := b.alarms[key]
	if a == nil {
		return
	}
	a.State, a.ShelvedTo = alarm.Normal, time.Time{}
	b.note(a, alarm.LimitRemoved, "", "", nil)
}
