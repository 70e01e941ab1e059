package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// Record is one recorded change of the site.
type Record struct {
	ID     int64           `json:"id"`
	Batch  int64           `json:"batch" doc:"id of the first change that was made together with this one"`
	Time   time.Time       `json:"time"`
	Who    string          `json:"who"`
	Kind   site.Kind       `json:"kind" enum:"link,station,point"`
	Action site.Action     `json:"action" enum:"add,change,remove"`
	Name   string          `json:"name"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// The most that is kept of the history; the oldest goes first.
const (
	KeptChanges = 1_000_000 // and the rest of what was changed together with the oldest of them
	KeptWrites  = 1_000_000
)

// WriteRecord is one recorded write to a device.
type WriteRecord struct {
	ID      int64       `json:"id"`
	Time    time.Time   `json:"time"`
	Who     string      `json:"who"`
	Tag     string      `json:"tag" doc:"empty for addresses without a point"`
	Station string      `json:"station" doc:"empty in records of before version 2"`
	Address string      `json:"address" doc:"canonical, the first"`
	Outcome string      `json:"outcome" enum:"done,refused,differs,unknown"`
	Before  codec.Value `json:"before"`
	Sent    codec.Value `json:"sent"`
	After   codec.Value `json:"after"`
	Message string      `json:"message"`
}

// Changes lists recorded changes, newest first, those before the id given (0: all); of one entity when name is set.
func (s *Store) Changes(ctx context.Context, kind site.Kind, name string, before int64, limit int) ([]Record, error) {
	return s.records(ctx, `SELECT id, batch, time, who, kind, action, name, before, after FROM changes
		WHERE (?1 = 0 OR id < ?1) AND (?2 = '' OR kind = ?2) AND (?3 = '' OR name = ?3) ORDER BY id DESC LIMIT ?4`, before, kind, name, limit)
}

func (s *Store) records(ctx context.Context, query string, args ...any) ([]Record, error) {
	rows, err := s.query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Record{}
	for rows.Next() {
		var r Record
		var at string
		var was, is sql.NullString
		if err := rows.Scan(&r.ID, &r.Batch, &at, &r.Who, &r.Kind, &r.Action, &r.Name, &was, &is); err != nil {
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

// Undo reverses a recorded change together with those made with it, in one new modification. What was changed again since
// is a fault, and nothing is undone then.
func (s *Store) Undo(ctx context.Context, who string, id int64) ([]site.Change, *site.Site, error) {
	records, err := s.batch(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	if len(records) == 0 {
		return nil, nil, fmt.Errorf("%w: %d", ErrNoChange, id)
	}
	return s.Modify(ctx, Edit{Who: who}, func(d *site.Draft, _ *site.Site) {
		for _, r := range records { // newest first
			if err := r.reverse(d); err != nil {
				d.Fail(&site.FieldError{Kind: r.Kind, Name: r.Name, Message: err.Error()})
			}
		}
	})
}

// reverse puts the entity of a record back to what it was before.
func (r Record) reverse(d *site.Draft) error {
	var before, after site.Entity
	var err error
	if r.Before != nil {
		if before, err = site.Decode(r.Kind, r.Before); err != nil {
			return err
		}
	}
	if r.After != nil {
		if after, err = site.Decode(r.Kind, r.After); err != nil {
			return err
		}
		if now, ok := d.Get(r.Kind, after.Key()); !ok || !reflect.DeepEqual(now, after) {
			return fmt.Errorf("was changed again since; undo that first")
		}
	}
	switch {
	case before == nil:
		d.Remove(r.Kind, after.Key(), false)
	case after == nil:
		d.Add(before)
	default:
		d.Replace(after.Key(), before)
	}
	return nil
}

// batch returns the changes that were made together with the one of that id, newest first.
func (s *Store) batch(ctx context.Context, id int64) ([]Record, error) {
	var first int64
	if err := s.queryRow(ctx, "SELECT batch FROM changes WHERE id = ?", id).Scan(&first); errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	// They were recorded one after another, beginning with the one that the batch is called after.
	return s.records(ctx, `SELECT id, batch, time, who, kind, action, name, before, after FROM changes
		WHERE id >= ?1 AND id < coalesce((SELECT id FROM changes WHERE id > ?1 AND batch <> ?1 ORDER BY id LIMIT 1), ?1 + 1 + (SELECT max(id) FROM changes)) ORDER BY id DESC`, first)
}

// BeginWrite records that a value is about to be sent; EndWrite completes the record. Between the two its outcome is
// unknown, which is what it stays when the service ends in between.
func (s *Store) BeginWrite(ctx context.Context, w WriteRecord) (id int64, err error) {
	if err := s.present(); err != nil {
		return 0, err
	}
	before, sent, _, err := values(w)
	if err != nil {
		return 0, err
	}
	result, err := s.db.ExecContext(ctx, "INSERT INTO writes (time, who, tag, station, address, outcome, before, sent, after, message) VALUES (?, ?, ?, ?, ?, 'unknown', ?, ?, 'null', 'the service ended before the outcome was known')",
		w.Time.UTC().Format(time.RFC3339Nano), w.Who, w.Tag, w.Station, w.Address, before, sent)
	if err != nil {
		return 0, fmt.Errorf("recording the write: %w", named(err))
	}
	if id, err = result.LastInsertId(); err != nil || id <= KeptWrites {
		return id, err
	}
	_, _ = s.db.ExecContext(ctx, "DELETE FROM writes WHERE id <= ?", id-KeptWrites) // what stays goes with the next
	return id, nil
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
	_, err = s.db.ExecContext(ctx, "UPDATE writes SET outcome = ?, before = ?, sent = ?, after = ?, message = ? WHERE id = ?",
		w.Outcome, before, sent, after, w.Message, id)
	if err == nil {
		err = s.present()
	}
	return named(err)
}

// Later completes the record of a write as soon as the disk takes it again, however long that is; Close tries it a last time.
func (s *Store) Later(id int64, w WriteRecord) {
	s.later.mu.Lock()
	defer s.later.mu.Unlock()
	if s.later.list = append(s.later.list, lateRecord{id, w}); len(s.later.list) > mostLater { // the disk has been failing for very long
		s.later.list = s.later.list[1:]
	}
	if !s.later.running {
		s.later.running = true
		s.later.done.Go(s.completeLater)
	}
}

const (
	laterEvery = time.Second
	mostLater  = 10_000
)

type lateRecord struct {
	id     int64
	record WriteRecord
}

// later are records that could not be completed yet.
type later struct {
	mu      sync.Mutex
	list    []lateRecord
	running bool
	done    sync.WaitGroup
}

// completeLater tries again and again until nothing is left or the store closes.
func (s *Store) completeLater() {
	ticker := time.NewTicker(laterEvery)
	defer ticker.Stop()
	for {
		closing := false
		select {
		case <-ticker.C:
		case <-s.closing:
			closing = true
		}
		s.later.mu.Lock()
		list := s.later.list
		s.later.list = nil
		s.later.mu.Unlock()
		n := 0
		for ; n < len(list); n++ {
			if s.EndWrite(context.Background(), list[n].id, list[n].record) != nil {
				break
			}
		}
		s.later.mu.Lock()
		s.later.list = append(list[n:], s.later.list...)
		if len(s.later.list) == 0 || closing {
			s.later.running = false
			s.later.mu.Unlock()
			return
		}
		s.later.mu.Unlock()
	}
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
	rows, err := s.query(ctx, `SELECT id, time, who, tag, station, address, outcome, before, sent, after, message FROM writes
		WHERE (?1 = 0 OR id < ?1) AND (?2 = '' OR tag = ?2) ORDER BY id DESC LIMIT ?3`, before, tag, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []WriteRecord{}
	for rows.Next() {
		var w WriteRecord
		var at, was, sent, after string
		if err := rows.Scan(&w.ID, &at, &w.Who, &w.Tag, &w.Station, &w.Address, &w.Outcome, &was, &sent, &after, &w.Message); err != nil {
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
