// Package wire opens the byte pipes that links run over.
package wire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"syscall"
	"time"

	"arithmon/internal/site"
)

// ConnectTimeout is how long a connection may take to come about.
const ConnectTimeout = 3 * time.Second

// Dial connects to the far end of a link. Its error says in plain words what happened and names the address.
func Dial(ctx context.Context, link site.Link) (net.Conn, error) {
	dialer := net.Dialer{Timeout: ConnectTimeout}
	if link.Bind != "" {
		ip, err := netip.ParseAddr(link.Bind)
		if err != nil {
			return nil, fmt.Errorf("bind %q is no IP address", link.Bind)
		}
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(ip, 0))
	}
	address := net.JoinHostPort(link.Host, strconv.Itoa(link.Port))
	conn, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, explain(err))
	}
	return conn, nil
}

// explain puts the usual causes into words a person can act on; the cause stays wrapped.
func explain(err error) error {
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return fmt.Errorf("the name %q does not resolve: %w", dns.Name, err)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("connection refused; the host is there, but nothing listens on that port: %w", syscall.ECONNREFUSED)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return fmt.Errorf("no route to the host: %w", err)
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return fmt.Errorf("the local address to go out by is not this machine's: %w", err)
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("no answer to the connection request within %s; check address, cable and firewall", ConnectTimeout)
	}
	return err
}
