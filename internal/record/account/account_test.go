package account

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/access"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// timer is a clock that a test sets.
type timer struct {
	mu  sync.Mutex
	now time.Time
}

func (c *timer) read() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *timer) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

const good = "heron lifts 40 gates slowly"

var root = access.Principal{Account: "root", Role: access.Admin}

func opened(t *testing.T, dir string, at *timer) (*Book, *database.Database) {
	t.Helper()
	db, err := database.Open(t.Context(), dir)
	require.NoError(t, err)
	b, err := Open(t.Context(), db, Options{Now: at.read})
	require.NoError(t, err)
	b.hasher = newHasher(hashing{time: 1, memory: 64, threads: 1}) // tests make many
	t.Cleanup(func() { b.Close(); db.Close() })
	return b, db
}

func book(t *testing.T) (*Book, *timer) {
	t.Helper()
	at := &timer{now: time.Now()}
	b, _ := opened(t, t.TempDir(), at)
	require.NoError(t, b.Add(t.Context(), root, "ann", good, access.Admin, nil))
	return b, at
}

func TestPasswordsThatAreNotTaken(t *testing.T) {
	for password, why := range map[string]string{
		"short":            "at least 12",
		"passwordpassword": "most common",
		"123456789012":     "most common",
		"qwertyuiop[]":     "most common",
		"aaaaaaaaaaaaaaa":  "most common",
		"Password1234":     "most common",
		"letmeinletmein":   "most common",
		"annannannann4":    "name of the account",
		"\xff\xfe\xff\xfe\xff\xfe\xff\xfe\xff\xfe\xff\xfe": "no text",
		strings.Repeat("ab cd ", 40):                       "at most 200",
	} {
		assert.ErrorContains(t, CheckPassword("ann", password), why, "%q", password)
	}
	for _, password := range []string{good, "four grey geese waddle", "äöü-Wehr 7 läuft über", "x7!kP2#vL9@q"} {
		assert.NoError(t, CheckPassword("ann", password), password)
	}
}

func TestNothingSecretIsOnTheDisk(t *testing.T) {
	dir := t.TempDir()
	at := &timer{now: time.Now()}
	b, db := opened(t, dir, at)
	require.NoError(t, b.Add(t.Context(), root, "ann", good, access.Admin, nil))
	session, _, err := b.SignIn(t.Context(), "ann", good, "", "192.0.2.7", "browser")
	require.NoError(t, err)
	_, token, err := b.AddToken(t.Context(), access.Principal{Account: "ann", Role: access.Admin}, Token{Name: "night"})
	require.NoError(t, err)
	require.NoError(t, b.keep())
	_, err = db.Writer.Exec("PRAGMA wal_checkpoint(TRUNCATE)")
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(dir, database.FileName))
	require.NoError(t, err)
	for what, secret := range map[string]string{"password": good, "session": session, "token": token} {
		assert.NotContains(t, string(data), secret, what)
	}
	assert.Contains(t, string(data), "$argon2id$v=19$")
	for _, v := range []any{b.Accounts()[0], b.Tokens("")[0], b.Sessions("")[0]} {
		text, err := json.Marshal(v)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "argon2id", "nor is it given to others")
	}
}

func TestAccountsAreThereAfterReopening(t *testing.T) {
	dir := t.TempDir()
	at := &timer{now: time.Now()}
	db, err := database.Open(t.Context(), dir)
	require.NoError(t, err)
	b, err := Open(t.Context(), db, Options{Now: at.read})
	require.NoError(t, err)
	assert.False(t, b.Any())
	require.NoError(t, b.Add(t.Context(), root, "ann", good, access.Admin, nil))
	require.NoError(t, b.Add(t.Context(), root, "bob", good, access.Operator, access.Limits{"tern/*"}))
	shown, _, err := b.SignIn(t.Context(), "bob", good, "", "192.0.2.7", "")
	require.NoError(t, err)
	_, token, err := b.AddToken(t.Context(), access.Principal{Account: "bob", Role: access.Operator, Only: access.Limits{"tern/*"}}, Token{Name: "t", Role: access.Viewer})
	require.NoError(t, err)
	want := b.Accounts()
	require.NoError(t, b.Close())
	require.NoError(t, db.Close())

	again, _ := opened(t, dir, at)
	assert.True(t, again.Any())
	got := again.Accounts()
	for i := range want {
		assert.WithinDuration(t, want[i].Created, got[i].Created, 0)
		assert.Equal(t, want[i].Role, got[i].Role)
		assert.Equal(t, want[i].Only, got[i].Only)
	}
	p, err := again.Principal(shown, "192.0.2.8", true)
	require.NoError(t, err)
	assert.Equal(t, access.Principal{Account: "bob", Role: access.Operator, Only: access.Limits{"tern/*"}, From: "192.0.2.8"}, p)
	p, err = again.Principal(token, "", true)
	require.NoError(t, err)
	assert.Equal(t, access.Viewer, p.Role)
	assert.Equal(t, access.Limits{"tern/*"}, p.Only, "a token reaches no further than its account")
}

