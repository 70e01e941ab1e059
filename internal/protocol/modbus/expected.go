package modbus

import (
	"fmt"
	"slices"
	"time"
)

// expected keeps, where responses carry no transaction identifier, which responses may still come: those to requests that have
// failed, and second ones to requests that were answered. A response is told from another by its unit, its function and its length,
// so a request that could be mistaken is sent for a few more addresses than are wanted (Request.Spare). The zero value is ready.
type expected struct {
	units map[byte]*unitResponses

	// unordered says that the transport may change the order of frames, as UDP does, so that a response says nothing about those to
	// earlier requests.
	unordered bool
	// single says that the line is a serial one of our own, on which nothing between us and the devices can repeat a frame.
	single bool
}

// unitResponses are the responses of one unit.
type unitResponses struct {
	outstanding []outstanding     // requests that failed, the oldest first
	used        map[shape]*recent // requests and responses of each shape
	slowest     time.Duration     // of recent responses that came after their timeout; decays
	silent      int               // exchanges in a row without any response, also a late one
	twice       time.Time         // when a second response to one request came last
	once        int               // requests that were answered, without a second response
	longest     time.Duration     // that a response took; decays
}

// shape is what tells the response to a read from others.
type shape struct {
	function Function
	octets   int // of data
}

// addresses are what a read is about.
type addresses struct {
	function        Function
	first, quantity uint16
}

// outstanding is a request that was not answered in time.
type outstanding struct {
	request Request // as it was sent
	sent    time.Time
	// passed is set when a later request was answered: the unit answers in order, so this one will not be answered any more.
	passed bool
}

// Times for which a response is thought possible.
const (
	// rememberFor is how long a failed request, and the shape of an answered one, are avoided where another shape can be had.
	rememberFor = 30 * time.Second
	// leastDoubt is how long a request is put off at least whose response could be mistaken, whatever its shape.
	leastDoubt = 5 * time.Second
	// leastSilence is how long it is listened at least for a response that may be under way.
	leastSilence = 20 * time.Millisecond
	// doubtTimeouts is the same in timeouts.
	doubtTimeouts = 6
	// twiceFor is how long a unit that sent a second response is read with more care.
	twiceFor = time.Hour
)

const (
	// mostOutstanding is how many failed requests of a unit are remembered.
	mostOutstanding = 64
	// easySpare is how many registers more are asked for without a sign of second responses.
	easySpare = 8
	// proven is after how many answered requests without a second response a unit is taken to give none, and soon how long until then
	// after a response a second copy of it is thought possible.
	proven = 250
	soon   = 3 * time.Second
	// mostPatience is by how much a timeout is extended at most for a unit that is slower, and leastPatience what it may always become.
	mostPatience  = 10
	leastPatience = 3 * time.Second
)

// UnsettledError says that a request was not sent, since a response to an earlier one may still come that could not be told from its
// own.
type UnsettledError struct{ Until time.Time }

func (e *UnsettledError) Error() string {
	return fmt.Sprintf("not asked: until %s a late response to an earlier request could be mistaken for its own", e.Until.Format("15:04:05.0"))
}

// dataOctets is how many octets of data answer a read of so many addresses.
func (f Function) dataOctets(quantity int) int {
	if f.Bits() {
		return (quantity + 7) / 8
	}
	return 2 * quantity
}

func (r Request) addresses() addresses { return addresses{r.Function, r.Address, r.Quantity} }

func (r Request) shape() shape { return shape{r.Function, r.Function.dataOctets(int(r.Quantity))} }

// widened is r for so many data units more: registers, or groups of eight bits.
func (r Request) widened(by int) (Request, bool) {
	if by == 0 {
		return r, true
	}
	q, largest := int(r.Quantity)+by, MaxReadRegisters
	if r.Function.Bits() {
		q, largest = 8*(r.Function.dataOctets(int(r.Quantity))+by), MaxReadBits
	}
	if q > largest || q-int(r.Quantity) > int(r.Spare) || int(r.Address)+q > 0x10000 {
		return r, false
	}
	r.Quantity = uint16(q)
	return r, true
}

func (e *expected) unit(unit byte) *unitResponses {
	if e.units == nil {
		e.units = map[byte]*unitResponses{}
	}
	u := e.units[unit]
	if u == nil {
		u = &unitResponses{used: map[shape]*recent{}}
		e.units[unit] = u
	}
	return u
}

