package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/record/database"
)

// KeptEvents is how many events are kept; the oldest go first.
const KeptEvents = 1_000_000

// EventRecord is a change that a device reported.
type EventRecord struct {
	ID         uint64 // counts up; one that is missing was lost
	Tag        string
	Station    string
	Value      codec.Value
	Text       string // as a person would read it
	Unit       string
	Quality    reading.Quality
	Reason     reading.Reason
	Raw        string              // the object, with its flags
	Time       time.Time           // when it became known
	SourceTime *reading.DeviceTime // the device's own
}

// LastEvent is the ID of the newest event, 0 when there is none.
func (s *Store) LastEvent(ctx context.Context) (id uint64, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(max(id), 0) FROM events").Scan(&id)
	return id, err
}

// AddEvents keeps events and forgets the oldest when there are too many.
func (s *Store) AddEvents(ctx context.Context, list []EventRecord) error {
	if len(list) == 0 {
		return nil
	}
	if err := s.db.Change(ctx, func(tx *database.Tx) error { return addEvents(ctx, tx, list) }); err != nil {
		return fmt.Errorf("keeping events: %w", err)
	}
	return nil
}

func addEvents(ctx context.Context, tx *database.Tx, list []EventRecord) error {
	insert, err := tx.Prepared(ctx, "INSERT OR REPLACE INTO events (id, time, source_time, station, tag, value, text, unit, quality, reason, raw) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	for _, e := range list {
		value, err := e.Value.MarshalJSON()
		if err != nil {
			return err
		}
		var source sql.NullInt64
		if e.SourceTime != nil {
			source = sql.NullInt64{Int64: e.SourceTime.UnixMilli(), Valid: true}
		}
		if _, err := insert.ExecContext(ctx, e.ID, e.Time.UnixMicro(), source, e.Station, e.Tag, string(value), e.Text, e.Unit, e.Quality.String(), string(e.Reason), e.Raw); err != nil {
			return err
		}
	}
	if last := list[len(list)-1].ID; last > KeptEvents {
		if _, err := tx.Exec(ctx, "DELETE FROM events WHERE id <= ?", last-KeptEvents); err != nil {
			return err
		}
	}
	return nil
}

// EventFilter says which events are wanted.
type EventFilter struct {
	Tag     string // pattern with * for any characters; "" for all
	Station string
	After   uint64 // only later ones, from the oldest on; otherwise the newest
	Before  uint64 // only earlier ones; 0 for all
	From    time.Time
	Until   time.Time
	Limit   int
}

// globbed makes a pattern in which only * stands for others one of SQLite's GLOB, to which ? and [ mean something, too.
var globbed = strings.NewReplacer("?", "[?]", "[", "[[]")

// Events lists events in their order: the newest that are wanted, or those after one.
func (s *Store) Events(ctx context.Context, f EventFilter) ([]EventRecord, error) {
	order := "DESC"
	if f.After > 0 {
		order = "ASC"
	}
	from, until := int64(0), int64(1)<<62
	if !f.From.IsZero() {
		from = f.From.UnixMicro()
	}
	if !f.Until.IsZero() {
		until = f.Until.UnixMicro()
	}
	before := int64(1) << 62
	if f.Before > 0 {
		before = int64(f.Before)
	}
	tag := globbed.Replace(cmp.Or(f.Tag, "*"))
	rows, err := s.db.Query(ctx, `SELECT id, time, source_time, station, tag, value, text, unit, quality, reason, raw FROM events
		WHERE id > ?1 AND id < ?2 AND (?3 = '*' OR tag GLOB ?3) AND (?4 = '' OR station = ?4) AND time >= ?5 AND time < ?6 ORDER BY id `+order+` LIMIT ?7`,
		int64(f.After), before, tag, f.Station, from, until, f.Limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []EventRecord{}
	for rows.Next() {
		var e EventRecord
		var at int64
		var source sql.NullInt64
		var value, quality string
		if err := rows.Scan(&e.ID, &at, &source, &e.Station, &e.Tag, &value, &e.Text, &e.Unit, &quality, &e.Reason, &e.Raw); err != nil {
			return nil, err
		}
		e.Time = time.UnixMicro(at).UTC()
		if source.Valid {
			e.SourceTime = &reading.DeviceTime{Time: time.UnixMilli(source.Int64).UTC()}
		}
		if err := e.Value.UnmarshalJSON([]byte(value)); err != nil {
			return nil, err
		}
		if err := e.Quality.UnmarshalText([]byte(quality)); err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	if f.After == 0 { // they were read from the newest on
		slices.Reverse(list)
	}
	return list, rows.Err()
}
