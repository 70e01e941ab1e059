package weigh

import (
	"encoding/binary"
	"math"
	"slices"

	"arithmon/internal/core/codec"
)

// claim is a mistake that some points are thought to have.
type claim struct {
	*weighing
	Reading
	group []int
	along []int // that a shift of the addresses of all takes along
	in    []bool
	cover map[*Area]map[int]bool // registers that they have with it
}

func (w *weighing) claim(r Reading, group []int) *claim {
	c := &claim{weighing: w, Reading: r, group: group, along: w.along(r, group), in: make([]bool, len(w.all))}
	group = slices.Concat(group, c.along)
	for _, i := range group {
		c.in[i] = true
	}
	if r.By == 0 && r.Type == "" {
		return c // it takes no registers and leaves none
	}
	c.cover = map[*Area]map[int]bool{}
	for _, i := range group {
		p := w.all[i]
		if p.Area == nil {
			continue
		}
		if c.cover[p.Area] == nil {
			c.cover[p.Area] = map[int]bool{}
		}
		for at, n := p.At+r.By, p.layout(r).Words(); n > 0; at, n = at+1, n-1 {
			c.cover[p.Area][at] = true
		}
	}
	return c
}

// areas are those that have the registers of a group.
func (w *weighing) areas(group []int) map[*Area]bool {
	areas := map[*Area]bool{}
	for _, i := range group {
		areas[w.all[i].Area] = true
	}
	return areas
}

// What makes a shift that of all points.
const (
	fewShifted  = 2   // that tell it
	manyShifted = 4   // that tell it also of those of which nothing tells it
	spoilt      = 4.0 // by which a point would be worse with it, so that it is not meant
	unread      = 3.0 // what a point counts less whose registers there were not read
)

// along are the points beside a group that a shift of its addresses takes along: those among them that are no worse with it, and have something there
// where they have something now. There are none where one is worse, so that not all are shifted, or where those that tell it are far fewer.
func (w *weighing) along(r Reading, group []int) (along []int) {
	if r != (Reading{By: r.By}) || r.By == 0 || len(group) < fewShifted {
		return nil
	}
	areas, in := w.areas(group), make([]bool, len(w.all))
	for _, i := range group {
		in[i] = true
	}
	for i, p := range w.all {
		if !areas[p.Area] || in[i] {
			continue
		}
		switch gain, known := w.gain(i, r); {
		case w.explained[i] || known && gain < -spoilt:
			return nil
		case p.nothing(p.At+r.By) && !p.nothing(p.At): // it would lose what it has
			continue
		case !known && p.own.Doubt() < doubtful && len(group) < manyShifted: // it is right as far as is known
			continue
		}
		along = append(along, i)
	}
	if len(along) > 4*len(group) {
		return nil
	}
	return along
}

// bitsAndTexts are those that a shift of all addresses takes along, though nothing in them tells it.
func (c *claim) bitsAndTexts() (list []*Signal) {
	if c.Reading != (Reading{By: c.By}) || !c.oneSetting() {
		return nil
	}
	areas := c.areas(c.group)
	for _, s := range c.weighing.others {
		if s.Area != nil && areas[s.Area] {
			list = append(list, s)
		}
	}
	return list
}

// besides is what the points along with a shift speak for it and against, and those that the device refuses where they are. Of those whose registers
// were not read, what they show is as odd as it would be of registers that are beside theirs.
func (c *claim) besides() (sum float64) {
	if len(c.group)+len(c.along) >= fewShifted && c.Reading == (Reading{By: c.By}) {
		for _, by := range c.beside {
			if by == c.By {
				sum = min(sum+refusedThere, mostRefused)
			}
		}
	}
	first := c.firsts()
	for _, i := range c.along {
		if gain, known := c.gain(i, c.Reading); known {
			sum += min(0, gain+telling) - max(0, c.clash(i))
		} else if first[i] {
			sum += max(0, c.all[i].own.Doubt()-unread)
		}
	}
	return sum
}

