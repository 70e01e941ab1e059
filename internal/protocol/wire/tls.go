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

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
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
			err = &OpenError{Kind: failure.TLS, Err: fmt.Errorf("what listens there does not speak TLS, or not with this client: it closed the connection (%w)", err)}
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
		pem, err := readPEM(s.CA)
		if err != nil {
			return nil, fmt.Errorf("certificates to verify the server with: %w", err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no PEM certificate", s.CA)
		}
	}
	if s.Certificate != "" {
		certificate, err := readPEM(s.Certificate)
		if err != nil {
			return nil, fmt.Errorf("client certificate: %w", err)
		}
		key, err := readPEM(s.Key)
		if err != nil {
			return nil, fmt.Errorf("key of the client certificate: %w", err)
		}
		pair, err := tls.X509KeyPair(certificate, key)
		if err != nil {
			return nil, fmt.Errorf("client certificate: %s with key %s: %w", s.Certificate, s.Key, err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

// maxPEM is how large a file with certificates or a key may be, in bytes.
const maxPEM = 4 << 20

// readPEM reads a file with certificates or a key, which must be a regular one: a device or a pipe may never end.
func readPEM(name string) ([]byte, error) {
	info, err := os.Stat(name) // before it is opened, which waits where it is a pipe
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no regular file; give the path of a PEM file", name)
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, maxPEM+1))
	if len(data) > maxPEM {
		return nil, fmt.Errorf("%s has more than %d bytes, the most that is read; keep in it only the certificates that are needed", name, maxPEM)
	}
	return data, err
}
