package store

import (
	"context"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// Quarantined is a record that did not fit the site when it was loaded. It is kept as it was, and the rest runs.
type Quarantined struct {
	Time time.Time
	Kind site.Kind
	Name string
	Body string // as it was stored
	Why  string // why it does not fit, in words
}

// quarantine puts records aside in one transaction.
func (s *Store) quarantine(ctx context.Context, list []Quarantined) error {
	if len(list) == 0 {
		return nil
	}
	return s.db.Change(ctx, func(tx *database.Tx) error {
		for _, q := range list {
			if _, err := tx.Exec(ctx, "INSERT INTO quarantine (time, kind, name, body, why) VALUES (?, ?, ?, ?, ?)", q.Time.Format(time.RFC3339Nano), q.Kind, q.Name, q.Body, q.Why); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "DELETE FROM entities WHERE kind = ? AND name = ?", q.Kind, q.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Quarantined lists what was put aside, newest first.
func (s *Store) Quarantined(ctx context.Context) ([]Quarantined, error) {
	rows, err := s.db.Query(ctx, "SELECT time, kind, name, body, why FROM quarantine ORDER BY id DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Quarantined{}
	for rows.Next() {
		var q Quarantined
		var at string
		if err := rows.Scan(&at, &q.Kind, &q.Name, &q.Body, &q.Why); err != nil {
			return nil, err
		}
		q.Time = when(at)
		list = append(list, q)
	}
	return list, rows.Err()
}

// when reads a time as it is stored; the zero time of one that is damaged, which hides nothing else.
func when(text string) time.Time {
	at, _ := time.Parse(time.RFC3339Nano, text)
	return at
}
