package e2e

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/service"
	"arithmon/internal/core/access"
	"arithmon/internal/record/account"
	"arithmon/internal/record/database"
	"arithmon/web"
)

const password = "heron lifts 40 gates slowly"

// guarded is a plant whose service has accounts and speaks TLS with a certificate of its own.
func guarded(t *testing.T, tls string) *plant {
	t.Helper()
	p := &plant{t: t, dir: t.TempDir()}
	require.Equal(t, 0, command(t, password+"\n", "account", "add", "ann", "--role", "admin", "--data", p.dir).code)
	var err error
	p.service, err = service.Start(context.Background(), service.Options{Dir: p.dir, Listen: "127.0.0.1:0", TLS: tls, Console: web.Console(), Version: "test"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, p.service.Stop()) })
	return p
}

// person runs commands as somebody with a configuration of their own.
type person struct {
	t    *testing.T
	home string
	env  []string
}

func someone(t *testing.T, env ...string) person { return person{t, t.TempDir(), env} }

func (p person) run(input string, args ...string) result {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.t.Context(), patience)
	defer cancel()
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Env = append(append(os.Environ(), "XDG_CONFIG_HOME="+p.home, "HOME="+p.home), p.env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &out, &errs
	_ = cmd.Run() // its code says it
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// shell runs a line as a person types it, with the password for what asks for one.
func (p person) shell(dir, line string) result {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.t.Context(), patience)
	defer cancel()
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, "sh", "-c", "exec "+line)
	cmd.Dir = dir
	cmd.Env = append(append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "XDG_CONFIG_HOME="+p.home, "HOME="+p.home), p.env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(password+"\n"), &out, &errs
	_ = cmd.Run() // its code says it
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// A service over TLS with a certificate of its own, used from the command line: signed in, with a token, and refused.
func TestTheCommandLineOverTLSWithAccounts(t *testing.T) {
	t.Parallel()
	p := guarded(t, "self")
	url := p.service.URL
	require.True(t, strings.HasPrefix(url, "https://"))
	ann := someone(t)

	r := ann.run("", "status", "--server", url)
	assert.Equal(t, 5, r.code, r.err)
	assert.Contains(t, r.err, "its certificate is not known to this machine")
	r = ann.run(password, "login", url, "--account", "ann")
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.err, "--fingerprint "+p.service.Fingerprint)
	r = ann.run(password, "login", url, "--account", "ann", "--fingerprint", "sha256:00")
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.err, "nothing was sent")
	r = ann.run("not the password", "login", url, "--account", "ann", "--fingerprint", p.service.Fingerprint)
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.err, "account, password or code is wrong")

	r = ann.run(password, "login", url, "--account", "ann", "--fingerprint", p.service.Fingerprint)
	require.Equal(t, 0, r.code, r.err)
	kept := filepath.Join(ann.home, "arithmon", "signed-in.yaml")
	info, err := os.Stat(kept)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	assert.NotContains(t, string(text), password)

	r = ann.run("", "link", "add", "gate", "--host", "192.0.2.7", "--enabled=false") // without --server: where login was
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, ann.run("", "changes").out, "ann@", "who did it is who signed in")
	require.Equal(t, 0, ann.run("", "station", "add", "plc", "--link", "gate", "--unit", "1").code)
	require.Equal(t, 0, ann.run("", "point", "add", "tern/a", "--station", "plc", "--address", "hr:1").code)
	require.Equal(t, 0, ann.run("", "point", "add", "sallow/a", "--station", "plc", "--address", "hr:2").code)

	require.Equal(t, 0, ann.run(password, "account", "add", "bob", "--role", "engineer", "--only", "tern/*").code)
	bob := someone(t)
	require.Equal(t, 0, bob.run(password, "login", url, "--account", "bob", "--fingerprint", p.service.Fingerprint).code)
	assert.Equal(t, "tern/a\n", cut(bob.run("", "point", "list", "-o", "csv").out))
	assert.Equal(t, 3, bob.run("", "point", "show", "sallow/a").code)
	assert.Equal(t, 0, bob.run("", "point", "set", "tern/a", "--unit", "A").code)
	r = bob.run("", "point", "rename", "tern/a", "sallow/b")
	assert.Equal(t, 5, r.code, r.err)
	assert.Contains(t, r.err, "is limited to tern/*")
	assert.Equal(t, 5, bob.run("", "account", "list").code)

	r = ann.run("", "token", "add", "night", "--role", "viewer")
	require.Equal(t, 0, r.code, r.err)
	script := someone(t, "ARITHMON_TOKEN="+strings.TrimSpace(r.out), "ARITHMON_SERVER="+url, "ARITHMON_FINGERPRINT="+p.service.Fingerprint)
	assert.Equal(t, 0, script.run("", "status").code)
	r = script.run("", "point", "set", "tern/a", "--unit", "kW")
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.err, "ann (night) is a viewer; this needs an engineer")
	require.Equal(t, 0, ann.run("", "token", "remove", "night").code)
	assert.Equal(t, 5, script.run("", "status").code)

	r = ann.run("", "audit", "--verify")
	require.Equal(t, 0, r.code, r.out)
	assert.Contains(t, r.out, "all as they were written")
	for _, what := range []string{"sign-in", "wrong password", "change ", "removed, of ann"} {
		assert.Contains(t, ann.run("", "audit", "--limit", "500").out, what)
	}
	lines := strings.Split(strings.TrimSpace(ann.run("", "audit", "--export", "-").out), "\n")
	assert.Contains(t, lines[0], `"id":1,`)
	_, err = p.service.Store.Database().Writer.Exec("DELETE FROM audit WHERE id = 4")
	require.NoError(t, err)
	r = ann.run("", "audit", "--verify")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, "entry 4 was removed")

	require.Equal(t, 0, ann.run("", "logout").code)
	r = ann.run("", "status", "--server", url)
	assert.Equal(t, 5, r.code, "what was kept is gone")
	assert.Equal(t, 3, ann.run("", "logout").code)
}

// cut is the first column of lines of CSV, without the headings.
func cut(csv string) (first string) {
	for i, line := range strings.Split(strings.TrimSpace(csv), "\n") {
		if i > 0 {
			first += strings.SplitN(line, ",", 2)[0] + "\n"
		}
	}
	return first
}

// An admin who forgot the password gets another one while the service is stopped.
func TestAForgottenPassword(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.Equal(t, 0, command(t, password+"\n", "account", "add", "ann", "--role", "admin", "--data", dir).code)
	require.Equal(t, 0, command(t, "a gate of 12 grey geese\n", "account", "set", "ann", "--password", "--data", dir).code)
	db, err := database.Open(t.Context(), dir)
	require.NoError(t, err)
	r := command(t, "x\n", "account", "set", "ann", "--password", "--data", dir)
	assert.Equal(t, 1, r.code)
	r = command(t, password+"\n", "account", "add", "bob", "--role", "viewer", "--data", dir)
	assert.Contains(t, r.err, "in use by another Arithmon")
	book, err := account.Open(t.Context(), db, account.Options{})
	require.NoError(t, err)
	_, _, err = book.SignIn(t.Context(), "ann", password, "", "", "")
	assert.ErrorIs(t, err, account.ErrSignIn)
	_, _, err = book.SignIn(t.Context(), "ann", "a gate of 12 grey geese", "", "", "")
	assert.NoError(t, err)
	assert.Equal(t, access.Admin, book.Accounts()[0].Role)
	require.NoError(t, book.Close())
	require.NoError(t, db.Close())
}
