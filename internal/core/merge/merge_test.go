package merge

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"arithmon/internal/core/site"
)

func point(unit, description string, decimals int) site.Point {
	p := site.NewPoint()
	p.Tag, p.Station, p.Unit, p.Description, p.Type = "a/b", "plc", unit, description, "uint16"
	p.Decimals, p.Address = &decimals, site.Address{Space: site.HoldingRegisters}
	return p
}

func TestWhatTwoPeopleMadeOfAPoint(t *testing.T) {
	base := point("A", "Current", 1)
	merged, conflicts, err := Entity(base, point("kA", "Current", 1), point("A", "Current of pump 1", 1), nil)
	require.NoError(t, err)
	assert.Empty(t, conflicts)
	assert.Equal(t, point("kA", "Current of pump 1", 1), merged, "both are in it")

	merged, conflicts, err = Entity(base, point("kA", "Current", 2), point("mA", "Current", 1), nil)
	require.NoError(t, err)
	assert.Equal(t, []Conflict{{site.KindPoint, "a/b", "unit", json.RawMessage(`"A"`), json.RawMessage(`"kA"`), json.RawMessage(`"mA"`)}}, conflicts)
	assert.Equal(t, point("kA", "Current", 2), merged, "as it is until somebody chooses")
	merged, conflicts, err = Entity(base, point("kA", "Current", 2), point("mA", "Current", 1), Choose(true))
	require.NoError(t, err)
	assert.Empty(t, conflicts)
	assert.Equal(t, point("mA", "Current", 2), merged)
	merged, _, err = Entity(base, point("kA", "Current", 2), point("kA", "", 1), nil)
	require.NoError(t, err)
	assert.Equal(t, point("kA", "", 2), merged, "the same of both is none; and what is taken away is gone")
}

// Whatever two people do to one point, each field is as the base, as one of them or as the other has it: as who changed it, and where both did, a
// conflict; never anything else.
func TestTrialOfMerging(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) site.Point {
			return point(rapid.SampledFrom([]string{"", "A", "kA"}).Draw(t, name+" unit"), rapid.SampledFrom([]string{"", "x", "y"}).Draw(t, name+" description"), rapid.IntRange(0, 2).Draw(t, name+" decimals"))
		}
		base, now, wanted := draw("base"), draw("now"), draw("wanted")
		merged, conflicts, err := Entity(base, now, wanted, nil)
		if err != nil {
			t.Fatal(err)
		}
		was, is, to, got := fieldsOf(base), fieldsOf(now), fieldsOf(wanted), fieldsOf(merged)
		for _, field := range []string{"unit", "description", "decimals"} {
			b, n, w, g := string(was[field]), string(is[field]), string(to[field]), string(got[field])
			want := n
			if n == b {
				want = w
			}
			both := n != b && w != b && n != w
			if g != want || both != slices.ContainsFunc(conflicts, func(c Conflict) bool { return c.Field == field }) {
				t.Fatalf("%s: was %s, is %s, wanted %s: %s, conflicts %v", field, b, n, w, g, conflicts)
			}
		}
		if back, _, _ := Entity(base, base, wanted, nil); len(Fields(back, wanted)) > 0 {
			t.Fatal("nobody else changed anything")
		}
	})
}

func built(entities ...site.Entity) *site.Site {
	b := site.New().Build()
	for _, e := range entities {
		b.Put(e, 1)
	}
	return b.Site()
}

func TestChangesThatWerePreparedAndMeetOthers(t *testing.T) {
	l := site.NewLink()
	l.Name, l.Host = "gate", "127.0.0.1"
	st := site.NewStation()
	st.Name, st.Link = "plc", "gate"
	other := point("A", "Other", 0)
	other.Tag, other.Address.Offset = "a/c", 7
	base := point("A", "Current", 1)
	added := point("V", "New", 0)
	added.Tag, added.Address.Offset = "a/new", 9
	prepared := []site.Change{{Before: base, After: point("A", "Current of pump 1", 1)}, {After: added}, {Before: other}}
	tags := func(s *site.Site) string { return fmt.Sprint(s.Tags()) }
	take := func(now *site.Site, chosen Chosen) (*site.Site, []Conflict) {
		d := now.Edit()
		conflicts, err := Into(d, prepared, chosen)
		require.NoError(t, err)
		changes, err := d.Changes()
		require.NoError(t, err)
		return now.With(changes), conflicts
	}
	after, conflicts := take(built(l, st, base, other), nil)
	assert.Empty(t, conflicts)
	assert.Equal(t, "[a/b a/new]", tags(after))

	changedOther := other
	changedOther.Unit = "kA"
	after, conflicts = take(built(l, st, point("kA", "Current", 1), changedOther), nil)
	require.Len(t, conflicts, 1, "what is to go was changed by somebody")
	assert.Equal(t, "a/c", conflicts[0].Name)
	assert.Empty(t, conflicts[0].Field)
	p, _ := after.Point("a/b")
	assert.Equal(t, point("kA", "Current of pump 1", 1), p)
	after, _ = take(built(l, st, base, changedOther), Choose(true))
	assert.Equal(t, "[a/b a/new]", tags(after))
	after, _ = take(built(l, st, base, changedOther), Choose(false))
	assert.Equal(t, "[a/b a/c a/new]", tags(after))

	_, conflicts = take(built(l, st, other), nil)
	require.Len(t, conflicts, 1, "what is to be changed is gone")
	assert.Nil(t, conflicts[0].Theirs)
	after, _ = take(built(l, st, other, base, added), nil)
	assert.Equal(t, "[a/b a/new]", tags(after), "what is there already is no conflict")
}

// What changes places in a proposal does so in a site that was changed since.
func TestPlacesThatWerePrepared(t *testing.T) {
	l := site.NewLink()
	l.Name, l.Host = "gate", "127.0.0.1"
	st := site.NewStation()
	st.Name, st.Link = "plc", "gate"
	a, b := point("A", "first", 1), point("V", "second", 1)
	b.Tag, b.Address.Offset = "a/c", 7
	now := built(l, st, a, b)
	d := now.Edit()
	d.ReplaceAll([]site.Replacement{{Old: "a/b", New: called(a, "a/c")}, {Old: "a/c", New: called(b, "a/b")}})
	changes, err := d.Changes()
	require.NoError(t, err)
	prepared := site.Settled(changes)
	require.Len(t, prepared, 2)
	b.Unit = "kV" // meanwhile
	d = built(l, st, a, b).Edit()
	conflicts, err := Into(d, prepared, nil)
	require.NoError(t, err)
	assert.Empty(t, conflicts)
	changes, err = d.Changes()
	require.NoError(t, err)
	after := now.With(changes)
	first, _ := after.Point("a/c")
	second, _ := after.Point("a/b")
	assert.Equal(t, []string{"first A", "second kV"}, []string{first.Description + " " + first.Unit, second.Description + " " + second.Unit})
}

func called(p site.Point, tag string) site.Point {
	p.Tag = tag
	return p
}

func TestSitesCompared(t *testing.T) {
	a := built(point("A", "x", 1))
	renamed := point("A", "x", 1)
	renamed.Tag = "a/z"
	changes := Sites(a, built(renamed), nil)
	assert.Len(t, changes, 2, "one goes, one comes")
	changes = Sites(a, built(renamed), func(site.Kind, string) (string, bool) { return "a/z", true })
	require.Len(t, changes, 1)
	assert.Equal(t, site.Modify, changes[0].Action())
	assert.Empty(t, Sites(a, a, nil))
}
