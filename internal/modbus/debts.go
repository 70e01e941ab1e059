package modbus

import "time"

// debts are answers that may still come, where answers have no identifier: those of requests that timed out. Such an answer must
// not be taken for one to another request, which it may look like to the last bit. The zero value is ready.
type debts struct {
	owed  map[byte]debt // by unit
	paces map[byte]pace // likewise
}

type debt struct {
	request Request
	sent    time.Time
	due     time.Time // when it should have come
}

// pace is how long a unit takes to answer.
type pace struct{ usual, slowest time.Duration }

// owedFor is how long an answer may be late and still be told.
const owedFor = time.Minute

// miss notes that a request was not answered in time. The answer is thought to come within that time again or, of a unit whose
// answers came later, as late as these; twice as late, since a request may have to wait for the one before it.
func (d *debts) miss(unit byte, r Request, sent time.Time, timeout time.Duration) {
	if d.owed == nil {
		d.owed, d.paces = map[byte]debt{}, map[byte]pace{}
	}
	d.owed[unit] = debt{r, sent, sent.Add(2 * max(timeout, d.paces[unit].slowest))}
}

// pay takes a debt off, paid by an answer that is so late.
func (d *debts) pay(unit byte, after time.Duration) {
	delete(d.owed, unit)
	p := d.paces[unit]
	p.slowest = max(after, p.slowest/2)
	d.paces[unit] = p
}

// late reports whether a frame that does not answer the request under way answers one that timed out, and how long ago that was sent.
// It pays the debt.
func (d *debts) late(f Frame, now time.Time) (after time.Duration, late bool) {
	o, owed := d.owed[f.Unit]
	if !owed || now.Sub(o.sent) > owedFor {
		return 0, false
	}
	if _, err := o.request.ParseAnswer(f.PDU); err != nil {
		if _, refused := err.(Exception); !refused {
			return 0, false
		}
	}
	after = now.Sub(o.sent)
	d.pay(f.Unit, after)
	return after, true
}

// answered notes what may be the answer to a request, and reports whether it rather is that to the same request before it, which had
// timed out: then the answer to this one is what is owed from now on.
func (d *debts) answered(unit byte, r Request, sent, now time.Time) (after time.Duration, late bool) {
	o, owed := d.owed[unit]
	p, took := d.paces[unit], now.Sub(sent)
	switch {
	case !owed:
		if d.paces == nil {
			d.owed, d.paces = map[byte]debt{}, map[byte]pace{}
		}
		if p.usual == 0 {
			p.usual = took
		}
		p.usual += (took - p.usual) / 4
		d.paces[unit] = p
		return 0, false
	case !o.request.alike(r) || p.usual > 0 && took <= 3*p.usual+usualSlack || now.Sub(o.sent) > owedFor:
		delete(d.owed, unit)
		return 0, false
	}
	after = now.Sub(o.sent)
	d.pay(unit, after)
	d.owed[unit] = debt{r, sent, now.Add(2 * after)}
	return after, true
}

// usualSlack is how much longer than three times as usual an answer may take and still be thought in time.
const usualSlack = 20 * time.Millisecond

// until is how long to wait for what a unit owes before a request is sent whose answer could not be told from it; zero when there
// is nothing to wait for.
func (d *debts) until(unit byte, r Request) time.Time {
	o, owed := d.owed[unit]
	if !owed || !o.request.alike(r) || o.request.same(r) {
		return time.Time{}
	}
	return o.due
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
