package wire

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"os"
	"time"

	"arithmon/internal/core/site"
)

// How long a connection on which nothing is asked is listened to, and how much of what it says is kept.
const (
	listenFor = 600 * time.Millisecond
	mostSaid  = 64
)

// Place is what a place on the network does with connections on which nothing of the link's protocol is asked.
type Place struct {
	Closed bool          // it closed one before anything was asked
	After  time.Duration // how soon
	Said   []byte        // what it said by itself; at most 64 octets
	TLS    bool          // it took a TLS handshake; tried only where asks says so
}

// Explore opens a plain connection to where a link goes and listens; nothing is sent on it. Where that one is neither closed nor spoken on
// and asks is true, it begins a TLS handshake on another: to a device that does not know TLS that is one frame that it drops, so that it is for
// places that close whatever is asked.
func Explore(ctx context.Context, link site.Link, asks bool) (Place, error) {
	link.Transport = site.TCP
	conn, err := Open(ctx, link)
	if err != nil {
		return Place{}, err
	}
	p := listenTo(ctx, conn)
	if p.Closed || len(p.Said) > 0 || !asks || ctx.Err() != nil {
		return p, nil
	}
	if conn, err = Open(ctx, link); err == nil {
		p.TLS = takesTLS(ctx, conn)
	}
	return p, nil
}

func listenTo(ctx context.Context, conn net.Conn) (p Place) {
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	began := time.Now()
	conn.SetReadDeadline(began.Add(listenFor))
	said := make([]byte, mostSaid)
	n, err := conn.Read(said)
	if n > 0 {
		p.Said = said[:n]
	}
	if err != nil && !os.IsTimeout(err) && ctx.Err() == nil {
		p.Closed, p.After = true, time.Since(began)
	}
	return p
}

// hailFor is how long a place may take to answer what another protocol would.
const hailFor = time.Second

// Hail sends what a protocol would ask for and gives what comes back once it is whole; an error when it is not before long.
func Hail(ctx context.Context, conn net.Conn, request []byte, whole func([]byte) bool) ([]byte, error) {
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	conn.SetDeadline(time.Now().Add(hailFor))
	if _, err := conn.Write(request); err != nil {
		return nil, err
	}
	answer := make([]byte, 0, 512)
	for {
		n, err := conn.Read(answer[len(answer):cap(answer)])
		if answer = answer[:len(answer)+n]; whole(answer) {
			return answer, nil
		}
		if err == nil && len(answer) == cap(answer) {
			err = io.ErrShortBuffer
		}
		if err != nil {
			return nil, err
		}
	}
}

// takesTLS reports whether the far end answers the beginning of a handshake with its own. What it is called and who vouches for it is not
// looked at: nothing is said to it.
func takesTLS(ctx context.Context, conn net.Conn) (takes bool) {
	defer conn.Close()
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
	defer cancel()
	config := &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: func(tls.ConnectionState) error {
		takes = true
		return nil
	}}
	tls.Client(conn, config).HandshakeContext(ctx) // that it wants a certificate of ours, or that it has none of its own, is no matter here
	return takes
}
