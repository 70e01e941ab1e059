package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// These tests run in synctest bubbles: time stands still but for when every goroutine waits, so that they are exact
// and take no time. A goroutine left behind fails them.

// plant is a driver of simulated stations: one job for each station and period.
type plant struct {
	mu        sync.Mutex
	roundTrip time.Duration
	opening   time.Duration           // how long Open takes
	most      int                     // connections that are served; further ones end when they are asked; 0: all
	panics    map[string]bool         // stations whose exchanges panic
	refuse    error                   // Open fails with it
	silent    map[string]bool         // stations that do not answer
	lose      map[string]int          // so many exchanges of a station lose the link
	outcome   map[string]link.Outcome // what a station answers instead of a value
	opened    int
	closed    int
	log       []string               // exchanges in order
	times     map[string][]time.Time // of the exchanges with each station
	held      codec.Value            // what was written
}

func newPlant() *plant {
	return &plant{roundTrip: 10 * time.Millisecond, silent: map[string]bool{}, lose: map[string]int{}, outcome: map[string]link.Outcome{}, times: map[string][]time.Time{}}
}

type plantJob struct {
	station string
	period  time.Duration
	slots   []*table.Slot
}

func (j *plantJob) Period() time.Duration { return j.period }
func (j *plantJob) Slots() []*table.Slot  { return j.slots }

func (p *plant) Protocol() site.Protocol { return site.Modbus }

func (p *plant) Jobs(_ site.Link, s link.Station) []link.Job {
	byPeriod := map[time.Duration]*plantJob{}
	var jobs []link.Job
	for _, slot := range s.Slots {
		if byPeriod[slot.Period] == nil {
			byPeriod[slot.Period] = &plantJob{station: s.Name, period: slot.Period}
			jobs = append(jobs, byPeriod[slot.Period])
		}
		byPeriod[slot.Period].slots = append(byPeriod[slot.Period].slots, slot)
	}
	return jobs
}

type plantSession struct {
	*plant
	link site.Link
	host link.Host
	lost atomic.Bool

	served bool
}

func (p *plant) Open(ctx context.Context, link site.Link, host link.Host) (link.Session, error) {
	p.mu.Lock()
	takes := p.opening
	p.mu.Unlock()
	select {
	case <-time.After(takes):
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.refuse != nil {
		return nil, p.refuse
	}
	p.opened++
	return &plantSession{plant: p, link: link, host: host, served: p.most == 0 || p.opened-p.closed <= p.most}, nil
}

func (s *plantSession) Do(job link.Job) link.Outcome {
	j := job.(*plantJob)
	s.mu.Lock()
	s.log = append(s.log, j.station)
	s.times[j.station] = append(s.times[j.station], time.Now())
	silent, out, lose, panics := s.silent[j.station], s.outcome[j.station], s.lose[j.station] > 0 || !s.served, s.panics[j.station]
	s.lose[j.station]--
	s.mu.Unlock()
	if panics {
		panic("a fault")
	}
	s.lost.Store(lose)
	if lose {
		return link.Outcome{Err: errors.New("connection lost"), Reason: reading.LinkDown}
	}
	if silent {
		time.Sleep(time.Duration(s.link.Timeout))
		return link.Outcome{Err: errors.New("no response in time"), Reason: reading.Timeout}
	}
	time.Sleep(s.roundTrip)
	if out.Err != nil {
		return out
	}
	for _, slot := range j.slots {
		s.host.Emit([]table.Sample{{Slot: slot, Value: codec.UintValue(7), Words: []uint16{7}, Quality: reading.Good}})
	}
	return link.Outcome{}
}

func (s *plantSession) Read(site.Station, site.Range) ([]table.Sample, error) {
	time.Sleep(s.roundTrip)
	s.set(func() { s.log = append(s.log, "read") })
	return []table.Sample{{Value: codec.UintValue(7), Words: []uint16{7}}}, nil
}

func (s *plantSession) Write(_ site.Station, what link.Command) link.Written {
	raw := what.Raw[0]
	time.Sleep(s.roundTrip)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.log = append(s.log, "write")
	s.held = raw
	if s.outcome["write"].Err != nil {
		return link.Written{Err: s.outcome["write"].Err, Reached: true}
	}
	samples := []table.Sample{{Slot: what.Slot, Value: raw, Words: []uint16{1}, Quality: reading.Good}}
	return link.Written{Before: []table.Sample{{Value: codec.UintValue(0), Quality: reading.Good}}, Sent: samples, After: samples, Reached: true, Accepted: true}
}

func (s *plantSession) Test(site.Station) (link.Sign, error) { return link.Sign{Said: "here"}, nil }
func (s *plantSession) Lost() bool                           { return s.lost.Load() }
func (s *plantSession) Traffic() link.Traffic                { return link.Traffic{} }
func (s *plantSession) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed++
}

