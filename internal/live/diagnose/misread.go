package diagnose

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose/weigh"
)

// leastCertain is how certain an explanation must be to be said.
const leastCertain = 0.5

// misread makes findings of what explains the values of stations.
func (f *finder) misread(list []weigh.Explanation, points []Point) {
	swaps := swapping(points)
	for _, e := range list {
		if e.Certainty < leastCertain || f.covered[e.Points[0].Point.Station] ||
			slices.ContainsFunc(e.Points, func(s *weigh.Signal) bool { return swaps[s.Point.Tag] }) {
			continue
		}
		points := slices.Clone(e.Points)
		slices.SortFunc(points, func(a, b *weigh.Signal) int { return strings.Compare(a.Point.Tag, b.Point.Tag) })
		kind, subject := site.KindPoint, points[0].Point.Tag
		if len(points) > 1 {
			kind, subject = site.KindStation, points[0].Point.Station
		}
		var evidence []string
		for _, s := range points {
			evidence = append(evidence, seenOf(s, e.Reading, len(points) > 1))
		}
		evidence = abridged(evidence)
		for _, doubt := range doubts(e.Points[0], e.Why) {
			if len(points) > 1 {
				doubt = e.Points[0].Point.Tag + ": " + doubt
			}
			evidence = append(evidence, doubt)
		}
		next := mend(points, e.Reading)
		if shift := (weigh.Reading{By: e.Reading.By}); e.Reading == shift && shift.By != 0 && len(points) > 1 {
			evidence = append(evidence, f.takeAlong(points[0].Point.Station, shift.By, len(points), &next[0])...)
		}
		if e.RunnerUp != nil {
			for _, step := range mend(points, *e.RunnerUp) {
				step.Text = "or " + step.Text
				next = append(next, step)
			}
			evidence = append(evidence, fmt.Sprintf("nearly as likely: %s (%.0f %%, beside %.0f %%)", *e.RunnerUp, 100*e.Second, 100*e.Share))
		}
		code, cause, say := verdict(points, e.Reading)
		f.add(kind, subject, code, math.Floor(100*e.Certainty)/100, cause, evidence, append(next, say...)...)
		f.list[len(f.list)-1].Drawn = drawn(points, e.Reading)
		for _, s := range points {
			f.misreads[s.Point.Tag] = true
		}
	}
}

// takeAlong adds to a step that shifts the addresses of so many points of a station those that the device refuses and has as far beside. Where that is all
// it refuses, the finding of that gives way to this one.
func (f *finder) takeAlong(station string, by, points int, step *Step) (evidence []string) {
	var refusals []Refusal
	for _, of := range f.stations {
		for _, s := range of {
			if s.Station.Name == station {
				refusals = s.Refused
			}
		}
	}
	rest := 0
	for _, r := range refusals {
		if !slices.Contains(r.Beside(), by) {
			rest++
			continue
		}
		for _, p := range r.Points {
			to := p.Address
			to.Offset = uint16(int(to.Offset) + by)
			points++
			step.Changes = append(step.Changes, Change{site.KindPoint, p.Tag, map[string]any{"address": to.String()}})
			evidence = append(evidence, fmt.Sprintf("%s has no value: %s is refused, and %s answers", p.Tag, p.Address, to))
		}
	}
	if len(evidence) == 0 {
		return nil
	}
	step.Text = fmt.Sprintf("set %s, on all %d points", weigh.Reading{By: by}, points)
	if rest == 0 {
		f.list = slices.DeleteFunc(f.list, func(x Finding) bool { return x.Code == AddressRefused && x.Subject == station })
	}
	return abridged(evidence)
}

// swapping are the points whose words change places, which no reading mends.
func swapping(points []Point) map[string]bool {
	swaps := map[string]bool{}
	for _, p := range points {
		if p.Swaps > 0 {
			swaps[p.Point.Tag] = true
		}
	}
	return swaps
}

// mostDrawn are as many values of a finding as are drawn.
const mostDrawn = 3

func drawn(points []*weigh.Signal, r weigh.Reading) (list []Drawing) {
	for _, s := range points[:min(len(points), mostDrawn)] {
		d := Drawing{Tag: s.Point.Tag, Unit: s.Point.Unit, Secs: s.Moments(), Shows: s.Values(weigh.Reading{})}
		if r.Kind() != weigh.Odd && s.Whole(r) {
			d.Would = s.Values(r)
		}
		list = append(list, d)
	}
	return list
}

