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

// Catch runs f and returns its panic, nil when there was none.
func Catch(f func()) (caught *Error) {
	defer func() {
		if v := recover(); v != nil {
			caught = &Error{v, debug.Stack()}
		}
	}()
	f()
	return nil
}
