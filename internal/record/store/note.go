package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"arithmon/internal/core/site"
)

// Note is what somebody wrote at a link, a station or a point.
type Note struct {
	ID       int64
	Kind     site.Kind
	Name     string // of what it stands at; it follows renamings
	Text     string
	Who      string
	Time     time.Time
	DoneBy   string // empty: it is open
	DoneTime time.Time
}

// Bounds of notes.
const (
	MaxNote   = 4000 // bytes
	MostNotes = 100_000
)

// ErrNoNote says that there is no note of a number.
var ErrNoNote = errors.New("there is no note")

// Notes lists notes, newest first: at one entity when it is named, the open ones alone when that is asked for.
func (s *Store) Notes(ctx context.Context, kind site.Kind, name string, open bool) ([]Note, error) {
	rows, err := s.db.Query(ctx, `SELECT id, kind, name, text, who, time, done_by, done_time FROM notes
		WHERE (?1 = '' OR kind = ?1) AND (?2 = '' OR name = ?2) AND (NOT ?3 OR done_by = '') ORDER BY id DESC`, kind, name, open)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Note{}
	for rows.Next() {
		var n Note
		var at, done string
		if err := rows.Scan(&n.ID, &n.Kind, &n.Name, &n.Text, &n.Who, &at, &n.DoneBy, &done); err != nil {
			return nil, err
		}
		n.Time, n.DoneTime = when(at), when(done)
		list = append(list, n)
	}
	return list, rows.Err()
}

// Note is one note; its error is ErrNoNote.
func (s *Store) Note(ctx context.Context, id int64) (Note, error) {
	list, err := s.Notes(ctx, "", "", false)
	if err != nil {
		return Note{}, err
	}
	for _, n := range list {
		if n.ID == id {
			return n, nil
		}
	}
	return Note{}, fmt.Errorf("%w %d", ErrNoNote, id)
}

// AddNote keeps a note.
func (s *Store) AddNote(ctx context.Context, n Note) (Note, error) {
	n.Text = strings.TrimSpace(n.Text)
	if n.Text == "" || len(n.Text) > MaxNote {
		return n, fmt.Errorf("a note has 1 to %d bytes of text; this one has %d", MaxNote, len(n.Text))
	}
	var count int
	if err := s.db.QueryRow(ctx, "SELECT count(*) FROM notes").Scan(&count); err != nil {
		return n, err
	}
	if count >= MostNotes {
		return n, fmt.Errorf("there are %d notes already; remove some first", count)
	}
	result, err := s.db.Exec(ctx, "INSERT INTO notes (kind, name, text, who, time) VALUES (?, ?, ?, ?, ?)", n.Kind, n.Name, n.Text, n.Who, n.Time.UTC().Format(time.RFC3339Nano))
	if err != nil {
		return n, err
	}
	n.ID, err = result.LastInsertId()
	return n, err
}

// CloseNote says that what a note is about is done; with an empty name it is open again.
func (s *Store) CloseNote(ctx context.Context, id int64, by string, at time.Time) error {
	done := ""
	if by != "" {
		done = at.UTC().Format(time.RFC3339Nano)
	}
	return s.note(ctx, id, "UPDATE notes SET done_by = ?, done_time = ? WHERE id = ?", by, done, id)
}

// RemoveNote removes a note.
func (s *Store) RemoveNote(ctx context.Context, id int64) error {
	return s.note(ctx, id, "DELETE FROM notes WHERE id = ?", id)
}

func (s *Store) note(ctx context.Context, id int64, query string, args ...any) error {
	result, err := s.db.Exec(ctx, query, args...)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("%w %d", ErrNoNote, id))
	}
	return nil
}
