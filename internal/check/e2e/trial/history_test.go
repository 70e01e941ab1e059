package trial

import (
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/reading"
)

// counting is a Modbus server that answers every read of two registers with how often it was read, and notes when.
type counting struct {
	mu    sync.Mutex
	given []time.Time // when each number, from 1 on, was given
}

func (d *counting) serve(conn net.Conn) {
	defer conn.Close()
	for {
		head := make([]byte, 6)
		if _, err := io.ReadFull(conn, head); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint16(head[4:]))
		if _, err := io.ReadFull(conn, body); err != nil {
			return
		}
		answer := []byte{body[0], body[1] | 0x80, 2}
		if body[1] == 3 && binary.BigEndian.Uint16(body[2:]) == 0 && binary.BigEndian.Uint16(body[4:]) == 2 {
			d.mu.Lock()
			d.given = append(d.given, time.Now())
			answer = binary.BigEndian.AppendUint32([]byte{body[0], 3, 4}, uint32(len(d.given)))
			d.mu.Unlock()
		}
		if _, err := conn.Write(append(append(head[:4:4], 0, byte(len(answer))), answer...)); err != nil {
			return
		}
	}
}

// mostLost is what a kill may take, and then some for a machine under load.
const mostLost = 4 * time.Second

// TestTrialHistory: killed at random, the service has recorded what the device gave, all but what it gave at the very last, in its order, at the
// time at which it gave it, and nothing twice; that it did not record in between is said.
func TestTrialHistory(t *testing.T) {
	t.Parallel()
	program := filepath.Join(t.TempDir(), "arithmon")
	out, err := exec.Command("go", "build", "-o", program, "arithmon/cmd/arithmon").CombinedOutput()
	require.NoError(t, err, string(out))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	dev := &counting{}
	accept(t, listener, dev.serve)
	file := fmt.Sprintf(`
arithmon: 1
links: [{name: gate, protocol: modbus, transport: tcp, host: 127.0.0.1, port: %d}]
stations: [{name: dev, link: gate, unit: 1, poll: 20ms, record: true}]
points: [{tag: count, station: dev, address: hr:0, type: uint32}]
`, listener.Addr().(*net.TCPAddr).Port)

	random := rand.New(rand.NewPCG(seed(), 21))
	dir := filepath.Join(t.TempDir(), "data")
	var killed []time.Time
	for round := range rounds() {
		service, c := begin(t, program, dir)
		if round == 0 {
			_, err := c.Apply(t.Context(), "site.yaml", []byte(file), false, false)
			require.NoError(t, err)
		}
		time.Sleep(time.Duration(1500+random.IntN(1500)) * time.Millisecond)
		require.NoError(t, service.Process.Kill())
		_ = service.Wait()
		killed = append(killed, time.Now())
	}
	service, c := begin(t, program, dir)
	var kept []api.Sample
	require.NoError(t, c.Samples(t.Context(), []string{"count"}, "1d", "now", func(page []api.Sample) error {
		kept = append(kept, page...)
		return nil
	}))
	require.NoError(t, service.Process.Signal(os.Interrupt))
	require.NoError(t, service.Wait())

	dev.mu.Lock()
	defer dev.mu.Unlock()
	last, ended, good := 0, 0, 0
	for i, x := range kept {
		if x.Reason == "not-recorded" {
			ended++
			require.Positive(t, i)
			assert.WithinDuration(t, kept[i-1].Time, x.Time, mostLost, "it is said when it ended")
		}
		if x.Quality != reading.Good {
			continue
		}
		n, whole := x.Value.Int()
		require.True(t, whole, "%v", x.Value)
		require.LessOrEqual(t, int(n), len(dev.given), "the device never gave that")
		assert.WithinDuration(t, dev.given[n-1], x.Time, time.Second, "number %d", n)
		if good++; int(n) != last+1 {
			require.Greater(t, int(n), last, "nothing is there twice, or out of order")
			from, to := dev.given[last], dev.given[n-1]
			excused := false // missing is only what was given right before a kill
			for _, k := range killed {
				excused = excused || !from.Before(k.Add(-mostLost)) && !to.Before(k.Add(-mostLost)) && from.Before(k.Add(time.Second))
			}
			assert.True(t, excused || last == 0, "%d to %d are missing, given from %s to %s", last+1, n-1, from, to)
		}
		last = int(n)
	}
	t.Logf("%d rounds: %d numbers given, %d recorded, %d times it was said that nothing was", rounds(), len(dev.given), good, ended)
	assert.Greater(t, good, len(dev.given)/3)
	assert.GreaterOrEqual(t, ended, rounds()-1)
}
