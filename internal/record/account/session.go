package account

import (
	"bytes"
	"cmp"
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"image/png"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
	"github.com/pquerna/otp/totp"

	"arithmon/internal/core/access"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// SignIn opens a session for who knows the password of an account, and the code of its second factor where it has one. The secret is what
// is shown from then on. Its errors are ErrSignIn, ErrFactor and TooSoon; all are in the audit log.
func (b *Book) SignIn(ctx context.Context, name, password, code, from, agent string) (secret string, s Session, err error) {
	tell := func(why string) error {
		return b.db.Change(ctx, func(tx *database.Tx) error {
			return audit.Append(ctx, tx, audit.Entry{Who: name, From: from, Action: audit.Refused, Subject: "sign-in", Detail: why})
		})
	}
	if checkName("account", name) != nil { // which nobody is called; what is kept of attempts is bounded
		name = ""
	}
	if err := b.throttle.try(name, from, b.now()); err != nil { // which is not told each time: there may be many
		return "", s, err
	}
	a, _ := b.Account(name)
	fits, err := b.hasher.fits(ctx, a.password, password)
	if err != nil {
		return "", s, err
	}
	if !fits {
		why := "wrong password"
		if a.Name == "" {
			why = "no such account"
		}
		return "", s, cmp.Or(tell(why), ErrSignIn)
	}
	if a.Factor && code == "" { // the password was right, so that it is no failure yet; codes that were wrong before count on
		b.throttle.uncounted(name, from)
		return "", s, ErrFactor
	}
	if a.Factor {
		if err := b.takeCode(ctx, name, code); errors.Is(err, ErrSignIn) {
			return "", s, cmp.Or(tell("wrong code of the second factor"), ErrSignIn)
		} else if err != nil {
			return "", s, err
		}
	}
	b.throttle.succeeded(name, from)
	return b.open(ctx, name, from, agent, "by password")
}

// Codes are of 30 seconds (RFC 6238); one of the step before or after is taken, since clocks differ.
const codeStep, codeSkew = 30, 1

// takeCode takes a code of an account's second factor, each once.
func (b *Book) takeCode(ctx context.Context, name, code string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a, err := b.account(name)
	if err != nil {
		return err
	}
	now := b.now().Unix() / codeStep
	for step := now - codeSkew; step <= now+codeSkew; step++ {
		if step <= a.step {
			continue // it was taken, or one after it
		}
		want, err := hotp.GenerateCodeCustom(a.factor, uint64(step), hotp.ValidateOpts{Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err != nil {
			return err
		}
		if subtle.ConstantTimeCompare([]byte(want), []byte(strings.ReplaceAll(code, " ", ""))) != 1 {
			continue
		}
		if _, err := b.db.Exec(ctx, "UPDATE accounts SET step = ? WHERE name = ?", step, name); err != nil {
			return err
		}
		taken := *a
		taken.step = step
		b.accounts[name] = &taken
		return nil
	}
	return ErrSignIn
}

// Factor is what an authenticator needs to give codes.
type Factor struct {
	Secret  string // base32
	Address string // otpauth://
	Picture []byte // PNG of the address, to be scanned
}

// pictureSize is the width and height of the picture of a factor, in pixels.
const pictureSize = 200

// NewFactor makes a second factor for an account; it is in force once it is set.
func NewFactor(account string) (Factor, error) {
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Arithmon", AccountName: account})
	if err != nil {
		return Factor{}, err
	}
	f := Factor{Secret: key.Secret(), Address: key.URL()}
	drawn, err := key.Image(pictureSize, pictureSize)
	if err != nil {
		return f, err
	}
	var out bytes.Buffer
	err = png.Encode(&out, drawn)
	f.Picture = out.Bytes()
	return f, err
}

// CheckFactor reports whether a code is of a secret, before that is set up.
func (b *Book) CheckFactor(secret, code string) bool {
	ok, err := totp.ValidateCustom(strings.ReplaceAll(code, " ", ""), secret, b.now(), totp.ValidateOpts{Period: codeStep, Skew: codeSkew, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
	return ok && err == nil
}

// Directed opens a session for somebody whom the company's directory vouches for, with the role that it gives. The account is made when
// there is none.
func (b *Book) Directed(ctx context.Context, name string, role access.Role, from, agent string) (string, Session, error) {
	if err := checkName("name", name); err != nil {
		return "", Session{}, err
	}
	a, err := b.Account(name)
	directory := access.Principal{Account: "directory", From: from}
	switch {
	case err != nil:
		if err := b.add(ctx, directory, &Account{Name: name, Role: role, Directory: true, Created: b.now()}); err != nil {
			return "", Session{}, err
		}
	case !a.Directory:
		return "", Session{}, fmt.Errorf("there is an account %q already, which the directory does not vouch for; remove that one, or sign in with its password", name)
	case a.Role != role:
		if err := b.redirect(ctx, directory, name, role); err != nil {
			return "", Session{}, err
		}
	}
	return b.open(ctx, name, from, agent, "by the directory")
}

// redirect gives an account the role that the directory says.
func (b *Book) redirect(ctx context.Context, by access.Principal, name string, role access.Role) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a, err := b.account(name)
	if err != nil {
		return err
	}
	now := *a
	now.Role = role
	if role == access.Admin {
		now.Only = nil
	}
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE accounts SET role = ?, only_ = ? WHERE name = ?", now.Role, encoded(now.Only), name); err != nil {
			return err
		}
		return audit.Append(ctx, tx, entry(by, audit.AccountChange, name, "made %s, was %s", rights(now.Role, now.Only), rights(a.Role, a.Only)))
	}); err != nil {
		return err
	}
	b.accounts[name] = &now
	return nil
}

// open opens a session.
func (b *Book) open(ctx context.Context, name, from, agent, how string) (string, Session, error) {
	shown := secret()
	now := b.now()
	s := &Session{Account: name, Began: now, Seen: now, From: from, Agent: agent[:min(len(agent), maxAgent)], hash: Hashed(shown)}
	b.mu.Lock()
	defer b.mu.Unlock()
	was, err := b.account(name)
	if err != nil {
		return "", *s, err
	}
	ended := b.sessionsOf(name, "")
	slices.SortFunc(ended, func(a, b *Session) int { return b.Seen.Compare(a.Seen) })
	ended = ended[min(len(ended), MaxSessions-1):]
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if err := remove(ctx, tx, ended); err != nil {
			return err
		}
		result, err := tx.Exec(ctx, "INSERT INTO sessions (account, hash, began, seen, address, agent) VALUES (?, ?, ?, ?, ?, ?)", name, s.hash, stamp(now), stamp(now), from, s.Agent)
		if err != nil {
			return err
		}
		if s.ID, err = result.LastInsertId(); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE accounts SET signed_in = ? WHERE name = ?", stamp(now), name); err != nil {
			return err
		}
		return audit.Append(ctx, tx, audit.Entry{Who: name, From: from, Action: audit.SignIn, Subject: fmt.Sprint("session ", s.ID), Detail: how})
	}); err != nil {
		return "", *s, err
	}
	b.forget(ended)
	b.sessions[s.hash] = s
	a := *was
	a.SignedIn = now
	b.accounts[name] = &a
	return shown, *s, nil
}

