package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
)

// byProtocol is who finds what is wrong with a station, by its protocol; true when that explains what is wrong at its points.
var byProtocol = map[site.Protocol]func(f *finder, l Link, s Station, links []Link, all []Station) bool{
	site.Modbus: (*finder).unit,
	site.DNP3:   func(f *finder, l Link, s Station, _ []Link, _ []Station) bool { return f.outstation(l, s) },
}

// unit finds what is wrong with a Modbus station.
func (f *finder) unit(l Link, s Station, links []Link, all []Station) bool {
	name, c, now := s.Station.Name, s.Counts, s.Since
	add := func(code Code, certainty float64, cause Cause, evidence []string, next ...Step) {
		f.add(site.KindStation, name, code, certainty, cause, evidence, next...)
	}
	if n, ok := s.Notes[NoteWriteFunction]; ok {
		step, why := otherWrite(s.Station, int(n.Number))
		add(FunctionRefused, 0.95, because("write-function-refused", "function", int(n.Number), "name", modbus.Function(int(n.Number)).Name(), "why", why),
			[]string{n.Text}, step, say("see in the manual which functions the device has"))
	}
	if n, ok := s.Notes[NoteLongest]; ok {
		field := "max_registers"
		if n.Of == "bits" {
			field = "max_bits"
		}
		add(LengthLimit, 0.9, because("length-limit", "longest", int(n.Number), "what", n.Of), []string{n.Text},
			set(fmt.Sprintf("ask for no more at once: %s: %d", field, int(n.Number)), site.KindStation, name, map[string]any{field: int(n.Number)}),
			say("look in the manual how much the device gives at once, or see whether a gateway between has a short buffer"))
	}
	late := s.late()
	switch {
	case s.OtherUnit >= 0 && now.Foreign >= enough && now.Answers == 0:
		f.otherUnit(l, s)
		return true
	case now.Foreign >= enough && now.Answers == 0 && l.Link.Framing == site.MBAP:
		add(IdentifierIgnored, 0.85, because("identifier-ignored"),
			[]string{fmt.Sprintf("%d answers belonged to no request", now.Foreign), s.Reason},
			say("see whether two programs share the connection through a gateway that mixes them up"), say("ask the maker for a newer firmware: the identifier must be given back (TCP 4.4.1)"),
			say("if its gateway passes serial frames through, use framing rtu"))
		return true
	case late > 0 && f.slow[l.Link.Name]:
		return now.Answers == 0 && s.Silent // the link's finding says it
	case late > 0:
		f.late(l, s)
		return now.Answers == 0 && s.Silent
	case s.Silent && now.Checksums >= enough && now.Checksums >= now.Timeouts && l.Link.Framing != site.MBAP:
		add(UnitDamaged, 0.8, because("unit-damaged", "unit", s.Station.Unit), []string{fmt.Sprintf("%d of its responses were damaged, none good", now.Checksums)}, damagedSteps(s)...)
		return true
	case c.Stray < enough && s.Answering && c.Checksums >= enough && c.Checksums*50 >= c.Answers && !f.masters[l.Link.Name] && f.alone(l, s):
		add(UnitDamaged, 0.75, because("unit-damaged-some", "unit", s.Station.Unit),
			[]string{fmt.Sprintf("%d of %d responses within a minute were damaged, none of its neighbours'", c.Checksums, c.Checksums+c.Answers)}, damagedSteps(s)...)
		return false
	case c.Stray >= enough && !f.masters[l.Link.Name]:
		evidence := []string{fmt.Sprintf("%d responses within a minute were followed by another though nothing was asked", c.Stray)}
		cause := because("unit-twice", "unit", s.Station.Unit)
		if !l.Link.Transport.UsesSerialPort() {
			cause = because("unit-twice-behind", "unit", s.Station.Unit)
		}
		add(UnitTwice, 0.85, cause, evidence,
			say("disconnect the device with this name; if unit "+fmt.Sprint(s.Station.Unit)+" still answers, there is the other"),
			say("look for a new device that still has its factory unit, often 1"), say("if there is only one, look at its wiring: a long stub or a loose contact"))
		return false
	case s.Short >= enough && s.Notes[NoteLongest].Text == "":
		step := set("ask for fewer registers at once: max_registers: 60", site.KindStation, name, map[string]any{"max_registers": 60})
		if limit, _, _ := s.Station.ReadLimits(); limit <= 60 {
			step = set(fmt.Sprintf("ask for fewer registers at once: max_registers: %d", max(1, limit/2)), site.KindStation, name, map[string]any{"max_registers": max(1, limit/2)})
		}
		add(ShortResponse, 0.85, because("short-response"),
			[]string{fmt.Sprintf("%d responses were too short", s.Short), s.Reason}, step,
			say("read less in a row: gap: 0 keeps requests to what is wanted"))
		return true
	}
	if f.exceptions(l, s) {
		return false
	}
	switch {
	case s.Silent && now.Answers == 0 && now.Malformed >= enough && now.Malformed >= now.Timeouts:
		f.malformed(s, 0.85, because("responses-invalid"), fmt.Sprintf("%d responses since the last good one", now.Malformed), s.Reason)
		return true
	case s.Silent && l.Up && now.Answers == 0 && now.Timeouts >= enough:
		f.silent(l, s, links, all)
		return true
	case s.Answering:
		f.partly(l, s)
	}
	return false
}

