// Package closing ends what waits on a connection or listener by closing it.
package closing

import (
	"context"
	"io"
)

// With closes c when ctx ends. end closes it at the latest, and returns once it is closed, so that nobody finds its port taken afterwards.
func With(ctx context.Context, c io.Closer) (end func()) {
	closed := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(closed)
		c.Close()
	})
	return func() {
		if stop() {
			c.Close()
			return
		}
		<-closed
	}
}
