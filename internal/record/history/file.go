package history

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"

	"arithmon/internal/record/database"
	"arithmon/internal/record/history/chunk"
)

// monthForm is how months are named, in UTC; their files have .db behind it.
const monthForm = "2006-01"

var monthName = regexp.MustCompile(`^(\d{4,}-\d{2})\.db$`)

// File is what is known of the file of a month.
type File struct {
	Month string
	Bytes int64
	From  time.Time // of the samples in it; zero where there is none
	To    time.Time
	Fault string // why nothing is read from it; empty where it is
}

// Faults of the file of a month.
var (
	errMissing  = errors.New("it is gone. Put it back, or say that it is meant to be gone: arithmon history remove")
	errForeign  = errors.New("it belongs to another history, of which it was copied here; nothing is read from it. Take it out of the folder")
	errMisnamed = errors.New("it holds another month than its name says; nothing is read from it. Give it its own name again")
	errDamaged  = errors.New("it is damaged; what can be read of it is shown. Put a copy of it in its place, if there is one")
)

// files are what is known of the months.
type files struct {
	mu  sync.Mutex
	all map[string]File
}

func (f *files) set(x File) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.all == nil {
		f.all = map[string]File{}
	}
	f.all[x.Month] = x
}

// spoil notes a fault of a month that was found while it was read.
func (f *files) spoil(month string, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if x, ok := f.all[month]; ok && x.Fault == "" {
		x.Fault = errDamaged.Error() + " (" + err.Error() + ")"
		f.all[month] = x
	}
}

func (f *files) remove(month string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.all, month)
}

// list lists the months, the oldest first.
func (f *files) list() (list []File) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range f.all {
		list = append(list, x)
	}
	slices.SortFunc(list, func(a, b File) int {
		if a.Month < b.Month {
			return -1
		}
		return 1
	})
	return list
}

func (h *History) path(month string) string { return filepath.Join(h.dir, month+".db") }

// months lists the months that have files, the oldest first.
func (h *History) months() (names []string) {
	entries, _ := os.ReadDir(h.dir) // which was made
	for _, e := range entries {
		if m := monthName.FindStringSubmatch(e.Name()); m != nil {
			names = append(names, m[1])
		}
	}
	return names
}

// survey looks at all files that there are, and were.
func (h *History) survey(ctx context.Context) {
	there := map[string]bool{}
	for _, month := range h.months() {
		there[month] = true
		x := File{Month: month}
		if err := h.settle(ctx, month, &x); err != nil {
			x.Fault = err.Error()
			h.options.Log.Error("nothing is read from a month of the history", "month", month, "error", err)
		} else if !h.catalogue.known[month] {
			_ = h.catalogue.month(ctx, month, true) // noted again at the next start
		}
		x.Bytes = sizeOf(h.path(month))
		h.files.set(x)
	}
	for month := range h.catalogue.known {
		if !there[month] {
			h.files.set(File{Month: month, Fault: errMissing.Error()})
			h.options.Log.Error("a month of the history is missing", "month", month, "error", errMissing)
		}
	}
}

// settle brings the file of a month into order that a service left when it was killed, and says what is in it.
func (h *History) settle(ctx context.Context, month string, x *File) error {
	f, err := openFile(ctx, h.path(month), h.id, month)
	if err != nil {
		return err
	}
	defer f.db.Close()
	if err := f.recover(ctx); err != nil {
		if errors.Is(database.Named(err), database.ErrFull) {
			return database.Named(err)
		}
		return fmt.Errorf("%w (%w)", errDamaged, err)
	}
	if x.From, x.To, err = f.span(ctx); err != nil {
		return fmt.Errorf("%w (%w)", errDamaged, err)
	}
	if _, err := f.db.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		return database.Named(err)
	}
	return nil
}

func sizeOf(path string) (n int64) {
	for _, rest := range []string{"", "-wal"} {
		if i, err := os.Stat(path + rest); err == nil {
			n += i.Size()
		}
	}
	return n
}

// file is the file of a month, open to be written.
type file struct {
	db    *sql.DB
	month string
	path  string
	run   int64       // of the row that says when this run recorded
	is    os.FileInfo // as it was opened
	next  int64       // batch of the journal
}

