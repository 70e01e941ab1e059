package engine

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/access"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	"arithmon/internal/live/link"
)

func parallel(connections, inFlight int) func(*site.Link) {
	return func(l *site.Link) { l.Connections, l.InFlight = connections, inFlight }
}

// Eight stations at 400 ms cannot be polled every second one after the other; eight at a time can.
func TestRequestsInFlightAndConnectionsShareTheWork(t *testing.T) {
	for _, c := range []struct {
		name                      string
		connections, inFlight     int
		sessions, least, greatest int
	}{
		{"one after the other", 1, 1, 1, 24, 26},
		{"eight in flight", 1, 8, 1, 78, 88},
		{"four connections of two", 4, 2, 4, 78, 88},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := newPlant()
			p.roundTrip = 400 * time.Millisecond
			run(t, build(t, 8, parallel(c.connections, c.inFlight)), p, func(t *testing.T, e *Engine) {
				time.Sleep(10 * time.Second)
				n := len(p.order())
				assert.GreaterOrEqual(t, n, c.least)
				assert.LessOrEqual(t, n, c.greatest)
				opened, _ := p.sessions()
				assert.Equal(t, c.sessions, opened, "a connection is opened when it has something to do")
			})
		})
	}
}

func TestASilentStationIsProbedOnceThoughSeveralCouldAsk(t *testing.T) {
	p := newPlant()
	s := build(t, 2, parallel(1, 4))
	d := s.Edit()
	for i := range 6 { // jobs of their own, by their periods
		d.Add(site.Point{Tag: "st1/" + string(rune('a'+i)), Station: "st1", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(10 + i)},
			Poll: site.Duration(time.Second + time.Duration(i+1)*10*time.Millisecond)})
	}
	s = apply(t, nil, s, d)
	p.silent["st1"] = true
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(20 * time.Second)
		before := p.count("st1")
		time.Sleep(60 * time.Second)
		assert.LessOrEqual(t, p.count("st1")-before, 3, "one at a time, in growing pauses")
		assert.InDelta(t, 80, p.count("st2"), 4, "its neighbour keeps its rate")
		p.set(func() { p.silent["st1"] = false })
		time.Sleep(31 * time.Second)
		assert.Equal(t, "good", quality(t, e, "st1/f"))
	})
}

