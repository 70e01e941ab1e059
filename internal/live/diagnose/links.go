package diagnose

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// manyOf is how many responses there are on a connection that is not ended after each.
const manyOf = 10

// link finds what is wrong with a link; true when that explains all that is wrong at its stations.
func (f *finder) link(l Link) bool {
	if l.Other != nil && l.Other.Link.Transport != l.Link.Transport && !l.Worked {
		f.otherTransport(l, l.Other.Link.Transport, []string{l.Reason, fmt.Sprintf("station %s, asked without TLS: %s", l.Other.Station, l.Other.Said)})
		return true
	}
	if l.Down {
		return f.down(l)
	}
	if l.Other != nil && l.Since.Answers == 0 && !l.Worked {
		f.otherSettings(l)
		return true
	}
	if l.Manner != nil && l.Since.Answers == 0 && !l.Worked {
		f.manner(l)
		return true
	}
	if l.Place != nil && l.Place.Speaks != "" && l.Since.Answers == 0 && !l.Worked {
		speaks := l.Place.Speaks.Traits().Name
		f.add(site.KindLink, l.Link.Name, NotTheProtocol, 0.97, because("speaks-another", "place", l.Link.FarEnd(), "speaks", speaks, "protocol", l.Link.Protocol.Traits().Name),
			[]string{fmt.Sprintf("%d requests, no response", l.Since.Requests), "asked in " + speaks + ", it answers"},
			say("make a link of the protocol "+string(l.Place.Speaks)+" to it, and its stations there"), say("see in the device's settings on which port it serves "+l.Link.Protocol.Traits().Name))
		return true
	}
	if l.Link.Transport == site.UDP && l.Since.Closed >= enough && l.Since.Answers == 0 && f.untaken(l.Link.Name) {
		cause := because("datagrams-refused", "place", l.Link.FarEnd())
		next := []Step{portStep(l.Link), say(fmt.Sprintf("switch %s over UDP on in the device", l.Link.Protocol.Traits().Name)), set("set transport: tcp, if the device has that", site.KindLink, l.Link.Name, map[string]any{"transport": "tcp"})}
		if l.Worked {
			next = []Step{say("see whether the device restarts, or was set otherwise"), say("the settings here worked; leave them")}
		}
		f.add(site.KindLink, l.Link.Name, ConnectionRefused, 0.95, cause, []string{fmt.Sprintf("%d requests, no response", l.Since.Requests), f.said(l.Link.Name)}, next...)
		return true
	}
	if l.Slow != nil && l.Since.Answers == 0 && !l.Worked {
		would := max((2*l.Slow.Took + 99*time.Millisecond).Truncate(100*time.Millisecond), 2*time.Duration(l.Link.Timeout))
		f.add(site.KindStation, l.Slow.Station, TimeoutShort, 0.95, because("timeout-short", "timeout", l.Link.Timeout),
			[]string{fmt.Sprintf("%d requests, no response in time", l.Since.Requests), fmt.Sprintf("asked with more patience, it answered after %s", l.Slow.Took.Round(time.Millisecond))},
			set(fmt.Sprintf("set the timeout of link %s to %s", l.Link.Name, site.Duration(would)), site.KindLink, l.Link.Name, map[string]any{"timeout": site.Duration(would).String()}),
			say("see why it is slow: a gateway with a queue, a radio link, a device that is asked by others, too"))
		return true
	}
	if !l.Up {
		return false
	}
	name, c := l.Link.Name, l.Counts
	if echoes, when := seen(c.Echoes, l.Since.Echoes); echoes >= enough {
		step := say("find out what sends the bytes back: an adapter with its receiver always on, a loop-back plug, an echo service on that port")
		if l.Link.Transport.UsesSerialPort() {
			step = set("set echo: true, so that what comes back is taken off", site.KindLink, name, map[string]any{"serial": map[string]any{"echo": true}})
		}
		f.add(site.KindLink, name, Echo, 0.95, because("echo"),
			[]string{fmt.Sprintf("%d of our own requests came back %s", echoes, when)}, step,
			say("on a two-wire bus, check that the adapter switches its receiver off while it sends"))
		return l.Since.Answers == 0 && l.Since.Echoes > 0
	}
	f.otherMaster(l)
	if l.Link.Transport.UsesSerialPort() && f.line(l) {
		return true
	}
	if l.Link.Framing == site.RTU || l.Link.Framing == site.ASCII {
		f.noise(l)
	}
	f.lateAll(l)
	f.pollsLate(l)
	if l.ExtraRefused >= enough {
		f.add(site.KindLink, name, ConnectionLimit, 0.85, because("connection-limit", "open", l.Open),
			[]string{fmt.Sprintf("%d further connections were refused while %d of %d were open", l.ExtraRefused, l.Open, l.Link.Connections), l.Reason},
			set(fmt.Sprintf("set connections: %d", max(1, l.Open)), site.KindLink, name, map[string]any{"connections": max(1, l.Open)}),
			say("see whether another program holds connections to it"))
	}
	if l.Place != nil && l.Since.Answers == 0 && l.Since.Closed+l.Since.Malformed >= enough && f.allSilent(name) && f.place(l) {
		return true
	}
	var closed, after, answers int
	for _, s := range f.stations[name] {
		if s.Notes[NoteLongest].Text == "" { // which may be why it closes
			closed, after = closed+s.Counts.Closed, after+s.ClosedAfter
		}
		answers += s.Counts.Answers
	}
	switch {
	case l.Link.Transport != site.UDP && l.Since.Closed+l.Since.Malformed >= enough && l.Since.Answers == 0 && f.garbled(name):
		traits := l.Link.Protocol.Traits()
		cause, next := because("not-the-protocol", "place", l.Link.FarEnd(), "protocol", traits.Name), []Step{say(fmt.Sprintf("check the port: %s is usually on %d", traits.Name, traits.Port))}
		if l.Link.Framing != "" {
			cause = because("not-the-framing", "place", l.Link.FarEnd(), "protocol", traits.Name, "framing", l.Link.Framing)
		}
		evidence := []string{fmt.Sprintf("%d responses were not %s", l.Since.Closed+l.Since.Malformed, traits.Name), f.said(name)}
		if l.Words != "" && l.Link.Framing != site.ASCII {
			evidence = append(evidence, fmt.Sprintf("it answers in words: %q", l.Words))
			cause = because("not-the-protocol", "place", l.Link.FarEnd(), "protocol", traits.Name)
			next = []Step{portStep(l.Link), say("see in the device's settings on which port it serves " + traits.Name)}
			if strings.HasPrefix(l.Words, "HTTP/") {
				cause = because("web-server", "place", l.Link.FarEnd())
			}
		} else if l.Link.Framing == site.MBAP {
			next = append(next, set("a serial gateway that passes bytes through needs framing rtu", site.KindLink, name, map[string]any{"framing": "rtu", "in_flight": 1}))
		}
		f.add(site.KindLink, name, NotTheProtocol, 0.9, cause, evidence, next...)
		return true
	case l.Link.Framing == site.RTU && l.Since.Answers == 0 && l.Since.Checksums >= enough && f.allSilent(name) && f.interchangedCRC(l):
		return true
	case (l.Link.Framing == site.RTU || l.Link.Framing == site.ASCII) && !l.Link.Transport.UsesSerialPort() && l.Since.Answers == 0 && l.Since.Checksums >= enough && f.allSilent(name):
		f.add(site.KindLink, name, NotTheProtocol, 0.85, because("no-checksum-fits", "place", l.Link.FarEnd(), "framing", l.Link.Framing),
			[]string{fmt.Sprintf("%d responses since the last good one", l.Since.Checksums), f.said(name)},
			set("a gateway that translates speaks Modbus TCP: set framing: mbap", site.KindLink, name, map[string]any{"framing": "mbap"}),
			say("compare baud, parity and stop bits of the gateway's serial side with the devices'"), say("see whether the gateway keeps frames whole: its packing time or character interval may be too short"))
		return true
	case !l.Link.Transport.UsesSerialPort() && l.Link.Transport != site.UDP && l.Since.Closed >= enough && l.Since.Answers == 0 && f.allSilent(name):
		if !l.Looked && l.Since.Closed < 4*enough {
			return true // it is being looked what it does when nothing is asked
		}
		f.add(site.KindLink, name, ClosesConnection, 0.8, because("closes-when-asked"),
			[]string{fmt.Sprintf("%d connections ended since the last response", l.Since.Closed), f.said(name)},
			say("see whether another program is connected: many devices serve one connection, or so many, at a time"),
			say("see whether the device serves known addresses only, and enter this machine's"),
			say("check the port, and whether it wants TLS or another framing; a probe says how far it gets"))
		return true
	case closed >= enough && after >= enough:
		certainty, cause := 0.8, because("closes-after-each")
		if answers > manyOf*after {
			certainty, cause = 0.7, because("closes-at-times", "closed", after, "answers", answers)
		}
		f.add(site.KindLink, name, ClosesConnection, certainty, cause,
			[]string{fmt.Sprintf("%d connections ended within a minute, %d of them after a response", closed, after)},
			say("see whether another program is connected too: many devices take one connection and drop the older"),
			say("see whether the device closes idle connections; ask more often than its limit, or lengthen that"))
	}
	return false
}

