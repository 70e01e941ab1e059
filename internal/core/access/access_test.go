package access

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"arithmon/internal/core/site"
)

func TestRolesIncludeThoseBeforeThem(t *testing.T) {
	all := Roles()
	for i, a := range all {
		for j, b := range all {
			assert.Equal(t, i >= j, a.Includes(b), "%s includes %s", a, b)
		}
		assert.True(t, a.Includes(Nobody))
		assert.False(t, Nobody.Includes(a))
		assert.False(t, Role("owner").Includes(a), "what is no role may nothing")
		assert.False(t, a.Includes("owner"))
	}
	assert.Equal(t, Operator, Lesser(Operator, Admin))
	assert.Equal(t, Operator, Lesser(Admin, Operator))
}

func TestLimits(t *testing.T) {
	l := Limits{"tern/*", "station:heron-*"}
	assert.True(t, l.Tag("tern/pump1/current", "any"))
	assert.True(t, l.Tag("other", "heron-rtu"))
	assert.False(t, l.Tag("other", "tern-drive"))
	assert.True(t, l.Station("heron-rtu"))
	assert.False(t, l.Station("tern-drive1"), "a branch of tags is not the stations that they are of")
	assert.False(t, l.Entity(site.Link{Name: "heron-line"}), "which others may share")
	assert.True(t, Limits(nil).Entity(site.Link{Name: "heron-line"}))
	for _, wrong := range []Limits{{""}, {"station:"}, {" a"}, {"a:b"}, {"station:station:x"}} {
		assert.Error(t, wrong.Check(), "%q", wrong)
	}
	assert.NoError(t, l.Check())
}

// Whatever the limits, the part of a site has exactly the points that the limits say, whole with what they need; and what is within other limits
// reaches nothing that those do not.
func TestTrialOfLimits(t *testing.T) {
	patterns := []string{"a/*", "a/b*", "*", "b/?", "a/b1", "station:s*", "station:s1", "c"}
	tags := []string{"a/b1", "a/b2", "a/c", "b/1", "b/22", "c"}
	stations := []string{"s1", "s2", "t1"}
	rapid.Check(t, func(t *rapid.T) {
		b := site.New().Build()
		l := site.NewLink()
		l.Name = "line"
		b.Put(l, 1)
		for _, name := range stations {
			st := site.NewStation()
			st.Name, st.Link = name, "line"
			b.Put(st, 1)
		}
		var points []site.Point
		for i, tag := range tags {
			p := site.NewPoint()
			p.Tag, p.Station = tag, rapid.SampledFrom(stations).Draw(t, "station")
			points = append(points, p)
			b.Put(p, int64(i+1))
		}
		whole := b.Site()
		draw := func(name string) Limits {
			return rapid.SliceOfN(rapid.SampledFrom(patterns), 0, 3).Draw(t, name)
		}
		one, other := draw("one"), draw("other")
		part := one.Of(whole)
		for _, p := range points {
			_, there := part.Point(p.Tag)
			if there != one.Tag(p.Tag, p.Station) {
				t.Fatalf("%s of %s: seen %v with %q", p.Tag, p.Station, there, one)
			}
			if there && part.Version(site.KindPoint, p.Tag) != whole.Version(site.KindPoint, p.Tag) {
				t.Fatal("another version")
			}
			if _, needed := part.Station(p.Station); there && !needed {
				t.Fatalf("%s lacks its station", p.Tag)
			}
			if one.Within(other) && one.Tag(p.Tag, p.Station) && !other.Tag(p.Tag, p.Station) {
				t.Fatalf("%q is not within %q: %s", one, other, p.Tag)
			}
		}
		for _, name := range stations {
			if one.Within(other) && one.Station(name) && !other.Station(name) {
				t.Fatalf("%q is not within %q: station %s", one, other, name)
			}
		}
	})
}

func TestRefusalsSayWhoAndWhatIsNeeded(t *testing.T) {
	p := Principal{Account: "bob", Token: "night", Role: Viewer, Only: Limits{"tern/*"}}
	assert.EqualError(t, p.May(Engineer), "bob (night) is a viewer; this needs an engineer")
	assert.EqualError(t, p.Reaches(site.Point{Tag: "sallow/x"}), "bob (night) is limited to tern/*; point sallow/x is not within")
	assert.NoError(t, p.May(Viewer))
	moved := []site.Change{{Before: site.Point{Tag: "tern/x"}, After: site.Point{Tag: "sallow/x"}}}
	assert.Error(t, p.Permits(site.New(), moved), "nor is it moved out")
	assert.Equal(t, "bob@laptop", Principal{Account: "bob", Token: "bob@laptop"}.Name())
}
