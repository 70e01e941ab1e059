package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"arithmon/internal/record/database"
	"arithmon/internal/record/history/chunk"
)

// upkeepEvery is how often it is seen what has become too old or too much.
const upkeepEvery = time.Minute

// clock tells a month that has become old from a clock that was set.
type clock struct {
	began time.Time // with what the machine counts by itself, which no setting changes
}

// The clock has to have run on for so long before anything is removed because of its age, and may be off by so much.
const (
	clockSteady = time.Hour
	clockOff    = time.Minute
)

// steady reports whether the clock was not set for a while; now has both counts, as time.Now does.
func (c *clock) steady(now time.Time) bool {
	counted := now.Sub(c.began)                     // by the machine's own count
	shown := now.Round(0).Sub(c.began.Round(0))     // by the clock
	if d := (shown - counted).Abs(); d > clockOff { // from now on this is how it is
		c.began = now
		return false
	}
	return counted > clockSteady
}

// upkeep removes months that are too old, or too much.
func (h *History) upkeep(ctx context.Context) {
	h.readings.drop("")
	now := h.options.Now()
	steady := h.clock.steady(now)
	h.flushing.Lock()
	current := ""
	if h.current != nil {
		current = h.current.month
	}
	h.flushing.Unlock()
	list := slices.DeleteFunc(h.files.list(), func(f File) bool { return f.Month >= current || f.Bytes == 0 }) // what is, or seems to be, still to come stays
	total := h.Figures().Bytes
	for _, f := range list {
		begins, err := time.Parse(monthForm, f.Month)
		if err != nil {
			continue
		}
		old := h.options.Keep > 0 && steady && now.Sub(begins.AddDate(0, 1, 0)) > h.options.Keep
		much := h.options.Most > 0 && total > h.options.Most
		if !old && !much {
			continue
		}
		why := "it is older than what is kept"
		if !old {
			why = "the history is larger than it may be"
		}
		if err := h.RemoveMonth(ctx, f.Month); err != nil {
			h.options.Log.Error("a month of the history could not be removed", "month", f.Month, "error", err)
			continue
		}
		total -= f.Bytes
		h.options.Log.Info("a month of the history was removed", "month", f.Month, "why", why, "bytes", f.Bytes)
	}
	if h.options.Most > 0 && total > h.options.Most && current != "" {
		if err := h.thin(ctx, total); err != nil {
			h.options.Log.Error("the history is larger than it may be, and the oldest of this month could not be removed", "error", err)
		}
	}
}

// thin removes the oldest tenth of this month, where all that there is room for is less than a month. The file stays as large as it is, and
// what is free in it is used again.
func (h *History) thin(ctx context.Context, total int64) error {
	h.flushing.Lock()
	defer h.flushing.Unlock()
	db := h.current.db
	var free, page int64
	if err := db.QueryRowContext(ctx, "PRAGMA freelist_count").Scan(&free); err != nil {
		return err
	}
	if err := db.QueryRowContext(ctx, "PRAGMA page_size").Scan(&page); err != nil {
		return err
	}
	if total-free*page <= h.options.Most {
		return nil
	}
	from, to, err := h.current.span(ctx)
	if err != nil {
		return err
	}
	before := from.Add(to.Sub(from) / 10).UnixMilli()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	for _, statement := range []string{
		"DELETE FROM chunk WHERE place IN (SELECT place FROM summary WHERE last < ?1 AND place > 0)", "DELETE FROM summary WHERE last < ?1 AND place > 0",
		"DELETE FROM run WHERE last < ?1", "UPDATE run SET first = max(first, ?1), began = max(began, ?1)", "UPDATE imported SET first = max(first, ?1), last = max(last, ?1)",
	} {
		if _, err := tx.ExecContext(ctx, statement, before); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	h.options.Log.Info("the oldest of this month was removed from the history, which is larger than it may be", "before", time.UnixMilli(before).UTC())
	h.note(ctx)
	return nil
}

// ErrNoMonth says that there is no such month; ErrCurrent that it is written now.
var (
	ErrNoMonth = errors.New("there is no such month in the history")
	ErrCurrent = errors.New("is the month that is recorded now, which cannot be removed")
)

// RemoveMonth removes the file of a month, or says that one that is gone is meant to be.
func (h *History) RemoveMonth(ctx context.Context, month string) error {
	h.flushing.Lock()
	defer h.flushing.Unlock()
	if h.current != nil && h.current.month == month {
		return fmt.Errorf("%s %w", month, ErrCurrent)
	}
	if !slices.ContainsFunc(h.files.list(), func(f File) bool { return f.Month == month }) {
		return fmt.Errorf("%w: %s", ErrNoMonth, month)
	}
	h.readings.drop(month)
	for _, rest := range []string{"-wal", "-shm", ""} {
		if err := os.Remove(h.path(month) + rest); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return database.Named(err)
		}
	}
	h.files.remove(month)
	delete(h.catalogue.known, month)
	return database.Named(h.catalogue.month(ctx, month, false))
}

