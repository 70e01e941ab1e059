// Package alarmlog keeps alarms over restarts, and what happened to them.
package alarmlog

import (
	"context"
	"encoding/json"
	"time"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// Entry is one thing that happened to an alarm.
type Entry struct {
	ID       int64 `json:"-"`
	Time     time.Time
	Tag      string
	Limit    site.Limit
	Step     alarm.Step
	Value    string // as a person reads it, with its unit
	Bound    *float64
	Severity int
	Who      string // empty: it came by itself
	Note     string
	Until    time.Time // of one that was shelved
}

// MostEntries is how many are kept; the oldest goes first.
const MostEntries = 1_000_000

// Log is the log of a database. It is safe for concurrent use.
type Log struct{ db *database.Database }

// Open returns the log of a database.
func Open(db *database.Database) *Log { return &Log{db} }

// Save puts on the disk what alarms have become, and what happened. Those that are empty are taken out. It gives the entries their numbers.
func (l *Log) Save(ctx context.Context, alarms []alarm.Alarm, entries []Entry) error {
	return l.db.Change(ctx, func(tx *database.Tx) error {
		for _, a := range alarms {
			if a.Empty() {
				if _, err := tx.Exec(ctx, "DELETE FROM alarms WHERE tag = ? AND bound = ?", a.Tag, a.Limit); err != nil {
					return err
				}
				continue
			}
			body, err := json.Marshal(a)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "INSERT OR REPLACE INTO alarms (tag, bound, body) VALUES (?, ?, ?)", a.Tag, a.Limit, string(body)); err != nil {
				return err
			}
		}
		last := int64(0)
		for i := range entries {
			e := &entries[i]
			body, err := json.Marshal(e)
			if err != nil {
				return err
			}
			result, err := tx.Exec(ctx, "INSERT INTO alarm_log (time, tag, bound, step, body) VALUES (?, ?, ?, ?, ?)", stamp(e.Time), e.Tag, e.Limit, e.Step, string(body))
			if err != nil {
				return err
			}
			if last, err = result.LastInsertId(); err != nil {
				return err
			}
			e.ID = last
		}
		if last > MostEntries {
			_, err := tx.Exec(ctx, "DELETE FROM alarm_log WHERE id <= ?", last-MostEntries)
			return err
		}
		return nil
	})
}

// Load gives the alarms as they were saved last.
func (l *Log) Load(ctx context.Context) ([]alarm.Alarm, error) {
	rows, err := l.db.Query(ctx, "SELECT body FROM alarms ORDER BY tag, bound")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []alarm.Alarm
	for rows.Next() {
		var body string
		var a alarm.Alarm
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &a); err != nil {
			continue // of another version; what still holds comes up again
		}
		list = append(list, a)
	}
	return list, rows.Err()
}

// Filter says which entries are wanted.
type Filter struct {
	After   int64 // only later ones
	Before  int64 // only earlier ones; 0 for all
	Forward bool  // the oldest first; otherwise the newest
	Match   func(tag string) bool
	From    time.Time
	Until   time.Time
	Limit   int
}

// Entries lists what happened.
func (l *Log) Entries(ctx context.Context, f Filter) ([]Entry, error) {
	order := "DESC"
	if f.Forward {
		order = "ASC"
	}
	rows, err := l.db.Query(ctx, `SELECT id, tag, body FROM alarm_log WHERE id > ?1 AND (?2 = 0 OR id < ?2) AND (?3 = '' OR time >= ?3) AND (?4 = '' OR time < ?4) ORDER BY id `+order,
		f.After, f.Before, stamp(f.From), stamp(f.Until))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Entry{}
	for rows.Next() && len(list) < f.Limit {
		var id int64
		var tag, body string
		if err := rows.Scan(&id, &tag, &body); err != nil {
			return nil, err
		}
		var e Entry
		if f.Match != nil && !f.Match(tag) || json.Unmarshal([]byte(body), &e) != nil {
			continue
		}
		e.ID = id
		list = append(list, e)
	}
	return list, rows.Err()
}

// Last is the number of the newest entry, 0 for none.
func (l *Log) Last(ctx context.Context) (id int64, err error) {
	err = l.db.QueryRow(ctx, "SELECT coalesce(max(id), 0) FROM alarm_log").Scan(&id)
	return id, err
}

// Committed is closed when something is put on the disk next.
func (l *Log) Committed() <-chan struct{} { return l.db.Committed() }

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02T15:04:05.000Z") // of one length, so that it is ordered
}