func TestWhatATokenMayAtMost(t *testing.T) {
	b, at := book(t)
	bob := access.Principal{Account: "bob", Role: access.Engineer, Only: access.Limits{"tern/*"}}
	require.NoError(t, b.Add(t.Context(), root, "bob", good, bob.Role, bob.Only))
	_, _, err := b.AddToken(t.Context(), bob, Token{Name: "a", Role: access.Admin})
	assert.ErrorContains(t, err, "beyond that of bob")
	_, _, err = b.AddToken(t.Context(), bob, Token{Name: "a", Only: access.Limits{"sallow/*"}})
	assert.ErrorContains(t, err, "beyond what bob is limited to")
	_, _, err = b.AddToken(t.Context(), bob, Token{Name: "a", Ends: at.read().Add(-time.Hour)})
	assert.ErrorContains(t, err, "days are possible")
	_, shown, err := b.AddToken(t.Context(), bob, Token{Name: "a", Only: access.Limits{"tern/pump1/*"}})
	require.NoError(t, err)
	_, _, err = b.AddToken(t.Context(), bob, Token{Name: "A"})
	assert.ErrorContains(t, err, "is taken")

	less := access.Viewer
	require.NoError(t, b.Set(t.Context(), root, "bob", Changes{Role: &less}, ""))
	p, err := b.Principal(shown, "", true)
	require.NoError(t, err)
	assert.Equal(t, access.Viewer, p.Role, "it falls with its account")
	other := access.Limits{"heron/*"}
	require.NoError(t, b.Set(t.Context(), root, "bob", Changes{Only: &other}, ""))
	p, err = b.Principal(shown, "", true)
	require.NoError(t, err)
	assert.Equal(t, other, p.Only)
	require.NoError(t, b.Remove(t.Context(), root, "bob"))
	_, err = b.Principal(shown, "", true)
	assert.ErrorContains(t, err, "not known")
}

func TestTheLastAdminStays(t *testing.T) {
	b, _ := book(t)
	viewer := access.Viewer
	assert.ErrorContains(t, b.Set(t.Context(), root, "ann", Changes{Role: &viewer}, ""), "last admin")
	assert.ErrorContains(t, b.Remove(t.Context(), root, "ann"), "last admin")
	_, _, err := b.Directed(t.Context(), "dora", access.Admin, "", "")
	require.NoError(t, err)
	assert.ErrorContains(t, b.Remove(t.Context(), root, "ann"), "last admin", "the directory may be out of reach")
	require.NoError(t, b.Add(t.Context(), root, "eve", good, access.Admin, nil))
	require.NoError(t, b.Remove(t.Context(), root, "ann"))
}

