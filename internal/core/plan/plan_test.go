package plan

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var tcp = Cost{Largest: 125, Gap: 16, Exchange: 50, Address: 1}

func TestRequests(t *testing.T) {
	for _, c := range []struct {
		name  string
		items []Item
		cost  Cost
		want  []Request
	}{
		{"nothing", nil, tcp, nil},
		{"neighbours share", []Item{{0, 2, false}, {2, 1, false}}, tcp, []Request{{0, 3, []int{0, 1}}}},
		{"in any order", []Item{{4, 1, false}, {0, 4, false}}, tcp, []Request{{0, 5, []int{1, 0}}}},
		{"the same twice", []Item{{7, 1, false}, {7, 2, false}}, tcp, []Request{{7, 2, []int{0, 1}}}},
		{"a small gap is bridged", []Item{{0, 1, false}, {17, 1, false}}, tcp, []Request{{0, 18, []int{0, 1}}}},
		{"a larger one is not", []Item{{0, 1, false}, {18, 1, false}}, tcp, []Request{{0, 1, []int{0}}, {18, 1, []int{1}}}},
		{"nor one that costs more than a request", []Item{{0, 1, false}, {11, 1, false}}, Cost{Largest: 125, Gap: 100, Exchange: 5, Address: 1}, []Request{{0, 1, []int{0}}, {11, 1, []int{1}}}},
		{"no gap allowed", []Item{{0, 1, false}, {2, 1, false}}, Cost{Largest: 125, Gap: 0, Exchange: 50, Address: 1}, []Request{{0, 1, []int{0}}, {2, 1, []int{1}}}},
		{"the largest request", []Item{{0, 100, false}, {100, 25, false}, {125, 1, false}}, tcp, []Request{{0, 100, []int{0}}, {100, 26, []int{1, 2}}}},
		{"one alone", []Item{{0, 1, false}, {1, 4, true}, {5, 1, false}}, tcp, []Request{{0, 1, []int{0}}, {1, 4, []int{1}}, {5, 1, []int{2}}}},
		{"a long item covers a gap", []Item{{0, 40, false}, {1, 1, false}, {40, 1, false}}, Cost{Largest: 125, Gap: 0, Exchange: 50, Address: 1}, []Request{{0, 41, []int{0, 1, 2}}}},
		{"a refused address parts its neighbours", []Item{{0, 2, false}, {2, 1, false}, {3, 2, false}}, barred(tcp, Span{2, 3}),
			[]Request{{0, 2, []int{0}}, {2, 1, []int{1}}, {3, 2, []int{2}}}},
		{"a gap that is refused is not bridged", []Item{{0, 2, false}, {4, 1, false}}, barred(tcp, Span{1, 5}), []Request{{0, 2, []int{0}}, {4, 1, []int{1}}}},
		{"a boundary is not crossed", []Item{{98, 1, false}, {99, 1, false}, {100, 1, false}, {101, 1, false}}, barred(tcp, Span{99, 101}),
			[]Request{{98, 2, []int{0, 1}}, {100, 2, []int{2, 3}}}},
		{"a refused double word leaves its two words", []Item{{0, 2, false}, {0, 1, false}, {1, 1, false}}, barred(tcp, Span{0, 2}),
			[]Request{{0, 1, []int{1}}, {0, 2, []int{0}}, {1, 1, []int{2}}}},
		{"two bits of a refused register share its request", []Item{{7, 1, false}, {7, 1, false}}, barred(tcp, Span{7, 8}), []Request{{7, 1, []int{0, 1}}}},
		{"the last addresses", []Item{{65535, 1, false}, {65534, 1, false}}, tcp, []Request{{65534, 2, []int{1, 0}}}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, Requests(c.items, c.cost)) })
	}
}

func barred(c Cost, spans ...Span) Cost {
	c.Barred = spans
	return c
}

// price is what requests cost; ok is false when they break a rule.
func price(requests []Request, cost Cost) int {
	sum := 0
	for _, r := range requests {
		sum += cost.Exchange + cost.Address*r.Count
	}
	return sum
}

// cheapest tries every division of the items, given in order of start, into requests of neighbours.
func cheapest(items []Item, cost Cost) int {
	if len(items) == 0 {
		return 0
	}
	best := -1
	end, start := 0, int(items[0].Start)
	for n := 1; n <= len(items); n++ {
		item := items[n-1]
		if n > 1 && int(item.Start)-end > cost.Gap {
			break
		}
		end = max(end, int(item.Start)+item.Count)
		if n > 1 && (end-start > cost.Largest || slices.ContainsFunc(cost.Barred, func(s Span) bool { return s.From >= start && s.To <= end })) {
			break
		}
		if c := cost.Exchange + cost.Address*(end-start) + cheapest(items[n:], cost); best < 0 || c < best {
			best = c
		}
	}
	return best
}

func TestRequestsCostAsLittleAsAnyDivision(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cost := Cost{
			Largest:  rapid.IntRange(4, 20).Draw(t, "largest"),
			Gap:      rapid.IntRange(0, 8).Draw(t, "gap"),
			Exchange: rapid.IntRange(0, 12).Draw(t, "exchange"),
			Address:  rapid.IntRange(1, 2).Draw(t, "address"),
		}
		var items []Item
		at := 0
		for range rapid.IntRange(1, 10).Draw(t, "items") {
			count := rapid.IntRange(1, 4).Draw(t, "count")
			items = append(items, Item{Start: uint16(at), Count: count})
			at += count + rapid.IntRange(0, 10).Draw(t, "space")
		}
		for range rapid.IntRange(0, 6).Draw(t, "barred") { // none within an item, which would be asked for by itself
			i := rapid.IntRange(0, len(items)-1).Draw(t, "item")
			if from := int(items[i].Start) + items[i].Count - 1; i+1 < len(items) {
				cost.Barred = append(cost.Barred, Span{from, int(items[i+1].Start) + rapid.IntRange(1, 6).Draw(t, "reach")})
			}
		}
		requests := Requests(items, cost)
		assert.Equal(t, cheapest(items, cost), price(requests, cost))
	})
}

func TestEveryItemIsServedOnceAndWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		items := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Item {
			return Item{
				Start: uint16(rapid.IntRange(0, 400).Draw(t, "start")),
				Count: rapid.IntRange(1, 30).Draw(t, "count"),
				Alone: rapid.Bool().Draw(t, "alone"),
			}
		}), 0, 60).Draw(t, "items")
		served := map[int]bool{}
		for _, r := range Requests(items, tcp) {
			require.LessOrEqual(t, r.Count, tcp.Largest)
			for _, i := range r.Items {
				require.False(t, served[i], "item %d twice", i)
				served[i] = true
				require.GreaterOrEqual(t, items[i].Start, r.Start)
				require.LessOrEqual(t, int(items[i].Start)+items[i].Count, int(r.Start)+r.Count)
				require.False(t, items[i].Alone && len(r.Items) > 1)
			}
		}
		assert.Len(t, served, len(items))
	})
}

func BenchmarkRequests100000(b *testing.B) {
	items := make([]Item, 100_000)
	for i := range items {
		items[i] = Item{Start: uint16(i * 65000 / len(items)), Count: 1 + i%2}
	}
	for b.Loop() {
		Requests(items, tcp)
	}
}
