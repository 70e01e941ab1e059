package e2e

import (
	"bytes"
	"os/exec"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lines collects what a program prints.
type lines struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *lines) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(b)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// A limit is set, exceeded, acknowledged, shelved, and kept over a restart, by the command line; who follows sees all of it.
func TestAlarmsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	ok := func(args ...string) string {
		t.Helper()
		r := p.run(args...)
		require.Contains(t, []int{0, 4}, r.code, "%v: %s", args, r.err)
		return r.out
	}
	await := func(what string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(ok("alarms", "--state", "all"), what) }, patience, pollEvery, "%s", what)
	}
	r := p.run("alarms")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.out, "no alarm")
	assert.Contains(t, p.run("point", "set", "gate/setpoint", "--limits", "{high: 10, low: 20}").err, "is not above low")
	assert.Contains(t, p.run("point", "set", "gate/open-cmd", "--limits", "{state: shut}").err, "idle, open")

	said := &lines{}
	following := exec.Command(binary, "alarms", "--follow", "--server", p.service.URL)
	following.Stdout = said
	require.NoError(t, following.Start())
	defer func() { _ = following.Process.Kill(); _ = following.Wait() }()

	ok("point", "set", "gate/setpoint", "--limits", "{high: 50, deadband: 5, severity: 1}")
	ok("write", "gate/setpoint", "60")
	await("active")
	r = p.run("alarms")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.out, "1         gate/setpoint  high 50 %  active")
	assert.Contains(t, r.out, "1 active, 1 unacknowledged")
	ok("write", "gate/setpoint", "48")
	ok("alarm", "ack", "gate/*", "--note", "seen")
	await("acknowledged by")
	p.restart()
	following2 := ok("alarms")
	assert.Contains(t, following2, "acknowledged by", "it is kept, and not asked for again")
	ok("write", "gate/setpoint", "40")
	await("no alarm")

	assert.Contains(t, p.run("alarm", "shelve", "gate/setpoint").err, "how long is needed")
	assert.Equal(t, 3, p.run("alarm", "shelve", "gate/level", "--for", "1h").code)
	assert.Equal(t, 3, p.run("alarm", "ack", "gate/nothing").code)
	ok("alarm", "shelve", "gate/setpoint", "--limit", "high", "--for", "1h", "--note", "being tried")
	ok("write", "gate/setpoint", "70")
	await("active, shelved until")
	assert.Contains(t, ok("alarms"), "no alarm, 1 shelved")
	ok("alarm", "unshelve", "gate/setpoint")
	await("1 active")
	history := ok("alarm", "history")
	for _, step := range []string{"active", "acknowledged", "gone", "shelved", "unshelved", "seen", "being tried"} {
		assert.Contains(t, history, step)
	}
	assert.Contains(t, said.String(), "active        gate/setpoint")

	ok("point", "set", "bus/two", "--limits", "{high: 100}")
	p.rig.Cut("bus")
	await("bus/two        quality")
}
