package service

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Files of a certificate of the service's own, in the data directory.
const (
	ownCertificate = "tls-certificate.pem"
	ownKey         = "tls-key.pem"
)

const (
	certificateLife = 397 * 24 * time.Hour // what browsers take at most
	renewBefore     = 30 * 24 * time.Hour
	lookAgain       = 10 * time.Second // how often it is looked whether the files of a certificate changed
)

// certificates give the certificate that is valid now. One whose files change, or that ends soon and is the service's own, is replaced without a
// restart; connections that stand keep the one they have.
type certificates struct {
	certificate, key string // files
	hosts            []string
	own              bool
	log              *slog.Logger
	now              func() time.Time

	mu     sync.Mutex
	held   *tls.Certificate
	of     [2]string // what its files hold
	looked time.Time
}

// openCertificates reads how says where the certificate is: "self" for the service's own in dir, made for some hosts; or CERT,KEY.
func openCertificates(how, dir string, hosts []string, log *slog.Logger) (*certificates, error) {
	c := &certificates{log: log, hosts: hosts, now: time.Now}
	if how == "self" {
		c.own, c.certificate, c.key = true, filepath.Join(dir, ownCertificate), filepath.Join(dir, ownKey)
	} else {
		var ok bool
		if c.certificate, c.key, ok = strings.Cut(how, ","); !ok || c.certificate == "" || c.key == "" {
			return nil, fmt.Errorf("--tls %s: self is possible, or the files of a certificate and its key: --tls CERT,KEY", how)
		}
	}
	if _, err := c.get(); err != nil {
		return nil, err
	}
	return c, nil
}

// config is for a server that gives the certificate.
func (c *certificates) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.get() }}
}

// get gives the certificate.
func (c *certificates) get() (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.now()
	if c.held != nil && now.Sub(c.looked) < lookAgain {
		return c.held, nil
	}
	c.looked = now
	if c.own {
		if err := c.make(now); err != nil {
			return c.kept(err)
		}
	}
	var of [2]string
	for i, name := range []string{c.certificate, c.key} {
		data, err := os.ReadFile(name)
		if err != nil {
			return c.kept(fmt.Errorf("certificate: %w", err))
		}
		of[i] = string(data)
	}
	if c.held != nil && of == c.of {
		return c.held, nil
	}
	read, err := tls.X509KeyPair([]byte(of[0]), []byte(of[1]))
	if err != nil {
		return c.kept(fmt.Errorf("certificate %s with key %s: %w", c.certificate, c.key, err))
	}
	if now.After(read.Leaf.NotAfter) || now.Before(read.Leaf.NotBefore) {
		err := fmt.Errorf("certificate %s is valid from %s to %s, which is not now", c.certificate, read.Leaf.NotBefore.UTC().Format(time.RFC3339), read.Leaf.NotAfter.UTC().Format(time.RFC3339))
		if c.held == nil {
			return nil, err
		}
		c.log.Error("the new certificate is not valid", "error", err)
	}
	c.held, c.of = &read, of
	c.log.Info("certificate", "file", c.certificate, "valid_until", read.Leaf.NotAfter.UTC().Format(time.RFC3339), "fingerprint", Fingerprint(read.Leaf))
	return c.held, nil
}

// kept goes on with the certificate that is there when another one cannot be had.
func (c *certificates) kept(err error) (*tls.Certificate, error) {
	if c.held == nil {
		return nil, err
	}
	c.log.Error("the certificate could not be renewed; the one before goes on", "error", err)
	return c.held, nil
}

// make makes the service's own certificate when there is none that is valid for long enough and for all its hosts. The key stays, and with it the
// fingerprint.
func (c *certificates) make(now time.Time) error {
	key, err := ownKeyOf(c.key)
	if err != nil {
		return err
	}
	if data, err := os.ReadFile(c.certificate); err == nil {
		if block, _ := pem.Decode(data); block != nil {
			was, err := x509.ParseCertificate(block.Bytes)
			if err == nil && now.Add(renewBefore).Before(was.NotAfter) && now.After(was.NotBefore) && !slices.ContainsFunc(c.hosts, func(h string) bool { return was.VerifyHostname(h) != nil }) &&
				key.PublicKey.Equal(was.PublicKey) {
				return nil
			}
		}
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Arithmon"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(certificateLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	for _, h := range c.hosts {
		if ip := net.ParseIP(h); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, h)
		}
	}
	made, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	return replace(c.certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made}), 0o644)
}

// ownKeyOf reads the service's own key, or makes it.
func ownKeyOf(name string) (*ecdsa.PrivateKey, error) {
	data, err := os.ReadFile(name)
	if err == nil {
		block, _ := pem.Decode(data)
		if block == nil {
			return nil, fmt.Errorf("%s holds no key; remove it, and the service makes another one (its fingerprint changes)", name)
		}
		key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		if own, is := key.(*ecdsa.PrivateKey); err == nil && is {
			return own, nil
		}
		return nil, fmt.Errorf("%s holds no key of the service's own; remove it, and the service makes another one (its fingerprint changes)", name)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	encoded, err := x509.MarshalPKCS8PrivateKey(crypto.PrivateKey(key))
	if err != nil {
		return nil, err
	}
	return key, replace(name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: encoded}), 0o600)
}

// replace writes a file in one step, so that nobody reads half of it.
func replace(name string, data []byte, mode fs.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".tls-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // without effect once it was renamed
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

// Fingerprint names the key of a certificate, by which a client knows the service again: it stays when the certificate is renewed.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// hostsOf are what a service that listens somewhere is called: its address, or all of the machine's, and the machine's name.
func hostsOf(listen net.Addr) []string {
	hosts := []string{"localhost", "127.0.0.1", "::1"}
	if name, err := os.Hostname(); err == nil && name != "" {
		hosts = append(hosts, name)
	}
	at, err := netip.ParseAddrPort(listen.String())
	if err == nil && !at.Addr().IsUnspecified() {
		return append(hosts, at.Addr().Unmap().WithZone("").String())
	}
	list, _ := net.InterfaceAddrs()
	for _, a := range list {
		if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLoopback() && !p.Addr().IsLinkLocalUnicast() {
			hosts = append(hosts, p.Addr().String())
		}
	}
	return hosts
}