const fileTables = `
CREATE TABLE IF NOT EXISTS meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS series (id INTEGER PRIMARY KEY, tag TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS summary (id INTEGER PRIMARY KEY, first INTEGER NOT NULL, last INTEGER NOT NULL, count INTEGER NOT NULL, good INTEGER NOT NULL, bad INTEGER NOT NULL,
	least REAL, most REAL, sum REAL, latest REAL, kind INTEGER NOT NULL, ordered INTEGER NOT NULL, imported INTEGER NOT NULL, crc INTEGER NOT NULL, place INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS chunk (place INTEGER PRIMARY KEY, body BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS open (id INTEGER PRIMARY KEY, body BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS journal (batch INTEGER PRIMARY KEY, body BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS run (id INTEGER PRIMARY KEY, began INTEGER NOT NULL, ended INTEGER NOT NULL, first INTEGER, last INTEGER);
CREATE TABLE IF NOT EXISTS loss (began INTEGER NOT NULL, ended INTEGER NOT NULL, count INTEGER NOT NULL, why TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS imported (id INTEGER PRIMARY KEY, first INTEGER NOT NULL, last INTEGER NOT NULL);`

// The ids of chunks: the series above, the number of the chunk below. Imported ones count from the middle.
const (
	seriesBits    = 32
	firstImported = 1 << 31
)

func chunkID(series, ordinal int64) int64 { return series<<seriesBits | ordinal }

// openFile opens the file of a month to be written, and makes it when there is none.
func openFile(ctx context.Context, path, history, month string) (*file, error) {
	_, err := os.Stat(path)
	fresh := errors.Is(err, fs.ErrNotExist)
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)&_pragma=page_size(8192)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=wal_autocheckpoint(2000)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	f := &file{db: db, path: path, month: month}
	if err := f.prepare(ctx, history, fresh); err != nil {
		db.Close()
		if fresh {
			os.Remove(path) // of which nothing came
		}
		return nil, err
	}
	f.is, _ = os.Stat(path)
	return f, nil
}

func (f *file) prepare(ctx context.Context, history string, fresh bool) error {
	if !fresh {
		id, month, err := owner(ctx, f.db)
		switch {
		case err == nil && id != history:
			return errForeign
		case err == nil && month != f.month:
			return errMisnamed
		case errors.Is(err, sql.ErrNoRows): // made, and nothing came into it
		case err != nil && database.OnDisk(database.Named(err)):
			return database.Named(err)
		case err != nil:
			return fmt.Errorf("%w (%w)", errDamaged, err)
		}
	}
	if _, err := f.db.ExecContext(ctx, fileTables); err != nil {
		return database.Named(err)
	}
	_, err := f.db.ExecContext(ctx, "INSERT OR IGNORE INTO meta (key, value) VALUES ('history', ?), ('month', ?)", history, f.month)
	return database.Named(err)
}

// owner says of which history and month a file is.
func owner(ctx context.Context, db *sql.DB) (history, month string, err error) {
	var tables int
	if err = db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE name = 'meta'").Scan(&tables); err != nil {
		return "", "", err
	} else if tables == 0 {
		return "", "", sql.ErrNoRows
	}
	if err = db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = 'history'").Scan(&history); err == nil {
		err = db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = 'month'").Scan(&month)
	}
	return history, month, err
}

// described says of which history a file is, and whose series are in it.
func described(ctx context.Context, path string) (id string, series map[int64]string, err error) {
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro&_pragma=busy_timeout(2000)")
	if err != nil {
		return "", nil, err
	}
	defer db.Close()
	if id, _, err = owner(ctx, db); err != nil {
		return "", nil, err
	}
	rows, err := db.QueryContext(ctx, "SELECT id, tag FROM series")
	if err != nil {
		return "", nil, err
	}
	defer rows.Close()
	series = map[int64]string{}
	for rows.Next() {
		var n int64
		var tag string
		if err := rows.Scan(&n, &tag); err != nil {
			return "", nil, err
		}
		series[n] = tag
	}
	return id, series, rows.Err()
}

// span is from when to when the samples of the file are.
func (f *file) span(ctx context.Context) (from, to time.Time, err error) {
	var first, last sql.NullInt64
	if err = f.db.QueryRowContext(ctx, "SELECT min(first), max(last) FROM (SELECT first, last FROM run UNION ALL SELECT first, last FROM imported)").Scan(&first, &last); err != nil || !first.Valid {
		return from, to, err
	}
	return time.UnixMilli(first.Int64).UTC(), time.UnixMilli(last.Int64).UTC(), nil
}

// putter writes chunks in a transaction. Those that are whole stand one behind the other, in the order in which they became so, which leaves no
// room between them; one that still grows has a row of its own meanwhile, by its id.
type putter struct {
	ctx                            context.Context
	summary, whole, growing, grown *sql.Stmt
}

