// Package parallel divides work that only computes among the processors.
package parallel

import (
	"runtime"
	"sync"
	"sync/atomic"

	"arithmon/internal/core/crash"
)

// Parts calls f for each part of 0 to n, so many of them a part, on all processors, and returns when all calls have. Where a call panics, the
// parts that nobody has begun with are left, and Parts panics with its *crash.Error, so that it reaches whoever asked.
func Parts(n, size int, f func(from, to int)) {
	Ahead(n, size, f, func(int, int) bool { return true })
}

// Ahead is Parts, and calls take for each part in its order, on the caller's goroutine, while later ones are still computed. It ends when take
// returns false.
func Ahead(n, size int, f func(from, to int), take func(from, to int) bool) {
	parts := (n + size - 1) / size
	bounds := func(part int) (from, to int) { return part * size, min((part+1)*size, n) }
	if workers := min(runtime.GOMAXPROCS(0), parts); workers < 2 {
		for part := range parts {
			from, to := bounds(part)
			if f(from, to); !take(from, to) {
				return
			}
		}
		return
	}
	var next atomic.Int64
	var working sync.WaitGroup
	leave := func() { next.Store(int64(parts)) }
	defer working.Wait()
	defer leave()
	done := make([]chan *crash.Error, parts)
	for part := range done {
		done[part] = make(chan *crash.Error, 1)
	}
	for range min(runtime.GOMAXPROCS(0), parts) {
		working.Go(func() {
			for {
				part := int(next.Add(1)) - 1
				if part >= parts {
					return
				}
				done[part] <- crash.Catch(func() { f(bounds(part)) })
			}
		})
	}
	for part := range parts {
		if fault := <-done[part]; fault != nil {
			leave()
			working.Wait()
			panic(fault)
		}
		if !take(bounds(part)) {
			return
		}
	}
}