// count returns how many exchanges a station had.
func (p *plant) count(station string) int { return len(p.at(station)) }

// at returns when a station was asked.
func (p *plant) at(station string) []time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.times[station])
}

// sessions returns how many were opened and closed.
func (p *plant) sessions() (opened, closed int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.opened, p.closed
}

// order returns all exchanges in their order.
func (p *plant) order() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.log)
}

// written returns what was written last.
func (p *plant) written() codec.Value {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.held
}

func (p *plant) set(f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f()
}

// build makes a site of one link with stations of one point each, polled every second: st1/value, st2/value…
func build(t *testing.T, stations int, edit func(*site.Link)) *site.Site {
	t.Helper()
	s := site.New()
	d := s.Edit()
	l := site.NewLink()
	l.Name, l.Host = "bus", "127.0.0.1"
	if edit != nil {
		edit(&l)
	}
	d.Add(l)
	for i := 1; i <= stations; i++ {
		st := site.NewStation()
		st.Name, st.Link, st.Unit = fmt.Sprintf("st%d", i), "bus", i
		d.Add(st)
		d.Add(site.Point{Tag: st.Name + "/value", Station: st.Name, Address: site.Address{Space: site.HoldingRegisters}, Writable: true})
	}
	s = apply(t, nil, s, d)
	return s
}

func apply(t *testing.T, e *Engine, s *site.Site, d *site.Draft) *site.Site {
	t.Helper()
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	if e != nil {
		e.Apply(s, changes)
	}
	return s
}

// run starts an engine on a site in a bubble.
func run(t *testing.T, s *site.Site, p *plant, f func(t *testing.T, e *Engine)) {
	synctest.Test(t, func(t *testing.T) {
		e := New(Options{Drivers: []link.Driver{p}})
		e.Start(context.Background(), s)
		defer e.Stop()
		f(t, e)
	})
}

func quality(t *testing.T, e *Engine, tag string) string {
	t.Helper()
	l, ok := e.Reading(tag)
	require.True(t, ok)
	return l.Reading.ShortName()
}

func TestPollsKeepTheirPeriod(t *testing.T) {
	p := newPlant()
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(10500 * time.Millisecond)
		times := p.at("st1")
		assert.InDelta(t, 11, len(times), 1)
		for i := 2; i < len(times); i++ {
			assert.Equal(t, time.Second, times[i].Sub(times[i-1]), "on a grid that does not drift")
		}
		assert.Equal(t, "good", quality(t, e, "st1/value"))
		_, stations := e.Status()
		assert.Zero(t, stations[0].Statistics.LatePolls)
		assert.Equal(t, table.Count{Good: 1}, stations[0].Points)
	})
}

func TestJobsOfOneLinkDoNotWaitForEachOther(t *testing.T) {
	p := newPlant()
	p.roundTrip = 60 * time.Millisecond
	run(t, build(t, 8, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(3 * time.Second) // at first all are asked at once
		begun, _ := e.Status()
		time.Sleep(20 * time.Second)
		links, _ := e.Status()
		assert.InDelta(t, 160, links[0].Statistics.Polls-begun[0].Statistics.Polls, 4)
		assert.Equal(t, begun[0].Statistics.LatePolls, links[0].Statistics.LatePolls, "each has its own place in the period")
	})
}

