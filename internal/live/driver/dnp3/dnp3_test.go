package dnp3

import (
	"context"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
	"arithmon/internal/protocol/dnp3/outstation"
)

func TestClause11_6_FlagsBecomeQuality(t *testing.T) {
	for _, c := range []struct {
		name    string
		kind    dnp3.Kind
		flags   dnp3.Flags
		quality reading.Quality
		reason  reading.Reason
	}{
		{"online", dnp3.BinaryInput, dnp3.Online | dnp3.State, reading.Good, ""},
		{"offline", dnp3.BinaryInput, 0, reading.Bad, reading.Offline},
		{"comm lost is worse than offline", dnp3.AnalogInput, dnp3.CommLost, reading.Bad, reading.CommLost},
		{"comm lost is worse than forced", dnp3.AnalogInput, dnp3.Online | dnp3.CommLost | dnp3.RemoteForced, reading.Bad, reading.CommLost},
		{"restart", dnp3.Counter, dnp3.Online | dnp3.Restart, reading.Uncertain, reading.Restarted},
		{"remote forced", dnp3.BinaryOutput, dnp3.Online | dnp3.RemoteForced, reading.Uncertain, reading.Forced},
		{"local forced", dnp3.DoubleBitInput, dnp3.Online | dnp3.LocalForced, reading.Uncertain, reading.Forced},
		{"chatter", dnp3.BinaryInput, dnp3.Online | dnp3.Chatter, reading.Uncertain, reading.Chatter},
		{"chatter", dnp3.DoubleBitInput, dnp3.Online | dnp3.Chatter, reading.Uncertain, reading.Chatter},
		{"over-range", dnp3.AnalogInput, dnp3.Online | dnp3.OverRange, reading.Uncertain, reading.RawRange},
		{"reference error", dnp3.AnalogOutput, dnp3.Online | dnp3.ReferenceError, reading.Uncertain, reading.ReferenceError},
		{"rollover is no fault", dnp3.Counter, dnp3.Online | dnp3.Rollover, reading.Good, ""},
		{"discontinuity", dnp3.FrozenCounter, dnp3.Online | dnp3.Discontinuity, reading.Uncertain, reading.Discontinuity},
		{"the state of a double-bit is none of the counters' flags", dnp3.DoubleBitInput, dnp3.Online | 0x40, reading.Good, ""},
	} {
		m := dnp3.Measurement{Kind: c.kind, HasFlags: true, Flags: c.flags, Value: codec.UintValue(1)}
		quality, reason := qualityOf(&m)
		assert.Equal(t, c.quality, quality, "%s of a %s", c.name, c.kind)
		assert.Equal(t, c.reason, reason, "%s of a %s", c.name, c.kind)
	}
	quality, _ := qualityOf(&dnp3.Measurement{Kind: dnp3.AnalogInput, Value: codec.UintValue(1)})
	assert.Equal(t, reading.Good, quality, "without flags it is online")
	quality, reason := qualityOf(&dnp3.Measurement{Kind: dnp3.AnalogInput})
	assert.Equal(t, reading.Bad, quality)
	assert.Equal(t, reading.Decode, reason, "not a number")
	quality, reason = qualityOf(&dnp3.Measurement{Value: codec.UintValue(1), HasTime: true, Unsynchronised: true})
	assert.Equal(t, reading.Uncertain, quality)
	assert.Equal(t, reading.TimeUnsynchronised, reason)
}

