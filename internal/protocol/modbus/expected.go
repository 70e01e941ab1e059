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

// recent is what was asked for and came last in one shape.
type recent struct {
	by   addresses // who asked last
	at   time.Time // when, or when a response came out of turn
	came [16]response
	next int
}

// response is one that was taken.
type response struct {
	sum uint64 // of its data
	by  addresses
	at  time.Time
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

// doubled reports whether second responses are to be expected.
func (u *unitResponses) doubled(now time.Time) bool {
	return !u.twice.IsZero() && now.Sub(u.twice) < twiceFor
}

// double notes that a second response came.
func (u *unitResponses) double(now time.Time) { u.twice, u.once = now, 0 }

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

// likeness is how data compare with responses that came before.
type likeness int

const (
	unlike   likeness = iota // they differ from all, so they are no second copy of any
	likeOwn                  // the same as those of the same addresses, where it is not proven that responses do not come twice
	likeCopy                 // the same as those of other addresses, or where responses have come twice
)

// compare says whether data may be a second copy of a response that came before. It notes them.
func (e *expected) compare(unit byte, wanted, r Request, data []byte, now time.Time) likeness {
	u := e.unit(unit)
	seen, by, sum := u.seen(r.shape()), wanted.addresses(), digest(data)
	like := unlike
	for _, o := range seen.came {
		switch since := now.Sub(o.at); {
		case o.sum != sum || o.at.IsZero() || since >= rememberFor:
		case o.by != by, u.doubled(now):
			like = likeCopy
		case u.once < proven && since < soon:
			like = max(like, likeOwn)
		}
	}
	seen.note(response{sum, by, now})
	return like
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

// late reports whether a frame answers a request that failed, and how long ago that was sent. The request is answered then, unless the
// frame may be a second copy of what came before.
func (e *expected) late(f Frame, now time.Time) (after time.Duration, late bool) {
	u := e.units[f.Unit]
	if u == nil {
		return 0, false
	}
	for i, o := range u.outstanding {
		refused := f.PDU[0] == byte(o.request.Function)|exceptionFlag && len(f.PDU) == 2
		if _, err := o.request.ParseAnswer(f.PDU); err != nil && !refused {
			continue
		}
		after = now.Sub(o.sent)
		like := unlike
		if o.request.Function.reads() && !refused {
			u.seen(o.request.shape()).at = now // from when on a second one may come
			like = e.compare(f.Unit, o.request, o.request, f.PDU[2:], now)
		}
		if like != unlike && u.doubled(now) {
			return 0, false
		}
		u.slowest, u.silent = max(u.slowest, after), 0
		if like == unlike { // otherwise the response itself may still come
			u.outstanding = slices.Delete(u.outstanding, i, i+1)
		}
		return after, true
	}
	return 0, false
}

// second reports whether a frame is like a response that came already. A frame that was not asked for is noted in any case, since it may
// come once more.
func (e *expected) second(f Frame, now time.Time) bool {
	u := e.units[f.Unit]
	if u == nil || len(f.PDU) < 2 || !Function(f.PDU[0]).reads() || int(f.PDU[1]) != len(f.PDU)-2 {
		return false
	}
	shape := shape{Function(f.PDU[0]), len(f.PDU) - 2}
	last, asked := u.used[shape]
	asked = asked && now.Sub(last.at) <= rememberFor
	seen := u.seen(shape)
	sum := digest(f.PDU[2:])
	if !slices.ContainsFunc(seen.came[:], func(r response) bool { return r.sum == sum && now.Sub(r.at) < rememberFor }) {
		seen.note(response{sum: sum, at: now}) // of addresses that are not known
	}
	if asked {
		seen.at = now
		u.double(now)
	}
	return asked
}

// note keeps a response in place of the oldest.
func (r *recent) note(came response) {
	r.came[r.next] = came
	r.next = (r.next + 1) % len(r.came)
}

// digest is the sum by which data are known again (FNV-1a).
func digest(data []byte) uint64 {
	sum := uint64(14695981039346656037)
	for _, c := range data {
		sum = (sum ^ uint64(c)) * 1099511628211
	}
	return sum
}

// doubtful reports whether an exception to a function may be meant for a request that failed.
func (e *expected) doubtful(unit byte, f Function) bool {
	if u := e.units[unit]; u != nil {
		for _, o := range u.outstanding {
			if !o.passed && o.request.Function == f {
				return true
			}
		}
	}
	return false
}

// patience is how long to wait for a response: longer than the timeout for a unit that answers later, as long as it answers at all.
func (e *expected) patience(unit byte, timeout time.Duration) time.Duration {
	u := e.unit(unit)
	if u.silent > 2 || u.slowest < timeout*4/5 {
		return timeout
	}
	return max(timeout, min(u.slowest+u.slowest/2, max(mostPatience*timeout, leastPatience)))
}

// silence is for how long nothing more may come before it is taken that no response is under way: longer than any took.
func (e *expected) silence(unit byte) time.Duration {
	u := e.unit(unit)
	return max(leastSilence, 3*max(u.longest, u.slowest))
}

// doubt is how long after it was sent a request that failed may still be answered.
func (u *unitResponses) doubt(timeout time.Duration) time.Duration {
	return max(leastDoubt, doubtTimeouts*timeout, 3*u.slowest)
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
