package master_test

import (
	"bytes"
	"context"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
	"arithmon/internal/protocol/dnp3/outstation"
)

// pair is a master and an outstation on one connection.
type pair struct {
	*master.Outstation
	channel *master.Channel
	line    *outstation.Line
	far     *outstation.Outstation
	faults  outstation.Faults

	mu       sync.Mutex // guards what the handler took
	got      []dnp3.Measurement
	iin      dnp3.IIN
	repeated int
	frames   []traffic.Frame // what crossed the connection
	more     chan struct{}   // holds a token after each fragment
}

func (p *pair) Response(f dnp3.Fragment) {
	p.mu.Lock()
	p.iin = f.IIN
	dnp3.Measurements(f.Objects, func(m *dnp3.Measurement, _ *dnp3.Objects) {
		if m != nil {
			p.got = append(p.got, *m)
		}
	})
	p.mu.Unlock()
	select {
	case p.more <- struct{}{}:
	default:
	}
}

func (p *pair) Heard() {}

func (p *pair) Keep() bool { return true }

func (p *pair) Repeated() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.repeated++
}

// take returns what was measured since the last call.
func (p *pair) take() []dnp3.Measurement {
	p.mu.Lock()
	defer p.mu.Unlock()
	got := p.got
	p.got = nil
	return got
}

// until waits until what the handler took satisfies want.
func (p *pair) until(t *testing.T, want func() bool) {
	t.Helper()
	deadline := time.After(10 * time.Second)
	for {
		p.mu.Lock()
		ok := want()
		p.mu.Unlock()
		if ok {
			return
		}
		select {
		case <-p.more:
		case <-deadline:
			t.Fatal("it did not come")
		}
	}
}

// set changes points of the outstation.
func (p *pair) set(f func(now time.Time, o *outstation.Outstation)) {
	p.line.Lock.Lock()
	defer p.line.Lock.Unlock()
	f(time.Now(), p.far)
}

func join(t *testing.T, c outstation.Config, points []outstation.Point, o master.Options) *pair {
	t.Helper()
	c.Address, c.Master = 10, 1
	p := &pair{far: outstation.New(c, points), more: make(chan struct{}, 1)}
	p.line = &outstation.Line{Outstations: []*outstation.Outstation{p.far}, Lock: new(sync.Mutex), Faults: func(*outstation.Outstation) outstation.Faults { return p.faults }}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	var serving sync.WaitGroup
	serving.Go(func() { p.line.Listen(ctx, listener) })
	conn, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	ends := traffic.EndsOf(conn, "dnp3")
	o.Watch = func(e master.Event) {
		p.mu.Lock()
		defer p.mu.Unlock()
		kind := traffic.Answer
		if e.Kind == master.EventSent {
			kind = traffic.Sent
		}
		p.frames = append(p.frames, traffic.Frame{Time: time.Now(), Link: "test", Kind: kind, Data: bytes.Clone(e.Data), Ends: ends})
	}
	p.channel = master.New(conn, o)
	p.Outstation = p.channel.Outstation(10, 1, p)
	p.channel.Start()
	t.Cleanup(func() { p.channel.Close(); cancel(); serving.Wait() })
	return p
}

var some = []outstation.Point{
	{Kind: dnp3.BinaryInput, Index: 0, Class: 1, Value: codec.BoolValue(true)},
	{Kind: dnp3.BinaryInput, Index: 1, Class: 1},
	{Kind: dnp3.DoubleBitInput, Index: 0, Class: 1, Value: codec.UintValue(2)},
	{Kind: dnp3.BinaryOutput, Index: 0, Class: 2},
	{Kind: dnp3.Counter, Index: 7, Class: 3, Value: codec.UintValue(4711)},
	{Kind: dnp3.FrozenCounter, Index: 7, Class: 3},
	{Kind: dnp3.AnalogInput, Index: 3, Class: 2, Value: codec.FloatValue(12.5), Deadband: 1},
	{Kind: dnp3.AnalogOutput, Index: 0, Value: codec.FloatValue(50)},
	{Kind: dnp3.OctetString, Index: 2, Class: 3, Value: codec.TextValue("HERON")},
}

func TestClause4_4_2_IntegrityPoll(t *testing.T) {
	p := join(t, outstation.Config{}, some, master.Options{})
	a, err := p.Read(master.Class0|master.Events, nil)
	require.NoError(t, err)
	assert.Equal(t, dnp3.IINRestart, a.IIN)
	got := map[dnp3.Kind]codec.Value{}
	for _, m := range p.take() {
		assert.True(t, m.Good())
		got[m.Kind] = m.Value
	}
	assert.Equal(t, map[dnp3.Kind]codec.Value{
		dnp3.BinaryInput: codec.BoolValue(false), dnp3.DoubleBitInput: codec.UintValue(2), dnp3.BinaryOutput: codec.BoolValue(false),
		dnp3.Counter: codec.UintValue(4711), dnp3.FrozenCounter: codec.UintValue(0), dnp3.AnalogInput: codec.FloatValue(12.5),
		dnp3.AnalogOutput: codec.FloatValue(50), dnp3.OctetString: codec.TextValue("HERON"),
	}, got)
	a, err = p.ClearRestart()
	require.NoError(t, err)
	assert.Zero(t, a.IIN)
}

