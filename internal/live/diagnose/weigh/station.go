package weigh

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
)

// Explanation is a mistake that explains what the values of some points are.
type Explanation struct {
	Reading   Reading // how they would be right; the zero Reading: nothing that is known here explains them
	Points    []*Signal
	Certainty float64 // 0 to 1, that the mistake is of this kind
	Share     float64 // of that, of this reading
	RunnerUp  *Reading
	Second    float64 // certainty of the runner-up
	Gain      float64 // in the logarithm of the likelihood
	Why       Fit     // of the first of the points, as it is set
}

// What makes a mistake worth to be said.
const (
	suspicious    = 1.2 // a fit worse than that makes a point looked at
	doubtful      = 0.4 // and one worse than that is no witness for what it has
	telling       = 0.7 // by which a reading must be better for a point, to count for it
	another       = 0.5 // what one more point with the same mistake costs
	byOneSetting  = 0.1 // where all have it from one setting
	apart         = 1.3 // and where others that have the setting from the same place are right with it
	enoughGain    = 0.9
	oddFit        = -5.5 // of values that no reading explains
	costOdd       = 3.0
	textGain      = 6.0 // of registers that are a text
	textCertain   = 0.9
	shortCertain  = 0.65 // of one of four characters
	numberCertain = 0.8  // of registers that are none
	nearBy        = 0.05 // a certainty from which a runner-up is one
	leastSeen     = 6    // moments
	costTaken     = 2.5  // of a register that is another point's
	costAlone     = 1.4  // of one address that is off, where others are not
	costHalfAlone = 0.8  // and of one where it is that of a half
	costKept      = 1.5  // of another order than that of the station, where others are right with that
	fewFine       = 2    // others, for that
	costEmpty     = 3.0  // and hold nothing
	narrow        = 2.5  // of a whole number that would be one of the few which are a plausible floating-point value
	refusedThere  = 4.5  // what a point tells for a shift that is refused where it is and not there
	mostRefused   = 9.0  // and several
	costStill     = 3.0  // of registers that rest, where those that it has move
	ofIdle        = 1.3  // of a point that holds nothing where values are beside that nobody has
	ofNobodys     = 0.5  // what a register tells that moves beside another one, and both are nobody's
	costLeft      = 0.6  // of registers that hold something which is nobody's then
	ofHalf        = 2.5  // of a register that looks like the lower half of a value of which a point has the upper one
)

