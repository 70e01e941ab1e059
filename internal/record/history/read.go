package history

import (
	"cmp"
	"context"
	"database/sql"
	"hash/crc32"
	"math"
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/record/history/chunk"
)

// Span is a stretch of time, in milliseconds since 1970: from From on, and before To.
type Span struct{ From, To int64 }

// Gap is a stretch in which nothing was recorded of any point, or not all.
type Gap struct {
	Span
	Why  string // GapStopped or GapBehind
	Lost int64  // samples, where that is known
}

// Why there is a Gap.
const (
	GapStopped = "stopped" // the service did not run
	GapBehind  = "behind"  // the disk could not keep up, or was full
)

// part is a chunk that may have samples of a span.
type part struct {
	id       int64
	summary  chunk.Summary
	imported bool
	crc      uint32
	bytes    []byte // of one that is in memory
	place    int64  // of its row, 0 of one that still grew
	load     func(ctx context.Context, p *part) (sql.RawBytes, error)
	month    string
}

// lookup is a look at a series over some time.
type lookup struct {
	h     *History
	parts []part // by the time at which they begin
	done  []func()
}

func (r *lookup) close() {
	for _, done := range r.done {
		done()
	}
}

// snapshot is what memory has of a series that is on the disk: the chunks that are not, or not whole, in rows of their own.
func (h *History) snapshot(id int64) (list []part, limit int64, month string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.byID[id]
	if s == nil || s.base == unknown {
		return nil, firstImported, ""
	}
	for _, c := range s.sealed {
		if c.shown > 0 {
			list = append(list, part{id: chunkID(id, s.base+c.ordinal), bytes: c.bytes[:c.shown]})
		}
	}
	if s.journal > 0 {
		list = append(list, part{id: chunkID(id, s.base+s.ordinal), bytes: s.open.Bytes()[:s.journal]})
	}
	return list, s.base + s.ordinal, h.month
}

// look begins to read a series over a span; the caller closes it.
func (h *History) look(ctx context.Context, id int64, span Span) (*lookup, error) {
	r := &lookup{h: h}
	memory, limit, month := h.snapshot(id)
	for i := range memory {
		p := &memory[i]
		a, err := chunk.Resume(p.bytes)
		if err != nil {
			return nil, err
		}
		p.summary, p.month = a.Summary(), month
	}
	for _, f := range h.files.list() {
		if f.From.IsZero() || f.From.UnixMilli() >= span.To || f.To.UnixMilli() < span.From {
			continue
		}
		last := int64(firstImported)
		if f.Month == month {
			last = limit
		}
		if err := r.file(ctx, f.Month, id, span, last, memory); err != nil {
			if ctx.Err() != nil {
				r.close()
				return nil, ctx.Err()
			}
			h.files.spoil(f.Month, err)
		}
	}
	for _, p := range memory {
		if p.summary.First < span.To && p.summary.Last >= span.From {
			r.parts = append(r.parts, p)
		}
	}
	slices.SortFunc(r.parts, func(a, b part) int {
		return cmp.Or(cmp.Compare(a.summary.First, b.summary.First), cmp.Compare(a.month, b.month), cmp.Compare(a.id, b.id))
	})
	return r, nil
}

const summaryColumns = "id, first, last, count, good, bad, least, most, sum, latest, kind, ordered, imported, crc, place"

// file adds the parts that are in the file of a month.
func (r *lookup) file(ctx context.Context, month string, id int64, span Span, last int64, memory []part) error {
	open, done, err := r.h.readings.month(month, r.h.path(month))
	if err != nil {
		return err
	}
	r.done = append(r.done, done)
	db := open.db
	rows, err := db.QueryContext(ctx, "SELECT "+summaryColumns+" FROM summary WHERE (id BETWEEN ?1 AND ?2 OR id BETWEEN ?3 AND ?4) AND last >= ?5 AND first < ?6",
		chunkID(id, 0), chunkID(id, last), chunkID(id, firstImported), chunkID(id+1, 0)-1, span.From, span.To)
	if err != nil {
		return err
	}
	defer rows.Close()
	load := func(ctx context.Context, p *part) (b sql.RawBytes, err error) {
		row, at := open.whole, p.place
		if at == 0 {
			if row, err = db.PrepareContext(ctx, bodyOf); err != nil {
				return nil, err
			}
			defer row.Close()
			at = p.id
		}
		var bytes []byte
		err = row.QueryRowContext(ctx, at).Scan(&bytes)
		return bytes, err
	}
	for rows.Next() {
		p, err := scanPart(rows)
		if err != nil {
			return err
		}
		if p.month, p.load = month, load; !slices.ContainsFunc(memory, func(m part) bool { return m.id == p.id && m.month == month }) {
			r.parts = append(r.parts, p)
		}
	}
	return rows.Err()
}

