package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"arithmon/internal/core/merge"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// State is how far a proposal has come.
type State string

// The states of proposals.
const (
	OpenProposal    State = "open"
	TakenProposal   State = "taken"
	DroppedProposal State = "dropped"
)

// Proposal is changes that were prepared and are not in force.
type Proposal struct {
	ID       int64
	Title    string
	Who      string
	Time     time.Time
	State    State
	Changes  []site.Change
	DecideBy string
	Decided  time.Time
	Change   int64 // the change set that it became
	Comments []Comment
}

// Comment is what somebody says of a proposal.
type Comment struct {
	ID   int64
	Who  string
	Time time.Time
	Text string
}

// Bounds of proposals.
const (
	maxTitle       = 200
	maxComment     = 4000
	mostComments   = 1000
	mostProposals  = 10_000
	mostInProposal = 100_000
)

// Errors of proposals.
var (
	ErrNoProposal = errors.New("there is no proposal")
	ErrDecided    = errors.New("is not open any more")
)

// Conflicting says that a proposal, or what somebody saved, and what others changed since do not go together without a choice.
type Conflicting struct{ Conflicts []merge.Conflict }

func (e *Conflicting) Error() string {
	c := e.Conflicts[0]
	what := strings.TrimSpace(fmt.Sprintf("%s %s %s", c.Kind, c.Name, c.Field))
	if n := len(e.Conflicts); n > 1 {
		return fmt.Sprintf("%s and %d more were changed by others since; choose what each is to be", what, n-1)
	}
	return what + " was changed by somebody else since; choose what it is to be"
}