// Import adds samples from elsewhere to the series of a tag, and makes one when there is none. Those that the series has already, with the same
// time, value and quality, are left out, so that the same file may be imported again. It returns how many were added.
func (h *History) Import(ctx context.Context, tag string, samples []chunk.Sample) (added int, err error) {
	if len(samples) == 0 {
		return 0, nil
	}
	slices.SortStableFunc(samples, func(a, b chunk.Sample) int { return cmp.Compare(a.Time, b.Time) })
	h.mu.Lock()
	if h.broken != nil {
		defer h.mu.Unlock()
		return 0, h.broken
	}
	s := h.series[tag]
	if s == nil {
		s = h.begin(tag)
	}
	id := s.ID
	h.mu.Unlock()
	type key struct {
		time int64
		what chunk.Sample
	}
	have := map[key]bool{}
	if err := h.Each(ctx, id, Span{samples[0].Time, samples[len(samples)-1].Time + 1}, func(x Recorded) bool {
		have[key{x.Time, plain(x.Sample)}] = true
		return true
	}); err != nil {
		return 0, err
	}
	months := map[string][]chunk.Sample{}
	for _, x := range samples {
		if k := (key{x.Time, plain(x)}); !have[k] {
			have[k] = true
			month := x.At().Format(monthForm)
			months[month] = append(months[month], x)
		}
	}
	h.flushing.Lock()
	defer h.flushing.Unlock()
	if err := h.saveCatalogue(ctx); err != nil {
		return 0, database.Named(err)
	}
	for month, list := range months {
		if err := h.importMonth(ctx, month, id, tag, list); err != nil {
			return added, fmt.Errorf("%s: %w", month, database.Named(err))
		}
		added += len(list)
	}
	return added, nil
}

// plain is what two samples have to have in common to be the same.
func plain(x chunk.Sample) chunk.Sample {
	return chunk.Sample{Time: x.Time, Value: x.Value, Quality: x.Quality}
}

// importMonth puts samples of one month into its file.
func (h *History) importMonth(ctx context.Context, month string, id int64, tag string, list []chunk.Sample) error {
	f := h.current
	if f == nil || f.month != month {
		var err error
		if f, err = openFile(ctx, h.path(month), h.id, month); err != nil {
			return err
		}
		defer func() {
			_, _ = f.db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)") // done when it is opened next, otherwise
			x := File{Month: month, Bytes: sizeOf(f.path)}
			x.From, x.To, _ = f.span(ctx)
			f.db.Close()
			h.files.set(x)
		}()
		if err := h.catalogue.month(ctx, month, true); err != nil {
			return err
		}
	}
	tx, err := f.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	var next int64
	if err := tx.QueryRowContext(ctx, "SELECT coalesce(max(id) + 1, ?1) FROM summary WHERE id BETWEEN ?1 AND ?2", chunkID(id, firstImported), chunkID(id+1, 0)-1).Scan(&next); err != nil {
		return err
	}
	to, err := newPutter(ctx, tx)
	if err != nil {
		return err
	}
	a := &chunk.Appender{}
	end := func() error {
		s := a.Summary()
		if s.Count == 0 {
			return nil
		}
		err := to.put(next, a.Bytes(), &s, true, true)
		next++
		a = &chunk.Appender{}
		return err
	}
	for _, x := range list {
		if a.Add(x); len(a.Bytes()) >= mostChunk || a.Summary().Count >= mostSamples {
			if err := end(); err != nil {
				return err
			}
		}
	}
	if err := end(); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO series VALUES (?, ?)", id, tag); err != nil {
		return err
	}
	// Not a run of the recording, but the file has samples from then to then.
	if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO imported VALUES (1, min(?1, coalesce((SELECT first FROM imported), ?1)), max(?2, coalesce((SELECT last FROM imported), ?2)))", list[0].Time, list[len(list)-1].Time); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	if f == h.current {
		h.note(ctx)
	}
	return nil
}
