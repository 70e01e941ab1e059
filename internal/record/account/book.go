// Package account keeps who may use the service: accounts with their passwords, tokens for programs, and the sessions of people who are signed
// in. What is secret is kept as a hash. Until the first account exists, the service is open to its own machine.
package account

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql/driver"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/core/access"
	"arithmon/internal/core/nearest"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// Errors of a Book.
var (
	ErrNone     = errors.New("there is no such account")
	ErrTaken    = errors.New("is taken; choose another name")
	ErrLast     = errors.New("is the last admin who can sign in with a password; make another one first")
	ErrSignIn   = errors.New("account, password or code is wrong")
	ErrFactor   = errors.New("a code of the second factor is needed, too")
	ErrEnded    = errors.New("the session has ended, or there never was one; sign in again")
	ErrExpired  = errors.New("the token has ended; make a new one")
	ErrNoToken  = errors.New("there is no such token")
	ErrNoneOpen = errors.New("there is no such session")
)

// Fault is a field of an account or a token that is not as it must be.
type Fault struct{ Field, Value, Message string }

func (f *Fault) Error() string { return f.Field + ": " + f.Message }

// Account is who may use the service.
type Account struct {
	Name      string
	Role      access.Role
	Only      access.Limits
	Factor    bool // signing in needs a code, too
	Directory bool // the company's directory says who it is and which role it has
	Created   time.Time
	SignedIn  time.Time // the last time; zero for never

	password, factor string
	step             int64
}

// Token is what a program shows instead of a password.
type Token struct {
	Name    string
	Account string
	Role    access.Role // at most that of its account
	Only    access.Limits
	Created time.Time
	Ends    time.Time
	Used    time.Time // roughly; zero for never

	hash  Digest
	moved bool // since Used was stored
}

// Session is somebody who is signed in.
type Session struct {
	ID      int64
	Account string
	Began   time.Time
	Seen    time.Time // when something was last asked for by hand, roughly
	From    string
	Agent   string

	hash  Digest
	moved bool // since Seen was stored
}

// Bounds.
const (
	SessionIdle  = 2 * time.Hour  // after so long without a hand on it a session ends
	SessionLife  = 24 * time.Hour // and after so long in any case
	DefaultDays  = 90             // of a token
	MaxDays      = 3650
	MaxAccounts  = 2000
	MaxTokens    = 5000
	MaxSessions  = 50 // of one account; the one that was used longest ago goes first
	maxName      = 64
	maxAgent     = 200
	tokenPrefix  = "arithmon_"
	shownExpired = 30 * 24 * time.Hour // for so long a token that has ended is told from one that never was
)

// Options are what a Book needs beside its database.
type Options struct {
	Now func() time.Time // nil: the clock
}

// Book is the accounts of a service. It is safe for concurrent use.
type Book struct {
	db       *database.Database
	hasher   *hasher
	throttle *throttle
	now      func() time.Time
	any      atomic.Bool // there is an account

	mu       sync.RWMutex
	accounts map[string]*Account
	tokens   map[Digest]*Token   // by hash
	sessions map[Digest]*Session // by hash
	watchers map[Digest]map[*func()]struct{}

	closing chan struct{}
	running sync.WaitGroup
}

// Open loads the accounts of a database.
func Open(ctx context.Context, db *database.Database, o Options) (*Book, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	b := &Book{db: db, hasher: newHasher(usual), throttle: newThrottle(), now: o.Now, closing: make(chan struct{}),
		accounts: map[string]*Account{}, tokens: map[Digest]*Token{}, sessions: map[Digest]*Session{}, watchers: map[Digest]map[*func()]struct{}{}}
	if err := b.load(ctx); err != nil {
		return nil, fmt.Errorf("accounts: %w", err)
	}
	b.running.Go(b.look)
	return b, nil
}

// Close stores when sessions and tokens were last used.
func (b *Book) Close() error {
	close(b.closing)
	b.running.Wait()
	return b.keep()
}

