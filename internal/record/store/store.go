// Package store keeps a site in SQLite: links, stations, points, every change to them, and every write to a device.
//
// The site is also held in memory, where it is read. A modification is checked there, written in one transaction, and
// only then becomes visible; what was acknowledged is on the disk.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
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

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // also the driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"arithmon/internal/core/site"
)

// FileName is the database within the data directory.
const FileName = "arithmon.db"

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
	db     *sql.DB
	path   string
	file   os.FileInfo // of the database as it was opened; nil when that is not known
	lost   atomic.Bool // a change that was refused went into a database that was gone, so that memory and that may differ
	aside  []Quarantined
	follow func(*site.Site, []site.Change)

	later   later
	closing chan struct{}
	once    sync.Once

	// modifying is held by whoever modifies the site, from the draft until all who follow it know: nobody else changes what follows. mu is
	// held for the moment in which that is changed, so that no reader waits for a draft, for the disk or for those who follow.
	modifying sync.Mutex
	mu        sync.RWMutex
	site      *site.Site
	versions  map[site.Kind]map[string]int64
}

// Open opens the database in dir, makes both when they are missing, and loads the site. follow, when not nil, is
// called after every modification, in their order, with the site as it is then; it must not call the store.
// A database that is damaged or was written by a newer version is refused and left as it is.
func Open(ctx context.Context, dir string, follow func(*site.Site, []site.Change)) (*Store, error) {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return nil, fmt.Errorf("data directory %s: %w", dir, named(err))
	}
	path := filepath.Join(dir, FileName)
	if err := inspect(ctx, path, newest()); err != nil {
		return nil, fmt.Errorf("%s: %w", path, named(err))
	}
	// Every commit reaches the disk before it is acknowledged (synchronous=FULL). The site is held in memory, so that
	// nobody else may write meanwhile: one connection, which locks the file.
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(500)&_pragma=locking_mode(EXCLUSIVE)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	s := &Store{db: db, path: path, closing: make(chan struct{}), follow: follow, site: site.New(), versions: map[site.Kind]map[string]int64{}}
	if err := s.prepare(ctx); err != nil {
		db.Close()
		if locked(err) {
			err = ErrInUse
		}
		return nil, fmt.Errorf("%s: %w", path, named(err))
	}
	s.file, _ = os.Stat(path)
	return s, nil
}

// Aside lists what was put aside when the site was loaded, since it did not fit.
func (s *Store) Aside() []Quarantined { return s.aside }

// Close closes the database.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closing) })
	s.later.done.Wait()
	return s.db.Close()
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
	if _, err := s.db.ExecContext(ctx, "BEGIN EXCLUSIVE; COMMIT"); err != nil { // from here on the file is ours
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
	for _, kind := range []site.Kind{site.KindLink, site.KindStation, site.KindPoint} {
		s.versions[kind] = map[string]int64{}
		rows, err := s.db.QueryContext(ctx, "SELECT "+keyColumn[kind]+", version, body FROM "+tableOf[kind])
		if err != nil {
			return err
		}
		var all []site.Change
		for rows.Next() {
			var name, body string
			var version int64
			if err := rows.Scan(&name, &version, &body); err != nil {
				rows.Close()
				return err
			}
			e, err := decode(kind, []byte(body))
			why := ""
			if err != nil {
				why = err.Error()
			} else {
				why = unfit(s.site, name, e)
			}
			if why != "" {
				s.aside = append(s.aside, Quarantined{Time: time.Now().UTC(), Kind: kind, Name: name, Body: body, Why: why})
				continue
			}
			all = append(all, site.Change{After: e})
			s.versions[kind][name] = version
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		s.site.Apply(all)
	}
	return s.quarantine(ctx, s.aside)
}

var (
	tableOf   = map[site.Kind]string{site.KindLink: "links", site.KindStation: "stations", site.KindPoint: "points"}
	keyColumn = map[site.Kind]string{site.KindLink: "name", site.KindStation: "name", site.KindPoint: "tag"}
)

// decode reads an entity as it was stored. Fields that were added since take their defaults.
func decode(kind site.Kind, body []byte) (site.Entity, error) {
	switch kind {
	case site.KindLink:
		l := site.NewLink()
		err := json.Unmarshal(body, &l)
		return l, err
	case site.KindStation:
		st := site.NewStation()
		err := json.Unmarshal(body, &st)
		return st, err
	}
	p := site.NewPoint()
	err := json.Unmarshal(body, &p)
	return p, err
}

// View calls f with the site, which must not be kept or changed.
func (s *Store) View(f func(*site.Site)) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	f(s.site)
}

// Now is the site at one moment, with the versions of its entities.
type Now struct {
	*site.Site
	versions map[site.Kind]map[string]int64
}

// Version is the version of an entity, which every modification of it raises; 0 when there is none.
func (n Now) Version(kind site.Kind, name string) int64 { return n.versions[kind][name] }

// Look calls f with the site and the versions of its entities as they are together; neither must be kept or changed.
func (s *Store) Look(f func(Now)) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	f(Now{s.site, s.versions})
}

// Version is the version of an entity, which every modification of it raises; 0 when there is none.
func (s *Store) Version(kind site.Kind, name string) int64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.versions[kind][name]
}

// Edit says how to modify the site.
type Edit struct {
	Who    string
	DryRun bool // find out what would change, and change nothing
	// Expect is the version an entity must have, or the modification fails with ErrStale; 0 for any.
	Expect     int64
	ExpectKind site.Kind
	ExpectName string
	// Left is called with the site as the modification leaves it, before anybody else changes it; nil: nobody is.
	Left func(Now)
}