func TestRawObjectsInWords(t *testing.T) {
	for want, m := range map[string]dnp3.Measurement{
		"g30v5 12.3, 0x01 online":                       {Kind: dnp3.AnalogInput, Group: 30, Variation: 5, HasFlags: true, Flags: dnp3.Online, Value: codec.FloatValue(float64(float32(12.3)))},
		"g30v6 12.3, 0x21 online, over-range":           {Kind: dnp3.AnalogInput, Group: 30, Variation: 6, HasFlags: true, Flags: 0x21, Value: codec.FloatValue(12.3)},
		"g20v5 4711":                                    {Kind: dnp3.Counter, Group: 20, Variation: 5, Value: codec.UintValue(4711)},
		"g2v1 true, 0x80 no flag set":                   {Kind: dnp3.BinaryInput, Group: 2, Variation: 1, HasFlags: true, Flags: 0x80, Value: codec.BoolValue(true)},
		"g30v5 not a number, 0x05 online, comm lost":    {Kind: dnp3.AnalogInput, Group: 30, Variation: 5, HasFlags: true, Flags: 5},
		"g110v5 HERON":                                  {Kind: dnp3.OctetString, Group: 110, Variation: 5, Value: codec.TextValue("HERON")},
		"g22v1 1, 0x61 online, rollover, discontinuity": {Kind: dnp3.Counter, Group: 22, Variation: 1, HasFlags: true, Flags: 0x61, Value: codec.UintValue(1)},
	} {
		assert.Equal(t, want, objectOf(&m).String())
	}
}

func TestOutputsAreCommandedAsTheirPointsSay(t *testing.T) {
	for _, c := range []struct {
		name string
		p    site.Point
		on   bool
		want dnp3.Output
	}{
		{"latch on", site.Point{}, true, dnp3.Output{Code: dnp3.LatchOn, Count: 1}},
		{"latch off", site.Point{DNP3Point: site.DNP3Point{Control: site.ControlLatch}}, false, dnp3.Output{Code: dnp3.LatchOff, Count: 1}},
		{"pulse", site.Point{DNP3Point: site.DNP3Point{Control: site.ControlPulse}}, true, dnp3.Output{Code: dnp3.PulseOn, Count: 1, On: 500}},
		{"pulses", site.Point{Pulse: site.Duration(time.Second), DNP3Point: site.DNP3Point{Control: site.ControlPulse, PulseOff: site.Duration(20 * time.Millisecond), PulseCount: 3}}, true, dnp3.Output{Code: dnp3.PulseOn, Count: 3, On: 1000, Off: 20}},
		{"close", site.Point{DNP3Point: site.DNP3Point{Control: site.ControlTripClose}}, true, dnp3.Output{Code: dnp3.Close | dnp3.PulseOn, Count: 1, On: 500}},
		{"trip", site.Point{DNP3Point: site.DNP3Point{Control: site.ControlTripClose}}, false, dnp3.Output{Code: dnp3.Trip | dnp3.PulseOn, Count: 1, On: 500}},
	} {
		got, err := outputOf(c.p, c.on)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, got, c.name)
	}
	_, err := outputOf(site.Point{DNP3Point: site.DNP3Point{Control: site.ControlPulse}}, false)
	assert.ErrorContains(t, err, "goes back by itself")
}

func TestJobsOfAStation(t *testing.T) {
	address := 10
	st := site.Station{Name: "rtu", DNP3Station: site.DNP3Station{Outstation: &address}}
	periods := func(edit func(*site.Station)) map[time.Duration]master.Classes {
		s := st
		edit(&s)
		list := map[time.Duration]master.Classes{}
		for _, work := range New().Jobs(site.Link{}, link.Station{Station: s}) {
			j := work.(*job)
			list[j.Period()] = j.classes
		}
		return list
	}
	assert.Equal(t, map[time.Duration]master.Classes{time.Hour: master.Class0 | master.Events, 5 * time.Second: master.Events}, periods(func(*site.Station) {}))
	assert.Equal(t, map[time.Duration]master.Classes{time.Minute: master.Class0 | master.Events, time.Second: master.Class1 | master.Class3, 2 * time.Second: master.Class2},
		periods(func(s *site.Station) {
			s.IntegrityPoll, s.EventPoll, s.Class2Poll = site.Duration(time.Minute), site.Duration(time.Second), site.Duration(2*time.Second)
		}))
	assert.Equal(t, map[time.Duration]master.Classes{time.Hour: master.Class0 | master.Events, time.Minute: master.Events, 15 * time.Second: 0},
		periods(func(s *site.Station) { s.EventPoll = site.Duration(time.Minute) }), "a sign of life where nothing else is asked often")
}