// Random sign-ins, changes and removals: whatever comes, there is an admin who can sign in, who was removed cannot, and the log is whole.
func TestTrialOfAccounts(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	for range 6 {
		at := &timer{now: time.Now()}
		b, db := opened(t, t.TempDir(), at)
		ctx := t.Context()
		require.NoError(t, b.Add(ctx, root, "a0", good, access.Admin, nil))
		names := []string{"a0", "a1", "a2", "a3"}
		type held struct {
			account, secret string
			ended           bool
		}
		var shown []held
		is := map[string]bool{"a0": true}
		for range 60 {
			name, role := names[random.IntN(len(names))], access.Roles()[random.IntN(4)]
			at.pass(time.Duration(random.IntN(100)) * time.Minute)
			switch random.IntN(6) {
			case 0:
				err := b.Add(ctx, root, name, good, role, nil)
				require.Equal(t, is[name], err != nil, "adding %s: %v", name, err)
				is[name] = true
			case 1:
				if b.Remove(ctx, root, name) == nil {
					delete(is, name)
					for i := range shown {
						shown[i].ended = shown[i].ended || shown[i].account == name
					}
				}
			case 2:
				_ = b.Set(ctx, root, name, Changes{Role: &role}, "")
			case 3:
				secret, _, err := b.SignIn(ctx, name, good, "", fmt.Sprint("192.0.2.", random.IntN(9)), "")
				if err == nil {
					require.True(t, is[name], "%s was removed", name)
					shown = append(shown, held{account: name, secret: secret})
				} else if is[name] {
					var soon *TooSoon
					require.ErrorAs(t, err, &soon)
				}
			case 4:
				if len(shown) > 0 {
					i := random.IntN(len(shown))
					_ = b.SignOut(ctx, root, shown[i].secret)
					shown[i].ended = true
				}
			case 5:
				require.NoError(t, b.keep())
			}
			admins := 0
			for _, a := range b.Accounts() {
				require.True(t, is[a.Name])
				if a.Role == access.Admin {
					admins++
				}
			}
			require.Positive(t, admins, "nobody is left who can make accounts")
			for _, h := range shown {
				_, err := b.Principal(h.secret, "", false)
				require.False(t, h.ended && err == nil, "a session of %s that has ended holds", h.account)
			}
		}
		v, err := audit.Open(db).Verify(ctx)
		require.NoError(t, err)
		require.Empty(t, v.Faults)
	}
}

// Attempts become slow, and a right password after the pause is taken.
func TestAttemptsAreSlowedDown(t *testing.T) {
	b, at := book(t)
	try := func(account, from, password string) error {
		_, _, err := b.SignIn(t.Context(), account, password, "", from, "")
		return err
	}
	var soon *TooSoon
	for range freeTries {
		require.ErrorIs(t, try("ann", "192.0.2.1", "wrong"), ErrSignIn)
	}
	require.ErrorAs(t, try("ann", "192.0.2.1", good), &soon, "even the right one")
	assert.NoError(t, try("ann", "192.0.2.2", good), "nobody else is held up")
	at.pass(soon.Wait)
	assert.NoError(t, try("ann", "192.0.2.1", good))

	// many accounts from one address
	for i := range freeOfAddress {
		_ = try(fmt.Sprint("nobody", i), "192.0.2.3", "wrong")
	}
	require.ErrorAs(t, try("ann", "192.0.2.3", good), &soon)
	assert.LessOrEqual(t, soon.Wait, longestPause)

	// one account from many addresses: strangers wait, who was here before does not
	for i := range 10 * freeOfAccount {
		_ = try("ann", fmt.Sprintf("198.51.100.%d", i), "wrong")
	}
	assert.NoError(t, try("ann", "192.0.2.2", good))
	assert.NoError(t, try("ann", "203.0.113.9", good), "not even a stranger is locked out: the first attempt is free")
	_ = try("ann", "203.0.113.8", "wrong")
	require.ErrorAs(t, try("ann", "203.0.113.8", good), &soon)
	assert.LessOrEqual(t, soon.Wait, strangerPause)
}

// Many guesses at once are no way around.
func TestGuessesAtOnce(t *testing.T) {
	b, _ := book(t)
	var all sync.WaitGroup
	var tried, refused int
	var mu sync.Mutex
	for range 50 {
		all.Go(func() {
			_, _, err := b.SignIn(context.Background(), "ann", "wrong", "", "192.0.2.1", "")
			mu.Lock()
			defer mu.Unlock()
			var soon *TooSoon
			if assert.Error(t, err); errorsAs(err, &soon) {
				refused++
			} else {
				tried++
			}
		})
	}
	all.Wait()
	assert.LessOrEqual(t, tried, freeTries)
	assert.Equal(t, 50, tried+refused)
}

func errorsAs(err error, soon **TooSoon) bool {
	s, is := err.(*TooSoon)
	*soon = s
	return is
}