// kept is a change as a proposal keeps it.
type kept struct {
	Kind   site.Kind       `json:"kind"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// Propose keeps changes that are not in force.
func (s *Store) Propose(ctx context.Context, p Proposal) (Proposal, error) {
	p.Title = strings.TrimSpace(p.Title)
	if p.Title == "" || len(p.Title) > maxTitle {
		return p, fmt.Errorf("a proposal has a title of 1 to %d bytes; this one has %d", maxTitle, len(p.Title))
	}
	if n := len(p.Changes); n == 0 || n > mostInProposal {
		return p, fmt.Errorf("a proposal has 1 to %d changes; this one has %d", mostInProposal, n)
	}
	list := make([]kept, len(p.Changes))
	for i, c := range p.Changes {
		s := encode(c)
		if s.err != nil {
			return p, s.err
		}
		list[i].Kind = c.Kind()
		if s.before.Valid {
			list[i].Before = json.RawMessage(s.before.String)
		}
		if s.after.Valid {
			list[i].After = json.RawMessage(s.after.String)
		}
	}
	body, err := json.Marshal(list)
	if err != nil {
		return p, err
	}
	var n int
	if err := s.db.QueryRow(ctx, "SELECT count(*) FROM proposals").Scan(&n); err != nil {
		return p, err
	}
	if n >= mostProposals {
		return p, fmt.Errorf("there are %d proposals already", n)
	}
	result, err := s.db.Exec(ctx, "INSERT INTO proposals (title, who, time, body) VALUES (?, ?, ?, ?)", p.Title, p.Who, p.Time.UTC().Format(time.RFC3339Nano), string(body))
	if err != nil {
		return p, err
	}
	p.State = OpenProposal
	p.ID, err = result.LastInsertId()
	return p, err
}

// Proposals lists proposals, newest first, without what they change and what is said of them; those of a state when it is named.
func (s *Store) Proposals(ctx context.Context, state State) ([]Proposal, error) {
	rows, err := s.db.Query(ctx, "SELECT id, title, who, time, state, decided_by, decided_time, change FROM proposals WHERE ?1 = '' OR state = ?1 ORDER BY id DESC", state)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Proposal{}
	for rows.Next() {
		var p Proposal
		var at, decided string
		if err := rows.Scan(&p.ID, &p.Title, &p.Who, &at, &p.State, &p.DecideBy, &decided, &p.Change); err != nil {
			return nil, err
		}
		p.Time, p.Decided = when(at), when(decided)
		list = append(list, p)
	}
	return list, rows.Err()
}

// Proposal is one proposal, whole.
func (s *Store) Proposal(ctx context.Context, id int64) (p Proposal, err error) {
	var at, decided, body string
	err = s.db.QueryRow(ctx, "SELECT id, title, who, time, state, decided_by, decided_time, change, body FROM proposals WHERE id = ?", id).
		Scan(&p.ID, &p.Title, &p.Who, &at, &p.State, &p.DecideBy, &decided, &p.Change, &body)
	if errors.Is(err, sql.ErrNoRows) {
		return p, fmt.Errorf("%w %d", ErrNoProposal, id)
	}
	if err != nil {
		return p, err
	}
	p.Time, p.Decided = when(at), when(decided)
	var list []kept
	if err := json.Unmarshal([]byte(body), &list); err != nil {
		return p, fmt.Errorf("proposal %d: %w", id, err)
	}
	for _, k := range list {
		var c site.Change
		if k.Before != nil {
			if c.Before, err = site.Decode(k.Kind, k.Before); err != nil {
				return p, fmt.Errorf("proposal %d: %w", id, err)
			}
		}
		if k.After != nil {
			if c.After, err = site.Decode(k.Kind, k.After); err != nil {
				return p, fmt.Errorf("proposal %d: %w", id, err)
			}
		}
		p.Changes = append(p.Changes, c)
	}
	rows, err := s.db.Query(ctx, "SELECT id, who, time, text FROM comments WHERE proposal = ? ORDER BY id", id)
	if err != nil {
		return p, err
	}
	defer rows.Close()
	for rows.Next() {
		var c Comment
		var at string
		if err := rows.Scan(&c.ID, &c.Who, &at, &c.Text); err != nil {
			return p, err
		}
		c.Time = when(at)
		p.Comments = append(p.Comments, c)
	}
	return p, rows.Err()
}

// Remark keeps what somebody says of a proposal.
func (s *Store) Remark(ctx context.Context, id int64, c Comment) error {
	c.Text = strings.TrimSpace(c.Text)
	if c.Text == "" || len(c.Text) > maxComment {
		return fmt.Errorf("a comment has 1 to %d bytes of text; this one has %d", maxComment, len(c.Text))
	}
	return s.db.Change(ctx, func(tx *database.Tx) error {
		var is, n int
		if err := tx.Row(ctx, "SELECT count(*), (SELECT count(*) FROM comments WHERE proposal = ?1) FROM proposals WHERE id = ?1", []any{id}, &is, &n); err != nil {
			return err
		}
		if is == 0 {
			return fmt.Errorf("%w %d", ErrNoProposal, id)
		}
		if n >= mostComments {
			return fmt.Errorf("there are %d comments already", n)
		}
		_, err := tx.Exec(ctx, "INSERT INTO comments (proposal, who, time, text) VALUES (?, ?, ?, ?)", id, c.Who, c.Time.UTC().Format(time.RFC3339Nano), c.Text)
		return err
	})
}

// Take puts a proposal into force, on top of what was changed since. Its error is *Conflicting when somebody changed the same since, and chosen
// says nothing of that; nothing was changed then.
func (s *Store) Take(ctx context.Context, edit Edit, id int64, chosen merge.Chosen) ([]site.Change, *site.Site, error) {
	s.deciding.Lock()
	defer s.deciding.Unlock()
	p, err := s.Proposal(ctx, id)
	if err != nil {
		return nil, s.Site(), err
	}
	if p.State != OpenProposal {
		return nil, s.Site(), fmt.Errorf("proposal %d %w: it was %s by %s", id, ErrDecided, p.State, p.DecideBy)
	}
	if edit.Message == "" {
		edit.Message = fmt.Sprintf("proposal %d: %s", id, p.Title)
	}
	if !edit.DryRun {
		edit.decides = id
	}
	var conflicts []merge.Conflict
	changes, left, err := s.Modify(ctx, edit, func(d *site.Draft, _ *site.Site) {
		var fault error
		if conflicts, fault = merge.Into(d, p.Changes, chosen); fault != nil {
			d.Fail(&site.FieldError{Message: fault.Error()})
		} else if len(conflicts) > 0 && !edit.DryRun {
			d.Fail(&site.FieldError{Message: "there are conflicts"})
		}
	})
	if len(conflicts) > 0 && (err != nil || edit.DryRun) {
		return changes, left, &Conflicting{conflicts}
	}
	if err == nil && len(changes) == 0 && !edit.DryRun { // it is so already
		err = s.decide(ctx, id, TakenProposal, edit.Who)
	}
	return changes, left, err
}

// Drop says that a proposal is not taken.
func (s *Store) Drop(ctx context.Context, id int64, who string) error {
	s.deciding.Lock()
	defer s.deciding.Unlock()
	return s.decide(ctx, id, DroppedProposal, who)
}

func (s *Store) decide(ctx context.Context, id int64, state State, who string) error {
	p, err := s.Proposal(ctx, id)
	if err != nil {
		return err
	}
	result, err := s.db.Exec(ctx, "UPDATE proposals SET state = ?, decided_by = ?, decided_time = ? WHERE id = ? AND state = 'open'", state, who, time.Now().UTC().Format(time.RFC3339Nano), id)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("proposal %d %w: it was %s by %s", id, ErrDecided, p.State, p.DecideBy))
	}
	return nil
}
