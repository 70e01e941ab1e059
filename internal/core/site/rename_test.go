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

// Whatever is renamed, changes places, is added and removed in one draft, the site is then what a simple list would be, and the changes lead there one after the
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
		fresh := 100 // addresses of those that are added, by which each is known
		for n := range rapid.IntRange(1, 8).Draw(rt, "steps") {
			tag, other := fmt.Sprint("p", rapid.IntRange(0, 8).Draw(rt, "tag")), fmt.Sprint("p", rapid.IntRange(0, 8).Draw(rt, "other"))
			at, has := model[tag]
			_, taken := model[other]
			switch rapid.IntRange(0, 3).Draw(rt, "what") {
			case 0:
				if !has || taken || tag == other {
					continue // which a draft refuses
				}
				d.Replace(tag, point(other, at))
				delete(model, tag)
				model[other] = at
			case 1: // some change places
				tags := slices.Sorted(maps.Keys(model))
				tags = tags[:rapid.IntRange(0, len(tags)).Draw(rt, "many")]
				to := rapid.Permutation(tags).Draw(rt, "places")
				if !has && len(to) > 0 {
					to[0] = tag // and a name is left
				}
				var list []Replacement
				next := maps.Clone(model)
				for _, from := range tags {
					delete(next, from)
				}
				for i, from := range tags {
					list = append(list, Replacement{from, point(to[i], model[from])})
					next[to[i]] = model[from]
				}
				d.ReplaceAll(rapid.Permutation(list).Draw(rt, "order"))
				model = next
			case 2:
				if has {
					d.Remove(KindPoint, tag, false)
					delete(model, tag)
				}
			case 3:
				if _, free := was[other]; taken || free && !d.given[key{KindPoint, other}] {
					continue // removed before: it is changed then
				}
				d.Add(point(other, fresh+n))
				model[other] = fresh + n
			}
		}
		for tag, at := range model {
			if e, is := d.Before(KindPoint, tag); is && at < fresh && was[tag] != 0 {
				assert.Equal(rt, at, int(e.(Point).Address.Offset), "what it was before")
			}
		}
		changes, err = d.Changes()
		require.NoError(rt, err)
		assert.Equal(rt, model, addressOf(base.With(changes)))
		for _, c := range Settled(changes) {
			assert.False(rt, Waiting(c.Name()), "%s", c.Name())
			if c.Action() == Modify && c.Before.Key() != c.After.Key() && int(c.After.(Point).Address.Offset) < fresh {
				assert.Equal(rt, c.Before.(Point).Address, c.After.(Point).Address, "it is the same point")
			}
		}
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

func addressOf(s *Site) map[string]int {
	out := map[string]int{}
	for _, tag := range s.Names(KindPoint) {
		p, _ := s.Point(tag)
		out[tag] = int(p.Address.Offset)
	}
	return out
}