func TestADeadStationCostsItsNeighboursOneTimeoutAPause(t *testing.T) {
	p := newPlant()
	p.silent["st2"] = true
	s := build(t, 8, func(l *site.Link) { l.Timeout, l.Retries = site.Duration(400*time.Millisecond), 2 })
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(2 * time.Minute)
		assert.Equal(t, "bad (timeout)", quality(t, e, "st2/value"))
		assert.Equal(t, "good", quality(t, e, "st1/value"))
		assert.Less(t, p.count("st2"), 12, "asked with growing pauses")
		assert.Greater(t, p.count("st1"), 114, "neighbours keep 95 % of their rate")
		at := p.at("st2")
		assert.Equal(t, 30*time.Second, at[len(at)-1].Sub(at[len(at)-2]).Round(time.Second), "at most half a minute apart")

		p.set(func() { p.silent["st2"] = false })
		time.Sleep(32 * time.Second)
		before := p.count("st2")
		time.Sleep(10 * time.Second)
		assert.Equal(t, "good", quality(t, e, "st2/value"))
		assert.InDelta(t, 10, p.count("st2")-before, 1, "at its full rate after its first response")
	})
}

func TestRetriesHideASingleLoss(t *testing.T) {
	p := newPlant()
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(3 * time.Second)
		p.set(func() { p.lose["st1"] = 1 })
		time.Sleep(1100 * time.Millisecond)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
		opened, _ := p.sessions()
		assert.Equal(t, 2, opened, "on a new connection")
	})
}

func TestAMissingStationIsSaidWhileItIsStillRepeated(t *testing.T) {
	p := newPlant()
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) { // a timeout of 1 s, two retries
		time.Sleep(5 * time.Second)
		last := p.at("st1")
		p.set(func() { p.silent["st1"] = true })
		time.Sleep(time.Until(last[len(last)-1].Add(2500 * time.Millisecond)))
		assert.Equal(t, "good", quality(t, e, "st1/value"), "one lost exchange says nothing yet")
		time.Sleep(600 * time.Millisecond)
		assert.Equal(t, "bad (timeout)", quality(t, e, "st1/value"), "two polls are missing")
	})
}

func TestALastGoodValueIsKept(t *testing.T) {
	p := newPlant()
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(5 * time.Second)
		l, _ := e.Reading("st1/value")
		good := l.Reading.GoodTime
		p.set(func() { p.silent["st1"] = true })
		time.Sleep(6 * time.Second)
		l, _ = e.Reading("st1/value")
		assert.Equal(t, "bad (timeout)", l.Reading.ShortName())
		assert.Equal(t, codec.UintValue(7), l.Reading.Value)
		assert.LessOrEqual(t, l.Reading.GoodTime.Sub(good), 2*time.Second)
	})
}

func TestALinkThatCannotBeOpenedIsTriedWithGrowingPauses(t *testing.T) {
	p := newPlant()
	p.refuse = errors.New("127.0.0.1:502: connection refused")
	run(t, build(t, 2, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(time.Minute)
		assert.Equal(t, "bad (link-down)", quality(t, e, "st1/value"))
		links, _ := e.Status()
		assert.Equal(t, link.Down, links[0].State)
		assert.Contains(t, links[0].Reason, "connection refused")
		p.set(func() { p.refuse = nil })
		time.Sleep(16 * time.Second)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
		opened, _ := p.sessions()
		assert.Equal(t, 1, opened)
	})
}

func TestAStationThatBreaksTheConnectionDoesNotTakeItsNeighboursWithIt(t *testing.T) {
	p := newPlant()
	p.lose["st2"] = 1 << 30
	run(t, build(t, 2, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(time.Minute)
		assert.Equal(t, "bad (link-down)", quality(t, e, "st2/value"))
		assert.Equal(t, "good", quality(t, e, "st1/value"))
		assert.Greater(t, p.count("st1"), 57)
		assert.Less(t, p.count("st2"), 20)
	})
}

func TestASilentConnectionIsRenewed(t *testing.T) {
	p := newPlant()
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(3 * time.Second)
		p.set(func() { p.silent["st1"] = true })
		time.Sleep(5 * time.Minute)
		opened, _ := p.sessions()
		assert.Greater(t, opened, 1, "the far end may have restarted without a word")
		links, _ := e.Status()
		assert.Positive(t, links[0].Statistics.Renewals)
	})
}

