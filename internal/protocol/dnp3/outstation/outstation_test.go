package outstation_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/outstation"
)

// talk is an outstation that is asked octet by octet, without a connection and with a clock of its own.
type talk struct {
	*outstation.Outstation
	t   *testing.T
	now time.Time
}

var points = []outstation.Point{
	{Kind: dnp3.BinaryInput, Index: 0, Class: 1}, {Kind: dnp3.BinaryInput, Index: 1, Class: 1, Static: 1}, {Kind: dnp3.BinaryInput, Index: 2, Class: 1, Static: 1},
	{Kind: dnp3.BinaryInput, Index: 7, Class: 2},
	{Kind: dnp3.BinaryOutput, Index: 0, Class: 2}, {Kind: dnp3.BinaryOutput, Index: 1},
	{Kind: dnp3.Counter, Index: 0, Class: 3, Value: codec.UintValue(5)}, {Kind: dnp3.FrozenCounter, Index: 0, Class: 3},
	{Kind: dnp3.AnalogInput, Index: 0, Class: 2, Static: 1, Event: 1, Deadband: 10}, {Kind: dnp3.AnalogInput, Index: 1, Hidden: true, Value: codec.IntValue(9)},
	{Kind: dnp3.AnalogOutput, Index: 0},
}

func begin(t *testing.T, c outstation.Config) *talk {
	c.Address, c.Master = 10, 1
	return &talk{outstation.New(c, points), t, time.Date(2026, 5, 1, 8, 0, 0, 0, time.UTC)}
}

// ask sends a request with a sequence number and returns the only response.
func (k *talk) ask(seq byte, f dnp3.Function, objects ...byte) dnp3.Fragment {
	k.t.Helper()
	sent := k.Receive(k.now, 1, false, append([]byte{0xC0 | seq, byte(f)}, objects...))
	require.Len(k.t, sent, 1)
	return k.parse(sent[0])
}

func (k *talk) parse(s outstation.Send) dnp3.Fragment {
	k.t.Helper()
	assert.Equal(k.t, uint16(1), s.To)
	f, err := dnp3.ParseFragment(s.Fragment)
	require.NoError(k.t, err)
	return f
}

func (k *talk) confirm(c dnp3.AppControl) []outstation.Send {
	return k.Receive(k.now, 1, false, []byte{byte(0xC0 | c&dnp3.Unsolicited | dnp3.AppControl(c.Seq())), 0})
}

func (k *talk) set(kind dnp3.Kind, index uint16, v codec.Value) {
	k.now = k.now.Add(time.Millisecond)
	k.Set(k.now, kind, index, v, dnp3.Online)
}

// headers are the object headers of a fragment.
func headers(f dnp3.Fragment) (list []string) {
	o := dnp3.ReadObjects(f.Objects, dnp3.FuncResponse)
	for o.Next() {
		list = append(list, o.Header.String())
	}
	return list
}

