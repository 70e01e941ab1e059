package dnp3

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
	"arithmon/internal/protocol/wire"
)

// session is an open link: one connection to all its stations, or those on which stations have called in.
type session struct {
	driver *Driver
	link   site.Link
	host   link.Host

	channel  *master.Channel // nil where stations call in
	listener net.Listener
	ending   sync.WaitGroup

	mu      sync.Mutex
	remotes map[string]*remote // by station
	calls   map[*master.Channel]bool
	closing bool
	ended   link.Traffic // of calls that are over
	knocked time.Time    // when it was last looked for other addresses
	waiting time.Time    // since when it waits for stations that call in
	came    int          // connections that came in
	from    string       // where the last one came from
}

// begin speaks on a connection.
func (s *session) begin(conn net.Conn) *master.Channel {
	return master.New(conn, master.Options{
		Fault:   s.host.Fault,
		Timeout: time.Duration(s.link.Timeout), Retries: s.link.Retries, Watch: watcher(s.host, traffic.EndsOf(conn, Framing), s.link.Serial != nil && s.link.Serial.Echo), Stranger: s.stranger,
	})
}

// listen makes ready for stations that call in.
func (s *session) listen(ctx context.Context) (err error) {
	s.calls, s.waiting = map[*master.Channel]bool{}, time.Now()
	s.listener, err = wire.Listen(ctx, s.link)
	return err
}

// called takes a connection that came in. Which station it is, its first frame tells; those that are silent until they are asked,
// are asked for their link status.
func (s *session) called(conn net.Conn) {
	ch := s.begin(conn)
	s.mu.Lock()
	if s.closing {
		s.mu.Unlock()
		ch.Close()
		return
	}
	s.calls[ch] = true
	s.came++
	s.from = conn.RemoteAddr().String()
	var knock []*master.Outstation
	for _, r := range s.remotes {
		knock = append(knock, s.place(ch, r))
	}
	s.mu.Unlock()
	ch.Start()
	s.ending.Go(func() {
		for _, o := range knock {
			if o.Knock() != nil {
				break
			}
		}
		ch.Wait()
		s.mu.Lock()
		delete(s.calls, ch)
		s.ended.Add(counted(ch))
		for _, r := range s.remotes {
			r.hungUp(ch)
		}
		s.mu.Unlock()
	})
}

// place puts a station on a channel. s.mu is held.
func (s *session) place(ch *master.Channel, r *remote) *master.Outstation {
	c := &call{remote: r, channel: ch}
	c.out = ch.Outstation(uint16(r.station.LinkAddress()), uint16(r.station.MasterAddress()), c)
	c.out.Confirmed = r.station.LinkConfirm
	return c.out
}

// Follow is for link.Reporter.
func (s *session) Follow(station link.Station) {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.remotes[station.Name]
	if old != nil && sameStation(old.station, station.Station) {
		old.points(station.Slots)
		return
	}
	if old != nil {
		s.leave(old)
	}
	r := newRemote(s, station)
	s.remotes[station.Name] = r
	if s.channel != nil {
		r.use(s.place(s.channel, r))
		return
	}
	for ch := range s.calls {
		out := s.place(ch, r)
		s.ending.Go(func() { out.Knock() })
	}
}

// sameStation reports whether two stations are spoken to alike.
func sameStation(a, b site.Station) bool {
	return a.LinkAddress() == b.LinkAddress() && a.MasterAddress() == b.MasterAddress() && a.Unsolicited == b.Unsolicited &&
		slices.Equal(a.UnsolicitedClasses, b.UnsolicitedClasses) && a.TimeSync == b.TimeSync && a.LinkReset == b.LinkReset && a.LinkConfirm == b.LinkConfirm
}

// Begin is for link.Reporter.
func (s *session) Begin() {
	if s.channel != nil {
		s.channel.Start()
		return
	}
	s.ending.Go(func() {
		for {
			conn, err := s.listener.Accept()
			if err != nil {
				return
			}
			s.called(conn)
		}
	})
}

// Leave is for link.Reporter.
func (s *session) Leave(station string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.remotes[station]; r != nil {
		s.leave(r)
	}
}

func (s *session) leave(r *remote) {
	delete(s.remotes, r.station.Name)
	address, ours := uint16(r.station.LinkAddress()), func(h master.Handler) bool { return h.(*call).remote == r }
	if s.channel != nil {
		s.channel.Forget(address, ours)
	}
	for ch := range s.calls {
		ch.Forget(address, ours)
	}
}

func (s *session) remote(name string) *remote {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.remotes[name]
}

// stranger takes note of frames that are from or to an address that no station here has.
func (s *session) stranger(f dnp3.Frame) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, r := range s.remotes {
		theirs, ours := uint16(r.station.LinkAddress()), uint16(r.station.MasterAddress())
		switch fromMaster := f.Control&dnp3.FromMaster != 0; {
		case fromMaster && f.Destination == theirs && f.Source != ours:
			s.host.Note(name, note(diagnose.NoteTwoMasters, float64(f.Source), fmt.Sprintf("frames of a master at address %d to outstation %d are on the line", f.Source, theirs)))
		case !fromMaster && f.Source == theirs && f.Destination != ours:
			s.heardAs(r, f.Destination)
		case !fromMaster && f.Destination == ours && (r.silent() || s.channel == nil && r.outstation() == nil):
			s.host.Note(name, note(diagnose.NoteOtherSource, float64(f.Source), fmt.Sprintf("outstation %d answers, and not %d", f.Source, theirs)))
		}
	}
}

