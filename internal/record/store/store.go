// Package store keeps a site in SQLite: links, stations, points, every change to them, and every write to a device.
//
// The site is also held in memory, as a snapshot that never changes. A modification is checked against it and written, and only then
// the next snapshot takes its place; what was acknowledged is on the disk. Readers of the site wait for nobody, and readers of the records
// have connections of their own.
package store

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	// also the driver "sqlite"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// Errors of Modify and Undo.
var (
	ErrStale    = errors.New("changed by someone else meanwhile")
	ErrNoChange = errors.New("there is no recorded change")
)

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db     *database.Database
	aside  []Quarantined
	follow func(*site.Site, []site.Change)
	log    *slog.Logger

	later    later
	deciding sync.Mutex // of proposals

	comparing sync.Mutex // guards compared
	compared  []compared // the newest comparisons

	closing chan struct{}
	once    sync.Once

	site       atomic.Pointer[site.Site] // replaced by modifier alone
	last       atomic.Int64              // change that was stored since the start
	edits      chan *modification
	committing time.Duration  // how long the disk took with the last transaction; of the modifier alone
	running    sync.WaitGroup // modifier
	stopped    chan struct{}  // closed when it has ended
}

// Options say who is told of what a Store does.
type Options struct {
	// Follow is called after every transaction, with the site as it leaves it and the changes of all its modifications, in their order; nil for
	// nobody. An entity may be changed there more than once. It must not call the store, but for LastStored.
	Follow func(*site.Site, []site.Change)
	Log    *slog.Logger // nil discards
}

// Open opens the database in dir, and loads the site.
func Open(ctx context.Context, dir string, o Options) (*Store, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	db, err := database.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, closing: make(chan struct{}), stopped: make(chan struct{}), follow: o.Follow, log: o.Log, edits: make(chan *modification, mostTogether)}
	if err := s.load(ctx); err != nil {
		db.Close()
		return nil, database.Named(err)
	}
	s.running.Go(s.modifier)
	return s, nil
}

// Database is where the store keeps what it has; accounts and the audit log stand there, too.
func (s *Store) Database() *database.Database { return s.db }

// Aside lists what was put aside when the site was loaded, since it did not fit.
func (s *Store) Aside() []Quarantined { return s.aside }

// Close closes the database.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closing) })
	s.later.done.Wait()
	s.running.Wait()
	return s.db.Close()
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
// start takes. One at which this program fails altogether is one that cannot be read.
func (s *Store) stored(ctx context.Context, kind site.Kind) ([]stored, error) {
	rows, err := s.db.Writer.QueryContext(ctx, "SELECT name, version, body FROM entities WHERE kind = ? ORDER BY name", kind)
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
				e := &part[i]
				if fault := crash.Catch(func() { e.entity, e.err = site.Decode(kind, e.body) }); fault != nil {
					e.err = fault
				}
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

// LastStored is the number of the last change that was stored since the start; 0 when there was none. Called by Follow, it is that of the
// changes that Follow is told of.
func (s *Store) LastStored() int64 { return s.last.Load() }

// Site is the site as it is now. It never changes, so that it may be kept.
func (s *Store) Site() *site.Site { return s.site.Load() }
