package wire

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"go.bug.st/serial"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// Ports lists the serial ports of this machine by name.
func Ports() ([]string, error) {
	ports, err := serial.GetPortsList()
	if err != nil {
		return nil, fmt.Errorf("listing serial ports: %w", err)
	}
	slices.Sort(ports)
	return ports, nil
}

// line is an open serial port as a net.Conn.
type line struct {
	serial.Port
	data     data
	lock     *portLock
	settings site.LineSettings
	closed   atomic.Bool
}

// data passes the bytes of a port. Whatever happens to the port meanwhile, reading and writing end at their deadlines.
type data interface {
	io.ReadWriteCloser
	SetReadDeadline(time.Time) error
	SetWriteDeadline(time.Time) error
	ReadNow([]byte) int // what has come in already
}

var parities = map[string]serial.Parity{"none": serial.NoParity, "even": serial.EvenParity, "odd": serial.OddParity}

func openSerial(s site.LineSettings) (net.Conn, error) {
	mode := &serial.Mode{BaudRate: s.Baud, DataBits: s.DataBits, Parity: parities[s.Parity], StopBits: serial.OneStopBit}
	if s.StopBits == 2 {
		mode.StopBits = serial.TwoStopBits
	}
	lock, err := lockPort(s.Device)
	if errors.Is(err, errLocked) {
		return nil, &OpenError{Kind: failure.Taken, Err: fmt.Errorf("port %s is taken by %s; close that one", s.Device, cmp.Or(holder(s.Device), "another program, or by another link that calls it by another name"))}
	}
	data := openData(s.Device) // first, since the port is then opened for us alone
	port, err := serial.Open(s.Device, mode)
	if err != nil {
		if data != nil {
			data.Close()
		}
		lock.release()
		return nil, explainPort(s.Device, err)
	}
	if data == nil {
		data = &waiting{Port: port}
	}
	l := &line{Port: port, data: data, lock: lock, settings: s}
	if s.RTS == site.RTSOn || s.RTS == site.RTSToggle { // which toggling begins with off
		if err := port.SetRTS(s.RTS == site.RTSOn); err != nil {
			l.Close()
			return nil, &OpenError{Kind: failure.RTS, Err: fmt.Errorf("port %s has no RTS to drive (%w); set rts: off", s.Device, err)}
		}
	}
	return l, nil
}

// explainPort says why a port did not open and which ones there are.
func explainPort(device string, err error) error {
	var code *serial.PortError
	errors.As(err, &code)
	switch {
	case errors.Is(err, fs.ErrNotExist), code != nil && (code.Code() == serial.PortNotFound || code.Code() == serial.InvalidSerialPort):
		ports, _ := Ports() // none are none that can be named
		text, meant := others(device, ports)
		return &OpenError{Kind: failure.Port, Err: fmt.Errorf("there is no serial port %s%s", device, text), Port: meant}
	case code != nil && code.Code() == serial.PortBusy:
		return &OpenError{Kind: failure.Taken, Err: fmt.Errorf("port %s is taken by %s; close that one", device, cmp.Or(holder(device), "another program"))}
	case errors.Is(err, fs.ErrPermission), code != nil && code.Code() == serial.PermissionDenied:
		return fmt.Errorf("this user may not open port %s; on Debian, add the user to the group dialout and log in again", device)
	}
	return fmt.Errorf("port %s: %w", device, err)
}

// others says which ports there are, and which of them may be meant.
func others(device string, ports []string) (text, meant string) {
	if len(ports) == 0 {
		return "; this machine has none. Is the adapter plugged in?", ""
	}
	for _, p := range ports {
		if strings.EqualFold(p, device) {
			return fmt.Sprintf("; but there is %s, which differs in upper and lower case", p), p
		}
	}
	if len(ports) == 1 {
		return "; there is " + ports[0] + " alone", ports[0]
	}
	return "; there are " + strings.Join(ports, ", "), ""
}

// Read is net.Conn's: it waits for bytes until the deadline.
func (l *line) Read(b []byte) (int, error) {
	n, err := l.data.Read(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return 0, os.ErrDeadlineExceeded
	}
	return n, l.gone(err)
}

// ReadNow reads what has come in already, without waiting.
func (l *line) ReadNow(b []byte) int { return l.data.ReadNow(b) }

// Write is net.Conn's. It drives RTS around the frame where the line is set so.
func (l *line) Write(b []byte) (int, error) {
	if l.settings.RTS != site.RTSToggle {
		return l.write(b)
	}
	if err := l.SetRTS(true); err != nil {
		return 0, fmt.Errorf("this port has no RTS to drive: %w; set rts: off", err)
	}
	time.Sleep(time.Duration(l.settings.Before))
	n, err := l.write(b)
	if err == nil {
		err = l.gone(l.Drain())
	}
	time.Sleep(time.Duration(l.settings.After))
	return n, errors.Join(err, l.gone(l.SetRTS(false)))
}

// write gives bytes to the port; what it does not take in time is not sent later.
func (l *line) write(b []byte) (int, error) {
	n, err := l.data.Write(b)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		l.ResetOutputBuffer() // the port is opened anew in any case
		return n, fmt.Errorf("port %s takes no bytes: is something at the other end of the cable or adapter, or does it wait for a handshake?", l.settings.Device)
	}
	return n, l.gone(err)
}

// gone says that a port that was open vanished.
func (l *line) gone(err error) error {
	if err == nil || l.closed.Load() {
		return err
	}
	return fmt.Errorf("port %s is gone (%w). Was the adapter unplugged?", l.settings.Device, err)
}

func (l *line) Close() error {
	l.closed.Store(true)
	l.data.Close() // what it says, the port says, too
	defer l.lock.release()
	return l.Port.Close()
}

func (l *line) SetDeadline(t time.Time) error {
	return errors.Join(l.SetReadDeadline(t), l.SetWriteDeadline(t))
}

func (l *line) SetReadDeadline(t time.Time) error { return l.data.SetReadDeadline(t) }

func (l *line) SetWriteDeadline(t time.Time) error { return l.data.SetWriteDeadline(t) }

func (l *line) LocalAddr() net.Addr  { return address(l.settings.Device) }
func (l *line) RemoteAddr() net.Addr { return address(l.settings.Device) }

type address string

func (address) Network() string  { return "serial" }
func (a address) String() string { return string(a) }

// waiting passes data by the port itself, where the system has no way that is safe from other programs and full buffers.
type waiting struct {
	serial.Port
	deadline atomic.Int64 // of reads, in Unix nanoseconds; 0: none
}

func (w *waiting) Read(b []byte) (int, error) {
	timeout := serial.NoTimeout
	if at := w.deadline.Load(); at != 0 {
		timeout = max(0, time.Until(time.Unix(0, at)))
	}
	if err := w.SetReadTimeout(timeout); err != nil {
		return 0, err
	}
	n, err := w.Port.Read(b)
	if n == 0 && err == nil {
		return 0, os.ErrDeadlineExceeded
	}
	return n, err
}

func (w *waiting) ReadNow(b []byte) int {
	if w.SetReadTimeout(0) != nil {
		return 0
	}
	n, err := w.Port.Read(b)
	if err != nil {
		return 0 // it shows when the port is used
	}
	return n
}

func (w *waiting) SetReadDeadline(t time.Time) error {
	w.deadline.Store(0)
	if !t.IsZero() {
		w.deadline.Store(t.UnixNano())
	}
	return nil
}

func (w *waiting) SetWriteDeadline(time.Time) error { return nil }

func (w *waiting) Close() error { return nil } // the port is the line's
