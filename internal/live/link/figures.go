package link

import (
	"math"
	"time"
)

// Windows of figures: the last minute in steps of five seconds, the last quarter of an hour in steps of three minutes.
const (
	fineStep   = 5 * time.Second
	fineSteps  = 12
	wideStep   = 3 * time.Minute
	wideSteps  = 5
	bins       = 48
	firstBin   = 0.1  // milliseconds
	binRatio   = 1.32 // from one bin to the next, so that the last ends at a minute
	knownCodes = 12   // exceptions are counted by code below that, the others together as 0
)

// tally counts what happened in a step of time.
type tally struct {
	step                                                     int64 // number of the step since 1970; what is of another one is old
	requests, answers, retries, polls, latePolls             uint32
	timeouts, checksums, malformed, exceptions               uint32
	late, foreign, stray, echoes, damaged, closed, reconnect uint32
	alien                                                    uint32  // requests that nobody here has made
	short, closedAfter, extra                                uint32  // answers too short; ends after a response; further connections refused
	sent, received                                           uint32  // bytes
	busy                                                     float32 // seconds in which an exchange was under way
	lateness, mostLate                                       float32 // milliseconds, sum and most
	least, most                                              float32 // round trip, milliseconds
	slowest                                                  float32 // of responses that came late, milliseconds
	spread                                                   *spread // nil until there is something to count
}

// spread is how exchanges are spread over codes and round trips. A link by itself has none: it is that of its stations.
type spread struct {
	codes [knownCodes]uint16
	trips [bins]uint16
}

// spreading returns the spread, made when there is none.
func (t *tally) spreading() *spread {
	if t.spread == nil {
		t.spread = new(spread)
	}
	return t.spread
}

// figures are the tallies of a link or station.
type figures struct {
	fine  [fineSteps]tally
	wide  [wideSteps]tally
	total tally
	since time.Time // of total
	fresh time.Time // of fine, where it began anew later
}

// beginMinute forgets what the last minute counted.
func (f *figures) beginMinute(now time.Time) { f.fine, f.fresh = [fineSteps]tally{}, now }

// at changes what is counted at a moment.
func (f *figures) at(now time.Time, change func(*tally)) {
	if f.since.IsZero() {
		f.since = now
	}
	change(current(f.fine[:], now, fineStep))
	change(current(f.wide[:], now, wideStep))
	change(&f.total)
}

func current(steps []tally, now time.Time, step time.Duration) *tally {
	n := now.UnixNano() / int64(step)
	t := &steps[n%int64(len(steps))]
	if t.step != n {
		again := t.spread
		*t = tally{step: n, spread: again}
		if again != nil {
			*again = spread{}
		}
	}
	return t
}

// trip counts a round trip.
func (t *tally) trip(took time.Duration) {
	ms := float32(took) / float32(time.Millisecond)
	if t.least == 0 || ms < t.least {
		t.least = ms
	}
	t.most = max(t.most, ms)
	bin := 0
	if ms > firstBin {
		bin = min(bins-1, 1+int(math.Log(float64(ms)/firstBin)/math.Log(binRatio)))
	}
	trips := &t.spreading().trips
	if trips[bin] == math.MaxUint16 {
		for i := range trips {
			trips[i] /= 2 // so that what is recent weighs more
		}
	}
	trips[bin]++
}

func (t *tally) code(n int) {
	if n < 0 || n >= knownCodes {
		n = 0
	}
	if codes := &t.spreading().codes; codes[n] < math.MaxUint16 {
		codes[n]++
	}
}

