package link

import (
	"context"
	"time"
)

// rests are how long after a response requests came that were answered, and that were not. Some devices, and gateways, do not hear what
// comes too soon.
type rests struct {
	since            time.Time
	answered, missed int
	soonest, least   time.Duration // of the answered ones: the least, and the least but for that one
	most, latest     time.Duration // of the missed ones: the most but for one, which may have been lost on the way, and that one

	tried    time.Time     // when it was measured how long the device needs
	measured bool          // that is done
	found    time.Duration // and how long that was; 0 where it is not known
}

// What is seen counts for so long, and means something from so many of each.
const (
	restsFor  = 2 * time.Minute
	fewRests  = 5
	leastRest = 5 * time.Millisecond
)

// saw takes a request that came so long after a response.
func (x *rests) saw(after time.Duration, answered bool, now time.Time) {
	if now.Sub(x.since) > restsFor {
		*x = rests{since: now, tried: x.tried, measured: x.measured, found: x.found}
	}
	switch {
	case !answered:
		x.missed, x.most, x.latest = x.missed+1, max(x.most, min(x.latest, after)), max(x.latest, after)
	case x.answered == 0:
		x.answered, x.soonest, x.least = 1, after, after
	case x.answered == 1:
		x.answered, x.soonest, x.least = 2, min(x.soonest, after), max(x.soonest, after)
	default:
		x.answered, x.least, x.soonest = x.answered+1, min(x.least, max(x.soonest, after)), min(x.soonest, after)
	}
}

// apart reports whether those that were answered came later after a response than those that were not; the device counts from another moment
// than is known here, so that they may meet.
func (x *rests) apart() bool {
	return x.answered >= fewRests && x.missed >= fewRests && x.least >= leastRest && x.most <= x.least+x.least/8+leastRest
}

// needed is how long a device wants to be left alone after a response, 0 where requests get lost for another reason, or that is not known yet.
func (x *rests) needed() time.Duration {
	switch {
	case !x.apart() || !x.measured:
		return 0
	case x.found > 0 && x.found < x.least:
		return x.found
	}
	return x.least
}

// restsAgain is how often it is measured at most how long a device needs.
const restsAgain = 10 * time.Minute

// restsTried are the times after a response at which a device is asked again, to find the shortest at which it hears that.
var restsTried = [...]time.Duration{20 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, 150 * time.Millisecond, 200 * time.Millisecond, 300 * time.Millisecond, 500 * time.Millisecond}

// WantsRest gives a station that does not hear what comes too soon after a response, and of which it is to be measured now how soon that is;
// it notes that it is. "" stands for none.
func (r *Runner) WantsRest(now time.Time) string {
	if r.lanes != 1 {
		return ""
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.stations {
		if x := &s.rests; x.apart() && (x.tried.IsZero() || now.Sub(x.tried) >= restsAgain) {
			x.tried = now
			return s.status.Name
		}
	}
	return ""
}

// TryRests measures how long after a response a station hears the next request.
func (r *Runner) TryRests(ctx context.Context, station string) error {
	found := time.Duration(0)
	for _, wait := range restsTried {
		if found > 0 {
			break
		}
		err := r.Command(ctx, station, func(t *Turn) error { // one at a time, so that the polls of others go on between them
			st := t.Station().Station
			return t.Use(func(session Session) bool {
				if _, err := session.Test(st); err != nil {
					return true
				}
				time.Sleep(wait)
				// A session repeats what is not answered, which is in how long it took.
				if sign, err := session.Test(st); err == nil && sign.Took < time.Duration(r.link.Timeout) {
					found = wait
				}
				return false
			})
		})
		if err != nil {
			return err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.stations[station]; s != nil {
		s.rests.measured, s.rests.found = true, found
	}
	return nil
}
