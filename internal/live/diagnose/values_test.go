package diagnose

import (
	"fmt"
	"math"
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

// watch looks at what a device of one order gives, every two seconds, as one who reads it in another, and returns what stands at the
// end and how many looks found something.
func watch(t *testing.T, device codec.Layout, read codec.Order, looks int, signal func(i int) float64) (last Point, found int) {
	t.Helper()
	var m Movement
	as := device
	as.Order = read
	for i := range looks {
		sec := uint32(1000 + 2*i)
		m.Look(as, words(t, device, signal(i)), sec)
		if last = m.Strange(as, sec, true); last.Better != "" || last.Odd || last.Swaps >= enough {
			found++
		}
	}
	return last, found
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

func constant(v float64) func(int) float64 { return func(int) float64 { return v } }

func TestAWrongByteOrderIsFound(t *testing.T) {
	for name, signal := range map[string]func() func(int) float64{
		"a level":       func() func(int) float64 { return walk(2.5, 0.02, 0, 5) },
		"a temperature": func() func(int) float64 { return walk(21, 0.3, -20, 60) },
		"a flow":        func() func(int) float64 { return walk(340, 15, 0, 900) },
	} {
		for _, kind := range []codec.Type{codec.TypeFloat32, codec.TypeFloat64} {
			for _, device := range codec.Orders {
				for _, read := range codec.Orders {
					last, found := watch(t, codec.Layout{Type: kind, Order: device}, read, 60, signal())
					if read == device {
						assert.Zero(t, found, "%s, %s as %s read as %s", name, kind, device, read)
					} else {
						assert.Equal(t, device, last.Better, "%s, %s as %s read as %s", name, kind, device, read)
					}
				}
			}
		}
	}
	for name, signal := range map[string]func() func(int) float64{
		"a counter":           func() func(int) float64 { return func(i int) float64 { return float64(71_000 + 3*i) } },
		"a small counter":     func() func(int) float64 { return func(i int) float64 { return float64(i) } },
		"a temperature by 10": func() func(int) float64 { return walk(215, 6, 100, 400) },
	} {
		for _, kind := range []codec.Type{codec.TypeInt32, codec.TypeUint32, codec.TypeUint64, codec.TypeBCD32} {
			for i, device := range codec.Orders {
				read := codec.Orders[i^1]
				last, _ := watch(t, codec.Layout{Type: kind, Order: device}, read, 120, signal())
				assert.Equal(t, device, last.Better, "%s, %s as %s read as %s", name, kind, device, read)
				_, found := watch(t, codec.Layout{Type: kind, Order: device}, device, 2000, signal())
				assert.Zero(t, found, "%s, %s", name, kind)
			}
		}
	}
}

// A value that stands is found when its magnitude tells, and when it does not, as soon as it moves.
func TestAWrongByteOrderOfAValueThatStands(t *testing.T) {
	float := codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}
	last, found := watch(t, float, codec.ABCD, 3, constant(25))
	assert.Equal(t, codec.CDAB, last.Better)
	assert.Equal(t, 1, found, "it takes three looks")
	_, found = watch(t, float, codec.ABCD, 500, constant(12.3)) // -107613728
	assert.Zero(t, found)
	moves := walk(12.3, 0.2, 0, 50)
	last, _ = watch(t, float, codec.ABCD, 560, func(i int) float64 {
		if i < 500 {
			return 12.3
		}
		return moves(i)
	})
	assert.Equal(t, codec.CDAB, last.Better)
}

// An address that is one off, between two values, looks like a wrong order, and is told from it.
func TestAnAddressThatIsOneOff(t *testing.T) {
	for _, order := range codec.Orders {
		l := codec.Layout{Type: codec.TypeFloat32, Order: order}
		before, after := walk(21, 0.05, 15, 30), walk(3.2, 0.004, 2, 5)
		var one, right, swapped Movement
		as := l
		as.Order = reversed(order)
		var last Point
		for i := range 900 {
			sec := uint32(1000 + 2*i)
			a, b := words(t, l, before(i)), words(t, l, after(i))
			one.Look(l, []uint16{a[1], b[0]}, sec)
			right.Look(l, a, sec)
			swapped.Look(as, a, sec)
			assert.Empty(t, right.Strange(l, sec, true))
			last = one.Strange(l, sec, true)
		}
		assert.LessOrEqual(t, last.Carries, -fewCarries, order)
		other := swapped.Strange(as, 2800, true)
		assert.Equal(t, order, other.Better)
		assert.GreaterOrEqual(t, other.Carries, fewCarries, "the words of one value")

		last.Point = site.Point{Tag: "a/x", Station: "a", Type: codec.TypeFloat32, Address: site.Address{Space: site.HoldingRegisters, Offset: 9}}
		f := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{last}})
		require.Len(t, f, 1)
		assert.Equal(t, AddressShifted, f[0].Code)
		want := "hr:10" // where the value begins whose upper word is read
		if order == codec.CDAB || order == codec.DCBA {
			want = "hr:8"
		}
		assert.Equal(t, map[string]any{"address": want}, f[0].Next[0].Change.Fields, order)
		second := last
		second.Point.Tag = "a/y"
		both := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{last, second}})
		require.Len(t, both, 1)
		assert.Equal(t, "a", both[0].Subject)
		assert.Equal(t, "a/y", both[0].Next[2].Change.Name)
		last.Point.Address.Offset = 0
		for _, s := range Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{last}})[0].Next {
			assert.True(t, s.Change == nil || s.Change.Fields["address"] == "hr:1")
		}
	}
	// Values that move by much at a time do not tell.
	for seed := range 20 {
		signal := walk(300, 100, 0, 900)
		for range seed {
			signal(0)
		}
		last, _ := watch(t, codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}, codec.ABCD, 900, signal)
		assert.Equal(t, codec.CDAB, last.Better)
		assert.Greater(t, last.Carries, -fewCarries)
	}
}

