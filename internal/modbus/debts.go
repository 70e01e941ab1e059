package modbus

import (
	"errors"
	"slices"
	"time"
)

// debts are answers that may still come, where answers have no identifier: those of requests that timed out. Such an answer must
// not be taken for one to another request, which it may look like to the last bit. The zero value is ready.
type debts struct {
	owed  map[byte][]debt // by unit, the oldest first, as a device answers
	paces map[byte]pace   // likewise
}

type debt struct {
	request Request
	sent    time.Time
	due     time.Time // when it should have come
}

// doubtful reports whether the answer may still come: for as long again as it was waited for.
func (o debt) doubtful(now time.Time) bool { return now.Sub(o.due) < o.due.Sub(o.sent) }

// pace is how long a unit takes to answer.
type pace struct {
	usual, slowest time.Duration
	last           time.Time // when it answered last, before which it did not begin with what it answers next
}

// mostDebts is how many requests of a unit are remembered.
const mostDebts = 8

// usualSlack is how much longer than three times as usual an answer may take and still be thought in time.
const usualSlack = 20 * time.Millisecond

// miss notes that a request was not answered in time. The answer is thought to come within that time again or, of a unit whose
// answers came later, as late as these; twice as late, since a request may have to wait for the one before it.
func (d *debts) miss(unit byte, r Request, sent time.Time, timeout time.Duration) {
	d.ready()
	o := debt{r, sent, sent.Add(2 * max(timeout, d.paces[unit].slowest))}
	list := append(d.owed[unit], o)
	d.owed[unit] = list[max(0, len(list)-mostDebts):]
}

func (d *debts) ready() {
	if d.owed == nil {
		d.owed, d.paces = map[byte][]debt{}, map[byte]pace{}
	}
}

// forget drops the debts that are not to be expected any more.
func (d *debts) forget(unit byte, now time.Time) []debt {
	list := d.owed[unit]
	if len(list) == 0 {
		return nil
	}
	list = slices.DeleteFunc(list, func(o debt) bool { return !o.doubtful(now) })
	if d.owed[unit] = list; len(list) == 0 {
		delete(d.owed, unit)
	}
	return list
}

// pay takes a debt off, and those before it, which will not be answered after it. Those behind it come after it, each no slower.
func (d *debts) pay(unit byte, at int, now time.Time) (after time.Duration) {
	list := d.owed[unit]
	p := d.paces[unit]
	if after = now.Sub(list[at].sent); p.last.After(list[at].sent) {
		after = now.Sub(p.last)
	}
	p.slowest, p.last = max(after, p.slowest/2), now
	d.paces[unit] = p
	list = slices.Delete(list, 0, at+1)
	for i := range list {
		if due := now.Add(2 * after); due.After(list[i].due) {
			list[i].due = due
		}
	}
	if d.owed[unit] = list; len(list) == 0 {
		delete(d.owed, unit)
	}
	return after
}

// late reports whether a frame that does not answer the request under way answers one that timed out, and how long ago that was sent.
// It pays the debt.
func (d *debts) late(f Frame, now time.Time) (after time.Duration, late bool) {
	for i, o := range d.forget(f.Unit, now) {
		var refused Exception
		if _, err := o.request.ParseAnswer(f.PDU); err == nil || errors.As(err, &refused) {
			return d.pay(f.Unit, i, now), true
		}
	}
	return 0, false
}

// owing is whose answer a frame may be that fits a request under way.
type owing byte

const (
	ours    owing = iota // that of the request
	again                // that of the same request before it, which had timed out: it is as good, and the one to this is owed now
	another              // that of another request
)

// answered says whose answer it is that fits a request, and how late.
func (d *debts) answered(unit byte, r Request, sent, now time.Time) (whose owing, after time.Duration) {
	list := d.forget(unit, now)
	p, took := d.paces[unit], now.Sub(sent)
	at := slices.IndexFunc(list, func(o debt) bool { return o.request.alike(r) })
	switch {
	case len(list) == 0:
		d.ready()
		if p.usual == 0 {
			p.usual = took
		}
		p.usual, p.last = p.usual+(took-p.usual)/4, now
		d.paces[unit] = p
		return ours, 0
	case at < 0 || p.usual > 0 && took <= 3*p.usual+usualSlack:
		delete(d.owed, unit) // nothing that was asked before comes after it
		return ours, 0
	case !list[at].request.same(r):
		return another, d.pay(unit, at, now)
	}
	after = d.pay(unit, at, now)
	d.owed[unit] = append(d.owed[unit], debt{r, sent, now.Add(2 * after)})
	return again, after
}

// until is how long to wait for what a unit owes before a request is sent whose answer could not be told from it; zero when there
// is nothing to wait for.
func (d *debts) until(unit byte, r Request) (last time.Time) {
	for _, o := range d.owed[unit] {
		if o.request.alike(r) && !o.request.same(r) && o.due.After(last) {
			last = o.due
		}
	}
	return last
}

// same reports whether two reads ask for the same.
func (r Request) same(o Request) bool {
	return r.Function == o.Function && r.Address == o.Address && r.Quantity == o.Quantity
}

// alike reports whether answers to two reads cannot be told from each other.
func (r Request) alike(o Request) bool {
	size := func(r Request) uint16 {
		if r.Function.Bits() {
			return (r.Quantity + 7) / 8
		}
		return r.Quantity
	}
	return r.Function == o.Function && r.Function.reads() && size(r) == size(o)
}
