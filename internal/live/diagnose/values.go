package diagnose

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// Point is the evidence about a point.
type Point struct {
	Point   site.Point
	Swaps   int           // times its words changed places within the last minute
	Frozen  bool          // it moved all the time and no longer does, while others do
	Rose    bool          // it never fell, as a counter does not
	Zero    bool          // its value is zero
	Still   time.Duration // since it moved last
	Typical time.Duration // it used to move so often
	Shown   string        // its value now
	End     string        // raw code at an end of its type, at which it stands: 0x8000; "" for none
}

// Movement is how the raw data of a value have been and moved, look by look. The zero Movement has seen nothing.
type Movement struct {
	ends    [2]uint16 // first and last word at the last look
	hash    uint32    // of all words
	value   float32
	first   uint32 // look, in seconds since 1970, as all times here
	moved   uint32 // last
	swapped uint16 // its words changed places last, in the last bits of the time
	longest uint16 // seconds between two moves
	moves   uint16
	swaps   uint8
	orderly uint8  // looks in a row that found a word where it was, or in the other place
	shy     uint16 // moves by the least that a whole number can make
	fell    bool   // other than to zero, as a counter does that is reset; a bool also to that
}

// What tells a frozen value.
const (
	frozenAfter = 30  // seconds that a value which moved all the time must have been still
	frozenLong  = 75  // likewise, of one that moved for long: somebody may hold it, as who calibrates it does
	frozenTimes = 10  // and so many times the longest it was still before
	livelyFor   = 10  // seconds since something moved
	fewMoves    = 5   // are no habit
	swapsWithin = 60  // seconds
	most        = 200 // that is counted of anything
)

// orderlyLooks are so many looks in a row, before a change of places means something.
const orderlyLooks = 3

// Look notes what a value is. words are its raw data, sec the time.
func (m *Movement) Look(l codec.Layout, words []uint16, sec uint32) {
	hash := uint32(2166136261)
	for _, w := range words {
		hash = (hash ^ uint32(w)) * 16777619
	}
	known, moved := m.first != 0, m.first != 0 && hash != m.hash
	switch {
	case !known:
		m.first, m.moved = sec, sec
	case moved:
		m.longest = max(m.longest, uint16(min(sec-m.moved, math.MaxUint16)))
		m.moved = sec
		if m.moves++; m.moves == math.MaxUint16 { // half of the past tells as much
			m.moves, m.shy, m.first = m.moves/2, m.shy/2, m.first+(sec-m.first)/2
		}
	}
	m.hash = hash
	was := m.value
	if moved || !known {
		m.note(l, words)
	}
	if len(words) == 2 && l.Words() == 2 {
		ends := [2]uint16{words[0], words[1]}
		if moved {
			m.places(own(l), ends, l.Type == codec.TypeFloat32 && alike(was, m.value), sec)
		}
		m.ends = ends
	}
}

// note keeps a value that is new; texts are none.
func (m *Movement) note(l codec.Layout, words []uint16) {
	now := float32(math.NaN())
	if v, err := l.Decode(words); err == nil && v.Kind() != codec.Text {
		f, _ := v.Float()
		now = float32(f)
	}
	if by := now - m.value; by > -2 && by < 0 && l.Type != codec.TypeBool && l.Type != codec.TypeFloat32 && l.Type != codec.TypeFloat64 {
		m.shy = min(m.shy+1, math.MaxUint16-1)
	}
	m.fell = m.fell || now < m.value && (now != 0 || l.Type == codec.TypeBool)
	m.value = now
}

// alike reports whether two values have much the same magnitude, as those with their words in different orders have not.
func alike(a, b float32) bool {
	return max(a, -a) < 1000*max(b, -b) && max(b, -b) < 1000*max(a, -a)
}

// places notes whether the words of a value changed places. That tells something of values alone whose upper word can be told from
// the lower one, as it cannot while a value wavers about zero.
func (m *Movement) places(o codec.Order, ends [2]uint16, alike bool, sec uint32) {
	top, bottom := o.Ends(ends[0], ends[1])
	wasTop, wasBottom := o.Ends(m.ends[0], m.ends[1])
	stay := near(top, wasTop) || near(bottom, wasBottom)
	swap := !stay && !alike && (near(bottom, wasTop) || near(top, wasBottom))
	if swap && m.orderly >= orderlyLooks {
		m.swaps, m.swapped = min(m.swaps+1, most), uint16(sec)
	}
	if m.orderly = min(m.orderly+1, most); !swap && !stay {
		m.orderly = 0
	}
}