// choose widens a read so far that its response differs from all that may come instead: never one that may still come; of the others
// one that was not used for long, or else one that it used itself, or else the one that was not used for longest. When all may still come,
// until is when one will not be.
func (e *expected) choose(unit byte, r Request, timeout time.Duration, now time.Time) (sent Request, until time.Time) {
	u := e.unit(unit)
	u.forget(now, timeout)
	most := easySpare
	if u.doubled(now) {
		most = MaxReadRegisters
	}
	const (
		own = iota
		others
		none
	)
	best, class, at := r, none, time.Time{}
	for n := 0; ; n++ {
		wide, ok := r.widened(n)
		if !ok || n > most && class != none {
			break
		}
		s := wide.shape()
		if u.open(s) {
			continue
		}
		last := u.used[s]
		if last == nil || now.Sub(last.at) > rememberFor {
			return wide, time.Time{}
		}
		c := others
		if last.by == r.addresses() {
			c = own
		}
		if c < class || c == class && last.at.Before(at) {
			best, class, at = wide, c, last.at
		}
	}
	if class != none {
		return best, time.Time{}
	}
	for _, o := range u.outstanding {
		if !o.passed && o.request.shape() == r.shape() {
			until = o.sent.Add(u.doubt(timeout))
		}
	}
	if !until.After(now) {
		until = time.Time{}
	}
	return r, until
}

// open reports whether a failed request may still be answered with a shape.
func (u *unitResponses) open(s shape) bool {
	for i := range u.outstanding {
		if o := &u.outstanding[i]; !o.passed && o.request.Function == s.function && o.request.shape() == s {
			return true
		}
	}
	return false
}

// inOrder reports whether a response shows that those to earlier requests will not come any more: the path keeps the order, and the unit
// sends no second responses, of which the first one may have been lost.
func (e *expected) inOrder(u *unitResponses, now time.Time) bool {
	return !e.unordered && !u.doubled(now)
}

// marker is a shorter read of the same first address whose response cannot be mistaken. Once it has come, what was asked before will
// not be answered any more.
func (e *expected) marker(unit byte, r Request, now time.Time) (Request, bool) {
	u := e.unit(unit)
	if !e.inOrder(u, now) || !r.Function.reads() {
		return r, false
	}
	for q := int(r.Quantity) - 1; q > 0; q-- {
		r.Quantity, r.Spare = uint16(q), 0
		if !u.open(r.shape()) {
			return r, true
		}
	}
	return r, false
}

// sent notes a request.
func (e *expected) sent(unit byte, wanted, r Request, now time.Time) {
	if r.Function.reads() {
		u := e.unit(unit).seen(r.shape())
		u.by, u.at = wanted.addresses(), now
	}
}

// seen are the recent requests and responses of a shape.
func (u *unitResponses) seen(s shape) *recent {
	if u.used[s] == nil {
		u.used[s] = &recent{}
	}
	return u.used[s]
}

// failed notes that a request was not answered in time, or not properly.
func (e *expected) failed(unit byte, sent Request, at time.Time) {
	u := e.unit(unit)
	u.outstanding = append(u.outstanding, outstanding{request: sent, sent: at})
	if n := len(u.outstanding) - mostOutstanding; n > 0 {
		u.outstanding = slices.Delete(u.outstanding, 0, n)
	}
}

// answered notes that a request was answered, after so long, by what can only be its response, unless that may be a copy of another.
func (e *expected) answered(unit byte, took, timeout time.Duration, like likeness, now time.Time) {
	u := e.unit(unit)
	u.silent = 0
	u.once++
	u.longest = max(took, u.longest-u.longest/256)
	if took > timeout {
		u.slowest = max(u.slowest, took)
	} else if u.slowest > took {
		u.slowest -= (u.slowest - took) / 32
	}
	if e.inOrder(u, now) && like == unlike {
		for i := range u.outstanding {
			u.outstanding[i].passed = true
		}
	}
}

// forget drops what is not to be expected any more.
func (u *unitResponses) forget(now time.Time, timeout time.Duration) {
	if len(u.outstanding) == 0 {
		return
	}
	keep, doubt := max(rememberFor, u.doubt(timeout)), u.doubt(timeout)
	u.outstanding = slices.DeleteFunc(u.outstanding, func(o outstanding) bool {
		return now.Sub(o.sent) > keep || o.passed && now.Sub(o.sent) > doubt
	})
}