// Where the neighbours of a value are right with the byte order that it has, too, its address is suspected first.
func TestAnAddressIsSuspectedBeforeAnOrderThatOthersShare(t *testing.T) {
	p := Point{Better: codec.CDAB, Words: true, Peers: 3, Shown: "0", Would: "25",
		Point: site.Point{Tag: "a/x", Station: "a", Type: codec.TypeFloat32, Address: site.Address{Space: site.HoldingRegisters, Offset: 9}}}
	for name, c := range map[string]struct {
		edit func(*Point)
		code Code
	}{
		"as its neighbours":          {func(*Point) {}, AddressShifted},
		"an order of its own":        {func(p *Point) { p.Point.Order = codec.ABCD }, WordOrder},
		"no neighbours":              {func(p *Point) { p.Peers = 0 }, WordOrder},
		"its words are of one value": {func(p *Point) { p.Carries = fewCarries }, WordOrder},
		"its bytes are swapped":      {func(p *Point) { p.Better, p.Words = codec.BADC, false }, WordOrder},
		"an integer":                 {func(p *Point) { p.Point.Type = codec.TypeUint32 }, WordOrder},
	} {
		q := p
		c.edit(&q)
		f := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{q}})
		require.Len(t, f, 1)
		assert.Equal(t, c.code, f[0].Code, name)
		if c.code == AddressShifted {
			assert.Equal(t, []any{"hr:10", "hr:8", "CDAB"}, []any{f[0].Next[0].Change.Fields["address"], f[0].Next[1].Change.Fields["address"], f[0].Next[2].Change.Fields["order"]})
		}
	}
}

// The end of a value with something else behind it is none in any order.
func TestAValueThatIsNoneInAnyOrder(t *testing.T) {
	l := codec.Layout{Type: codec.TypeFloat32}
	signal := walk(21, 0.5, 15, 30)
	var m Movement
	var p Point
	for i := range 60 {
		m.Look(l, []uint16{words(t, l, signal(i))[1], 3}, uint32(1000+2*i))
		p = m.Strange(l, uint32(1000+2*i), true)
	}
	assert.True(t, p.Odd)
	p.Point = site.Point{Tag: "a/x", Station: "a", Type: codec.TypeFloat32}
	q := p
	q.Point.Tag = "a/y"
	for subject, points := range map[string][]Point{"a/x": {p}, "a": {p, q}} {
		f := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: points})
		require.Len(t, f, 1)
		assert.Equal(t, ValueOdd, f[0].Code)
		assert.Equal(t, subject, f[0].Subject)
	}
}