// otherSettings says with which settings something answers that does not with those of the link.
func (f *finder) otherSettings(l Link) {
	name, other := l.Link.Name, l.Other.Link
	evidence := []string{fmt.Sprintf("%d requests, no response", l.Since.Requests), fmt.Sprintf("station %s, asked otherwise: %s", l.Other.Station, l.Other.Said)}
	if other.Framing != l.Link.Framing {
		fields := map[string]any{"framing": string(other.Framing)}
		if other.Framing != site.MBAP && l.Link.InFlight > 1 {
			fields["in_flight"] = 1
		}
		f.add(site.KindLink, name, FramingDiffers, 0.97, because("framing-differs", "place", l.Link.FarEnd(), "is", other.Framing, "framing", l.Link.Framing), evidence,
			set(fmt.Sprintf("set framing: %s", other.Framing), site.KindLink, name, fields))
		return
	}
	lineOf := func(s *site.LineSettings) string {
		return fmt.Sprintf("%d %d%s%d", s.Baud, s.DataBits, strings.ToUpper(s.Parity[:1]), s.StopBits)
	}
	serial := map[string]any{"baud": other.Serial.Baud, "parity": other.Serial.Parity, "stop_bits": other.Serial.StopBits}
	f.add(site.KindLink, name, LineSettings, 0.97, because("line-settings-found", "is", lineOf(other.Serial), "settings", lineOf(l.Link.Serial)), evidence,
		set(fmt.Sprintf("set serial: {baud: %d, parity: %s, stop_bits: %d}", other.Serial.Baud, other.Serial.Parity, other.Serial.StopBits), site.KindLink, name, map[string]any{"serial": serial}))
}

