package diagnose

import (
	"fmt"
	"slices"

	"arithmon/internal/core/site"
)

// sharers is how many stations of a link must have the same fault, while others have not, to have it for one reason.
const sharers = 3

// shared makes one finding of a fault that several stations of a link have: all of them, or so many that it is no chance.
func (f *finder) shared(l Link) {
	var members []Station
	for _, s := range f.stations[l.Link.Name] {
		if !s.Station.Broadcast {
			members = append(members, s)
		}
	}
	for code, meaning := range meanings {
		var have []Station
		for _, s := range members {
			if slices.ContainsFunc(f.list, func(g Finding) bool {
				return g.Code == code && g.Kind == site.KindStation && g.Subject == s.Station.Name
			}) {
				have = append(have, s)
			}
		}
		all := len(have) == len(members)
		if len(have) < 2 || !all && len(have) < sharers {
			continue
		}
		f.list = slices.DeleteFunc(f.list, func(g Finding) bool {
			return g.Code == code && g.Kind == site.KindStation && slices.ContainsFunc(have, func(s Station) bool { return s.Station.Name == g.Subject })
		})
		cause, next := meaning(l, len(have), len(members))
		names := make([]string, len(have))
		requests := 0
		for i, s := range have {
			names[i] = fmt.Sprintf("%s (%s %d)", s.Station.Name, addressWord(l.Link), s.Station.LinkAddress())
			requests += s.Since.Requests
		}
		first := fmt.Sprintf("%d requests since they answered last", requests)
		if code == NotCalledIn {
			first = have[0].Notes[NoteNotCalled].Text
		}
		evidence := append([]string{first}, abridged(names)...)
		f.add(site.KindLink, l.Link.Name, code, 0.85, cause, evidence, next...)
	}
}

func addressWord(l site.Link) string { return l.Protocol.Traits().Address }

// some are the steps for stations that share a fault which others on their link have not.
func some(l Link) []Step {
	return []Step{say("look for what they have in common: a stretch of cable, a repeater, a supply, a port of the gateway"),
		say("check their power and their " + addressWord(l.Link) + "s"), do("let them be looked for", Scan, l.Link.Name)}
}

// meanings say of faults that stations may share what they mean to a link, when n of m stations have them.
var meanings = map[Code]func(l Link, n, m int) (cause Cause, next []Step){
	UnitSilent: func(l Link, n, m int) (Cause, []Step) {
		if n < m {
			return because("some-silent", "n", n, "all", m), some(l)
		}
		cause := because("all-silent-at", "place", l.Link.FarEnd(), "all", m)
		if l.Link.Transport.UsesSerialPort() || l.Link.Transport == site.UDP {
			cause = because("all-silent", "all", m, "place", l.Link.FarEnd())
		}
		next := []Step{say("check that this is the right device or gateway, and its port"), do("let the units be found", Scan, l.Link.Name),
			say("see whether another program holds the only session that it serves")}
		if l.Link.Transport == site.TCP && l.Link.Framing == site.MBAP {
			next = append(next, set("a gateway that passes bytes through needs framing rtu", site.KindLink, l.Link.Name, map[string]any{"framing": "rtu", "in_flight": 1}))
		}
		return cause, next
	},
	GatewayTarget: func(l Link, n, m int) (Cause, []Step) {
		if n < m {
			return because("gateway-some-targets", "n", n, "all", m), some(l)
		}
		return because("gateway-no-target", "all", m), []Step{
			say("compare baud, parity and stop bits of the gateway's serial side with the devices'"), say("check the wiring of that line: A and B swapped, the wrong port, the plug out"),
			say("lengthen the gateway's own timeout, if the devices are slow"), say("check the devices' power")}
	},
	GatewayPath: func(_ Link, n, m int) (Cause, []Step) {
		return because("gateway-paths", "n", n, "all", m), []Step{
			say("enter the units in the gateway's routing table"), say("check that the gateway's serial port is switched on and not busy with another master")}
	},
	NotCalledIn: func(l Link, n, m int) (Cause, []Step) {
		return because("outstations-not-called-in", "n", n, "all", m, "place", l.Link.Listen), waysIn(l)
	},
	OutstationSilent: func(l Link, n, m int) (Cause, []Step) {
		if n < m {
			return because("some-outstations-silent", "n", n, "all", m), some(l)
		}
		return because("all-outstations-silent", "all", m, "place", l.Link.FarEnd()), []Step{
			say("check that this is the right place, and its port"), do("let their addresses be looked for", Scan, l.Link.Name),
			say("see whether another master holds the only session that they serve")}
	},
}