func TestASecondFactor(t *testing.T) {
	b, at := book(t)
	at.pass(at.read().Truncate(codeStep * time.Second).Add(codeStep * time.Second).Sub(at.read())) // to when a code begins
	f, err := NewFactor("ann")
	require.NoError(t, err)
	secret := f.Secret
	assert.Contains(t, f.Address, "otpauth://totp/")
	assert.NotEmpty(t, f.Picture)
	code := func() string {
		c, err := totp.GenerateCode(secret, at.read())
		require.NoError(t, err)
		return c
	}
	assert.True(t, b.CheckFactor(secret, code()))
	assert.False(t, b.CheckFactor(secret, "000 000x"))
	require.NoError(t, b.Set(t.Context(), root, "ann", Changes{Factor: &secret}, ""))
	in := func(code string) error {
		_, _, err := b.SignIn(t.Context(), "ann", good, code, "192.0.2.7", "")
		return err
	}
	assert.ErrorIs(t, in(""), ErrFactor)
	assert.ErrorIs(t, in("12"), ErrSignIn)
	once := code()
	require.NoError(t, in(once))
	assert.ErrorIs(t, in(once), ErrSignIn, "a code is taken once")
	at.pass(time.Minute)
	assert.NoError(t, in(code()))
	at.pass(40 * time.Second)
	early := code()
	at.pass(30 * time.Second)
	assert.NoError(t, in(early), "the clock of a telephone may be late")
	at.pass(5 * time.Minute)
	assert.ErrorIs(t, in(early), ErrSignIn)
	none := ""
	require.NoError(t, b.Set(t.Context(), root, "ann", Changes{Factor: &none}, ""))
	assert.NoError(t, in(""))
}

// Who knows the password cannot try one code after the other: asking which is needed makes nothing good.
func TestCodesAreNotGuessed(t *testing.T) {
	b, at := book(t)
	f, err := NewFactor("ann")
	require.NoError(t, err)
	require.NoError(t, b.Set(t.Context(), root, "ann", Changes{Factor: &f.Secret}, ""))
	tried := 0
	for range 100 {
		at.pass(100 * time.Millisecond)
		if _, _, err := b.SignIn(t.Context(), "ann", good, "", "192.0.2.7", ""); err != nil {
			var soon *TooSoon
			require.True(t, errors.Is(err, ErrFactor) || errors.As(err, &soon), err)
		}
		if _, _, err := b.SignIn(t.Context(), "ann", good, "x", "192.0.2.7", ""); errors.Is(err, ErrSignIn) {
			tried++
		}
	}
	assert.LessOrEqual(t, tried, freeTries+4)
}

// What runs on a session ends when that does by itself.
func TestAWatchedSessionEnds(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		db, err := database.Open(context.Background(), dir)
		require.NoError(t, err)
		b, err := Open(context.Background(), db, Options{})
		require.NoError(t, err)
		b.hasher = newHasher(hashing{time: 1, memory: 64, threads: 1})
		require.NoError(t, b.Add(context.Background(), root, "ann", good, access.Admin, nil))
		shown, _, err := b.SignIn(context.Background(), "ann", good, "", "", "")
		require.NoError(t, err)
		ended := make(chan struct{})
		stop := b.Watch(shown, sync.OnceFunc(func() { close(ended) }))
		defer stop()
		began := time.Now()
		<-ended
		assert.InDelta(t, SessionIdle, time.Since(began), float64(2*lookEvery))
		require.NoError(t, b.Close())
		require.NoError(t, db.Close())
	})
}

func FuzzKeptPassword(f *testing.F) {
	f.Add("$argon2id$v=19$m=64,t=1,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAA", "x")
	f.Add("$argon2id$v=19$m=0,t=0,p=0$$", "x")
	h := newHasher(hashing{time: 1, memory: 64, threads: 1})
	f.Fuzz(func(t *testing.T, kept, password string) {
		if strings.Contains(kept, "m=") && len(kept) < 200 && !strings.Contains(kept, "m=64,t=1,p=1") {
			t.Skip() // memory and time that a database could ask for are bounded, and are not waited for here
		}
		_, _ = h.fits(context.Background(), kept, password)
	})
}