// damagedSteps are for a station whose frames alone are damaged.
func damagedSteps(s Station) []Step {
	return []Step{do("see the frames", Wrong, s.Station.Name), say("compare its baud, parity and stop bits with its neighbours'"),
		say("look at its wiring: a long stub, a loose contact, its end of the screen"), say("try another transceiver, or another device, in its place"),
		say(fmt.Sprintf("disconnect it; if something still answers as unit %d, there are two of them, which damage each other's frames", s.Station.Unit))}
}

// otherWrite is the step to another way to write than with a function that the device does not have, and what that function is for.
func otherWrite(s site.Station, function int) (step Step, why string) {
	change := func(text, field string, value any) Step {
		return set(text, site.KindStation, s.Name, map[string]any{field: value})
	}
	switch modbus.Function(function) {
	case modbus.MaskWriteRegister:
		return change("set partial_write: rewrite, so that the register is read, changed and written back; what the device changes in between is lost", "partial_write", site.PartialRewrite),
			"one bit or byte of a register is written with it"
	case modbus.WriteSingleRegister, modbus.WriteSingleCoil:
		return change("set write_function: multiple, so that functions 15 and 16 write single addresses, too", "write_function", site.WriteMultiple), "single addresses are written with it"
	case modbus.ReadWriteMultipleRegisters:
		return change("set read_write: false, so that a write and its reading back are two requests", "read_write", false), "registers are written and read back with it"
	}
	return change("set write_function: single, so that functions 5 and 6 write; values of one address alone can be written then", "write_function", site.WriteSingle), "several addresses are written with it"
}

// late is how many responses came late, 0 when they are too few to mean something, or too few of many.
func (s Station) late() int {
	n, _ := seen(s.Counts.Late, s.Since.Late)
	if n < enough || s.Answering && n*20 < s.Counts.Requests {
		return 0
	}
	return n
}

// often reports whether so many of the requests of the last minute mean something.
func (c Counts) often(n int) bool { return n >= enough && n*20 >= c.Requests }

