// Package history keeps what was read of recorded points, for years, in files of their own: one SQLite file a month, so that old ones are
// removed whole, and a catalogue of whose samples they are.
//
// Samples are taken in memory, packed into chunks (package chunk), and every second what is new is put on the disk, in a journal; a chunk is
// written by itself when it is full, or some minutes later. What is read is what is on the disk. A sample belongs to a series, which keeps its
// identity when its point is renamed or removed.
package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"arithmon/internal/record/database"
	"arithmon/internal/record/history/chunk"
)

// Folder is where the files stand within the data directory.
const Folder = "history"

// Options say what a History keeps, and where.
type Options struct {
	Dir  string           // the data directory
	Keep time.Duration    // months that ended longer ago are removed; 0: none by their age
	Most int64            // bytes of all files; the oldest month goes when there are more; 0: no limit
	Log  *slog.Logger     // nil discards
	Now  func() time.Time // nil: time.Now
	Late time.Duration    // how long what is new may wait for the disk (default 1s); a test waits for Flush instead with a negative one
}

// NotRecorded is the reason of a sample that only says that nothing was recorded from then on.
const NotRecorded = "not-recorded"

// History is an open history. It is safe for concurrent use.
type History struct {
	opened  int64 // when, in milliseconds since 1970
	options Options
	dir     string
	id      string // of this history; every file of it has it

	mu       sync.Mutex
	series   map[string]*Series // by tag, those that go on
	gone     map[string]*Series // by tag, those whose points were removed, the last of each tag
	byID     map[int64]*Series  // all
	last     int64              // id given to a series
	dirty    []*Series          // that have something which is not on the disk
	unfolded []*Series          // whose chunk has more in the journal than in its own row, the longest first
	waiting  int                // bytes that are not on the disk
	lost     loss               // samples for which there was no room, and which is not on the disk
	fault    error              // of the last flush
	broken   error              // why there is no catalogue yet
	missed   []followed         // meanwhile
	since    time.Time          // of the fault
	figures  Figures
	recorded bool   // anything, so that a run is kept
	month    string // that is written; "" while none is

	catalogue *catalogue
	flushing  sync.Mutex
	current   *file     // of this month; guarded by flushing
	beaten    time.Time // likewise
	files     files
	readings  readings
	clock     clock
	foldAfter int64 // flushes after which a chunk gets a row, though it is not full
	foldEvery int64 // flushes between two looks at that

	closing chan struct{}
	once    sync.Once
	running sync.WaitGroup
}

// Figures say how the recording goes.
type Figures struct {
	Series  int   // that there are
	Samples int64 // taken since the start
	Lost    int64 // of them, those that the disk could not keep up with
	LostAt  time.Time
	Bytes   int64 // of all files
	Waiting int   // bytes that are not on the disk yet
	Since   time.Time
	Fault   string // why nothing can be written now
	Kind    error  // of the fault: one of those of package database, or nil
	Files   []File
}

// mostWaiting is how many bytes may wait for the disk.
const mostWaiting = 64 << 20

// Series is what is recorded of one point.
type Series struct {
	ID      int64
	Tag     string
	Removed time.Time // when its point went; zero while it is there

	open     chunk.Appender
	ordinal  int64    // of the open chunk within the file, on top of base
	base     int64    // what the file has of the series already; unknown before it was looked up
	journal  int      // bytes of the open chunk that are on the disk
	sealed   []sealed // full chunks that are not on the disk
	dirty    bool
	unfolded bool
	batch    int64 // of the journal, the first that has something which is not in the row
}

// unknown is the base of a series that was not looked up in the file.
const unknown = -1

// sealed is a chunk that is full.
type sealed struct {
	ordinal int64
	bytes   []byte
	summary chunk.Summary
	shown   int // bytes that are on the disk
}

