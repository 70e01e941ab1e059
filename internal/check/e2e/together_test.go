package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
)

// Many points are changed, renamed, added and removed in one modification each, which one undo takes back.
func TestManyPointsAtOnce(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	dry := p.run("point", "set", "gate/*", "--unit", "mm", "--where", "type=int16", "--dry-run")
	require.Zero(t, dry.code, dry.err)
	assert.Equal(t, "change  point    gate/setpoint (unit)\n0 would be added, 1 would be changed, 0 would be removed\n", dry.out)
	assert.Equal(t, "%", p.field(site.KindPoint, "gate/setpoint", "unit"))
	set := p.run("point", "set", "gate/*", "bus/one", "--description", "many")
	require.Zero(t, set.code, set.err)
	assert.Contains(t, set.out, "4 changed")
	changes, err := p.client.Changes(t.Context(), "", "", 1)
	require.NoError(t, err)
	undone, err := p.client.Undo(t.Context(), changes[0].ID)
	require.NoError(t, err)
	assert.Equal(t, 4, undone.Changed, "together")

	renamed := p.run("point", "rename", "gate/*", "weir/*")
	require.Zero(t, renamed.code, renamed.err)
	assert.Contains(t, renamed.out, "3 changed")
	p.awaitQuality("weir/level", "good")
	bad := p.run("point", "set", "weir/*", "--decimals", "40")
	assert.NotZero(t, bad.code)
	assert.Contains(t, bad.err, "--decimals")

	series := p.run("point", "add", "row{01..12}/{north,south}", "--station", "plc", "--address", "hr:{0..}", "--type", "uint16", "--description", "number {n}")
	require.Zero(t, series.code, series.err)
	assert.Contains(t, series.out, "24 added")
	assert.Equal(t, "40024", p.field(site.KindPoint, "row12/south", "address"))
	assert.Equal(t, "number 24", p.field(site.KindPoint, "row12/south", "description"))
	p.awaitQuality("row07/north", "good")
	wide := p.run("point", "add", "wide{1..3}", "--station", "plc", "--address", "hr:{0x10..}", "--type", "float32")
	require.Zero(t, wide.code, wide.err)
	assert.Equal(t, "40021", p.field(site.KindPoint, "wide3", "address"))

	one := p.run("point", "add", "single", "--station", "plc", "--address", "hr:90", "--dry-run")
	assert.Contains(t, one.out, "single", one.err)
	assert.Contains(t, one.out, "1 would be added")
	assert.NotZero(t, p.run("point", "show", "single").code, "nothing is added")
	assert.Contains(t, p.run("point", "add", "single", "--station", "plc", "--address", "hr:90", "--step", "2").err, "--step is of a series")
	wrong := p.run("point", "add", "single", "--station", "plc", "--address", "hr:90x", "--scaling", "{factor: .nan}")
	assert.Contains(t, wrong.err, "--scaling (factor)", "beside the others")
	assert.Contains(t, wrong.err, "--address")
	removed := p.run("point", "remove", "row*", "--dry-run")
	assert.Contains(t, removed.out, "24 would be removed")
	removed = p.run("point", "remove", "row*", "wide1")
	require.Zero(t, removed.code, removed.err)
	assert.Contains(t, removed.out, "25 removed")
	for args, says := range map[string]string{
		"remove nothing/*":                         "no point is nothing/*",
		"set weir/* --where kind=x --unit A":       `a point has no field "kind"`,
		"set weir/* --where type --unit A":         "is not FIELD=VALUE",
		"rename weir/* x":                          "each stands for what",
		"add s{3..1} --station plc --address 1":    "a series counts up",
		"add s{1..3} --station plc --address hr:1": "goes on from a number in braces",
		"add s{x} --station plc --address hr:1":    "is no series",
	} {
		out := p.run(append([]string{"point"}, strings.Fields(args)...)...)
		assert.NotZero(t, out.code, args)
		assert.Contains(t, out.err, says, args)
	}
	// A rename that would meet another point changes nothing.
	clash := p.run("point", "rename", "weir/level", "bus/one")
	assert.NotZero(t, clash.code)
	p.awaitQuality("weir/level", "good")
	_, err = p.client.ChangePoints(t.Context(), api.Together{Tags: []string{"*"}})
	assert.ErrorContains(t, err, "one of set, rename, remove and add is needed")
}