func TestALostConnectionOfSeveralIsOpenedAnewAlone(t *testing.T) {
	p := newPlant()
	p.roundTrip = 400 * time.Millisecond
	run(t, build(t, 6, parallel(3, 1)), p, func(t *testing.T, e *Engine) {
		time.Sleep(5 * time.Second)
		p.set(func() { p.lose["st1"] = 1 })
		time.Sleep(3 * time.Second)
		opened, closed := p.sessions()
		assert.Equal(t, []int{4, 1}, []int{opened, closed})
		links, _ := e.Status()
		assert.Equal(t, link.Up, links[0].State)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}

func TestRepetitionsWaitForTheRetryDelayAndLetOthersGoOn(t *testing.T) {
	p := newPlant()
	p.silent["st1"] = true
	run(t, build(t, 2, func(l *site.Link) {
		l.Timeout, l.Retries, l.RetryDelay = site.Duration(100*time.Millisecond), 2, site.Duration(1500*time.Millisecond)
	}), p, func(t *testing.T, e *Engine) {
		time.Sleep(4 * time.Second)
		times := p.at("st1")
		require.Len(t, times, 3)
		assert.Equal(t, 1600*time.Millisecond, times[1].Sub(times[0]))
		assert.Equal(t, 1600*time.Millisecond, times[2].Sub(times[1]))
		assert.InDelta(t, 4, p.count("st2"), 1)
	})
}

// AP 7: acknowledge and busy ask for another try later; a gateway without a path is not asked again at once.
func TestWhatDevicesAskForByTheirRefusal(t *testing.T) {
	t.Run("later", func(t *testing.T) {
		p := newPlant()
		p.outcome["st1"] = link.Outcome{Err: errors.New("busy"), Reason: "exception-6", Answered: true, Later: true}
		run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
			time.Sleep(300 * time.Millisecond)
			assert.Equal(t, "bad (never-read)", quality(t, e, "st1/value"), "not refused while it may yet answer")
			p.set(func() { delete(p.outcome, "st1") })
			time.Sleep(300 * time.Millisecond)
			assert.Equal(t, "good", quality(t, e, "st1/value"), "well before the next poll")
			assert.GreaterOrEqual(t, p.at("st1")[1].Sub(p.at("st1")[0]), 250*time.Millisecond)
		})
	})
	t.Run("rest", func(t *testing.T) {
		p := newPlant()
		p.outcome["st1"] = link.Outcome{Err: errors.New("no path"), Reason: "exception-10", Rest: 5 * time.Second}
		run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
			time.Sleep(4 * time.Second)
			assert.Equal(t, 1, p.count("st1"), "neither repeated nor asked within its rest")
			assert.Equal(t, "bad (exception-10)", quality(t, e, "st1/value"))
			time.Sleep(2 * time.Second)
			assert.Equal(t, 2, p.count("st1"))
		})
	})
	t.Run("skipped", func(t *testing.T) {
		p := newPlant()
		p.outcome["st1"] = link.Outcome{Err: errors.New("no such function"), Reason: "exception-1", Answered: true, Skipped: true}
		run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
			time.Sleep(4 * time.Second)
			_, stations := e.Status()
			assert.Zero(t, stations[0].Statistics.Requests)
			assert.Equal(t, link.StationUnknown, stations[0].State, "what was not asked says nothing about it")
			assert.Equal(t, "bad (exception-1)", quality(t, e, "st1/value"))
		})
	})
}

func TestPulses(t *testing.T) {
	pulsed := func(t *testing.T) *site.Site {
		s := build(t, 1, nil)
		d := s.Edit()
		d.Add(site.Point{Tag: "horn", Station: "st1", Address: site.Address{Space: site.Coils}, Writable: true, Pulse: site.Duration(3 * time.Second)})
		s = apply(t, nil, s, d)
		return s
	}
	t.Run("on, time, off", func(t *testing.T) {
		p := newPlant()
		run(t, pulsed(t), p, func(t *testing.T, e *Engine) {
			began := time.Now()
			go func() {
				time.Sleep(time.Second)
				assert.Equal(t, codec.BoolValue(true), p.written(), "on meanwhile")
			}()
			w, err := write(e, "horn", codec.BoolValue(true))
			require.NoError(t, err)
			assert.Equal(t, control.Done, w.Outcome, w.Message)
			assert.Equal(t, codec.BoolValue(false), p.written())
			assert.InDelta(t, 3, time.Since(began).Seconds(), 0.1)
			assert.Greater(t, p.count("st1"), 2, "polls go on during a pulse")
		})
	})
	t.Run("off alone is no pulse", func(t *testing.T) {
		p := newPlant()
		run(t, pulsed(t), p, func(t *testing.T, e *Engine) {
			began := time.Now()
			_, err := write(e, "horn", codec.BoolValue(false))
			require.NoError(t, err)
			assert.Less(t, time.Since(began), time.Second)
		})
	})
	t.Run("an end that is not confirmed is said", func(t *testing.T) {
		p := newPlant()
		run(t, pulsed(t), p, func(t *testing.T, e *Engine) {
			go func() {
				time.Sleep(time.Second)
				p.set(func() { p.outcome["write"] = link.Outcome{Err: errors.New("no response in time")} })
			}()
			w, err := write(e, "horn", codec.BoolValue(true))
			require.NoError(t, err)
			assert.Equal(t, control.Unknown, w.Outcome)
			assert.Contains(t, w.Message, "its end was not confirmed in 5 tries")
			assert.Contains(t, w.Message, "It may still be")
		})
	})
	t.Run("nobody borrows the line before it has ended", func(t *testing.T) {
		p := newPlant()
		s := pulsed(t)
		run(t, s, p, func(t *testing.T, e *Engine) {
			done := make(chan control.Write)
			go func() {
				w, _ := write(e, "horn", codec.BoolValue(true))
				done <- w
			}()
			time.Sleep(time.Second)
			err := e.Borrow(context.Background(), "bus", "a scan", func(context.Context) { t.Error("borrowed") })
			assert.ErrorContains(t, err, "a pulse is being written")
			d := s.Edit()
			l, _ := s.Link("bus")
			l.Retries++
			d.Put(l)
			apply(t, e, s, d)
			time.Sleep(100 * time.Millisecond)
			err = e.Borrow(context.Background(), "bus", "a scan", func(context.Context) { t.Error("borrowed") })
			assert.ErrorContains(t, err, "a pulse is being written", "nor when its link was changed meanwhile")
			w := <-done
			assert.Equal(t, control.Done, w.Outcome, w.Message)
		})
	})
	t.Run("stopping cuts it short", func(t *testing.T) {
		p := newPlant()
		run(t, pulsed(t), p, func(t *testing.T, e *Engine) {
			go func() {
				time.Sleep(time.Second)
				assert.Equal(t, codec.BoolValue(true), p.written())
			}()
			done := make(chan control.Write)
			c := control.New(e, &memory{}, nil)
			go func() {
				w, _ := c.Write(context.Background(), access.Principal{Role: access.Engineer}, "horn", codec.BoolValue(true))
				done <- w
			}()
			time.Sleep(1500 * time.Millisecond)
			go c.EndPulses()
			w := <-done
			assert.Equal(t, codec.BoolValue(false), p.written())
			assert.Equal(t, control.Done, w.Outcome)
		})
	})
}

