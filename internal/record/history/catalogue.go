package history

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"arithmon/internal/record/database"
)

// CatalogueName is the file that says whose samples the months have. When it is lost, it is made again from them.
const CatalogueName = "catalogue.db"

// catalogue says whose samples the files have.
type catalogue struct {
	db      *sql.DB
	pending []*Series // changed and not on the disk; guarded by the history's lock
	change  int64     // of the site, up to which the file knows what became of points
	now     int64     // likewise, in memory; guarded by the history's lock
	known   map[string]bool
}

// changed notes a series to be written with the next flush, before anything of it; the history's lock is held.
func (c *catalogue) changed(s *Series) { c.pending = append(c.pending, s) }

func (c *catalogue) close() error { return c.db.Close() }

const catalogueTables = `
CREATE TABLE IF NOT EXISTS meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS series (id INTEGER PRIMARY KEY, tag TEXT NOT NULL, removed INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS month (name TEXT PRIMARY KEY) WITHOUT ROWID;`

// openCatalogue reads the catalogue. One that is damaged is put aside and made again.
func (h *History) openCatalogue(ctx context.Context) error {
	path := filepath.Join(h.dir, CatalogueName)
	err := h.readCatalogue(ctx, path)
	if err == nil || database.OnDisk(database.Named(err)) {
		return err
	}
	aside := path + ".damaged-" + h.options.Now().UTC().Format("20060102-150405")
	h.options.Log.Error("the catalogue of the history is damaged; it was put aside and is made again from the months", "error", err, "aside", aside)
	if err := os.Rename(path, aside); err != nil {
		return err
	}
	for _, rest := range []string{"-wal", "-shm"} {
		_ = os.Remove(path + rest) // of the one that was put aside; there may be none
	}
	return h.readCatalogue(ctx, path)
}

func (h *History) readCatalogue(ctx context.Context, path string) (err error) {
	c := &catalogue{known: map[string]bool{}}
	if c.db, err = sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(2000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate"); err != nil {
		return err
	}
	c.db.SetMaxOpenConns(1)
	defer func() {
		if err != nil {
			c.db.Close()
		}
	}()
	if _, err = c.db.ExecContext(ctx, catalogueTables); err != nil {
		return err
	}
	h.id = ""
	switch err = c.db.QueryRowContext(ctx, "SELECT value FROM meta WHERE key = 'history'").Scan(&h.id); {
	case errors.Is(err, sql.ErrNoRows):
		if err = h.remake(ctx, c); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	if err = c.db.QueryRowContext(ctx, "SELECT coalesce((SELECT CAST(value AS INTEGER) FROM meta WHERE key = 'change'), 0)").Scan(&c.change); err != nil {
		return err
	}
	c.now = c.change
	rows, err := c.db.QueryContext(ctx, "SELECT id, tag, removed FROM series ORDER BY id")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		s, removed := &Series{base: unknown}, int64(0)
		if err = rows.Scan(&s.ID, &s.Tag, &removed); err != nil {
			return err
		}
		h.byID[s.ID], h.last = s, s.ID
		if removed != 0 {
			s.Removed = time.UnixMilli(removed)
			if other := h.gone[s.Tag]; other == nil || other.Removed.Before(s.Removed) {
				h.gone[s.Tag] = s
			}
		} else {
			h.series[s.Tag] = s
		}
	}
	if err = rows.Err(); err != nil {
		return err
	}
	months, err := c.db.QueryContext(ctx, "SELECT name FROM month")
	if err != nil {
		return err
	}
	defer months.Close()
	for months.Next() {
		var name string
		if err = months.Scan(&name); err != nil {
			return err
		}
		c.known[name] = true
	}
	h.catalogue = c
	return months.Err()
}

// remake fills a new catalogue from the months that are there.
func (h *History) remake(ctx context.Context, c *catalogue) error {
	h.id = rand.Text()
	names := h.months()
	for i := len(names) - 1; i >= 0; i-- { // the newest has the newest names
		id, series, err := described(ctx, h.path(names[i]))
		if err != nil {
			continue // said when it is looked at
		}
		if i == len(names)-1 || len(c.known) == 0 {
			h.id = id
		}
		if id != h.id {
			continue
		}
		c.known[names[i]] = true
		for id, tag := range series {
			if _, err := c.db.ExecContext(ctx, "INSERT OR IGNORE INTO series (id, tag, removed) VALUES (?, ?, 0)", id, tag); err != nil {
				return err
			}
		}
		if _, err := c.db.ExecContext(ctx, "INSERT OR IGNORE INTO month (name) VALUES (?)", names[i]); err != nil {
			return err
		}
	}
	// Of several with one tag the last one goes on.
	if _, err := c.db.ExecContext(ctx, "UPDATE series SET removed = ? WHERE id NOT IN (SELECT max(id) FROM series GROUP BY tag)", h.options.Now().UnixMilli()); err != nil {
		return err
	}
	_, err := c.db.ExecContext(ctx, "INSERT INTO meta (key, value) VALUES ('history', ?)", h.id)
	return err
}

// saveCatalogue writes what has changed in the catalogue.
func (h *History) saveCatalogue(ctx context.Context) error {
	h.mu.Lock()
	c := h.catalogue
	pending := make([]Series, len(c.pending))
	for i, s := range c.pending {
		pending[i] = Series{ID: s.ID, Tag: s.Tag, Removed: s.Removed}
	}
	n, change := len(c.pending), c.now
	h.mu.Unlock()
	if n == 0 && change == c.change {
		return nil
	}
	tx, err := c.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	put, err := tx.PrepareContext(ctx, "INSERT OR REPLACE INTO series (id, tag, removed) VALUES (?, ?, ?)")
	if err != nil {
		return err
	}
	for _, s := range pending {
		removed := int64(0)
		if !s.Removed.IsZero() {
			removed = s.Removed.UnixMilli()
		}
		if _, err := put.ExecContext(ctx, s.ID, s.Tag, removed); err != nil {
			return err
		}
	}
	if change != c.change {
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO meta (key, value) VALUES ('change', ?)", fmt.Sprint(change)); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	c.pending, c.change = c.pending[n:], change
	return nil
}

// month notes that there is a file of a month, or that there is to be none any more.
func (c *catalogue) month(ctx context.Context, name string, there bool) error {
	statement := "INSERT OR IGNORE INTO month (name) VALUES (?)"
	if !there {
		statement = "DELETE FROM month WHERE name = ?"
	}
	_, err := c.db.ExecContext(ctx, statement, name)
	return err
}