func (b *Book) load(ctx context.Context) error {
	rows, err := b.db.Query(ctx, "SELECT name, role, only_, password, factor, step, directory, created, signed_in FROM accounts")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		a := &Account{}
		var only, created, signed string
		if err := rows.Scan(&a.Name, &a.Role, &only, &a.password, &a.factor, &a.step, &a.Directory, &created, &signed); err != nil {
			return err
		}
		if a.Only, err = decoded(only); err != nil {
			return fmt.Errorf("account %s: %w", a.Name, err)
		}
		a.Factor, a.Created, a.SignedIn = a.factor != "", when(created), when(signed)
		b.accounts[a.Name] = a
	}
	if err := rows.Err(); err != nil {
		return err
	}
	b.any.Store(len(b.accounts) > 0)
	list, err := b.db.Query(ctx, "SELECT name, account, hash, role, only_, created, ends, used FROM tokens")
	if err != nil {
		return err
	}
	defer list.Close()
	for list.Next() {
		t := &Token{}
		var only, created, ends, used string
		if err := list.Scan(&t.Name, &t.Account, &t.hash, &t.Role, &only, &created, &ends, &used); err != nil {
			return err
		}
		if t.Only, err = decoded(only); err != nil {
			return fmt.Errorf("token %s: %w", t.Name, err)
		}
		t.Created, t.Ends, t.Used = when(created), when(ends), when(used)
		b.tokens[t.hash] = t
	}
	if err := list.Err(); err != nil {
		return err
	}
	open, err := b.db.Query(ctx, "SELECT id, account, hash, began, seen, address, agent FROM sessions")
	if err != nil {
		return err
	}
	defer open.Close()
	for open.Next() {
		s := &Session{}
		var began, seen string
		if err := open.Scan(&s.ID, &s.Account, &s.hash, &began, &seen, &s.From, &s.Agent); err != nil {
			return err
		}
		s.Began, s.Seen = when(began), when(seen)
		b.sessions[s.hash] = s
	}
	return open.Err()
}

// when reads a time as it is stored.
func when(text string) time.Time {
	at, _ := time.Parse(time.RFC3339Nano, text)
	return at
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// Any reports whether there is an account, so that who asks must be one.
func (b *Book) Any() bool { return b.any.Load() }

// Accounts lists the accounts by name.
func (b *Book) Accounts() []Account {
	b.mu.RLock()
	defer b.mu.RUnlock()
	list := make([]Account, 0, len(b.accounts))
	for _, name := range slices.Sorted(maps.Keys(b.accounts)) {
		list = append(list, *b.accounts[name])
	}
	return list
}

// Account is one account; its error is ErrNone.
func (b *Book) Account(name string) (Account, error) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	a, err := b.account(name)
	if err != nil {
		return Account{}, err
	}
	return *a, nil
}

func (b *Book) account(name string) (*Account, error) {
	if a := b.accounts[name]; a != nil {
		return a, nil
	}
	return nil, fmt.Errorf("%w: %q%s", ErrNone, name, nearest.Hint(name, nearest.Names(name, slices.Collect(maps.Keys(b.accounts)), 3)))
}

// checkName says what is wrong with a name.
func checkName(field, name string) error {
	if name == "" || len(name) > maxName || strings.ContainsFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(".-_@", r))
	}) {
		return &Fault{field, name, fmt.Sprintf("%q is no name: 1 to %d letters, digits and . - _ @", name, maxName)}
	}
	return nil
}

// checkRights says what is wrong with a role and its limits.
func checkRights(role access.Role, only access.Limits) error {
	if !slices.Contains(access.Roles(), role) {
		return &Fault{"role", string(role), fmt.Sprintf("%q is no role; choose viewer, operator, engineer or admin", role)}
	}
	if err := only.Check(); err != nil {
		return &Fault{"only", strings.Join(only, ", "), err.Error()}
	}
	if role == access.Admin && len(only) > 0 {
		return &Fault{"only", strings.Join(only, ", "), "an admin is not limited to a part of the site; choose another role"}
	}
	return nil
}

