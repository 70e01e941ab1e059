package service

import (
	"crypto/tls"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/access"
	"arithmon/internal/record/account"
	"arithmon/internal/record/database"
)

func own(t *testing.T, dir string, now func() time.Time) (*certificates, *tls.Certificate) {
	t.Helper()
	c := &certificates{own: true, certificate: filepath.Join(dir, ownCertificate), key: filepath.Join(dir, ownKey), hosts: []string{"localhost", "127.0.0.1"}, log: slog.New(slog.DiscardHandler), now: now}
	held, err := c.get()
	require.NoError(t, err)
	return c, held
}

func TestTheServicesOwnCertificate(t *testing.T) {
	dir := t.TempDir()
	now := time.Now()
	c, first := own(t, dir, func() time.Time { return now })
	assert.NoError(t, first.Leaf.VerifyHostname("127.0.0.1"))
	info, err := os.Stat(filepath.Join(dir, ownKey))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, again := own(t, dir, time.Now)
	assert.Equal(t, first.Certificate, again.Certificate, "it is kept")

	now = first.Leaf.NotAfter.Add(-renewBefore + time.Hour)
	renewed, err := c.get()
	require.NoError(t, err)
	assert.True(t, renewed.Leaf.NotAfter.After(first.Leaf.NotAfter), "while it runs")
	assert.Equal(t, Fingerprint(first.Leaf), Fingerprint(renewed.Leaf), "the key stays")

	c.hosts = append(c.hosts, "192.0.2.7")
	now = now.Add(time.Minute)
	moved, err := c.get()
	require.NoError(t, err)
	assert.NoError(t, moved.Leaf.VerifyHostname("192.0.2.7"))

	require.NoError(t, os.WriteFile(filepath.Join(dir, ownKey), []byte("nonsense"), 0o600))
	now = now.Add(time.Minute)
	kept, err := c.get()
	require.NoError(t, err)
	assert.Equal(t, moved.Certificate, kept.Certificate, "what runs goes on")
	_, err = openCertificates("self", dir, nil, slog.New(slog.DiscardHandler))
	assert.ErrorContains(t, err, "holds no key")
}

func TestCertificatesOfFilesAreReplacedWhileItRuns(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	_, first := own(t, a, time.Now)
	_, second := own(t, b, time.Now)
	now := time.Now()
	c, err := openCertificates(filepath.Join(a, ownCertificate)+","+filepath.Join(a, ownKey), "", nil, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	c.now = func() time.Time { return now }
	held, err := c.get()
	require.NoError(t, err)
	assert.Equal(t, first.Certificate, held.Certificate)
	later := time.Now().Add(time.Hour)
	for _, name := range []string{ownCertificate, ownKey} { // one after the other: between them the two do not fit
		require.NoError(t, os.Rename(filepath.Join(b, name), filepath.Join(a, name)))
		require.NoError(t, os.Chtimes(filepath.Join(a, name), later, later))
		now = now.Add(time.Minute)
		held, err = c.get()
		require.NoError(t, err)
	}
	assert.Equal(t, second.Certificate, held.Certificate)
	for how, why := range map[string]string{"other": "self is possible", "a,": "self is possible", "nowhere.pem,nowhere.key": "no such file"} {
		_, err := openCertificates(how, a, nil, slog.New(slog.DiscardHandler))
		assert.ErrorContains(t, err, why)
	}
}

func TestBeyondLoopbackOnlyWithAccountsAndTLS(t *testing.T) {
	dir := t.TempDir()
	_, err := Start(t.Context(), Options{Dir: dir, Listen: "0.0.0.0:0", TLS: "self"})
	require.ErrorContains(t, err, "there are no accounts yet")
	db, err := database.Open(t.Context(), dir)
	require.NoError(t, err)
	book, err := account.Open(t.Context(), db, account.Options{})
	require.NoError(t, err)
	require.NoError(t, book.Add(t.Context(), access.Principal{Account: "root", Role: access.Admin}, "ann", "heron lifts 40 gates slowly", access.Admin, nil))
	require.NoError(t, book.Close())
	require.NoError(t, db.Close())
	_, err = Start(t.Context(), Options{Dir: dir, Listen: "0.0.0.0:0"})
	require.ErrorContains(t, err, "Use --tls self")
	plain, err := Start(t.Context(), Options{Dir: dir, Listen: "0.0.0.0:0", Plain: true})
	require.NoError(t, err)
	require.NoError(t, plain.Stop())

	s, err := Start(t.Context(), Options{Dir: dir, Listen: "127.0.0.1:0", TLS: "self"})
	require.NoError(t, err)
	defer s.Stop()
	for version, taken := range map[uint16]bool{tls.VersionTLS11: false, tls.VersionTLS12: true, tls.VersionTLS13: true} {
		client := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true, MinVersion: version, MaxVersion: version}}}
		response, err := client.Get(s.URL + "/healthz")
		if assert.Equal(t, taken, err == nil, "%#x: %v", version, err); err == nil {
			assert.NotEmpty(t, response.Header.Get("Strict-Transport-Security"))
			assert.Equal(t, s.Fingerprint, Fingerprint(response.TLS.PeerCertificates[0]))
			response.Body.Close()
		}
	}
}