func TestARefusalIsAnAnswer(t *testing.T) {
	p := newPlant()
	p.outcome["st1"] = link.Outcome{Err: errors.New("exception 2"), Reason: reading.ExceptionReason(2), Answered: true}
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(10 * time.Second)
		assert.Equal(t, "bad (exception-2)", quality(t, e, "st1/value"))
		_, stations := e.Status()
		assert.Equal(t, link.StationAnswering, stations[0].State)
		assert.InDelta(t, 10, p.count("st1"), 1, "no retries, no setting back")
	})
}

func TestAJobCanBeReplacedByOthers(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(1500 * time.Millisecond)
		slot, before := e.table.Get("st1/value"), p.count("st1")
		p.set(func() {
			p.outcome["st1"] = link.Outcome{Err: errors.New("exception 2"), Answered: true, Reason: reading.ExceptionReason(2),
				Instead: []link.Job{&plantJob{station: "half", period: time.Second, slots: []*table.Slot{slot}}}}
		})
		time.Sleep(5 * time.Second)
		assert.Equal(t, 1, p.count("st1")-before, "asked once more as a whole")
		assert.InDelta(t, 5, p.count("half"), 1)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}

func TestReadingsBecomeStaleWhenTheBusIsTooSlow(t *testing.T) {
	p := newPlant()
	p.roundTrip = 900 * time.Millisecond
	run(t, build(t, 8, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(time.Minute)
		stale := 0
		for i := 1; i <= 8; i++ {
			if quality(t, e, fmt.Sprintf("st%d/value", i)) == "uncertain (stale)" {
				stale++
			}
		}
		assert.Greater(t, stale, 2, "eight stations at 0.9 s each cannot be read every second")
		for i := 1; i <= 8; i++ {
			assert.InDelta(t, 8, p.count(fmt.Sprintf("st%d", i)), 1, "but each gets its turn")
		}
	})
}

func TestChangesRestartOnlyWhatTheyTouch(t *testing.T) {
	p := newPlant()
	s := build(t, 2, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(3 * time.Second)
		edit := func(f func(d *site.Draft)) {
			d := s.Edit()
			f(d)
			s = apply(t, e, s, d)
		}
		edit(func(d *site.Draft) { // a point more
			d.Add(site.Point{Tag: "new", Station: "st1", Address: site.Address{Space: site.HoldingRegisters, Offset: 5}})
		})
		synctest.Wait()
		assert.Equal(t, "bad (never-read)", quality(t, e, "new"))
		time.Sleep(time.Second)
		assert.Equal(t, "good", quality(t, e, "new"))

		edit(func(d *site.Draft) { // a word about the link
			l, _ := s.Link("bus")
			l.Description = "in the pump house"
			d.Put(l)
		})
		time.Sleep(2 * time.Second)
		opened, _ := p.sessions()
		assert.Equal(t, 1, opened, "none of which touches the connection")

		edit(func(d *site.Draft) { // a station is disabled
			st, _ := s.Station("st2")
			st.Enabled = false
			d.Put(st)
		})
		time.Sleep(2 * time.Second)
		assert.Equal(t, "bad (disabled)", quality(t, e, "st2/value"))
		before := p.count("st2")
		time.Sleep(5 * time.Second)
		assert.Equal(t, before, p.count("st2"))

		edit(func(d *site.Draft) { d.Remove(site.KindPoint, "new", false) })
		_, ok := e.Reading("new")
		assert.False(t, ok)

		edit(func(d *site.Draft) { // the far end moves: this does
			l, _ := s.Link("bus")
			l.Port = 1502
			d.Put(l)
		})
		time.Sleep(2 * time.Second)
		opened, closed := p.sessions()
		assert.Equal(t, 2, opened)
		assert.Equal(t, 1, closed)
		assert.Equal(t, "good", quality(t, e, "st1/value"))

		edit(func(d *site.Draft) { d.Remove(site.KindLink, "bus", true) })
		synctest.Wait()
		links, stations := e.Status()
		assert.Empty(t, links)
		assert.Empty(t, stations)
		_, ok = e.Reading("st1/value")
		assert.False(t, ok)
	})
}

