package history

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"arithmon/internal/record/database"
	"arithmon/internal/record/history/chunk"
)

// work is what a flush puts on the disk.
type work struct {
	series []*Series
	sealed [][]sealed // of each
	open   []piece    // likewise; without bytes where nothing is new
	fold   []*Series
	bodies []sealed // of each in fold
	keep   int64    // what the journal has before this batch is not needed afterwards; 0: that is not known
	lost   loss
	all    bool  // the file is left, so that what is folded does not grow any more
	first  int64 // of the samples
	last   int64
	any    bool
}

// Flush puts on the disk what was taken. Its error says that some of it is not there; it is kept, and tried again.
func (h *History) Flush(ctx context.Context) error {
	h.flushing.Lock()
	defer h.flushing.Unlock()
	err := database.Named(h.flush(ctx))
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case err != nil && h.fault == nil:
		h.since = h.options.Now()
		h.options.Log.Error("the history cannot be written; it is kept in memory and tried again", "error", err)
	case err == nil && h.fault != nil:
		h.options.Log.Info("the history is written again")
	}
	h.fault = err
	return err
}

func (h *History) flush(ctx context.Context) error {
	if err := h.mend(ctx); err != nil {
		return err
	}
	h.mu.Lock()
	idle := len(h.dirty) == 0 && h.lost.count == 0 && len(h.catalogue.pending) == 0 && h.catalogue.now == h.catalogue.change
	h.mu.Unlock()
	now := h.options.Now()
	if idle && (h.current == nil || h.current.month == now.UTC().Format(monthForm)) {
		return h.beat(ctx)
	}
	if err := h.saveCatalogue(ctx); err != nil {
		return err
	}
	if err := h.turn(ctx); err != nil {
		return err
	}
	if err := h.lookUp(ctx); err != nil {
		return err
	}
	w := h.gather(false)
	if err := h.write(ctx, &w); err != nil {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.again(&w)
		return err
	}
	h.written(&w)
	return nil
}

// beat notes that the recording still runs, though nothing came.
func (h *History) beat(ctx context.Context) error {
	h.mu.Lock()
	recorded := h.recorded
	h.mu.Unlock()
	now := h.options.Now()
	if h.current == nil || !recorded || now.Sub(h.beaten).Abs() < beatEvery {
		return nil
	}
	h.beaten = now
	if err := h.current.present(); err != nil {
		h.drop()
		return err
	}
	_, err := h.current.db.ExecContext(ctx, "UPDATE run SET ended = max(ended, ?) WHERE id = ?", now.UnixMilli(), h.current.run)
	return err
}

// beatEvery is how often it is noted that the recording runs, when nothing else is.
const beatEvery = 5 * time.Second

// drop lets go of a file that is not the one in the folder any more; all that is not in it begins anew in the next one.
func (h *History) drop() {
	h.readings.drop(h.current.month)
	h.current.db.Close()
	h.current = nil
	h.restart("")
}

// present says whether the file is still the one in the folder.
func (f *file) present() error {
	now, err := os.Stat(f.path)
	if err != nil || f.is != nil && !os.SameFile(now, f.is) {
		return fmt.Errorf("%s: %w", f.path, database.ErrGone)
	}
	return nil
}

// turn opens the file of this month, and leaves the one before.
func (h *History) turn(ctx context.Context) error {
	month := h.options.Now().UTC().Format(monthForm)
	if h.current != nil {
		if err := h.current.present(); err != nil {
			h.drop()
			return err
		}
		if h.current.month == month {
			return nil
		}
		if err := h.leave(ctx); err != nil {
			return err
		}
	}
	f, err := openFile(ctx, h.path(month), h.id, month)
	if errors.Is(err, errDamaged) || errors.Is(err, errForeign) || errors.Is(err, errMisnamed) {
		aside := fmt.Sprintf("%s.aside-%d", h.path(month), h.options.Now().Unix())
		h.options.Log.Error("the file of this month cannot be written; it was put aside and a new one is begun", "month", month, "error", err, "aside", aside)
		for _, rest := range []string{"", "-wal", "-shm"} {
			if err := os.Rename(h.path(month)+rest, aside+rest); err != nil && rest == "" {
				return err
			}
		}
		f, err = openFile(ctx, h.path(month), h.id, month)
	}
	if err != nil {
		return err
	}
	if err := f.recover(ctx); err != nil {
		f.db.Close()
		return err
	}
	now := h.options.Now().UnixMilli()
	result, err := f.db.ExecContext(ctx, "INSERT INTO run (began, ended) VALUES (?, ?)", now, now)
	if err == nil {
		f.run, err = result.LastInsertId()
	}
	if err == nil {
		err = f.db.QueryRowContext(ctx, "SELECT coalesce(max(batch), 0) + 1 FROM journal").Scan(&f.next)
	}
	if err == nil {
		err = h.catalogue.month(ctx, month, true)
	}
	if err != nil {
		f.db.Close()
		return err
	}
	h.current = f
	h.note(ctx)
	h.restart(month)
	return nil
}