// verdict is the finding of a mistake.
func verdict(points []*weigh.Signal, r weigh.Reading) (Code, Cause, []Step) {
	s, n := points[0], len(points)
	lens := say("open the lens of the point and pick the value that is right")
	either := func(one, several string, with ...any) Cause {
		if n > 1 {
			return because(several, append(with, "points", n)...)
		}
		return because(one, with...)
	}
	switch r.Kind() {
	case weigh.Order:
		return WordOrder, either("word-order", "word-order-of-several", "order", r.Order), []Step{lens}
	case weigh.Address:
		return AddressShifted, either("address-shifted", "addresses-shifted", "by", apart(r.By)),
			[]Step{say("compare the addresses with the manual: does it count from 0 or from 1? The notation of the station says how they are written")}
	case weigh.Type:
		if r.SignBit {
			return TypeDiffers, either("sign-and-magnitude", "signs-and-magnitudes"), []Step{
				say("see whether the device can be set to two's complement, which most have"),
				say("no type here reads sign and magnitude: where the value is never below zero, uint16 is right; else read the sign beside it, as a bool at bit 15 of the register"), lens}
		}
		return TypeDiffers, either("type-differs", "types-differ", "is", r.Type, "read", s.Point.Type), []Step{lens}
	case weigh.Scale:
		return ScalingDiffers, either("scaling-differs", "scalings-differ"), []Step{say("compare with the device's own display, and with the manual's raw range")}
	}
	return ValueOdd, either("value-odd", "values-odd"),
		[]Step{say("compare address and type with the manual: one address off, a value begins in the middle of another"),
			say("open the lens: does another type give what the device shows?"),
			say("the device may give such a value for what is not connected or not measured")}
}

// apart says by how many registers an address is off.
func apart(by int) string {
	if by == 1 || by == -1 {
		return "one register"
	}
	return fmt.Sprintf("%d registers", max(by, -by))
}

// seenOf is what a point shows, and would show.
func seenOf(s *weigh.Signal, r weigh.Reading, among bool) string {
	text := "it shows " + shown(s, weigh.Reading{})
	if among {
		text = s.Point.Tag + " shows " + shown(s, weigh.Reading{})
	}
	if r.Kind() != weigh.Odd {
		text += ", and would show "
		if !s.Whole(r) { // its lower half was not read
			text += "about "
		}
		text += shown(s, r)
	}
	return text
}

// shown is the newest value under a reading.
func shown(s *weigh.Signal, r weigh.Reading) string {
	if text := s.Text(r); text != "" {
		return strconv.Quote(text)
	}
	v := s.Values(r)
	if len(v) == 0 || math.IsNaN(v[len(v)-1]) {
		return "no value"
	}
	last, text := v[len(v)-1], ""
	switch d := s.Point.Decimals; {
	case last != 0 && (math.Abs(last) >= 1e10 || math.Abs(last) < 1e-4):
		text = strconv.FormatFloat(last, 'g', 3, 64)
	case d != nil && math.Abs(last) >= 0.5*math.Pow10(-*d):
		text = strconv.FormatFloat(last, 'f', *d, 64)
	default:
		text = strconv.FormatFloat(last, 'g', 6, 64)
		if f, err := strconv.ParseFloat(text, 64); err == nil {
			text = strconv.FormatFloat(f, 'f', -1, 64)
		}
	}
	return strings.TrimSpace(text + " " + s.Point.Unit)
}

// failing makes findings of values that fail whatever their reading is.
func (f *finder) failing(list []weigh.Fault, points []Point) {
	swaps, begin, stations := swapping(points), len(f.list), make(map[string]string, len(list))
	for _, x := range list {
		if p := x.Point.Point; !f.covered[p.Station] && !swaps[p.Tag] && !f.misreads[p.Tag] { // which rather comes of that
			stations[p.Tag] = p.Station
			f.fails(x)
		}
	}
	f.gather(begin, stations)
}

