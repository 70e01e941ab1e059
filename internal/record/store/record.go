package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"time"

	"arithmon/internal/core/site"
)

// Record is one recorded change of the site.
type Record struct {
	ID      int64
	Batch   int64 // id of the first change that was made together with this one
	Time    time.Time
	Who     string
	Kind    site.Kind
	Action  site.Action
	Name    string
	Before  json.RawMessage
	After   json.RawMessage
	Message string // what was said of the change set; with the first of its changes alone
}

// The most that is kept of the history; the oldest goes first.
const (
	KeptChanges = 1_000_000 // and the rest of what was changed together with the oldest of them
	KeptWrites  = 1_000_000
)

// Changes lists recorded changes, newest first, those before the id given (0: all); of one entity when name is set.
func (s *Store) Changes(ctx context.Context, kind site.Kind, name string, before int64, limit int) ([]Record, error) {
	return s.records(ctx, `SELECT id, batch, time, who, kind, action, name, before, after, message FROM changes
		WHERE (?1 = 0 OR id < ?1) AND (?2 = '' OR kind = ?2) AND (?3 = '' OR name = ?3) ORDER BY id DESC LIMIT ?4`, before, kind, name, limit)
}

// Together lists the changes that were made together with the one of that id, oldest first; none when there is no such change.
func (s *Store) Together(ctx context.Context, id int64) ([]Record, error) {
	list, err := s.batch(ctx, id)
	slices.Reverse(list)
	return list, err
}

// ChangesAfter lists the changes after one, oldest first.
func (s *Store) ChangesAfter(ctx context.Context, id int64, limit int) ([]Record, error) {
	return s.records(ctx, "SELECT id, batch, time, who, kind, action, name, before, after, message FROM changes WHERE id > ? ORDER BY id LIMIT ?", id, limit)
}

// ChangeSet is what was changed together.
type ChangeSet struct {
	ID    int64 // of its first change
	Who   string
	Time  time.Time
	Count int      // of its changes
	First []Record // the first of them
	last  int64    // change
}

// mostSets is how many change sets are read together.
const mostSets = 1000

// SetsAfter lists the change sets after a change, oldest first, with at most so many of the changes of each, and gives the last change of
// the sets that it lists: those after it are listed next.
func (s *Store) SetsAfter(ctx context.Context, id int64, of int) (sets []ChangeSet, last int64, err error) {
	last = id
	rows, err := s.db.Query(ctx, "SELECT batch, who, time, count(*), max(id) FROM changes WHERE id > ? GROUP BY batch ORDER BY batch LIMIT ?", id, mostSets)
	if err != nil {
		return nil, last, err
	}
	defer rows.Close()
	for rows.Next() {
		var set ChangeSet
		var at string
		if err := rows.Scan(&set.ID, &set.Who, &at, &set.Count, &set.last); err != nil {
			return nil, last, err
		}
		set.Time = when(at)
		sets = append(sets, set)
	}
	if err := rows.Err(); err != nil {
		return nil, last, err
	}
	for i := range sets {
		set := &sets[i]
		if set.First, err = s.records(ctx, "SELECT id, batch, time, who, kind, action, name, before, after, message FROM changes WHERE id > ? AND id <= ? ORDER BY id LIMIT ?",
			max(id, set.ID-1), set.last, of); err != nil {
			return nil, last, err
		}
	}
	if n := len(sets); n > 0 {
		last = sets[n-1].last
	}
	return sets, last, nil
}

// Change is what a record tells of.
func (r Record) Change() (c site.Change, err error) {
	if r.Before != nil {
		if c.Before, err = site.Decode(r.Kind, r.Before); err != nil {
			return c, err
		}
	}
	if r.After != nil {
		c.After, err = site.Decode(r.Kind, r.After)
	}
	return c, err
}

// LatestChange is the number of the newest recorded change, 0 for none.
func (s *Store) LatestChange(ctx context.Context) (id int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(max(id), 0) FROM changes").Scan(&id)
	return id, err
}

// ChangedSince names the entities that were changed after a change, under the names that they had and have.
func (s *Store) ChangedSince(ctx context.Context, id int64) (map[site.Kind]map[string]bool, error) {
	rows, err := s.db.Query(ctx, `SELECT kind, name FROM changes WHERE id > ?1
		UNION SELECT kind, json_extract(before, CASE kind WHEN 'point' THEN '$.tag' ELSE '$.name' END) FROM changes WHERE id > ?1 AND before IS NOT NULL`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	changed := map[site.Kind]map[string]bool{}
	for rows.Next() {
		var kind site.Kind
		var name string
		if err := rows.Scan(&kind, &name); err != nil {
			return nil, err
		}
		if changed[kind] == nil {
			changed[kind] = map[string]bool{}
		}
		changed[kind][name] = true
	}
	return changed, rows.Err()
}

func (s *Store) records(ctx context.Context, query string, args ...any) ([]Record, error) {
	rows, err := s.db.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Record{}
	for rows.Next() {
		var r Record
		var at string
		var was, is sql.NullString
		if err := rows.Scan(&r.ID, &r.Batch, &at, &r.Who, &r.Kind, &r.Action, &r.Name, &was, &is, &r.Message); err != nil {
			return nil, err
		}
		r.Time = when(at)
		if was.Valid {
			r.Before = json.RawMessage(was.String)
		}
		if is.Valid {
			r.After = json.RawMessage(is.String)
		}
		list = append(list, r)
	}
	return list, rows.Err()
}