func newPutter(ctx context.Context, tx *sql.Tx) (*putter, error) {
	p := &putter{ctx: ctx}
	for statement, to := range map[string]**sql.Stmt{
		"INSERT OR REPLACE INTO summary VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)": &p.summary, "INSERT INTO chunk (body) VALUES (?)": &p.whole,
		"INSERT OR REPLACE INTO open VALUES (?, ?)": &p.growing, "DELETE FROM open WHERE id = ?": &p.grown,
	} {
		var err error
		if *to, err = tx.PrepareContext(ctx, statement); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// put writes a chunk, that is whole or still grows.
func (p *putter) put(id int64, bytes []byte, s *chunk.Summary, whole, imported bool) (err error) {
	place := int64(0)
	if whole {
		result, err := p.whole.ExecContext(p.ctx, bytes)
		if err != nil {
			return err
		}
		if place, err = result.LastInsertId(); err != nil {
			return err
		}
		if _, err = p.grown.ExecContext(p.ctx, id); err != nil {
			return err
		}
	} else if _, err := p.growing.ExecContext(p.ctx, id, bytes); err != nil {
		return err
	}
	_, err = p.summary.ExecContext(p.ctx, id, s.First, s.Last, s.Count, s.Good, s.Bad, null(s.Least), null(s.Most), null(s.Sum), null(s.Latest), s.Kind, s.Ordered, imported, crc32.ChecksumIEEE(bytes), place)
	return err
}

// bodyOf reads the chunk of an id.
const bodyOf = "SELECT CASE place WHEN 0 THEN (SELECT body FROM open WHERE open.id = summary.id) ELSE (SELECT body FROM chunk WHERE chunk.place = summary.place) END FROM summary WHERE id = ?"

// null is a number as SQLite keeps it, which has none that is not one.
func null(f float64) any {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return nil
	}
	return f
}

// piece is what was added to a chunk, as it stands in the journal.
type piece struct {
	series, ordinal int64
	offset          int
	bytes           []byte
}

func appendPiece(b []byte, p piece) []byte {
	b = binary.AppendUvarint(b, uint64(p.series))
	b = binary.AppendUvarint(b, uint64(p.ordinal))
	b = binary.AppendUvarint(b, uint64(p.offset))
	b = binary.AppendUvarint(b, uint64(len(p.bytes)))
	return append(b, p.bytes...)
}

// sealBatch ends a batch of the journal.
func sealBatch(b []byte) []byte { return binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b)) }

var errJournal = errors.New("its journal is damaged")

// pieces reads a batch of the journal.
func pieces(b []byte) (list []piece, err error) {
	if len(b) < 4 || binary.LittleEndian.Uint32(b[len(b)-4:]) != crc32.ChecksumIEEE(b[:len(b)-4]) {
		return nil, errJournal
	}
	b = b[:len(b)-4]
	number := func() (n int64) {
		u, size := binary.Uvarint(b)
		if size <= 0 || u > math.MaxInt64 {
			err, b = errJournal, nil
			return 0
		}
		b = b[size:]
		return int64(u)
	}
	for len(b) > 0 {
		p := piece{series: number(), ordinal: number(), offset: int(number())}
		n := number()
		if err != nil || n > int64(len(b)) {
			return nil, errJournal
		}
		p.bytes, b = b[:n], b[n:]
		list = append(list, p)
	}
	return list, err
}

// recover makes chunks of what a service that was killed left in the journal.
func (f *file) recover(ctx context.Context) error {
	chunks := map[[2]int64][]byte{}
	rows, err := f.db.QueryContext(ctx, "SELECT body FROM journal ORDER BY batch")
	if err != nil {
		return err
	}
	defer rows.Close()
	var batches [][]byte
	for rows.Next() {
		var b []byte
		if err := rows.Scan(&b); err != nil {
			return err
		}
		batches = append(batches, b)
	}
	if err := rows.Err(); err != nil || len(batches) == 0 {
		return err
	}
	tx, err := f.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	for _, b := range batches {
		list, err := pieces(b)
		if err != nil {
			return err
		}
		for _, p := range list {
			key := [2]int64{p.series, p.ordinal}
			if _, known := chunks[key]; !known {
				var body []byte
				if err := tx.QueryRowContext(ctx, bodyOf, chunkID(p.series, p.ordinal)).Scan(&body); err != nil && !errors.Is(err, sql.ErrNoRows) {
					return err
				}
				chunks[key] = body
			}
			switch body := chunks[key]; {
			case p.offset+len(p.bytes) <= len(body): // in the chunk already
			case p.offset > len(body):
				return fmt.Errorf("%w: chunk %d of series %d has a hole", errJournal, p.ordinal, p.series)
			default:
				chunks[key] = append(slices.Clip(body[:p.offset]), p.bytes...)
			}
		}
	}
	to, err := newPutter(ctx, tx)
	if err != nil {
		return err
	}
	for key, bytes := range chunks {
		a, err := chunk.Resume(bytes)
		if err != nil {
			return err
		}
		s := a.Summary()
		if err := to.put(chunkID(key[0], key[1]), bytes, &s, true, false); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM journal"); err != nil {
		return err
	}
	return tx.Commit()
}
