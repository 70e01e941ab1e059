package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// ColumnSet is what the columns of a kind of list hold, kept under a name for the next one.
type ColumnSet struct {
	Name    string
	Time    time.Time
	Who     string
	Columns map[string]string // headings, by field
}

// MostColumnSets is how many are kept.
const MostColumnSets = 1000

// ErrNoColumns says that no columns are kept under a name.
var ErrNoColumns = errors.New("no columns are kept under that name")

// ColumnSets lists what is kept, by name.
func (s *Store) ColumnSets(ctx context.Context) ([]ColumnSet, error) {
	rows, err := s.db.Query(ctx, "SELECT name, time, who, body FROM column_sets ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []ColumnSet{}
	for rows.Next() {
		var c ColumnSet
		var at, body string
		if err := rows.Scan(&c.Name, &at, &c.Who, &body); err != nil {
			return nil, err
		}
		c.Time = when(at)
		if err := json.Unmarshal([]byte(body), &c.Columns); err != nil {
			return nil, fmt.Errorf("columns %s: %w", c.Name, err)
		}
		list = append(list, c)
	}
	return list, rows.Err()
}

// KeepColumns keeps columns under a name, in the place of those that were.
func (s *Store) KeepColumns(ctx context.Context, who, name string, columns map[string]string) error {
	body, err := json.Marshal(columns)
	if err != nil {
		return err
	}
	var n int
	if err := s.db.QueryRow(ctx, "SELECT count(*) FROM column_sets WHERE name <> ?", name).Scan(&n); err != nil {
		return err
	}
	if n >= MostColumnSets {
		return fmt.Errorf("%d sets of columns are kept already; drop one first", n)
	}
	_, err = s.db.Exec(ctx, "INSERT INTO column_sets (name, time, who, body) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET time = excluded.time, who = excluded.who, body = excluded.body",
		name, time.Now().UTC().Format(time.RFC3339Nano), who, string(body))
	return err
}

// DropColumns forgets the columns under a name.
func (s *Store) DropColumns(ctx context.Context, name string) error {
	result, err := s.db.Exec(ctx, "DELETE FROM column_sets WHERE name = ?", name)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNoColumns)
	}
	return nil
}
