package engine

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
)

var someRange = site.Range{Start: site.Address{Space: site.HoldingRegisters}, Count: 1}

// A session lives as long as its link, whoever opened it: the request that did is over soon.
func TestASessionOutlivesTheCommandThatOpenedIt(t *testing.T) {
	p := newPlant()
	p.opening = 200 * time.Millisecond
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		asking, cancel := context.WithCancel(t.Context())
		_, err := e.ReadAddresses(asking, "st1", someRange)
		require.NoError(t, err)
		cancel()
		time.Sleep(10 * time.Second)
		opened, closed := p.sessions()
		assert.Equal(t, []int{1, 0}, []int{opened, closed})
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}

// What is written when the service stops is cut off as polls are.
func TestAWriteDoesNotKeepTheServiceFromStopping(t *testing.T) {
	p := newPlant()
	p.roundTrip = time.Hour
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		go write(e, "st1/value", codec.UintValue(1))
		time.Sleep(time.Second)
		began := time.Now()
		e.mu.Lock()
		r := e.runners["bus"]
		e.mu.Unlock()
		r.Stop()
		time.Sleep(2 * time.Second)
		_, closed := p.sessions()
		assert.Equal(t, 1, closed, "the session was cut off")
		assert.Less(t, time.Since(began), 4*time.Second)
		assert.Empty(t, p.written().Text())
	})
}

func TestSeveralWhoNeedAConnectionOpenItOnce(t *testing.T) {
	p := newPlant()
	p.opening = 500 * time.Millisecond
	run(t, build(t, 4, parallel(1, 4)), p, func(t *testing.T, e *Engine) {
		var asking sync.WaitGroup
		for range 8 {
			asking.Go(func() {
				_, err := e.ReadAddresses(t.Context(), "st1", someRange)
				assert.NoError(t, err)
			})
		}
		asking.Wait()
		time.Sleep(2 * time.Second)
		opened, closed := p.sessions()
		assert.Equal(t, []int{1, 0}, []int{opened, closed})
	})
}

func TestAnOpeningThatEndsWhileTheLinkIsLentIsGivenUp(t *testing.T) {
	p := newPlant()
	p.opening = time.Second
	run(t, build(t, 1, parallel(2, 1)), p, func(t *testing.T, e *Engine) {
		time.Sleep(100 * time.Millisecond)
		lent := false
		require.NoError(t, e.Borrow(t.Context(), "bus", "a probe", func(context.Context) {
			lent = true
			time.Sleep(5 * time.Second)
			opened, closed := p.sessions()
			assert.Equal(t, opened, closed, "nothing is open beside who has it")
			assert.Zero(t, p.count("st1"))
		}))
		assert.True(t, lent)
		time.Sleep(3 * time.Second)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}

// A device with one free connection of four: the others back off, and the one serves all stations.
func TestConnectionsThatTheDeviceDoesNotServeBackOff(t *testing.T) {
	for name, limit := range map[string]func(*plant){
		"closed when they are asked": func(p *plant) { p.most = 1 },
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlant()
			p.roundTrip = 100 * time.Millisecond
			limit(p)
			run(t, build(t, 6, parallel(4, 1)), p, func(t *testing.T, e *Engine) {
				time.Sleep(20 * time.Second)
				opened, _ := p.sessions()
				assert.Less(t, opened, 40, "the attempts are few")
				for _, st := range []string{"st1", "st2", "st3", "st4", "st5", "st6"} {
					assert.Equal(t, "good", quality(t, e, st+"/value"))
				}
				links, _ := e.Status()
				assert.Equal(t, link.Up, links[0].State)
				time.Sleep(2 * time.Second)
				var codes []diagnose.Code
				for _, f := range e.Findings() {
					codes = append(codes, f.Code)
				}
				assert.Equal(t, []diagnose.Code{diagnose.ConnectionLimit}, codes)
			})
		})
	}
}

func TestADisabledStationStaysDisabledWhenItsLinkGoesDown(t *testing.T) {
	p := newPlant()
	s := build(t, 2, nil)
	d := s.Edit()
	st, _ := d.Station("st2")
	st.Enabled = false
	d.Replace("st2", st)
	s = apply(t, nil, s, d)
	p.refuse = errors.New("nobody there")
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(5 * time.Second)
		_, stations := e.Status()
		assert.Equal(t, link.StationUnknown, stations[0].State)
		assert.Equal(t, link.StationDisabled, stations[1].State)
		assert.Equal(t, "bad (disabled)", quality(t, e, "st2/value"))
	})
}

