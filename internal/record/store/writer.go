package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"slices"

	"arithmon/internal/core/parallel"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// writer writes changes in a transaction: the history as they come, and what the entities come to at the end.
type writer struct {
	ctx      context.Context
	tx       *database.Tx
	now, who string
	message  string // of the change set; empty once it was written
	batch    int64  // of the change set: the number of its first change
	last     int64  // change

	history  []any // rows that are to be written
	entities map[entityKey]entity
}

// entity is what an entity comes to.
type entity struct {
	version int64
	body    sql.NullString // not valid: it is removed
}

var (
	intoHistory  = database.NewInsertion("INSERT INTO changes (id, batch, time, who, kind, action, name, before, after, message)", 10, "")
	intoEntities = database.NewInsertion("INSERT INTO entities (kind, name, version, body)", 4, "ON CONFLICT (kind, name) DO UPDATE SET version = excluded.version, body = excluded.body")
)

// record writes the changes of a change set to the history, and keeps for settle what the entities come to. left is the site after them.
func (w *writer) record(changes []site.Change, left *site.Site) error {
	for c, s := range encoded(changes) {
		kind, name := c.Kind(), c.Name()
		if s.err != nil {
			return fmt.Errorf("storing %s %s: %w", kind, name, s.err)
		}
		if c.Before != nil {
			if was := c.Before.Key(); was != name {
				w.entities[entityKey{kind, was}] = entity{}
				if _, err := w.tx.Exec(w.ctx, "UPDATE notes SET name = ? WHERE kind = ? AND name = ?", name, string(kind), was); err != nil {
					return fmt.Errorf("storing %s %s: notes: %w", kind, name, err)
				}
			}
		}
		next := entity{body: s.after}
		if c.After != nil {
			next.version = left.Version(kind, name)
		}
		w.entities[entityKey{kind, name}] = next
		w.last++
		w.history = append(w.history, w.last, w.batch, w.now, w.who, string(kind), string(c.Action()), name, s.before, s.after, w.message)
		w.message = ""
		if len(w.history) >= intoHistory.Together() {
			if err := w.tx.Insert(w.ctx, intoHistory, w.history); err != nil {
				return fmt.Errorf("storing the changes up to that of %s %s: %w", kind, name, err)
			}
			w.history = w.history[:0]
		}
	}
	return nil
}

// settle writes what is left. Entities are written in the order of the table, so that neighbours go into one page together.
func (w *writer) settle() error {
	if err := w.tx.Insert(w.ctx, intoHistory, w.history); err != nil {
		return fmt.Errorf("storing the changes: %w", err)
	}
	var rows []any
	for _, k := range slices.SortedFunc(maps.Keys(w.entities), func(a, b entityKey) int {
		return cmp.Or(cmp.Compare(a.kind, b.kind), cmp.Compare(a.name, b.name))
	}) {
		if e := w.entities[k]; e.body.Valid {
			rows = append(rows, string(k.kind), k.name, e.version, e.body.String)
		} else if _, err := w.tx.Exec(w.ctx, "DELETE FROM entities WHERE kind = ? AND name = ?", string(k.kind), k.name); err != nil {
			return fmt.Errorf("removing %s %s: %w", k.kind, k.name, err)
		}
	}
	if err := w.tx.Insert(w.ctx, intoEntities, rows); err != nil {
		return fmt.Errorf("storing what was changed: %w", err)
	}
	return nil
}

// forget takes the changes before the last KeptChanges out of the history, but none of those that were made together with one that stays:
// they are undone together.
func (w *writer) forget() error {
	if w.batch <= KeptChanges {
		return nil
	}
	_, err := w.tx.Exec(w.ctx, "DELETE FROM changes WHERE id < (SELECT batch FROM changes WHERE id > (SELECT max(id) FROM changes) - ? ORDER BY id LIMIT 1)", KeptChanges)
	return err
}

// sides are both sides of a change as JSON, NULL where there is none.
type sides struct {
	before, after sql.NullString
	err           error
}

// encodedTogether is how many changes are encoded by one goroutine, while those before them are written.
const encodedTogether = 1024

// encoded gives changes in their order with their sides as JSON. Those of many are encoded on all processors, ahead of whoever takes them.
func encoded(changes []site.Change) iter.Seq2[site.Change, sides] {
	return func(yield func(site.Change, sides) bool) {
		to := make([]sides, len(changes))
		parallel.Ahead(len(changes), encodedTogether, func(from, until int) {
			for i := from; i < until; i++ {
				to[i] = encode(changes[i])
			}
		}, func(from, until int) bool {
			for i := from; i < until; i++ {
				if !yield(changes[i], to[i]) {
					return false
				}
				to[i] = sides{}
			}
			return true
		})
	}
}

func encode(c site.Change) (s sides) {
	s.before, s.err = body(c.Before)
	if s.err == nil {
		s.after, s.err = body(c.After)
	}
	return s
}

// body is an entity as JSON, NULL when there is none.
func body(e site.Entity) (sql.NullString, error) {
	if e == nil {
		return sql.NullString{}, nil
	}
	b, err := json.Marshal(e)
	return sql.NullString{String: string(b), Valid: err == nil}, err
}
