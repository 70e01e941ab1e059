//go:build unix

package modbus

import "syscall"

// readNow reads what a socket holds, without waiting; 0 or less when that is nothing. It does so whatever deadline has passed, which
// RawConn.Read would not. Sockets of this program do not block.
func readNow(c syscall.RawConn, b []byte) (n int) {
	c.Control(func(fd uintptr) { n, _ = syscall.Read(int(fd), b) }) // its error shows when the connection is used
	return n
}