// One exchange that got lost costs its own points, and neither the station's others nor a pause.
func TestOneLostExchangeCostsItsOwnPoints(t *testing.T) {
	p := newPlant()
	s := build(t, 1, func(l *site.Link) { l.Retries = 0 })
	d := s.Edit()
	d.Add(site.Point{Tag: "st1/slow", Station: "st1", Address: site.Address{Space: site.HoldingRegisters, Offset: 50}, Poll: site.Duration(3 * time.Second)})
	s = apply(t, nil, s, d)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(3500 * time.Millisecond)
		p.set(func() { p.outcome["st1"] = link.Outcome{Err: errors.New("no answer"), Reason: reading.Timeout} })
		before := p.count("st1")
		for p.count("st1") == before {
			time.Sleep(10 * time.Millisecond)
		}
		p.set(func() { delete(p.outcome, "st1") })
		time.Sleep(20 * time.Millisecond)
		bad := 0
		for _, tag := range []string{"st1/value", "st1/slow"} {
			if quality(t, e, tag) != "good" {
				bad++
			}
		}
		assert.Equal(t, 1, bad)
		_, stations := e.Status()
		assert.Equal(t, link.StationAnswering, stations[0].State)
		time.Sleep(1100 * time.Millisecond)
		assert.Equal(t, "good", quality(t, e, "st1/value"), "at its next poll")
	})
}

// Clients that read in loops leave every other turn to polls.
func TestCommandsAndPollsTakeTurns(t *testing.T) {
	p := newPlant()
	p.roundTrip = 100 * time.Millisecond
	run(t, build(t, 3, func(l *site.Link) { l.Pause = site.Duration(20 * time.Millisecond) }), p, func(t *testing.T, e *Engine) {
		ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
		defer stop()
		var clients sync.WaitGroup
		reads := 0
		var mu sync.Mutex
		for range 2 {
			clients.Go(func() {
				for ctx.Err() == nil {
					if _, err := e.ReadAddresses(ctx, "st1", someRange); err == nil {
						mu.Lock()
						reads++
						mu.Unlock()
					}
				}
			})
		}
		clients.Wait()
		polls := 0
		for _, st := range []string{"st1", "st2", "st3"} {
			assert.Greater(t, p.count(st), 25, "of 30")
			polls += p.count(st)
		}
		assert.Greater(t, reads, 100, "and the clients have theirs")
	})
}

// A panic within one station's exchanges ends its session, is told of in a finding, and stops nothing else.
func TestAPanicEndsItsSessionAlone(t *testing.T) {
	p := newPlant()
	p.panics = map[string]bool{"st1": true}
	run(t, build(t, 2, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(10 * time.Second)
		assert.Equal(t, "good", quality(t, e, "st2/value"))
		assert.Equal(t, reading.Bad, func() reading.Quality { l, _ := e.Reading("st1/value"); return l.Reading.Quality }())
		require.NotEmpty(t, e.Findings())
		assert.Equal(t, diagnose.InternalFault, e.Findings()[0].Code)
		assert.Contains(t, e.Findings()[0].Evidence[0], "internal fault: a fault")
	})
}

func TestDirectReadsAndWritesAreCounted(t *testing.T) {
	p := newPlant()
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(500 * time.Millisecond) // between two polls
		e.mu.Lock()
		r := e.runners["bus"]
		e.mu.Unlock()
		before, _ := e.Status()
		r.Asked(1, link.Outcome{}, 10*time.Millisecond, false)
		r.Asked(1, link.Outcome{Err: errors.New("no answer"), Reason: reading.Timeout}, time.Second, true)
		after, stations := e.Status()
		assert.Equal(t, before[0].Statistics.Requests+2, after[0].Statistics.Requests)
		assert.Equal(t, before[0].Statistics.Answers+1, after[0].Statistics.Answers)
		assert.Equal(t, uint64(1), after[0].Statistics.Retries)
		assert.Equal(t, uint32(1), stations[0].Figures.Total.Timeouts)
	})
}