func scanPart(rows *sql.Rows) (p part, err error) {
	var least, most, sum, latest sql.NullFloat64
	s := &p.summary
	err = rows.Scan(&p.id, &s.First, &s.Last, &s.Count, &s.Good, &s.Bad, &least, &most, &sum, &latest, &s.Kind, &s.Ordered, &p.imported, &p.crc, &p.place)
	s.Least, s.Most, s.Sum, s.Latest = number(least), number(most), number(sum), number(latest)
	return p, err
}

func number(f sql.NullFloat64) float64 {
	if f.Valid {
		return f.Float64
	}
	return math.NaN()
}

// read gives the bytes of a part; none of one that is damaged, which is noted.
func (r *lookup) read(ctx context.Context, p *part) ([]byte, error) {
	if p.bytes != nil {
		return p.bytes, nil
	}
	b, err := p.load(ctx, p)
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err == nil && crc32.ChecksumIEEE(b) != p.crc:
		err = chunk.ErrDamaged
	}
	if err != nil {
		r.h.files.spoil(p.month, err)
		return nil, nil
	}
	return b, nil
}

// Recorded is a sample as it was recorded.
type Recorded struct {
	chunk.Sample
	Imported bool // from elsewhere
}

// Each calls visit with the samples of a series in a span, by their times, until it returns false. Where nothing was recorded after a
// sample, there is one that says so (NotRecorded).
func (h *History) Each(ctx context.Context, id int64, span Span, visit func(Recorded) bool) error {
	r, err := h.look(ctx, id, span)
	if err != nil {
		return err
	}
	defer r.close()
	gaps, err := h.Gaps(ctx, span)
	if err != nil {
		return err
	}
	known := false                     // something was recorded, and not yet said that it is not any more
	ended := func(before int64) bool { // says where recording ended until then
		for len(gaps) > 0 && gaps[0].From < before {
			if known && gaps[0].From >= span.From {
				known = false
				if !visit(Recorded{Sample: chunk.Sample{Time: gaps[0].From, Source: chunk.NoTime, Reason: NotRecorded}}) {
					return false
				}
			}
			gaps = gaps[1:]
		}
		return true
	}
	emit := func(x Recorded) bool {
		if !ended(x.Time) {
			return false
		}
		known = known && x.Imported || !x.Imported && x.Reason != NotRecorded
		return visit(x)
	}
	type ranked struct {
		Recorded
		id int64
	}
	var held []ranked
	for i := range r.parts {
		if err := ctx.Err(); err != nil {
			return err
		}
		p := &r.parts[i]
		ready := 0 // of those held, which are before everything that comes
		for ready < len(held) && held[ready].Time < p.summary.First {
			ready++
		}
		for _, x := range held[:ready] {
			if !emit(x.Recorded) {
				return nil
			}
		}
		held = held[:copy(held, held[ready:])]
		bytes, err := r.read(ctx, p)
		if err != nil {
			return err
		}
		sorted := p.summary.Ordered && len(held) == 0
		of := chunk.Read(bytes)
		for of.Next() {
			if x := of.Sample(); x.Time >= span.From && x.Time < span.To {
				held = append(held, ranked{Recorded{*x, p.imported}, p.id})
			}
		}
		if of.Err() != nil {
			h.files.spoil(p.month, of.Err())
		}
		if !sorted {
			slices.SortStableFunc(held, func(a, b ranked) int { return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.id, b.id)) })
		}
	}
	for _, x := range held {
		if !emit(x.Recorded) {
			return nil
		}
	}
	ended(span.To)
	return nil
}