// manner says in which way a station answers that is silent as it is asked.
func (f *finder) manner(l Link) {
	m := l.Manner
	var list []string
	for _, field := range slices.Sorted(maps.Keys(m.Fields)) {
		list = append(list, fmt.Sprintf("%s: %v", field, m.Fields[field]))
	}
	setting := strings.Join(list, ", ")
	code, cause := ApplicationSilent, because("wants-setting", "setting", setting)
	if master, is := m.Fields["master"]; is {
		code, cause = OtherMaster, because("answers-another", "master", master)
	}
	f.add(site.KindStation, m.Station, code, 0.95, cause,
		[]string{fmt.Sprintf("%d requests, no response", l.Since.Requests), "asked so, it answers: " + m.Said},
		set("set "+setting, site.KindStation, m.Station, m.Fields))
}

// otherTransport says that a device wants TLS, or does not have it.
func (f *finder) otherTransport(l Link, is site.Transport, evidence []string) {
	name := l.Link.Name
	sentence, next := "wants-no-tls", []Step{set("set transport: tcp", site.KindLink, name, map[string]any{"transport": "tcp", "tls": nil, "port": l.Link.Port}), portStep(l.Link)}
	if is == site.TLS {
		usual := l.Link.Protocol.Traits().TLSPort
		sentence, next = "wants-tls", []Step{set("set transport: tls", site.KindLink, name, map[string]any{"transport": "tls", "port": l.Link.Port}),
			say("give the plant's certificates in tls.ca, and in tls.certificate and tls.key one of this machine's, where the device asks for it"),
			say(fmt.Sprintf("or see whether the device listens without TLS, too, on another port than %d", cmp.Or(l.Link.Port, usual)))}
	}
	f.add(site.KindLink, name, TransportDiffers, 0.95, because(sentence, "place", l.Link.FarEnd()), evidence, next...)
}

