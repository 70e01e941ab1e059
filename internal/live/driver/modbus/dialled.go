package modbus

import (
	"context"
	"sync"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/wire"
)

// dialled is the session of a dial-up link: a modem, and at most one call over it. A call serves whatever is due at its
// number and ends when nothing was for a while.
type dialled struct {
	link  site.Link
	host  link.Host
	modem *wire.Modem

	mu     sync.Mutex // held while anything is done over the modem, which may take long
	number string     // that was called
	since  time.Time  // of the call
	idle   *time.Timer
	closed bool
	gone   bool                  // the port is
	missed map[string]missedCall // by number

	state sync.Mutex   // guards what follows; call changes with mu held, too
	call  *session     // nil while on hook
	ended link.Traffic // of calls that are over
}

// missedCall is one that did not come about.
type missedCall struct {
	at  time.Time
	err error
}

// callTurn is how long a call is preferred to what is due at other numbers.
const callTurn = time.Minute

func openDialled(ctx context.Context, l site.Link, host link.Host) (link.Session, error) {
	modem, err := wire.OpenModem(ctx, l, host.Doing)
	if err != nil {
		return nil, err
	}
	d := &dialled{link: l, host: host, modem: modem, missed: map[string]missedCall{}}
	d.idle = time.AfterFunc(time.Hour, d.leave)
	return d, nil
}

// AtHand reports whether a station is behind the number that is connected.
func (d *dialled) AtHand(station site.Station) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.call != nil && station.Number == d.number && time.Since(d.since) < callTurn
}

// reach connects to a number, and hangs up another first. The lock is held.
func (d *dialled) reach(number string) (*session, error) {
	d.idle.Stop()
	if d.call != nil && d.number == number {
		return d.call, nil
	}
	if err := d.hangUp(); err != nil {
		return nil, err
	}
	conn, err := d.modem.Dial(number)
	if err != nil {
		d.gone = d.modem.Gone()
		d.missed[number] = missedCall{time.Now(), err}
		return nil, err
	}
	delete(d.missed, number)
	d.state.Lock()
	defer d.state.Unlock()
	d.call, d.number, d.since = newSession(conn, d.link, d.host), number, time.Now()
	return d.call, nil
}

// hangUp ends the call there is. The lock is held.
func (d *dialled) hangUp() error {
	if d.call == nil {
		return nil
	}
	d.forget()
	err := d.modem.HangUp()
	d.gone = d.modem.Gone()
	return err
}

// forget notes that the call is over. The lock is held.
func (d *dialled) forget() {
	d.state.Lock()
	defer d.state.Unlock()
	d.ended.Add(d.call.Traffic())
	d.call = nil
}

// leave hangs up when nothing was asked for a while.
func (d *dialled) leave() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.closed {
		d.hangUp() // its error shows when the modem is used again
	}
}

// over does something over a call to a number. When the call breaks down meanwhile, it is over.
func (d *dialled) over(number string, f func(*session)) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	s, err := d.reach(number)
	if err != nil {
		return err
	}
	f(s)
	if s.Lost() {
		d.forget()
		d.gone = d.modem.Dropped()
		return nil
	}
	d.idle.Reset(time.Duration(d.link.Modem.Idle))
	return nil
}

// Do is link.Session's. A number that does not answer is left alone for the modem's redial time, whichever of its stations is due.
func (d *dialled) Do(work link.Job) (out link.Outcome) {
	number, redial := work.(*job).to.number, time.Duration(d.link.Modem.Redial)
	err := d.lately(number, redial)
	if err == nil {
		err = d.over(number, func(s *session) {
			began := time.Now()
			out = s.Do(work)
			out.Took = time.Since(began) // dialling is no part of it
		})
	}
	if err != nil {
		return link.Outcome{Err: err, Reason: reading.LinkDown, Rest: redial}
	}
	return out
}

// lately is why a number could not be reached within a time; nil when it was not called.
func (d *dialled) lately(number string, within time.Duration) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if m, ok := d.missed[number]; ok && time.Since(m.at) < within {
		return m.err
	}
	return nil
}

func (d *dialled) Read(station site.Station, what site.Range) (samples []table.Sample, err error) {
	if down := d.over(station.Number, func(s *session) { samples, err = s.Read(station, what) }); down != nil {
		return nil, down
	}
	return samples, err
}

func (d *dialled) Write(station site.Station, what link.Command) (w link.Written) {
	if err := d.over(station.Number, func(s *session) { w = s.Write(station, what) }); err != nil {
		return link.Written{Err: err}
	}
	return w
}

func (d *dialled) Test(station site.Station) (sign link.Sign, err error) {
	if down := d.over(station.Number, func(s *session) { sign, err = s.Test(station) }); down != nil {
		return link.Sign{}, down
	}
	return sign, err
}

// Lost reports whether the port is gone; a call that broke down is made anew.
func (d *dialled) Lost() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.gone
}

// Close ends what is under way and hangs up.
func (d *dialled) Close() {
	d.modem.Interrupt()
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	d.idle.Stop()
	d.hangUp() // best effort: the port is closed in any case
	d.modem.Close()
}

func (d *dialled) Traffic() link.Traffic {
	d.state.Lock()
	defer d.state.Unlock()
	t := d.ended
	if d.call != nil {
		t.Add(d.call.Traffic())
	}
	return t
}