// What healthy devices give, and what they give when a sensor fails, is no wrong order.
func TestOddValuesOfARightOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	after := func(v float64) func(int) float64 {
		good := walk(25, 0.3, 0, 50)
		return func(i int) float64 {
			if i < 40 {
				return good(i)
			}
			return v
		}
	}
	for name, signal := range map[string]func(int) float64{
		"nothing yet":             constant(0),
		"a setpoint":              constant(12.5),
		"about zero":              func(int) float64 { return 0.1 * r.NormFloat64() },
		"on and off":              func(i int) float64 { return float64(i / 30 % 2 * 50) },
		"steps of a thousandfold": func(i int) float64 { return []float64{0.002, 40}[i/20%2] + 0.0001*r.Float64() },
		"gusts":                   func(int) float64 { return math.Exp(1.5 * r.NormFloat64()) },
		"doses":                   func(i int) float64 { return []float64{0.02, 0.02, 5, 5}[i%4] * (1 + 0.01*r.Float64()) },
		"energy of long":          func(i int) float64 { return 4e13 + 1e7*float64(i) },
		"a failed sensor":         after(-999.9),
		"a filling value":         after(9.96921e36),
		"the largest":             after(math.MaxFloat32),
		"the smallest":            after(-1e30),
	} {
		_, found := watch(t, codec.Layout{Type: codec.TypeFloat32}, "", 2000, signal)
		assert.Zero(t, found, name)
	}
	for name, words := range map[string][]uint16{
		"not a number": {0x7FC0, 0}, "infinite": {0xFF80, 0}, "all ones": {0xFFFF, 0xFFFF}, "the largest not a number": {0x7FFF, 0xFFFF}, "minus zero": {0x8000, 0},
	} {
		var m Movement
		for i := range uint32(50) {
			m.Look(codec.Layout{Type: codec.TypeFloat32}, words, 1000+i)
			assert.Empty(t, m.Strange(codec.Layout{Type: codec.TypeFloat32}, 1000+i, true), name)
		}
	}
	for name, signal := range map[string]func(int) float64{
		"a flag in the upper word": func(i int) float64 { return float64(i % 2 << 20) },
		"tens of thousands":        func(i int) float64 { return float64(i%7) * 40_000 },
		"about zero":               func(int) float64 { return math.Round(20 * r.NormFloat64()) },
		"a fast counter":           func(i int) float64 { return float64(i) * 170_001 },
	} {
		_, found := watch(t, codec.Layout{Type: codec.TypeInt32}, "", 2000, signal)
		assert.Zero(t, found, name)
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
		assert.Empty(t, got.Better, "no order is right")
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

func TestAnIntegerThatMovesInItsUpperHalf(t *testing.T) {
	last, _ := watch(t, codec.Layout{Type: codec.TypeUint32, Order: codec.CDAB}, codec.ABCD, 120, func(i int) float64 { return float64(3 * i) })
	last.Point, last.Shown, last.Would = site.Point{Tag: "a/x", Station: "a", Type: codec.TypeUint32}, "23396352", "357"
	f := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{last}})
	require.Len(t, f, 1)
	assert.Contains(t, f[0].Cause.String(), "upper half alone")
	assert.Equal(t, map[string]any{"order": "CDAB"}, f[0].Next[0].Change.Fields)
	assert.Less(t, f[0].Certainty, 0.7)
	last.Float = "1e-3"
	f = Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: []Point{last}})
	assert.Equal(t, map[string]any{"type": "float32"}, f[0].Next[1].Change.Fields)
	var m Movement
	whole := codec.Layout{Type: codec.TypeUint32}
	m.Look(whole, []uint16{0x41C8, 0}, 1000) // 25 as float32
	assert.True(t, m.MayFloat(whole))
	m.Look(whole, []uint16{0x0007, 0}, 1001)
	assert.False(t, m.MayFloat(whole))
}

// The order that a station gives its points is one cause.
func TestTheByteOrderOfAStation(t *testing.T) {
	p := func(tag string, order codec.Order) Point {
		return Point{Point: site.Point{Tag: tag, Station: "a", Type: codec.TypeFloat32, Order: order}, Better: codec.CDAB, Doubts: 5, Shown: "0", Would: "25"}
	}
	find := func(points ...Point) Finding {
		list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Points: points})
		require.Len(t, list, 1)
		return list[0]
	}
	f := find(p("a/x", ""), p("a/y", ""))
	assert.Equal(t, "a", f.Subject)
	assert.Contains(t, f.Cause.String(), "What each of 2 points shows")
	assert.Equal(t, "a/y shows 0, and would show 25", f.Evidence[1])
	assert.Equal(t, &Change{site.KindStation, "a", map[string]any{"order": "CDAB"}}, f.Next[0].Change)
	others := p("a/x", "")
	others.Peers, others.Carries = 1, fewCarries
	for _, f := range []Finding{find(p("a/x", ""), p("a/y", codec.ABCD)), find(others, p("a/y", ""))} {
		assert.Equal(t, &Change{site.KindPoint, "a/x", map[string]any{"order": "CDAB"}}, f.Next[0].Change, "what is right stays")
		assert.Equal(t, &Change{site.KindPoint, "a/y", map[string]any{"order": "CDAB"}}, f.Next[1].Change)
	}
	var many []Point
	for i := range 400 {
		many = append(many, p(fmt.Sprintf("a/%d", i), codec.ABCD))
	}
	f = find(many...)
	assert.Len(t, f.Evidence, 7)
	assert.Equal(t, "and 394 more", f.Evidence[6])
	assert.Len(t, f.Next, 7)
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
	assert.True(t, after(2, 100, 60, true))
	assert.False(t, after(2, 100, 60, false), "nothing else moves, either")
	assert.False(t, after(2, 100, 25, true), "not so soon")
	assert.False(t, after(10, 100, 90, true), "it moves seldom")
	assert.False(t, after(2, 20, 60, true), "it has hardly been known")
	assert.True(t, after(2, 70_000, 60, true), "however long it moved")
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
		got := m.Strange(c.layout, 1150, true)
		assert.True(t, got.Frozen, name)
		assert.Equal(t, []bool{c.rose, c.zero}, []bool{got.Rose, got.Zero}, name)
	}
}
