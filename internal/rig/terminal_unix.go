//go:build unix

package rig

import (
	"errors"
	"os"
	"syscall"

	"github.com/creack/pty"
	"golang.org/x/term"
)

// openTerminal makes a pseudo-terminal that passes bytes as they are. Closing near ends a read of it.
func openTerminal() (near, far *os.File, err error) {
	blocking, far, err := pty.Open()
	if err != nil {
		return nil, nil, err
	}
	defer blocking.Close()
	_, err = term.MakeRaw(int(far.Fd()))
	// The package has made the file blocking; a copy that is not can be waited for and closed meanwhile.
	fd, dupErr := syscall.Dup(int(blocking.Fd()))
	if err = errors.Join(err, dupErr); err == nil {
		err = syscall.SetNonblock(fd, true)
	}
	if err != nil {
		far.Close()
		return nil, nil, err
	}
	return os.NewFile(uintptr(fd), blocking.Name()), far, nil
}
