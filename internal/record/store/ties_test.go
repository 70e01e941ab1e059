package store

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
)

// Whatever is done to templates, their stations and points, undoing it leaves what was there before, and reopening finds what was left.
func TestTrialOfUndoneTies(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	kind := func(unit string, keys ...int) site.Template {
		k := site.Template{Name: "kind", Parameters: []template.Parameter{{Name: "tag"}, {Name: "base", Default: "0"}}, Station: template.Fields{"poll": "2s"}}
		for _, key := range keys {
			k.Points = append(k.Points, template.Fields{"tag": fmt.Sprintf("{tag}/p%d", key), "address": fmt.Sprintf("hr:{base+%d}", key), "type": "uint16", "unit": unit})
		}
		return k
	}
	tied := func(n, base int) site.Station {
		st := site.NewStation()
		st.Name, st.Link, st.Unit, st.Template = fmt.Sprintf("s%d", n), "gate", n, "kind"
		st.Values = map[string]string{"tag": fmt.Sprintf("t%d", n), "base": fmt.Sprint(base)}
		return st
	}
	_, _, err := s.Modify(t.Context(), Edit{}, func(d *site.Draft, _ *site.Site) {
		d.Add(link("gate"))
		d.Add(kind("a", 0, 1, 2))
		for n := range 4 {
			d.Add(tied(n+1, 10*n))
		}
	})
	require.NoError(t, err)
	require.Equal(t, 12, s.Site().Count(site.KindPoint))
	r := rand.New(rand.NewPCG(7, 7))
	pick := func() string {
		tags := s.Site().Names(site.KindPoint)
		return tags[r.IntN(len(tags))]
	}
	for step := range 150 {
		before := s.Site()
		var what string
		changes, after, err := s.Modify(t.Context(), Edit{}, func(d *site.Draft, now *site.Site) {
			n := r.IntN(4) + 1
			switch r.IntN(7) {
			case 0:
				what = "the template"
				keys := r.Perm(6)[:r.IntN(5)+1]
				d.Put(kind(string(rune('a'+r.IntN(3))), keys...))
			case 1:
				what = "values"
				if st, ok := now.Station(fmt.Sprintf("s%d", n)); ok {
					st.Values = map[string]string{"tag": st.Values["tag"], "base": fmt.Sprint(r.IntN(50))}
					d.Put(st)
				}
			case 2:
				what = "a point"
				p, _ := now.Point(pick())
				p.Unit = "own"
				d.Put(p)
			case 3:
				what = "a point less"
				d.Remove(site.KindPoint, pick(), false)
			case 4:
				what = "a station less"
				if name := fmt.Sprintf("s%d", n); now.Count(site.KindStation) > 2 {
					if _, ok := now.Station(name); ok {
						d.Remove(site.KindStation, name, true)
					}
				}
			case 5:
				what = "a station more"
				if _, ok := now.Station(fmt.Sprintf("s%d", n)); !ok {
					d.Add(tied(n, r.IntN(50)))
				}
			case 6:
				what = "a renamed point"
				p, _ := now.Point(pick())
				was := p.Tag
				p.Tag = fmt.Sprintf("own/%d", step)
				d.Replace(was, p)
			}
		})
		require.NoError(t, err, what)
		if len(changes) == 0 {
			continue
		}
		records, err := s.Changes(t.Context(), "", "", 0, 1)
		require.NoError(t, err)
		_, undone, err := s.Undo(t.Context(), Edit{Who: "ann"}, records[0].ID)
		require.NoError(t, err, "step %d: %s", step, what)
		same(t, before, undone, fmt.Sprintf("step %d: %s, undone", step, what))
		records, err = s.Changes(t.Context(), "", "", 0, 1)
		require.NoError(t, err)
		if r.IntN(3) > 0 { // and the undoing is undone
			_, again, err := s.Undo(t.Context(), Edit{Who: "ann"}, records[0].ID)
			require.NoError(t, err, "step %d: %s", step, what)
			same(t, after, again, fmt.Sprintf("step %d: %s, done again", step, what))
		}
		if t.Failed() || s.Site().Count(site.KindPoint) == 0 {
			break
		}
	}
	left := s.Site()
	require.NoError(t, s.Close())
	same(t, left, open(t, dir).Site(), "reopened")
}

// same looks at all that two sites hold.
func same(t *testing.T, want, got *site.Site, what string) {
	t.Helper()
	for _, kind := range site.Kinds() {
		if !assert.Equal(t, want.Names(kind), got.Names(kind), "%s: %s", what, kind) {
			return
		}
		for _, name := range want.Names(kind) {
			a, _ := want.Get(kind, name)
			b, _ := got.Get(kind, name)
			assert.Equal(t, a, b, "%s: %s %s", what, kind, name)
		}
	}
}
