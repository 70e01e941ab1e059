package link

import (
	"cmp"
	"context"
	"slices"
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/failure"
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
	// Manners are other ways in which a station at its address may want to be asked.
	Manners(link site.Link, station site.Station) []Manner
}

// Explorer is a Driver that can see what a place on the network does with a connection on which nothing is asked. asks: it closes connections
// on which something is.
type Explorer interface {
	Explore(ctx context.Context, link site.Link, asks bool) (diagnose.Place, error)
}

// When it is tried what else a link or station may be: once, after so many exchanges without a response, and again after a while, since a
// device may have been switched on meanwhile. Other settings are tried only where nothing was ever answered with those that the link has;
// who has worked may have lost its place to somebody else, which is looked at more often.
const (
	othersAfter   = 3
	othersAgain   = 30 * time.Minute
	placeAgain    = time.Minute
	othersPatient = time.Second     // for a response
	leastPatient  = 3 * time.Second // with the settings that the link has; or two and a half times its timeout
	mostPatient   = 10 * time.Second
	linePatient   = 400 * time.Millisecond // on a serial line, of which more settings are tried
	othersAsked   = 2                      // stations; one of a serial line
)

// others is what came of trying what else a link may be.
type others struct {
	at     time.Time
	place  *diagnose.Place
	found  *diagnose.Other
	slow   *diagnose.Slow
	manner *diagnose.Manner
	tried  int
	done   bool

	end   context.CancelFunc // of the trial that has the link; nil when none has
	ended chan struct{}      // closed when it has given the link back
}

// WantsOthers reports whether it is to be tried now what else the link may be, and notes that it is.
func (r *Runner) WantsOthers(now time.Time) bool {
	if r.link.Transport == site.Dialup || r.link.Listen != "" || !r.link.Enabled { // a trial would end the connections that came in
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	c, worked, again := r.since.counts(), r.status.Statistics.Answers > 0, othersAgain
	nothing := c.Timeouts+c.Malformed+c.Checksums+c.Closed >= othersAfter && c.Answers == 0
	switch {
	case r.failures > 0:
		nothing = r.failure == failure.TLS && r.failures > 1
	case worked:
		nothing, again = c.Closed >= othersAfter && c.Answers == 0, placeAgain
	}
	if r.status.State == Paused || !nothing || !r.others.at.IsZero() && now.Sub(r.others.at) < again {
		return false
	}
	r.others = others{at: now}
	return true
}

// TryOthers looks what the far end does when nothing is asked, and asks the first stations of the link for a sign of life with each of the
// other settings, until one gives it.
func (r *Runner) TryOthers(ctx context.Context) error {
	r.mu.Lock()
	var stations []site.Station
	for _, s := range r.stations {
		if s.Enabled && !s.Broadcast {
			stations = append(stations, s.Station.Station)
		}
	}
	worked, asks := r.status.Statistics.Answers > 0, r.since.counts().Closed > 0
	r.mu.Unlock()
	slices.SortFunc(stations, func(a, b site.Station) int { return cmp.Compare(a.Name, b.Name) })
	ask := othersAsked
	if r.link.Transport.UsesSerialPort() {
		ask = 1
	}
	stations = stations[:min(len(stations), ask)]
	ended, cut := make(chan struct{}), false
	defer close(ended)
	err := r.Lend(ctx, "trying what else it may be, since nothing answers", func(ctx context.Context) {
		ctx, end := context.WithCancel(ctx)
		defer end()
		r.mu.Lock()
		r.others.end, r.others.ended = end, ended
		r.mu.Unlock()
		defer func() {
			cut = ctx.Err() != nil
			r.mu.Lock()
			defer r.mu.Unlock()
			r.others.end, r.others.ended = nil, nil
		}()
		if r.explore(ctx, asks) || worked || len(stations) == 0 {
			return
		}
		slow, partly := r.trySlow(ctx, stations[0])
		if slow || r.recognise(ctx) || r.speaks() || partly && r.tryManners(ctx, stations[0]) {
			return
		}
		driver, can := r.driver.(Alternator)
		if !can {
			return
		}
		tried := 0
		for _, other := range driver.Others(r.link) {
			if ctx.Err() != nil {
				return
			}
			tried++
			patience := othersPatient
			if other.Transport.UsesSerialPort() {
				patience = linePatient
			}
			station, sign, ok := r.tryOther(ctx, other, stations, patience)
			if !ok {
				continue
			}
			r.mu.Lock()
			r.others.found, r.others.tried = &diagnose.Other{Link: other, Station: station, Said: sign.Said}, tried
			r.mu.Unlock()
			return
		}
		r.mu.Lock()
		r.others.tried = tried
		r.mu.Unlock()
		r.tryLikely(ctx, stations[0])
	})
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.others.done = true; err != nil || cut { // the link was not to be had, or somebody else wanted it
		r.others = others{}
	}
	return err
}

// trySlow asks a station with more patience than the link has; told says that this tells why nothing answers, partly that its data link layer
// alone does.
func (r *Runner) trySlow(ctx context.Context, station site.Station) (told, partly bool) {
	_, sign, ok := r.tryOther(ctx, r.link, []site.Station{station}, max(time.Duration(r.link.Timeout), min(mostPatient, max(leastPatient, 5*time.Duration(r.link.Timeout)/2))))
	if !ok || sign.Partly {
		return false, sign.Partly
	}
	if sign.Took > time.Duration(r.link.Timeout) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.others.slow = &diagnose.Slow{Station: station.Name, Took: sign.Took}
	}
	return true, false
}

