package e2e

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
)

// What was is named, compared, and restored; what is to be is proposed, talked about, and taken over: by the command line.
func TestVersionsAndProposalsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	ok := func(args ...string) string {
		t.Helper()
		r := p.run(args...)
		require.Equal(t, 0, r.code, "%v: %s", args, r.err)
		return r.out
	}
	ok("version", "add", "day-1", "--message", "as handed over")
	assert.Contains(t, ok("version", "list"), "as handed over")
	ok("point", "set", "gate/level", "--unit", "m", "--message", "the manual says metres")
	ok("point", "rename", "bus/one", "bus/first")
	ok("point", "remove", "bus/two")
	assert.Contains(t, ok("changes"), "the manual says metres")

	diff := ok("diff", "day-1")
	for _, line := range []string{`change  point  gate/level  unit`, `change  point  bus/first   tag    bus/one`, `remove  point  bus/two`} {
		assert.Contains(t, diff, line)
	}
	assert.NotContains(t, ok("diff", "day-1", "--only", "gate/*"), "bus/")
	assert.Contains(t, ok("diff", "now", file(t, "site.yaml", ok("export"))), "do not differ")
	assert.Contains(t, ok("diff", "now", file(t, "old.yaml", p.site())), "bus/two")
	assert.Contains(t, ok("restore", "day-1", "--dry-run"), "1 would be added, 2 would be changed, 0 would be removed")
	ok("restore", "day-1", "--only", "bus/two")
	assert.NotContains(t, ok("diff", "day-1"), "bus/two")
	ok("restore", "day-1")
	assert.Contains(t, ok("diff", "day-1"), "do not differ")
	p.await("gate/level", func(r api.Reading) bool { return said(r) == "good" && r.Unit == "%" })
	assert.Equal(t, 3, p.run("restore", "day-2").code)

	before := p.service.Store.Site()
	r := p.run("point", "set", "gate/level", "--unit", "m", "--propose", "Metres")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "kept as proposal 1")
	r = p.run("apply", file(t, "more.yaml", "arithmon: 1\npoints: [{tag: gate/extra, station: plc, address: 40031}]\n"), "--propose", "Phase 2")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "1 would be added")
	list := file(t, "list.csv", "tag,station,address\ngate/listed,plc,40035\n")
	r = p.run("point", "import", list, "--propose", "A list", "-o", "json")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, `"proposal": 3`)
	assert.Contains(t, r.out, `"applied": false`)
	assert.Equal(t, before, p.service.Store.Site(), "nothing is in force")
	assert.Equal(t, 1, p.run("write", "gate/setpoint", "5", "--propose", "no").code, "a write is none")
	ok("proposal", "comment", "1", "or centimetres?")
	ok("point", "set", "gate/level", "--unit", "mm")
	r = p.run("proposal", "show", "1")
	assert.Contains(t, r.err, "or centimetres?")
	assert.Contains(t, r.err, "conflict: point gate/level unit: was %, is mm now, would be m")
	assert.Equal(t, 1, p.run("proposal", "take", "1").code)
	assert.Contains(t, ok("proposal", "take", "1", "--all", "mine", "--dry-run"), "gate/level")
	ok("proposal", "take", "1", "--all", "mine")
	assert.Equal(t, "m", p.field(site.KindPoint, "gate/level", "unit"))
	ok("proposal", "take", "2")
	assert.Equal(t, 0, p.run("point", "show", "gate/extra").code)
	r = p.run("proposal", "take", "2")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "is not open any more")

	ok("note", "add", "station", "plc", "cable swapped")
	ok("station", "set", "plc", "--name", "plc1")
	assert.Contains(t, ok("note", "list", "station", "plc1"), "cable swapped")
	ok("note", "done", "1")
	assert.NotContains(t, ok("note", "list"), "cable swapped")
	assert.Equal(t, 3, p.run("note", "add", "point", "nowhere", "x").code)
}

// A backup is put back while the service is stopped.
func TestABackupIsRestoredFromTheCommandLine(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	to := filepath.Join(t.TempDir(), "plant.db")
	require.Equal(t, 0, p.run("backup", to).code)
	require.Equal(t, 0, p.run("point", "remove", "bus/two").code)
	r := command(t, "", "restore-backup", to, "--data", p.dir)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "in use by another Arithmon")
	require.NoError(t, p.service.Stop())
	r = command(t, "", "restore-backup", to, "--data", p.dir)
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "the one before is kept as")
	p.serve()
	assert.Equal(t, 0, p.run("point", "show", "bus/two").code)
}

// Who is here sees the others, and what they finish, at once.
func TestPeopleSeeEachOther(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	came := make(chan []api.Person, 100)
	changed := make(chan api.ChangedTogether, 100)
	go func() {
		_ = p.client.Together(ctx, api.Whereabouts{Page: "/points", Editing: &api.EntityRef{Kind: site.KindPoint, Name: "gate/level"}}, func(m api.TogetherMessage) error {
			if m.People != nil {
				came <- m.People
			}
			for _, c := range m.Changed {
				changed <- c
			}
			return nil
		})
	}()
	seen := func(want func([]api.Person) bool) {
		t.Helper()
		for {
			select {
			case list := <-came:
				if want(list) {
					return
				}
			case <-ctx.Done():
				t.Fatal("it was never so")
			}
		}
	}
	seen(func(list []api.Person) bool { return len(list) == 1 && list[0].Here && list[0].Page == "/points" })
	other, gone := context.WithCancel(ctx)
	go func() {
		_ = p.client.Together(other, api.Whereabouts{Page: "/live"}, func(api.TogetherMessage) error { return nil })
	}()
	seen(func(list []api.Person) bool { return len(list) == 2 && !list[1].Here && list[1].Page == "/live" })
	gone()
	seen(func(list []api.Person) bool { return len(list) == 1 })
	require.Equal(t, 0, p.run("point", "set", "gate/*", "--description", "of the gate").code)
	for {
		select {
		case set := <-changed:
			if set.Changes[0].Action == site.Add { // the site itself, which was applied just before they came
				continue
			}
			assert.Equal(t, 3, set.Count)
			assert.True(t, strings.HasPrefix(set.Changes[0].Name, "gate/"), fmt.Sprint(set))
			return
		case <-ctx.Done():
			t.Fatal("nobody was told")
		}
	}
}
