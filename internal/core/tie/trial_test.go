package tie

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
)

// A trial: templates, values and points are changed at random, and beside the site stands what each station must have, kept by the simplest
// means: what the template says, and what was changed by hand.

// truth is what a station must have.
type truth struct {
	tag  string
	base int
	own  map[string]map[string]string // fields by the key of a point
	out  map[string]bool              // keys of points that were removed by hand
}

// kindOfDevice is the template of the trial, as the truth has it: fields by key.
type kindOfDevice map[string]map[string]string

func (k kindOfDevice) template() site.Template {
	t := site.Template{Name: "kind", Parameters: []template.Parameter{{Name: "tag"}, {Name: "base", Default: "0"}}}
	for i := range 30 {
		key := fmt.Sprintf("p%d", i)
		fields, is := k[key]
		if !is {
			continue
		}
		f := template.Fields{"tag": "{tag}/" + key, "address": fmt.Sprintf("hr:{base+%d}", i), "type": "uint16"}
		for name, value := range fields {
			f[name] = value
		}
		t.Points = append(t.Points, f)
	}
	return t
}

func TestTrialOfTies(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		texts := []string{"", "a", "b", "c"}
		fields := []string{"unit", "description"}
		device := kindOfDevice{"p0": {}, "p1": {"unit": "a"}, "p2": {"description": "b"}}
		stations := map[string]*truth{}
		s := edit(t, site.New(), func(d *site.Draft) {
			d.Put(device.template())
			d.Put(entity(t, d, site.KindLink, `{name: bus, host: 127.0.0.1}`))
		})
		any := func() (string, *truth) {
			for name, of := range stations {
				return name, of
			}
			return "", nil
		}
		for step := range 60 {
			what := r.IntN(8)
			name, of := any()
			if of == nil {
				what = 0
			}
			key := fmt.Sprintf("p%d", r.IntN(8))
			field, value := fields[r.IntN(2)], texts[r.IntN(4)]
			_, there := device[key]
			var said string
			switch what {
			case 0: // a new station
				n := len(stations) + 1
				if n > 6 {
					continue
				}
				name = fmt.Sprintf("s%d", n)
				of = &truth{tag: fmt.Sprintf("t%d", step), base: r.IntN(50), own: map[string]map[string]string{}, out: map[string]bool{}}
				stations[name] = of
				s = edit(t, s, func(d *site.Draft) {
					d.Add(entity(t, d, site.KindStation, fmt.Sprintf(`{name: %s, link: bus, unit: %d, template: kind, values: {tag: %s, base: %d}}`, name, n, of.tag, of.base)))
				})
				said = "station " + name
			case 1, 2: // the template changes a field
				if !there {
					continue
				}
				old := device[key][field]
				device[key][field] = value
				s = edit(t, s, func(d *site.Draft) { d.Put(device.template()) })
				for _, of := range stations { // what is by chance as the template had it is no own value
					if own, is := of.own[key][field]; is && own == value && old != value {
						delete(of.own[key], field) // it is as the template has it now
					}
				}
				said = fmt.Sprintf("template %s %s %q", key, field, value)
			case 3: // the template gets or loses a point
				held := false
				for _, of := range stations {
					held = held || len(of.own[key]) > 0
				}
				if held || len(device) < 2 && there {
					continue // a point with its own values stays, which another test looks at
				}
				if there {
					delete(device, key)
				} else {
					device[key] = map[string]string{field: value}
				}
				for _, of := range stations {
					delete(of.out, key) // it is forgotten with the point
				}
				s = edit(t, s, func(d *site.Draft) { d.Put(device.template()) })
				said = "template " + key
			case 4, 5: // a point gets a value of its own
				if !there || of.out[key] {
					continue
				}
				s = patch(t, s, site.KindPoint, of.tag+"/"+key, fmt.Sprintf(`{%s: %q}`, field, value))
				if of.own[key] == nil {
					of.own[key] = map[string]string{}
				}
				if delete(of.own[key], field); value != device[key][field] {
					of.own[key][field] = value
				}
				said = fmt.Sprintf("%s %s %s %q", name, key, field, value)
			case 6: // a point is removed by hand
				if !there || of.out[key] {
					continue
				}
				of.out[key] = true
				delete(of.own, key)
				s = edit(t, s, func(d *site.Draft) { d.Remove(site.KindPoint, of.tag+"/"+key, false) })
				said = name + " without " + key
			case 7: // the station gets other values
				of.tag, of.base = fmt.Sprintf("t%d", step), r.IntN(50)
				s = patch(t, s, site.KindStation, name, fmt.Sprintf(`{values: {tag: %s, base: %d}}`, of.tag, of.base))
				said = "values of " + name
			}
			compare(t, s, device, stations, fmt.Sprintf("seed %d, step %d: %s", seed, step, said))
			if t.Failed() {
				return
			}
		}
	}
}

// compare looks at every point of every station.
func compare(t *testing.T, s *site.Site, device kindOfDevice, stations map[string]*truth, at string) {
	t.Helper()
	count := 0
	for name, of := range stations {
		var differs int
		for key, fields := range device {
			p, there := s.Point(of.tag + "/" + key)
			if !assert.Equal(t, !of.out[key], there, "%s: %s/%s", at, of.tag, key) {
				return
			}
			if !there {
				differs++
				continue
			}
			count++
			want := map[string]string{"unit": fields["unit"], "description": fields["description"]}
			for field, value := range of.own[key] {
				want[field] = value
				differs++
			}
			assert.Equal(t, want, map[string]string{"unit": p.Unit, "description": p.Description}, "%s: %s", at, p.Tag)
			assert.Equal(t, name, p.Station)
			assert.Equal(t, fmt.Sprintf("hr:%d", of.base+int(key[1]-'0')), p.Address.String(), at)
		}
		station, _ := s.Station(name)
		own, err := Own(s, station)
		require.NoError(t, err)
		assert.Len(t, own, differs, "%s: what %s has as its own: %v", at, name, own)
	}
	assert.Equal(t, count, s.Count(site.KindPoint), at)
}
