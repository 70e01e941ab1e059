package diagnose

import (
	"fmt"
	"slices"
	"time"

	"arithmon/internal/core/site"
)

// Stalls are how often, in the last minute, this machine did not run the service though it had something to do: another program took the
// processors, or the machine stood still.
type Stalls struct {
	Times   int
	Longest time.Duration
	Total   time.Duration
}

// What of that is told, and what it excuses.
const (
	stallTold   = 3 * time.Second // the longest
	stalledLong = 3 * time.Second // altogether: polls are late by it
	eachSpoils  = 3               // exchanges of a station, at most
	witnesses   = 20              // exchanges of another, in the same minute, that tell that it was not the machine
)

// stalled takes back what may be this machine's own doing: what came late, or not in time, for some exchanges of stations that answer otherwise.
func (f *finder) stalled(s Stalls, stations []Station) {
	if s.Times == 0 {
		return
	}
	byName := map[string]Station{}
	answers := map[string]int{} // of links
	for _, st := range stations {
		byName[st.Station.Name] = st
		answers[st.Station.Link] += st.Counts.Answers
	}
	timeouts := map[string]time.Duration{}
	for _, l := range f.links {
		timeouts[l.Link.Name] = time.Duration(l.Link.Timeout)
	}
	// A stall spoils exchanges with whoever is asked just then. Where most of those with a station fail and hardly any of the others', it is not that.
	others := func(st Station) bool {
		return slices.ContainsFunc(stations, func(o Station) bool {
			return o.Station.Name != st.Station.Name && o.Counts.Requests >= witnesses && o.Counts.Timeouts*10 <= o.Counts.Requests
		})
	}
	excused := func(st Station) bool {
		if st.Counts.Timeouts >= enough && st.Counts.Timeouts*2 >= st.Counts.Requests && others(st) {
			return false
		}
		return st.Counts.Answers > 0 && s.Longest >= timeouts[st.Station.Link]*4/5 && st.Counts.Timeouts <= eachSpoils*s.Times
	}
	f.list = slices.DeleteFunc(f.list, func(x Finding) bool {
		switch x.Code {
		case TimeoutShort, PauseShort, AnswersMissing, UnitSilent, OutstationSilent, ApplicationSilent:
			if x.Kind == site.KindStation {
				return excused(byName[x.Subject])
			}
			return !slices.ContainsFunc(f.stations[x.Subject], func(st Station) bool { return !excused(st) })
		case LineSilent:
			return answers[x.Subject] > 0 && s.Longest >= timeouts[x.Subject]*4/5
		case PollsLate:
			return s.Total >= stalledLong
		}
		return false
	})
	if s.Longest >= stallTold {
		f.add(OfService, "machine", MachineBusy, 0.95, because("machine-busy", "longest", s.Longest.Round(100*time.Millisecond).String()),
			[]string{fmt.Sprintf("%d times within a minute, %s altogether", s.Times, s.Total.Round(100*time.Millisecond))},
			say("see what else runs on this machine, and takes its processors or its memory"), say("switch off what lets it rest: saving power, a virtual machine that is paused"),
			say("let the service run on a machine of its own"))
	}
}
