package trial

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/term"

	"arithmon/internal/check/e2e/farend"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	modbusdriver "arithmon/internal/live/driver/modbus"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
)

// The registers of the trial's device: blocks of equal length, which are read, and registers that are written. A register that is read
// says its address in the high byte and in the low byte the number of the request that read it.
const (
	lastRegister  = 200
	firstWritable = 220
	writables     = 4
)

var blocks = [][2]int{{0, 4}, {40, 4}, {80, 4}, {120, 8}, {160, 1}}

// device is a Modbus server in octets whose path is as bad as the weather.
type device struct {
	framing string

	mu       sync.Mutex // guards what follows
	random   *rand.Rand
	weather  bool // it is bad now
	holes    map[int]bool
	limit    int
	n        int
	at       [256]time.Time // when a number was given, and so true
	held     map[int]uint16
	executed map[uint16]int // writes by their value, which is used once
	refused  map[uint16]bool
	free     time.Time
}

// answer makes what is said to a request, and when; nil when nothing is.
func (d *device) answer(id [2]byte, body []byte) (frames [][]byte, after []time.Duration, end bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(body) < 6 {
		return nil, nil, false
	}
	dice := d.random.Float64()
	if !d.weather {
		dice = 1
	}
	if dice < 0.03 { // the request is lost
		return nil, nil, false
	}
	first, value := int(binary.BigEndian.Uint16(body[2:])), binary.BigEndian.Uint16(body[4:])
	refuse := func(code byte) []byte { return []byte{body[0], body[1] | 0x80, code} }
	var say []byte
	switch body[1] {
	case 3:
		count := int(value)
		say = []byte{body[0], 3, byte(2 * count)}
		d.n++
		d.at[d.n%256] = time.Now()
		for a := first; a < first+count; a++ {
			switch {
			case d.holes[a] || a > lastRegister && a < firstWritable || a >= firstWritable+writables || count > d.limit:
				say = refuse(2)
			case len(say) > 2 && say[1] == 3 && a >= firstWritable:
				say = binary.BigEndian.AppendUint16(say, d.held[a])
			case say[1] == 3:
				say = append(say, byte(a), byte(d.n))
			}
			if say[1] != 3 {
				break
			}
		}
	case 6:
		switch {
		case d.weather && d.random.Float64() < 0.1:
			say = refuse([]byte{2, 3, 6}[d.random.IntN(3)])
			d.refused[value] = true
		default:
			d.held[first] = value
			d.executed[value]++
			say = body
			if d.weather && d.random.Float64() < 0.05 {
				say = refuse([]byte{4, 5, 11}[d.random.IntN(3)]) // after it was done
			}
		}
	default:
		say = refuse(1)
	}
	frame := farend.Frame(d.framing, id, say)
	delay := time.Duration(d.random.Int64N(int64(4 * time.Millisecond)))
	switch {
	case dice < 0.06: // the response is lost
		return nil, nil, false
	case dice < 0.09 && d.framing != "mbap":
		frame = frame[:1+d.random.IntN(len(frame)-1)]
	case dice < 0.15:
		delay += time.Duration(d.random.Int64N(int64(3 * trialTimeout)))
	case dice < 0.155:
		delay += 5 * trialTimeout
	case dice < 0.16:
		return nil, nil, true // the connection ends
	}
	ready := time.Now().Add(delay)
	if ready.Before(d.free) {
		ready = d.free
	}
	d.free = ready
	frames, after = [][]byte{frame}, []time.Duration{time.Until(ready)}
	if dice > 0.16 && dice < 0.18 {
		frames, after = append(frames, frame), append(after, time.Until(ready)+time.Duration(d.random.Int64N(int64(2*trialTimeout))))
	}
	return frames, after, false
}

const trialTimeout = 60 * time.Millisecond

// serve answers on a stream until it ends.
func (d *device) serve(conn io.ReadWriteCloser) {
	var writing sync.Mutex
	defer conn.Close()
	in := make([]byte, 0, 4096)
	for {
		b := make([]byte, 1024)
		n, err := conn.Read(b)
		if err != nil {
			return
		}
		in = append(in, b[:n]...)
		for {
			size := farend.Length(d.framing, in)
			if size == 0 || size > len(in) {
				break
			}
			id, body := farend.Request(d.framing, append([]byte{}, in[:size]...))
			in = in[size:]
			if d.say(id, body, func(frame []byte) {
				writing.Lock()
				defer writing.Unlock()
				conn.Write(frame)
			}) {
				return
			}
		}
	}
}

func (d *device) say(id [2]byte, body []byte, write func([]byte)) (end bool) {
	frames, after, end := d.answer(id, body)
	for i, frame := range frames {
		time.AfterFunc(after[i], func() { write(frame) })
	}
	return end
}