func TestAddressesWithoutAPointAreWrittenUnlessAPointForbidsIt(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	d := s.Edit()
	d.Add(site.Point{Tag: "fixed", Station: "st1", Type: codec.TypeUint32, Address: site.Address{Space: site.HoldingRegisters, Offset: 3}})
	s = apply(t, nil, s, d)
	st, _ := s.Station("st1")
	run(t, s, p, func(t *testing.T, e *Engine) {
		var kept memory
		c := control.New(e, &kept, nil)
		write := func(offset uint16, values ...codec.Value) control.Write {
			w, err := c.WriteAddresses(context.Background(), access.Principal{Role: access.Engineer}, st, site.Point{Tag: "x", Station: "st1", Type: codec.TypeUint16,
				Address: site.Address{Space: site.HoldingRegisters, Offset: offset}}, values)
			require.NoError(t, err)
			return w
		}
		assert.Equal(t, control.Done, write(20, codec.IntValue(5)).Outcome)
		w := write(2, codec.IntValue(1), codec.IntValue(2), codec.IntValue(3))
		assert.Equal(t, control.Refused, w.Outcome)
		assert.True(t, w.NotAllowed)
		assert.Contains(t, w.Message, "point fixed is there and is read-only")
		assert.Contains(t, write(20, codec.IntValue(70000)).Message, "not sent: value 1: ")
		assert.Len(t, kept.begun, 1, "only what was sent")
	})
}

func TestRefreshAsksEverythingAtOnce(t *testing.T) {
	p := newPlant()
	p.silent["st1"] = true
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(100 * time.Second) // well set back
		p.set(func() { p.silent["st1"] = false })
		require.NoError(t, e.Refresh(context.Background(), "st1"))
		time.Sleep(100 * time.Millisecond)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
		assert.ErrorIs(t, e.Refresh(context.Background(), "st9"), ErrNoStation)
	})
}

// caller is a plant whose stations are called one after the other.
type caller struct{ *plantSession }

func (c caller) AtHand(st site.Station) bool {
	order := c.order()
	return len(order) > 0 && order[len(order)-1] == st.Name
}