// partly finds what is wrong with a station that answers.
func (f *finder) partly(l Link, s Station) {
	name, c := s.Station.Name, s.Counts
	extra := c.Damaged - c.Checksums - c.Malformed // frames beside those that should have been answers
	switch {
	case c.often(c.Malformed) && s.Notes[NoteLongest].Text == "":
		f.malformed(s, 0.75, because("some-responses-invalid"), fmt.Sprintf("%d of %d requests within a minute", c.Malformed, c.Requests))
	case extra >= enough:
		f.add(site.KindStation, name, ExtraBytes, 0.8, because("extra-bytes"),
			[]string{fmt.Sprintf("%d times within a minute", extra)},
			do("see the bytes", Wrong, name), extraStep(l), say("ask the maker for a newer firmware"))
	case c.often(c.Timeouts) && s.Rest > time.Duration(l.Link.Pause):
		pause := site.Duration((s.Rest + 9*time.Millisecond).Truncate(10 * time.Millisecond))
		f.add(site.KindStation, name, PauseShort, 0.85, because("pause-short", "pause", pause),
			[]string{fmt.Sprintf("%d of %d requests within a minute stayed without a response", c.Timeouts, c.Requests), fmt.Sprintf("all that came %s or more after a response were answered; those that got no response came sooner", s.Rest.Round(time.Millisecond))},
			set(fmt.Sprintf("set the pause of link %s to %s", l.Link.Name, pause), site.KindLink, l.Link.Name, map[string]any{"pause": pause.String()}),
			say("look in the manual for the least time between two requests; a gateway may have a setting for it"))
	case c.often(c.Timeouts) && !f.noisy[l.Link.Name] && s.Notes[NoteLongest].Text == "":
		f.add(site.KindStation, name, AnswersMissing, 0.7, because("answers-missing"),
			[]string{fmt.Sprintf("%d of %d requests within a minute", c.Timeouts, c.Requests), fmt.Sprintf("responses take %s at the median", s.Median.Round(100*time.Microsecond))},
			say("ask less often, or less at once: a busy device leaves out what it has no time for (poll, max_registers)"),
			say("see who else asks it: another master, another program on its gateway"),
			say("look for what loses them: a weak radio link, a worn cable, a gateway with a short queue"))
	}
}

func extraStep(l Link) Step {
	if l.Link.Framing == site.MBAP {
		return say("see whether a gateway between adds them, such as the checksum of its serial side: another mode of it may not")
	}
	return say("a line that floats when its direction changes gives such bytes: look for bias resistors, and for an adapter that switches in time")
}

// malformed makes the finding of responses that are none.
func (f *finder) malformed(s Station, certainty float64, cause Cause, evidence ...string) {
	f.add(site.KindStation, s.Station.Name, AnswersMalformed, certainty, cause, evidence,
		do("see the frames", Wrong, s.Station.Name),
		set("ask for less at once, which some devices handle better: max_registers: 16", site.KindStation, s.Station.Name, map[string]any{"max_registers": 16}),
		say("see whether a gateway between cuts or mixes responses: ask the device without it"), say("ask the maker for a newer firmware"))
}

// alone reports whether others on its line have no damaged frames.
func (f *finder) alone(l Link, s Station) bool {
	for _, other := range f.stations[l.Link.Name] {
		if other.Station.Name != s.Station.Name && other.Counts.Answers >= enough {
			return l.Counts.Checksums == s.Counts.Checksums
		}
	}
	return false
}

func (f *finder) otherUnit(l Link, s Station) {
	evidence := []string{fmt.Sprintf("unit %d was asked %d times, and unit %d answered", s.Station.Unit, s.Since.Requests, s.OtherUnit)}
	if other := f.units[l.Link.Name][s.OtherUnit]; other != "" {
		f.add(site.KindStation, s.Station.Name, UnitOfAnother, 0.85, because("unit-of-another", "other", s.OtherUnit, "unit", s.Station.Unit, "station", other), evidence,
			say(fmt.Sprintf("see whether %s and %s are one device, entered twice; remove one", s.Station.Name, other)),
			say("see whether two devices on the line have the same unit"))
		return
	}
	f.add(site.KindStation, s.Station.Name, OtherUnit, 0.9, because("other-unit", "other", s.OtherUnit, "unit", s.Station.Unit), evidence,
		set(fmt.Sprintf("set unit: %d", s.OtherUnit), site.KindStation, s.Station.Name, map[string]any{"unit": s.OtherUnit}),
		say(fmt.Sprintf("or give the device the unit %d", s.Station.Unit)))
}