// fails makes the finding of one value.
func (f *finder) fails(x weigh.Fault) {
	tag, station := x.Point.Point.Tag, x.Point.Point.Station
	now := shown(x.Point, weigh.Reading{})
	switch x.Failing {
	case weigh.CounterFell:
		f.add(site.KindPoint, tag, CounterFellBack, 0.8, because("counter-fell", "before", plain(x.Before), "after", plain(x.After)),
			[]string{fmt.Sprintf("it counts in %s, and fell from %s to %s; it shows %s", x.Point.Point.Unit, plain(x.Before), plain(x.After), now)},
			say("see whether the device was restarted or its counter reset"), say("if it falls again and again: two devices may answer for one, or the counter is one of a period"))
	case weigh.IsClock:
		f.add(site.KindPoint, tag, ClockAsValue, 0.85, because("clock-as-value", "unit", x.Point.Point.Unit), []string{"it shows " + now + ", and goes on by one each second"},
			say("compare its address with the manual: it reads a clock or a counter of seconds"))
	case weigh.Stands:
		certainty := min(0.5+0.05*float64(x.Seconds)/60, 0.8)
		f.add(site.KindPoint, tag, ValueStands, math.Floor(100*certainty)/100, because("value-stands", "shown", now),
			[]string{fmt.Sprintf("it has shown %s for %s, since it was read first, while all others of its kind on the station move", now, time.Duration(x.Seconds)*time.Second)},
			say("compare with the device's own display"), say("see whether its sensor is connected, or the channel is in simulation"), say("compare its address with the manual: it may be that of a setting or a limit"))
	case weigh.Twin:
		f.add(site.KindPoint, tag, MovesAlike, 0.65, because("moves-alike", "other", x.Other),
			[]string{fmt.Sprintf("%s at %s has had the same values at all moments, and they moved", x.Other, x.Point.Point.Address)},
			say("compare both addresses with the manual"), say("see whether both sensors are connected, each to its own input"))
	case weigh.Saturated:
		f.add(site.KindPoint, tag, ValueSaturated, 0.6, because("value-saturated", "shown", now, "seconds", x.Seconds), []string{"it moved before, and shows " + now + " at every look"},
			say("compare with another measurement: is it beyond what the sensor can show?"), say("see whether the sensor or its input is in simulation, or short-circuited"),
			say("compare the end of its range with that of the device: a range that is too small there ends too early"))
	case weigh.Broken:
		raw := x.Point.Point.Scaling.Raw
		at := x.Point.Values(weigh.Reading{Raw: &[2]float64{0, 1}}) // whose ends are those of the range
		lo, hi := x.Point.Point.Scaling.Eng[0], x.Point.Point.Scaling.Eng[1]
		f.add(site.KindPoint, tag, BelowLiveZero, 0.8, because("below-live-zero", "raw", plain(math.Round((at[len(at)-1]-lo)/(hi-lo))), "zero", plain(raw[0])), []string{"it shows " + now + ", all the time"},
			say("measure the current of the loop"), say("look at the wires, the fuse and the supply of the transmitter"),
			say("compare the raw range with the manual: does it begin at zero?"))
	case weigh.Spiking:
		f.add(site.KindPoint, tag, ValueSpikes, 0.65, because("value-spikes"), []string{fmt.Sprintf("%d times or more within %d s, the last time about %s; it shows %s", x.Times, x.Seconds, strings.TrimSpace(plain(x.Shown)+" "+x.Point.Point.Unit), now)},
			say("look at the wiring and the screen of the sensor: a loose contact, or interference"), say("see whether something else writes to its register"),
			say("see in the manual whether such a value is a code for no value, and give it in invalid"))
	case weigh.BitsTurned, weigh.BytesTurned:
		f.turned(x)
	case weigh.NoNumber:
		f.add(site.KindPoint, tag, NoNumber, 0.75, because("not-a-number"), []string{"at every look its registers held not a number (NaN), which devices give for a value that they do not have"},
			say("see whether its sensor is connected and its channel in use"), say("compare with the device's own display"),
			say("compare its address and byte order with the manual"))
	case weigh.Shared:
		var steps []Step
		for _, free := range x.Free {
			r := weigh.Reading{By: free.By}
			s := free.Point
			steps = append(steps, set(fmt.Sprintf("set %s on %s, where it would show %s", r.On(s), s.Point.Tag, shown(s, r)), site.KindPoint, s.Point.Tag, fieldsOf(s, r)))
		}
		f.add(site.KindPoint, tag, AddressDoubled, 0.7, because("address-shared", "address", x.Point.Point.Address.String(), "other", x.Other),
			[]string{fmt.Sprintf("%s and %s both read %s of station %s, with the same type and scaling and in different units; it shows %s", x.Other, tag, x.Point.Point.Address, station, now)},
			append(steps, say("compare both addresses with the manual"))...)
	case weigh.Doubled:
		f.add(site.KindPoint, tag, AddressDoubled, 0.7, because("address-doubled", "address", x.Point.Point.Address.String(), "other", x.Other),
			[]string{fmt.Sprintf("%s and %s both read %s of station %s", x.Other, tag, x.Point.Point.Address, station)},
			say("compare both addresses with the manual: one was copied and not changed"))
	}
}

