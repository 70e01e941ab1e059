//go:build unix

package wire

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// portLock keeps a serial port for one user, whoever runs: TIOCEXCL does not bind root, and a port may have several names.
type portLock struct {
	device *os.File // locked itself, which its other names share
	number *os.File // a file of the device's number, locked for names that are device files of their own; nil where there can be none
}

// errLocked says that somebody has the port.
var errLocked = errors.New("the port is in use")

// lockPort locks a port; errLocked when somebody else has it.
func lockPort(device string) (*portLock, error) {
	f, err := os.OpenFile(device, os.O_RDWR|syscall.O_NOCTTY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	l := &portLock{device: f}
	if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		f.Close()
		return nil, errLocked
	}
	info, err := f.Stat()
	if err != nil {
		return l, nil
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && info.Mode()&os.ModeCharDevice != 0 {
		path := filepath.Join(os.TempDir(), fmt.Sprintf("arithmon-port-%d.lock", uint64(st.Rdev)))
		if l.number, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE|syscall.O_NOFOLLOW, 0o666); err == nil {
			if errors.Is(syscall.Flock(int(l.number.Fd()), syscall.LOCK_EX|syscall.LOCK_NB), syscall.EWOULDBLOCK) {
				l.release()
				return nil, errLocked
			}
		}
	}
	return l, nil
}

func (l *portLock) release() {
	if l == nil {
		return
	}
	l.device.Close() // which unlocks it
	if l.number != nil {
		l.number.Close()
	}
}