func TestClause4_4_2_ReadByClassAndRange(t *testing.T) {
	k := begin(t, outstation.Config{})
	f := k.ask(0, dnp3.FuncRead, 60, 1, 6)
	assert.Equal(t, dnp3.First|dnp3.Final, f.Control)
	assert.Equal(t, []string{"g1v2 0 to 0", "g1v1 1 to 2", "g1v2 7 to 7", "g10v2 0 to 1", "g20v1 0 to 0", "g21v5 0 to 0", "g30v1 0 to 0", "g40v3 0 to 0"}, headers(f), "next to each other and alike under one header; hidden ones left out")
	for _, c := range []struct {
		name    string
		objects []byte
		want    []string
		iin     dnp3.IIN
	}{
		{"all of a group", []byte{30, 0, 6}, []string{"g30v1 0 to 0", "g30v5 1 to 1"}, 0},
		{"in a variation", []byte{30, 2, 6}, []string{"g30v2 0 to 1"}, 0},
		{"a range", []byte{1, 2, 0, 1, 2}, []string{"g1v2 1 to 2"}, 0},
		{"a range that is not all there", []byte{1, 2, 0, 2, 7}, []string{"g1v2 2 to 2", "g1v2 7 to 7"}, dnp3.IINParameterError},
		{"an index that is not there", []byte{1, 2, 0x17, 2, 0, 9}, []string{"g1v2 0 to 0"}, dnp3.IINParameterError},
		{"the first so many", []byte{1, 2, 7, 2}, []string{"g1v2 0 to 1"}, 0},
		{"an unknown group", []byte{99, 1, 6}, nil, dnp3.IINUnknownObject},
		{"an unknown variation", []byte{30, 9, 6}, nil, dnp3.IINUnknownObject},
		{"deadbands", []byte{34, 1, 0, 0, 1}, []string{"g34v1 0 to 1"}, 0},
		{"the time", []byte{50, 1, 7, 1}, []string{"g50v1 1 objects"}, 0},
		{"a header that ends early", []byte{1, 2, 0, 2}, nil, dnp3.IINParameterError},
	} {
		f := k.ask(1, dnp3.FuncRead, c.objects...)
		assert.Equal(t, c.want, headers(f), c.name)
		assert.Equal(t, c.iin, f.IIN&^dnp3.IINRestart, c.name)
	}
	assert.Equal(t, dnp3.IINNoFunction, k.ask(2, 31).IIN&^dnp3.IINRestart)
	assert.Empty(t, k.Receive(k.now, 2, false, []byte{0xC0, 1, 60, 1, 6}), "another master is not answered")
	assert.Empty(t, k.Receive(k.now, 1, false, []byte{0xC0}), "nor what is no fragment")
}

func TestClause4_4_7_EventsStayUntilTheyAreConfirmed(t *testing.T) {
	k := begin(t, outstation.Config{})
	k.set(dnp3.BinaryInput, 0, codec.BoolValue(true))
	k.set(dnp3.AnalogInput, 0, codec.IntValue(5)) // within its deadband
	k.set(dnp3.AnalogInput, 0, codec.IntValue(11))
	read := []byte{60, 2, 6, 60, 3, 6}
	f := k.ask(3, dnp3.FuncRead, read...)
	assert.Equal(t, []string{"g2v2 1 objects", "g32v1 1 objects"}, headers(f))
	assert.NotZero(t, f.Control&dnp3.Confirm)
	assert.Zero(t, f.IIN&dnp3.IINEvents, "all there are, are in it")
	again := k.ask(4, dnp3.FuncRead, read...)
	assert.Equal(t, f.Objects, again.Objects, "it was not confirmed")
	k.confirm(3)
	assert.NotEmpty(t, headers(k.ask(5, dnp3.FuncRead, read...)), "a confirmation of another response is none")
	k.confirm(5)
	assert.Empty(t, headers(k.ask(6, dnp3.FuncRead, read...)))

	k.set(dnp3.BinaryInput, 7, codec.BoolValue(true))
	f = k.ask(7, dnp3.FuncRead, 60, 2, 6)
	assert.Empty(t, headers(f))
	assert.Equal(t, dnp3.IINClass2, f.IIN&dnp3.IINEvents, "those of another class are told of")
	f = k.ask(8, dnp3.FuncRead, 60, 3, 6)
	k.now = k.now.Add(time.Minute)
	k.Tick(k.now)
	assert.Empty(t, k.confirm(8), "too late")
	assert.Equal(t, headers(f), headers(k.ask(9, dnp3.FuncRead, 60, 3, 6)))
}

func TestClause4_2_2_6_OverflowDropsTheOldest(t *testing.T) {
	k := begin(t, outstation.Config{Buffer: 3})
	for i := range 5 {
		k.set(dnp3.BinaryInput, 0, codec.BoolValue(i%2 == 0))
	}
	f := k.ask(0, dnp3.FuncRead, 60, 2, 6)
	assert.NotZero(t, f.IIN&dnp3.IINOverflow)
	var states []bool
	require.NoError(t, dnp3.Measurements(f.Objects, func(m *dnp3.Measurement, _ *dnp3.Objects) { states = append(states, m.Value.Bool()) }))
	assert.Equal(t, []bool{true, false, true}, states)
	k.confirm(0)
	assert.Zero(t, k.ask(1, dnp3.FuncRead, 60, 2, 6).IIN&dnp3.IINOverflow)
}

