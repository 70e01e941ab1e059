package diagnose

import (
	"fmt"
	"math"
	"math/bits"
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
	Better  codec.Order   // under which it moves and is as values do; "" when its own is as good
	Doubts  int           // looks that spoke against its own order
	Words   bool          // Better has but the words the other way round
	Carries int           // times its words moved under Better as those of one value do, beyond the times they moved as those of two
	Odd     bool          // no order makes it what a plant means
	Shown   string        // its value now
	Would   string        // its value under Better
	Float   string        // its value as a floating-point one, when an integer may be that; "" when not
	End     string        // raw code at an end of its type, at which it stands: 0x8000; "" for none
	Peers   int           // other points of its station that have its byte order, as it has, from the station, and are right by it
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
	orderly uint8    // looks in a row that found a word where it was, or in the other place
	fine    uint8    // looks in a row that its own order was right for
	fell    bool     // other than to zero, as a counter does that is reset; a bool also to that
	doubt   [4]uint8 // about each of codec.Orders
	calm    int8     // how much more often the lower word was found close to where it was than not, with the words in reverse
	carries int8     // times the upper word moved by one and the lower one passed its end, beyond the times that it did not, likewise
}

// What tells a frozen value.
const (
	frozenAfter = 30  // seconds that a value which moved all the time must have been still
	frozenTimes = 10  // and so many times the longest it was still before
	livelyFor   = 10  // seconds since something moved
	fewMoves    = 5   // are no habit
	swapsWithin = 60  // seconds
	most        = 200 // that is counted of anything
)

// What tells a wrong byte order. A look that speaks against an order weighs as much as several that speak for it, since values
// under a wrong one are right by chance now and then, and those under the right one hardly ever wrong.
const (
	orderlyLooks = 3  // in a row, before a change of places means something
	against      = 4  // a look's weight
	mostDoubt    = 60 // so that what is mended is soon forgotten
	noDoubt      = against - 1
	doubtFloat   = enough * against     // looks at floating-point values tell much
	doubtWhole   = 2 * enough * against // those at integers less
	settled      = 20                   // looks that its order was right for; from then on only a value that moves speaks against it
)

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
			m.moves, m.first = m.moves/2, m.first+(sec-m.first)/2
		}
	}
	m.hash = hash
	if moved || !known {
		m.note(l, words)
	}
	n := len(words)
	if n != 2 && n != 4 || l.Words() != n {
		return
	}
	ends := [2]uint16{words[0], words[n-1]}
	if moved && n == 2 {
		m.places(own(l), ends, sec)
	}
	switch l.Type {
	case codec.TypeFloat32, codec.TypeFloat64:
		m.float(l, words, ends, moved)
	case codec.TypeInt32, codec.TypeUint32, codec.TypeInt64, codec.TypeUint64, codec.TypeBCD32:
		if moved {
			m.whole(ends)
		}
	}
	m.ends = ends
}

// note keeps a value that is new; texts are none.
func (m *Movement) note(l codec.Layout, words []uint16) {
	now := float32(math.NaN())
	if v, err := l.Decode(words); err == nil && v.Kind() != codec.Text {
		f, _ := v.Float()
		now = float32(f)
	}
	m.fell = m.fell || now < m.value && (now != 0 || l.Type == codec.TypeBool)
	m.value = now
}