// note says what is in the file that is written.
func (h *History) note(ctx context.Context) {
	x := File{Month: h.current.month, Bytes: sizeOf(h.current.path)}
	x.From, x.To, _ = h.current.span(ctx) // the next one says it
	h.files.set(x)
}

// restart begins all chunks anew, after what is on the disk of them.
func (h *History) restart(month string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.month = month
	for _, s := range h.byID {
		s.restart()
	}
	h.unfolded = nil
	h.recount()
}

// restart lets the series go on in another file, with what is not on the disk.
func (s *Series) restart() {
	s.unfolded, s.base = false, unknown
	if s.journal > 0 { // what was journalled is in the other file
		s.open = rest(s.open.Bytes(), s.journal, s.open.Line)
	}
	s.journal = 0
	for i := range s.sealed {
		c := &s.sealed[i]
		if c.ordinal = int64(i); c.shown > 0 {
			of := rest(c.bytes, c.shown, chunk.Line{})
			c.bytes, c.summary, c.shown = of.Bytes(), of.Summary(), 0
		}
	}
	s.ordinal = int64(len(s.sealed))
}

// rest is a chunk of the samples that stand after the first bytes of another one.
func rest(of []byte, shown int, line chunk.Line) (a chunk.Appender) {
	a.Line = line
	for r := chunk.Read(of); r.Next(); {
		if r.Offset() > shown {
			a.Add(*r.Sample())
		}
	}
	return a
}

// recount counts the bytes that wait; the lock is held.
func (h *History) recount() {
	h.waiting = 0
	for _, s := range h.byID {
		h.waiting += len(s.open.Bytes()) - s.journal
		for _, c := range s.sealed {
			h.waiting += len(c.bytes) - c.shown
		}
	}
}

// leave ends the file of a month: every chunk goes into a row of its own.
func (h *History) leave(ctx context.Context) error {
	if err := h.lookUp(ctx); err != nil {
		return err
	}
	w := h.gather(true)
	if err := h.write(ctx, &w); err != nil {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.again(&w)
		return err
	}
	h.written(&w)
	_, err := h.current.db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)")
	h.note(ctx)
	err = errors.Join(err, h.current.db.Close())
	h.current = nil
	h.restart("")
	return err
}

