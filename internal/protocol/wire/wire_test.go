package wire

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

func link(edit func(*site.Link)) site.Link {
	l := site.NewLink()
	l.Name, l.Host = "l", "127.0.0.1"
	edit(&l)
	return l.WithDefaults()
}

// What does not open says why, in words.
func TestOpenSaysWhyNot(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	taken := listener.Addr().(*net.TCPAddr).Port
	go func() { // answers, but not in TLS
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			conn.Write([]byte("220 ready\r\n"))
			conn.Close()
		}
	}()
	t.Cleanup(func() { listener.Close() })
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed := free.Addr().(*net.TCPAddr).Port
	free.Close()
	noPEM := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(noPEM, []byte("nothing"), 0o600))
	for _, c := range []struct {
		name string
		link site.Link
		want string
	}{
		{"nothing listens", link(func(l *site.Link) { l.Port = closed }), "connection refused; the host is there, but nothing listens on that port"},
		{"a name that is none", link(func(l *site.Link) { l.Host = "no-such-host.invalid" }), `the name "no-such-host.invalid" does not resolve`},
		{"a local address of another machine", link(func(l *site.Link) { l.Bind = "192.0.2.1" }), "is not this machine's"},
		{"no TLS there", link(func(l *site.Link) { l.Transport, l.Port = site.TLS, taken }), "does not speak TLS"},
		{"no file of certificates", link(func(l *site.Link) { l.Transport, l.Port, l.TLS = site.TLS, taken, &site.TLSSettings{CA: "nowhere.pem"} }), "certificates to verify the server with: stat nowhere.pem"},
		{"no certificates in it", link(func(l *site.Link) { l.Transport, l.Port, l.TLS = site.TLS, taken, &site.TLSSettings{CA: noPEM} }), "holds no PEM certificate"},
		{"no key", link(func(l *site.Link) {
			l.Transport, l.Port, l.TLS = site.TLS, taken, &site.TLSSettings{Certificate: noPEM, Key: noPEM}
		}), "client certificate: "},
		{"no serial port", link(func(l *site.Link) {
			l.Transport, l.Host, l.Serial = site.Serial, "", &site.LineSettings{Device: "/dev/ttyNONE9"}
		}), "/dev/ttyNONE9 9600 8E1: there is no serial port /dev/ttyNONE9; "},
	} {
		t.Run(c.name, func(t *testing.T) {
			conn, err := Open(context.Background(), c.link)
			require.Error(t, err)
			assert.Nil(t, conn)
			assert.Contains(t, err.Error(), c.want)
		})
	}
}

func TestPortsThatDoNotOpen(t *testing.T) {
	assert.ErrorContains(t, explainPort("/dev/ttyX", fs.ErrPermission), "add the user to the group dialout")
	assert.ErrorContains(t, explainPort("/dev/ttyX", errors.New("strange")), "port /dev/ttyX: strange")
	_, err := Ports()
	require.NoError(t, err)
	for _, c := range []struct {
		ports []string
		says  string
		meant string
	}{
		{nil, "this machine has none", ""},
		{[]string{"/dev/ttyUSB0", "/dev/ttyUSB1"}, "there are /dev/ttyUSB0, /dev/ttyUSB1", ""},
		{[]string{"/dev/ttyS0", "/dev/ttyX"}, "but there is /dev/ttyX, which differs in upper and lower case", "/dev/ttyX"},
		{[]string{"/dev/ttyUSB3"}, "there is /dev/ttyUSB3 alone", "/dev/ttyUSB3"},
	} {
		text, meant := others("/dev/ttyx", c.ports)
		assert.Contains(t, text, c.says)
		assert.Equal(t, c.meant, meant)
	}
}

func TestWhoHoldsAPort(t *testing.T) {
	path := filepath.Join(t.TempDir(), "port")
	f, err := os.Create(path)
	require.NoError(t, err)
	assert.Empty(t, holder(path), "nobody else")
	other := exec.Command("sleep", "60")
	other.Stdin = f
	require.NoError(t, other.Start())
	defer other.Wait()
	defer other.Process.Kill()
	if runtime.GOOS == "linux" {
		assert.Equal(t, fmt.Sprintf("sleep (process %d)", other.Process.Pid), holder(path))
	}
}

// Where nothing takes UDP, the host says so, and that is told as what it is.
func TestDatagramsThatNothingTakes(t *testing.T) {
	held, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	place := held.LocalAddr().(*net.UDPAddr)
	l := site.Link{Transport: site.UDP, Host: "127.0.0.1", Port: place.Port}
	conn, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, held.Close())
	_, err = conn.Write([]byte("anybody there?"))
	require.NoError(t, err)
	_, err = conn.Read(make([]byte, 10))
	var why *OpenError
	require.ErrorAs(t, err, &why)
	assert.Equal(t, failure.Refused, why.Failure())
	assert.ErrorIs(t, err, syscall.ECONNREFUSED)
	assert.Contains(t, err.Error(), "nothing takes UDP at "+place.String())
}