func TestClause4_4_3_SelectAndOperate(t *testing.T) {
	on := append([]byte{12, 1, 0x17, 1, 0}, dnp3.AppendOutput(nil, dnp3.Output{Code: dnp3.LatchOn, Count: 1})...)
	status := func(f dnp3.Fragment) dnp3.Status { return dnp3.Status(f.Objects[len(f.Objects)-1]) }
	k := begin(t, outstation.Config{SelectTimeout: time.Second})
	assert.Equal(t, dnp3.StatusNoSelect, status(k.ask(0, dnp3.FuncOperate, on...)), "without a select")
	assert.Equal(t, on, k.ask(1, dnp3.FuncSelect, on...).Objects, "the objects come back as they were sent")
	v, _ := k.Value(dnp3.BinaryOutput, 0)
	assert.False(t, v.Bool(), "a select moves nothing")
	assert.Equal(t, dnp3.StatusSuccess, status(k.ask(2, dnp3.FuncOperate, on...)))
	v, _ = k.Value(dnp3.BinaryOutput, 0)
	assert.True(t, v.Bool())
	k.ask(3, dnp3.FuncSelect, on...)
	assert.Equal(t, dnp3.StatusNoSelect, status(k.ask(5, dnp3.FuncOperate, on...)), "the sequence number must follow")
	k.ask(6, dnp3.FuncSelect, on...)
	k.now = k.now.Add(2 * time.Second)
	assert.Equal(t, dnp3.StatusTimeout, status(k.ask(7, dnp3.FuncOperate, on...)))
	off := append([]byte{12, 1, 0x17, 1, 0}, dnp3.AppendOutput(nil, dnp3.Output{Code: dnp3.LatchOff, Count: 1})...)
	k.ask(8, dnp3.FuncSelect, on...)
	assert.Equal(t, dnp3.StatusNoSelect, status(k.ask(9, dnp3.FuncOperate, off...)), "of something else")
	nowhere := append([]byte{12, 1, 0x17, 1, 9}, dnp3.AppendOutput(nil, dnp3.Output{Code: dnp3.LatchOn, Count: 1})...)
	assert.Equal(t, dnp3.StatusNotSupported, status(k.ask(10, dnp3.FuncDirectOperate, nowhere...)))
	k.SetLocal(true)
	assert.Equal(t, dnp3.StatusLocal, status(k.ask(11, dnp3.FuncDirectOperate, on...)))
	k.SetLocal(false)

	// A repeated request is answered again and not carried out again.
	pulse := append([]byte{12, 1, 0x17, 1, 1}, dnp3.AppendOutput(nil, dnp3.Output{Code: dnp3.PulseOn, Count: 2, On: 100, Off: 50})...)
	k.ask(12, dnp3.FuncDirectOperate, pulse...)
	var moves []bool
	for range 5 {
		v, _ := k.Value(dnp3.BinaryOutput, 1)
		moves = append(moves, v.Bool())
		k.ask(12, dnp3.FuncDirectOperate, pulse...)
		if next := k.Next(); !next.IsZero() {
			k.now = next
		}
		k.Tick(k.now)
	}
	assert.Equal(t, []bool{true, false, true, false, false}, moves, "two pulses")
}

func TestClause4_4_5_Freezes(t *testing.T) {
	k := begin(t, outstation.Config{})
	frozen := func() int64 {
		v, _ := k.Value(dnp3.FrozenCounter, 0)
		f, _ := v.Float()
		return int64(f)
	}
	k.ask(0, dnp3.FuncFreezeClear, 20, 0, 6)
	assert.Equal(t, int64(5), frozen())
	v, _ := k.Value(dnp3.Counter, 0)
	assert.Equal(t, codec.UintValue(0), v)
	k.set(dnp3.Counter, 0, codec.UintValue(8))
	assert.Empty(t, k.Receive(k.now, 1, false, []byte{0xC1, byte(dnp3.FuncFreezeNR), 20, 0, 6}), "without acknowledgement")
	assert.Equal(t, int64(8), frozen())
	k.set(dnp3.Counter, 0, codec.UintValue(21))
	at := dnp3.TimeOf(k.now.Add(time.Minute))
	request := []byte{50, 2, 7, 1, byte(at), byte(at >> 8), byte(at >> 16), byte(at >> 24), byte(at >> 32), byte(at >> 40), 0, 0, 0, 0, 20, 0, 6}
	assert.Zero(t, k.ask(2, dnp3.FuncFreezeAtTime, request...).IIN&dnp3.IINRefused)
	k.Tick(k.now)
	assert.Equal(t, int64(8), frozen(), "not yet")
	assert.Equal(t, at, dnp3.TimeOf(k.Next()))
	k.Tick(k.Next())
	assert.Equal(t, int64(21), frozen())
}