// host takes what a session tells.
type host struct {
	link.Host
	mu       sync.Mutex
	timeouts int
	notes    map[diagnose.NoteKind]diagnose.Note
	says     []string
}

func (h *host) FrameSeen(f link.Frame) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if f.Kind == traffic.Timeout {
		h.timeouts++
	}
}

func (h *host) Note(_ string, n diagnose.Note) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.notes[n.Kind] = n; n.Text == "" {
		delete(h.notes, n.Kind)
	}
}

func (h *host) DeviceState(_ string, what []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.says = what
}

// yard is a session with one station on a simulated outstation.
type yard struct {
	*host
	session link.Session
	jobs    []link.Job
	station link.Station
	line    *outstation.Line
	far     *outstation.Outstation
}

func open(t *testing.T, c outstation.Config, edit func(*site.Station), faults func() outstation.Faults) *yard {
	t.Helper()
	c.Address, c.Master = 10, 1
	y := &yard{far: outstation.New(c, []outstation.Point{
		{Kind: dnp3.BinaryInput, Index: 0, Class: 1}, {Kind: dnp3.AnalogInput, Index: 0, Class: 2, Value: codec.FloatValue(7)}, {Kind: dnp3.AnalogInput, Index: 1, Hidden: true, Value: codec.FloatValue(8)},
	})}
	y.line = &outstation.Line{Outstations: []*outstation.Outstation{y.far}, Lock: new(sync.Mutex), Faults: func(*outstation.Outstation) outstation.Faults {
		if faults == nil {
			return outstation.Faults{}
		}
		return faults()
	}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	var serving sync.WaitGroup
	serving.Go(func() { y.line.Listen(ctx, listener) })
	address := 10
	st := site.NewStation()
	st.Name, st.Link, st.Outstation = "rtu", "yard", &address
	if edit != nil {
		edit(&st)
	}
	var points []site.Point
	for tag, a := range map[string]site.Address{"closed": {Space: site.BinaryInputs}, "seen": {Space: site.AnalogInputs}, "hidden": {Space: site.AnalogInputs, Offset: 1}, "missing": {Space: site.AnalogInputs, Offset: 9}} {
		points = append(points, site.Point{Tag: tag, Station: "rtu", Address: a}.WithDefaults())
	}
	table, station := link.NewBench(st, points)
	y.host, y.station = &host{Host: table, notes: map[diagnose.NoteKind]diagnose.Note{}}, station
	l := site.NewLink()
	l.Name, l.Protocol, l.Host, l.Port, l.Timeout = "yard", site.DNP3, "127.0.0.1", listener.Addr().(*net.TCPAddr).Port, site.Duration(300*time.Millisecond)
	driver := New()
	y.jobs = driver.Jobs(l, station)
	y.session, err = driver.Open(t.Context(), l.WithDefaults(), y.host)
	require.NoError(t, err)
	y.session.(link.Reporter).Follow(station)
	y.session.(link.Reporter).Begin()
	t.Cleanup(func() { y.session.Close(); cancel(); serving.Wait() })
	return y
}

// seen are the notes that stand.
func (y *yard) seen() (kinds []diagnose.NoteKind) {
	y.mu.Lock()
	defer y.mu.Unlock()
	for k := range y.notes {
		kinds = append(kinds, k)
	}
	return kinds
}

func TestThePointsThatAnOutstationDoesNotHave(t *testing.T) {
	y := open(t, outstation.Config{}, nil, nil)
	require.NoError(t, y.session.Do(y.jobs[0]).Err)
	assert.Equal(t, "it has no ai:9", y.notes[diagnose.NoteMissing].Text, "what is not in class 0 was read by itself")
	samples, err := y.session.Read(y.station.Station, site.Range{Start: site.Address{Space: site.AnalogInputs}, Count: 2})
	require.NoError(t, err)
	assert.Equal(t, codec.FloatValue(8), samples[1].Value)
	_, err = y.session.Read(y.station.Station, site.Range{Start: site.Address{Space: site.AnalogInputs, Offset: 9}, Count: 1})
	assert.ErrorContains(t, err, "parameter error")
	_, err = y.session.Read(y.station.Station, site.Range{Start: site.Address{Space: site.HoldingRegisters}, Count: 1})
	assert.ErrorContains(t, err, "no DNP3 address")
}

func TestTheStartUpOfASession(t *testing.T) {
	y := open(t, outstation.Config{NeedTime: true, Unsolicited: true}, func(s *site.Station) { s.TimeSync, s.LinkReset, s.Unsolicited = site.TimeSyncLAN, true, true }, nil)
	require.NoError(t, y.session.Do(y.jobs[0]).Err)
	assert.Empty(t, y.says, "the restart is cleared and the time set")
	y.line.Lock.Lock()
	off := time.Until(y.far.Clock(time.Now()).Go())
	y.line.Lock.Unlock()
	assert.Less(t, off.Abs(), time.Second)
	said, err := y.session.(link.Performer).Perform(y.station.Station, "test-link")
	require.NoError(t, err)
	assert.Equal(t, "its data link layer keeps count with ours", said)
	_, err = y.session.(link.Performer).Perform(y.station.Station, "dance")
	assert.Error(t, err)
}

func TestAFunctionThatIsRefusedIsNotedAndNotAskedAgain(t *testing.T) {
	y := open(t, outstation.Config{}, func(s *site.Station) { s.Unsolicited = true }, nil) // which it does not have
	require.NoError(t, y.session.Do(y.jobs[0]).Err)
	assert.Contains(t, y.seen(), diagnose.NoteNoFunction)
	assert.Contains(t, y.notes[diagnose.NoteNoFunction].Text, "enable unsolicited responses was refused: function not supported")
}

func TestASilentOutstationCostsOneTimeout(t *testing.T) {
	var mu sync.Mutex
	faults := outstation.Faults{Silent: true}
	y := open(t, outstation.Config{}, nil, func() outstation.Faults {
		mu.Lock()
		defer mu.Unlock()
		return faults
	})
	for i := range 3 {
		out := y.session.Do(y.jobs[0])
		assert.Equal(t, reading.Timeout, out.Reason)
		assert.False(t, out.Answered)
		y.mu.Lock()
		assert.Equal(t, i+1, y.timeouts)
		y.mu.Unlock()
	}
	mu.Lock()
	faults = outstation.Faults{LinkOnly: true}
	mu.Unlock()
	assert.Error(t, y.session.Do(y.jobs[0]).Err)
	assert.Contains(t, y.seen(), diagnose.NoteLinkOnly)
	mu.Lock()
	faults = outstation.Faults{}
	mu.Unlock()
	require.NoError(t, y.session.Do(y.jobs[0]).Err)
	assert.NotContains(t, y.seen(), diagnose.NoteLinkOnly)
}

// counting is a host that counts the points of which samples come.
type counting struct {
	link.Host
	points map[string]int
}

func (c *counting) Emit(samples []table.Sample) {
	for _, s := range samples {
		c.points[s.Slot.Point.Tag]++
	}
}

func TestEventsOfPointsThatNobodyConfiguredAreAllKept(t *testing.T) {
	kept := &counting{points: map[string]int{}}
	st := site.NewStation()
	st.Name = "rtu"
	r := &remote{session: &session{host: kept}, station: st, unknown: map[identity]*table.Slot{}, samples: make([]table.Sample, 0, emitted)}
	const points = mostUnknown + 1000
	for range 2 {
		for i := range points {
			r.unconfigured(&dnp3.Measurement{Kind: dnp3.BinaryInput, Index: uint16(i), Event: true})
		}
	}
	r.emit()
	assert.Len(t, kept.points, points)
	assert.Equal(t, 2, kept.points[fmt.Sprintf("rtu bi:%d", points-1)])
	assert.Len(t, r.unknown, mostUnknown)
}