// errNotCalled and errHungUp are why a station that calls in cannot be asked.
var (
	errNotCalled = errors.New("it has not called in yet")
	errHungUp    = errors.New("its connection has ended, and it has not called in again")
)

// callsWithin is how long a station that calls in may take to do so before that is noted.
const callsWithin = 15 * time.Second

// absent notes that a station that calls in has not, and gives why it cannot be asked.
func (s *session) absent(r *remote) error {
	why, since := errNotCalled, s.waiting
	r.mu.Lock()
	if !r.left.IsZero() {
		why, since = errHungUp, r.left
	}
	r.mu.Unlock()
	if time.Since(since) < callsWithin {
		return why
	}
	s.mu.Lock()
	seen := fmt.Sprintf("nothing has connected to %s for %s", s.link.Listen, time.Since(since).Round(time.Second))
	if s.came > 0 {
		seen = fmt.Sprintf("connections that came in to %s: %d, the last from %s", s.link.Listen, s.came, s.from)
	}
	s.mu.Unlock()
	number := 0.0
	if why == errHungUp {
		number = 1
	}
	r.note(diagnose.NoteNotCalled, number, seen)
	return why
}

// Do is part of link.Session.
func (s *session) Do(work link.Job) link.Outcome {
	j := work.(*job)
	r := s.remote(j.station)
	if r == nil {
		return link.Outcome{Skipped: true, Err: link.ErrStopped, Reason: reading.Disabled}
	}
	if err := r.do(j); err != nil {
		out := outcome(err)
		if errors.Is(err, errNoStatus) && s.channel != nil {
			s.lookAround(r)
		}
		return out
	}
	return link.Outcome{}
}

// outcome says what an exchange that failed means.
func outcome(err error) link.Outcome {
	out := link.Outcome{Err: err}
	var refused *master.RefusedError
	switch {
	case errors.Is(err, errNotCalled), errors.Is(err, errHungUp):
		out.Absent, out.Reason = true, reading.LinkDown
	case errors.As(err, &refused):
		out.Answered, out.Reason = true, reading.BadResponse
	case errors.Is(err, master.ErrDamaged):
		out.Reason = reading.Checksum
	case errors.Is(err, master.ErrGarbage):
		out.Reason = reading.BadResponse
	case errors.Is(err, master.ErrTimeout):
		out.Reason = reading.Timeout
	case errors.Is(err, master.ErrNack), errors.Is(err, master.ErrBusy):
		out.Answered, out.Reason = true, reading.BadResponse
	default:
		out.Reason = reading.LinkDown
	}
	return out
}

// Test is part of link.Session.
func (s *session) Test(station site.Station) (sign link.Sign, err error) {
	r, out, err := s.ready(station)
	if err != nil {
		return sign, err
	}
	if err := s.repeated(station, func() (err error) {
		sign.Took, err = out.Status()
		return err
	}); err != nil {
		return sign, err
	}
	sign.Said = fmt.Sprintf("outstation %d answers: link status in %s", station.LinkAddress(), sign.Took.Round(100*time.Microsecond))
	if r.take(&r.todo.reset) { // as it is before anything else is asked
		if err = out.Reset(); err != nil {
			r.mu.Lock()
			r.todo.reset = true
			r.mu.Unlock()
		}
	}
	var a master.Answer
	if err == nil {
		began := time.Now()
		a, err = out.Read(r.pollable(), nil)
		sign.Took = max(sign.Took, time.Since(began))
	}
	var refused *master.RefusedError
	switch {
	case errors.As(err, &refused):
		sign.Said += "; its application refuses to read classes: " + refused.IIN.String()
	case err != nil:
		sign.Said, sign.Partly = sign.Said+"; but its application does not ("+err.Error()+"). Does it take only another master's requests?", true
	default:
		sign.Said = fmt.Sprintf("%s, a read in %s; it indicates: %s", sign.Said, a.Took.Round(100*time.Microsecond), a.IIN)
	}
	return sign, nil
}

// ready is a station that can be asked.
func (s *session) ready(station site.Station) (*remote, *master.Outstation, error) {
	r := s.remote(station.Name)
	if r == nil {
		return nil, nil, link.ErrStopped
	}
	out := r.outstation()
	if out == nil {
		return nil, nil, s.absent(r)
	}
	return r, out, nil
}

// Lost is part of link.Session.
func (s *session) Lost() bool { return s.channel != nil && s.channel.Lost() }

// Close is part of link.Session.
func (s *session) Close() {
	if s.channel != nil {
		s.channel.Close()
		return
	}
	s.listener.Close()
	s.mu.Lock()
	s.closing = true
	calls := make([]*master.Channel, 0, len(s.calls))
	for ch := range s.calls {
		calls = append(calls, ch)
	}
	s.mu.Unlock()
	for _, ch := range calls {
		ch.Close()
	}
	s.ending.Wait()
}

// Traffic is part of link.Session.
func (s *session) Traffic() link.Traffic {
	if s.channel != nil {
		return counted(s.channel)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	t := s.ended
	for ch := range s.calls {
		t.Add(counted(ch))
	}
	return t
}

func counted(ch *master.Channel) link.Traffic {
	c := &ch.Counters
	return link.Traffic{BytesSent: c.BytesSent.Load(), BytesReceived: c.BytesReceived.Load(), Late: c.Late.Load(), Foreign: c.Foreign.Load(), Stray: c.Stray.Load()}
}
