package link

import (
	"time"
)

// backoff is a pause that grows.
type backoff struct {
	pause time.Duration // 0: not backing off
	until time.Time
}

func (b *backoff) grow(first, last time.Duration, now time.Time) {
	b.pause = min(max(first, 2*b.pause), last)
	b.until = now.Add(b.pause)
}
