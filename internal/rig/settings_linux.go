package rig

import (
	"os"

	"golang.org/x/sys/unix"

	"arithmon/internal/core/site"
)

// sameSettings reports whether the other end of a pseudo-terminal is set as a line is: its baud and stop bits, since the
// system keeps no parity for it.
func sameSettings(near *os.File, s site.LineSettings) bool {
	raw, err := near.SyscallConn()
	if err != nil {
		return true // it cannot be told
	}
	var t *unix.Termios
	if raw.Control(func(fd uintptr) { t, err = unix.IoctlGetTermios(int(fd), unix.TCGETS2) }) != nil || err != nil {
		return true
	}
	stop := 1
	if t.Cflag&unix.CSTOPB != 0 {
		stop = 2
	}
	return int(t.Ospeed) == s.Baud && stop == s.StopBits
}