// listen starts a device on a transport and returns the link to it.
func (d *device) listen(t *testing.T, transport string) site.Link {
	l := site.NewLink()
	l.Name, l.Transport, l.Framing = "bus", site.Transport(transport), site.Framing(d.framing)
	l.Timeout, l.Retries = site.Duration(trialTimeout), 1
	switch transport {
	case "udp":
		conn, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		go func() {
			b := make([]byte, 1024)
			for {
				n, from, err := conn.ReadFrom(b)
				if err != nil {
					return
				}
				id, body := farend.Request(d.framing, append([]byte{}, b[:n]...))
				d.say(id, body, func(frame []byte) { conn.WriteTo(frame, from) })
			}
		}()
		l.Host, l.Port = "127.0.0.1", conn.LocalAddr().(*net.UDPAddr).Port
	case "serial":
		far, near, err := pty.Open()
		require.NoError(t, err)
		_, err = term.MakeRaw(int(near.Fd()))
		require.NoError(t, err)
		t.Cleanup(func() { far.Close(); near.Close() })
		go func() { // a line does not end
			for {
				d.serve(keptOpen{far})
				if _, err := far.Stat(); err != nil {
					return
				}
			}
		}()
		l.Serial = &site.LineSettings{Device: near.Name(), Baud: 115200, DataBits: 8, Parity: "none", StopBits: 1}
	default:
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		l.Host, l.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
		if transport == "tls" {
			certificate, ca := identity(t)
			path := filepath.Join(t.TempDir(), "ca.pem")
			require.NoError(t, os.WriteFile(path, ca, 0o600))
			listener = tls.NewListener(listener, &tls.Config{Certificates: []tls.Certificate{certificate}})
			l.TLS = &site.TLSSettings{CA: path}
		}
		accept(t, listener, func(conn net.Conn) { d.serve(conn) })
	}
	return l
}

// keptOpen is a port that stays.
type keptOpen struct{ *os.File }

func (keptOpen) Close() error { return nil }

// plant is a site of one station with the trial's points.
func plant(t *testing.T, l site.Link) *site.Site {
	s := site.New()
	d := s.Edit()
	d.Add(l)
	st := site.NewStation()
	st.Name, st.Link, st.Unit, st.Poll = "dev", "bus", 1, site.Duration(50*time.Millisecond)
	d.Add(st)
	for _, b := range blocks {
		for a := b[0]; a < b[0]+b[1]; a++ {
			d.Add(site.Point{Tag: fmt.Sprintf("r%d", a), Station: "dev", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(a)}, Type: codec.TypeUint16})
		}
	}
	for a := firstWritable; a < firstWritable+writables; a++ {
		d.Add(site.Point{Tag: fmt.Sprintf("w%d", a), Station: "dev", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(a)}, Type: codec.TypeUint16, Writable: true})
	}
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	return s
}

// result is what came of a trial.
type result struct {
	good, wrong, old int
	writes           map[control.Outcome]int
	untrue, twice    int
}

// TestTrialModbus: over every transport and framing, with delays, losses, second answers, cut frames, connections that end, refusals that
// come and go, writes, and changes of the link meanwhile: no reading is wrong, no command is done twice, no outcome contradicts the
// device, and everything comes back.
func TestTrialModbus(t *testing.T) {
	for i, c := range []struct {
		transport, framing  string
		connections, flight int
	}{
		{"tcp", "mbap", 1, 1}, {"tcp", "mbap", 2, 4}, {"tcp", "rtu", 1, 1}, {"tcp", "ascii", 1, 1}, {"udp", "mbap", 1, 1}, {"udp", "mbap", 1, 4},
		{"udp", "rtu", 1, 1}, {"udp", "ascii", 1, 1}, {"tls", "mbap", 1, 1}, {"tls", "rtu", 1, 1}, {"serial", "rtu", 1, 1}, {"serial", "ascii", 1, 1},
	} {
		t.Run(fmt.Sprintf("%s over %s, %d times %d", c.framing, c.transport, c.connections, c.flight), func(t *testing.T) {
			t.Parallel()
			d := &device{framing: c.framing, random: rand.New(rand.NewPCG(seed(), uint64(i))), holes: map[int]bool{}, limit: 125, held: map[int]uint16{}, executed: map[uint16]int{}, refused: map[uint16]bool{}}
			l := d.listen(t, c.transport)
			l.Connections, l.InFlight = c.connections, c.flight
			s := plant(t, l)
			e := engine.New(engine.Options{Drivers: []link.Driver{modbusdriver.Driver{}}})
			e.Start(context.Background(), s)
			defer e.Stop()
			begun(t, e, tags()[0])
			d.mu.Lock()
			d.weather = true
			d.mu.Unlock()
			var got result
			got.writes = map[control.Outcome]int{}
			end := time.Now().Add(duration())
			var busy sync.WaitGroup
			busy.Go(func() { d.watch(e, end, &got) })
			busy.Go(func() { d.write(t, e, end, &got) })
			busy.Go(func() { d.disturb(t, e, s, end) })
			busy.Wait()

			d.mu.Lock()
			d.weather, d.holes, d.limit = false, map[int]bool{}, 125
			d.mu.Unlock()
			assert.NoError(t, e.Refresh(t.Context(), "dev"))
			back := time.Now().Add(40 * time.Second)
			for _, tag := range tags() {
				for {
					r, _ := e.Reading(tag)
					if r.Reading.ShortName() == "good" {
						break
					}
					if !time.Now().Before(back) {
						t.Errorf("%s stayed %s", tag, r.Reading.ShortName())
						break
					}
					time.Sleep(5 * time.Millisecond)
				}
			}
			for value, n := range d.executed {
				if n > 1 {
					got.twice++
					t.Logf("%d was written %d times", value, n)
				}
			}
			t.Logf("%+v", got)
			assert.Positive(t, got.good)
			assert.Zero(t, got.wrong, "readings of other addresses")
			assert.Zero(t, got.old, "readings from before their request")
			assert.Zero(t, got.untrue, "outcomes that contradict the device")
			assert.Zero(t, got.twice, "writes done twice")
		})
	}
}