func (f *finder) late(l Link, s Station) {
	evidence, next := lateness(l, s)
	cause := because("timeout-short", "timeout", l.Link.Timeout)
	if (l.Link.Framing == site.RTU || l.Link.Framing == site.ASCII) && s.Answering {
		cause = because("timeout-short-waited", "timeout", l.Link.Timeout)
	}
	f.add(site.KindStation, s.Station.Name, TimeoutShort, 0.9, cause, []string{evidence}, next...)
}

// lateness says how late responses were, and what timeout would do.
func lateness(l Link, s Station) (evidence string, next []Step) {
	n, when := seen(s.Counts.Late, s.Since.Late)
	would := (2*s.Slowest + 99*time.Millisecond).Truncate(100 * time.Millisecond)
	evidence = fmt.Sprintf("%d responses came late %s, the slowest after %s", n, when, s.Slowest.Round(time.Millisecond))
	if s.Slowest == 0 {
		would, evidence = 4*time.Duration(l.Link.Timeout), fmt.Sprintf("%d responses came late %s", n, when)
	}
	would = min(max(would, 2*time.Duration(l.Link.Timeout)), time.Minute)
	return evidence, []Step{
		set(fmt.Sprintf("set the timeout of link %s to %s", l.Link.Name, site.Duration(would)), site.KindLink, l.Link.Name, map[string]any{"timeout": site.Duration(would).String()}),
		say("see why it is slow: a gateway with a queue, a radio link, a device that is asked by others, too"),
	}
}

// strangers are the units that a scan or probe found on a link and no station of it has.
func (f *finder) strangers(l Link) (list []int) {
	for _, u := range l.Found {
		if f.units[l.Link.Name][u] == "" {
			list = append(list, u)
		}
	}
	return list
}

// foundText says what a scan or probe found on a link, and when.
func (l Link) foundText(what string) string {
	return fmt.Sprintf("%s ago a scan or probe was answered by %s", l.FoundAgo.Round(time.Second), enumerated(what, l.Found))
}

// enumerated names units: unit 3, units 3, 4 and 7.
func enumerated(what string, list []int) string {
	texts := make([]string, len(list))
	for i, n := range list {
		texts[i] = fmt.Sprint(n)
	}
	if len(list) == 1 {
		return what + " " + texts[0]
	}
	return what + "s " + strings.Join(texts[:len(texts)-1], ", ") + " and " + texts[len(texts)-1]
}

// silent finds what a station that does not answer may suffer from.
func (f *finder) silent(l Link, s Station, links []Link, all []Station) {
	evidence := []string{fmt.Sprintf("%d requests, no response", s.Since.Requests)}
	// The same device, entered on two links to one place.
	for _, other := range links {
		if other.Link.Name == l.Link.Name || l.Link.Transport.UsesSerialPort() || other.Link.FarEnd() != l.Link.FarEnd() {
			continue
		}
		if twin := f.units[other.Link.Name][s.Station.Unit]; twin != "" && answering(all, twin) {
			f.add(site.KindStation, s.Station.Name, UnitOfAnother, 0.7, because("unit-configured-twice", "unit", s.Station.Unit, "place", l.Link.FarEnd(), "station", twin), evidence,
				say("put both on one link, or remove one: many devices serve one connection at a time"))
			return
		}
	}
	neighbours := 0
	for _, other := range f.stations[l.Link.Name] {
		if other.Answering {
			neighbours++
		}
	}
	unit, place, certainty := s.Station.Unit, l.Link.FarEnd(), 0.7
	cause := because("unit-silent-at", "place", place, "unit", unit)
	onPort := l.Link.Transport.UsesSerialPort() || l.Link.Transport == site.UDP && neighbours > 0 // where nothing takes connections
	switch {
	case neighbours > 1 && onPort:
		cause = because("unit-silent-among", "unit", unit, "others", neighbours)
	case neighbours > 1:
		cause = because("unit-silent-at-among", "place", place, "unit", unit, "others", neighbours)
	case neighbours == 1 && onPort:
		cause = because("unit-silent-beside", "unit", unit)
	case neighbours == 1:
		cause = because("unit-silent-at-beside", "place", place, "unit", unit)
	case onPort:
		cause = because("unit-silent", "unit", unit)
	case l.Link.Transport == site.UDP:
		cause = because("unit-silent-by-datagrams", "place", place, "unit", unit)
	}
	if neighbours > 0 {
		certainty = 0.85
		evidence = append(evidence, "so the line and its settings are good: others answer over it")
	}
	var next []Step
	if found := f.strangers(l); len(found) > 0 {
		if neighbours == 0 {
			certainty = 0.85
		} else {
			certainty = 0.75 // it may be somebody else's
		}
		cause = because("unit-silent-found", "unit", unit, "found", enumerated("unit", found))
		evidence, next = append(evidence, l.foundText("unit")), f.unitsFound(l, s)
	} else if len(l.Found) > 0 {
		evidence = append(evidence, l.foundText("unit"))
	}
	next = append(next, say("check the device's power and its unit"), do("let the units be found", Scan, l.Link.Name))
	if l.Link.Transport == site.TCP && l.Link.Framing == site.MBAP && neighbours == 0 {
		for _, usual := range []int{255, 1} {
			if other := f.units[l.Link.Name][usual]; unit != usual && other == "" && !slices.Contains(l.Found, usual) {
				next = append(next, set(fmt.Sprintf("a device that is itself on the network often wants unit 255 or 1: set unit: %d", usual), site.KindStation, s.Station.Name, map[string]any{"unit": usual}))
			}
		}
		next = append(next, say("behind a gateway, use the unit of the device on its serial side"), say("a gateway that passes bytes through needs framing rtu"))
	}
	f.add(site.KindStation, s.Station.Name, UnitSilent, certainty, cause, evidence, next...)
}

