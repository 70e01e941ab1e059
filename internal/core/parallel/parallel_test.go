package parallel

import (
	"runtime"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/crash"
)

// each runs a test on one processor and on several.
func each(t *testing.T, f func(t *testing.T)) {
	for _, n := range []int{1, 4} {
		was := runtime.GOMAXPROCS(n)
		f(t)
		runtime.GOMAXPROCS(was)
	}
}

func TestEveryPartIsDoneOnceAndTakenInItsOrder(t *testing.T) {
	each(t, func(t *testing.T) {
		for _, n := range []int{0, 1, 9, 10, 11, 1003} {
			done, taken := make([]int, n), []int{}
			Ahead(n, 10, func(from, to int) {
				for i := from; i < to; i++ {
					done[i]++
				}
			}, func(from, to int) bool {
				for i := from; i < to; i++ {
					assert.Equal(t, 1, done[i])
					taken = append(taken, i)
				}
				return true
			})
			require.Len(t, taken, n)
			for i, at := range taken {
				require.Equal(t, i, at)
			}
		}
	})
}

func TestWhatIsNotTakenEndsIt(t *testing.T) {
	each(t, func(t *testing.T) {
		var done atomic.Int64
		var taken int
		Ahead(1000, 1, func(int, int) { done.Add(1) }, func(from, _ int) bool {
			taken++
			return from < 3
		})
		was := done.Load()
		assert.Equal(t, 4, taken)
		assert.LessOrEqual(t, was, int64(1000))
		runtime.Gosched()
		assert.Equal(t, was, done.Load(), "nobody goes on")
	})
}

func TestAPanicReachesWhoeverAsked(t *testing.T) {
	each(t, func(t *testing.T) {
		var taken int
		fault := crash.Catch(func() {
			Ahead(100, 1, func(from, _ int) {
				if from == 5 {
					panic("five")
				}
			}, func(int, int) bool { taken++; return true })
		})
		require.NotNil(t, fault)
		assert.ErrorContains(t, fault, "five")
		assert.Equal(t, 5, taken, "those before it were taken")
	})
}