// place says what the far end tells by what it does when nothing is asked; false when that is nothing.
func (f *finder) place(l Link) bool {
	name, p := l.Link.Name, l.Place
	asked := fmt.Sprintf("%d requests, no response: %s", l.Since.Requests, f.said(name))
	switch {
	case p.TLS:
		f.otherTransport(l, site.TLS, []string{asked, "it answers the beginning of a TLS handshake"})
	case len(p.Said) > 0:
		f.add(site.KindLink, name, NotTheProtocol, 0.95, because("not-the-protocol", "place", l.Link.FarEnd(), "protocol", l.Link.Protocol.Traits().Name),
			[]string{fmt.Sprintf("it begins by itself, with %q", p.Said), asked}, portStep(l.Link), say("see in the device's settings on which port it serves "+l.Link.Protocol.Traits().Name))
	case p.Closed:
		evidence := []string{fmt.Sprintf("a connection on which nothing was asked was closed after %s", p.After.Round(time.Millisecond)), asked}
		if other := f.neighbour(l); other != "" {
			f.add(site.KindLink, name, ClosesConnection, 0.9, because("closes-unasked-for-ours", "place", l.Link.FarEnd(), "other", other), evidence, f.joins(l, other)...)
			return true
		}
		f.add(site.KindLink, name, ClosesConnection, 0.9, because("closes-unasked", "place", l.Link.FarEnd()), evidence,
			say("see whether another program is connected to it, and close that: many devices serve one connection, or so many, at a time"),
			say("see whether the device serves known addresses only, and enter this machine's"),
			say("restart the device, if a connection that broke off still holds the place"))
	default:
		return false
	}
	return true
}

// neighbour is another link of the site to the same place, which is open and on which something answers; "" when there is none.
func (f *finder) neighbour(l Link) string {
	for _, other := range f.links {
		if other.Link.Name != l.Link.Name && !l.Link.Transport.UsesSerialPort() && other.Link.Protocol == l.Link.Protocol && other.Link.FarEnd() == l.Link.FarEnd() && other.Up && other.Worked {
			return other.Link.Name
		}
	}
	return ""
}

// joins are the steps that put the stations of a link on another one to the same place.
func (f *finder) joins(l Link, other string) []Step {
	step := Step{Text: fmt.Sprintf("put its stations on link %s: many devices serve one connection at a time", other)}
	for _, s := range f.stations[l.Link.Name] {
		if f.units[other][s.Station.LinkAddress()] != "" { // which is there already
			step.Changes = nil
			break
		}
		step.Changes = append(step.Changes, Change{site.KindStation, s.Station.Name, map[string]any{"link": other}})
	}
	return []Step{step, say("or let the device take more connections, where it can be set")}
}

// lateAll makes one finding of several stations that answer late: one that is slow keeps the line from the others.
func (f *finder) lateAll(l Link) {
	var names []string
	late := Station{}
	for _, s := range f.stations[l.Link.Name] {
		if n := s.late(); n > 0 {
			names = append(names, s.Station.Name)
			late.Counts.Late += n
			late.Slowest = max(late.Slowest, s.Slowest)
		}
	}
	if len(names) < 2 {
		return
	}
	f.slow[l.Link.Name] = true
	evidence, next := lateness(l, late)
	f.add(site.KindLink, l.Link.Name, TimeoutShort, 0.85,
		because("timeout-short-for-several", "stations", strings.Join(names, ", "), "timeout", l.Link.Timeout),
		[]string{evidence}, next...)
}