// unitsFound are the steps to units that answered and that no station has.
func (f *finder) unitsFound(l Link, s Station) (steps []Step) {
	found := f.strangers(l)
	for _, u := range found[:min(len(found), someOf)] {
		steps = append(steps, set(fmt.Sprintf("set unit: %d, which answered", u), site.KindStation, s.Station.Name, map[string]any{"unit": u}))
	}
	return steps
}

func answering(all []Station, name string) bool {
	for _, s := range all {
		if s.Station.Name == name {
			return s.Answering
		}
	}
	return false
}

// exceptions finds what refusals mean; true when there was one to find.
func (f *finder) exceptions(l Link, s Station) bool {
	name, c := s.Station.Name, s.Counts
	add := func(code Code, certainty float64, cause Cause, evidence []string, next ...Step) {
		f.add(site.KindStation, name, code, certainty, cause, evidence, next...)
	}
	of := func(code int) (int, string) { return seen(c.Exceptions[code], s.Since.Exceptions[code]) }
	target, targetWhen := of(11)
	path, pathWhen := of(10)
	switch {
	case target+path >= enough && len(f.strangers(l)) > 0:
		code := GatewayTarget
		if path > target {
			code = GatewayPath
		}
		add(code, 0.9, because("gateway-unit-found", "unit", s.Station.Unit, "found", enumerated("unit", f.strangers(l))),
			[]string{fmt.Sprintf("%d times exception %d %s", max(target, path), map[Code]int{GatewayTarget: 11, GatewayPath: 10}[code], cmp.Or(targetWhen, pathWhen)), l.foundText("unit")},
			append(f.unitsFound(l, s), say("check the device's power, its unit, and the line between gateway and device"))...)
		return true
	case target >= enough:
		add(GatewayTarget, 0.9, because("gateway-target", "unit", s.Station.Unit),
			[]string{fmt.Sprintf("%d times exception 11 (gateway target device failed to respond) %s", target, targetWhen)},
			say("check the device's power, its unit, and the line between gateway and device"), say("compare baud and parity of the gateway's serial side with the device"),
			say("lengthen the gateway's own timeout, if the device is slow"))
		return true
	case path >= enough:
		add(GatewayPath, 0.9, because("gateway-path", "unit", s.Station.Unit),
			[]string{fmt.Sprintf("%d times exception 10 (gateway path unavailable) %s", path, pathWhen)},
			say("enter the unit in the gateway's routing table"), say("check that the gateway's serial port is switched on and not busy with another master"))
		return true
	case c.Exceptions[4] >= enough:
		add(DeviceFailure, 0.8, because("device-failure"),
			[]string{fmt.Sprintf("%d times exception 4 (server device failure) within a minute", c.Exceptions[4])},
			say("look at the device's own display for a fault"), say("read less at once: some devices fail where they should refuse"))
		return true
	}
	busy, unknown := c.Exceptions[5]+c.Exceptions[6], c.Exceptions[0]+c.Exceptions[7]+c.Exceptions[8]+c.Exceptions[9]
	switch {
	case c.often(busy):
		add(DeviceBusy, 0.85, because("device-busy"),
			[]string{fmt.Sprintf("%d of %d requests within a minute were put off with exception 5 or 6", busy, c.Requests)},
			say("ask less often: a longer poll"), say("see who else asks it, and whether a long command, such as an upload, is under way"))
		return true
	case c.often(unknown):
		add(ExceptionUnknown, 0.8, because("exception-unknown"),
			[]string{fmt.Sprintf("%d of %d requests within a minute; the points show the code", unknown, c.Requests)},
			say("look for the code in the device's manual: makers use their own for a password that is missing, or for a module that is out"),
			do("see whether it answers for other addresses", Probe, name))
		return true
	}
	if s.Instead != "" {
		f.interchanged(l, s)
		return true
	}
	found := false
	for _, code := range []int{1, 2, 3} {
		var list []Refusal
		for _, r := range s.Refused {
			if r.Code == code {
				list = append(list, r)
			}
		}
		if len(list) > 0 {
			found = true
			f.refused(s, code, list)
		}
	}
	return found
}