// Modify lets f fill a draft, checks it, writes what it changes in one transaction and returns that. The error of a
// draft that is not consistent is site.Errors; nothing was changed then.
func (s *Store) Modify(ctx context.Context, edit Edit, f func(*site.Draft, *site.Site)) ([]site.Change, error) {
	s.modifying.Lock()
	defer s.modifying.Unlock()
	if now := s.versions[edit.ExpectKind][edit.ExpectName]; edit.Expect != 0 && now != edit.Expect {
		return nil, fmt.Errorf("%s %s was %w: its version is %d, yours %d. Read it again and repeat the change", edit.ExpectKind, edit.ExpectName, ErrStale, now, edit.Expect)
	}
	draft := s.site.Edit()
	f(draft, s.site)
	changes, err := draft.Changes()
	if err != nil || len(changes) == 0 || edit.DryRun {
		if err == nil && edit.Left != nil {
			edit.Left(Now{s.site, s.versions})
		}
		return changes, err
	}
	if err := s.present(); err != nil {
		return nil, err
	}
	versions, err := s.write(ctx, edit.Who, changes)
	if err == nil {
		if err = s.present(); err != nil { // it went into a file that nobody may find
			s.lost.Store(true)
		}
	}
	if err != nil {
		return nil, named(err)
	}
	s.take(changes, versions)
	if s.follow != nil {
		s.follow(s.site, changes)
	}
	if edit.Left != nil {
		edit.Left(Now{s.site, s.versions})
	}
	return changes, nil
}

// take brings changes that are stored into the site.
func (s *Store) take(changes []site.Change, versions []int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.site.Apply(changes)
	for i, c := range changes {
		if c.Before != nil {
			delete(s.versions[c.Kind()], c.Before.Key())
		}
		if c.After != nil {
			s.versions[c.Kind()][c.Name()] = versions[i]
		}
	}
}

// write stores changes and their record in one transaction and returns the versions of what they left.
func (s *Store) write(ctx context.Context, who string, changes []site.Change) (versions []int64, err error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback() // without effect once committed
	w := writer{ctx: ctx, tx: tx, prepared: map[string]*sql.Stmt{}, now: time.Now().UTC().Format(time.RFC3339Nano), who: who}
	for _, c := range changes {
		version := int64(1)
		if c.Before != nil {
			version = s.versions[c.Kind()][c.Before.Key()] + 1
		}
		if err := w.change(c, version); err != nil {
			return nil, fmt.Errorf("storing %s %s: %w", c.Kind(), c.Name(), err)
		}
		versions = append(versions, version)
	}
	if err := w.forget(); err != nil {
		return nil, fmt.Errorf("removing the oldest changes from the history: %w", err)
	}
	return versions, tx.Commit()
}

type writer struct {
	ctx      context.Context
	tx       *sql.Tx
	prepared map[string]*sql.Stmt
	now, who string
	batch    int64
}

func (w *writer) exec(query string, args ...any) (sql.Result, error) {
	stmt := w.prepared[query]
	if stmt == nil {
		var err error
		if stmt, err = w.tx.PrepareContext(w.ctx, query); err != nil {
			return nil, err
		}
		w.prepared[query] = stmt // closed with the transaction
	}
	return stmt.ExecContext(w.ctx, args...)
}

func (w *writer) change(c site.Change, version int64) error {
	kind := c.Kind()
	before, after, err := bodies(c)
	if err != nil {
		return err
	}
	if c.Before != nil && (c.After == nil || c.Before.Key() != c.After.Key()) {
		if _, err := w.exec("DELETE FROM "+tableOf[kind]+" WHERE "+keyColumn[kind]+" = ?", c.Before.Key()); err != nil {
			return err
		}
	}
	switch e := c.After.(type) {
	case site.Link:
		_, err = w.exec("INSERT INTO links (name, version, body) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET version = excluded.version, body = excluded.body",
			e.Name, version, after)
	case site.Station:
		_, err = w.exec("INSERT INTO stations (name, link, version, body) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET link = excluded.link, version = excluded.version, body = excluded.body",
			e.Name, e.Link, version, after)
	case site.Point:
		_, err = w.exec("INSERT INTO points (tag, station, version, body) VALUES (?, ?, ?, ?) ON CONFLICT (tag) DO UPDATE SET station = excluded.station, version = excluded.version, body = excluded.body",
			e.Tag, e.Station, version, after)
	}
	if err != nil {
		return err
	}
	result, err := w.exec("INSERT INTO changes (batch, time, who, kind, action, name, before, after) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		w.batch, w.now, w.who, kind, c.Action(), c.Name(), before, after)
	if err != nil || w.batch != 0 {
		return err
	}
	if w.batch, err = result.LastInsertId(); err != nil {
		return err
	}
	_, err = w.exec("UPDATE changes SET batch = ? WHERE id = ?", w.batch, w.batch)
	return err
}

// forget takes the changes before the last KeptChanges out of the history, but none of those that were made together with one that stays:
// they are undone together.
func (w *writer) forget() error {
	if w.batch <= KeptChanges {
		return nil
	}
	_, err := w.exec("DELETE FROM changes WHERE id < (SELECT batch FROM changes WHERE id > (SELECT max(id) FROM changes) - ? ORDER BY id LIMIT 1)", KeptChanges)
	return err
}

// bodies gives both sides of a change as JSON, NULL where there is none.
func bodies(c site.Change) (before, after sql.NullString, err error) {
	for _, side := range []struct {
		e  site.Entity
		to *sql.NullString
	}{{c.Before, &before}, {c.After, &after}} {
		if side.e == nil {
			continue
		}
		b, err := json.Marshal(side.e)
		if err != nil {
			return before, after, err
		}
		*side.to = sql.NullString{String: string(b), Valid: true}
	}
	return before, after, nil
}
