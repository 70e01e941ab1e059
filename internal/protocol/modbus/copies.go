package modbus

import (
	"slices"
	"time"
)

// Second copies of a response: how one is told from the response that is waited for.

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

// doubled reports whether second responses are to be expected.
func (u *unitResponses) doubled(now time.Time) bool {
	return !u.twice.IsZero() && now.Sub(u.twice) < twiceFor
}

// double notes that a second response came.
func (u *unitResponses) double(now time.Time) { u.twice, u.once = now, 0 }

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
		case !e.single && u.once < proven && since < soon:
			like = max(like, likeOwn)
		}
	}
	seen.note(response{sum, by, now})
	return like
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
