package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// Edit says how to modify the site.
type Edit struct {
	Who     string
	From    string                                            // network address of who it is; for the audit log
	Permit  func(now *site.Site, changes []site.Change) error // what it would change may not be changed when this gives an error; nil: all may
	Message string                                            // what is said of it; kept with the change set
	DryRun  bool                                              // find out what would change, and change nothing
	Back    bool                                              // it puts back what was there once: stations are as they were, whatever their templates say
	// Expect is the version an entity must have, or the modification fails with ErrStale; 0 for any.
	Expect     int64
	ExpectKind site.Kind
	ExpectName string

	decides int64 // the proposal that this takes; 0 for none
}

// modification is a modification that is to be made, and what came of it.
type modification struct {
	ctx  context.Context
	edit Edit
	fill func(*site.Draft, *site.Site)

	changes []site.Change
	left    *site.Site // as it leaves it
	err     error
	done    chan struct{}

	upon bool // what was not written yet when it was prepared
}

// mostTogether is how many modifications are written in one transaction at most.
const mostTogether = 64

// Modify lets fill put together a draft, checks it, writes what it changes in one transaction, and returns that and the site as it is then.
// The error of a draft that is not consistent is site.Errors; nothing was changed then. Modifications are made one after another;
// those that wait for the disk at the same time share its effort. fill must not call the store.
func (s *Store) Modify(ctx context.Context, edit Edit, fill func(*site.Draft, *site.Site)) ([]site.Change, *site.Site, error) {
	m := &modification{ctx: ctx, edit: edit, fill: fill, done: make(chan struct{})}
	select {
	case s.edits <- m:
	case <-s.closing:
		return nil, s.Site(), errClosing
	case <-ctx.Done():
		return nil, s.Site(), ctx.Err()
	}
	select {
	case <-m.done:
	case <-s.stopped:
		select {
		case <-m.done:
		default:
			return nil, s.Site(), errClosing
		}
	}
	return site.Settled(m.changes), m.left, m.err
}

// errClosing says that the store takes no modification any more.
var errClosing = fmt.Errorf("the service is stopping; nothing was changed")

// modifier makes modifications, until the store closes. It alone changes the site.
func (s *Store) modifier() {
	defer close(s.stopped)
	var last round
	for {
		select {
		case <-s.closing:
			return
		case m := <-s.edits:
			together := s.gather(m, last)
			s.committing = 0
			s.modify(together)
			for _, m := range together {
				close(m.done)
			}
			last = round{ended: time.Now(), expected: len(together) + len(s.edits), wait: min(s.committing/waitShare, longestWait)}
		}
	}
}

// round is how a transaction went: what the next one may expect.
type round struct {
	ended    time.Time
	expected int           // modifications that may come at once: those who were answered may have their next one, and some waited
	wait     time.Duration // how long after its end they are waited for
}

// The next transaction waits for those who were just answered: at most a waitShare-th of the time the last one took. Several who edit one
// after the other otherwise fall into two groups that take turns, each waiting for the transaction of the other. Someone alone, and
// whoever comes later than that, waits for nobody.
const (
	waitShare   = 2
	longestWait = 10 * time.Millisecond
)

// gather takes the modifications that are made in one transaction with the first.
func (s *Store) gather(first *modification, last round) []*modification {
	together := append(make([]*modification, 0, mostTogether), first)
	for len(together) < mostTogether && len(s.edits) > 0 {
		together = append(together, <-s.edits)
	}
	left := last.wait - time.Since(last.ended)
	expected := min(last.expected, mostTogether)
	if len(together) >= expected || left <= 0 {
		return together
	}
	enough := time.NewTimer(left)
	defer enough.Stop()
	for len(together) < expected {
		select {
		case m := <-s.edits:
			together = append(together, m)
		case <-enough.C:
			return together
		case <-s.closing:
			return together
		}
	}
	return together
}

