package account

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"
)

// Bounds of a password, in characters.
const (
	MinPassword = 12
	MaxPassword = 200
)

// fewGuesses is below how many guesses a password counts as common: those of the lists of the most common ones, names, dates, rows of
// keys, and what is made of them by repeating or by changing a letter for a number.
const fewGuesses = 1e8

// guessed is how much of a password is looked at for that; the time it takes grows with the square.
const guessed = 60

// CheckPassword says why a password is not taken.
func CheckPassword(account, password string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case !utf8.ValidString(password):
		return fmt.Errorf("the password is no text")
	case n < MinPassword:
		return fmt.Errorf("the password has %d characters; at least %d are needed. Several words make a good one", n, MinPassword)
	case n > MaxPassword:
		return fmt.Errorf("the password has %d characters; at most %d are possible", n, MaxPassword)
	case len(account) > 2 && strings.Contains(strings.ToLower(password), strings.ToLower(account)):
		return fmt.Errorf("the password contains the name of the account; choose one that has nothing to do with it")
	}
	if zxcvbn.PasswordStrength(string([]rune(password)[:min(n, guessed)]), []string{account, "arithmon", "modbus", "scada"}).Guesses < fewGuesses {
		return fmt.Errorf("the password is one of the most common ones, or near to one; choose one that is hard to guess, such as four words that have nothing to do with each other")
	}
	return nil
}

// hashing is how passwords are hashed: argon2id (RFC 9106) with so many passes over so much memory.
type hashing struct {
	time, memory uint32 // memory in KiB
	threads      uint8
}

var usual = hashing{time: 3, memory: 32 << 10, threads: 2}

const keyLength, saltLength = 32, 16

// hasher hashes so few passwords at once that their memory is bounded.
type hasher struct {
	how   hashing
	turns chan struct{}
	dummy string // what a password is compared with when there is no such account, so that the time it takes says nothing
}

func newHasher(how hashing) *hasher {
	h := &hasher{how: how, turns: make(chan struct{}, 2)}
	h.dummy = h.encode("", make([]byte, saltLength))
	return h
}

// hash makes what is kept of a password.
func (h *hasher) hash(ctx context.Context, password string) (string, error) {
	select {
	case h.turns <- struct{}{}:
		defer func() { <-h.turns }()
	case <-ctx.Done():
		return "", ctx.Err()
	}
	salt := make([]byte, saltLength)
	rand.Read(salt) // never fails
	return h.encode(password, salt), nil
}

func (h *hasher) encode(password string, salt []byte) string {
	key := argon2.IDKey([]byte(password), salt, h.how.time, h.how.memory, h.how.threads, keyLength)
	text := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, h.how.memory, h.how.time, h.how.threads, text(salt), text(key))
}

// fits reports whether a password is the one that was kept.
func (h *hasher) fits(ctx context.Context, kept, password string) (bool, error) {
	select {
	case h.turns <- struct{}{}:
		defer func() { <-h.turns }()
	case <-ctx.Done():
		return false, ctx.Err()
	}
	known := kept != ""
	if !known {
		kept = h.dummy
	}
	var version int
	var how hashing
	parts := strings.Split(kept, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fmt.Errorf("the password of the account is kept in a form that is not known")
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &how.memory, &how.time, &how.threads); err != nil || version != argon2.Version || how.memory > 1<<20 || how.time > 100 || how.time < 1 || how.threads < 1 {
		return false, fmt.Errorf("the password of the account is kept in a form that is not known")
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	key, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(key) == 0 {
		return false, fmt.Errorf("the password of the account is kept in a form that is not known")
	}
	same := subtle.ConstantTimeCompare(key, argon2.IDKey([]byte(password), salt, how.time, how.memory, how.threads, uint32(len(key)))) == 1
	return same && known, nil
}