func TestClause4_6_UnsolicitedResponses(t *testing.T) {
	k := begin(t, outstation.Config{Unsolicited: true, ConfirmTimeout: time.Second, MostTries: 2, HoldTime: 10 * time.Millisecond})
	first := k.Tick(k.now)
	require.Len(t, first, 1)
	f := k.parse(first[0])
	assert.Equal(t, dnp3.FuncUnsolicited, f.Function)
	assert.Empty(t, f.Objects, "the first is empty, and tells of the restart")
	assert.NotZero(t, f.IIN&dnp3.IINRestart)
	assert.Empty(t, k.Tick(k.now.Add(500*time.Millisecond)), "it waits for its confirmation")
	k.now = k.now.Add(time.Second)
	assert.Equal(t, first, k.Tick(k.now), "the same again, with the same number")
	assert.Empty(t, k.Receive(k.now, 1, false, []byte{0xC4, 1, 60, 1, 6}), "a read waits")
	answered := k.confirm(f.Control)
	require.Len(t, answered, 1)
	assert.Equal(t, dnp3.FuncResponse, k.parse(answered[0]).Function, "until the report is confirmed")

	k.set(dnp3.BinaryInput, 0, codec.BoolValue(true))
	k.now = k.now.Add(time.Second)
	assert.Empty(t, k.Tick(k.now), "classes must be enabled first")
	k.ask(5, dnp3.FuncEnableUnsolicited, 60, 2, 6)
	report := k.Tick(k.now)
	require.Len(t, report, 1)
	f = k.parse(report[0])
	assert.Equal(t, []string{"g2v2 1 objects"}, headers(f))
	for range 2 {
		k.now = k.now.Add(time.Second)
		assert.Len(t, k.Tick(k.now), 1)
	}
	k.now = k.now.Add(time.Second)
	assert.Empty(t, k.Tick(k.now), "after so many tries there is a pause")
	assert.Equal(t, []string{"g2v2 1 objects"}, headers(k.ask(6, dnp3.FuncRead, 60, 2, 6)), "and whoever asks gets it")
}

func TestClause4_4_6_WritesAndClasses(t *testing.T) {
	k := begin(t, outstation.Config{NeedTime: true})
	at := dnp3.TimeOf(k.now.Add(time.Hour))
	f := k.ask(0, dnp3.FuncWrite, append([]byte{50, 1, 7, 1}, byte(at), byte(at>>8), byte(at>>16), byte(at>>24), byte(at>>32), byte(at>>40))...)
	assert.Zero(t, f.IIN&dnp3.IINNeedTime)
	assert.Equal(t, at, k.Clock(k.now))
	assert.NotZero(t, f.IIN&dnp3.IINRestart)
	assert.Zero(t, k.ask(1, dnp3.FuncWrite, 80, 1, 0, 7, 7, 0).IIN&dnp3.IINRestart)
	assert.NotZero(t, k.ask(2, dnp3.FuncWrite, 80, 1, 0, 7, 7, 1).IIN&dnp3.IINParameterError, "it can be cleared, not set")
	assert.NotZero(t, k.ask(3, dnp3.FuncWrite, 1, 2, 0, 0, 0, 1).IIN&dnp3.IINUnknownObject, "inputs cannot be written")
	k.ask(4, dnp3.FuncAssignClass, 60, 4, 6, 1, 0, 0, 0, 0)
	k.set(dnp3.BinaryInput, 0, codec.BoolValue(true))
	assert.Empty(t, headers(k.ask(5, dnp3.FuncRead, 60, 2, 6)))
	assert.Equal(t, []string{"g2v2 1 objects"}, headers(k.ask(6, dnp3.FuncRead, 60, 4, 6)), "it is of class 3 now")
	assert.NotZero(t, k.ask(7, dnp3.FuncAssignClass, 1, 0, 6).IIN&dnp3.IINUnknownObject, "without a class")
	assert.Equal(t, []string{"g52v2 1 objects"}, headers(k.ask(8, dnp3.FuncDelayMeasure)))
	assert.NotZero(t, k.ask(9, dnp3.FuncColdRestart).IIN&dnp3.IINRestart)
}