// firsts are those of the claim whose values no other before them has, the group before those along: what is given twice is evidence once. Of idle ones,
// which show nothing, it is what they would show.
func (c *claim) firsts() map[int]bool {
	first := make(map[int]bool, len(c.group))
	seen := map[string]bool{}
	var key []byte
	for _, i := range slices.Concat(c.group, c.along) {
		p := c.all[i]
		values := p.values
		if p.idle {
			values = p.Values(c.Reading)
		}
		key = key[:0]
		for _, v := range values {
			key = binary.LittleEndian.AppendUint64(key, math.Float64bits(v))
		}
		if !seen[string(key)] {
			seen[string(key)], first[i] = true, true
		}
	}
	return first
}

// sum is what the mistake explains as a whole.
func (c *claim) sum() float64 { return c.gains() + c.besides() - c.alone() }

// each is what one more point with the mistake costs, besides the trust in it.
func (c *claim) each() float64 {
	switch {
	case c.kept():
		return apart
	case c.oneSetting():
		return byOneSetting
	}
	return another
}

// gains is what a mistake explains of its points, less what each costs: little beyond the first. A point that has the values of another is evidence of
// nothing more, and counts as much as it costs.
func (c *claim) gains() (sum float64) {
	first, each := c.firsts(), c.each()
	for k, i := range c.group {
		if gain, _ := c.gain(i, c.Reading); first[i] {
			sum += gain - c.clash(i)
			if k > 0 {
				sum -= each + c.all[i].trust
			}
		}
	}
	return sum - c.all[c.group[0]].cost(c.Reading)
}

// oneSetting reports whether all points of the claim have from one setting what is wrong with them: the order of their station, or how the addresses
// of all are counted.
func (c *claim) oneSetting() bool {
	switch c.Reading {
	case Reading{Order: c.Order}:
		return !slices.ContainsFunc(c.group, func(i int) bool { return !c.all[i].Inherits })
	case Reading{By: c.By}:
		areas := c.areas(c.group)
		for i, p := range c.all {
			if areas[p.Area] && !c.in[i] {
				return false
			}
		}
		return len(c.group)+len(c.along) >= fewShifted
	}
	return false
}

// alone is what speaks against a mistake by those that have the setting from the same place, and are right with it: one address that is off
// beside others that are not, and an order that a point has from its station, as others have.
func (c *claim) alone() float64 {
	first := c.all[c.group[0]]
	fine := 0
	for k, o := range c.all {
		if !c.in[k] && o.own.Doubt() < doubtful && o.Area == first.Area {
			fine++
		}
	}
	switch {
	case c.By != 0 && len(c.group) == 1 && fine >= fewFine && c.Type != "":
		return costHalfAlone
	case c.By != 0 && len(c.group) == 1 && fine >= fewFine:
		return costAlone
	case first.Inherits && c.kept():
		return costKept
	}
	return 0
}

// kept reports whether another point is right with the order of its station, and would not be with that of the claim.
func (c *claim) kept() bool {
	if c.Order == "" {
		return false
	}
	for k, o := range c.all {
		if c.in[k] || !o.Inherits || o.Layout.Words() < 2 || o.own.Doubt() >= doubtful {
			continue
		}
		if gain, ok := c.gain(k, c.Reading); ok && gain < -telling {
			return true
		}
	}
	return false
}

// clash is what speaks against the reading of a point of the claim by the registers that it takes: those of another point that does not give them
// up, too, and none that move where its own do; and those that it leaves, which move without being anything then. What it explains besides
// speaks for it.
func (c *claim) clash(i int) (against float64) {
	p, r := c.all[i], c.Reading
	if r.By == 0 && r.Type == "" || p.Area == nil {
		return 0
	}
	from, n, has := p.At+r.By, p.layout(r).Words(), p.Layout.Words()
	for at := from; at < from+n; at++ {
		if !c.taken[p.Area][at] {
			explains := p.restless(at)
			if c.nobodys(p.Signal, at-1) || c.nobodys(p.Signal, at+1) {
				explains = min(explains, ofNobodys) // two and more are a value that nobody has described, as there are many
			}
			against -= explains
		}
	}
	for at := p.At; at < p.At+has; at++ {
		if c.cover[p.Area][at] {
			continue
		}
		against += p.restless(at)
		if newest := p.Area.Words[len(p.Area.Words)-1]; len(c.owners[p.Area][at]) == 1 && newest[at] != 0 && !p.moved(at, 1) {
			against += costLeft
		}
	}
	for at := from; at < from+n; at++ {
		for _, k := range c.owners[p.Area][at] {
			o := c.all[k]
			beside := o.At >= p.At+has || p.At >= o.At+o.Layout.Words()
			if k != i && at == max(from, o.At) && beside && !(r.By != 0 && c.in[k]) {
				against += costTaken
			}
		}
	}
	if r.By != 0 && !p.moved(from, n) {
		for at := p.At; at < p.At+has; at++ {
			if !c.cover[p.Area][at] && p.moved(at, 1) { // as those of another point of the claim may do
				against += costStill
				break
			}
		}
	}
	if !p.moved(from, n) && !slices.ContainsFunc(p.Area.Words[0][max(0, from):min(from+n, len(p.Area.Words[0]))], func(w uint16) bool { return w != 0 }) {
		against += costEmpty
	}
	return against
}