// turned makes the finding of bits that are numbered otherwise.
func (f *finder) turned(x weigh.Fault) {
	move := func(text string, to func(bit int) int) Step {
		step := Step{Text: text}
		for _, s := range x.Among {
			if bit, ok := s.Point.Address.Part.Bit(); ok {
				a := s.Point.Address
				a.Part = site.Bit(to(bit))
				step.Changes = append(step.Changes, Change{site.KindPoint, s.Point.Tag, map[string]any{"address": a.String()}})
			}
		}
		return step
	}
	mirror := move(fmt.Sprintf("count the bits of these %d points from the other end: bit 0 becomes bit 15", len(x.Among)), func(bit int) int { return 15 - bit })
	swap := move(fmt.Sprintf("take the bits of these %d points from the other byte: bit 0 becomes bit 8", len(x.Among)), func(bit int) int { return bit ^ 8 })
	evidence := []string{fmt.Sprintf("%d bits of these registers are set at times, and none of them is a point's; those that would be with the other numbering all are", x.Times)}
	certainty, sentence, steps := 0.75, "bits-turned", []Step{mirror}
	switch {
	case x.Failing == weigh.BytesTurned:
		sentence, steps = "bytes-turned", []Step{swap}
	case x.Other != "":
		certainty, evidence = 0.55, append(evidence, "nearly as likely: the bytes are swapped")
		swap.Text = "or " + swap.Text
		steps = append(steps, swap)
	}
	f.add(site.KindStation, x.Point.Point.Station, BitsTurned, certainty, because(sentence), evidence, append(steps, say("see in the manual whether bit 0 is the least or the most significant"))...)
}

// doubts is what speaks against the value of a point as it is.
func doubts(s *weigh.Signal, why weigh.Fit) (list []string) {
	const telling = 0.75
	if why.None < -telling {
		list = append(list, fmt.Sprintf("at times its registers are no %s", s.Point.Type))
	}
	if why.Magnitude < -telling {
		switch r := s.Point.Range; {
		case r != nil:
			list = append(list, fmt.Sprintf("its range is %s to %s", plain(r[0]), strings.TrimSpace(plain(r[1])+" "+s.Point.Unit)))
		case s.Point.Scaling.Eng != nil:
			e := s.Point.Scaling.Eng
			list = append(list, fmt.Sprintf("its scaling ends at %s and %s", plain(e[0]), strings.TrimSpace(plain(e[1])+" "+s.Point.Unit)))
		case s.Expect.Weight > 0:
			list = append(list, fmt.Sprintf("values in %s are usually from %s to %s", s.Point.Unit, plain(s.Expect.Usual[0]), plain(s.Expect.Usual[1])))
		default:
			list = append(list, "a plant hardly has such a magnitude")
		}
	}
	if why.Motion < -telling {
		list = append(list, "from look to look it moves by much of what it can be")
	}
	if why.Jumps < -telling {
		list = append(list, "it jumps by about all that its type holds")
	}
	if why.Digits < -telling {
		list = append(list, "its digits tell: "+digits(s))
	}
	return list
}

// digits says what the registers of a whole number tell by their digits.
func digits(s *weigh.Signal) string {
	last := s.Area.Words[len(s.Area.Words)-1][s.At]
	return fmt.Sprintf("0x%04X at last; they move as those of another type or order do", last)
}

func plain(f float64) string { return strconv.FormatFloat(f, 'g', -1, 64) }

// mend are the steps to a reading.
func mend(points []*weigh.Signal, r weigh.Reading) []Step {
	if r.Kind() == weigh.Odd || r.SignBit {
		return nil
	}
	inherited := r.Kind() == weigh.Order && !slices.ContainsFunc(points, func(s *weigh.Signal) bool { return !s.Inherits })
	if inherited && len(points) > 1 {
		name := points[0].Point.Station
		return []Step{set(fmt.Sprintf("set order: %s of the station, which these points have from it", r.Order), site.KindStation, name, map[string]any{"order": string(r.Order)})}
	}
	var all []Change
	for _, s := range points {
		all = append(all, Change{site.KindPoint, s.Point.Tag, fieldsOf(s, r)})
	}
	step := Step{Text: fmt.Sprintf("set %s", r.On(points[0])), Changes: all}
	if len(points) > 1 {
		step.Text = fmt.Sprintf("set %s, on all %d points", r, len(points))
	}
	return []Step{step}
}

// fieldsOf are the settings of a point that give a reading.
func fieldsOf(s *weigh.Signal, r weigh.Reading) map[string]any {
	fields := map[string]any{}
	if r.Type != "" {
		fields["type"] = string(r.Type)
	}
	if s.Point.Length != 0 && r.Type != "" && r.Length == 0 {
		fields["length"] = nil
	}
	if r.Length != 0 {
		fields["length"] = r.Length
		if s.Point.Range != nil {
			fields["range"] = nil
		}
		if !s.Point.Scaling.IsZero() {
			fields["scaling"] = nil
		}
	}
	if r.Order != "" {
		fields["order"] = string(r.Order)
	}
	if r.By != 0 {
		a := s.Point.Address
		a.Offset = uint16(int(a.Offset) + r.By)
		fields["address"] = a.String()
	}
	if scaling := r.Scaling(s); scaling != nil {
		fields["scaling"] = scaling
	}
	return fields
}

// someOf is how many of many alike are said one by one.
const someOf = 6

func abridged(list []string) []string {
	if len(list) <= someOf {
		return list
	}
	return append(slices.Clip(list[:someOf]), fmt.Sprintf("and %d more", len(list)-someOf))
}
