package rig

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"sync"
	"time"

	"arithmon/internal/core/site"
)

// served answers on a line, whatever that is.
type served struct {
	listener func(context.Context, net.Listener)
	packets  func(context.Context, net.PacketConn)
	port     func(context.Context, io.ReadWriteCloser)
	call     func(ctx context.Context, address string, pause time.Duration) // a master that listens
}

// callAgain is how long an outstation that calls in waits after a call that failed or ended.
const callAgain = 500 * time.Millisecond

// listen opens a line over its transport and answers on it until it is cut.
func (r *Rig) listen(l *line, at string) error {
	server := simulations[l.config.Protocol].serve(r, l)
	ctx, cancel := context.WithCancel(context.Background())
	var serve func()
	var err error
	switch {
	case l.config.Call != "":
		l.listen = l.config.Call
		serve = func() { server.call(ctx, l.config.Call, callAgain) }
	case l.config.Transport == site.UDP:
		var conn net.PacketConn
		if conn, err = net.ListenPacket("udp", at); err == nil {
			l.listen = conn.LocalAddr().String()
			serve = func() { server.packets(ctx, conn) }
		}
	case l.config.Transport.UsesSerialPort():
		serve, err = l.openPort(ctx, at, func(port io.ReadWriteCloser) { server.port(ctx, port) })
	default:
		var listener net.Listener
		if listener, err = net.Listen("tcp", at); err == nil {
			l.listen = listener.Addr().String()
			if l.config.Places > 0 {
				listener = &places{Listener: listener, free: make(chan struct{}, l.config.Places)}
			}
			if l.config.Transport == site.TLS {
				listener = tls.NewListener(listener, r.identity())
			}
			serve = func() { server.listener(ctx, listener) }
		}
	}
	if err != nil {
		cancel()
		return err
	}
	done := make(chan struct{})
	l.cancel, l.done = cancel, done
	go func() {
		defer close(done)
		serve()
	}()
	return nil
}

// places takes so many connections at a time, and closes further ones at once.
type places struct {
	net.Listener
	free chan struct{}
}

func (p *places) Accept() (net.Conn, error) {
	for {
		conn, err := p.Listener.Accept()
		if err != nil {
			return nil, err
		}
		select {
		case p.free <- struct{}{}:
			return &placed{Conn: conn, leave: sync.OnceFunc(func() { <-p.free })}, nil
		default:
			conn.Close()
		}
	}
}

// placed is a connection that has a place until it is closed.
type placed struct {
	net.Conn
	leave func()
}

func (p *placed) Close() error {
	defer p.leave()
	return p.Conn.Close()
}

// openPort makes a serial line of a pseudo-terminal, and a link to it at path unless that is "". use has the far end.
func (l *line) openPort(ctx context.Context, path string, use func(io.ReadWriteCloser)) (serve func(), err error) {
	near, far, err := openTerminal()
	if err != nil {
		return nil, fmt.Errorf("making a pseudo-terminal: %w", err)
	}
	l.listen = far.Name()
	if path != "" {
		if err := name(far.Name(), path); err != nil {
			near.Close()
			far.Close()
			return nil, err
		}
		l.listen = path
	}
	return func() {
		// far stays open, so that the line does not hang up when a client closes its end.
		defer far.Close()
		defer unname(far.Name(), path)
		defer context.AfterFunc(ctx, func() { near.Close() })()
		use(&paced{ReadWriteCloser: near, character: l.config.Serial.Character(), garbled: func() bool {
			return l.config.Strict && !sameSettings(near, l.config.Serial)
		}})
	}, nil
}

// name makes a link to a port. One that a run before has left behind is replaced; one to a port that is there is not.
func name(port, path string) error {
	if target, err := os.Readlink(path); err == nil {
		if _, err := os.Stat(target); err == nil && target != port { // a number that is used again is ours now
			return fmt.Errorf("%s is the port of another rig; if none runs, remove that link", path)
		}
		if err := os.Remove(path); err != nil {
			return err
		}
	}
	return os.Symlink(port, path)
}

// unname takes a link away that name has made.
func unname(port, path string) {
	if target, err := os.Readlink(path); err == nil && target == port {
		os.Remove(path) // if it stays, the next run replaces it
	}
}

// paced passes bytes at the pace of a serial line.
type paced struct {
	io.ReadWriteCloser
	character time.Duration
	garbled   func() bool // the other end has other line settings
}

func (p *paced) Read(b []byte) (int, error) {
	n, err := p.ReadWriteCloser.Read(b)
	time.Sleep(time.Duration(n) * p.character)
	if n > 0 && p.garbled() {
		p.ReadWriteCloser.Write(garble(b[:n])) // what a device would say to it is no better
		return 0, err
	}
	return n, err
}

// garble makes of bytes what another baud makes of them.
func garble(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for i, c := range b {
		out = append(out, c>>1^byte(0x95+31*i))
	}
	return out
}

func (p *paced) Write(b []byte) (int, error) {
	time.Sleep(time.Duration(len(b)) * p.character)
	return p.ReadWriteCloser.Write(b)
}

// identity is the certificate of the rig's TLS lines, made once.
func (r *Rig) identity() *tls.Config {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.certificate == nil {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			panic(err) // the system's randomness failed
		}
		template := &x509.Certificate{
			SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "rig"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
			IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}, DNSNames: []string{"localhost"},
			IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		}
		der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
		if err != nil {
			panic(err) // the template is wrong
		}
		r.certificate = &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{*r.certificate}}
}

// CertificatePEM is what a client verifies the rig's TLS lines with.
func (r *Rig) CertificatePEM() []byte {
	r.identity()
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: r.certificate.Certificate[0]})
}
