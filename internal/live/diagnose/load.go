package diagnose

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"arithmon/internal/core/site"
)

// What says that more is asked of a link than there is time for, and how much of the time is to be taken when that is mended.
const (
	overloaded  = 1.05
	wellLoaded  = 0.8
	leastPolls  = 20 // within the last minute
	mostFailing = 20 // one exchange in so many; with more, what fails is what takes the time
)

// usualPeriods are those that are proposed.
var usualPeriods = []time.Duration{
	50 * time.Millisecond, 100 * time.Millisecond, 200 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second,
	20 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour,
}

// load is the share of the time that the polls of stations take when none is asked more often than every so often; 1 is all there is.
func load(l Link, stations []Station, least time.Duration) (share float64) {
	var sum, n float64
	for _, s := range stations {
		if s.Exchange > 0 {
			sum, n = sum+s.Exchange.Seconds()*float64(s.Counts.Requests), n+float64(s.Counts.Requests)
		}
	}
	for _, s := range stations {
		exchange := s.Exchange.Seconds()
		if exchange == 0 && n > 0 {
			exchange = sum / n
		}
		for _, d := range s.Demand {
			share += float64(d.Requests) * exchange / max(d.Period, least).Seconds()
		}
	}
	return share / float64(max(1, l.Link.Connections*l.Link.InFlight))
}

// pollsLate finds that more is asked of a link than there is time for.
func (f *finder) pollsLate(l Link) {
	stations := f.stations[l.Link.Name]
	var polls, late, requests int
	for _, s := range stations {
		polls, late, requests = polls+s.Polls, late+s.LatePolls, requests+s.Counts.Requests
	}
	failed := l.Counts.Timeouts + l.Counts.Checksums + l.Counts.Malformed + l.Counts.Closed
	if polls < leastPolls || late*2 < polls || failed*mostFailing > requests || l.Link.Transport == site.Dialup {
		return
	}
	now := load(l, stations, 0)
	if now < overloaded {
		return
	}
	evidence := []string{fmt.Sprintf("%d of %d polls within a minute began late", late, polls)}
	for _, s := range stations[:min(len(stations), someOf)] {
		wanted := 0.0
		for _, d := range s.Demand {
			wanted += float64(d.Requests) / d.Period.Seconds()
		}
		evidence = append(evidence, fmt.Sprintf("%s: %.3g requests a second are wanted, and each takes %s", s.Station.Name, wanted, s.Exchange.Round(100*time.Microsecond)))
	}
	var next []Step
	if i := slices.IndexFunc(usualPeriods, func(p time.Duration) bool { return load(l, stations, p) <= wellLoaded }); i >= 0 {
		next = append(next, atMost(stations, usualPeriods[i]))
	}
	next = append(next, say("give points that change slowly a poll_group of their own, such as slow: 10s"),
		say("ask for more at once, where the device allows it: max_registers and gap decide how much"))
	if l.Link.Transport.UsesSerialPort() {
		next = append(next, say(fmt.Sprintf("use a higher baud than %d on the line and its devices", l.Link.Serial.Baud)))
	} else {
		next = append(next, say("let the link have more connections, or more requests in flight, where the device serves them"))
	}
	f.add(site.KindLink, l.Link.Name, PollsLate, 0.9, because("polls-late", "load", math.Round(10*now)/10), evidence, next...)
}

// atMost is the step after which no station is asked more often than every so often.
func atMost(stations []Station, least time.Duration) Step {
	step := Step{Text: fmt.Sprintf("ask for nothing more often than every %s; points with a poll of their own keep it", site.Duration(least))}
	for _, s := range stations {
		st, fields := s.Station, map[string]any{}
		if len(s.Demand) == 0 || s.Demand[0].Period >= least {
			continue
		}
		if st.Speaks() == site.DNP3 {
			fields["event_poll"] = site.Duration(least).String()
			for i, own := range []site.Duration{st.Class1Poll, st.Class2Poll, st.Class3Poll} {
				if own > 0 && time.Duration(own) < least {
					fields[fmt.Sprintf("class%d_poll", i+1)] = site.Duration(least).String()
				}
			}
		} else {
			if time.Duration(st.Poll) < least {
				fields["poll"] = site.Duration(least).String()
			}
			groups := map[string]any{}
			for _, name := range slices.Sorted(maps.Keys(st.PollGroups)) {
				groups[name] = max(st.PollGroups[name], site.Duration(least)).String()
			}
			if len(groups) > 0 {
				fields["poll_groups"] = groups
			}
		}
		if len(fields) > 0 {
			step.Changes = append(step.Changes, Change{site.KindStation, st.Name, fields})
		}
	}
	return step
}
