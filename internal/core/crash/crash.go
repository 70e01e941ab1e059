// Package crash turns a panic into an error, so that a fault of this program ends what it happened in and nothing else.
package crash

import (
	"fmt"
	"runtime/debug"
)

// Error is a panic that was caught.
type Error struct {
	Value any    // what it was raised with
	Stack []byte // of its goroutine
}

func (e *Error) Error() string { return fmt.Sprintf("internal fault: %v", e.Value) }

// Catch runs f and returns its panic, nil when there was none. One that was caught on another goroutine and raised again is the one of there.
func Catch(f func()) (caught *Error) {
	defer func() {
		switch v := recover().(type) {
		case nil:
		case *Error:
			caught = v
		default:
			caught = &Error{v, debug.Stack()}
		}
	}()
	f()
	return nil
}
