package closing

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever ends a listener, its port is free afterwards, though a client connects in the same moment.
func TestAPortIsFreeOnceItsListenerEnded(t *testing.T) {
	for range 200 {
		listener, err := net.Listen("tcp", "127.0.83.1:0")
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() {
			defer close(done)
			defer With(ctx, listener)()
			for {
				conn, err := listener.Accept()
				if err != nil || ctx.Err() != nil {
					return
				}
				conn.Close()
			}
		}()
		go cancel()
		if conn, err := net.Dial("tcp", listener.Addr().String()); err == nil {
			conn.Close()
		}
		<-done
		_, err = net.Dial("tcp", listener.Addr().String())
		assert.ErrorContains(t, err, "refused")
		again, err := net.Listen("tcp", listener.Addr().String())
		require.NoError(t, err)
		again.Close()
	}
	listener, err := net.Listen("tcp", "127.0.83.1:0")
	require.NoError(t, err)
	With(t.Context(), listener)()
	_, err = listener.Accept()
	assert.ErrorIs(t, err, net.ErrClosed, "closed, though its context goes on")
}
