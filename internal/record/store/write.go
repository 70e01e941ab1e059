package store

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// WriteRecord is one recorded write to a device.
type WriteRecord struct {
	ID      int64
	Time    time.Time
	Who     string
	From    string // network address of who it is; for the audit log alone
	Tag     string // empty for addresses without a point
	Station string // empty in records of before version 2
	Address string // canonical, the first
	Outcome string
	Tried   string // what was to be written, as a person reads it; empty in records of before version 6
	Before  codec.Value
	Sent    codec.Value
	After   codec.Value
	Message string
}

// BeginWrite records that a value is about to be sent; EndWrite completes the record. Between the two its outcome is
// unknown, which is what it stays when the service ends in between.
func (s *Store) BeginWrite(ctx context.Context, w WriteRecord) (id int64, err error) {
	before, sent, _, err := values(w)
	if err != nil {
		return 0, err
	}
	if err := s.db.Change(ctx, func(tx *database.Tx) error {
		result, err := tx.Exec(ctx, "INSERT INTO writes (time, who, tag, station, address, tried, outcome, before, sent, after, message) VALUES (?, ?, ?, ?, ?, ?, 'unknown', ?, ?, 'null', 'the service ended before the outcome was known')",
			w.Time.UTC().Format(time.RFC3339Nano), w.Who, w.Tag, w.Station, w.Address, w.Tried, before, sent)
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		if id > KeptWrites {
			if _, err := tx.Exec(ctx, "DELETE FROM writes WHERE id <= ?", id-KeptWrites); err != nil {
				return err
			}
		}
		return audit.Append(ctx, tx, w.entry(fmt.Sprintf("%s is sent to %s", cmp.Or(w.Tried, "a command"), w.target())))
	}); err != nil {
		return 0, fmt.Errorf("recording the write: %w", err)
	}
	return id, nil
}

// target is what a write goes to.
func (w WriteRecord) target() string {
	return cmp.Or(w.Tag, strings.TrimSpace(w.Station+" "+w.Address))
}

func (w WriteRecord) entry(detail string) audit.Entry {
	return audit.Entry{Who: w.Who, From: w.From, Action: audit.Write, Subject: w.target(), Detail: detail}
}

// EndWrite completes the record of a write; with id 0 it makes one.
func (s *Store) EndWrite(ctx context.Context, id int64, w WriteRecord) error {
	if id == 0 {
		var err error
		if id, err = s.BeginWrite(ctx, w); err != nil {
			return err
		}
	}
	before, sent, after, err := values(w)
	if err != nil {
		return err
	}
	return s.db.Change(ctx, func(tx *database.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE writes SET outcome = ?, before = ?, sent = ?, after = ?, message = ? WHERE id = ?",
			w.Outcome, before, sent, after, w.Message, id); err != nil {
			return err
		}
		return audit.Append(ctx, tx, w.entry(strings.TrimSuffix(w.Outcome+": "+w.Message, ": ")))
	})
}

func values(w WriteRecord) (before, sent, after string, err error) {
	for _, v := range []struct {
		value codec.Value
		to    *string
	}{{w.Before, &before}, {w.Sent, &sent}, {w.After, &after}} {
		b, err := v.value.MarshalJSON()
		if err != nil {
			return "", "", "", err
		}
		*v.to = string(b)
	}
	return before, sent, after, nil
}

// Writes lists recorded writes, newest first, those before the id given (0: all); to one tag when it is set.
func (s *Store) Writes(ctx context.Context, tag string, before int64, limit int) ([]WriteRecord, error) {
	rows, err := s.db.Query(ctx, `SELECT id, time, who, tag, station, address, outcome, tried, before, sent, after, message FROM writes
		WHERE (?1 = 0 OR id < ?1) AND (?2 = '' OR tag = ?2) ORDER BY id DESC LIMIT ?3`, before, tag, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []WriteRecord{}
	for rows.Next() {
		var w WriteRecord
		var at, was, sent, after string
		if err := rows.Scan(&w.ID, &at, &w.Who, &w.Tag, &w.Station, &w.Address, &w.Outcome, &w.Tried, &was, &sent, &after, &w.Message); err != nil {
			return nil, err
		}
		w.Time = when(at)
		for _, v := range []struct {
			text string
			to   *codec.Value
		}{{was, &w.Before}, {sent, &w.Sent}, {after, &w.After}} {
			if err := v.to.UnmarshalJSON([]byte(v.text)); err != nil {
				return nil, err
			}
		}
		list = append(list, w)
	}
	return list, rows.Err()
}