// Open opens the history in a data directory, and makes it when there is none. Where that cannot be, and where a file is damaged, missing or not of
// this history, Figures says so; what cannot be opened now is tried again with every flush.
func Open(ctx context.Context, o Options) *History {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	o.Late = cmp.Or(o.Late, time.Second)
	h := &History{options: o, opened: o.Now().UnixMilli(), dir: filepath.Join(o.Dir, Folder), series: map[string]*Series{}, gone: map[string]*Series{}, byID: map[int64]*Series{}, closing: make(chan struct{}), clock: clock{began: o.Now()}, foldAfter: 240, foldEvery: 16}
	if err := h.open(ctx); err != nil {
		h.broken, h.fault, h.since = err, err, o.Now()
		o.Log.Error("the history cannot be opened; nothing is recorded until it can", "error", err)
	}
	if o.Late > 0 {
		h.running.Go(h.run)
	}
	return h
}

// open opens the catalogue, and looks at the months.
func (h *History) open(ctx context.Context) error {
	if err := os.MkdirAll(h.dir, 0o750); err != nil {
		return fmt.Errorf("history %s: %w", h.dir, database.Named(err))
	}
	if err := h.openCatalogue(ctx); err != nil {
		return fmt.Errorf("history %s: %w", h.dir, database.Named(err))
	}
	h.survey(ctx)
	return nil
}

// mend opens what could not be opened before; the lock of flushing is held.
func (h *History) mend(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.broken == nil {
		return nil
	}
	if err := h.open(ctx); err != nil {
		return err
	}
	h.broken = nil
	for _, f := range h.missed {
		h.follow(f.change, f.moves, f.gone)
	}
	h.missed = nil
	return nil
}

// followed is a change of the site that was to be followed.
type followed struct {
	change int64
	moves  []Move
	gone   []string
}

// Close puts on the disk what is not, and closes the files.
func (h *History) Close() error {
	h.once.Do(func() { close(h.closing) })
	h.running.Wait()
	err := h.Flush(context.Background())
	h.flushing.Lock()
	defer h.flushing.Unlock()
	if h.current != nil {
		err = errors.Join(err, h.leave(context.Background()))
	}
	h.readings.dropAll()
	if h.catalogue == nil {
		return err
	}
	return errors.Join(err, h.catalogue.close())
}

func (h *History) run() {
	ticker := time.NewTicker(h.options.Late)
	defer ticker.Stop()
	upkeep := time.NewTicker(upkeepEvery)
	defer upkeep.Stop()
	for {
		select {
		case <-h.closing:
			return
		case <-ticker.C:
			_ = h.Flush(context.Background()) // it is tried again, and Figures says so
		case <-upkeep.C:
			h.upkeep(context.Background())
		}
	}
}

// Add takes a sample of a point. It does not wait for the disk; false says that there is no room and the sample is lost, which is counted.
func (h *History) Add(tag string, line chunk.Line, x chunk.Sample) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.figures.Samples++
	h.recorded = true
	if h.waiting > mostWaiting || h.broken != nil {
		h.lost.add(x.Time)
		h.figures.Lost++
		h.figures.LostAt = h.options.Now()
		return false
	}
	s := h.series[tag]
	if s == nil {
		s = h.begin(tag)
	}
	s.open.Line = line
	before := len(s.open.Bytes())
	s.open.Add(x)
	h.waiting += len(s.open.Bytes()) - before
	if !s.dirty {
		s.dirty = true
		h.dirty = append(h.dirty, s)
	}
	if len(s.open.Bytes()) >= h.full() || s.open.Summary().Count >= mostSamples {
		s.seal()
	}
	return true
}

// Lost counts samples that were lost before they came here, such as in a queue that was full.
func (h *History) Lost(n uint64, at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.lost.add(at.UnixMilli())
	h.lost.count += int64(n) - 1
	h.figures.Lost += int64(n)
	h.figures.LostAt = h.options.Now()
}

// The size of a chunk: large ones are quicker to draw and smaller, and all open ones together are kept in memory.
const (
	chunkMemory = 64 << 20
	leastChunk  = 512
	mostChunk   = 4000
	mostSamples = 4096
	foldAtLeast = 1024 // chunks then
)

// full is how many bytes make a chunk full; the lock is held.
func (h *History) full() int {
	return max(leastChunk, min(mostChunk, chunkMemory/max(1, len(h.series))))
}