type callingPlant struct{ *plant }

func (p callingPlant) Open(ctx context.Context, link site.Link, host link.Host) (link.Session, error) {
	s, err := p.plant.Open(ctx, link, host)
	return caller{s.(*plantSession)}, err
}

func TestWhatIsDueAtTheStationAtHandGoesFirst(t *testing.T) {
	p := newPlant()
	p.roundTrip = 300 * time.Millisecond
	s := build(t, 2, nil)
	d := s.Edit()
	for i := range 4 {
		for _, st := range []string{"st1", "st2"} {
			d.Add(site.Point{Tag: st + "/" + string(rune('a'+i)), Station: st, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(10 + i)},
				Poll: site.Duration(20*time.Second + time.Duration(i)*10*time.Millisecond)})
		}
	}
	s = apply(t, nil, s, d)
	synctest.Test(t, func(t *testing.T) {
		e := New(Options{Drivers: []link.Driver{callingPlant{p}}})
		e.Start(context.Background(), s)
		defer e.Stop()
		time.Sleep(19 * time.Second)
		order, switches := p.order()[:14], 0
		for i := 1; i < len(order); i++ {
			if order[i] != order[i-1] {
				switches++
			}
		}
		assert.Equal(t, 1, switches, "all that waits at one, then all at the other: %v", order)
	})
}

func TestALinkThatIsBorrowed(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(2500 * time.Millisecond)
		asked := p.count("st1")
		ended := make(chan error, 1)
		go func() {
			ended <- e.Borrow(context.Background(), "bus", "a scan has the line", func(ctx context.Context) {
				select {
				case <-ctx.Done():
				case <-time.After(20 * time.Second):
				}
			})
		}()
		time.Sleep(10 * time.Second)
		assert.Equal(t, asked, p.count("st1"), "its polls pause")
		opened, closed := p.sessions()
		assert.Equal(t, opened, closed, "and nothing else holds the line")
		links, _ := e.Status()
		assert.Equal(t, link.Paused, links[0].State)

		err := e.Borrow(context.Background(), "bus", "another", func(context.Context) { t.Error("both at once") })
		assert.ErrorIs(t, err, link.ErrBorrowed)
		assert.ErrorContains(t, err, "a scan has the line")
		w, err := write(e, "st1/value", codec.IntValue(1))
		require.NoError(t, err)
		assert.Contains(t, w.Message, "not sent: link bus: something else has the line: a scan has the line")
		_, err = e.ReadAddresses(context.Background(), "st1", site.Range{Count: 1})
		assert.ErrorIs(t, err, link.ErrBorrowed)

		require.NoError(t, <-ended)
		time.Sleep(2 * time.Second)
		assert.Greater(t, p.count("st1"), asked)
		assert.Equal(t, "good", quality(t, e, "st1/value"))
	})
}

func TestChangingALinkEndsWhatHasBorrowedIt(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(time.Second)
		ended := make(chan time.Time, 1)
		go func() {
			e.Borrow(context.Background(), "bus", "a scan", func(ctx context.Context) { <-ctx.Done() })
			ended <- time.Now()
		}()
		time.Sleep(time.Second)
		changed := time.Now()
		d := s.Edit()
		l, _ := s.Link("bus")
		l.Retries = 0
		d.Put(l)
		s = apply(t, e, s, d)
		assert.Less(t, (<-ended).Sub(changed), time.Second)
		time.Sleep(2 * time.Second)
		assert.Equal(t, "good", quality(t, e, "st1/value"), "and its polls go on")
	})
}

func TestACommandIsGivenUpBeforeItsTurn(t *testing.T) {
	p := newPlant()
	p.roundTrip = 10 * time.Second
	run(t, build(t, 1, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(time.Second) // an exchange is under way
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		began := time.Now()
		_, err := e.ReadAddresses(ctx, "st1", site.Range{Count: 1})
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		assert.Equal(t, time.Second, time.Since(began))
	})
}