// modify makes modifications, each on top of those before it, and writes them in one transaction. What one of them does wrong is its own
// matter; what is wrong with the disk, that of all.
func (s *Store) modify(together []*modification) {
	began := s.Site()
	now := began
	var changed []*modification
	for _, m := range together {
		m.upon = now != began
		if m.err = m.prepare(now); m.err == nil && len(m.changes) > 0 && !m.edit.DryRun {
			m.left = now.With(m.changes)
			now = m.left
			changed = append(changed, m)
		} else {
			m.left = now
		}
	}
	if len(changed) == 0 {
		return
	}
	if err := s.write(changed); err != nil {
		s.log.Error("changes could not be stored", "modifications", len(changed), "error", err)
		for _, m := range together {
			if m.upon || slices.Contains(changed, m) { // what it saw, or did, is not there
				m.changes, m.left, m.err = nil, began, database.Named(err)
			}
		}
		return
	}
	s.site.Store(now)
	for _, m := range changed {
		s.log.Info("site changed", "who", m.edit.Who, "changes", len(m.changes), "first", fmt.Sprintf("%s %s %s", m.changes[0].Action(), m.changes[0].Kind(), m.changes[0].Name()))
	}
	if s.follow != nil {
		var changes []site.Change
		for _, m := range changed {
			changes = append(changes, m.changes...)
		}
		if panicked := crash.Catch(func() { s.follow(now, changes) }); panicked != nil {
			for _, m := range changed {
				m.err = fmt.Errorf("the change is stored, and was not put into force: %w", panicked)
			}
		}
	}
}

// prepare finds out what a modification changes.
func (m *modification) prepare(now *site.Site) (err error) {
	if err := m.ctx.Err(); err != nil {
		return err
	}
	if e := m.edit; e.Expect != 0 {
		if version := now.Version(e.ExpectKind, e.ExpectName); version != e.Expect {
			return fmt.Errorf("%s %s was %w: its version is %d, yours %d. Read it again and repeat the change", e.ExpectKind, e.ExpectName, ErrStale, version, e.Expect)
		}
	}
	if panicked := crash.Catch(func() {
		draft := now.Edit()
		m.fill(draft, now)
		tie.Follow(draft, m.edit.Back)
		m.changes, err = draft.Changes()
	}); panicked != nil {
		return panicked
	}
	if err == nil && m.edit.Permit != nil {
		if err = m.edit.Permit(now, site.Settled(m.changes)); err != nil {
			m.changes = nil
		}
	}
	return err
}

// write stores what modifications change, and its record, in one transaction.
func (s *Store) write(changed []*modification) error {
	ctx := context.Background() // who asked for one of them may go away
	tx, err := s.db.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	w := writer{ctx: ctx, tx: tx, entities: map[entityKey]entity{}, now: time.Now().UTC().Format(time.RFC3339Nano)}
	if err := tx.Row(ctx, "SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'changes'), 0)", nil, &w.last); err != nil {
		return err
	}
	log := make([]audit.Entry, 0, len(changed))
	for _, m := range changed {
		w.who, w.message, w.batch = m.edit.Who, m.edit.Message, w.last+1
		if err := w.record(m.changes, m.left); err != nil {
			return err
		}
		if m.edit.decides != 0 {
			result, err := tx.Exec(ctx, "UPDATE proposals SET state = ?, decided_by = ?, decided_time = ?, change = ? WHERE id = ? AND state = 'open'", TakenProposal, w.who, w.now, w.batch, m.edit.decides)
			if err != nil {
				return err
			}
			if n, err := result.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, fmt.Errorf("proposal %d %w", m.edit.decides, ErrDecided))
			}
		}
		log = append(log, audit.Entry{Who: m.edit.Who, From: m.edit.From, Action: audit.SiteChange, Subject: fmt.Sprint("change ", w.batch), Detail: told(m.edit.Message, site.Settled(m.changes))})
	}
	if err := w.settle(); err != nil {
		return err
	}
	if err := audit.Append(ctx, tx, log...); err != nil {
		return fmt.Errorf("audit log: %w", err)
	}
	if err := w.forget(); err != nil {
		return fmt.Errorf("removing the oldest changes from the history: %w", err)
	}
	began := time.Now()
	if err = s.db.Commit(tx); err == nil {
		s.last.Store(w.last)
	}
	s.committing = time.Since(began)
	return err
}

// told says what changes do, in words for the audit log: what is said of them, how many, and the first ones.
func told(message string, changes []site.Change) string {
	const few = 5
	counts := map[site.Action]int{}
	var first []string
	for _, c := range changes {
		counts[c.Action()]++
		if len(first) < few {
			first = append(first, fmt.Sprintf("%s %s %s", c.Action(), c.Kind(), c.Name()))
		}
	}
	text := fmt.Sprintf("%d added, %d changed, %d removed: %s", counts[site.Add], counts[site.Modify], counts[site.Remove], strings.Join(first, ", "))
	if len(changes) > few {
		text += " …"
	}
	if message != "" {
		text = message + "; " + text
	}
	return text
}
