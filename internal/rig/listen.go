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
	"time"

	"arithmon/internal/modbus"
	"arithmon/internal/site"
)

// listen opens a line over its transport and answers on it until it is cut.
func (r *Rig) listen(l *line, at string) error {
	server := &modbus.Server{
		Framing: modbus.Framings[string(l.config.Framing)],
		Handle:  func(unit byte, pdu []byte) modbus.Reply { return r.handle(l, "", unit, pdu) },
	}
	ctx, cancel := context.WithCancel(context.Background())
	var serve func()
	var err error
	switch l.config.Transport {
	case site.UDP:
		var conn net.PacketConn
		if conn, err = net.ListenPacket("udp", at); err == nil {
			l.listen = conn.LocalAddr().String()
			serve = func() { server.ServePackets(ctx, conn) }
		}
	case site.Serial:
		serve, err = l.openPort(ctx, at, func(port io.ReadWriter) { server.ServeConn(ctx, port) })
	case site.Dialup:
		serve, err = l.openPort(ctx, at, func(port io.ReadWriter) { (&modem{rig: r, line: l, port: port}).run(ctx) })
	default:
		var listener net.Listener
		if listener, err = net.Listen("tcp", at); err == nil {
			l.listen = listener.Addr().String()
			if l.config.Transport == site.TLS {
				listener = tls.NewListener(listener, r.identity())
			}
			serve = func() { server.Serve(ctx, listener) } // it ends when the line is cut
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

// openPort makes a serial line of a pseudo-terminal, and a link to it at path unless that is "". use has the far end.
func (l *line) openPort(ctx context.Context, path string, use func(io.ReadWriter)) (serve func(), err error) {
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
		use(&paced{ReadWriter: near, character: l.config.Serial.Character(), garbled: func() bool {
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
	io.ReadWriter
	character time.Duration
	garbled   func() bool // the other end has other line settings
}

func (p *paced) Read(b []byte) (int, error) {
	n, err := p.ReadWriter.Read(b)
	time.Sleep(time.Duration(n) * p.character)
	if n > 0 && p.garbled() {
		p.ReadWriter.Write(garble(b[:n])) // what a device would say to it is no better
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
	return p.ReadWriter.Write(b)
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