// entry is an entry of the audit log about what a principal did to an account or a token.
func entry(by access.Principal, action audit.Action, subject, format string, args ...any) audit.Entry {
	return audit.Entry{Who: by.Name(), From: by.From, Action: action, Subject: subject, Detail: fmt.Sprintf(format, args...)}
}

// rights are a role and its limits in words.
func rights(role access.Role, only access.Limits) string {
	if len(only) == 0 {
		return string(role)
	}
	return string(role) + " of " + strings.Join(only, ", ")
}

// decoded reads limits as encoded writes them. What cannot be read is an error: it must not pass for no limits.
func decoded(text string) (only access.Limits, err error) {
	if err := json.Unmarshal([]byte(text), &only); err != nil || len(only) == 0 {
		return nil, err
	}
	return only, nil
}

func encoded(only access.Limits) string {
	if only == nil {
		only = access.Limits{}
	}
	text, err := json.Marshal(only)
	if err != nil {
		panic(err) // texts: it cannot be
	}
	return string(text)
}

// Add makes an account. The first one must be an admin.
func (b *Book) Add(ctx context.Context, by access.Principal, name, password string, role access.Role, only access.Limits) error {
	if err := checkName("name", name); err != nil {
		return err
	}
	if err := checkRights(role, only); err != nil {
		return err
	}
	if err := CheckPassword(name, password); err != nil {
		return &Fault{"password", "", err.Error()}
	}
	hash, err := b.hasher.hash(ctx, password)
	if err != nil {
		return err
	}
	return b.add(ctx, by, &Account{Name: name, Role: role, Only: only, Created: b.now(), password: hash})
}

func (b *Book) add(ctx context.Context, by access.Principal, a *Account) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for other := range b.accounts {
		if strings.EqualFold(other, a.Name) {
			return &Fault{"name", a.Name, fmt.Sprintf("%q %s", other, ErrTaken)}
		}
	}
	if len(b.accounts) == 0 && a.Role != access.Admin {
		return &Fault{"role", string(a.Role), "the first account must be an admin, who makes the others"}
	}
	if len(b.accounts) >= MaxAccounts {
		return fmt.Errorf("there are %d accounts already; remove one first", len(b.accounts))
	}
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO accounts (name, role, only_, password, directory, created) VALUES (?, ?, ?, ?, ?, ?)", a.Name, a.Role, encoded(a.Only), a.password, a.Directory, stamp(a.Created)); err != nil {
			return err
		}
		return audit.Append(ctx, tx, entry(by, audit.AccountChange, a.Name, "added as %s", rights(a.Role, a.Only)))
	}); err != nil {
		return err
	}
	b.accounts[a.Name] = a
	b.any.Store(true)
	return nil
}

// Changes are what is set of an account; what is nil stays.
type Changes struct {
	Role     *access.Role
	Only     *access.Limits
	Password *string
	Factor   *string // secret of a second factor; "" takes it away
}

