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
func (s *Store) Undo(ctx context.Context, edit Edit, id int64) ([]site.Change, *site.Site, error) {
	records, err := s.batch(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	if len(records) == 0 {
		return nil, nil, fmt.Errorf("%w: %d", ErrNoChange, id)
	}
	var inWay []*obstacle
	edit.Back = true
	changes, left, err := s.Modify(ctx, edit, func(d *site.Draft, _ *site.Site) {
		inWay = nil
		for _, r := range records { // newest first
			o, err := r.reverse(d)
			if o != nil {
				o.fault = &site.FieldError{Kind: r.Kind, Name: r.Name, Message: o.why}
				inWay = append(inWay, o)
				d.Fail(o.fault)
			} else if err != nil {
				d.Fail(&site.FieldError{Kind: r.Kind, Name: r.Name, Message: err.Error()})
			}
		}
	})
	for _, o := range inWay {
		if err := s.nameLater(ctx, o, records[0].ID); err != nil {
			return nil, nil, err
		}
	}
	return changes, left, err
}

// obstacle is why a change cannot be undone: what became of an entity since.
type obstacle struct {
	kind  site.Kind
	name  string
	why   string
	fault *site.FieldError
}

// nameLater says in the fault of an obstacle which later change stands in the way.
func (s *Store) nameLater(ctx context.Context, o *obstacle, after int64) error {
	later, err := s.records(ctx, `SELECT id, batch, time, who, kind, action, name, before, after, message FROM changes
		WHERE id > ?1 AND kind = ?2 AND (name = ?3 OR json_extract(before, '$.'||?4) = ?3) ORDER BY id DESC LIMIT 1`, after, o.kind, o.name, site.KeyField(o.kind))
	if err != nil || len(later) == 0 {
		return err
	}
	l := later[0]
	o.fault.Message = fmt.Sprintf("%s by change %d (%s %s, by %s at %s); undo change %d first", o.why, l.ID, l.Action, o.name, l.Who, l.Time.UTC().Format("2006-01-02 15:04:05 UTC"), l.ID)
	return nil
}

// reverse puts the entity of a record back to what it was before, unless something stands in the way.
func (r Record) reverse(d *site.Draft) (*obstacle, error) {
	c, err := r.Change()
	if err != nil {
		return nil, err
	}
	before, after := c.Before, c.After
	if after != nil {
		if now, ok := d.Get(r.Kind, after.Key()); !ok || !reflect.DeepEqual(now, after) {
			return &obstacle{kind: r.Kind, name: after.Key(), why: "was changed again since"}, nil
		}
	}
	switch {
	case before == nil:
		if below := d.Dependents(after); len(below) > 0 {
			return &obstacle{kind: below[0].Kind(), name: below[0].Key(), why: fmt.Sprintf("has %s %s since, which was added", below[0].Kind(), below[0].Key())}, nil
		}
		d.Remove(r.Kind, after.Key(), false)
	case after == nil:
		d.Add(before)
	default:
		d.Replace(after.Key(), before)
	}
	return nil, nil
}

// batch returns the changes that were made together with the one of that id, newest first.
func (s *Store) batch(ctx context.Context, id int64) ([]Record, error) {
	var first int64
	if err := s.db.QueryRow(ctx, "SELECT batch FROM changes WHERE id = ?", id).Scan(&first); errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	// They were recorded one after another, beginning with the one that the batch is called after.
	return s.records(ctx, `SELECT id, batch, time, who, kind, action, name, before, after, message FROM changes
		WHERE id >= ?1 AND id < coalesce((SELECT id FROM changes WHERE id > ?1 AND batch <> ?1 ORDER BY id LIMIT 1), ?1 + 1 + (SELECT max(id) FROM changes)) ORDER BY id DESC`, first)
}