// Gaps lists the stretches in a span in which not everything was recorded, the earliest first. Before the first recording there is none.
func (h *History) Gaps(ctx context.Context, span Span) ([]Gap, error) {
	var runs []Span
	list := []Gap{}
	files := slices.DeleteFunc(h.files.list(), func(f File) bool { return f.From.IsZero() })
	for i, f := range files { // those of the span, and the ones before and after it: nothing may have been recorded from the one to the other
		if i+1 < len(files) && files[i+1].To.UnixMilli() < span.From || i > 0 && files[i-1].From.UnixMilli() >= span.To {
			continue
		}
		if err := h.gapsOf(ctx, f.Month, &runs, &list); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			h.files.spoil(f.Month, err)
		}
	}
	slices.SortFunc(runs, func(a, b Span) int { return cmp.Compare(a.From, b.From) })
	end := int64(math.MinInt64)
	for i, run := range runs {
		if i > 0 && run.From-end > shortGap {
			list = append(list, Gap{Span{end, run.From}, GapStopped, 0})
		}
		end = max(end, run.To)
	}
	if len(runs) > 0 && h.opened-end > shortGap { // since it was opened, nothing was recorded yet
		list = append(list, Gap{Span{end, h.options.Now().UnixMilli()}, GapStopped, 0})
	}
	list = slices.DeleteFunc(list, func(g Gap) bool { return g.From >= span.To || g.To < span.From })
	slices.SortFunc(list, func(a, b Gap) int { return cmp.Compare(a.From, b.From) })
	return list, nil
}

// shortGap is how long there may be nothing between two files of one run, in milliseconds.
const shortGap = 250

func (h *History) gapsOf(ctx context.Context, month string, runs *[]Span, gaps *[]Gap) error {
	open, done, err := h.readings.month(month, h.path(month))
	if err != nil {
		return err
	}
	defer done()
	rows, err := open.db.QueryContext(ctx, "SELECT began, ended, -1, '' FROM run WHERE first IS NOT NULL UNION ALL SELECT began, ended, count, why FROM loss")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var s Span
		var lost int64
		var why string
		if err := rows.Scan(&s.From, &s.To, &lost, &why); err != nil {
			return err
		}
		if lost < 0 {
			*runs = append(*runs, s)
		} else {
			*gaps = append(*gaps, Gap{s, why, lost})
		}
	}
	return rows.Err()
}

// Before is the last sample of a series before a time, recorded within some time before that; false when there is none.
func (h *History) Before(ctx context.Context, id, at, within int64) (found chunk.Sample, ok bool, err error) {
	r, err := h.look(ctx, id, Span{at - within, at})
	if err != nil {
		return found, false, err
	}
	defer r.close()
	slices.SortFunc(r.parts, func(a, b part) int { return cmp.Compare(b.summary.Last, a.summary.Last) })
	for i := range r.parts {
		p := &r.parts[i]
		if ok && p.summary.Last < found.Time {
			break
		}
		bytes, err := r.read(ctx, p)
		if err != nil {
			return found, false, err
		}
		for of := chunk.Read(bytes); of.Next(); {
			if x := of.Sample(); x.Time < at && x.Time >= at-within && (!ok || x.Time >= found.Time) {
				found, ok = *x, true
			}
		}
	}
	return found, ok, nil
}

// Held is the value that a series has at a time: that of its last sample before, recorded within some time before that; nothing when it was bad,
// when recording ended since, or when there is none. Times are in milliseconds since 1970.
func (h *History) Held(ctx context.Context, id, at, within int64) (v codec.Value, err error) {
	x, ok, err := h.Before(ctx, id, at, within)
	if err != nil || !ok || x.Quality == reading.Bad {
		return v, err
	}
	gaps, err := h.Gaps(ctx, Span{x.Time, at})
	if err != nil || slices.ContainsFunc(gaps, func(g Gap) bool { return g.From >= x.Time }) {
		return v, err
	}
	return x.Value, nil
}

// Count is about how many samples a series has in a span.
func (h *History) Count(ctx context.Context, id int64, span Span) (n int64, err error) {
	r, err := h.look(ctx, id, span)
	if err != nil {
		return 0, err
	}
	defer r.close()
	for i := range r.parts {
		s := &r.parts[i].summary
		part := 1.0
		if s.Last > s.First {
			part = float64(min(s.Last, span.To)-max(s.First, span.From)) / float64(s.Last-s.First)
		}
		n += int64(math.Round(part * float64(s.Count)))
	}
	return n, nil
}
