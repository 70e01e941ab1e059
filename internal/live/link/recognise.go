package link

import (
	"context"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// Recogniser is a Driver that can tell whether its protocol is spoken at a place where another is asked in vain. What it sends there must harm
// nothing.
type Recogniser interface {
	Recognise(ctx context.Context, link site.Link) bool
	// Speaks reports whether what a place says by itself is of its protocol.
	Speaks(said []byte) bool
}

// recognise looks whether another protocol is spoken where the link goes.
func (r *Runner) recognise(ctx context.Context) bool {
	if r.link.Transport != site.TCP || r.link.Listen != "" {
		return false
	}
	for protocol, other := range r.recognisers {
		if protocol != r.link.Protocol && ctx.Err() == nil && other.Recognise(ctx, r.link) {
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.others.place == nil {
				r.others.place = new(diagnose.Place)
			}
			r.others.place.Speaks = protocol
			return true
		}
	}
	return false
}

// speaks reports whether what was explored speaks by itself, and then nothing that a device of the link's protocol would.
func (r *Runner) speaks() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.others.place != nil && len(r.others.place.Said) > 0
}
