// Package wire opens the byte pipes that links run over.
package wire

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"arithmon/internal/site"
)

// ConnectTimeout is how long a connection may take to come about.
const ConnectTimeout = 3 * time.Second

// Open connects a link over its transport. Its error says in plain words what happened and names the far end.
// On a serial line, deadlines work as those of a network connection do.
func Open(ctx context.Context, link site.Link) (net.Conn, error) {
	conn, err := open(ctx, link)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", link.FarEnd(), explain(err))
	}
	return conn, nil
}

func open(ctx context.Context, link site.Link) (net.Conn, error) {
	if link.Transport == site.Serial {
		return openSerial(*link.Serial)
	}
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
	defer cancel()
	network := "tcp"
	if link.Transport == site.UDP {
		network = "udp"
	}
	var dialer net.Dialer
	if link.Bind != "" {
		ip, err := netip.ParseAddr(link.Bind)
		if err != nil {
			return nil, fmt.Errorf("bind %q is no IP address", link.Bind)
		}
		if dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(ip, 0)); network == "udp" {
			dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(ip, 0))
		}
	}
	conn, err := dialer.DialContext(ctx, network, link.FarEnd())
	if err != nil || link.Transport != site.TLS {
		return conn, err
	}
	return secure(ctx, conn, link)
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
	case errors.As(err, new(*tls.CertificateVerificationError)):
		return fmt.Errorf("the server's certificate is not accepted: %w", err)
	case errors.As(err, new(tls.RecordHeaderError)):
		return fmt.Errorf("what listens there does not speak TLS: %w", err)
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("no answer to the connection request within %s; check address, cable and firewall", ConnectTimeout)
	}
	return err
}
