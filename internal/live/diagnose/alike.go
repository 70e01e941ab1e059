package diagnose

import (
	"slices"
	"strings"

	"arithmon/internal/core/site"
)

// fewAlike is of how many points of a station the same is told one by one; of more, it is told of the station.
const fewAlike = 5

// gather makes one finding of those from begin on that tell the same of many points of a station. station gives that of a tag.
func (f *finder) gather(begin int, station map[string]string) {
	type same struct {
		station string
		code    Code
	}
	of := func(x Finding) same { return same{station[x.Subject], x.Code} }
	groups := map[same][]Finding{}
	for _, x := range f.list[begin:] {
		if x.Kind == site.KindPoint {
			groups[of(x)] = append(groups[of(x)], x)
		}
	}
	kept := f.list[:begin]
	for _, x := range slices.Clone(f.list[begin:]) {
		group := groups[of(x)]
		switch {
		case x.Kind != site.KindPoint || len(group) <= fewAlike:
			kept = append(kept, x)
		case x.Subject == group[0].Subject:
			kept = append(kept, several(of(x).station, group))
		}
	}
	f.list = kept
}

// several is one finding of a station for those of its points.
func several(station string, of []Finding) Finding {
	all := Finding{Code: of[0].Code, Subject: station, Kind: site.KindStation, Cause: because(of[0].Cause.Sentence+"-several", "points", len(of)), Next: of[0].Next}
	for _, x := range of {
		all.Certainty = max(all.Certainty, x.Certainty)
		text := x.Evidence[0]
		if !strings.Contains(text, x.Subject) {
			text = x.Subject + ": " + text
		}
		all.Evidence = append(all.Evidence, text)
	}
	all.Evidence = abridged(all.Evidence)
	if all.Code == BelowLiveZero {
		all.Next = slices.Insert(slices.Clone(all.Next), 0, say("measure the supply that these loops have in common"))
	}
	return all
}
