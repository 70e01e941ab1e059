// Package audit keeps the log of what was done and refused: sign-ins, changes of accounts and of the site, writes, recordings, exports.
//
// Each entry carries a hash of itself and of the one before, so that an entry that is altered or removed is found. An entry is written in the
// transaction of what it tells of, where that has one: either both are on the disk or none.
package audit

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"arithmon/internal/record/database"
)

// Action is what an entry tells of.
type Action string

// The actions.
const (
	SignIn        Action = "sign-in"
	SignOut       Action = "sign-out"
	Refused       Action = "refused" // somebody who may not, or is not known
	AccountChange Action = "account"
	TokenChange   Action = "token"
	SiteChange    Action = "change"
	Write         Action = "write"
	Recording     Action = "recording"
	Export        Action = "export"
	Service       Action = "service" // it started
)

// Actions are all of them.
func Actions() []Action {
	return []Action{SignIn, SignOut, Refused, AccountChange, TokenChange, SiteChange, Write, Recording, Export, Service}
}

// Entry is one entry of the log.
type Entry struct {
	ID      int64
	Time    time.Time
	Who     string
	From    string // network address; empty for this machine's own
	Action  Action
	Subject string // what it was done to: an account, a change set, a tag
	Detail  string // in words
	Hash    string // hexadecimal SHA-256
}

// the most of a text in an entry; more is cut off, so that nobody fills the disk with one request
const maxText = 2000

// Append writes entries in a transaction that changes what they tell of. The time of one is now, unless it has one.
func Append(ctx context.Context, tx *database.Tx, entries ...Entry) error {
	var before string
	if err := tx.Row(ctx, "SELECT hash FROM audit ORDER BY id DESC LIMIT 1", nil, &before); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	var last int64
	if err := tx.Row(ctx, "SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'audit'), 0)", nil, &last); err != nil {
		return err
	}
	for _, e := range entries {
		if e.Time.IsZero() {
			e.Time = time.Now()
		}
		last++
		e.ID, e.Time = last, e.Time.UTC()
		e.Who, e.Subject, e.Detail = short(e.Who), short(e.Subject), short(e.Detail)
		before = e.chained(before)
		if _, err := tx.Exec(ctx, "INSERT INTO audit (id, time, who, address, action, subject, detail, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			e.ID, e.Time.Format(time.RFC3339Nano), e.Who, e.From, e.Action, e.Subject, e.Detail, before); err != nil {
			return err
		}
	}
	return nil
}

// chained is the hash of an entry that follows on the one with that hash.
func (e Entry) chained(before string) string {
	text, err := json.Marshal([]any{before, e.ID, e.Time.UTC().Format(time.RFC3339Nano), e.Who, e.From, e.Action, e.Subject, e.Detail})
	if err != nil {
		panic(err) // texts and numbers: it cannot be
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

func short(text string) string {
	if len(text) <= maxText {
		return text
	}
	cut := maxText
	for cut > 0 && text[cut]&0xC0 == 0x80 { // not within a character
		cut--
	}
	return text[:cut] + "…"
}

// Log is the log of a database. It is safe for concurrent use.
type Log struct{ db *database.Database }

// Open returns the log of a database.
func Open(db *database.Database) *Log { return &Log{db} }

// Add writes an entry that stands alone.
func (l *Log) Add(ctx context.Context, e Entry) error {
	if err := l.db.Change(ctx, func(tx *database.Tx) error { return Append(ctx, tx, e) }); err != nil {
		return fmt.Errorf("audit log: %w", err)
	}
	return nil
}

// Filter says which entries are wanted.
type Filter struct {
	Who    string
	Action Action
	After  int64 // only later ones, from the oldest on; otherwise the newest first
	Before int64 // only earlier ones; 0 for all
	From   time.Time
	Until  time.Time
	Limit  int
}

// More is closed when there may be further entries. Who takes it and then lists misses none.
func (l *Log) More() <-chan struct{} { return l.db.Committed() }

// Last is the number of the newest entry, 0 for none.
func (l *Log) Last(ctx context.Context) (id int64, err error) {
	err = l.db.QueryRow(ctx, "SELECT coalesce(max(id), 0) FROM audit").Scan(&id)
	return id, err
}

// Entries lists entries: those after one from the oldest on, otherwise the newest first.
func (l *Log) Entries(ctx context.Context, f Filter) ([]Entry, error) {
	order := "DESC"
	if f.After > 0 {
		order = "ASC"
	}
	moment := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02T15:04:05")
	}
	return l.entries(ctx, `SELECT id, time, who, address, action, subject, detail, hash FROM audit
		WHERE (?1 = '' OR who = ?1) AND (?2 = '' OR action = ?2) AND (?3 <= 0 OR id > ?3) AND (?4 = 0 OR id < ?4) AND (?5 = '' OR time >= ?5) AND (?6 = '' OR time < ?6)
		ORDER BY id `+order+` LIMIT ?7`, f.Who, f.Action, f.After, f.Before, moment(f.From), moment(f.Until), f.Limit)
}

func (l *Log) entries(ctx context.Context, query string, args ...any) ([]Entry, error) {
	rows, err := l.db.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Entry{}
	for rows.Next() {
		var e Entry
		var at string
		if err := rows.Scan(&e.ID, &at, &e.Who, &e.From, &e.Action, &e.Subject, &e.Detail, &e.Hash); err != nil {
			return nil, err
		}
		e.Time, _ = time.Parse(time.RFC3339Nano, at) // one that was altered to no time is found by its hash
		list = append(list, e)
	}
	return list, rows.Err()
}

// Fault is an entry that is not as it was written.
type Fault struct {
	ID  int64
	Why string
}

// Verdict is what Verify found.
type Verdict struct {
	Entries int64 // how many are there
	First   int64
	Last    int64
	Hash    string // of the last entry: who keeps it elsewhere can tell later that nothing before it was changed
	Faults  []Fault
}

// mostFaults is how many faults are told of.
const mostFaults = 100

// together is how many entries are looked at at once.
const together = 5000

// Verify goes through the whole log and finds entries that were altered or removed.
func (l *Log) Verify(ctx context.Context) (v Verdict, err error) {
	fault := func(id int64, format string, args ...any) {
		if len(v.Faults) < mostFaults {
			v.Faults = append(v.Faults, Fault{id, fmt.Sprintf(format, args...)})
		}
	}
	gap := func(from, to int64) {
		switch {
		case from == to:
			fault(from, "entry %d was removed", from)
		case from < to:
			fault(from, "entries %d to %d were removed", from, to)
		}
	}
	var ever int64 // SQLite keeps the highest number that was given
	if err := l.db.QueryRow(ctx, "SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'audit'), 0)").Scan(&ever); err != nil {
		return v, err
	}
	before := ""
	for {
		list, err := l.entries(ctx, "SELECT id, time, who, address, action, subject, detail, hash FROM audit WHERE id > ? ORDER BY id LIMIT ?", v.Last, together)
		if err != nil {
			return v, err
		}
		for _, e := range list {
			whole := e.ID == v.Last+1
			if !whole {
				gap(v.Last+1, e.ID-1)
			}
			if v.Entries == 0 {
				v.First = e.ID
			}
			if whole && e.Hash != e.chained(before) { // after a gap it cannot be told
				fault(e.ID, "entry %d is not as it was written: its hash does not fit it and the one before it", e.ID)
			}
			before = e.Hash
			v.Entries, v.Last, v.Hash = v.Entries+1, e.ID, e.Hash
		}
		if len(list) < together {
			break
		}
	}
	gap(v.Last+1, ever)
	return v, nil
}