func TestAStationCanMoveToAnotherLink(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(2 * time.Second)
		d := s.Edit()
		l := site.NewLink()
		l.Name, l.Host = "other", "127.0.0.2"
		d.Add(l)
		st, _ := s.Station("st1")
		st.Link = "other"
		d.Put(st)
		s = apply(t, e, s, d)
		time.Sleep(2 * time.Second)
		_, stations := e.Status()
		require.Len(t, stations, 1)
		assert.Equal(t, "other", stations[0].Link)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}

func TestWhatOneAddressDidNotAnswerSaysNothingOfAnother(t *testing.T) {
	p := newPlant()
	p.silent["st1"] = true
	s := build(t, 2, func(l *site.Link) { l.Timeout = site.Duration(200 * time.Millisecond) })
	run(t, s, p, func(t *testing.T, e *Engine) {
		edit := func(f func(*site.Station)) {
			st, _ := s.Station("st1")
			f(&st)
			d := s.Edit()
			d.Put(st)
			s = apply(t, e, s, d)
			synctest.Wait()
		}
		of := func() (link.StationStatus, []diagnose.Code) {
			_, stations := e.Status()
			var codes []diagnose.Code
			for _, f := range e.Findings() {
				codes = append(codes, f.Code)
			}
			return stations[0], codes
		}
		time.Sleep(30 * time.Second)
		status, codes := of()
		assert.Equal(t, link.StationSilent, status.State)
		assert.Equal(t, []diagnose.Code{diagnose.UnitSilent}, codes)

		edit(func(st *site.Station) { st.Description = "the left one" })
		status, codes = of()
		assert.Equal(t, link.StationSilent, status.State, "a word about it changes nothing")
		assert.Equal(t, []diagnose.Code{diagnose.UnitSilent}, codes)

		p.set(func() { p.silent["st1"] = false })
		edit(func(st *site.Station) { st.Unit = 9 })
		assert.Positive(t, status.Figures.Minute.Timeouts)
		for range 20 {
			time.Sleep(time.Second)
			status, codes = of()
			assert.Equal(t, link.StationAnswering, status.State)
			assert.Empty(t, codes)
		}
		assert.Zero(t, status.Figures.Minute.Timeouts)
		assert.InDelta(t, 20, status.Figures.Minute.Seconds, 1)
		assert.Positive(t, status.Figures.Total.Timeouts)

		p.set(func() { p.silent["st1"] = true })
		edit(func(st *site.Station) { st.Unit = 10 })
		status, _ = of()
		assert.Equal(t, link.StationUnknown, status.State, "what unit 9 answered says nothing of unit 10")
	})
}

func TestAChangedMeaningForgetsTheOldReading(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(2 * time.Second)
		p.set(func() { p.silent["st1"] = true })
		time.Sleep(time.Millisecond)
		point, _ := s.Point("st1/value")
		point.Unit = "m" // says nothing about the value
		d := s.Edit()
		d.Put(point)
		s = apply(t, e, s, d)
		l, _ := e.Reading("st1/value")
		assert.Equal(t, codec.UintValue(7), l.Reading.Value)
		point.Type = codec.TypeInt16
		d = s.Edit()
		d.Put(point)
		s = apply(t, e, s, d)
		l, _ = e.Reading("st1/value")
		assert.Equal(t, "bad (never-read)", l.Reading.ShortName())
		assert.True(t, l.Reading.Value.IsZero())
	})
}

func TestAStationIsLeftAloneAfterConnecting(t *testing.T) {
	p := newPlant()
	s := build(t, 2, nil)
	d := s.Edit()
	st, _ := s.Station("st2")
	st.AfterConnect = site.Duration(3 * time.Second)
	d.Put(st)
	s = apply(t, nil, s, d)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(2900 * time.Millisecond)
		assert.Zero(t, p.count("st2"))
		assert.NotZero(t, p.count("st1"))
		time.Sleep(time.Second)
		assert.NotZero(t, p.count("st2"))
	})
}

func TestStopLetsTheExchangeUnderWayEnd(t *testing.T) {
	p := newPlant()
	p.roundTrip = time.Second
	synctest.Test(t, func(t *testing.T) {
		e := New(Options{Drivers: []link.Driver{p}})
		e.Start(context.Background(), build(t, 1, nil))
		time.Sleep(100 * time.Millisecond)
		began := time.Now()
		e.Stop()
		assert.Equal(t, 900*time.Millisecond, time.Since(began))
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}