// begin makes a series; the lock is held.
func (h *History) begin(tag string) *Series {
	if s := h.gone[tag]; s != nil { // its point was removed, and is there again
		s.Removed = time.Time{}
		h.series[tag] = s
		delete(h.gone, tag)
		h.catalogue.changed(s)
		return s
	}
	h.last++
	s := &Series{ID: h.last, Tag: tag, base: unknown}
	h.series[tag], h.byID[s.ID] = s, s
	h.catalogue.changed(s)
	return s
}

// seal ends the open chunk; the history's lock is held.
func (s *Series) seal() {
	if s.open.Summary().Count == 0 {
		return
	}
	s.sealed = append(s.sealed, sealed{s.ordinal, s.open.Bytes(), s.open.Summary(), s.journal})
	s.ordinal++
	s.open, s.journal = chunk.Appender{Line: s.open.Line}, 0
}

// loss counts samples that are lost.
type loss struct {
	began, ended int64
	count        int64
}

func (l *loss) add(at int64) {
	if l.count == 0 {
		l.began, l.ended = at, at
	}
	l.count++
	l.began, l.ended = min(l.began, at), max(l.ended, at)
}

// Find lists the series whose tags fit any of the patterns, by tag; of a tag that several had, the one that goes on, or went last.
func (h *History) Find(match func(tag string) bool) (list []Series) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, all := range []map[string]*Series{h.series, h.gone} {
		for tag, s := range all {
			if match(tag) && (h.series[tag] == nil || h.series[tag] == s) {
				list = append(list, Series{ID: s.ID, Tag: tag, Removed: s.Removed})
			}
		}
	}
	slices.SortFunc(list, func(a, b Series) int { return cmp.Compare(a.Tag, b.Tag) })
	return list
}

// Move is a tag that became another one.
type Move struct{ From, To string }

// Follow follows a change of the site, of a number: points that were renamed, whose series go on under the new tags, and points that are gone,
// whose series stay as they are.
func (h *History) Follow(change int64, moves []Move, gone []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.broken != nil {
		h.missed = append(h.missed, followed{change, moves, gone})
		return
	}
	h.follow(change, moves, gone)
}

func (h *History) follow(change int64, moves []Move, gone []string) {
	now := h.options.Now()
	h.rename(moves, now)
	for _, tag := range gone {
		if s := h.series[tag]; s != nil {
			delete(h.series, tag)
			h.end(s, now)
		}
	}
	if change > 0 {
		h.catalogue.now = change
	}
}

// Followed is the number of the change of the site up to which the history knows what became of points.
func (h *History) Followed() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.catalogue == nil {
		return 0
	}
	return h.catalogue.now
}

func (h *History) rename(moves []Move, now time.Time) {
	aside := map[string]*Series{} // that had a tag which another one took
	for _, m := range moves {
		s := aside[m.From]
		if delete(aside, m.From); s == nil {
			s = h.series[m.From]
			delete(h.series, m.From)
		}
		if other := h.series[m.To]; other != nil {
			aside[m.To] = other
			delete(h.series, m.To)
		}
		if s != nil {
			s.Tag = m.To
			h.series[m.To] = s
			h.catalogue.changed(s)
		}
	}
	for _, s := range aside {
		h.end(s, now)
	}
}

// end notes that the point of a series is gone; the lock is held.
func (h *History) end(s *Series, now time.Time) {
	s.Removed = now
	h.gone[s.Tag] = s
	h.catalogue.changed(s)
}

// Figures say how the recording goes.
func (h *History) Figures() Figures {
	files := h.files.list()
	h.mu.Lock()
	defer h.mu.Unlock()
	f := h.figures
	f.Series, f.Waiting, f.Files, f.Since = len(h.byID), h.waiting, files, h.since
	if h.fault != nil {
		f.Fault = h.fault.Error()
		for _, kind := range []error{database.ErrFull, database.ErrUnreadable, database.ErrForbidden, database.ErrGone} {
			if errors.Is(h.fault, kind) {
				f.Kind = kind
			}
		}
	}
	for _, x := range files {
		f.Bytes += x.Bytes
	}
	return f
}