// Set changes an account. A new password ends its sessions, but for the one that keep is the secret of.
func (b *Book) Set(ctx context.Context, by access.Principal, name string, c Changes, keep string) error {
	var hash string
	if c.Password != nil {
		if err := CheckPassword(name, *c.Password); err != nil {
			return &Fault{"password", "", err.Error()}
		}
		var err error
		if hash, err = b.hasher.hash(ctx, *c.Password); err != nil {
			return err
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	was, err := b.account(name)
	if err != nil {
		return err
	}
	now := *was
	var done []string
	if c.Role != nil {
		now.Role = *c.Role
	}
	if c.Only != nil {
		now.Only = *c.Only
	}
	if err := checkRights(now.Role, now.Only); err != nil {
		return err
	}
	if now.Directory && (c.Password != nil || c.Role != nil) {
		return &Fault{"name", name, "the directory says who this is and which role it has; change it there"}
	}
	if r := rights(now.Role, now.Only); r != rights(was.Role, was.Only) {
		done = append(done, "made "+r+", was "+rights(was.Role, was.Only))
	}
	if c.Password != nil {
		now.password = hash
		done = append(done, "password changed")
	}
	if c.Factor != nil {
		now.factor, now.Factor, now.step = *c.Factor, *c.Factor != "", 0
		done = append(done, "second factor "+map[bool]string{true: "set up", false: "taken away"}[now.Factor])
	}
	if len(done) == 0 {
		return nil
	}
	if now.Role != access.Admin && b.last(name) {
		return &Fault{"role", string(now.Role), fmt.Sprintf("%s %s", name, ErrLast)}
	}
	var ended []*Session
	if c.Password != nil || c.Factor != nil {
		ended = b.sessionsOf(name, keep)
	}
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE accounts SET role = ?, only_ = ?, password = ?, factor = ?, step = ? WHERE name = ?", now.Role, encoded(now.Only), now.password, now.factor, now.step, name); err != nil {
			return err
		}
		if err := remove(ctx, tx, ended); err != nil {
			return err
		}
		return audit.Append(ctx, tx, entry(by, audit.AccountChange, name, "%s", strings.Join(done, "; ")))
	}); err != nil {
		return err
	}
	b.accounts[name] = &now
	b.forget(ended)
	if rights(now.Role, now.Only) != rights(was.Role, was.Only) { // what runs on the old rights ends
		for hash, s := range b.sessions {
			if s.Account == name {
				b.end(hash)
			}
		}
		for hash, t := range b.tokens {
			if t.Account == name {
				b.end(hash)
			}
		}
	}
	return nil
}

// last reports whether an account is the only admin who can sign in with a password.
func (b *Book) last(name string) bool {
	if a := b.accounts[name]; a == nil || a.Role != access.Admin || a.password == "" {
		return false
	}
	for _, a := range b.accounts {
		if a.Name != name && a.Role == access.Admin && a.password != "" {
			return false
		}
	}
	return true
}

// Remove removes an account with its tokens and sessions.
func (b *Book) Remove(ctx context.Context, by access.Principal, name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, err := b.account(name); err != nil {
		return err
	}
	if b.last(name) {
		return &Fault{"name", name, fmt.Sprintf("%s %s", name, ErrLast)}
	}
	ended := b.sessionsOf(name, "")
	var tokens []Digest
	for hash, t := range b.tokens {
		if t.Account == name {
			tokens = append(tokens, hash)
		}
	}
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if _, err := tx.Exec(ctx, "DELETE FROM accounts WHERE name = ?", name); err != nil { // its tokens and sessions go with it
			return err
		}
		return audit.Append(ctx, tx, entry(by, audit.AccountChange, name, "removed, with %d sessions and %d tokens", len(ended), len(tokens)))
	}); err != nil {
		return err
	}
	delete(b.accounts, name)
	b.forget(ended)
	for _, hash := range tokens {
		delete(b.tokens, hash)
		b.end(hash)
	}
	return nil
}

// secret makes what nobody guesses.
func secret() string {
	raw := make([]byte, 32)
	rand.Read(raw) // never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw))
}

// Digest is a secret's hash, of which nobody finds out the secret. It is stored in hexadecimal.
type Digest [sha256.Size]byte

// Hashed is the Digest of a secret.
func Hashed(secret string) Digest { return sha256.Sum256([]byte(secret)) }

// Value is how it is stored.
func (d Digest) Value() (driver.Value, error) { return hex.EncodeToString(d[:]), nil }

// Scan takes what was stored.
func (d *Digest) Scan(stored any) error {
	text, _ := stored.(string)
	sum, err := hex.DecodeString(text)
	if err == nil && len(sum) != len(d) {
		err = fmt.Errorf("%d bytes are no SHA-256", len(sum))
	}
	copy(d[:], sum)
	return err
}
