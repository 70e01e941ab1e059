package trial

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	dnp3driver "arithmon/internal/live/driver/dnp3"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// The outstation of the trial has analog inputs that say their index and a number that counts, of which every change is an event of
// class 1, and analog outputs.
const (
	inputs  = 8
	outputs = 3
)

// rtu is an outstation in octets whose path is as bad as the weather.
type rtu struct {
	mu       sync.Mutex // guards what follows
	random   *rand.Rand
	weather  bool
	refuse   byte // IIN2 of reads of events, 0 for none
	restart  bool
	value    [inputs]int
	given    map[int]bool // every value that an input had
	reported []int        // all events
	buffer   []int        // those that are not confirmed
	sent     int          // of them, in the fragment that waits for its confirmation
	waits    byte         // its sequence number
	held     [outputs]int32
	executed map[int32]int
	selected []byte
	conn     net.Conn
}

// change lets an input change.
func (o *rtu) change() {
	o.mu.Lock()
	defer o.mu.Unlock()
	i := o.random.IntN(inputs)
	o.value[i]++
	v := i*1_000_000 + o.value[i]
	o.given[v] = true
	if len(o.buffer) < 5000 { // otherwise it is lost there, which is no fault of who asks
		o.buffer = append(o.buffer, v)
		o.reported = append(o.reported, v)
	}
}

// serve answers on a connection until it ends.
func (o *rtu) serve(conn net.Conn) {
	defer conn.Close()
	o.mu.Lock()
	o.conn, o.sent = conn, 0
	o.mu.Unlock()
	var writing sync.Mutex
	for {
		head, data, err := farend.ReadDNP3Frame(conn)
		if err != nil {
			return
		}
		var frames [][]byte
		switch head[3] & 0x0F {
		case 9:
			frames = [][]byte{farend.DNP3Frame(0x0B, 1, 10, nil)}
		case 0:
			frames = [][]byte{farend.DNP3Frame(0x00, 1, 10, nil)}
		case 4:
			frames = o.application(data)
		}
		o.mu.Lock()
		dice := o.random.Float64()
		delay := time.Duration(o.random.Int64N(int64(3 * time.Millisecond)))
		if !o.weather {
			dice = 1
		}
		switch {
		case dice < 0.03:
			frames = nil
		case dice < 0.06:
			for i := range frames {
				frames[i][len(frames[i])-1] ^= 1
			}
		case dice < 0.08 && len(frames) > 0:
			frames = append(frames, frames...)
		case dice < 0.1 && len(frames) > 0:
			frames[0] = frames[0][:1+o.random.IntN(len(frames[0])-1)]
		case dice < 0.13:
			delay = time.Duration(o.random.Int64N(int64(3 * trialTimeout)))
		case dice < 0.135:
			o.mu.Unlock()
			return
		}
		o.mu.Unlock()
		time.Sleep(delay)
		writing.Lock()
		for _, f := range frames {
			conn.Write(f)
		}
		writing.Unlock()
	}
}