// halved finds points of one register beside which a single one is nobody's that moves as the lower half of a value does: by much of what it can
// hold, or, beside a total that stands, up alone; or with which it is a floating-point value of few digits. It reports whether there are such.
func (w *weighing) halved() (is bool) {
	for i := range w.all {
		p := &w.all[i]
		if p.Area == nil || p.Layout.Words() != 1 || !whole(p.Layout.Type) {
			continue
		}
		for _, by := range [...]int{1, -1} {
			at := p.At + by
			lone := at > 0 && at < len(p.Area.Words[0])-1 && !w.taken[p.Area][at] && w.taken[p.Area][at+by]
			chosen := lone && p.rounded(Reading{Type: codec.TypeFloat32, By: min(by, 0)}, p.layout(Reading{Type: codec.TypeFloat32})) > 0
			if chosen || lone && (p.restless(at) > 3 || p.Expect.Total && !p.moved(p.At, 1) && p.rises(at)) {
				p.half, is = by, true
				p.own.Digits -= ofHalf
				break
			}
		}
	}
	return is
}

// nothing reports whether the registers of as many as the signal has were read from a place on, and are all zero.
func (s *Signal) nothing(at int) bool {
	n := s.Layout.Words()
	if at < 0 || at+n > len(s.Area.Words[0]) {
		return false
	}
	for _, words := range s.Area.Words {
		if slices.ContainsFunc(words[at:at+n], func(w uint16) bool { return w != 0 }) {
			return false
		}
	}
	return true
}

// nobodys reports whether a register moves that no point has.
func (w *weighing) nobodys(s *Signal, at int) bool {
	return at >= 0 && at < len(s.Area.Words[0]) && !w.taken[s.Area][at] && s.moved(at, 1)
}

// fewIdle are so few points that hold nothing beside registers that move, that it means nothing.
const fewIdle = 3

// idle finds areas of which most points hold nothing, while the registers on one side of each move and are nobody's: values that are parted by
// unused registers, read one address off. It reports whether there are such.
func (w *weighing) idle() (is bool) {
	points := map[*Area]int{}
	beside := map[*Area]map[int][]int{} // points by how far on
	for i, p := range w.all {
		if p.Area == nil || p.Layout.Words() == 0 {
			continue
		}
		points[p.Area]++
		if !p.nothing(p.At) {
			continue
		}
		for _, by := range [...]int{1, -1} {
			at := p.At + by
			if by > 0 {
				at = p.At + p.Layout.Words()
			}
			if w.nobodys(p.Signal, at) {
				if beside[p.Area] == nil {
					beside[p.Area] = map[int][]int{}
				}
				beside[p.Area][by] = append(beside[p.Area][by], i)
			}
		}
	}
	for area, of := range beside {
		for _, list := range of {
			if len(list) < fewIdle || 2*len(list) < points[area] {
				continue
			}
			for _, i := range list {
				if p := &w.all[i]; !p.idle {
					p.idle, is = true, true
					p.own.Digits -= ofIdle
				}
			}
		}
	}
	return is
}

// rises reports whether a register moved, and never by falling.
func (s *Signal) rises(at int) bool {
	words := s.Area.Words
	for i := 1; i < len(words); i++ {
		if words[i][at] < words[i-1][at] {
			return false
		}
	}
	return s.moved(at, 1)
}
