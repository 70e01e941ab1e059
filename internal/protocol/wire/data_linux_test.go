package wire

import (
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/term"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// terminal is a port whose far end the test has.
func terminal(t *testing.T) (far *os.File, device string) {
	t.Helper()
	far, near, err := pty.Open()
	require.NoError(t, err)
	t.Cleanup(func() { far.Close(); near.Close() })
	_, err = term.MakeRaw(int(near.Fd()))
	require.NoError(t, err)
	return far, near.Name()
}

func TestReadingAPort(t *testing.T) {
	far, device := terminal(t)
	conn, err := openSerial(site.LineSettings{Device: device, Baud: 9600, DataBits: 8, Parity: "none", StopBits: 1})
	require.NoError(t, err)
	l := conn.(*line)
	b := make([]byte, 16)
	assert.Zero(t, l.ReadNow(b), "nothing has come")
	require.NoError(t, l.SetReadDeadline(time.Now().Add(-time.Second)))
	_, err = l.Read(b)
	assert.Equal(t, os.ErrDeadlineExceeded, err)
	_, err = far.Write([]byte("abc"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return l.ReadNow(b[:1]) == 1 }, 5*time.Second, time.Millisecond, "though the deadline has passed")
	_, err = l.Read(b)
	assert.Equal(t, os.ErrDeadlineExceeded, err, "which holds again")
	require.NoError(t, l.SetReadDeadline(time.Now().Add(5*time.Second)))
	n, err := l.Read(b)
	require.NoError(t, err)
	assert.Equal(t, "bc", string(b[:n]))
	waiting := make(chan error)
	go func() { _, err := l.Read(b); waiting <- err }()
	require.NoError(t, l.Close())
	assert.ErrorIs(t, <-waiting, os.ErrClosed, "closing ends a read")
}

// Another program that reads the same port, as root may, takes bytes away; it must not make a read wait for ever.
func TestAnotherProgramTakesBytesAway(t *testing.T) {
	far, device := terminal(t)
	conn, err := openSerial(site.LineSettings{Device: device, Baud: 9600, DataBits: 8, Parity: "none", StopBits: 1})
	require.NoError(t, err)
	defer conn.Close()
	thief, err := os.OpenFile(device, os.O_RDONLY, 0)
	require.NoError(t, err)
	defer thief.Close()
	var over atomic.Bool
	var taken atomic.Int64
	go func() {
		b := make([]byte, 64)
		for !over.Load() {
			n, err := thief.Read(b)
			if err != nil {
				return
			}
			taken.Add(int64(n))
		}
	}()
	finished := make(chan int)
	go func() { // who writes waits for the reader, so that a read which waits for the next byte waits for ever
		read, b := 0, make([]byte, 64)
		for range 6000 {
			far.Write([]byte{1})
			conn.SetReadDeadline(time.Now().Add(time.Millisecond))
			n, _ := conn.Read(b)
			read += n
		}
		finished <- read
	}()
	select {
	case read := <-finished:
		assert.Positive(t, read)
		assert.Positive(t, taken.Load())
	case <-time.After(30 * time.Second):
		t.Fatal("a read did not end")
	}
	over.Store(true)
	thief.Close()
}

// What nobody takes fills the buffers of a port. Writing ends then, too, and what was left is not sent later.
func TestAPortThatTakesNoBytes(t *testing.T) {
	_, device := terminal(t)
	conn, err := openSerial(site.LineSettings{Device: device, Baud: 9600, DataBits: 8, Parity: "none", StopBits: 1})
	require.NoError(t, err)
	defer conn.Close()
	for range 1000 {
		require.NoError(t, conn.SetDeadline(time.Now().Add(50*time.Millisecond)))
		if _, err = conn.Write(make([]byte, 256)); err != nil {
			break
		}
	}
	assert.ErrorContains(t, err, "takes no bytes")
	require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
}

// Root may open a port that somebody else has, and a port may have several names: neither is noticed by opening it.
func TestAPortIsForOneAlone(t *testing.T) {
	_, device := terminal(t)
	settings := site.LineSettings{Device: device, Baud: 9600, DataBits: 8, Parity: "none", StopBits: 1}
	first, err := openSerial(settings)
	require.NoError(t, err)
	other := settings
	other.Device = filepath.Join(t.TempDir(), "other-name")
	require.NoError(t, os.Symlink(device, other.Device))
	other.Baud = 19200
	for _, s := range []site.LineSettings{settings, other} {
		_, err = openSerial(s)
		var failed *OpenError
		require.ErrorAs(t, err, &failed)
		assert.Equal(t, failure.Taken, failed.Kind)
		assert.ErrorContains(t, err, "or by another link that calls it by another name")
	}
	require.NoError(t, first.Close())
	again, err := openSerial(other)
	require.NoError(t, err)
	require.NoError(t, again.Close())
}

func TestCertificatesComeFromFilesThatEnd(t *testing.T) {
	dir := t.TempDir()
	pipe, large := filepath.Join(dir, "pipe"), filepath.Join(dir, "large.pem")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(large, nil, 0o600))
	require.NoError(t, os.Truncate(large, maxPEM+1))
	for _, c := range []struct{ file, fault string }{
		{"/dev/zero", "/dev/zero is no regular file; give the path of a PEM file"},
		{pipe, "is no regular file"}, {dir, "is no regular file"}, {large, "has more than 4194304 bytes"}, {filepath.Join(dir, "none"), "no such file"},
	} {
		for what, s := range map[string]site.TLSSettings{"ca": {CA: c.file}, "certificate": {Certificate: c.file, Key: c.file}} {
			_, err := tlsConfig(site.Link{TLS: &s})
			assert.ErrorContains(t, err, c.fault, what)
		}
	}
}