// sessionsOf lists the sessions of an account, but for the one of a secret.
func (b *Book) sessionsOf(name, keep string) (list []*Session) {
	kept := Hashed(keep)
	for _, s := range b.sessions {
		if s.Account == name && s.hash != kept {
			list = append(list, s)
		}
	}
	return list
}

// remove takes sessions out of the database.
func remove(ctx context.Context, tx *database.Tx, list []*Session) error {
	for _, s := range list {
		if _, err := tx.Exec(ctx, "DELETE FROM sessions WHERE hash = ?", s.hash); err != nil {
			return err
		}
	}
	return nil
}

// forget takes sessions out of memory once they are out of the database, and ends what runs in them.
func (b *Book) forget(list []*Session) {
	for _, s := range list {
		delete(b.sessions, s.hash)
		b.end(s.hash)
	}
}

// over reports whether a session has ended by itself.
func (s *Session) over(now time.Time) bool {
	return now.Sub(s.Seen) > SessionIdle || now.Sub(s.Began) > SessionLife
}

// Sessions lists those that are open, of one account when it is named, the newest first.
func (b *Book) Sessions(of string) []Session {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var list []Session
	for _, s := range b.sessions {
		if (of == "" || s.Account == of) && !s.over(b.now()) {
			list = append(list, *s)
		}
	}
	slices.SortFunc(list, func(a, b Session) int { return cmp.Compare(b.ID, a.ID) })
	return list
}

// SignOut ends the session of a secret.
func (b *Book) SignOut(ctx context.Context, by access.Principal, secret string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.sessions[Hashed(secret)]
	if s == nil {
		return ErrEnded
	}
	return b.endSession(ctx, by, s, "signed out")
}

// EndSession ends a session. Who is no admin ends those of the own account.
func (b *Book) EndSession(ctx context.Context, by access.Principal, id int64) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.sessions {
		if s.ID == id && (by.Role == access.Admin || s.Account == by.Account) {
			return b.endSession(ctx, by, s, "ended, of "+s.Account)
		}
	}
	return fmt.Errorf("%w: %d", ErrNoneOpen, id)
}

func (b *Book) endSession(ctx context.Context, by access.Principal, s *Session, how string) error {
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if err := remove(ctx, tx, []*Session{s}); err != nil {
			return err
		}
		return audit.Append(ctx, tx, entry(by, audit.SignOut, fmt.Sprint("session ", s.ID), "%s", how))
	}); err != nil {
		return err
	}
	b.forget([]*Session{s})
	return nil
}

// Principal is on whose behalf somebody asks who shows a secret: of a session, or a token. Attended says that a person's hand is on it, which
// keeps a session from ending. Its errors are ErrEnded and ErrExpired.
func (b *Book) Principal(shown, from string, attended bool) (p access.Principal, err error) {
	return b.PrincipalOf(shown, Hashed(shown), from, attended)
}

