package diagnose

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// words are those of a value as a device gives them.
func words(t *testing.T, l codec.Layout, v float64) []uint16 {
	t.Helper()
	w, err := l.Encode(codec.FloatValue(v))
	require.NoError(t, err)
	return w
}

// walk is a value that moves as those of plants do.
func walk(from, step, least, most float64) func(int) float64 {
	r := rand.New(rand.NewPCG(1, 2))
	v := from
	return func(int) float64 {
		v = min(max(v+step*(2*r.Float64()-1), least), most)
		return v
	}
}

// Words that change places are told in whichever order they stand most.
func TestWordsThatChangePlaces(t *testing.T) {
	for _, device := range codec.Orders {
		l := codec.Layout{Type: codec.TypeFloat32, Order: device}
		signal := walk(25, 0.5, 20, 30)
		var m Movement
		for i := range 400 {
			w := words(t, l, signal(i))
			if i%5 == 4 {
				w[0], w[1] = w[1], w[0]
			}
			m.Look(l, w, uint32(1000+2*i))
		}
		got := m.Strange(l, 1800, true)
		assert.Greater(t, got.Swaps, 30, device)
		f := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{got}})
		require.Len(t, f, 1)
		assert.Contains(t, f[0].Cause.String(), "jumps between two magnitudes")
	}
	// What comes in pieces of no known length says nothing, and breaks nothing.
	var m Movement
	m.Look(codec.Layout{Type: codec.TypeFloat64}, []uint16{1, 2}, 2000)
	m.Look(codec.Layout{Type: codec.TypeString, Length: 8}, []uint16{1, 2, 3, 4}, 2001)
	m.Look(codec.Layout{Type: codec.TypeFloat32}, nil, 2002)
	assert.Empty(t, m.Strange(codec.Layout{Type: codec.TypeFloat32}, 2003, true))
}

func TestValuesThatStandStill(t *testing.T) {
	p := func(tag string) Point {
		return Point{Point: site.Point{Tag: tag, Station: "a"}, Frozen: true, Typical: time.Second, Still: time.Minute}
	}
	all := Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{p("a/x")}}
	assert.Equal(t, "a/x", Find(all)[0].Subject)
	all.Points = append(all.Points, p("a/y"))
	list := Find(all)
	require.Len(t, list, 1, "several of one station are one finding of the station")
	assert.Equal(t, "a", list[0].Subject)
	find := func(name string, points ...Point) (f Finding) {
		all.Points = points
		list := Find(all)
		require.LessOrEqual(t, len(list), 1, name)
		for _, f = range list {
		}
		return f
	}
	assert.Equal(t, "a", find("three of which one is a counter", p("a/x"), p("a/y"), func(q Point) Point { q.Rose = true; return q }(p("a/z"))).Subject)
	stopped := func(q Point) Point { q.Zero = true; return q }
	counter := func(q Point) Point { q.Rose = true; return q }
	later := func(q Point) Point { q.Still += time.Minute; return q }
	assert.Empty(t, find("something that was stopped", stopped(p("a/x"))))
	assert.Empty(t, find("and what came to rest with it", stopped(p("a/x")), p("a/y")))
	assert.Empty(t, find("a counter while nothing passes", counter(p("a/x"))))
	assert.Equal(t, "a/y", find("another time", stopped(later(p("a/x"))), p("a/y")).Subject)
	// Moving every period, then still for some time.
	after := func(period, looks, still uint32, others bool) bool {
		var m Movement
		l := codec.Layout{Type: codec.TypeUint16}
		sec := uint32(1000)
		for i := range looks {
			m.Look(l, []uint16{uint16(i)}, sec)
			sec += period
		}
		return m.Strange(l, sec-period+still, others).Frozen
	}
	assert.True(t, after(2, 100, 90, true))
	assert.True(t, after(1, 100, 60, true), "sooner, of one that has not moved for long")
	assert.False(t, after(2, 100, 90, false), "nothing else moves, either")
	assert.False(t, after(2, 100, 25, true), "not so soon")
	assert.False(t, after(10, 100, 90, true), "it moves seldom")
	assert.False(t, after(2, 20, 60, true), "it has hardly been known")
	assert.False(t, after(2, 70_000, 60, true), "one that has moved for long may be held for a minute")
	assert.True(t, after(2, 70_000, 90, true), "however long it moved")
	var m Movement
	l := codec.Layout{Type: codec.TypeInt16}
	for i := range uint32(40) {
		m.Look(l, []uint16{uint16(i+5) % 20}, 1000+30*i)
	}
	got := m.Strange(l, 2170+400, true)
	assert.True(t, got.Frozen && got.Rose, "a counter that is reset stays one")
	m.Look(l, []uint16{3}, 2200)
	got = m.Strange(l, 2200+400, true)
	assert.True(t, got.Frozen && !got.Rose)
	// A bit that shows life stands for something whichever way it stands; a text stands for nothing.
	for name, c := range map[string]struct {
		layout     codec.Layout
		rose, zero bool
	}{"a bit": {codec.Layout{Type: codec.TypeBool}, false, false}, "a text": {codec.Layout{Type: codec.TypeString, Length: 2}, true, false}, "a number": {l, true, true}} {
		var m Movement
		for i := range uint32(101) {
			m.Look(c.layout, []uint16{uint16(i%2) * 0x4101}, 1000+i)
		}
		m.Look(c.layout, []uint16{0}, 1101)
		got := m.Strange(c.layout, 1170, true)
		assert.True(t, got.Frozen, name)
		assert.Equal(t, []bool{c.rose, c.zero}, []bool{got.Rose, got.Zero}, name)
	}
}
