package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
)

// What communication does is there as points, which come and go with what they tell of, and are among the others only when they are asked for.
func TestCommunicationAsPoints(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	read := func(tags ...string) map[string]api.Reading {
		t.Helper()
		list, err := p.client.Readings(t.Context(), tags...)
		require.NoError(t, err)
		by := map[string]api.Reading{}
		for _, r := range list {
			by[r.Tag] = r
		}
		return by
	}
	is := func(tag, text string) func() bool {
		return func() bool { return strings.HasPrefix(read("@*")[tag].Text, text) }
	}
	require.Eventually(t, is("@plc/state", "answering"), patience, pollEvery)
	require.Eventually(t, is("@gate/state", "up"), patience, pollEvery)
	require.Eventually(t, is("@plc/good-share", "100"), patience, pollEvery)
	require.Eventually(t, func() bool { return read("@plc/round-trip")["@plc/round-trip"].Unit == "ms" }, patience, pollEvery)
	assert.NotContains(t, read("*"), "@plc/state")
	assert.Contains(t, read("@plc/state", "gate/level"), "gate/level")
	assert.Equal(t, "0", read("@site/alarms")["@site/alarms"].Text)
	assert.Equal(t, 3, p.run("read", "@nothing/state").code)
	assert.Equal(t, 3, p.run("write", "@plc/state", "silent").code, "nothing can be written to them")

	require.Equal(t, 0, p.run("point", "set", "gate/level", "--limits", "{low: 30}").code)
	require.Eventually(t, is("@site/alarms", "1"), patience, pollEvery)
	p.rig.Cut("bus")
	require.Eventually(t, func() bool { return read("@bus/state")["@bus/state"].Text != "up" }, patience, pollEvery)
	require.Eventually(t, func() bool { r := read("@site/findings")["@site/findings"]; return r.Text != "" && r.Text != "0" }, patience, pollEvery)
	require.Equal(t, 0, p.run("link", "remove", "bus", "--cascade").code)
	require.Eventually(t, func() bool { return !strings.Contains(strings.Join(keys(read("@*")), " "), "@bus") }, patience, pollEvery)

	require.Equal(t, 0, p.run("station", "set", "plc", "--record", "true").code)
	require.Eventually(t, func() bool { return strings.Contains(p.run("history", "@plc/state").out, "answering") }, patience, pollEvery)
	var board struct{ Displays []map[string]any }
	require.Equal(t, 0, p.run("board", "add", "states", "--displays", "[{show: figure, tag: '@plc/state', x: 0, y: 0, w: 4, h: 3}]").code)
	require.NoError(t, json.Unmarshal([]byte(p.run("board", "show", "states", "-o", "json").out), &board))
	require.Len(t, board.Displays, 1)
	shows(t, p.console("/boards?board=states"), `[data-display="@plc/state"]`, "answering")
}

func keys[V any](m map[string]V) (list []string) {
	for k := range m {
		list = append(list, k)
	}
	return list
}
