package master_test

import (
	"net"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// silent is a Handler that takes what comes and says nothing of it.
type silent struct{ number int }

func (*silent) Heard()                 {}
func (*silent) Response(dnp3.Fragment) {}
func (*silent) Keep() bool             { return true }
func (*silent) Repeated()              {}

// scripted is the far end of a channel: it reads what the master sends and writes frames of outstation 10 to master 1.
type scripted struct {
	t    *testing.T
	conn net.Conn
	mu   sync.Mutex
	kind []master.EventKind
	sent chan []byte // fragments of the master
}

func byHand(t *testing.T, timeout time.Duration) (*master.Channel, *scripted) {
	ours, theirs := net.Pipe()
	o := &scripted{t: t, conn: theirs, sent: make(chan []byte, 100)}
	ch := master.New(ours, master.Options{Timeout: timeout, Watch: func(e master.Event) {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.kind = append(o.kind, e.Kind)
	}})
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := theirs.Read(b)
			if err != nil {
				return
			}
			for rest := b[:n]; len(rest) > 0; {
				f, size, err := dnp3.ParseFrame(rest, nil)
				if err != nil {
					break
				}
				if len(f.Data) > 1 {
					o.sent <- append([]byte{}, f.Data[1:]...)
				}
				rest = rest[size:]
			}
		}
	}()
	ch.Start()
	return ch, o
}

// say sends a fragment in one segment.
func (o *scripted) say(fragment ...byte) {
	_, err := o.conn.Write(farFrame(0x44, append([]byte{0xC0}, fragment...)))
	assert.NoError(o.t, err)
}

func (o *scripted) count(k master.EventKind) (n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, kind := range o.kind {
		if kind == k {
			n++
		}
	}
	return n
}

// An outstation that reports all the time and does not answer is waited for three timeouts, and not for as long as it speaks.
func TestReportsDoNotKeepARequestWaitingForEver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ch, far := byHand(t, time.Second)
		out := ch.Outstation(10, 1, new(silent))
		began, stop := time.Now(), make(chan struct{})
		var reports sync.WaitGroup
		reports.Go(func() {
			for seq := byte(0); ; seq = (seq + 1) & 15 {
				select {
				case <-time.After(200 * time.Millisecond):
					far.say(0xF0|seq, 0x82, 0x00, 0x00)
				case <-stop:
					return
				}
			}
		})
		_, err := out.Read(master.Class1, nil)
		require.ErrorIs(t, err, master.ErrTimeout)
		assert.Equal(t, 3*time.Second, time.Since(began))
		close(stop)
		reports.Wait()
		far.conn.Close()
		ch.Close()
	})
}

// A device that works off several requests one after the other answers those that have timed out; such a response is late, and one to no
// request at all is not.
func TestAResponseMayBeToOneOfSeveralRequestsThatTimedOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ch, far := byHand(t, time.Second)
		out := ch.Outstation(10, 1, new(silent))
		for range 3 {
			_, err := out.Read(master.Class1, nil)
			require.ErrorIs(t, err, master.ErrTimeout)
		}
		for range 3 {
			request := <-far.sent
			far.say(0xC0|request[0]&0x0F, 0x81, 0x00, 0x00)
		}
		synctest.Wait()
		assert.Equal(t, 3, far.count(master.EventLate))
		far.say(0xC9, 0x81, 0x00, 0x00)
		synctest.Wait()
		assert.Equal(t, 3, far.count(master.EventLate))
		assert.Equal(t, 1, far.count(master.EventStray))
		far.conn.Close()
		ch.Close()
	})
}

// Of two outstations that change addresses, what one leaves is the other's by then.
func TestWhoTookAnAddressKeepsIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ch, far := byHand(t, time.Second)
		old, taken := silent{1}, silent{2}
		ch.Outstation(10, 1, &old)
		out := ch.Outstation(10, 1, &taken)
		ch.Forget(10, func(h master.Handler) bool { return h == &old })
		go func() {
			request := <-far.sent
			far.say(0xC0|request[0]&0x0F, 0x81, 0x00, 0x00)
		}()
		_, err := out.Read(master.Class1, nil)
		require.NoError(t, err)
		ch.Forget(10, func(h master.Handler) bool { return h == &taken })
		_, err = out.Read(master.Class1, nil)
		require.ErrorIs(t, err, master.ErrTimeout)
		far.conn.Close()
		ch.Close()
	})
}
