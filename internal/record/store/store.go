// Package store keeps a site in SQLite: links, stations, points, every change to them, and every write to a device.
//
// The site is also held in memory, as a snapshot that never changes. A modification is checked against it and written, and only then
// the next snapshot takes its place; what was acknowledged is on the disk. Readers of the site wait for nobody, and readers of the records
// have connections of their own.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // also the driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"arithmon/internal/core/site"
)

// Files within the data directory.
const (
	FileName = "arithmon.db"   // the database
	LockName = "arithmon.lock" // locked by the service that has it open
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors of Open, Modify and Undo.
var (
	ErrDamaged = errors.New("the database is damaged")
	ErrNewer   = errors.New("the database was written by a newer version of Arithmon")
	ErrStale   = errors.New("changed by someone else meanwhile")

	ErrInUse    = errors.New("the database is in use by another Arithmon. Stop that one, or give another data directory")
	ErrNoChange = errors.New("there is no recorded change")
)

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db     *sql.DB // the connection that writes
	reads  *sql.DB // those that read
	lock   *flock.Flock
	path   string
	file   os.FileInfo // of the database as it was opened; nil when that is not known
	lost   atomic.Bool // a change that was refused went into a database that was gone, so that memory and that may differ
	aside  []Quarantined
	follow func(*site.Site, []site.Change)
	log    *slog.Logger

	later   later
	closing chan struct{}
	once    sync.Once

	site       atomic.Pointer[site.Site] // replaced by modifier alone
	edits      chan *modification
	committing time.Duration  // how long the disk took with the last transaction; of the modifier alone
	running    sync.WaitGroup // modifier
	stopped    chan struct{}  // closed when it has ended
}

// Options say who is told of what a Store does.
type Options struct {
	// Follow is called after every transaction, with the site as it leaves it and the changes of all its modifications, in their order; nil for
	// nobody. An entity may be changed there more than once. It must not call the store.
	Follow func(*site.Site, []site.Change)
	Log    *slog.Logger // nil discards
}

// Open opens the database in dir, makes both when they are missing, and loads the site.
// A database that is damaged or was written by a newer version is refused and left as it is.
func Open(ctx context.Context, dir string, o Options) (*Store, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return nil, fmt.Errorf("data directory %s: %w", dir, named(err))
	}
	path := filepath.Join(dir, FileName)
	lock := flock.New(filepath.Join(dir, LockName), flock.SetPermissions(0o640))
	if mine, err := lock.TryLock(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, named(err))
	} else if !mine {
		return nil, fmt.Errorf("%s: %w", path, ErrInUse)
	}
	s := &Store{lock: lock, path: path, closing: make(chan struct{}), stopped: make(chan struct{}), follow: o.Follow, log: o.Log, edits: make(chan *modification, mostTogether)}
	if err := s.open(ctx); err != nil {
		s.release()
		if locked(err) {
			err = ErrInUse
		}
		return nil, fmt.Errorf("%s: %w", path, named(err))
	}
	s.sweep()
	s.running.Go(s.modifier)
	return s, nil
}

// mostReaders is how many connections read at once.
const mostReaders = 4

// open opens the database, which nobody else has.
func (s *Store) open(ctx context.Context) (err error) {
	if err := inspect(ctx, s.path, newest()); err != nil {
		return err
	}
	// Every commit reaches the disk before it is acknowledged (synchronous=FULL).
	if s.db, err = sql.Open("sqlite", "file:"+s.path+"?_pragma=busy_timeout(500)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate"); err != nil {
		return err
	}
	s.db.SetMaxOpenConns(1)
	if err := s.prepare(ctx); err != nil {
		return err
	}
	s.file, _ = os.Stat(s.path)
	if s.reads, err = sql.Open("sqlite", "file:"+s.path+"?mode=ro&_pragma=busy_timeout(5000)&_pragma=query_only(1)"); err != nil {
		return err
	}
	s.reads.SetMaxOpenConns(mostReaders)
	s.reads.SetMaxIdleConns(mostReaders)
	return nil
}

// release closes what is open and gives the directory back.
func (s *Store) release() error {
	var err error
	if s.reads != nil {
		err = s.reads.Close()
	}
	if s.db != nil {
		err = errors.Join(err, s.db.Close())
	}
	return errors.Join(err, s.lock.Close())
}

// Aside lists what was put aside when the site was loaded, since it did not fit.
func (s *Store) Aside() []Quarantined { return s.aside }

// Close closes the database.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closing) })
	s.later.done.Wait()
	s.running.Wait()
	return s.release()
}

// header is how every SQLite 3 file begins.
const header = "SQLite format 3\x00"

