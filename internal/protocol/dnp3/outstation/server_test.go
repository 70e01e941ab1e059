package outstation_test

import (
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/outstation"
)

// far is the far end of a connection, and counts the octets that come.
type far struct {
	net.Conn
	octets atomic.Int64
}

func serve(t *testing.T, line *outstation.Line) *far {
	near, conn := net.Pipe()
	go line.Serve(t.Context(), near)
	f := &far{Conn: conn}
	go func() {
		b := make([]byte, 300)
		for {
			n, err := conn.Read(b)
			f.octets.Add(int64(n))
			if err != nil {
				return
			}
		}
	}()
	return f
}

// An outstation that cannot tell which of several connections is its master's reports by none of them.
func TestWhereAnOutstationReports(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := outstation.New(outstation.Config{Address: 10, Master: 1, Unsolicited: true}, points)
		line := &outstation.Line{Outstations: []*outstation.Outstation{o}, Lock: new(sync.Mutex), Every: time.Second}
		a, b := serve(t, line), serve(t, line)
		pass := func() {
			time.Sleep(time.Minute)
			synctest.Wait()
		}
		synctest.Wait()
		first, second := a.octets.Load(), b.octets.Load() // from the one that was the only one for a moment
		pass()
		assert.Equal(t, first+second, a.octets.Load()+b.octets.Load(), "its master has not spoken")

		segments := &dnp3.Segments{}
		segments.Cut(dnp3.AppendFragment(nil, dnp3.Fragment{Control: dnp3.First | dnp3.Final, Function: dnp3.FuncEnableUnsolicited, Objects: []byte{60, 2, 6}}))
		number := byte(0)
		_, err := b.Write(dnp3.AppendFrame(nil, dnp3.Frame{Control: dnp3.FromMaster | dnp3.Control(dnp3.UnconfirmedData), Destination: 10, Source: 1, Data: segments.Next(&number)}))
		assert.NoError(t, err)
		pass()
		assert.Equal(t, first, a.octets.Load())
		before := b.octets.Load()
		assert.Greater(t, before, second)
		pass()
		assert.Greater(t, b.octets.Load(), before, "it goes on reporting that it began")

		b.Close()
		synctest.Wait()
		pass()
		assert.Greater(t, a.octets.Load(), first, "the only connection that is left")
		a.Close()
	})
}