func TestClause4_2_2_8_Broadcasts(t *testing.T) {
	k := begin(t, outstation.Config{})
	assert.Empty(t, k.Receive(k.now, 1, true, []byte{0xC0, byte(dnp3.FuncFreezeNR), 20, 0, 6}))
	v, _ := k.Value(dnp3.FrozenCounter, 0)
	assert.Equal(t, codec.UintValue(5), v)
	assert.NotZero(t, k.ask(1, dnp3.FuncRead, 60, 2, 6).IIN&dnp3.IINBroadcast)
	assert.Zero(t, k.ask(2, dnp3.FuncRead, 60, 2, 6).IIN&dnp3.IINBroadcast, "told once")

	k.MustTell()
	assert.Empty(t, k.Receive(k.now, 1, true, []byte{0xC0, byte(dnp3.FuncFreezeNR), 20, 0, 6}))
	for seq := byte(3); seq < 5; seq++ {
		f := k.ask(seq, dnp3.FuncRead, 60, 2, 6)
		assert.NotZero(t, f.IIN&dnp3.IINBroadcast, "until it is confirmed")
		assert.NotZero(t, f.Control&dnp3.Confirm)
	}
	k.confirm(4)
	f := k.ask(5, dnp3.FuncRead, 60, 2, 6)
	assert.Zero(t, f.IIN&dnp3.IINBroadcast)
	assert.Zero(t, f.Control&dnp3.Confirm)
}

func TestReadingAClassThatIsNone(t *testing.T) {
	k := begin(t, outstation.Config{})
	for _, variation := range []byte{0, 5, 255} {
		assert.NotZero(t, k.ask(variation&15, dnp3.FuncRead, 60, variation, 6).IIN&dnp3.IINUnknownObject)
	}
	assert.Zero(t, k.ask(1, dnp3.FuncRead, 60, 2, 6).IIN&dnp3.IINUnknownObject, "it goes on")
}

func FuzzReceive(f *testing.F) {
	f.Add([]byte{0xC0, 1, 60, 2, 6, 60, 1, 6}, []byte{0xC0, 0})
	f.Add(append([]byte{0xC1, 5, 12, 1, 0x28, 1, 0, 1, 0}, dnp3.AppendOutput(nil, dnp3.Output{Code: 0x41, Count: 1})...), []byte{0xC2, 2, 34, 3, 0, 0, 0, 0, 0, 0, 0})
	f.Add([]byte{0xC1, 11, 50, 2, 7, 1, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 20, 0, 6}, []byte{0xC1, 22, 60, 2, 6, 1, 0, 0x17, 2, 0, 1})
	f.Fuzz(func(t *testing.T, first, second []byte) {
		o := outstation.New(outstation.Config{Address: 10, Master: 1, Unsolicited: true, MaxFragment: 249}, points)
		now := time.Unix(1_700_000_000, 0)
		for i, b := range [][]byte{first, second, first} {
			now = now.Add(time.Second)
			o.Set(now, dnp3.BinaryInput, 0, codec.BoolValue(i%2 == 0), dnp3.Online)
			for _, s := range append(o.Receive(now, 1, i == 2, b), o.Tick(now)...) {
				fragment, err := dnp3.ParseFragment(s.Fragment)
				if err != nil || !fragment.Function.Response() {
					t.Fatalf("% X", s.Fragment)
				}
				objects := dnp3.ReadObjects(fragment.Objects, fragment.Function)
				for objects.Next() {
				}
				if objects.Err != nil {
					t.Fatalf("% X: %s", s.Fragment, objects.Err)
				}
			}
		}
	})
}