// add counts what o counted, too.
func (t *tally) add(o *tally) {
	for _, pair := range [...][2]*uint32{
		{&t.requests, &o.requests}, {&t.answers, &o.answers}, {&t.retries, &o.retries}, {&t.polls, &o.polls}, {&t.latePolls, &o.latePolls},
		{&t.timeouts, &o.timeouts}, {&t.checksums, &o.checksums}, {&t.malformed, &o.malformed}, {&t.exceptions, &o.exceptions},
		{&t.late, &o.late}, {&t.foreign, &o.foreign}, {&t.stray, &o.stray}, {&t.echoes, &o.echoes}, {&t.damaged, &o.damaged}, {&t.alien, &o.alien}, {&t.closed, &o.closed},
		{&t.short, &o.short}, {&t.closedAfter, &o.closedAfter}, {&t.extra, &o.extra}, {&t.reconnect, &o.reconnect}, {&t.sent, &o.sent}, {&t.received, &o.received},
	} {
		*pair[0] += *pair[1]
	}
	t.busy += o.busy
	t.lateness += o.lateness
	t.mostLate, t.most, t.slowest = max(t.mostLate, o.mostLate), max(t.most, o.most), max(t.slowest, o.slowest)
	if o.least > 0 && (t.least == 0 || o.least < t.least) {
		t.least = o.least
	}
	if o.spread == nil {
		return
	}
	own := t.spreading()
	for i, n := range o.spread.codes {
		own.codes[i] += min(n, math.MaxUint16-own.codes[i])
	}
	for i, n := range o.spread.trips {
		own.trips[i] += min(n, math.MaxUint16-own.trips[i])
	}
}

// Figures say how well a link or station communicated over a time.
type Figures struct {
	Seconds    float64 // how long the time was
	Requests   uint32
	Answers    uint32  // refusals included
	Good       float64 // share of exchanges that brought data, 0 to 1; 1 when there were none
	Timeouts   uint32
	Checksums  uint32
	Malformed  uint32         // responses that are none to the request
	Exceptions map[int]uint16 // refusals by code; 0 stands for those above 11
	Retries    uint32
	Reconnects uint32
	Late       uint32 // that came after their request had timed out
	Foreign    uint32 // to no request under way
	Stray      uint32 // what came though nothing was asked
	Sent       uint32
	Received   uint32
	Occupancy  float64 // share of the time in which an exchange was under way, 0 to 1; more where several are at once
	RoundTrip  RoundTrip
	LatePolls  uint32  // begun more than 50 ms after they were due
	MeanLate   float64 // of all polls
	MostLate   float64
}

// RoundTrip is the spread of round trips in milliseconds; zeros when there were none.
type RoundTrip struct {
	Least  float64
	Median float64
	P95    float64 // 95 of 100 were quicker
	P99    float64
	Most   float64
}

// TrendStep is one of the steps of a trend.
type TrendStep struct {
	Answers uint32
	Failed  uint32
	Median  float64
}

// Windows are the figures over several times.
type Windows struct {
	Minute  Figures     // over the last minute
	Quarter Figures     // over the last quarter of an hour
	Total   Figures     // since the service started, or since they were reset
	Since   time.Time   // of total
	Trend   []TrendStep // the last minute in steps of five seconds, the newest last
}

// failed is how many exchanges brought nothing.
func (t *tally) failed() uint32 {
	return t.timeouts + t.checksums + t.malformed + t.exceptions + t.closed
}

func (t *tally) figures(seconds float64) Figures {
	f := Figures{
		Seconds: seconds, Requests: t.requests, Answers: t.answers, Good: 1, Timeouts: t.timeouts, Checksums: t.checksums, Malformed: t.malformed,
		Retries: t.retries, Reconnects: t.reconnect, Late: t.late, Foreign: t.foreign, Stray: t.stray, Sent: t.sent, Received: t.received,
		LatePolls: t.latePolls, MostLate: round(float64(t.mostLate)),
		RoundTrip: RoundTrip{round(float64(t.least)), t.percentile(0.5), t.percentile(0.95), t.percentile(0.99), round(float64(t.most))},
	}
	if t.requests > 0 {
		f.Good = exchanged{t.requests, t.failed()}.good()
	}
	if t.polls > 0 {
		f.MeanLate = round(float64(t.lateness) / float64(t.polls))
	}
	if seconds > 0 {
		f.Occupancy = math.Round(1e4*float64(t.busy)/seconds) / 1e4
	}
	f.Exceptions = t.byCode()
	return f
}