// lookUp finds what the file has of series that are new to it.
func (h *History) lookUp(ctx context.Context) error {
	h.mu.Lock()
	var fresh []*Series
	for _, s := range h.dirty {
		if s.base == unknown {
			fresh = append(fresh, s)
		}
	}
	h.mu.Unlock()
	if len(fresh) == 0 {
		return nil
	}
	tx, err := h.current.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	find, err := tx.PrepareContext(ctx, "SELECT max(id) FROM summary WHERE id BETWEEN ? AND ?")
	if err != nil {
		return err
	}
	name, err := tx.PrepareContext(ctx, "INSERT OR REPLACE INTO series VALUES (?, ?)")
	if err != nil {
		return err
	}
	bases := make([]int64, len(fresh))
	for i, s := range fresh {
		var last sql.NullInt64
		if err := find.QueryRowContext(ctx, chunkID(s.ID, 0), chunkID(s.ID, firstImported-1)).Scan(&last); err != nil {
			return err
		}
		if last.Valid {
			bases[i] = last.Int64 - chunkID(s.ID, 0) + 1
		}
		h.mu.Lock()
		tag := s.Tag
		h.mu.Unlock()
		if _, err := name.ExecContext(ctx, s.ID, tag); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, s := range fresh {
		s.base = bases[i]
	}
	return nil
}

// gather takes what is to be written; with all, every chunk gets its row.
func (h *History) gather(all bool) (w work) {
	h.mu.Lock()
	defer h.mu.Unlock()
	w.lost, h.lost, w.all = h.lost, loss{}, all
	for _, s := range h.dirty {
		s.dirty = false
		if s.base == unknown { // new since it was looked up
			s.dirty = true
			continue
		}
		w.series = append(w.series, s)
		w.sealed = append(w.sealed, s.sealed)
		p := piece{series: s.ID, ordinal: s.base + s.ordinal, offset: s.journal, bytes: s.open.Bytes()[s.journal:]}
		w.open = append(w.open, p)
		for _, c := range s.sealed {
			w.span(c.summary)
		}
		w.span(s.open.Summary())
		switch {
		case len(s.sealed) > 0: // what the journal has of it goes into rows with this
			s.batch = h.current.next
		case len(p.bytes) > 0 && !s.unfolded:
			s.batch = h.current.next
		}
		if len(p.bytes) > 0 && !s.unfolded {
			s.unfolded = true
			h.unfolded = append(h.unfolded, s)
		}
	}
	kept := h.dirty[:0]
	for _, s := range h.dirty {
		if s.dirty {
			kept = append(kept, s)
		}
	}
	clear(h.dirty[len(kept):])
	h.dirty = kept
	if all || h.current.next%h.foldEvery == 0 {
		h.fold(&w)
	}
	return w
}

// fold takes chunks that are to get rows of their own, and finds out what of the journal is needed after that; the lock is held.
func (h *History) fold(w *work) {
	now := h.current.next
	most := max(foldAtLeast, len(h.unfolded)*int(h.foldEvery)/int(h.foldAfter))
	w.keep = now + 1
	for _, s := range h.unfolded {
		if w.all || now-s.batch >= h.foldAfter && len(w.fold) < most {
			w.fold = append(w.fold, s)
			w.bodies = append(w.bodies, sealed{s.base + s.ordinal, s.open.Bytes(), s.open.Summary(), 0})
		} else {
			w.keep = min(w.keep, s.batch)
		}
	}
}

func (w *work) span(s chunk.Summary) {
	switch {
	case s.Count == 0:
	case !w.any:
		w.first, w.last, w.any = s.First, s.Last, true
	default:
		w.first, w.last = min(w.first, s.First), max(w.last, s.Last)
	}
}

// again notes what could not be written; the lock is held.
func (h *History) again(w *work) {
	for _, s := range w.series {
		if !s.dirty {
			s.dirty = true
			h.dirty = append(h.dirty, s)
		}
	}
	if w.lost.count > 0 {
		h.lost.add(w.lost.began)
		h.lost.add(w.lost.ended)
		h.lost.count += w.lost.count - 2
	}
}

// write puts w on the disk, in one transaction.
func (h *History) write(ctx context.Context, w *work) error {
	f := h.current
	tx, err := f.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	to, err := newPutter(ctx, tx)
	if err != nil {
		return err
	}
	var journal []byte
	for i, s := range w.series {
		for _, c := range w.sealed[i] {
			if c.summary.Count > 0 {
				if err := to.put(chunkID(s.ID, s.base+c.ordinal), c.bytes, &c.summary, true, false); err != nil {
					return err
				}
			}
		}
		if p := w.open[i]; len(p.bytes) > 0 {
			journal = appendPiece(journal, p)
		}
	}
	for i, s := range w.fold {
		if c := w.bodies[i]; c.summary.Count > 0 {
			if err := to.put(chunkID(s.ID, c.ordinal), c.bytes, &c.summary, w.all, false); err != nil {
				return err
			}
		}
	}
	if len(journal) > 0 {
		if _, err := tx.ExecContext(ctx, "INSERT INTO journal VALUES (?, ?)", f.next, sealBatch(journal)); err != nil {
			return err
		}
	}
	if w.keep > 0 {
		if _, err := tx.ExecContext(ctx, "DELETE FROM journal WHERE batch < ?", w.keep); err != nil {
			return err
		}
	}
	if w.lost.count > 0 {
		if _, err := tx.ExecContext(ctx, "INSERT INTO loss VALUES (?, ?, ?, ?)", w.lost.began, w.lost.ended, w.lost.count, "behind"); err != nil {
			return err
		}
	}
	first, last := any(nil), any(nil)
	if w.any {
		first, last = w.first, w.last
	}
	if _, err := tx.ExecContext(ctx, "UPDATE run SET ended = max(ended, ?), first = min(coalesce(first, ?2), coalesce(?2, first)), last = max(coalesce(last, ?3), coalesce(?3, last)) WHERE id = ?4",
		h.options.Now().UnixMilli(), first, last, f.run); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	if err := f.present(); err != nil {
		return err
	}
	f.next++
	return nil
}

// written notes what is on the disk.
func (h *History) written(w *work) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, s := range w.series {
		for _, c := range w.sealed[i] {
			h.waiting -= len(c.bytes) - c.shown
		}
		s.sealed = s.sealed[len(w.sealed[i]):]
		if len(s.sealed) == 0 {
			s.sealed = nil
		}
		p := w.open[i]
		h.waiting -= len(p.bytes)
		switch ordinal := p.ordinal - s.base; {
		case ordinal == s.ordinal:
			s.journal = p.offset + len(p.bytes)
		case len(s.sealed) > 0 && s.sealed[0].ordinal == ordinal: // full meanwhile
			s.sealed[0].shown = p.offset + len(p.bytes)
		}
	}
	for _, s := range w.fold {
		s.unfolded = false
	}
	if len(w.fold) > 0 {
		h.unfolded = slices.DeleteFunc(h.unfolded, func(s *Series) bool { return !s.unfolded })
	}
	x := File{Month: h.current.month, Bytes: sizeOf(h.current.path)}
	h.files.mu.Lock()
	was := h.files.all[x.Month]
	h.files.mu.Unlock()
	if x.From, x.To = was.From, was.To; w.any {
		first, last := chunk.Sample{Time: w.first}.At(), chunk.Sample{Time: w.last}.At()
		if x.From.IsZero() || first.Before(x.From) {
			x.From = first
		}
		if last.After(x.To) {
			x.To = last
		}
	}
	h.files.set(x)
}