// Station weighs all points of a station together: the fewest mistakes that explain the most. The first explanation explains most. beside is how many
// registers further on the device answers for points that it refuses where they are, once for each.
func Station(signals []*Signal, beside ...int) (list []Explanation) {
	w := weighing{taken: map[*Area]map[int]bool{}, beside: beside}
	doubted := false
	siblings(signals)
	for _, s := range signals {
		if s.Area != nil {
			if w.taken[s.Area] == nil {
				w.taken[s.Area] = map[int]bool{}
			}
			for i := range max(1, s.Layout.Words()) {
				w.taken[s.Area][s.At+i] = true
			}
		}
		if !s.number() {
			w.others = append(w.others, s)
			if r, is := s.noText(); is {
				list = append(list, Explanation{Reading: r, Points: []*Signal{s}, Certainty: numberCertain, Share: numberCertain, Gain: textGain})
			}
			continue
		}
		values := s.Values(Reading{})
		if r, certain, is := s.text(); is && len(values) >= leastSeen {
			list = append(list, Explanation{Reading: r, Points: []*Signal{s}, Certainty: certain, Share: certain, Gain: textGain, Why: s.fit(Reading{}, values)})
			continue
		}
		if s.ticks(values) || s.broken(values) {
			continue
		}
		s.skip = s.failed(values)
		for _, i := range s.spikes(values) {
			s.skip[i] = true
		}
		if count(s.skip, false) < leastSeen {
			continue
		}
		if slices.Contains(s.skip, true) || s.Expect.alike {
			s.fits = nil
		}
		f := s.Fit()
		w.all = append(w.all, weighed{Signal: s, own: f, values: values})
		doubted = doubted || f.Doubt() > suspicious
	}
	halved, idle := w.halved(), w.idle()
	if !doubted && !halved && !idle {
		return list
	}
	w.prepare()
	left := make([]bool, len(w.all))
	for i, p := range w.all {
		left[i] = p.own.Doubt() > suspicious
	}
	for {
		e, ok := w.best(left)
		if !ok {
			break
		}
		list = append(list, e)
		of := make(map[*Signal]bool, len(e.Points))
		for _, s := range e.Points {
			of[s] = true
		}
		for i, p := range w.all {
			if of[p.Signal] {
				left[i], w.explained[i] = false, true
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Explanation) int { return cmp.Compare(b.Gain, a.Gain) })
	return list
}

// What makes points siblings of which much can be expected.
const (
	fewSiblings = 3    // others
	closeBy     = 0.15 // of what is usual with their unit
)

// siblings finds points of one kind, by their units and the ends of their tags, whose values are close together.
func siblings(signals []*Signal) {
	kinds := map[string][]*Signal{}
	for _, s := range signals {
		if s.Expect.known() && !s.Expect.Total && s.Point.Unit != "" && s.number() {
			key := s.Point.Unit + " " + stem(s.Point.Tag)
			kinds[key] = append(kinds[key], s)
		}
	}
	for _, list := range kinds {
		if len(list) <= fewSiblings {
			continue
		}
		middles := make([]float64, len(list))
		for i, s := range list {
			v := slices.Clone(s.Values(Reading{}))
			if slices.Sort(v); len(v) > 0 {
				middles[i] = v[len(v)/2]
			}
		}
		for i, s := range list {
			others := slices.Delete(slices.Clone(middles), i, i+1)
			lo, hi := slices.Min(others), slices.Max(others)
			margin := max(hi-lo, 0.02*s.Expect.span())
			s.Expect.alike = hi-lo < closeBy*s.Expect.span()
			s.Expect.siblings = [2]float64{lo - margin, hi + margin}
		}
	}
}

// stem is the last part of a tag without its numbers.
func stem(tag string) string {
	return strings.TrimRight(tag[strings.LastIndexByte(tag, '/')+1:], "0123456789-_.#")
}

// inARow is how many times the same value that is none must be given, to be meant as such.
const inARow = 3

// failed tells at which moments a device gave what devices give when they have no value: the same no number, a number beyond all measure, or
// nines, several times in a row. That says nothing of how the value is to be read.
func (s *Signal) failed(values []float64) []bool {
	skip := make([]bool, len(values))
	for i := 0; i < len(values); {
		n := i + 1
		for n < len(values) && math.Float64bits(values[n]) == math.Float64bits(values[i]) {
			n++
		}
		if n-i >= inARow && (s.noValue(values[i], i) || s.atEnd(i)) {
			for k := i; k < n; k++ {
				skip[k] = true
			}
		}
		i = n
	}
	return skip
}

// noValue reports whether a value at a moment is one that devices give for no value.
func (s *Signal) noValue(v float64, i int) bool {
	if math.IsNaN(v) {
		return s.plainNaN(i)
	}
	return none(v)
}

// plainNaN reports whether a floating-point value was not a number in the way in which programs write that: with nothing but zeros or ones below
// its uppermost register. Registers that are read in a wrong order may be not a number, too, and hold something there.
func (s *Signal) plainNaN(i int) bool {
	n := s.Layout.Words()
	if s.Area == nil { // nothing else is known
		return true
	}
	if !float(s.Layout.Type) || s.At < 0 || s.At+n > len(s.Area.Words[i]) {
		return false
	}
	words := s.Area.Words[i][s.At : s.At+n]
	below := words[1:]
	if o := own(s.Layout.Order); o == codec.CDAB || o == codec.DCBA {
		below = words[:n-1]
	}
	return !slices.ContainsFunc(below, func(w uint16) bool { return w != below[0] }) && (below[0] == 0 || below[0] == 0xFFFF)
}

// atEnd reports whether a whole number was exactly at an end of its type, or of that with or without sign.
func (s *Signal) atEnd(i int) bool {
	n := s.Layout.Words()
	if s.Area == nil || !whole(s.Layout.Type) || n > 2 {
		return false
	}
	w := s.Area.Words[i][s.At : s.At+n]
	top, bottom := own(s.Layout.Order).Ends(w[0], w[n-1])
	if n == 1 {
		return top == 0x8000 || top == 0x7FFF || top == 0xFFFF
	}
	return top == 0x8000 && bottom == 0 || (top == 0x7FFF || top == 0xFFFF) && bottom == 0xFFFF
}

// fewCodeDigits are as many digits as a number beyond all measure has at most that somebody chose.
const fewCodeDigits = 6

// none reports whether a number is one that devices give for no value.
func none(v float64) bool {
	v = math.Abs(v)
	if v >= 1e29 {
		digits, _, _ := strings.Cut(strconv.FormatFloat(v, 'e', -1, 64), "e")
		if v <= math.MaxFloat32 {
			digits, _, _ = strings.Cut(strconv.FormatFloat(v, 'e', -1, 32), "e")
		}
		return math.IsInf(v, 0) || v == math.MaxFloat32 || v == math.MaxFloat64 || len(digits) <= fewCodeDigits+1
	}
	digits := strings.Replace(strings.TrimRight(strconv.FormatFloat(v, 'f', 2, 64), "0"), ".", "", 1)
	return len(digits) >= 3 && strings.Trim(digits, "9") == ""
}

func count(list []bool, is bool) (n int) {
	for _, x := range list {
		if x == is {
			n++
		}
	}
	return n
}

// weighed is a signal with the fit that it has.
type weighed struct {
	*Signal
	own    Fit
	values []float64
	idle   bool // it holds nothing, as most of its area, beside registers that move and are nobody's
	half   int  // a register beside that moves as the lower half of it would, and is nobody's; 0 is none: as far from its first
}

type weighing struct {
	all       []weighed
	explained []bool
	taken     map[*Area]map[int]bool  // registers that points have
	owners    map[*Area]map[int][]int // which of all, by register
	gains     map[Reading][]gained    // of all, as far as they were asked for
	beside    []int                   // at which refused points are answered for
	others    []*Signal               // bits and texts, which are not weighed
}

// gained is how much better a reading fits a point than the own one, where it is known.
type gained struct {
	by              float64
	known, is, poor bool
}

// prepare is called once all are there.
func (w *weighing) prepare() {
	w.explained, w.owners, w.gains = make([]bool, len(w.all)), map[*Area]map[int][]int{}, map[Reading][]gained{}
	for i, p := range w.all {
		if p.Area == nil {
			continue
		}
		if w.owners[p.Area] == nil {
			w.owners[p.Area] = map[int][]int{}
		}
		for at := p.At; at < p.At+p.Layout.Words(); at++ {
			w.owners[p.Area][at] = append(w.owners[p.Area][at], i)
		}
	}
}

// gain is how much better a reading fits one of all than the own one.
func (w *weighing) gain(i int, r Reading) (float64, bool) {
	of := w.gains[r]
	if of == nil {
		of = make([]gained, len(w.all))
		w.gains[r] = of
	}
	if g := &of[i]; !g.known {
		g.by, g.poor, g.is = w.all[i].gain(r)
		g.known = true
	}
	return of[i].by, of[i].is
}

// best is the mistake that explains most of what is left.
func (w *weighing) best(left []bool) (best Explanation, ok bool) {
	totals := map[Reading]float64{}
	groups := map[Reading][]int{}
	for i, p := range w.all {
		if !left[i] {
			continue
		}
		seen := [][]float64{p.values}
		for _, r := range p.alternatives() {
			if _, done := totals[r]; done {
				continue
			}
			values := p.Values(r)
			if values == nil || slices.ContainsFunc(seen, func(o []float64) bool { return same(o, values) }) {
				continue
			}
			seen = append(seen, values)
			totals[r], groups[r] = w.total(r, left)
		}
	}
	var readings []Reading
	for r := range totals {
		readings = append(readings, r)
	}
	slices.SortFunc(readings, func(a, b Reading) int { return cmp.Or(cmp.Compare(totals[b], totals[a]), a.compare(b)) })
	oddGain, odd := w.odd(left)
	if len(readings) == 0 || totals[readings[0]] < enoughGain {
		if len(odd) == 0 || oddGain < enoughGain {
			return best, false
		}
		return Explanation{Points: w.signals(odd), Certainty: 1 - math.Exp(-oddGain/2), Gain: oddGain, Why: w.all[odd[0]].own}, true
	}
	first := readings[0]
	for _, r := range readings[1:] { // one that explains more besides may explain these better, too
		if total := w.totalOf(r, groups[first]); total > totals[first] {
			groups[r], totals[r] = groups[first], total
			first = r
		}
	}
	of := w.claim(first, groups[first])
	best = Explanation{Reading: first, Points: append(w.signals(slices.Concat(of.group, of.along)), of.bitsAndTexts()...), Gain: totals[first], Why: w.all[of.group[0]].own}
	// Against it stand that nothing is wrong, that something else is, and the other readings of the same points.
	against := math.Exp(-best.Gain) + math.Exp(w.oddOf(groups[first])-best.Gain)
	alike := 1.0
	for _, r := range readings {
		if r == first {
			continue
		}
		total := w.totalOf(r, w.explainsToo(r, first, groups[first]))
		share := math.Exp(total - best.Gain)
		if total > 0 && share > best.Second {
			second := r
			best.RunnerUp, best.Second = &second, share
		}
		if r.Kind() == first.Kind() {
			alike += share
		} else {
			against += share
		}
	}
	all := alike + against
	best.Certainty, best.Share, best.Second = alike/all, 1/all, best.Second/all
	if best.Second < nearBy {
		best.RunnerUp, best.Second = nil, 0
	}
	return best, true
}

// explainsToo are the points of a group, and those that its shift takes along and another reading explains.
func (w *weighing) explainsToo(r, shift Reading, group []int) []int {
	all := slices.Clone(group)
	for _, i := range w.along(shift, group) {
		if gain, ok := w.gain(i, r); ok && gain > telling {
			all = append(all, i)
		}
	}
	return all
}

func (w *weighing) signals(list []int) (out []*Signal) {
	for _, i := range list {
		out = append(out, w.all[i].Signal)
	}
	return out
}

// total is what a mistake explains, of the points that it explains.
func (w *weighing) total(r Reading, left []bool) (total float64, group []int) {
	gains := map[int]float64{}
	for i, p := range w.all {
		if w.explained[i] {
			continue
		}
		gain, ok := w.gain(i, r)
		if !ok {
			continue
		}
		if gain > telling && !w.gains[r][i].poor && (left[i] || p.own.Doubt() > doubtful) {
			gains[i] = gain
			group = append(group, i)
		}
	}
	all := w.claim(r, group)
	group = slices.DeleteFunc(slices.Clone(group), func(i int) bool { return gains[i]-all.clash(i) < another })
	if !slices.ContainsFunc(group, func(i int) bool { return left[i] }) {
		return math.Inf(-1), nil
	}
	return w.claim(r, group).sum(), group
}

// totalOf is what a mistake explains of given points.
func (w *weighing) totalOf(r Reading, group []int) (total float64) {
	for _, i := range group {
		if _, ok := w.gain(i, r); !ok {
			return math.Inf(-1)
		}
	}
	return w.claim(r, group).sum()
}

// restless is what speaks for a reading that explains why a register moves that is no point's.
func (s *Signal) restless(at int) float64 {
	if at < 0 || at >= len(s.Area.Words[0]) {
		return 0
	}
	var steps []int
	for i := 1; i < len(s.Area.Words); i++ {
		if a, b := s.Area.Words[i][at], s.Area.Words[i-1][at]; a != b {
			steps = append(steps, int(min(a-b, b-a))) // either way round: about zero, a number with a sign goes on there
		}
	}
	slices.Sort(steps)
	switch {
	case len(steps) == 0:
		return 0
	case len(steps) >= 4 && steps[len(steps)/2] > 1<<12:
		return 3.5
	}
	return 1.5
}

// moved reports whether registers did.
func (s *Signal) moved(at, n int) bool {
	at, end := max(0, at), min(at+n, len(s.Area.Words[0]))
	n = end - at
	for i := 1; i < len(s.Area.Words); i++ {
		if !slices.Equal(s.Area.Words[i][at:at+n], s.Area.Words[i-1][at:at+n]) {
			return true
		}
	}
	return false
}

// gain is how much better a reading fits than the own one; a poor one is so bad itself that something unknown is likelier.
func (p *weighed) gain(r Reading) (gain float64, poor, ok bool) {
	if r.Type != "" && r.Type == p.Layout.Type || r.Order != "" && r.Order == own(p.Layout.Order) {
		return 0, false, false // that is what it has
	}
	if r.Type == "" && r.Order != "" && p.Layout.Words() == 1 && r.Order == reversed(own(p.Layout.Order)) {
		return 0, false, false // which does not show
	}
	if r.scaling() && !slices.Contains(p.scalings(), r) {
		return 0, false, false
	}
	values := p.Values(r)
	if values == nil {
		return 0, false, false
	}
	then, own := p.fit(r, values), p.own
	if r.Offset != 0 || r.Convert != NoConversion || r.scaling() && own.Magnitude > -beyondUsual { // under which it moves as before
		then.Motion, own.Motion = 0, 0
	}
	if l, at := p.layout(r), p.At+p.half; p.half != 0 && (l.Words() == 1 || at < p.At+r.By || at >= p.At+r.By+l.Words()) { // it is still no half of it
		then.Digits -= ofHalf
	}
	if p.idle && !slices.ContainsFunc(values, func(v float64) bool { return v != values[0] }) { // it is as idle as it was
		then.Digits -= ofIdle
	}
	gain, poor = then.Sum()-own.Sum(), then.Sum() < oddFit
	if float(p.Layout.Type) && p.single(r) && p.floats() {
		gain -= narrow
	}
	return gain, poor, true
}

// single reports whether a reading is a whole number of one register.
func (p *weighed) single(r Reading) bool {
	l := p.layout(r)
	return l.Words() == 1 && whole(l.Type)
}

// floats reports whether all values are numbers as floating-point values of plants are: those of whole numbers hardly ever are.
func (p *weighed) floats() bool {
	for i, v := range p.values {
		if size := math.Abs(v); !(v == 0 || size > 1e-3 && size < 1e6) && (p.skip == nil || !p.skip[i]) {
			return false
		}
	}
	return true
}

// odd are the points that fit so badly that something unknown is likelier.
func (w *weighing) odd(left []bool) (gain float64, list []int) {
	for i, p := range w.all {
		if g := oddFit - p.own.Sum() - p.trust; left[i] && g > 0 {
			gain += g
			list = append(list, i)
		}
	}
	return gain - costOdd, list
}

func (w *weighing) oddOf(group []int) (gain float64) {
	for _, i := range group {
		gain += oddFit - w.all[i].own.Sum()
	}
	return gain - costOdd
}

// same reports whether two readings give the same values.
func same(a, b []float64) bool {
	return slices.EqualFunc(a, b, func(x, y float64) bool { return x == y || math.IsNaN(x) && math.IsNaN(y) })
}

// compare puts readings into one order, so that the same evidence gives the same explanation.
func (r Reading) compare(o Reading) int {
	end := func(p *[2]float64) float64 {
		if p == nil {
			return 0
		}
		return p[0] + p[1]
	}
	if r.SignBit != o.SignBit {
		return map[bool]int{true: 1, false: -1}[r.SignBit]
	}
	return cmp.Or(cmp.Compare(r.Type, o.Type), cmp.Compare(r.Order, o.Order), cmp.Compare(r.By, o.By), cmp.Compare(r.Factor, o.Factor),
		cmp.Compare(r.Offset, o.Offset), cmp.Compare(end(r.Raw), end(o.Raw)), cmp.Compare(r.Convert, o.Convert))
}