// application answers a fragment in one segment.
func (o *rtu) application(data []byte) [][]byte {
	if len(data) < 3 {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	control, function, objects := data[1], data[2], data[3:]
	seq := control & 0x0F
	if function == 0 { // a confirmation
		if o.sent > 0 && seq == o.waits {
			o.buffer = o.buffer[o.sent:]
			o.sent = 0
		}
		return nil
	}
	iin1, iin2 := byte(0), byte(0)
	if o.restart {
		iin1 |= 0x80
	}
	response := byte(0xC0 | seq)
	var say []byte
	switch function {
	case 1:
		events := len(objects) >= 3 && objects[0] == 60 && objects[1] > 1
		if events && o.refuse != 0 {
			iin2 = o.refuse
			break
		}
		o.sent = 0 // what was not confirmed is given again
		if events && len(o.buffer) > 0 {
			n := min(20, len(o.buffer))
			say = append(say, 32, 1, 0x28, byte(n), 0)
			for _, v := range o.buffer[:n] {
				say = append(say, byte(v/1_000_000), 0, 0x01)
				say = binary.LittleEndian.AppendUint32(say, uint32(v))
			}
			o.sent, o.waits = n, seq
			response |= 0x20
			if n < len(o.buffer) {
				iin1 |= 2
			}
		}
		if n := len(objects); n >= 3 && slices.Equal(objects[n-3:], []byte{60, 1, 6}) {
			say = append(say, 30, 1, 0, 0, inputs-1)
			for i := range inputs {
				say = append(say, 0x01)
				say = binary.LittleEndian.AppendUint32(say, uint32(i*1_000_000+o.value[i]))
			}
			say = append(say, 40, 1, 0, 0, outputs-1)
			for _, v := range o.held {
				say = append(say, 0x01)
				say = binary.LittleEndian.AppendUint32(say, uint32(v))
			}
		}
		if len(objects) >= 5 && objects[0] == 40 {
			i := int(objects[3])
			say = append(say, 40, 1, 0, byte(i), byte(i), 0x01)
			say = binary.LittleEndian.AppendUint32(say, uint32(o.held[i]))
		}
		if len(objects) >= 2 && objects[0] == 50 {
			iin2 = 1
		}
	case 2:
		o.restart = false
		iin1 &^= 0x80
	case 3:
		say, o.selected = objects, append([]byte{}, objects...)
	case 4:
		say = append([]byte{}, objects...)
		if !slices.Equal(o.selected, objects) {
			say[len(say)-1] = 2 // no select
			break
		}
		o.selected = nil
		v := int32(binary.LittleEndian.Uint32(objects[5:]))
		switch {
		case o.weather && o.random.Float64() < 0.1:
			say[len(say)-1] = 4
		case o.weather && o.random.Float64() < 0.1:
			iin2, say = 0x10, nil
		default:
			o.held[objects[4]] = v
			o.executed[v]++
		}
	}
	fragment := append([]byte{response, 0x81, iin1, iin2}, say...)
	var frames [][]byte
	number, first := byte(o.random.IntN(64)), byte(0x40)
	for len(fragment) > 0 {
		n := min(249, len(fragment))
		octet := number&0x3F | first
		number, first = number+1, 0
		if n == len(fragment) {
			octet |= 0x80
		}
		frames = append(frames, farend.DNP3Frame(0x44, 1, 10, append([]byte{octet}, fragment[:n]...)))
		fragment = fragment[n:]
	}
	return frames
}

// TestTrialDNP3: with losses, damage, repetitions, delays, connections that end, restarts and refusals: no reading is one that the
// outstation never had, no event is invented or left out, no command is carried out twice, no outcome contradicts the device, and
// everything comes back.
func TestTrialDNP3(t *testing.T) {
	t.Parallel()
	o := &rtu{random: rand.New(rand.NewPCG(seed(), 7)), given: map[int]bool{}, executed: map[int32]int{}}
	for i := range inputs {
		o.given[i*1_000_000] = true
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	accept(t, listener, o.serve)
	s := site.New()
	draft := s.Edit()
	l := site.NewLink()
	l.Name, l.Protocol, l.Host, l.Port, l.Timeout, l.Retries = "line", site.DNP3, "127.0.0.1", listener.Addr().(*net.TCPAddr).Port, site.Duration(trialTimeout), 1
	draft.Add(l)
	st := site.NewStation()
	address := 10
	st.Name, st.Link, st.Outstation = "rtu", "line", &address
	st.IntegrityPoll, st.EventPoll = site.Duration(time.Second), site.Duration(100*time.Millisecond)
	draft.Add(st)
	for i := range inputs {
		draft.Add(site.Point{Tag: fmt.Sprintf("ai%d", i), Station: "rtu", Address: site.Address{Space: site.AnalogInputs, Offset: uint16(i)}, Type: codec.TypeInt32})
	}
	for i := range outputs {
		draft.Add(site.Point{Tag: fmt.Sprintf("ao%d", i), Station: "rtu", Address: site.Address{Space: site.AnalogOutputs, Offset: uint16(i)}, Type: codec.TypeInt32, Writable: true})
	}
	changes, err := draft.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	e := engine.New(engine.Options{Drivers: []link.Driver{dnp3driver.New()}})
	e.Start(context.Background(), s)
	defer e.Stop()
	begun(t, e, "ai0")
	o.mu.Lock()
	o.weather = true
	o.mu.Unlock()

	var got result
	got.writes = map[control.Outcome]int{}
	end := time.Now().Add(duration())
	var busy sync.WaitGroup
	busy.Go(func() {
		for time.Now().Before(end) {
			o.change()
			time.Sleep(2 * time.Millisecond)
		}
	})
	busy.Go(func() {
		for time.Now().Before(end) {
			for i := range inputs {
				live, _ := e.Reading(fmt.Sprintf("ai%d", i))
				if live.Reading.ShortName() != "good" {
					continue
				}
				got.good++
				v, _ := live.Reading.Value.Int()
				o.mu.Lock()
				if !o.given[int(v)] || int(v)/1_000_000 != i {
					got.wrong++
				}
				o.mu.Unlock()
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
	busy.Go(func() { o.command(t, e, end, &got) })
	busy.Go(func() {
		for n := 0; time.Now().Before(end); n++ {
			time.Sleep(300 * time.Millisecond)
			o.mu.Lock()
			o.refuse = []byte{0, 0, 2, 0, 4}[n%5]
			o.restart = o.restart || n%4 == 3
			o.mu.Unlock()
		}
	})
	busy.Wait()
	o.mu.Lock()
	o.weather, o.refuse = false, 0
	o.mu.Unlock()
	require.NoError(t, e.Refresh(t.Context(), "rtu"))
	back := time.Now().Add(40 * time.Second)
	for i := range inputs {
		o.mu.Lock()
		want := int64(i*1_000_000 + o.value[i])
		o.mu.Unlock()
		for {
			live, _ := e.Reading(fmt.Sprintf("ai%d", i))
			if v, _ := live.Reading.Value.Int(); live.Reading.ShortName() == "good" && v == want {
				break
			}
			if !time.Now().Before(back) {
				t.Errorf("ai%d stayed %s %s, and is %d", i, live.Reading.Value, live.Reading.ShortName(), want)
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	for v, n := range o.executed {
		if n > 1 {
			got.twice++
			t.Logf("%d was carried out %d times", v, n)
		}
	}
	invented := 0
	seen := map[int64]bool{}
	list, lost := e.Events().After(nil, 0, table.MaxEvents)
	for _, ev := range list {
		v, _ := ev.Value.Int()
		if !o.given[int(v)] {
			invented++
		}
		seen[v] = true
	}
	t.Logf("%+v, %d events, %d values", got, len(list), len(o.given))
	assert.Zero(t, lost)
	assert.Positive(t, got.good)
	assert.Zero(t, got.wrong, "readings that the outstation never had")
	assert.Zero(t, invented, "events that it never had")
	assert.Zero(t, got.untrue, "outcomes that contradict the device")
	assert.Zero(t, got.twice, "commands carried out twice")
	missing := 0
	o.mu.Lock()
	for _, v := range o.reported[:len(o.reported)-len(o.buffer)] {
		if !seen[int64(v)] {
			missing++
		}
	}
	o.mu.Unlock()
	assert.Zero(t, missing, "events that were confirmed and are not kept")
}

// command commands outputs, each value once, and compares the outcome with the device.
func (o *rtu) command(t *testing.T, e *engine.Engine, end time.Time, got *result) {
	for v := int32(1); time.Now().Before(end); v++ {
		i := int(v) % outputs
		w, err := write(t.Context(), e, fmt.Sprintf("ao%d", i), codec.IntValue(int64(v)))
		if err != nil {
			continue
		}
		o.mu.Lock()
		executed, held := o.executed[v], o.held[i]
		o.mu.Unlock()
		got.writes[w.Outcome]++
		wrong := false
		switch w.Outcome {
		case control.Done:
			wrong = executed != 1 || held != v
		case control.Refused:
			wrong = executed != 0
		case control.Differs:
			wrong = held == v
		}
		if wrong {
			got.untrue++
			t.Logf("%d: %s, carried out %d times, held %d: %s", v, w.Outcome, executed, held, w.Message)
		}
		time.Sleep(15 * time.Millisecond)
	}
}
