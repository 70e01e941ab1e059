// Package plan groups addresses into the cheapest set of requests.
//
// A request costs a fixed amount for being made and one for each address it covers. Reading addresses nobody asked
// for is worth it where that is cheaper than another request, up to the gap a station allows.
package plan

import (
	"cmp"
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
}

// Requests plans the items. The result costs as little as any division of the items, taken in order of their start,
// can; it takes time proportional to items times addresses in the largest request.
func Requests(items []Item, cost Cost) []Request {
	if len(items) == 0 {
		return nil
	}
	order := make([]int, len(items))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(items[a].Start, items[b].Start), cmp.Compare(items[a].Count, items[b].Count))
	})
	// best[i] is the least cost of the first i items, from[i] where the last request of that division begins.
	best := make([]int, len(items)+1)
	from := make([]int, len(items)+1)
	// reach[i] is where the furthest of the first i items ends: addresses before it are wanted by someone, no gap.
	reach := make([]int, len(items)+1)
	for i := 1; i <= len(items); i++ {
		last := items[order[i-1]]
		start, end := int(last.Start), int(last.Start)+last.Count
		reach[i] = max(reach[i-1], end)
		best[i], from[i] = best[i-1]+cost.Exchange+cost.Address*last.Count, i-1
		if last.Alone {
			continue
		}
		// Take items before the last into its request, as far as size and gaps allow.
		for j := i - 1; j > 0; j-- {
			item := items[order[j-1]]
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
			if c := best[j-1] + cost.Exchange + cost.Address*(end-start); c <= best[i] {
				best[i], from[i] = c, j-1
			}
		}
	}
	var requests []Request
	for i := len(items); i > 0; i = from[i] {
		members := slices.Clone(order[from[i]:i])
		r := Request{Start: items[members[0]].Start, Items: members}
		for _, m := range members {
			r.Count = max(r.Count, int(items[m].Start)+items[m].Count-int(r.Start))
		}
		requests = append(requests, r)
	}
	slices.Reverse(requests)
	return requests
}
