// Package plan groups addresses into the cheapest set of requests.
//
// A request costs a fixed amount for being made and one for each address it covers. Reading addresses nobody asked
// for is worth it where that is cheaper than another request, up to the gap a station allows.
package plan

import (
	"cmp"
	"math"
	"slices"
)

// Item is a run of addresses that is wanted whole: Start to Start+Count-1, within 0 to 65535.
type Item struct {
	Start uint16
	Count int  // at least 1
	Alone bool // must not share a request with others
}

// Request is a run of addresses to ask for, and the items it serves, as indices of what was planned.
type Request struct {
	Start uint16
	Count int
	Items []int
}

// Cost says what requests may be and what they cost, in any one unit.
type Cost struct {
	Largest  int // most addresses in a request; an item that is longer makes a request of its own
	Gap      int // most unwanted addresses in a row within a request
	Exchange int // of a request
	Address  int // of each address it covers, wanted or not

	// Barred are runs of addresses that no request may hold whole, since the device refused them: a single address that does not exist,
	// or the two on both sides of a boundary that no read may cross. An item that holds one makes a request of its own.
	Barred []Span
}

// Span is a run of addresses: From to To-1.
type Span struct{ From, To int }

// barrier tells whether a run of addresses holds a barred one.
type barrier struct {
	spans []Span // by From
	first []int  // the least To of a span and those behind it
}

func newBarrier(spans []Span) barrier {
	b := barrier{slices.Clone(spans), make([]int, len(spans))}
	slices.SortFunc(b.spans, func(a, b Span) int { return a.From - b.From })
	least := math.MaxInt
	for i := len(b.spans) - 1; i >= 0; i-- {
		least = min(least, b.spans[i].To)
		b.first[i] = least
	}
	return b
}

func (b barrier) within(from, to int) bool {
	i, _ := slices.BinarySearchFunc(b.spans, from, func(s Span, from int) int { return s.From - from })
	return i < len(b.spans) && b.first[i] <= to
}

// Requests plans the items. The result, in order of its addresses, costs as little as any division of the items, taken in order of
// their start, can; it takes time proportional to items times addresses in the largest request.
func Requests(items []Item, cost Cost) []Request {
	order := make([]int, 0, len(items))
	var refused []Request
	barred := newBarrier(cost.Barred)
	for i, item := range items {
		if !barred.within(int(item.Start), int(item.Start)+item.Count) {
			order = append(order, i)
			continue
		}
		same := slices.IndexFunc(refused, func(r Request) bool { return r.Start == item.Start && r.Count == item.Count && !item.Alone })
		if same < 0 {
			same = len(refused)
			refused = append(refused, Request{Start: item.Start, Count: item.Count})
		}
		refused[same].Items = append(refused[same].Items, i)
	}
	requests := divide(items, order, cost, barred)
	if len(refused) == 0 {
		return requests
	}
	requests = append(requests, refused...)
	slices.SortStableFunc(requests, func(a, b Request) int { return cmp.Compare(a.Start, b.Start) })
	return requests
}

// divide plans those items that order lists.
func divide(items []Item, order []int, cost Cost, barred barrier) []Request {
	if len(order) == 0 {
		return nil
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(items[a].Start, items[b].Start), cmp.Compare(items[a].Count, items[b].Count))
	})
	// Items at the same addresses, such as the bits of a register, are one here.
	same := func(a, b int) bool {
		x, y := items[a], items[b]
		return x.Start == y.Start && x.Count == y.Count && !x.Alone && !y.Alone
	}
	places := make([][]int, 0, len(order))
	for left := order; len(left) > 0; {
		n := 1
		for n < len(left) && same(left[0], left[n]) {
			n++
		}
		places, left = append(places, left[:n]), left[n:]
	}
	// best[i] is the least cost of the first i places, from[i] where the last request of that division begins.
	best := make([]int, len(places)+1)
	from := make([]int, len(places)+1)
	// reach[i] is where the furthest of the first i places ends: addresses before it are wanted by someone, no gap.
	reach := make([]int, len(places)+1)
	for i := 1; i <= len(places); i++ {
		last := items[places[i-1][0]]
		start, end := int(last.Start), int(last.Start)+last.Count
		reach[i] = max(reach[i-1], end)
		best[i], from[i] = best[i-1]+cost.Exchange+cost.Address*last.Count, i-1
		if last.Alone {
			continue
		}
		// Take places before the last into its request, as far as size and gaps allow.
		for j := i - 1; j > 0; j-- {
			item := items[places[j-1][0]]
			if item.Alone {
				break
			}
			if start-reach[j] > cost.Gap {
				break
			}
			start, end = int(item.Start), max(end, int(item.Start)+item.Count)
			if int(last.Start)+last.Count-start > cost.Largest {
				break
			}
			if end-start > cost.Largest {
				continue
			}
			if len(barred.spans) > 0 && barred.within(start, end) {
				break // so would be whatever is larger
			}
			if c := best[j-1] + cost.Exchange + cost.Address*(end-start); c <= best[i] {
				best[i], from[i] = c, j-1
			}
		}
	}
	var requests []Request
	for i := len(places); i > 0; i = from[i] {
		members := slices.Concat(places[from[i]:i]...)
		r := Request{Start: items[members[0]].Start, Items: members}
		for _, m := range members {
			r.Count = max(r.Count, int(items[m].Start)+items[m].Count-int(r.Start))
		}
		requests = append(requests, r)
	}
	slices.Reverse(requests)
	return requests
}