// allSilent reports whether no station of a link answers, of those that were asked.
func (f *finder) allSilent(link string) bool {
	for _, s := range f.stations[link] {
		if s.Answering {
			return false
		}
	}
	return true
}

// untaken reports whether the host of a link says of its silent stations that nothing takes what is sent.
func (f *finder) untaken(link string) bool {
	for _, s := range f.stations[link] {
		if s.Silent && s.Failure == failure.Refused {
			return true
		}
	}
	return false
}

// garbled reports whether what came back on a link was not its protocol at all.
func (f *finder) garbled(link string) bool {
	return strings.Contains(f.said(link), "not Modbus") || strings.Contains(f.said(link), "not DNP3")
}

// said is the reason that a silent station of a link gives.
func (f *finder) said(link string) string {
	for _, s := range f.stations[link] {
		if s.Silent {
			return s.Reason
		}
	}
	return ""
}

// line finds what is wrong with a serial line as a whole.
func (f *finder) line(l Link) bool {
	name, now := l.Link.Name, l.Since
	setting := strings.TrimPrefix(l.Link.FarEnd(), l.Link.Serial.Device+" ")
	switch {
	case l.Link.Transport == site.Dialup:
		return false
	case now.Timeouts >= enough && now.Received == 0 && now.Answers == 0 && len(l.Found) == 0 && f.allSilent(name):
		f.add(site.KindLink, name, LineSilent, 0.85, because("line-silent"),
			[]string{fmt.Sprintf("%d requests, %d bytes sent, none received", now.Requests, now.Sent), tried(l)},
			say("check the wiring: A and B swapped, the wrong pair, no common ground, the plug out"),
			say("check that the devices have power and that this is their line"),
			say("check whether the adapter needs RTS to send (rts: toggle) or a switch from RS-232 to RS-485"),
			do("then let the line be scanned", ScanSettings, name))
		return true
	case now.Answers == 0 && now.Checksums+now.Malformed >= enough && now.Received > 0 && f.allSilent(name):
		if f.otherUnits(name) {
			return false
		}
		if f.interchangedCRC(l) {
			return true
		}
		if l.Words != "" && l.Link.Framing == site.RTU {
			f.add(site.KindLink, name, NotTheProtocol, 0.9, because("not-the-protocol-on-port", "port", l.Link.Serial.Device, "protocol", l.Link.Protocol.Traits().Name),
				[]string{fmt.Sprintf("it answers in words: %q", l.Words), tried(l)},
				say("see what is connected to this port: a console, a modem, or a port of the device that serves something else"),
				say("see in the device's settings which protocol this port has"))
			return true
		}
		f.add(site.KindLink, name, LineSettings, 0.85, because("line-settings", "settings", setting),
			[]string{fmt.Sprintf("%d bytes received, %d frames damaged, none good", now.Received, now.Checksums+now.Malformed), tried(l)},
			append([]Step{do("let the settings be found", ScanSettings, name)}, append(otherParity(l),
				say("compare baud, parity and stop bits with the manual or the switches of a device; framing ascii has a colon before each frame"))...)...)
		return true
	}
	return false
}

// otherUnits reports whether whole frames of other units came in place of responses, so that the line is set as it should be.
func (f *finder) otherUnits(link string) bool {
	return slices.ContainsFunc(f.stations[link], func(s Station) bool { return s.OtherUnit >= 0 && s.Since.Foreign > 0 })
}

// interchangedCRC finds a device that sends the two octets of the CRC in the wrong order.
func (f *finder) interchangedCRC(l Link) bool {
	reason := f.said(l.Link.Name)
	if !strings.Contains(reason, "with its two bytes interchanged") {
		return false
	}
	f.add(site.KindLink, l.Link.Name, AnswersMalformed, 0.95, because("crc-interchanged"), []string{fmt.Sprintf("%d responses", l.Since.Checksums), reason},
		say("ask the maker for a newer firmware"), say("where the device is a program of one's own, send the low byte of the CRC first (MODBUS over Serial Line V1.02, 2.5.1.2)"))
	return true
}