// near reports whether two registers are alike, as the upper words of a value that moves slowly are, and the lower ones are
// not.
func near(a, b uint16) bool { return a == b || a>>7 == b>>7 }

func own(l codec.Layout) codec.Order {
	if !slices.Contains(codec.Orders[:], l.Order) {
		return codec.ABCD
	}
	return l.Order
}

// Lively reports whether the value has moved lately.
func (m *Movement) Lively(sec uint32) bool { return m.moved != 0 && sec-m.moved < livelyFor }

// Strange is what is strange about a value; lively is whether others move. It is asked every few seconds, at the latest every hour.
func (m *Movement) Strange(l codec.Layout, sec uint32, lively bool) (p Point) {
	if uint16(sec)-m.swapped >= swapsWithin {
		m.swaps = 0
	}
	p.Swaps = int(m.swaps)
	// What rests now and then, as a gate or a pump does, is not frozen: it must have moved all the time, and for longer
	// than it has been still.
	still, span := sec-m.moved, m.moved-m.first
	// One that wavers by its least step may as well come to rest.
	if lively && m.moves >= fewMoves && m.shy <= m.moves/4 && still > frozenTimes*uint32(m.longest) && still > max(frozenAfter, min(span/2, frozenLong)) && span > max(2*frozenAfter, still) {
		p.Frozen, p.Rose, p.Zero = true, !m.fell, m.value == 0 && l.Type != codec.TypeBool
		p.Still, p.Typical = time.Duration(still)*time.Second, time.Duration(span)*time.Second/time.Duration(m.moves)
	}
	return p
}

// points finds what is wrong with single values.
func (f *finder) points(list []Point) {
	frozen, ended := map[string][]Point{}, map[string][]Point{}
	for _, p := range list {
		switch {
		case f.covered[p.Point.Station]:
		case p.End != "":
			ended[p.Point.Station] = append(ended[p.Point.Station], p)
		case p.Swaps >= enough:
			f.add(site.KindPoint, p.Point.Tag, WordOrder, 0.8, because("order-alternates"),
				[]string{fmt.Sprintf("its words changed places %d times within a minute", p.Swaps), "it shows " + p.Shown},
				say("read both registers in one request: strings_alone and gap settings must not part them"), say("see whether two devices or programs write to these registers in different orders"))
		case p.Frozen:
			frozen[p.Point.Station] = append(frozen[p.Point.Station], p)
		}
	}
	for _, points := range ended {
		f.ended(points)
	}
	for station, points := range frozen {
		points = unmoved(points)
		if len(points) == 0 {
			continue
		}
		p := points[0]
		subject, kind := p.Point.Tag, site.KindPoint
		if len(points) > 1 {
			subject, kind = station, site.KindStation
		}
		have := "has"
		if len(points) > 1 {
			have = "have"
		}
		var tags []string
		for _, p := range points {
			tags = append(tags, p.Point.Tag)
		}
		certainty := math.Floor(100*min(0.6+0.05*math.Log2(float64(p.Still)/float64(frozenAfter*time.Second)), 0.85)) / 100 // it grows with the time
		f.add(kind, subject, ValueFrozen, certainty, because("value-frozen"),
			[]string{fmt.Sprintf("%s moved every %s, and %s been still for %s", strings.Join(abridged(tags), ", "), p.Typical.Round(100*time.Millisecond), have, p.Still.Round(time.Second))},
			say("compare with the device's own display"), say("behind a gateway or concentrator, see whether it still reaches the device: some go on giving the last values"),
			say("see whether the sensor or its card has failed, or is in simulation"))
	}
}

// together is within how much of each other the values of a machine come to rest when it stops.
const together = 10 * time.Second

// unmoved are the points whose standing still means something. A value that has come to rest at zero belongs to something that was
// stopped, as do those that came to rest with it; a counter stands when nothing passes.
func unmoved(list []Point) (out []Point) {
	var zero []time.Duration // since when those at zero are
	for _, p := range list {
		if p.Zero {
			zero = append(zero, p.Still)
		}
	}
	slices.Sort(zero)
	telling := false
	for _, p := range list {
		first, _ := slices.BinarySearch(zero, p.Still-together) // the first that has rested for so long
		stopped := p.Zero || first < len(zero) && zero[first] <= p.Still+together
		if !stopped {
			out, telling = append(out, p), telling || !p.Rose
		}
	}
	if !telling {
		return nil
	}
	return out
}