// places notes whether the words of a value changed places. That tells something of values alone whose upper word can be told from
// the lower one, as it cannot while a value wavers about zero.
func (m *Movement) places(o codec.Order, ends [2]uint16, sec uint32) {
	top, bottom := o.Ends(ends[0], ends[1])
	wasTop, wasBottom := o.Ends(m.ends[0], m.ends[1])
	stay := near(top, wasTop) || near(bottom, wasBottom)
	swap := !stay && (near(bottom, wasTop) || near(top, wasBottom))
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

// float weighs the orders of a floating-point value: under a wrong one its magnitude is one that a plant hardly means, or jumps when
// the value moves. Zero, and what devices give for no value, tell nothing.
func (m *Movement) float(l codec.Layout, words []uint16, ends [2]uint16, moved bool) {
	v, err := l.Decode(words)
	if _, bottom := l.Order.Ends(ends[0], ends[1]); err != nil && (bottom == 0 || bottom == 0xFFFF) {
		return
	}
	if f, _ := v.Float(); err == nil && f == 0 || m.fine >= settled && !moved {
		return
	}
	if moved && len(words) == 2 {
		m.carry(reversed(own(l)), ends)
	}
	for i, o := range codec.Orders {
		now, _ := o.Ends(ends[0], ends[1])
		before, _ := o.Ends(m.ends[0], m.ends[1])
		a, b := magnitude(l.Type, before), magnitude(l.Type, now)
		weight := uint8(0)
		switch by := max(a-b, b-a); {
		case !usual(b), moved && usual(a) && by > jump:
			weight = against
		case moved && usual(a) && by > leap:
			weight = 1
		}
		m.weigh(i, weight)
		if o == own(l) {
			m.own(weight > 0)
		}
	}
}

// carry weighs whether the words of a value that moved belong together, with an order that may be its. Where its lower word moves by
// little at a time, it passes its end whenever the upper one moves by one. Words of two values, as those that are read one address
// off, do not keep to that.
func (m *Movement) carry(o codec.Order, ends [2]uint16) {
	top, bottom := o.Ends(ends[0], ends[1])
	wasTop, wasBottom := o.Ends(m.ends[0], m.ends[1])
	up, by := int(top)-int(wasTop), int(bottom)-int(wasBottom)
	on := up<<16 + by
	switch {
	case up == 0 && max(by, -by) < 1<<14:
		m.calm = min(m.calm+4, math.MaxInt8-4)
	case up == 0:
		m.calm = max(m.calm-5, math.MinInt8+5)
	case m.calm < calmEnough || max(up, -up) > 1:
	case max(on, -on) < max(by, -by):
		m.carries = min(m.carries+1, mostCarries)
	default:
		m.carries = max(m.carries-1, -mostCarries)
	}
}

// What tells whether words belong together. A value that moves by half of what its lower word holds is no longer calm: such a word
// stays within a quarter of its range less than five of nine times.
const (
	calmEnough  = 60
	mostCarries = 20
	fewCarries  = 4
)

// reversed is an order with its words the other way round: in codec.Orders, one and the next have the same order of bytes.
func reversed(o codec.Order) codec.Order {
	return codec.Orders[slices.Index(codec.Orders[:], o)^1]
}

// The binary magnitudes that a plant may mean, about 1e-12 to 1e14, and changes of them from look to look: tenfold, which happens, and
// a thousandfold, which hardly does.
const (
	leastMagnitude, mostMagnitude = -40, 46
	leap, jump                    = 2, 10
)

func usual(magnitude int) bool { return magnitude >= leastMagnitude && magnitude <= mostMagnitude }

// magnitude is the exponent of a floating-point value (IEEE 754, 3.4), by its top word.
func magnitude(t codec.Type, top uint16) int {
	if t == codec.TypeFloat64 {
		return int(top>>4&0x7FF) - 1023
	}
	return int(top>>7&0xFF) - 127
}

// whole weighs the orders of an integer that moved: its lowest word moves, unless it is not the lowest. One bit alone that comes and
// goes may be a flag.
func (m *Movement) whole(ends [2]uint16) {
	first, last := ends[0]^m.ends[0], ends[1]^m.ends[1]
	if max(bits.OnesCount16(first), bits.OnesCount16(last)) < 2 {
		return
	}
	for i, o := range codec.Orders {
		_, bottom := o.Ends(first, last)
		weight := uint8(0)
		if bottom == 0 {
			weight = against
		}
		m.weigh(i, weight)
	}
}

// weigh counts a look with its weight against an order; one of no weight is for it.
func (m *Movement) weigh(order int, weight uint8) {
	switch d := &m.doubt[order]; {
	case weight > 0:
		*d = min(*d+weight, mostDoubt)
	case *d > 0:
		*d--
	}
}

func (m *Movement) own(wrong bool) {
	switch {
	case !wrong:
		m.fine = min(m.fine+1, settled)
	case m.fine < settled:
		m.fine = 0
	}
}

func own(l codec.Layout) codec.Order {
	if !slices.Contains(codec.Orders[:], l.Order) {
		return codec.ABCD
	}
	return l.Order
}

// better is an order that is free of the doubts there are about a value's own; odd, when there is none though the doubts are large.
func (m *Movement) better(l codec.Layout) (order codec.Order, doubts int, odd bool) {
	i := slices.Index(codec.Orders[:], own(l))
	doubts = int(m.doubt[i]) / against
	switch float := l.Type == codec.TypeFloat32 || l.Type == codec.TypeFloat64; {
	case !float && m.doubt[i] >= doubtWhole && m.doubt[i^1] <= noDoubt: // what moves tells the order of words alone
		return reversed(own(l)), doubts, false
	case !float || m.doubt[i] < doubtFloat:
		return "", 0, false
	}
	least := uint8(noDoubt + 1)
	for _, k := range []int{i ^ 1, 0, 1, 2, 3} { // words in the wrong order are more usual than bytes
		top, _ := codec.Orders[k].Ends(m.ends[0], m.ends[1])
		if now := magnitude(l.Type, top); m.doubt[k] < least && now >= leastSensible && now <= mostSensible {
			order, least = codec.Orders[k], m.doubt[k]
		}
	}
	return order, doubts, order == "" && m.doubt[i] >= 2*doubtFloat
}

// The magnitudes that are proposed, about 1e-6 to 1e9.
const leastSensible, mostSensible = -20, 30

// Right reports whether the byte order of a value has been seen to be right.
func (m *Movement) Right(l codec.Layout) bool {
	i := slices.Index(codec.Orders[:], own(l))
	return m.fine >= enough && i >= 0 && m.doubt[i] <= noDoubt
}

// MayFloat reports whether an integer of 32 bits may be a floating-point value, by its magnitude of about 1e-3 to 1e6.
func (m *Movement) MayFloat(l codec.Layout) bool {
	top, _ := own(l).Ends(m.ends[0], m.ends[1])
	now := magnitude(codec.TypeFloat32, top)
	return (l.Type == codec.TypeInt32 || l.Type == codec.TypeUint32) && now >= -10 && now <= 20
}

// Lively reports whether the value has moved lately.
func (m *Movement) Lively(sec uint32) bool { return m.moved != 0 && sec-m.moved < livelyFor }

// Strange is what is strange about a value; lively is whether others move. It is asked every few seconds, at the latest every hour.
func (m *Movement) Strange(l codec.Layout, sec uint32, lively bool) (p Point) {
	if uint16(sec)-m.swapped >= swapsWithin {
		m.swaps = 0
	}
	p.Swaps = int(m.swaps)
	p.Better, p.Doubts, p.Odd = m.better(l)
	if p.Better == reversed(own(l)) {
		p.Words, p.Carries = true, int(m.carries)
	}
	// What rests now and then, as a gate or a pump does, is not frozen: it must have moved all the time, and for longer
	// than it has been still.
	still, span := sec-m.moved, m.moved-m.first
	if lively && m.moves >= fewMoves && still > frozenTimes*uint32(m.longest) && still > frozenAfter && span > max(2*frozenAfter, still) {
		p.Frozen, p.Rose, p.Zero = true, !m.fell, m.value == 0 && l.Type != codec.TypeBool
		p.Still, p.Typical = time.Duration(still)*time.Second, time.Duration(span)*time.Second/time.Duration(m.moves)
	}
	return p
}

// points finds what is wrong with single values.
func (f *finder) points(list []Point) {
	frozen, orders, shifted, odd, ended := map[string][]Point{}, map[string][]Point{}, map[string][]Point{}, map[string][]Point{}, map[string][]Point{}
	for _, p := range list {
		switch {
		case f.covered[p.Point.Station]:
		case p.End != "":
			ended[p.Point.Station] = append(ended[p.Point.Station], p)
		case p.Swaps >= enough:
			f.add(site.KindPoint, p.Point.Tag, WordOrder, 0.8, because("order-alternates"),
				[]string{fmt.Sprintf("its words changed places %d times within a minute", p.Swaps), "it shows " + p.Shown},
				say("read both registers in one request: strings_alone and gap settings must not part them"), say("see whether two devices or programs write to these registers in different orders"))
		case p.Better != "" && p.beside():
			shifted[p.Point.Station] = append(shifted[p.Point.Station], p)
		case p.Better != "":
			key := p.Point.Station + " " + string(p.Better)
			orders[key] = append(orders[key], p)
		case p.Odd:
			odd[p.Point.Station] = append(odd[p.Point.Station], p)
		case p.Frozen:
			frozen[p.Point.Station] = append(frozen[p.Point.Station], p)
		}
	}
	for _, points := range orders {
		f.order(points)
	}
	for _, points := range shifted {
		f.shifted(points)
	}
	for _, points := range ended {
		f.ended(points)
	}
	for station, points := range odd {
		f.odd(station, points)
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
		f.add(kind, subject, ValueFrozen, 0.65, because("value-frozen"),
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
	telling := false
	for _, p := range list {
		stopped := p.Zero || slices.ContainsFunc(list, func(other Point) bool { return other.Zero && (other.Still-p.Still).Abs() <= together })
		if !stopped {
			out, telling = append(out, p), telling || !p.Rose
		}
	}
	if !telling {
		return nil
	}
	return out
}

// order makes the finding of values of a station whose byte order is another.
func (f *finder) order(list []Point) {
	p := list[0]
	certainty, one, several := 0.8, "word-order", "word-order-of-several"
	if float := p.Point.Type == codec.TypeFloat32 || p.Point.Type == codec.TypeFloat64; !float {
		certainty, one, several = 0.65, "word-order-halves", "word-order-halves-of-several"
	}
	var evidence []string
	var next []Step
	inherited := p.Peers == 0
	for _, p := range list {
		tag, of, it := p.Point.Tag, "", "it"
		if len(list) > 1 {
			of, it = " for "+tag, tag
		}
		shows := fmt.Sprintf("%s shows %s, and would show %s", it, p.Shown, p.Would)
		next = append(next, set(fmt.Sprintf("set order: %s", p.Better)+of, site.KindPoint, tag, map[string]any{"order": string(p.Better)}))
		if p.Float != "" {
			shows += "; as a float32 it would show " + p.Float
			next = append(next, set("or it is a floating-point value: set type: float32"+of, site.KindPoint, tag, map[string]any{"type": string(codec.TypeFloat32)}))
		}
		evidence = append(evidence, shows)
		inherited = inherited && p.Point.Order == ""
	}
	lens := say("open the lens of the point and pick the value that is right")
	if p.Carries < fewCarries && p.Point.Type == codec.TypeFloat32 {
		lens = say("compare with the device's display, digit by digit: when the first digits alone are right then, the address is one off instead")
	}
	if len(list) == 1 {
		evidence = append(evidence, fmt.Sprintf("at least %d looks spoke against its byte order, and hardly any against the other", p.Doubts))
		f.add(site.KindPoint, p.Point.Tag, WordOrder, certainty, because(one, "order", p.Better), evidence, append(next, lens)...)
		return
	}
	if inherited {
		next = []Step{set(fmt.Sprintf("set order: %s of the station, which these points have from it", p.Better), site.KindStation, p.Point.Station, map[string]any{"order": string(p.Better)})}
	}
	f.add(site.KindStation, p.Point.Station, WordOrder, certainty+0.1, because(several, "points", len(list), "order", p.Better),
		abridged(evidence), append(next[:min(len(next), someOf)], lens)...)
}

// shifted makes the finding of values of a station whose words are those of two.
func (f *finder) shifted(list []Point) {
	subject, kind, cause := list[0].Point.Tag, site.KindPoint, because("address-shifted")
	if len(list) > 1 {
		subject, kind = list[0].Point.Station, site.KindStation
		cause = because("addresses-shifted", "points", len(list))
	}
	var evidence []string
	var next []Step
	certainty := 0.8
	for _, p := range list {
		why := fmt.Sprintf("%d times its upper word moved on and the lower one did not pass its end, as the words of one value do", -p.Carries)
		next = append(next, p.aside()...)
		if p.Carries > -fewCarries {
			certainty, why = 0.7, fmt.Sprintf("it would show %s with byte order %s, but others of the station (%d) are right with its own", p.Would, p.Better, p.Peers)
			next = append(next, set(fmt.Sprintf("or set order: %s, which only this point would have then", p.Better), site.KindPoint, p.Point.Tag, map[string]any{"order": string(p.Better)}))
		}
		evidence = append(evidence, fmt.Sprintf("%s shows %s; %s", p.Point.Tag, p.Shown, why))
	}
	f.add(kind, subject, AddressShifted, certainty, cause, abridged(evidence),
		append(next[:min(len(next), 2*someOf)], say("compare the addresses with the manual: does it count from 0 or from 1? The notation of the station says how they are written"))...)
}

// beside reports whether a value for which another order speaks has rather another address: its words are those of two values, or
// others of its station, which has the order from the same place, are right.
func (p Point) beside() bool {
	float := p.Point.Type == codec.TypeFloat32
	return float && p.Words && (p.Carries <= -fewCarries || p.Carries < fewCarries && p.Point.Order == "" && p.Peers > 0)
}

// aside are the steps to the addresses beside that of a point, the likelier first. The word that tells the magnitude is, under the
// better order, the first one or the last; its value begins there, or ends there.
func (p Point) aside() (next []Step) {
	likely := 1
	if p.Better == codec.ABCD || p.Better == codec.BADC {
		likely = -1
	}
	for _, by := range []int{likely, -likely} {
		a, to := p.Point.Address, int(p.Point.Address.Offset)+by
		if to < 0 || to+1 > math.MaxUint16 {
			continue
		}
		a.Offset = uint16(to)
		text := fmt.Sprintf("set address: %s for %s, where it would show about %s", a, p.Point.Tag, p.Would)
		if by != likely {
			text = fmt.Sprintf("or, for the value on the other side, set address: %s", a)
		}
		next = append(next, set(text, site.KindPoint, p.Point.Tag, map[string]any{"address": a.String()}))
	}
	return next
}

// odd makes the finding of values that are none under any byte order.
func (f *finder) odd(station string, list []Point) {
	subject, kind, cause := list[0].Point.Tag, site.KindPoint, because("value-odd")
	if len(list) > 1 {
		subject, kind, cause = station, site.KindStation, because("values-odd", "points", len(list))
	}
	var evidence []string
	for _, p := range list {
		evidence = append(evidence, p.Point.Tag+" shows "+p.Shown)
	}
	f.add(kind, subject, ValueOdd, 0.65, cause, abridged(evidence),
		say("compare address and type with the manual: one address off, a value begins in the middle of another"),
		say("open the lens: does another type give what the device shows?"),
		say("the device may give such a value for what is not connected or not measured"))
}

// someOf is how many of many alike are said one by one.
const someOf = 6

func abridged(list []string) []string {
	if len(list) <= someOf {
		return list
	}
	return append(slices.Clip(list[:someOf]), fmt.Sprintf("and %d more", len(list)-someOf))
}