// noise finds that frames of a line are damaged, wherever it begins: at a port of this machine, or behind a gateway.
func (f *finder) noise(l Link) {
	name, c := l.Link.Name, l.Counts
	if l.Link.Transport == site.Dialup || c.Checksums < enough || c.Answers == 0 || f.masters[name] {
		return
	}
	var worst Station
	clean, damaged := 0, 0
	for _, s := range f.stations[name] {
		if s.Counts.Checksums > worst.Counts.Checksums {
			worst = s
		}
		switch {
		case s.Counts.Checksums > 0:
			damaged++
		case s.Counts.Answers >= enough:
			clean++
		}
	}
	if clean > 0 && worst.Counts.Checksums*10 >= c.Checksums*9 {
		return // it is at one station: station finds it
	}
	if c.Checksums*50 < c.Answers {
		return
	}
	f.noisy[name] = true
	seen := fmt.Sprintf("%d of %d responses within a minute had a wrong checksum", c.Checksums, c.Checksums+c.Answers)
	if damaged > 1 {
		seen += ", at several stations"
	}
	f.add(site.KindLink, name, LineNoise, 0.75, because("line-noise"), []string{seen},
		say("put 120 ohms at both ends of the bus and nowhere else; no long stubs"), say("keep the cable away from drive cables, and earth its screen at one end"),
		say("see whether another master is on the line"), slower(l.Link))
}

// otherMaster finds that another master asks on the line.
func (f *finder) otherMaster(l Link) {
	alien, when := seen(l.Counts.Alien, l.Since.Alien)
	if alien < enough {
		return
	}
	f.masters[l.Link.Name], f.noisy[l.Link.Name] = true, true
	f.add(site.KindLink, l.Link.Name, TwoMasters, 0.93, because("two-masters-line"), []string{fmt.Sprintf("%d times %s there was a request on the line that nobody here had made", alien, when)},
		do("see what it asks, and which units", Traffic, l.Link.Name), say("find the other master, such as a panel, a PLC or an old system, and take it off the line: only one may ask"),
		say("where both are needed, put a gateway on the line that both ask, or read the values from the other one"))
}

// tried says that other settings were, and that nothing answered; "" when none were.
func tried(l Link) string {
	if l.Tried == 0 || l.Other != nil {
		return ""
	}
	return fmt.Sprintf("%d other settings were tried, and nothing answered with them, either", l.Tried)
}

// otherParity is the step to the other usual parity, of a line of which it is not known yet whether that works.
func otherParity(l Link) []Step {
	if l.Tried > 0 || !l.Looked && !l.Worked { // it is being tried
		return nil
	}
	parity := map[string]string{"even": "none", "none": "even", "odd": "none"}[l.Link.Serial.Parity]
	return []Step{set("try parity "+parity+", the other usual one", site.KindLink, l.Link.Name, map[string]any{"serial": map[string]any{"parity": parity}})}
}

func slower(l site.Link) Step {
	if l.Serial == nil {
		return say("if that does not help, use a lower baud on the line behind the gateway, in it and in its devices")
	}
	return say(fmt.Sprintf("if that does not help, use a lower baud than %d on the line and its devices", l.Serial.Baud))
}

