package account

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/access"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// Tokens lists tokens by name, of one account when it is named. Those that ended long ago are gone.
func (b *Book) Tokens(of string) []Token {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var list []Token
	for _, t := range b.tokens {
		if of == "" || t.Account == of {
			list = append(list, *t)
		}
	}
	slices.SortFunc(list, func(a, b Token) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// AddToken makes a token of the account of by, with at most its rights, and returns what is to be shown, which nobody can find out later.
func (b *Book) AddToken(ctx context.Context, by access.Principal, t Token) (Token, string, error) {
	if err := checkName("name", t.Name); err != nil {
		return t, "", err
	}
	if t.Role == "" {
		t.Role = by.Role
	}
	if len(t.Only) == 0 {
		t.Only = by.Only
	}
	if slices.Contains(access.Roles(), t.Role) && !by.Role.Includes(t.Role) {
		return t, "", &Fault{"role", string(t.Role), fmt.Sprintf("%s is a role beyond that of %s, which is %s", t.Role, by.Name(), by.Role)}
	}
	if err := checkRights(t.Role, t.Only); err != nil {
		return t, "", err
	}
	if !t.Only.Within(by.Only) {
		return t, "", &Fault{"only", strings.Join(t.Only, ", "), fmt.Sprintf("is beyond what %s is limited to: %s", by.Name(), strings.Join(by.Only, ", "))}
	}
	now := b.now()
	if t.Ends.IsZero() {
		t.Ends = now.AddDate(0, 0, DefaultDays)
	}
	if !t.Ends.After(now) || t.Ends.After(now.AddDate(0, 0, MaxDays+1)) {
		return t, "", &Fault{"days", "", fmt.Sprintf("1 to %d days are possible", MaxDays)}
	}
	shown := tokenPrefix + secret()
	t.Account, t.Created, t.hash = by.Account, now, Hashed(shown)
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, err := b.account(by.Account); err != nil {
		return t, "", err
	}
	for _, other := range b.tokens {
		if strings.EqualFold(other.Name, t.Name) {
			return t, "", &Fault{"name", t.Name, fmt.Sprintf("%q %s", other.Name, ErrTaken)}
		}
	}
	if len(b.tokens) >= MaxTokens {
		return t, "", fmt.Errorf("there are %d tokens already; remove one first", len(b.tokens))
	}
	if err := b.db.Change(ctx, func(tx *database.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO tokens (name, account, hash, role, only_, created, ends) VALUES (?, ?, ?, ?, ?, ?, ?)", t.Name, t.Account, t.hash, t.Role, encoded(t.Only), stamp(t.Created), stamp(t.Ends)); err != nil {
			return err
		}
		return audit.Append(ctx, tx, entry(by, audit.TokenChange, t.Name, "added as %s, until %s", rights(t.Role, t.Only), t.Ends.UTC().Format(time.DateOnly)))
	}); err != nil {
		return t, "", err
	}
	b.tokens[t.hash] = &t
	return t, shown, nil
}

// RemoveToken ends a token. Who is no admin ends those of the own account.
func (b *Book) RemoveToken(ctx context.Context, by access.Principal, name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for hash, t := range b.tokens {
		if t.Name != name || by.Role != access.Admin && t.Account != by.Account {
			continue
		}
		if err := b.db.Change(ctx, func(tx *database.Tx) error {
			if _, err := tx.Exec(ctx, "DELETE FROM tokens WHERE name = ?", name); err != nil {
				return err
			}
			return audit.Append(ctx, tx, entry(by, audit.TokenChange, name, "removed, of %s", t.Account))
		}); err != nil {
			return err
		}
		delete(b.tokens, hash)
		b.end(hash)
		return nil
	}
	return fmt.Errorf("%w: %q", ErrNoToken, name)
}