// inspect refuses a file that is not ours to write. It opens it for reading only, so that what is refused stays as it is.
func inspect(ctx context.Context, path string, latest int64) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	start := make([]byte, len(header))
	n, _ := io.ReadFull(f, start)
	f.Close()
	if n == 0 {
		return nil // empty: SQLite fills it
	}
	damaged := func(err error) error {
		switch {
		case locked(err):
			return ErrInUse
		case OnDisk(named(err)):
			return named(err)
		}
		return fmt.Errorf("%w: %w. It was left as it is. Restore it from a backup, or give another data directory", ErrDamaged, err)
	}
	if string(start) != header {
		return damaged(errors.New("it is no SQLite file"))
	}
	// Where nobody has left a log beside it, the file is all there is, and reading it makes none.
	how := "mode=ro"
	if _, err := os.Stat(path + "-wal"); errors.Is(err, fs.ErrNotExist) {
		how += "&immutable=1"
	}
	db, err := sql.Open("sqlite", "file:"+path+"?"+how+"&_pragma=busy_timeout(500)")
	if err != nil {
		return err
	}
	defer db.Close()
	var verdict string
	if err := db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&verdict); err != nil {
		return damaged(err)
	} else if verdict != "ok" {
		return damaged(errors.New(verdict))
	}
	var tables, written int64
	if err := db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master WHERE name = 'goose_db_version'").Scan(&tables); err != nil {
		return damaged(err)
	}
	if tables == 0 {
		var others int64
		if err := db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&others); err != nil || others > 0 {
			return damaged(errors.New("it is another program's database"))
		}
		return nil
	}
	if err := db.QueryRowContext(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version").Scan(&written); err != nil {
		return damaged(err)
	}
	if written > latest {
		return fmt.Errorf("%w: its version is %d, this program knows %d. It was left as it is. Use the newer program, or give another data directory", ErrNewer, written, latest)
	}
	return nil
}

// locked reports whether another process has the file.
func locked(err error) bool {
	var code *sqlite.Error
	return errors.As(err, &code) && code.Code()&0xFF == sqlite3.SQLITE_BUSY
}

// prepare brings the tables up to date and loads the site.
func (s *Store) prepare(ctx context.Context) error {
	if _, err := s.db.ExecContext(ctx, "BEGIN EXCLUSIVE; COMMIT"); err != nil { // nobody else writes
		return err
	}
	p, err := migrator(s.db)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing its tables up to date: %w", err)
	}
	return s.load(ctx)
}

// newest is the version of the newest tables that this program knows.
func newest() (version int64) {
	names, _ := fs.Glob(migrations, "migrations/*.sql") // embedded, so that it cannot fail
	for _, name := range names {
		n, _ := goose.NumericComponent(name)
		version = max(version, n)
	}
	return version
}

// migrator returns what brings the tables of a database up to date.
func migrator(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithSlog(slog.New(slog.DiscardHandler)))
}

// load reads the site. What does not fit it is put aside.
func (s *Store) load(ctx context.Context) error {
	now := site.New()
	for _, kind := range site.Kinds() {
		stored, err := s.stored(ctx, kind)
		if err != nil {
			return err
		}
		next := now.Build()
		for _, e := range stored {
			why := ""
			if e.err != nil {
				why = e.err.Error()
			} else {
				why = now.Misfit(e.name, e.entity) // its owner was loaded before
			}
			if why != "" {
				s.aside = append(s.aside, Quarantined{Time: time.Now().UTC(), Kind: kind, Name: e.name, Body: string(e.body), Why: why})
				continue
			}
			next.Put(e.entity, e.version)
		}
		now = next.Site()
	}
	s.site.Store(now)
	return s.quarantine(ctx, s.aside)
}

// stored is an entity as it is in the database.
type stored struct {
	name    string
	version int64
	body    []byte
	entity  site.Entity
	err     error // why it cannot be read
}

// decodedTogether is how many entities are decoded by one goroutine, while the next ones are read.
const decodedTogether = 4096

// stored reads the entities of a kind by name. They are decoded on all processors while others are read: that is most of the time that a
// start takes.
func (s *Store) stored(ctx context.Context, kind site.Kind) ([]stored, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT name, version, body FROM entities WHERE kind = ? ORDER BY name", kind)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []stored
	var decoding sync.WaitGroup
	defer decoding.Wait()
	decode := func(part []stored) {
		decoding.Go(func() {
			for i := range part {
				part[i].entity, part[i].err = site.Decode(kind, part[i].body)
			}
		})
	}
	var parts [][]stored
	part := make([]stored, 0, decodedTogether)
	for rows.Next() {
		var e stored
		if err := rows.Scan(&e.name, &e.version, &e.body); err != nil {
			return nil, err
		}
		if part = append(part, e); len(part) == cap(part) {
			decode(part)
			parts = append(parts, part)
			part = make([]stored, 0, decodedTogether)
		}
	}
	decode(part)
	decoding.Wait()
	for _, p := range append(parts, part) {
		list = append(list, p...)
	}
	return list, rows.Err()
}

// Site is the site as it is now. It never changes, so that it may be kept.
func (s *Store) Site() *site.Site { return s.site.Load() }

// query reads, beside whoever writes.
func (s *Store) query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := s.present(); err != nil {
		return nil, err
	}
	return s.reads.QueryContext(ctx, query, args...)
}

// queryRow reads one row, beside whoever writes.
func (s *Store) queryRow(ctx context.Context, query string, args ...any) *sql.Row {
	return s.reads.QueryRowContext(ctx, query, args...)
}
