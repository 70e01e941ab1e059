package modbus

import (
	"slices"
	"time"
)

// Responses that come late: which request they answer, and how long one is waited for.

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
	return max(leastSilence, max(u.longest, u.slowest)*3/2)
}

// doubt is how long after it was sent a request that failed may still be answered.
func (u *unitResponses) doubt(timeout time.Duration) time.Duration {
	return max(leastDoubt, doubtTimeouts*timeout, 3*u.slowest)
}
