//go:build unix

package modbus

import "syscall"

// readNow reads what a socket holds, without waiting; 0 or less when that is nothing.
func readNow(c syscall.RawConn, b []byte) (n int) {
	c.Read(func(fd uintptr) bool { // its error shows when the connection is used
		n, _ = syscall.Read(int(fd), b)
		return true
	})
	return n
}