// byCode is how many refusals there were of each code, nil when there were none.
func (t *tally) byCode() map[int]uint16 {
	if t.exceptions == 0 || t.spread == nil {
		return nil
	}
	byCode := map[int]uint16{}
	for code, n := range t.spread.codes {
		if n > 0 {
			byCode[code] = n
		}
	}
	return byCode
}

func round(ms float64) float64 { return math.Round(100*ms) / 100 }

// percentile is the round trip below which a share of them lies, to about 15 %.
func (t *tally) percentile(share float64) float64 {
	var all, seen int
	var trips [bins]uint16
	if t.spread != nil {
		trips = t.spread.trips
	}
	for _, n := range trips {
		all += int(n)
	}
	if all == 0 {
		return 0
	}
	for i, n := range trips {
		if seen += int(n); float64(seen) >= share*float64(all) {
			middle := firstBin * math.Pow(binRatio, float64(i)-0.5)
			return round(min(max(middle, float64(t.least)), float64(t.most)))
		}
	}
	return round(float64(t.most))
}

// exchanged is how many exchanges there were, and how many of them brought nothing.
type exchanged struct {
	requests, failed uint32
}

// good is the share of those that brought data, of some.
func (e exchanged) good() float64 { return max(0, 1-float64(e.failed)/float64(e.requests)) }

// exchanged counts the exchanges of the last minute.
func (f *figures) exchanged(now time.Time) (sum exchanged) {
	n := now.UnixNano() / int64(fineStep)
	for i := range f.fine {
		if t := &f.fine[i]; t.step > n-fineSteps && t.step <= n {
			sum.requests, sum.failed = sum.requests+t.requests, sum.failed+t.failed()
		}
	}
	return sum
}

// over sums the steps that are not older than those that belong to now.
func over(steps []tally, now time.Time, step time.Duration) (sum tally, seconds float64) {
	n := now.UnixNano() / int64(step)
	for i := range steps {
		if t := &steps[i]; t.step > n-int64(len(steps)) && t.step <= n {
			sum.add(t)
		}
	}
	into := now.UnixNano() - n*int64(step)
	return sum, float64(len(steps)-1)*step.Seconds() + float64(into)/1e9
}

// windows gives the figures at a moment.
func (f *figures) windows(now time.Time) Windows {
	w := Windows{Since: f.since.UTC()}
	lived := now.Sub(f.since).Seconds()
	if f.since.IsZero() {
		w.Since, lived = now.UTC(), 0
	}
	minute, seconds := over(f.fine[:], now, fineStep)
	w.Minute = minute.figures(min(seconds, lived, now.Sub(f.fresh).Seconds()))
	quarter, seconds := over(f.wide[:], now, wideStep)
	w.Quarter = quarter.figures(min(seconds, lived))
	w.Total = f.total.figures(lived)
	n := now.UnixNano() / int64(fineStep)
	for k := n - fineSteps + 1; k <= n; k++ {
		var s TrendStep
		if t := &f.fine[k%fineSteps]; t.step == k {
			s = TrendStep{t.answers, t.failed(), t.percentile(0.5)}
		}
		w.Trend = append(w.Trend, s)
	}
	return w
}

// sum adds what other figures counted.
func (f *figures) sum(o *figures, now time.Time) {
	for i := range o.fine {
		if t := &o.fine[i]; t.step > 0 && t.step > now.UnixNano()/int64(fineStep)-fineSteps {
			f.fine[i].step = t.step
			f.fine[i].add(t)
		}
	}
	for i := range o.wide {
		if t := &o.wide[i]; t.step > 0 && t.step > now.UnixNano()/int64(wideStep)-wideSteps {
			f.wide[i].step = t.step
			f.wide[i].add(t)
		}
	}
	f.total.add(&o.total)
	if f.since.IsZero() || !o.since.IsZero() && o.since.Before(f.since) {
		f.since = o.since
	}
}