// interchanged makes one finding of two stations that have each other's addresses.
func (f *finder) interchanged(l Link, s Station) {
	for _, other := range f.stations[l.Link.Name] {
		if other.Station.Name != s.Instead || other.Instead != s.Station.Name || other.Station.Name < s.Station.Name {
			continue
		}
		change := func(of, as site.Station) Change {
			return Change{site.KindStation, of.Name, map[string]any{l.Link.Protocol.Traits().Address: as.LinkAddress()}}
		}
		f.add(site.KindLink, l.Link.Name, Interchanged, 0.9, because("interchanged", "a", s.Station.Name, "b", other.Station.Name),
			[]string{refusals(s), refusals(other), "asked for these, each of them answers for the other"},
			Step{Text: fmt.Sprintf("exchange their addresses: %s is %s, and %s %s", s.Station.Name, other.Station.Called(), other.Station.Name, s.Station.Called()),
				Changes: []Change{change(s.Station, other.Station), change(other.Station, s.Station)}},
			say("or exchange the addresses of the devices"))
	}
}

// refusals says what a station refuses, or does not have.
func refusals(s Station) string {
	var list []string
	for _, r := range s.Refused {
		list = append(list, fmt.Sprintf("%s:%d", r.Table, r.From))
	}
	for _, a := range s.Notes[NoteMissing].Missing {
		list = append(list, a.String())
	}
	verb := " refuses "
	if len(s.Refused) == 0 {
		verb = " does not have "
	}
	return s.Station.Name + verb + strings.Join(list[:min(len(list), someOf)], ", ")
}

// zeros makes findings of tables that hold nothing, where others do.
func (f *finder) zeros(list []Elsewhere) {
	for _, x := range list {
		if f.covered[x.Station] {
			continue
		}
		var evidence []string
		for _, s := range x.Shown {
			evidence = append(evidence, strings.TrimSpace(fmt.Sprintf("%s would show %.5g %s", s.Tag, s.Value, s.Unit)))
		}
		certainty := 0.65
		if x.Moved > 0 {
			certainty = 0.85
			evidence = append(evidence, fmt.Sprintf("%d of them moved between two readings", x.Moved))
		}
		step := Step{Text: fmt.Sprintf("read these %d points from %ss", len(x.Moves), x.To.Name())}
		for _, m := range x.Moves {
			step.Changes = append(step.Changes, Change{site.KindPoint, m.Tag, map[string]any{"address": m.To.String()}})
		}
		f.add(site.KindStation, x.Station, TableDiffers, certainty, because("table-differs", "points", x.Points, "from", x.From.Name()+"s", "to", x.To.Name()+"s"),
			abridged(evidence), step, say("see in the manual which table its values are in"))
		f.covered[x.Station] = true
	}
}

