package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"reflect"

	"arithmon/internal/core/site"
)

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
