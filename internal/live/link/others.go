package link

import (
	"cmp"
	"context"
	"slices"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// Alternator is a Driver that knows what else a link may be set to when nothing proper comes: each with one setting that differs, the more
// usual first. To try them must harm nothing.
type Alternator interface {
	Others(link site.Link) []site.Link
	// Likely are stations like one, each with an address that devices on such a link often have.
	Likely(link site.Link, station site.Station) []site.Station
}

// When other settings are tried: once, after so many exchanges without a response, where nothing was ever answered with the settings that
// the link has; and again after a while, since a device may have been switched on meanwhile.
const (
	othersAfter   = 5
	othersAgain   = 30 * time.Minute
	othersPatient = time.Second            // for a response
	linePatient   = 400 * time.Millisecond // on a serial line, of which more settings are tried
	othersAsked   = 2                      // stations; one of a serial line
)

// others is what came of trying other settings.
type others struct {
	at    time.Time
	found *diagnose.Other
	tried int
}

// WantsOthers reports whether other settings of the link are to be tried now, and notes that they are.
func (r *Runner) WantsOthers(now time.Time) bool {
	if _, can := r.driver.(Alternator); !can || r.link.Transport == site.Dialup || !r.link.Enabled {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	c := r.since.counts()
	nothing := c.Timeouts+c.Malformed+c.Checksums+c.Closed >= othersAfter && c.Answers == 0 && r.status.Statistics.Answers == 0
	if r.failures > 0 || r.status.State == Paused || !nothing || !r.others.at.IsZero() && now.Sub(r.others.at) < othersAgain {
		return false
	}
	r.others = others{at: now}
	return true
}

// TryOthers asks the first stations of the link for a sign of life with each of the other settings, until one gives it.
func (r *Runner) TryOthers(ctx context.Context) error {
	r.mu.Lock()
	var stations []site.Station
	for _, s := range r.stations {
		if s.Enabled && !s.Broadcast {
			stations = append(stations, s.Station.Station)
		}
	}
	r.mu.Unlock()
	slices.SortFunc(stations, func(a, b site.Station) int { return cmp.Compare(a.Name, b.Name) })
	ask := othersAsked
	if r.link.Transport.UsesSerialPort() {
		ask = 1
	}
	stations = stations[:min(len(stations), ask)]
	err := r.Lend(ctx, "trying other settings, since nothing answers", func(ctx context.Context) {
		tried := 0
		for _, other := range r.driver.(Alternator).Others(r.link) {
			if ctx.Err() != nil {
				return
			}
			tried++
			station, said, ok := r.tryOther(ctx, other, stations)
			if !ok {
				continue
			}
			r.mu.Lock()
			r.others.found, r.others.tried = &diagnose.Other{Link: other, Station: station, Said: said}, tried
			r.mu.Unlock()
			return
		}
		r.mu.Lock()
		r.others.tried = tried
		r.mu.Unlock()
		if len(stations) > 0 {
			r.tryLikely(ctx, stations[0])
		}
	})
	if err != nil { // the link was not to be had
		r.mu.Lock()
		r.others = others{}
		r.mu.Unlock()
	}
	return err
}

// tryLikely asks the addresses that devices often have, with the settings that the link has; who answers counts as found.
func (r *Runner) tryLikely(ctx context.Context, like site.Station) {
	for _, station := range r.driver.(Alternator).Likely(r.link, like) {
		r.mu.Lock()
		known := r.units[station.LinkAddress()] != nil
		r.mu.Unlock()
		if known || ctx.Err() != nil {
			continue
		}
		if _, _, ok := r.tryOther(ctx, r.link, []site.Station{station}); ok {
			r.Found([]int{station.LinkAddress()}, time.Now())
		}
	}
}

// tryOther asks stations on a connection of its own.
func (r *Runner) tryOther(ctx context.Context, other site.Link, stations []site.Station) (station, said string, ok bool) {
	patience := othersPatient
	if other.Transport.UsesSerialPort() {
		patience = linePatient
	}
	other.Timeout, other.Retries = site.Duration(min(time.Duration(other.Timeout), patience)), 0
	opening, cancel := context.WithTimeout(ctx, 2*othersPatient)
	defer cancel()
	session, err := r.driver.Open(opening, other, watched{r})
	if err != nil {
		return "", "", false
	}
	defer session.Close()
	defer context.AfterFunc(ctx, session.Close)()
	for _, s := range stations {
		if said, err := session.Test(s); err == nil {
			return s.Name, said, true
		}
		if session.Lost() {
			break
		}
	}
	return "", "", false
}

// watched is the Host of a session that only tries something: what crosses the link is kept as traffic, and counts for nothing.
type watched struct{ r *Runner }

func (w watched) FrameSeen(f Frame) {
	now := f.At
	if now.IsZero() {
		now = time.Now()
	}
	w.r.ring.Add(traffic.Frame{Time: now, Unit: f.Unit, Kind: f.Kind, Data: f.Data, After: f.After, Text: f.Text, Ends: f.Ends})
}

func (watched) Emit([]table.Sample)                     {}
func (watched) Doing(string)                            {}
func (watched) PollNow(string)                          {}
func (watched) Note(string, diagnose.Note)              {}
func (watched) Keep() bool                              { return true }
func (watched) Asked(int, Outcome, time.Duration, bool) {}
func (w watched) Fault(f *crash.Error)                  { w.r.Fault(f) }
func (watched) DeviceState(string, []string)            {}
