package wire

import (
	"os"
	"sync/atomic"
	"syscall"
	"time"
)

// polled passes data by a file of its own that never blocks: bytes that were there when it looked, and that another program took
// before it read them, cost it nothing but those bytes, and a port whose buffer stays full costs it no more than its deadline.
type polled struct {
	*os.File
	deadline atomic.Pointer[time.Time]
}

// openData opens a port for its data; nil when that fails, which opening the port itself explains.
func openData(device string) data {
	file, err := os.OpenFile(device, os.O_RDWR|syscall.O_NOCTTY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	if file.SetReadDeadline(time.Time{}) != nil { // no file that one can wait for
		file.Close()
		return nil
	}
	return &polled{File: file}
}

func (p *polled) SetReadDeadline(t time.Time) error {
	p.deadline.Store(&t)
	return p.File.SetReadDeadline(t)
}

func (p *polled) ReadNow(b []byte) (n int) {
	raw, err := p.SyscallConn()
	if err != nil || p.File.SetReadDeadline(time.Time{}) != nil {
		return 0 // it shows when the port is used
	}
	raw.Read(func(fd uintptr) bool {
		n, _ = syscall.Read(int(fd), b)
		return true
	})
	if t := p.deadline.Load(); t != nil {
		p.File.SetReadDeadline(*t)
	}
	return max(n, 0)
}
