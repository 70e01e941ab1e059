package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"

	"arithmon/internal/diagnose"
	"arithmon/internal/site"
)

// secure makes the TLS handshake of a link (MODBUS/TCP Security V21: TLS 1.2 or later, the server's certificate verified,
// a client certificate where the server asks for one). It closes conn when it fails.
func secure(ctx context.Context, conn net.Conn, link site.Link) (net.Conn, error) {
	config, err := tlsConfig(link)
	if err != nil {
		conn.Close()
		return nil, err
	}
	secured := tls.Client(conn, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		conn.Close()
		if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) {
			err = &OpenError{diagnose.FailTLS, fmt.Errorf("what listens there does not speak TLS, or not with this client: it closed the connection (%w)", err)}
		}
		return nil, err
	}
	return secured, nil
}

func tlsConfig(link site.Link) (*tls.Config, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: link.Host}
	s := link.TLS
	if s == nil {
		return config, nil
	}
	if s.ServerName != "" {
		config.ServerName = s.ServerName
	}
	if s.CA != "" {
		pem, err := os.ReadFile(s.CA)
		if err != nil {
			return nil, fmt.Errorf("certificates to verify the server with: %w", err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no PEM certificate", s.CA)
		}
	}
	if s.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(s.Certificate, s.Key)
		if err != nil {
			return nil, fmt.Errorf("client certificate: %w", err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}