// yield ends a trial that has the link, since somebody wants it, and waits until it has given it back; false when none has it.
func (r *Runner) yield(ctx context.Context) bool {
	r.mu.Lock()
	end, ended := r.others.end, r.others.ended
	r.mu.Unlock()
	if end == nil {
		return false
	}
	end()
	select {
	case <-ended:
		return true
	case <-ctx.Done():
		return false
	}
}

// explore looks what the far end does with a connection on which nothing is asked; true when that tells why nothing answers.
func (r *Runner) explore(ctx context.Context, asks bool) bool {
	driver, can := r.driver.(Explorer)
	if !can || r.link.Transport != site.TCP {
		return false
	}
	place, err := driver.Explore(ctx, r.link, asks)
	if err != nil || ctx.Err() != nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if own, can := r.driver.(Recogniser); can && own.Speaks(place.Said) {
		place.Said = nil // as those may that report by themselves
	}
	r.others.place = &place
	return place.Closed || place.TLS
}

// tryLikely asks the addresses that devices often have, with the settings that the link has; who answers counts as found.
func (r *Runner) tryLikely(ctx context.Context, like site.Station) {
	for _, station := range r.likely(like) {
		if ctx.Err() != nil {
			return
		}
		if _, _, ok := r.tryOther(ctx, r.link, []site.Station{station}, max(time.Duration(r.link.Timeout), linePatient)); ok {
			r.Found([]int{station.LinkAddress()}, time.Now())
		}
	}
}

// likely are the addresses that a station may have instead, and no other has.
func (r *Runner) likely(like site.Station) []site.Station {
	driver, can := r.driver.(Alternator)
	if !can || like.Broadcast {
		return nil
	}
	list := driver.Likely(r.link, like)
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.DeleteFunc(list, func(s site.Station) bool { return r.units[s.LinkAddress()] != nil })
}

// WantsAddress gives a station that is silent while others of its link answer, and of which it is to be looked now whether it has another
// address; it notes that it is. "" stands for none.
func (r *Runner) WantsAddress(now time.Time) string {
	if r.link.Transport == site.Dialup || r.link.Listen != "" {
		return ""
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.status.State != Up || r.status.Statistics.Answers == 0 {
		return ""
	}
	for _, s := range r.stations {
		c := s.since.counts()
		nothing := c.Timeouts+c.Exceptions[10]+c.Exceptions[11] >= othersAfter
		if s.status.State == StationSilent && nothing && c.Late == 0 && (s.likelyAt.IsZero() || now.Sub(s.likelyAt) >= othersAgain) {
			s.likelyAt = now
			return s.status.Name
		}
	}
	return ""
}

// besides puts the addresses next to the one that a station has first.
func besides(list []site.Station, like site.Station) []site.Station {
	next := func(s site.Station) bool {
		d := s.LinkAddress() - like.LinkAddress()
		return d == 1 || d == -1
	}
	slices.SortStableFunc(list, func(a, b site.Station) int {
		switch {
		case next(a) == next(b):
			return 0
		case next(a):
			return -1
		}
		return 1
	})
	return list
}

// TryAddresses asks the addresses that a station may have instead, one after the other, between the polls of the link.
func (r *Runner) TryAddresses(ctx context.Context, name string) error {
	var like site.Station
	if err := r.Command(ctx, name, func(t *Turn) error { like = t.Station().Station; return nil }); err != nil {
		return err
	}
	for _, station := range besides(r.likely(like), like) {
		answered := false
		err := r.Command(ctx, name, func(t *Turn) error {
			return t.Use(func(session Session) bool {
				_, err := session.Test(station)
				answered = err == nil
				return err != nil
			})
		})
		if err != nil {
			return err
		}
		if answered {
			r.Found([]int{station.LinkAddress()}, time.Now())
		}
	}
	return nil
}

// tryOther asks stations on a connection of its own.
func (r *Runner) tryOther(ctx context.Context, other site.Link, stations []site.Station, patience time.Duration) (station string, sign Sign, ok bool) {
	other.Timeout, other.Retries = site.Duration(patience), 0
	opening, cancel := context.WithTimeout(ctx, 2*othersPatient)
	defer cancel()
	session, err := r.driver.Open(opening, other, watched{r})
	if err != nil {
		return "", sign, false
	}
	defer session.Close()
	defer context.AfterFunc(ctx, session.Close)()
	if reporter, ok := session.(Reporter); ok {
		for _, s := range stations {
			reporter.Follow(Station{Station: s})
		}
		reporter.Begin()
	}
	for _, s := range stations {
		if sign, err := session.Test(s); err == nil {
			return s.Name, sign, true
		}
		if session.Lost() {
			break
		}
	}
	return "", sign, false
}

// Trial is the Host of a session that only tries something: what it hears is nobody's, and nothing of it is to be remembered.
type Trial interface{ Trial() }

func (watched) Trial() {}

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
func (watched) Keep() bool                              { return false } // so that what is reported meanwhile comes again
func (watched) Asked(int, Outcome, time.Duration, bool) {}
func (w watched) Fault(f *crash.Error)                  { w.r.Fault(f) }
func (watched) DeviceState(string, []string)            {}