func tags() (list []string) {
	for _, b := range blocks {
		for a := b[0]; a < b[0]+b[1]; a++ {
			list = append(list, fmt.Sprintf("r%d", a))
		}
	}
	return list
}

// watch compares every good reading with the device.
func (d *device) watch(e *engine.Engine, end time.Time, got *result) {
	last := map[string]time.Time{}
	for time.Now().Before(end) {
		for _, b := range blocks {
			for a := b[0]; a < b[0]+b[1]; a++ {
				tag := fmt.Sprintf("r%d", a)
				live, ok := e.Reading(tag)
				r := live.Reading
				if !ok || r.ShortName() != "good" || r.Time.Equal(last[tag]) {
					continue
				}
				last[tag] = r.Time
				value, _ := r.Value.Int()
				got.good++
				d.mu.Lock()
				at := d.at[value&0xFF]
				d.mu.Unlock()
				switch {
				case int(value>>8) != a:
					got.wrong++
				case r.Time.Before(at) || r.Time.Sub(at) > 20*trialTimeout: // beyond all patience
					if time.Since(at) > 50*time.Millisecond || r.Time.Sub(at) > 20*trialTimeout { // the number was not given again meanwhile
						got.old++
					}
				}
			}
		}
		time.Sleep(3 * time.Millisecond)
	}
}

// write writes values, each once, and compares the outcome with the device.
func (d *device) write(t *testing.T, e *engine.Engine, end time.Time, got *result) {
	for value := uint16(1); time.Now().Before(end) && value < 60000; value++ {
		a := firstWritable + int(value)%writables
		w, err := write(t.Context(), e, fmt.Sprintf("w%d", a), codec.UintValue(uint64(value)))
		if err != nil {
			continue // the link was changed meanwhile
		}
		d.mu.Lock()
		executed, held := d.executed[value], d.held[a]
		d.mu.Unlock()
		got.writes[w.Outcome]++
		after := uint64(0)
		if len(w.After) == 1 {
			n, _ := w.After[0].Int()
			after = uint64(n)
		}
		switch w.Outcome {
		case control.Done:
			if executed != 1 || held != value || after != uint64(value) {
				got.untrue++
				t.Logf("%d: done, executed %d times, held %d, after %d: %s", value, executed, held, after, w.Message)
			}
		case control.Refused:
			if executed != 0 {
				got.untrue++
				t.Logf("%d: refused, executed %d times: %s", value, executed, w.Message)
			}
		case control.Differs:
			if held == value {
				got.untrue++
				t.Logf("%d: differs, and is held: %s", value, w.Message)
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// disturb changes what the device refuses, and the link.
func (d *device) disturb(t *testing.T, e *engine.Engine, s *site.Site, end time.Time) {
	for n := 0; time.Now().Before(end); n++ {
		time.Sleep(time.Duration(200+100*(n%5)) * time.Millisecond)
		d.mu.Lock()
		d.holes, d.limit = map[int]bool{}, 125
		switch n % 4 {
		case 1:
			d.holes[d.random.IntN(lastRegister)] = true
			d.holes[41] = true
		case 2:
			d.limit = 3
		}
		d.mu.Unlock()
		if n%6 == 5 {
			l, _ := s.Link("bus")
			draft := s.Edit()
			l.Retries = n % 3
			l.Pause = site.Duration(time.Duration(n%2) * time.Millisecond)
			draft.Replace("bus", l)
			changes, err := draft.Changes()
			if !assert.NoError(t, err) {
				return
			}
			s = s.With(changes)
			e.Apply(s, changes)
		}
	}
}
