package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"reflect"
	"slices"

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
	var made []site.Change
	for _, r := range slices.Backward(records) { // oldest first
		c, err := r.Change()
		if err != nil {
			return nil, nil, fmt.Errorf("change %d: %w", r.ID, err)
		}
		made = append(made, c)
	}
	made = site.Settled(made)
	var inWay []*obstacle
	edit.Back = true
	changes, left, err := s.Modify(ctx, edit, func(d *site.Draft, _ *site.Site) {
		inWay = reverse(d, made)
		for _, o := range inWay {
			d.Fail(o.fault)
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
	entityKey
	why   string
	fault *site.FieldError // of the change that cannot be undone
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

// stands is an entity that stands in the way of undoing a change.
func stands(c site.Change, e site.Entity, why string) *obstacle {
	return &obstacle{entityKey{e.Kind(), e.Key()}, why, &site.FieldError{Kind: c.Kind(), Name: c.Name(), Message: why}}
}

// reverse puts what changes made into a draft as it was before, unless something stands in the way.
func reverse(d *site.Draft, made []site.Change) (inWay []*obstacle) {
	wanted := map[entityKey]bool{} // names that come back
	for _, c := range made {
		if c.Before != nil && (c.After == nil || c.Before.Key() != c.After.Key()) {
			wanted[entityKey{c.Kind(), c.Before.Key()}] = true
		}
		if c.After == nil {
			continue
		}
		if now, ok := d.Get(c.Kind(), c.After.Key()); !ok || !reflect.DeepEqual(now, c.After) {
			inWay = append(inWay, stands(c, c.After, "was changed again since"))
		}
	}
	if len(inWay) > 0 {
		return inWay
	}
	// Names first, of what others belong to before those: who belongs to it follows, whoever came to it since. What was added goes last: it may hold
	// what belongs elsewhere until then.
	added := map[site.Kind][]string{}
	renamed := map[site.Kind][]site.Replacement{}
	for _, c := range made {
		kind := c.Kind()
		switch {
		case c.Before == nil:
			name := c.After.Key()
			if wanted[entityKey{kind, name}] {
				name = d.SetAside(kind, name)
			}
			added[kind] = append(added[kind], name)
		case c.After != nil && c.Before.Key() != c.After.Key():
			renamed[kind] = append(renamed[kind], site.Replacement{Old: c.After.Key(), New: c.Before})
		}
	}
	kinds := site.Kinds()
	for _, kind := range kinds {
		d.ReplaceAll(renamed[kind])
		for _, c := range made {
			switch {
			case c.Kind() != kind || c.Before == nil:
			case c.After == nil:
				d.Add(c.Before)
			case c.Before.Key() == c.After.Key():
				d.Put(c.Before)
			}
		}
	}
	for _, kind := range slices.Backward(kinds) {
		for _, name := range added[kind] {
			e, there := d.Get(kind, name)
			if !there {
				continue
			}
			if below := d.Dependents(e); len(below) > 0 {
				inWay = append(inWay, stands(site.Change{After: e}, below[0], fmt.Sprintf("has %s %s since, which was added", below[0].Kind(), below[0].Key())))
				continue
			}
			d.Remove(kind, name, false)
		}
	}
	return inWay
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
