package diagnose

import (
	"fmt"
	"math"
	"net"
	"net/netip"
	"strings"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// The codes of DNP3 stations.
const (
	OutstationSilent  Code = "outstation-silent"
	NotCalledIn       Code = "not-called-in"
	OtherOutstation   Code = "other-outstation"
	OtherMaster       Code = "other-master"
	TwoMasters        Code = "two-masters"
	ApplicationSilent Code = "application-silent"
	FramesDamaged     Code = "frames-damaged"
	ObjectRefused     Code = "object-refused"
	PointsMissing     Code = "points-missing"
	ClassRefused      Code = "class-refused"
	ConfirmsLost      Code = "confirms-lost"
	EventsLost        Code = "events-lost"
	ClockWrong        Code = "clock-wrong"
	ClockUnset        Code = "clock-unset"
	DeviceRestarts    Code = "device-restarts"
	PointsFlagged     Code = "points-flagged"
	DeviceTrouble     Code = "device-trouble"
	LocalControl      Code = "local-control"
)

// Occurrence reports whether a note tells of something that happened, and not of how things are; it counts for a while.
func (k NoteKind) Occurrence() bool {
	switch k {
	case NoteOtherSource, NoteOtherMaster, NoteTwoMasters, NoteConfirms, NoteEventsLost, NoteRestarted:
		return true
	}
	return false
}

// Remembered is how long an occurrence counts.
const Remembered = 10 * time.Minute

// outstation finds what is wrong with a DNP3 station; true when that explains what is wrong at its points.
func (f *finder) outstation(l Link, s Station) bool {
	name := s.Station.Name
	add := func(code Code, certainty float64, cause Cause, evidence []string, next ...Step) {
		f.add(site.KindStation, name, code, certainty, cause, evidence, next...)
	}
	theirs, ours := s.Station.LinkAddress(), s.Station.MasterAddress()
	at := func(k NoteKind) (Note, bool) { n, ok := s.Notes[k]; return n, ok }
	if n, ok := at(NoteTwoMasters); ok {
		add(TwoMasters, 0.9, because("two-masters", "other", int(n.Number), "outstation", theirs), []string{n.Text, fmt.Sprintf("seen %d times", n.Count)},
			say("find the other master and agree on who asks; each takes events from the other"), say("an outstation with several masters needs a database of events for each"))
	}
	if s.Silent {
		f.silentOutstation(l, s, add)
		return true
	}
	if n, ok := at(NoteOtherMaster); ok {
		add(OtherMaster, 0.85, because("reports-to-another", "outstation", theirs, "other", int(n.Number), "master", ours), []string{n.Text, fmt.Sprintf("seen %d times", n.Count)},
			setMaster(name, n.Number), say(fmt.Sprintf("or set the outstation's master address to %d", ours)))
	}
	if damaged, when := seen(max(s.Counts.Checksums, s.Counts.Damaged), max(s.Since.Checksums, s.Since.Damaged)); damaged >= enough {
		add(FramesDamaged, 0.8, because("some-frames-damaged"),
			[]string{fmt.Sprintf("%d damaged frames %s, %d requests answered within a minute", damaged, when, s.Counts.Answers)},
			say("look at wiring, termination and shielding, or at the radio's signal"), say("see whether two masters, or two outstations with one address, are on the line"))
	}
	if n, ok := at(NoteNoFunction); ok {
		add(FunctionRefused, 0.9, because("function-missing"), []string{n.Text},
			dropFunction(name, int(n.Number)), say("see its device profile for what it supports"))
	}
	if n, ok := at(NoteNoObject); ok {
		add(ObjectRefused, 0.8, because("object-refused"), []string{n.Text}, say("see its device profile for the objects it supports"))
	}
	if n, ok := at(NoteNoClass); ok {
		cause := because("class-refused", "class", int(n.Number))
		if n.Number == 0 {
			cause = because("class-0-refused")
		}
		add(ClassRefused, 0.9, cause, []string{n.Text}, say("see its device profile for the classes it has, and assign its points to one of them"), say("it is asked again after 30 s, and then less and less often, at least every ten minutes"))
	}
	explained := false
	if n, ok := at(NoteMissing); ok && s.Instead != "" {
		f.interchanged(l, s)
		explained = true
	} else if ok {
		explained = f.pointsMissing(s, n)
	}
	if n, ok := at(NoteConfirms); ok && n.Count >= 2 {
		add(ConfirmsLost, 0.8, because("confirms-lost"), []string{n.Text, fmt.Sprintf("%d times", n.Count)},
			say("lengthen its confirmation timeout, above all over radio and mobile networks"), say("see whether frames from here are lost: a firewall, or a radio that does not key in time"))
	}
	if n, ok := at(NoteEventsLost); ok {
		step := say("make its event buffer larger, or the deadbands of its lively points wider")
		if !s.Station.Unsolicited {
			add(EventsLost, 0.95, because("events-lost"), []string{n.Text},
				set("let it report events by itself: unsolicited: true", site.KindStation, name, map[string]any{"unsolicited": true}),
				set("ask for events more often: event_poll: 1s", site.KindStation, name, map[string]any{"event_poll": "1s"}), step)
		} else {
			add(EventsLost, 0.95, because("events-lost"), []string{n.Text}, step, say("see whether the link was down for long: the buffer must hold what happens meanwhile"))
		}
	}
	if n, ok := at(NoteTime); ok {
		next := []Step{do("set its clock", SetTime, name)}
		if s.Station.TimeSync == "" || s.Station.TimeSync == site.TimeSyncNone {
			next = append([]Step{timeSync(l, name)}, next...)
		}
		if hours := n.Number / 3600; math.Abs(hours-math.Round(hours)) < 0.01 && math.Abs(math.Round(hours)) >= 1 && math.Abs(hours) <= 14 {
			next = append([]Step{say("it is off by whole hours: it has local time, where the standard wants UTC (IEEE 1815-2012, 10.3)")}, next...)
		}
		add(ClockWrong, 0.9, because("clock-wrong", "how", n.Text), []string{fmt.Sprintf("%+.1f s against this machine's clock", n.Number)}, next...)
	}
	if n, ok := at(NoteNeedsTime); ok {
		next := []Step{do("set its clock", SetTime, name)}
		if s.Station.TimeSync == "" || s.Station.TimeSync == site.TimeSyncNone {
			next = append([]Step{timeSync(l, name)}, next...)
		}
		add(ClockUnset, 0.9, because("clock-unset"), []string{n.Text}, next...)
	}
	if n, ok := at(NoteRestarted); ok && n.Count >= 2 {
		add(DeviceRestarts, 0.85, because("device-restarts"), []string{fmt.Sprintf("%d restarts were seen", n.Count)}, say("look at its supply, and at its log"), say("see whether its watchdog trips: too many points, too short a scan"))
	}
	if n, ok := at(NoteRestartStays); ok {
		add(DeviceRestarts, 0.85, because("restart-stays"), []string{n.Text}, say("ask the maker: a restart that comes later cannot be told from this one"),
			say("see whether another master, or a second connection of this one, is served as the same"))
	}
	if n, ok := at(NoteTrouble); ok {
		add(DeviceTrouble, 0.9, because("device-trouble"), []string{n.Text}, say("look at its own diagnostics; what this means is for its maker to say"))
	}
	if n, ok := at(NoteCorrupt); ok {
		add(DeviceTrouble, 0.9, because("configuration-corrupt"), []string{n.Text}, say("load its configuration again"))
	}
	if n, ok := at(NoteLocal); ok {
		add(LocalControl, 0.9, because("local-control"), []string{n.Text}, say("turn its local/remote switch to remote"))
	}
	if len(s.Flags) > 0 {
		f.flagged(s)
	}
	return explained
}

// flags are what the flags of points mean: the sentence, and what to do.
var flags = map[reading.Reason]struct {
	sentence string
	next     []string
}{
	reading.CommLost:       {"flagged-comm-lost", []string{"look at what is behind the outstation: the module or the device that it has these points from, its supply and its line"}},
	reading.Offline:        {"flagged-offline", []string{"see in the outstation whether these points are switched on and have a source", "look at the module that they are of"}},
	reading.Restarted:      {"flagged-restarted", []string{"see whether these points have a source in the outstation: they have had no value since it started"}},
	reading.Forced:         {"flagged-forced", []string{"find out who forced them, at the outstation or from another master, and have them released"}},
	reading.Chatter:        {"flagged-chatter", []string{"look at the contact, and at the filter time of the input: it changes faster than the outstation takes"}},
	reading.RawRange:       {"flagged-over-range", []string{"let the outstation report them in 32 bits or as floating point, if it does so in 16 (variations 2 and 4 of group 30): a value that does not fit ends at 32767", "look at the sensor and its range: it is beyond what the input measures"}},
	reading.ReferenceError: {"flagged-reference", []string{"look at the analog module: the reference of its converter has failed"}},
	reading.Decode:         {"flagged-no-number", []string{"look at the source of these points in the outstation: it has no value for them", "look at the sensor"}},
}

// flagged makes the finding of points that an outstation itself does not vouch for.
func (f *finder) flagged(s Station) {
	var evidence []string
	next := []Step{}
	for i, g := range s.Flags {
		list := strings.Join(g.Tags[:min(len(g.Tags), someOf)], ", ")
		if more := len(g.Tags) - someOf; more > 0 {
			list += fmt.Sprintf(" and %d more", more)
		}
		evidence = append(evidence, fmt.Sprintf("%s: %s", g.Reason, list))
		if i < someOf {
			for _, text := range flags[g.Reason].next {
				next = append(next, say(text))
			}
		}
	}
	most := s.Flags[0]
	f.add(site.KindStation, s.Station.Name, PointsFlagged, 0.9, because(flags[most.Reason].sentence, "points", len(most.Tags)), evidence, next...)
}

// pointsMissing makes the finding of points that an outstation does not have as the site has them; true when the others of it are wrong, too.
func (f *finder) pointsMissing(s Station, n Note) bool {
	name := s.Station.Name
	compare := do("compare their addresses with what it has, which a probe lists", Probe, name)
	if len(n.Moves) == 0 {
		f.add(site.KindStation, name, PointsMissing, 0.9, because("points-missing", "points", int(n.Number)), []string{n.Text},
			compare, say("see whether its point list was loaded, and whether these points are switched on in it"))
		return false
	}
	var shifted, others Step
	by := 0
	for _, m := range n.Moves {
		step := &others
		if m.From.Space == m.To.Space {
			step, by = &shifted, int(m.To.Offset)-int(m.From.Offset)
		}
		if step.Changes == nil {
			step.Text = fmt.Sprintf("set the address of %s to %s, which it has", m.Tag, m.To)
		}
		step.Changes = append(step.Changes, Change{site.KindPoint, m.Tag, map[string]any{"address": m.To.String()}})
	}
	first := func(step Step) string { // from where to where its first point moves
		for _, m := range n.Moves {
			if m.Tag == step.Changes[0].Name {
				return fmt.Sprintf("%s in place of %s", m.To, m.From)
			}
		}
		return ""
	}
	if len(others.Changes) > 1 {
		others.Text = fmt.Sprintf("set the kind of %d points to the one that it has: %s, and so on", len(others.Changes), first(others))
	}
	if len(shifted.Changes) == 0 {
		f.add(site.KindStation, name, PointsMissing, 0.9, because("points-moved", "points", int(n.Number), "found", len(n.Moves)), []string{n.Text, fmt.Sprintf("asked for, it gives %s", n.Moves[0].To)},
			others, compare)
		return false
	}
	if len(shifted.Changes) > 1 {
		shifted.Text = fmt.Sprintf("set the indexes of %d points %+d: %s, and so on", len(shifted.Changes), by, first(shifted))
	}
	certainty, cause := 0.75, because("points-shifted", "points", int(n.Number), "by", fmt.Sprintf("%+d", by))
	if len(shifted.Changes) > 2 {
		certainty = 0.9
	}
	if by == -1 {
		cause = because("points-from-0", "points", int(n.Number))
	}
	steps := []Step{shifted}
	if len(others.Changes) > 0 {
		steps = []Step{{Text: shifted.Text + "; " + others.Text, Changes: append(shifted.Changes, others.Changes...)}}
	}
	f.add(site.KindStation, name, PointsMissing, certainty, cause, []string{n.Text, fmt.Sprintf("with its index %+d it has every point of these kinds", by)}, append(steps, compare)...)
	return true
}

// timeSync lets the clock of a station be set as fits its link.
func timeSync(l Link, name string) Step {
	how := site.TimeSyncLAN
	if l.Link.Transport.UsesSerialPort() {
		how = site.TimeSyncSerial
	}
	return set(fmt.Sprintf("let its clock be set when it asks for that: time_sync: %s", how), site.KindStation, name, map[string]any{"time_sync": string(how)})
}

func setMaster(name string, master float64) Step {
	return set(fmt.Sprintf("set master: %.0f", master), site.KindStation, name, map[string]any{"master": int(master)})
}

// dropFunction is what to change so that a function is not asked for any more.
func dropFunction(name string, function int) Step {
	switch function {
	case 20, 21:
		return set("do without unsolicited responses: unsolicited: false", site.KindStation, name, map[string]any{"unsolicited": false})
	case 23, 24:
		return set("do without setting its clock: time_sync: none", site.KindStation, name, map[string]any{"time_sync": "none"})
	}
	return say("do without what needs that function")
}

// silentOutstation finds why an outstation does not answer.
func (f *finder) silentOutstation(l Link, s Station, add func(Code, float64, Cause, []string, ...Step)) {
	name, now := s.Station.Name, s.Since
	theirs, ours := s.Station.LinkAddress(), s.Station.MasterAddress()
	requests := fmt.Sprintf("%d requests, no response", now.Requests)
	absent, notCalled := s.Notes[NoteNotCalled]
	if notCalled {
		requests = "it has not connected"
	}
	if n, ok := s.Notes[NoteOtherSource]; ok {
		cause := because("other-outstation", "other", int(n.Number), "outstation", theirs)
		if other := f.units[l.Link.Name][int(n.Number)]; other != "" {
			cause = because("outstation-of-another", "other", int(n.Number), "station", other, "outstation", theirs)
		}
		add(OtherOutstation, 0.9/float64(f.alsoFrom(l.Link.Name, n.Number)), cause, []string{requests, n.Text},
			set(fmt.Sprintf("set outstation: %.0f", n.Number), site.KindStation, name, map[string]any{"outstation": int(n.Number)}),
			say(fmt.Sprintf("or give the device the address %d", theirs)))
		return
	}
	if n, ok := s.Notes[NoteOtherMaster]; ok {
		add(OtherMaster, 0.9, because("speaks-to-another", "outstation", theirs, "other", int(n.Number), "master", ours), []string{requests, n.Text},
			setMaster(name, n.Number), say(fmt.Sprintf("or set the outstation's master address to %d", ours)))
		return
	}
	if notCalled {
		cause, next := because("not-called-in", "outstation", theirs, "place", l.Link.Listen), waysIn(l)
		if absent.Number > 0 {
			cause = because("hung-up", "outstation", theirs, "place", l.Link.Listen)
			next = []Step{say("see whether it connects only when it has something to report; its points are bad until then"), say("see whether it has its supply, and its way here: its SIM card, its route, a firewall that ends what is idle"),
				set("ask for its link status more often, so that nothing ends the connection for being idle: liveness: 5s", site.KindStation, name, map[string]any{"liveness": "5s"})}
		}
		add(NotCalledIn, 0.9, cause, []string{absent.Text, s.Reason}, next...)
		return
	}
	if now.Stray >= enough && now.Timeouts >= enough && now.Checksums == 0 {
		add(AnswersMalformed, 0.85, because("wrong-sequence", "outstation", theirs), []string{fmt.Sprintf("%d requests, and %d responses to none of them", now.Requests, now.Stray)},
			do("see the frames", Wrong, name), say("see whether two masters, or two connections to it, share its address here"), say("ask the maker for a newer firmware"))
		return
	}
	if n, ok := s.Notes[NoteLinkOnly]; ok && now.Checksums == 0 {
		add(ApplicationSilent, 0.85, because("application-silent", "outstation", theirs), []string{requests, n.Text},
			say(fmt.Sprintf("compare its master address with %d: many answer none but the one they were told", ours)),
			say("see whether DNP3 is enabled for this port or session in the device"), say("it may still be starting"))
		return
	}
	switch {
	case now.Checksums > 0 && now.Checksums+now.Timeouts >= enough:
		add(FramesDamaged, 0.85, because("frames-damaged"), []string{fmt.Sprintf("%d requests, %d damaged responses", now.Requests, now.Checksums)},
			say("on a serial line or gateway, compare baud, parity and stop bits"), say("see whether a gateway changes octets, such as one that is set to text"))
	case now.Timeouts >= enough && l.Up:
		cause := because("outstation-silent-at", "place", l.Link.FarEnd(), "outstation", theirs)
		switch {
		case l.Link.Transport.UsesSerialPort():
			cause = because("outstation-silent", "outstation", theirs)
		case l.Link.Transport == site.UDP:
			cause = because("outstation-silent-by-datagrams", "place", l.Link.FarEnd(), "outstation", theirs)
		}
		if found := f.strangers(l); len(found) > 0 {
			steps := []Step{}
			for _, u := range found[:min(len(found), someOf)] {
				steps = append(steps, set(fmt.Sprintf("set outstation: %d, which answered", u), site.KindStation, name, map[string]any{"outstation": u}))
			}
			add(OutstationSilent, 0.85, because("outstation-silent-found", "outstation", theirs, "found", enumerated("outstation", found)), []string{requests, l.foundText("outstation")},
				append(steps, say(fmt.Sprintf("check its master address: this one is %d", ours)))...)
			return
		}
		add(OutstationSilent, 0.75, cause, []string{requests},
			do("check the link address in the device's settings, or let it be looked for", Scan, l.Link.Name),
			say(fmt.Sprintf("check its master address: this one is %d", ours)), say("see whether another master holds the device's only session"))
	}
}

// alsoFrom is how many silent stations of a link a frame of another address may be of.
func (f *finder) alsoFrom(link string, address float64) (n int) {
	for _, s := range f.stations[link] {
		if other, ok := s.Notes[NoteOtherSource]; ok && s.Silent && other.Number == address {
			n++
		}
	}
	return max(n, 1)
}

// waysIn are the steps where stations are to connect by themselves, and do not.
func waysIn(l Link) (next []Step) {
	host, port, _ := net.SplitHostPort(l.Link.Listen)
	if at, err := netip.ParseAddr(host); err == nil && at.IsLoopback() || host == "localhost" {
		next = append(next, set(fmt.Sprintf("set listen: :%s; %s is reached from this machine alone", port, host), site.KindLink, l.Link.Name, map[string]any{"listen": ":" + port}))
	}
	return append(next, say("see in the outstation that its master is at an address of this machine, and at port "+port), say("let the port through this machine's firewall"),
		say("see whether the outstation has a way here: its SIM card, its route, an address translation between"))
}
