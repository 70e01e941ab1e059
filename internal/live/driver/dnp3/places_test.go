package dnp3

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/core/site"
	"arithmon/internal/protocol/dnp3"
)

// points are indexes written as addresses: "bi:0-5 ai:7".
func points(t *testing.T, list string) *indexes {
	t.Helper()
	x := new(indexes)
	for _, part := range strings.Fields(list) {
		kind, span, _ := strings.Cut(part, ":")
		first, last, ranged := strings.Cut(span, "-")
		if !ranged {
			last = first
		}
		a, err := site.ParseAddress(kind+":"+first, site.Offset, "")
		assert.NoError(t, err)
		b, err := site.ParseAddress(kind+":"+last, site.Offset, "")
		assert.NoError(t, err)
		for i := int(a.Offset); i <= int(b.Offset); i++ {
			x.add(dnp3.KindOf(kind), uint16(i))
		}
	}
	return x
}

func TestWherePointsAreThatAnOutstationDoesNotHave(t *testing.T) {
	type found map[dnp3.Kind][]place
	for _, c := range []struct {
		name, wanted, has string
		want              found
	}{
		{"all there", "bi:0-5 ai:0-7", "bi:0-9 ai:0-7", found{}},
		{"counted from 1", "bi:1-6 ai:1-8", "bi:0-5 ai:0-7", found{dnp3.BinaryInput: {{dnp3.BinaryInput, -1}}, dnp3.AnalogInput: {{dnp3.AnalogInput, -1}}}},
		{"counted from 0 where it counts from 1", "ai:0-3", "ai:1-4", found{dnp3.AnalogInput: {{dnp3.AnalogInput, 1}}}},
		{"a kind of which nothing is missing goes along", "bi:1-3 ai:1-8", "bi:0-9 ai:0-7", found{dnp3.BinaryInput: {{dnp3.BinaryInput, -1}}, dnp3.AnalogInput: {{dnp3.AnalogInput, -1}}}},
		{"and not one that begins elsewhere", "bi:4-6 ai:1-8", "bi:0-9 ai:0-7", found{dnp3.AnalogInput: {{dnp3.AnalogInput, -1}}}},
		{"a hundred higher", "ai:0-7", "ai:100-107", found{dnp3.AnalogInput: {{dnp3.AnalogInput, 100}}}},
		{"one point elsewhere is no shift", "ai:3", "ai:100", found{}},
		{"under another kind", "ctr:0-1 ai:0-7", "fctr:0-1 ai:0-7", found{dnp3.Counter: {{kind: dnp3.FrozenCounter}}}},
		{"under the kind that has most of them", "bi:0-5", "bo:0-2 dbi:0-5", found{dnp3.BinaryInput: {{kind: dnp3.DoubleBitInput}, {kind: dnp3.BinaryOutput}}}},
		{"some under one kind and some under another", "ai:0-9", "ai:0-4 ao:5-7 ctr:8-9", found{dnp3.AnalogInput: {{kind: dnp3.AnalogOutput}, {kind: dnp3.Counter}}}},
		{"not where another point is", "ctr:2 ai:0-7", "ctr:0 ai:0-7", found{}},
		{"missing and nowhere else", "ai:0-7 ai:40-41", "ai:0-7", found{}},
		{"nothing there at all", "ai:0-3", "", found{}},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, map[dnp3.Kind][]place(c.want), places(points(t, c.wanted), points(t, c.has)))
		})
	}
}

// Whatever is missing: a place that is found is there, and where nothing is missing nothing is moved.
func TestPlacesAreWhereTheOutstationHasPoints(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 15))
	kinds := []dnp3.Kind{dnp3.BinaryInput, dnp3.DoubleBitInput, dnp3.BinaryOutput, dnp3.Counter, dnp3.FrozenCounter, dnp3.AnalogInput, dnp3.AnalogOutput}
	moved := 0
	for range 20_000 {
		var wanted, has indexes
		by := rng.IntN(3) - 1
		for _, k := range kinds {
			for i := range rng.IntN(70) {
				if rng.IntN(3) > 0 {
					wanted.add(k, uint16(i+1))
					if rng.IntN(40) > 0 {
						has.add(k, uint16(i+1+by))
					}
				}
			}
		}
		missing := 0
		for _, k := range kinds {
			missing += lacking(&wanted, &has, k)
		}
		list := places(&wanted, &has)
		if missing == 0 {
			assert.Empty(t, list)
		}
		for k, places := range list {
			for _, to := range places {
				moved++
				there := 0
				for _, i := range wanted.of(k) {
					switch {
					case to.by != 0:
						assert.True(t, has.has(to.kind, i+to.by))
						there++
					case !has.has(k, i) && has.has(to.kind, i) && !wanted.has(to.kind, i):
						there++
					}
				}
				assert.Positive(t, there)
			}
		}
	}
	assert.Greater(t, moved, 1000)
}