func TestClause4_6_UnsolicitedResponses(t *testing.T) {
	p := join(t, outstation.Config{Unsolicited: true, HoldTime: time.Millisecond}, some, master.Options{})
	p.until(t, func() bool { return p.iin&dnp3.IINRestart != 0 }) // the first is empty and tells of the restart
	_, err := p.Unsolicited(true, master.Events)
	require.NoError(t, err)
	p.set(func(now time.Time, o *outstation.Outstation) {
		for i := range 20 {
			o.Set(now.Add(time.Duration(i)*time.Millisecond), dnp3.BinaryInput, 1, codec.BoolValue(i%2 == 0), dnp3.Online)
		}
	})
	_, err = p.Status() // something for the outstation to wake up at
	require.NoError(t, err)
	p.until(t, func() bool { return len(p.got) >= 20 })
	list := p.take()
	require.Len(t, list, 20)
	for i, m := range list {
		assert.Equal(t, i%2 == 0, m.Value.Bool(), "in order")
		assert.True(t, m.HasTime && m.Event)
	}
}

func TestClause4_4_3_SelectBeforeOperate(t *testing.T) {
	p := join(t, outstation.Config{}, some, master.Options{})
	on := dnp3.Output{Code: dnp3.LatchOn, Count: 1}
	reached, err := p.Command(master.Command{Index: 0, Output: &on}, master.SelectOperate)
	require.NoError(t, err)
	assert.True(t, reached)
	_, err = p.Read(master.Class0, nil)
	require.NoError(t, err)
	for _, m := range p.take() {
		if m.Kind == dnp3.BinaryOutput {
			assert.True(t, m.Value.Bool())
		}
	}
	reached, err = p.Command(master.Command{Index: 9, Output: &on}, master.SelectOperate)
	assert.False(t, reached)
	assert.ErrorContains(t, err, "not supported")
	for v := byte(1); v <= 4; v++ {
		_, err = p.Command(master.Command{Index: 0, Analog: &dnp3.AnalogCommand{Variation: v, Value: codec.IntValue(-int64(v))}}, master.Direct)
		require.NoError(t, err)
		p.set(func(_ time.Time, o *outstation.Outstation) {
			got, _ := o.Value(dnp3.AnalogOutput, 0)
			f, _ := got.Float()
			assert.Equal(t, -float64(v), f)
		})
	}
}

func TestClause9_2_6_ConfirmedUserData(t *testing.T) {
	p := join(t, outstation.Config{}, some, master.Options{})
	p.Confirmed = true
	for range 3 {
		_, err := p.Read(master.Class0, nil)
		require.NoError(t, err)
	}
	_, err := p.Status()
	require.NoError(t, err)
}

func TestClause10_3_TimeSynchronisation(t *testing.T) {
	p := join(t, outstation.Config{NeedTime: true}, some, master.Options{})
	for name, set := range map[string]func() error{
		"LAN":    func() error { return p.SetTimeLAN() },
		"serial": func() error { _, err := p.SetTimeSerial(); return err },
	} {
		p.set(func(_ time.Time, o *outstation.Outstation) { o.SetOffset(-time.Hour) })
		theirs, ours, err := p.Clock()
		require.NoError(t, err)
		assert.InDelta(t, -3600, theirs.Go().Sub(ours).Seconds(), 1, name)
		require.NoError(t, set())
		theirs, ours, err = p.Clock()
		require.NoError(t, err)
		assert.InDelta(t, 0, theirs.Go().Sub(ours).Seconds(), 1, name)
	}
}

func TestLargeResponsesComeInFragments(t *testing.T) {
	var points []outstation.Point
	for i := range 2000 {
		points = append(points, outstation.Point{Kind: dnp3.AnalogInput, Index: uint16(i), Class: 1, Value: codec.FloatValue(float64(i))})
	}
	p := join(t, outstation.Config{Buffer: 10000}, points, master.Options{})
	p.set(func(now time.Time, o *outstation.Outstation) {
		for i := range 5000 {
			o.Set(now, dnp3.AnalogInput, uint16(i%2000), codec.FloatValue(float64(i)+0.5), dnp3.Online)
		}
	})
	a, err := p.Read(master.Events, nil)
	require.NoError(t, err)
	assert.Zero(t, a.IIN&dnp3.IINOverflow)
	list := p.take()
	require.Len(t, list, 5000)
	for i, m := range list {
		f, _ := m.Value.Float()
		require.Equal(t, float64(i)+0.5, f)
	}
	_, err = p.Read(master.Class0, nil)
	require.NoError(t, err)
	assert.Len(t, p.take(), 2000)
}
