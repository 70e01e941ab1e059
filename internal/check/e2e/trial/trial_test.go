// Package trial lets the engine speak with devices in octets whose faults are random, and compares everything it says with what the
// devices know. TRIAL_SECONDS is how long each trial runs (2), TRIAL_SEED what its chance begins with (1).
package trial

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"arithmon/internal/live/engine"
)

func duration() time.Duration {
	if n, err := strconv.Atoi(os.Getenv("TRIAL_SECONDS")); err == nil {
		return time.Duration(n) * time.Second
	}
	return 2 * time.Second
}

func seed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("TRIAL_SEED"), 10, 64); err == nil {
		return n
	}
	return 1
}

// accept serves each connection that is made until the test ends.
func accept(t *testing.T, listener net.Listener, serve func(net.Conn)) {
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go serve(conn)
		}
	}()
}

// begun waits until a point is good, before the weather turns bad.
func begun(t *testing.T, e *engine.Engine, tag string) {
	require.Eventually(t, func() bool {
		live, _ := e.Reading(tag)
		return live.Reading.ShortName() == "good"
	}, 40*time.Second, time.Millisecond)
}

// identity is a certificate of loopback, and what it is verified with.
func identity(t *testing.T) (tls.Certificate, []byte) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}
