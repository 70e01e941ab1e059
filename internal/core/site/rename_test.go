package site

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is renamed, added and removed in one draft, the site is then what a simple list would be, and the changes lead there one after the
// other, and back again in reverse.
func TestManyRenamesInOneDraft(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		base := New()
		d := base.Edit()
		link := NewLink()
		link.Name, link.Host = "l", "192.0.2.1"
		d.Put(link)
		st := NewStation()
		st.Name, st.Link = "s", "l"
		d.Put(st)
		model := map[string]int{} // tag to address
		point := func(tag string, at int) Point {
			p := NewPoint()
			p.Tag, p.Station, p.Type, p.Address = tag, "s", "uint16", Address{Space: HoldingRegisters, Offset: uint16(at)}
			return p
		}
		for i := range 6 {
			tag := fmt.Sprint("p", i)
			d.Put(point(tag, i))
			model[tag] = i
		}
		changes, err := d.Changes()
		require.NoError(rt, err)
		base = base.With(changes)
		was := maps.Clone(model)

		d = base.Edit()
		renamed := map[string]bool{}
		for n := range rapid.IntRange(1, 8).Draw(rt, "steps") {
			tag, other := fmt.Sprint("p", rapid.IntRange(0, 8).Draw(rt, "tag")), fmt.Sprint("p", rapid.IntRange(0, 8).Draw(rt, "other"))
			at, has := model[tag]
			_, taken := model[other]
			switch {
			case rapid.Bool().Draw(rt, "rename"):
				if !has || taken || tag == other || renamed[tag] {
					continue // which a draft refuses, or does in two steps
				}
				d.Replace(tag, point(other, at))
				delete(model, tag)
				model[other] = at
				renamed[other] = true
			case !taken:
				if _, free := was[other]; free && !renamedAway(d, other) {
					continue // removed before: that is another matter
				}
				d.Add(point(other, 100+n))
				model[other] = 100 + n
				renamed[other] = true
			}
		}
		changes, err = d.Changes()
		require.NoError(rt, err)
		assert.Equal(rt, model, addressOf(base.With(changes)))
		s := base
		for _, c := range changes { // as the store writes them
			s = s.With([]Change{c})
		}
		assert.Equal(rt, model, addressOf(s), "one after the other")
		for _, c := range slices.Backward(changes) {
			s = s.With([]Change{{Before: c.After, After: c.Before}})
		}
		assert.Equal(rt, was, addressOf(s), "and back")
	})
}

// renamedAway reports whether a name was given up in the draft by a renaming.
func renamedAway(d *Draft, tag string) bool {
	for _, old := range d.renamed {
		if old == (key{KindPoint, tag}) {
			return true
		}
	}
	return false
}

func addressOf(s *Site) map[string]int {
	out := map[string]int{}
	for _, tag := range s.Names(KindPoint) {
		p, _ := s.Point(tag)
		out[tag] = int(p.Address.Offset)
	}
	return out
}
