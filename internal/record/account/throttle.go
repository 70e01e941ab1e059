package account

import (
	"fmt"
	"sync"
	"time"
)

// Attempts that fail make the next one wait, the longer the more there were; never for ever, so that nobody can lock somebody else out.
//
//   - of one address on one account: after freeTries, a second, two, four, up to longestPause;
//   - of one address on any account: after freeOfAddress, likewise;
//   - on one account, from addresses from which nobody signed in to it yet: once there were freeOfAccount from anywhere, each of these
//     addresses may try once in strangerPause. Who signed in from an address before is not held up by what others do.
const (
	freeTries     = 3
	freeOfAddress = 10
	freeOfAccount = 20
	longestPause  = 5 * time.Minute
	strangerPause = 30 * time.Second
	forgotten     = 20 * time.Minute // after which a failure counts no more
	mostMisses    = 10_000           // are remembered; the oldest go first
)

// TooSoon says that it must be waited before the next attempt.
type TooSoon struct{ Wait time.Duration }

func (e *TooSoon) Error() string {
	return fmt.Sprintf("too many attempts failed; wait %s and try again", max(e.Wait.Round(time.Second), time.Second))
}

// misses are failures of one kind.
type misses struct {
	n    int
	last time.Time
}

// pause is how long is waited after so many failures, of which some are free.
func pause(n, free int) time.Duration {
	if n < free {
		return 0
	}
	return min(time.Second<<min(n-free, 20), longestPause)
}

// throttle counts attempts that failed.
type throttle struct {
	mu    sync.Mutex
	of    map[[2]string]misses // by account and address; one of the two may be empty
	known map[[2]string]bool   // addresses from which somebody signed in to an account
}

func newThrottle() *throttle {
	return &throttle{of: map[[2]string]misses{}, known: map[[2]string]bool{}}
}

// try counts an attempt as failed before it is made, so that many at once are no way around; succeeded takes that back. It is TooSoon when
// it must be waited.
func (t *throttle) try(account, address string, now time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	both, from, on := [2]string{account, address}, [2]string{"", address}, [2]string{account, ""}
	wait := max(t.left(both, pause(t.of[both].n, freeTries), now), t.left(from, pause(t.of[from].n, freeOfAddress), now))
	if t.of[on].n >= freeOfAccount && !t.known[both] && now.Sub(t.of[on].last) < forgotten {
		wait = max(wait, t.left(both, strangerPause, now))
	}
	if wait > 0 {
		return &TooSoon{wait}
	}
	for _, k := range [][2]string{both, from, on} {
		m := t.of[k]
		if now.Sub(m.last) > forgotten {
			m.n = 0
		}
		t.of[k] = misses{m.n + 1, now}
	}
	t.bound(now)
	return nil
}

// left is how much of a pause is left since the last failure.
func (t *throttle) left(k [2]string, pause time.Duration, now time.Time) time.Duration {
	m := t.of[k]
	if m.n == 0 || now.Sub(m.last) > forgotten {
		return 0
	}
	return pause - now.Sub(m.last)
}

// succeeded says that the attempt that was counted was none that failed.
func (t *throttle) succeeded(account, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.of, [2]string{account, address})
	if m, of := t.of[[2]string{"", address}]; of { // one good account gives no free tries on others
		m.n = max(m.n-1, 0)
		t.of[[2]string{"", address}] = m
	}
	if m, of := t.of[[2]string{account, ""}]; of {
		m.n = max(m.n-1, 0)
		t.of[[2]string{account, ""}] = m
	}
	if len(t.known) < mostMisses {
		t.known[[2]string{account, address}] = true
	}
}

// uncounted takes back that an attempt was counted, and nothing else.
func (t *throttle) uncounted(account, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, k := range [][2]string{{account, address}, {"", address}, {account, ""}} {
		if m, of := t.of[k]; of {
			m.n = max(m.n-1, 0)
			t.of[k] = m
		}
	}
}

// bound forgets what is old when there is much.
func (t *throttle) bound(now time.Time) {
	if len(t.of) <= mostMisses {
		return
	}
	var oldest [2]string
	last := now.Add(time.Hour)
	for k, m := range t.of {
		if now.Sub(m.last) > forgotten {
			delete(t.of, k)
		} else if m.last.Before(last) {
			oldest, last = k, m.last
		}
	}
	if len(t.of) > mostMisses {
		delete(t.of, oldest)
	}
}
