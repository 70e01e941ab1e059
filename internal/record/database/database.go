// Package database is the file in which the service keeps what it must not lose: the site, its changes, writes, events, accounts and the audit
// log. It is SQLite in a data directory that one service has at a time; what was committed is on the disk. Readers have connections of their
// own and wait for nobody.
package database

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
)

// Files within the data directory.
const (
	FileName = "arithmon.db"   // the database
	LockName = "arithmon.lock" // locked by the service that has it open
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors of Open.
var (
	ErrDamaged = errors.New("the database is damaged")
	ErrNewer   = errors.New("the database was written by a newer version of Arithmon")
	ErrInUse   = errors.New("the database is in use by another Arithmon. Stop that one, or give another data directory")
)

// Database is an open database. It is safe for concurrent use.
type Database struct {
	Writer *sql.DB // the one connection that writes; begin transactions with Begin and end them with Commit
	Reader *sql.DB // those that read

	lock *flock.Flock
	dir  string
	path string
	file os.FileInfo // of the database as it was opened; nil when that is not known
	lost atomic.Bool // something went into a database that was gone

	mu        sync.Mutex
	committed chan struct{}        // closed at the next commit
	prepared  map[string]*sql.Stmt // queries of transactions, on the connection that writes

	closing chan struct{}
	once    sync.Once
	running sync.WaitGroup
}

// Open opens the database in dir, makes both when they are missing, and brings its tables up to date.
// A database that is damaged or was written by a newer version is refused and left as it is.
func Open(ctx context.Context, dir string) (*Database, error) {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return nil, fmt.Errorf("data directory %s: %w", dir, Named(err))
	}
	path := filepath.Join(dir, FileName)
	lock := flock.New(filepath.Join(dir, LockName), flock.SetPermissions(0o640))
	if mine, err := lock.TryLock(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, Named(err))
	} else if !mine {
		return nil, fmt.Errorf("%s: %w", path, ErrInUse)
	}
	d := &Database{lock: lock, dir: dir, path: path, committed: make(chan struct{}), prepared: map[string]*sql.Stmt{}, closing: make(chan struct{})}
	if err := d.open(ctx); err != nil {
		d.Close()
		if locked(err) {
			err = ErrInUse
		}
		return nil, fmt.Errorf("%s: %w", path, Named(err))
	}
	d.sweep()
	d.running.Go(d.fold)
	return d, nil
}

// mostReaders is how many connections read at once.
const mostReaders = 4

// open opens the database, which nobody else has.
func (d *Database) open(ctx context.Context) (err error) {
	if err := inspect(ctx, d.path, newest()); err != nil {
		return err
	}
	// Every commit reaches the disk before it is acknowledged (synchronous=FULL). What a statement would need to be taken back is kept in memory,
	// and so is as much of a large transaction as fits into 16 MiB: otherwise its pages are written many times.
	if d.Writer, err = sql.Open("sqlite", "file:"+d.path+"?_pragma=busy_timeout(500)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_pragma=wal_autocheckpoint(20000)&_pragma=temp_store(2)&_pragma=cache_size(-16384)&_txlock=immediate"); err != nil {
		return err
	}
	d.Writer.SetMaxOpenConns(1)
	if err := d.prepare(ctx); err != nil {
		return err
	}
	d.file, _ = os.Stat(d.path)
	if d.Reader, err = sql.Open("sqlite", "file:"+d.path+"?mode=ro&_pragma=busy_timeout(5000)&_pragma=query_only(1)"); err != nil {
		return err
	}
	d.Reader.SetMaxOpenConns(mostReaders)
	d.Reader.SetMaxIdleConns(mostReaders)
	return nil
}

// Close closes what is open and gives the directory back.
func (d *Database) Close() error {
	d.once.Do(func() { close(d.closing) })
	d.running.Wait()
	var err error
	if d.Reader != nil {
		err = d.Reader.Close()
	}
	if d.Writer != nil {
		err = errors.Join(err, d.Writer.Close())
	}
	return errors.Join(err, d.lock.Close())
}

// Dir is the data directory.
func (d *Database) Dir() string { return d.dir }

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
		case OnDisk(Named(err)):
			return Named(err)
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

// prepare brings the tables up to date.
func (d *Database) prepare(ctx context.Context) error {
	if _, err := d.Writer.ExecContext(ctx, "BEGIN EXCLUSIVE; COMMIT"); err != nil { // nobody else writes
		return err
	}
	p, err := Migrator(d.Writer)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing its tables up to date: %w", err)
	}
	return nil
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

// Migrator returns what brings the tables of a database up to date.
func Migrator(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithSlog(slog.New(slog.DiscardHandler)))
}

// Query reads, beside whoever writes.
func (d *Database) Query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := d.Present(); err != nil {
		return nil, err
	}
	return d.Reader.QueryContext(ctx, query, args...)
}

// QueryRow reads one row, beside whoever writes.
func (d *Database) QueryRow(ctx context.Context, query string, args ...any) *sql.Row {
	return d.Reader.QueryRowContext(ctx, query, args...)
}

// Exec changes something in a transaction of its own.
func (d *Database) Exec(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if err := d.Present(); err != nil {
		return nil, err
	}
	result, err := d.Writer.ExecContext(ctx, query, args...)
	if err == nil {
		d.tell()
		err = d.Present()
	}
	return result, Named(err)
}

// Committed is closed when something is committed next. Who takes it and then reads misses nothing.
func (d *Database) Committed() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.committed
}

func (d *Database) tell() {
	d.mu.Lock()
	defer d.mu.Unlock()
	close(d.committed)
	d.committed = make(chan struct{})
}

// foldEvery is how often what was committed is taken from the log beside the database into it.
const foldEvery = time.Second

// fold takes what was committed from the log into the database, beside whoever writes: SQLite by itself does it within a commit, which
// then takes many times as long. What is left over when the log has grown very long, SQLite still takes itself.
func (d *Database) fold() {
	db, err := sql.Open("sqlite", "file:"+d.path+"?_pragma=busy_timeout(500)&_pragma=synchronous(FULL)")
	if err != nil {
		return
	}
	defer db.Close()
	ticker := time.NewTicker(foldEvery)
	defer ticker.Stop()
	committed := d.Committed()
	for {
		select {
		case <-d.closing:
			return
		case <-ticker.C:
		}
		select {
		case <-committed:
			committed = d.Committed()
			if d.Present() == nil {
				_, _ = db.Exec("PRAGMA wal_checkpoint(PASSIVE)") // what fails now is done later, and nothing is lost by it
			}
		default:
		}
	}
}