// PrincipalOf does so where the digest of the secret is known already.
func (b *Book) PrincipalOf(shown string, hash Digest, from string, attended bool) (p access.Principal, err error) {
	now := b.now()
	b.mu.Lock()
	defer b.mu.Unlock()
	if strings.HasPrefix(shown, tokenPrefix) {
		t := b.tokens[hash]
		if t == nil {
			return p, fmt.Errorf("the token is not known; it was removed, or never was")
		}
		if now.After(t.Ends) {
			return p, fmt.Errorf("%w: %s ended at %s", ErrExpired, t.Name, t.Ends.UTC().Format("2006-01-02 15:04 UTC"))
		}
		t.Used, t.moved = now, true
		a := b.accounts[t.Account]
		p = access.Principal{Account: a.Name, Token: t.Name, Role: access.Lesser(t.Role, a.Role), Only: t.Only, From: from}
		if !t.Only.Within(a.Only) { // the account has less than it had
			p.Only = a.Only
		}
		return p, nil
	}
	s := b.sessions[hash]
	if s == nil || s.over(now) {
		return p, ErrEnded
	}
	if attended && now.After(s.Seen) {
		s.Seen, s.moved = now, true
	}
	a := b.accounts[s.Account]
	return access.Principal{Account: a.Name, Role: a.Role, Only: a.Only, From: from}, nil
}

// Watch has end called when what was shown does not hold any more: the session or token is ended, or its account has other rights. The
// function that is returned ends the watching.
func (b *Book) Watch(shown string, end func()) (stop func()) {
	hash := Hashed(shown)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.watchers[hash] == nil {
		b.watchers[hash] = map[*func()]struct{}{}
	}
	b.watchers[hash][&end] = struct{}{}
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if delete(b.watchers[hash], &end); len(b.watchers[hash]) == 0 {
			delete(b.watchers, hash)
		}
	}
}

// end tells who watches. The lock is held.
func (b *Book) end(hash Digest) {
	for f := range b.watchers[hash] {
		(*f)()
	}
}

// lookEvery is how often sessions and tokens are looked at that end by themselves.
const lookEvery = 5 * time.Second

// keepEvery is how often it is stored when sessions were last used.
const keepEvery = time.Minute

func (b *Book) look() {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	kept := b.now()
	for {
		select {
		case <-b.closing:
			return
		case <-ticker.C:
		}
		b.sweep()
		if now := b.now(); now.Sub(kept) > keepEvery {
			kept = now
			_ = b.keep() // a disk that fails is told of where it matters; the next time it is tried again
		}
	}
}

// sweep ends what has ended by itself.
func (b *Book) sweep() {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := b.now()
	for hash, s := range b.sessions {
		if s.over(now) {
			b.end(hash)
		}
	}
	for hash, t := range b.tokens {
		if now.After(t.Ends) {
			b.end(hash)
		}
	}
}

// keep stores when sessions were last used, and forgets those that ended by themselves.
func (b *Book) keep() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := b.now()
	var moved, over []*Session
	for _, s := range b.sessions {
		if s.over(now) {
			over = append(over, s)
		} else if s.moved {
			moved = append(moved, s)
		}
	}
	var old, used []*Token
	for _, t := range b.tokens {
		if now.Sub(t.Ends) > shownExpired {
			old = append(old, t)
		} else if t.moved {
			used = append(used, t)
		}
	}
	if len(moved)+len(over)+len(old)+len(used) == 0 {
		return nil
	}
	ctx := context.Background()
	err := b.db.Change(ctx, func(tx *database.Tx) error {
		if err := remove(ctx, tx, over); err != nil {
			return err
		}
		for _, t := range old {
			if _, err := tx.Exec(ctx, "DELETE FROM tokens WHERE name = ?", t.Name); err != nil {
				return err
			}
		}
		for _, t := range used {
			if _, err := tx.Exec(ctx, "UPDATE tokens SET used = ? WHERE name = ?", stamp(t.Used), t.Name); err != nil {
				return err
			}
		}
		for _, s := range moved {
			if _, err := tx.Exec(ctx, "UPDATE sessions SET seen = ? WHERE hash = ?", stamp(s.Seen), s.hash); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	b.forget(over)
	for _, t := range old {
		delete(b.tokens, t.hash)
	}
	for _, s := range moved {
		s.moved = false
	}
	for _, t := range used {
		t.moved = false
	}
	return nil
}

// Is reports whether a session is the one of a secret.
func (s Session) Is(secret string) bool { return s.hash == Hashed(secret) }

// Knows is ErrSignIn unless a principal knows the password of their account. Attempts are slowed down as when signing in.
func (b *Book) Knows(ctx context.Context, who access.Principal, password string) error {
	if err := b.throttle.try(who.Account, who.From, b.now()); err != nil {
		return err
	}
	a, err := b.Account(who.Account)
	if err != nil {
		return err
	}
	fits, err := b.hasher.fits(ctx, a.password, password)
	if err != nil {
		return err
	}
	if !fits {
		return &Fault{"old", "", "is not the password of the account"}
	}
	b.throttle.succeeded(who.Account, who.From)
	return nil
}
