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
	"strings"
	"syscall"
	"time"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// ConnectTimeout is how long a connection may take to come about.
const ConnectTimeout = 3 * time.Second

// Open connects a link over its transport. Its error says in plain words what happened and names the far end.
// On a serial line, deadlines work as those of a network connection do.
func Open(ctx context.Context, link site.Link) (net.Conn, error) {
	conn, err := open(ctx, link)
	if err != nil {
		meant := ""
		if known := (*OpenError)(nil); errors.As(err, &known) {
			meant = known.Port
		}
		kind, err := explain(err)
		return nil, &OpenError{Kind: kind, Err: fmt.Errorf("%s: %w", link.FarEnd(), err), Port: meant}
	}
	return conn, nil
}

// Listen waits for stations that call in, where link says.
func Listen(ctx context.Context, link site.Link) (net.Listener, error) {
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "tcp", link.Listen)
	if err != nil {
		kind, err := explain(err)
		return nil, &OpenError{Kind: kind, Err: fmt.Errorf("listening on %s: %w", link.Listen, err)}
	}
	return listener, nil
}

func open(ctx context.Context, link site.Link) (net.Conn, error) {
	if link.Transport.UsesSerialPort() {
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
		ip, err := local(link.Bind)
		if err != nil {
			return nil, err
		}
		if dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(ip, 0)); network == "udp" {
			dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(ip, 0))
		}
	}
	conn, err := dialer.DialContext(ctx, network, link.FarEnd())
	switch {
	case err != nil:
		return nil, err
	case link.Transport == site.TLS:
		return secure(ctx, conn, link)
	case link.Transport == site.UDP:
		return datagrams{conn, link.FarEnd()}, nil
	}
	return conn, nil
}

// datagrams are those of a place. That nothing takes them there, its host says some time after one was sent.
type datagrams struct {
	net.Conn
	place string
}

func (d datagrams) Read(b []byte) (int, error) {
	n, err := d.Conn.Read(b)
	return n, d.explained(err)
}

func (d datagrams) Write(b []byte) (int, error) {
	n, err := d.Conn.Write(b)
	return n, d.explained(err)
}

func (d datagrams) explained(err error) error {
	if err == nil || !errors.Is(err, syscall.ECONNREFUSED) {
		return err
	}
	return &OpenError{Kind: failure.Refused, Err: &worded{fmt.Sprintf("nothing takes UDP at %s, as its host says (ICMP port unreachable)", d.place), err}}
}

// local is the address to go out by: an IP address, or the first of a network interface, IPv4 before IPv6.
func local(bind string) (netip.Addr, error) {
	if ip, err := netip.ParseAddr(bind); err == nil {
		return ip, nil
	}
	all, err := net.Interfaces()
	if err != nil {
		return netip.Addr{}, fmt.Errorf("listing network interfaces: %w", err)
	}
	var names []string
	for _, i := range all {
		names = append(names, i.Name)
		if i.Name != bind {
			continue
		}
		addresses, err := i.Addrs()
		if err != nil {
			return netip.Addr{}, fmt.Errorf("addresses of network interface %s: %w", bind, err)
		}
		var first netip.Addr
		for _, a := range addresses {
			prefix, err := netip.ParsePrefix(a.String())
			if err == nil && (!first.IsValid() || first.Is6() && prefix.Addr().Is4()) {
				first = prefix.Addr()
			}
		}
		if !first.IsValid() {
			return netip.Addr{}, &OpenError{Kind: failure.Bind, Err: fmt.Errorf("network interface %s has no address; is its cable plugged in?", bind)}
		}
		return first, nil
	}
	return netip.Addr{}, &OpenError{Kind: failure.Bind, Err: fmt.Errorf("this machine has no network interface %q; there are %s", bind, strings.Join(names, ", "))}
}

// OpenError is why a link did not open.
type OpenError struct {
	Kind failure.Kind // the empty one for what has no name
	Err  error
	Port string // the serial port that may be meant, where the one that is named is not there
}

func (e *OpenError) Error() string { return e.Err.Error() }

// Unwrap is the cause.
func (e *OpenError) Unwrap() error { return e.Err }

// Failure says what kind of failure it is.
func (e *OpenError) Failure() failure.Kind { return e.Kind }

// Meant is the serial port that may be meant instead of one that is not there, "" when none is known.
func (e *OpenError) Meant() string { return e.Port }

// worded is an error whose text says all that its cause would.
type worded struct {
	text  string
	cause error
}

func (e *worded) Error() string { return e.text }

// Unwrap is the cause.
func (e *worded) Unwrap() error { return e.cause }

// explain puts the usual causes into words a person can act on; the cause stays wrapped.
func explain(err error) (failure.Kind, error) {
	var dns *net.DNSError
	var known *OpenError
	switch {
	case errors.As(err, &known):
		return known.Kind, known.Err
	case errors.As(err, &dns):
		return failure.Name, fmt.Errorf("the name %q does not resolve: %w", dns.Name, err)
	case errors.Is(err, syscall.ECONNREFUSED):
		return failure.Refused, &worded{"connection refused; the host is there, but nothing listens on that port", err}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return failure.Unreachable, fmt.Errorf("no route to the host: %w", err)
	case errors.Is(err, syscall.EADDRINUSE):
		return failure.Taken, fmt.Errorf("another program, or another link, listens there: %w", err)
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return failure.Bind, fmt.Errorf("the local address to go out by is not this machine's: %w", err)
	case errors.As(err, new(*tls.CertificateVerificationError)):
		return failure.TLS, fmt.Errorf("the server's certificate is not accepted: %w", err)
	case errors.As(err, new(tls.RecordHeaderError)):
		return failure.TLS, fmt.Errorf("what listens there does not speak TLS: %w", err)
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return failure.Timeout, fmt.Errorf("no answer to the connection request within %s; check address, cable and firewall", ConnectTimeout)
	}
	return "", err
}
