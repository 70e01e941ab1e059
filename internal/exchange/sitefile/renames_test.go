package sitefile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
)

// whole takes a file over as the whole site.
func whole(t *testing.T, s *site.Site, text string) (*site.Site, []site.Change) {
	t.Helper()
	f, err := Read("whole", []byte(text))
	require.NoError(t, err)
	d := s.Edit()
	f.Into(d, s, true)
	tie.Follow(d, false)
	changes, err := d.Changes()
	require.NoError(t, err)
	return s.With(changes), changes
}

// Of a file that is the whole site, what only has another name is the same thing under it.
func TestARenameInAFileIsARename(t *testing.T) {
	s, err := load(t, gate)
	require.NoError(t, err)
	version := s.Version(site.KindPoint, "gate1/mode")
	left, changes := whole(t, s, strings.NewReplacer("gate1/mode", "gate1/state", "name: plc", "name: gate-plc", "station: plc", "station: gate-plc", "name: gate,", "name: north,", "link: gate\n", "link: north\n").Replace(gate))
	for _, c := range changes {
		assert.Equal(t, site.Modify, c.Action(), "%s %s", c.Kind(), c.Name())
	}
	assert.Equal(t, []string{"gate1/limit", "gate1/open-cmd", "gate1/position", "gate1/state"}, left.Names(site.KindPoint))
	assert.Equal(t, version+1, left.Version(site.KindPoint, "gate1/state"))
	p, _ := left.Point("gate1/state")
	assert.Equal(t, "gate-plc", p.Station)
	st, _ := left.Station("gate-plc")
	assert.Equal(t, "north", st.Link)
	assert.Equal(t, 1, left.Count(site.KindLink))
	_, again := whole(t, left, mustWrite(t, left))
	assert.Empty(t, again)

	// Another address is another point, and where two fit, neither is said to be the same.
	_, changes = whole(t, s, strings.Replace(strings.Replace(gate, "gate1/mode", "gate1/state", 1), "400020", "400030", 1))
	assert.Len(t, changes, 2, "one added, one removed")
	twin := gate + "  - {tag: gate1/twin, station: plc, address: 400020, type: uint16}\n"
	s, err = load(t, twin)
	require.NoError(t, err)
	_, changes = whole(t, s, strings.NewReplacer("gate1/mode", "a", "gate1/twin", "b").Replace(twin))
	var actions []site.Action
	for _, c := range changes {
		actions = append(actions, c.Action())
	}
	assert.Equal(t, []site.Action{site.Add, site.Add, site.Remove, site.Remove}, actions)
}

func mustWrite(t *testing.T, s *site.Site) string {
	t.Helper()
	out, err := written(s)
	require.NoError(t, err)
	return out
}
