package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"arithmon/internal/core/site"
)

// How long a station without a good point is watched before it is said that nothing explains it; over a dial-up line each look takes a
// call.
const (
	watched       = 25 * time.Second
	watchedDialup = 3 * time.Minute
)

// Watch is a station none of whose points is good, and of which too little is known yet to say why.
type Watch struct {
	Station string
	Bad     int           // of its points: all
	Left    time.Duration // until there is enough evidence
}

// String says what is watched, and for how long.
func (w Watch) String() string {
	return fmt.Sprintf("station %s: all %d points are bad; watching, %d s more", w.Station, w.Bad, int(w.Left.Round(time.Second)/time.Second))
}

// Watching lists the stations without a good point of which no finding tells why, by name.
func Watching(e Evidence, list []Finding) []Watch {
	watching := []Watch{}
	for _, s := range unexplained(e, list) {
		if left := e.patience(s) - s.BadFor; left > 0 {
			watching = append(watching, Watch{s.Station.Name, s.Bad, max(left, time.Second)})
		}
	}
	slices.SortFunc(watching, func(a, b Watch) int { return cmp.Compare(a.Station, b.Station) })
	return watching
}

// patience is how long a station is watched.
func (e Evidence) patience(s Station) time.Duration {
	for _, l := range e.Links {
		if l.Link.Name == s.Station.Link && l.Link.Transport == site.Dialup {
			return watchedDialup
		}
	}
	return watched
}

// unexplained are the stations without a good point that no finding is about, nor about their link or a point of theirs.
func unexplained(e Evidence, list []Finding) (out []Station) {
	about := map[site.Kind]map[string]bool{site.KindLink: {}, site.KindStation: {}}
	for _, f := range list {
		switch {
		case about[f.Kind] != nil:
			about[f.Kind][f.Subject] = true
		default:
			for _, m := range e.Misread {
				for _, p := range m.Points {
					if p.Point.Tag == f.Subject {
						about[site.KindStation][p.Point.Station] = true
					}
				}
			}
			for _, p := range e.Points {
				if p.Point.Tag == f.Subject {
					about[site.KindStation][p.Point.Station] = true
				}
			}
		}
	}
	for _, s := range e.Stations {
		if s.Bad > 0 && !s.Station.Broadcast && !about[site.KindStation][s.Station.Name] && !about[site.KindLink][s.Station.Link] {
			out = append(out, s)
		}
	}
	return out
}

// nothingGood says of stations without a good point that nothing else explains them.
func (f *finder) nothingGood(e Evidence) {
	for _, s := range unexplained(e, f.list) {
		if s.BadFor < e.patience(s) {
			continue
		}
		name := s.Station.Name
		f.add(site.KindStation, name, NothingGood, 0.55, because("nothing-good", "points", s.Bad, "reason", s.Why),
			[]string{fmt.Sprintf("for %s, and no other finding tells why", s.BadFor.Round(time.Second)), s.Reason},
			do("see what the reason means", Explain, s.Why), do("see the frames", Frames, name),
			do("ask the device stage by stage", Probe, name), do("have everything asked anew", Refresh, name))
	}
}