// down finds why a link does not open.
func (f *finder) down(l Link) bool {
	// What is wrong here does not pass by itself, and of a modem that says nothing everything has been tried.
	atOnce := slices.Contains([]failure.Kind{failure.RTS, failure.Port, failure.Taken, failure.Bind, failure.Modem}, l.Failure)
	if l.Failures < 2 && !(atOnce && l.Failures == 1) {
		return true // not enough to conclude, and yet all that follows from it
	}
	evidence := []string{fmt.Sprintf("%d attempts failed", l.Failures), l.Reason}
	if l.Failures == 1 {
		evidence[0] = "the first attempt failed"
	}
	far, name := l.Link.FarEnd(), l.Link.Name
	link := func(code Code, certainty float64, cause Cause, next ...Step) {
		f.add(site.KindLink, name, code, certainty, cause, evidence, next...)
	}
	switch {
	case l.Failure == failure.Name:
		link(NameUnresolved, 0.97, because("name-unresolved", "host", l.Link.Host),
			say("check the spelling"), say("use the IP address of the device instead of its name"), say("check this machine's name server and network"))
	case l.Failure == failure.Unreachable:
		link(HostUnreachable, 0.9, because("host-unreachable", "host", l.Link.Host),
			say("check that this machine has an address in the device's network, and its cable"), say("check the address and mask of the device"),
			say("with several network adapters, name the right one in bind"))
	case l.Failure == failure.Refused && f.neighbour(l) != "":
		other := f.neighbour(l)
		link(ConnectionRefused, 0.9, because("connection-refused-for-ours", "place", far, "other", other), f.joins(l, other)...)
	case l.Failure == failure.Refused && l.Worked:
		link(ConnectionRefused, 0.95, because("connection-refused-now", "place", far),
			say("see whether the device restarts, or was switched off or set otherwise"), say("close other programs that are connected to it: many devices take only a few connections"),
			say("the settings here worked; leave them"))
	case l.Failure == failure.Timeout && l.Worked:
		link(ConnectTimeout, 0.85, because("connect-timeout-now", "place", far),
			say("check the device's power"), say("check cable and switch port; ping the address"), say("the settings here worked; leave them"))
	case l.Failure == failure.Refused:
		link(ConnectionRefused, 0.95, because("connection-refused", "place", far),
			portStep(l.Link), say(fmt.Sprintf("switch %s on in the device", l.Link.Protocol.Traits().Name)), say("see whether a firewall of the device lets only some addresses in"))
	case l.Failure == failure.Timeout:
		link(ConnectTimeout, 0.8, because("connect-timeout", "place", far),
			say("ping the address; look at the device's own display for it"), say("check cable, switch port and network mask"), say("check the firewalls between"))
	case l.Failure == failure.Bind:
		link(BindWrong, 0.97, because("bind-wrong", "bind", l.Link.Bind),
			set("let the machine's routes choose", site.KindLink, name, map[string]any{"bind": ""}))
	case l.Failure == failure.TLS:
		link(TLSRefused, 0.9, because("tls-refused"),
			say("look at the reason above: give the plant's certificates in tls.ca, or the name in the certificate in tls.server_name"),
			say("check the clocks: a certificate is valid for a time"))
	case l.Failure == failure.Port:
		if l.Port != "" {
			link(PortMissing, 0.97, because("port-missing-other", "port", l.Link.Serial.Device, "other", l.Port),
				set("set serial: {device: "+l.Port+"}", site.KindLink, name, map[string]any{"serial": map[string]any{"device": l.Port}}), do("see which ports there are", Ports, ""))
			break
		}
		link(PortMissing, 0.97, because("port-missing", "port", l.Link.Serial.Device),
			do("plug the adapter in, and see which ports there are", Ports, ""), say("choose a port that is there; the reason above names them"))
	case l.Failure == failure.RTS:
		link(RTSMissing, 0.97, because("rts-missing", "port", l.Link.Serial.Device, "rts", l.Link.Serial.RTS),
			set("set rts: off; most adapters switch their direction by themselves", site.KindLink, name, map[string]any{"serial": map[string]any{"rts": site.RTSOff}}),
			say("or use an adapter or port that has an RTS line"))
	case l.Failure == failure.Taken:
		link(PortTaken, 0.95, because("port-taken", "port", l.Link.Serial.Device),
			say("close the other program"), say("see whether a second service runs on this machine"))
	case l.Failure == failure.Modem:
		link(NoModem, 0.9, because("no-modem", "port", l.Link.Serial.Device),
			say("check the modem's power and cable"), say("use the baud at which the modem takes commands"), say("check modem.init"))
	}
	return true
}

func portStep(l site.Link) Step {
	usual := l.Protocol.Traits().Port
	if l.Transport == site.TLS {
		usual = l.Protocol.Traits().TLSPort
	}
	if l.Port == usual {
		return say("look in the manual for the port; some devices use another than " + fmt.Sprint(usual))
	}
	return set(fmt.Sprintf("try port %d, the usual one", usual), site.KindLink, l.Name, map[string]any{"port": usual})
}