// moves are the steps to addresses that answer instead of those that are refused, each for all points that it mends, the most first.
func moves(list []Refusal) (steps []Step) {
	type elsewhere struct {
		table site.Space
		by    int
	}
	byPlace := map[elsewhere]*Step{}
	var order []*Step
	for _, r := range list {
		for _, works := range r.Instead {
			if works.Count < r.Count {
				continue
			}
			there := elsewhere{works.Start.Space, int(works.Start.Offset) - r.From}
			step := byPlace[there]
			if step == nil {
				step = new(Step)
				byPlace[there], order = step, append(order, step)
			}
			along := r.Along[works]
			for _, p := range append(slices.Clone(r.Points), along...) {
				to := p.Address
				to.Space, to.Offset = there.table, uint16(int(to.Offset)+there.by)
				switch {
				case slices.ContainsFunc(step.Changes, func(c Change) bool { return c.Name == p.Tag }):
					continue
				case step.Text == "" && len(along) > 0:
					step.Text = fmt.Sprintf("%s answers, and so does the one behind the last: set the address of %s to it", to, p.Tag)
				case step.Text == "":
					step.Text = fmt.Sprintf("%s answers: set the address of %s to it", to, p.Tag)
				}
				step.Changes = append(step.Changes, Change{site.KindPoint, p.Tag, map[string]any{"address": to.String()}})
			}
		}
	}
	slices.SortStableFunc(order, func(a, b *Step) int { return len(b.Changes) - len(a.Changes) })
	for _, step := range order {
		if n := len(step.Changes); n > 1 {
			step.Text = fmt.Sprintf("%s, and so do %d others that are as far from theirs", step.Text, n-1)
		}
		steps = append(steps, *step)
	}
	return steps
}

// refused makes one finding of all refusals of one kind.
func (f *finder) refused(s Station, code int, list []Refusal) {
	var what, tags []string
	var next []Step
	for _, r := range list {
		last := r.From + r.Count - 1
		at := fmt.Sprintf("%s:%d", r.Table, r.From)
		if last > r.From {
			at += fmt.Sprintf("..%d", last)
		}
		what = append(what, at)
		for _, p := range r.Points {
			tags = append(tags, p.Tag)
		}
		for _, works := range r.Instead {
			if works.Count < r.Count {
				next = append(next, say(fmt.Sprintf("%s answers: perhaps it is meant instead of %s", works, at)))
			}
		}
	}
	next = append(moves(list), next...)
	short := strings.Join(what[:min(len(what), 6)], ", ")
	if len(what) > 6 {
		short += fmt.Sprintf(" and %d more", len(what)-6)
	}
	evidence := []string{fmt.Sprintf("%s refused with exception %d", short, code), "points: " + strings.Join(tags[:min(len(tags), 8)], ", ")}
	switch code {
	case 1:
		next = append(next, say("look in the manual which functions the device has; many have holding registers (hr) and no input registers (ir)"))
		f.add(site.KindStation, s.Station.Name, FunctionRefused, 0.9, because("function-refused", "what", list[0].Table.Name()+"s"), evidence, next...)
	case 2:
		next = append(next, say("compare with the manual: does it count from 0 or from 1, and is it this table?"), say("the device may be of another version, without these addresses"))
		f.add(site.KindStation, s.Station.Name, AddressRefused, 0.9, because("address-refused", "what", short), evidence, next...)
	case 3:
		next = append(next, set("read less at once: max_registers: 16", site.KindStation, s.Station.Name, map[string]any{"max_registers": 16}),
			say("read values whole: some devices refuse half of a 32-bit value"))
		f.add(site.KindStation, s.Station.Name, ValueRefused, 0.75, because("value-refused", "what", short), evidence, next...)
	}
}
