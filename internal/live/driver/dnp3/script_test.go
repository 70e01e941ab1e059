package dnp3

import (
	"bytes"
	"fmt"
	"net"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// script is an outstation in octets, which shares no code with the master or the simulated one. It answers each request with what
// says makes of it.
type script struct {
	mu    sync.Mutex
	asked []string // requests, in hex without the sequence number
	says  func(s *script, function byte, objects []byte) (iin uint16, answer []byte, silent bool)

	restart, needTime bool
	output            bool // of g10
	conn              net.Conn
}

func scriptFrame(control byte, data []byte) []byte { return farend.DNP3Frame(control, 1, 10, data) }

// serve answers on a connection.
func (s *script) serve(conn net.Conn) {
	for {
		head, data, err := farend.ReadDNP3Frame(conn)
		if err != nil {
			return
		}
		switch head[3] & 0x0F {
		case 9:
			conn.Write(scriptFrame(0x0B, nil))
		case 4:
			s.mu.Lock()
			control, function, objects := data[1], data[2], data[3:]
			if function == 0 {
				s.mu.Unlock()
				continue
			}
			s.asked = append(s.asked, fmt.Sprintf("%02X% X", function, append([]byte{}, objects...)))
			iin, answer, silent := s.says(s, function, objects)
			if s.restart {
				iin |= 0x80
			}
			if s.needTime {
				iin |= 0x10
			}
			s.mu.Unlock()
			if !silent {
				conn.Write(scriptFrame(0x44, append([]byte{0xC0, 0xC0 | control&15, 0x81, byte(iin), byte(iin >> 8)}, answer...)))
			}
		}
	}
}

// count is how often a request was made that begins so.
func (s *script) count(prefix string) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.asked {
		if bytes.HasPrefix([]byte(a), []byte(prefix)) {
			n++
		}
	}
	return n
}

// The requests that the tests count.
const (
	integrityRequest = "013C 02 06 3C 03 06 3C 04 06 3C 01 06"
	eventsRequest    = "013C 02 06 3C 03 06 3C 04 06"
	clearRequest     = "0250 01 00 07 07 00"
	disableRequest   = "15"
	recordRequest    = "18"
)

// usual answers as a plain outstation does: binary input 0, output 3, and its clock.
func usual(s *script, function byte, objects []byte) (iin uint16, answer []byte, silent bool) {
	state := byte(0x01)
	if s.output {
		state = 0x81
	}
	switch {
	case function == 1 && bytes.HasPrefix(objects, []byte{50}):
		at := time.Now().UnixMilli()
		return 0, []byte{50, 1, 7, 1, byte(at), byte(at >> 8), byte(at >> 16), byte(at >> 24), byte(at >> 32), byte(at >> 40)}, false
	case function == 1 && bytes.HasPrefix(objects, []byte{10}):
		return 0, []byte{10, 2, 0, 3, 3, state}, false
	case function == 1 && bytes.HasSuffix(objects, []byte{60, 1, 6}):
		return 0, []byte{1, 2, 0, 0, 0, 0x81, 10, 2, 0, 3, 3, state}, false
	case function == 3 || function == 4 || function == 5:
		return 0, objects, false
	}
	return 0, nil, false
}

// hurrying is a host that counts how often jobs are brought forward.
type hurrying struct {
	*host
	hurried int
}

func (h *hurrying) PollNow(string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.hurried++
}

// scripted is a session with one station on a script.
type scripted struct {
	*hurrying
	*script
	session link.Session
	jobs    []link.Job
	station link.Station
}

func perform(t *testing.T, s *script, edit func(*site.Station), more ...site.Point) *scripted {
	t.Helper()
	if s.says == nil {
		s.says = usual
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var serving sync.WaitGroup
	serving.Go(func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			s.mu.Lock()
			s.conn = conn
			s.mu.Unlock()
			serving.Go(func() { s.serve(conn) })
		}
	})
	address := 10
	st := site.NewStation()
	st.Name, st.Link, st.Outstation = "rtu", "yard", &address
	if edit != nil {
		edit(&st)
	}
	points := []site.Point{
		{Tag: "closed", Station: "rtu", Address: site.Address{Space: site.BinaryInputs}},
		{Tag: "cmd", Station: "rtu", Address: site.Address{Space: site.BinaryOutputs, Offset: 3}, Writable: true, DNP3Point: site.DNP3Point{Control: site.ControlPulse}, Pulse: site.Duration(100 * time.Millisecond)},
	}
	points = append(points, more...)
	for i := range points {
		points[i] = points[i].WithDefaults()
	}
	table, station := link.NewBench(st, points)
	c := &scripted{hurrying: &hurrying{host: &host{Host: table, notes: map[diagnose.NoteKind]diagnose.Note{}}}, script: s, station: station}
	l := site.NewLink()
	l.Name, l.Protocol, l.Host, l.Port, l.Timeout = "yard", site.DNP3, "127.0.0.1", listener.Addr().(*net.TCPAddr).Port, site.Duration(250*time.Millisecond)
	driver := New()
	c.jobs = driver.Jobs(l, station)
	c.session, err = driver.Open(t.Context(), l.WithDefaults(), c)
	require.NoError(t, err)
	c.session.(link.Reporter).Follow(station)
	c.session.(link.Reporter).Begin()
	t.Cleanup(func() {
		c.session.Close()
		listener.Close()
		s.mu.Lock()
		if s.conn != nil {
			s.conn.Close()
		}
		s.mu.Unlock()
		serving.Wait()
	})
	return c
}

// reads is the reading of a point.
func (c *scripted) reads(tag string) reading.Reading {
	i := slices.IndexFunc(c.station.Slots, func(s *table.Slot) bool { return s.Point.Tag == tag })
	return c.station.Slots[i].Reading()
}

func (c *scripted) slot(tag string) *table.Slot {
	return c.station.Slots[slices.IndexFunc(c.station.Slots, func(s *table.Slot) bool { return s.Point.Tag == tag })]
}

func (c *scripted) poll(t *testing.T, job int) {
	t.Helper()
	require.NoError(t, c.session.Do(c.jobs[job]).Err)
}

func TestARestartIndicationAtTheStartLeadsToOneIntegrityPoll(t *testing.T) {
	c := perform(t, &script{restart: true, says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		if function == 2 {
			s.restart = false
		}
		return usual(s, function, objects)
	}}, nil)
	c.poll(t, 0)
	c.poll(t, 1)
	assert.Equal(t, 1, c.count(integrityRequest))
	assert.Equal(t, 1, c.count(clearRequest))
	assert.Empty(t, c.notes[diagnose.NoteRestarted].Text)
	c.mu.Lock()
	c.restart = true // it restarts
	c.mu.Unlock()
	c.poll(t, 1)
	c.poll(t, 1)
	assert.Equal(t, 2, c.count(integrityRequest))
	assert.Equal(t, 2, c.count(clearRequest))
	assert.NotEmpty(t, c.notes[diagnose.NoteRestarted].Text)
}

func TestARestartIndicationThatStaysIsClearedSeldom(t *testing.T) {
	c := perform(t, &script{restart: true}, nil)
	for range 4 {
		c.poll(t, 1)
	}
	assert.LessOrEqual(t, c.count(clearRequest), 2)
	assert.Equal(t, 1, c.count(integrityRequest))
}

func TestTheClockIsSetOnceThoughTheIndicationStays(t *testing.T) {
	c := perform(t, &script{needTime: true}, func(s *site.Station) { s.TimeSync = site.TimeSyncLAN })
	for range 4 {
		c.poll(t, 1)
	}
	assert.Equal(t, 1, c.count(recordRequest))
}

func TestAClockThatIsWrongIsSetThoughTheStationDoesNotAsk(t *testing.T) {
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		iin, answer, silent := usual(s, function, objects)
		if len(answer) == 10 {
			answer[9] = 2 // of another year
		}
		return iin, answer, silent
	}}, func(s *site.Station) { s.TimeSync = site.TimeSyncLAN })
	c.poll(t, 0)
	c.poll(t, 1)
	assert.Equal(t, 1, c.count(recordRequest))
	assert.NotEmpty(t, c.notes[diagnose.NoteTime].Text)
}

func TestAnOutstationThatNeverAnswersToDisableIsPolledAllTheSame(t *testing.T) {
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		iin, answer, _ := usual(s, function, objects)
		return iin, answer, function == 21
	}}, nil)
	assert.Error(t, c.session.Do(c.jobs[0]).Err)
	c.poll(t, 0)
	assert.Equal(t, reading.Good, c.reads("closed").Quality)
	assert.Equal(t, 2, c.count(disableRequest))
	assert.Contains(t, c.notes[diagnose.NoteNoFunction].Text, "was not answered")
}

func TestClassesThatAreRefusedAreFoundSinglyAndReplaced(t *testing.T) {
	for name, iin := range map[string]uint16{"IIN2.0": 0x100, "IIN2.1": 0x200, "IIN2.2": 0x400} {
		t.Run(name, func(t *testing.T) {
			c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
				if function == 1 && bytes.Contains(objects, []byte{60, 4, 6}) {
					return iin, nil, false
				}
				return usual(s, function, objects)
			}}, nil)
			c.poll(t, 0)
			assert.Equal(t, reading.Good, c.reads("closed").Quality)
			c.poll(t, 1)
			assert.Equal(t, 1, c.count("013C 02 06 3C 03 06"+"")-c.count(integrityRequest), "classes 1 and 2 together")
			assert.Contains(t, c.notes[diagnose.NoteNoClass].Text, "reading class 3 was refused")
		})
	}
}

func TestWhenEveryReadIsRefusedNothingIsGood(t *testing.T) {
	refuse := false
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		if function == 1 && refuse && objects[0] != 50 {
			return 0x400, nil, false
		}
		return usual(s, function, objects)
	}}, nil)
	c.poll(t, 0)
	require.Equal(t, reading.Good, c.reads("closed").Quality)
	c.script.mu.Lock()
	refuse = true
	c.script.mu.Unlock()
	out := c.session.Do(c.jobs[0])
	assert.True(t, out.Answered)
	assert.Error(t, out.Err)
	assert.Equal(t, reading.Bad, c.reads("closed").Quality)
	assert.Contains(t, c.notes[diagnose.NoteNoClass].Text, "reading class 0 was refused")
}

func TestWhatIsMissingIsNotGoodAnyMore(t *testing.T) {
	gone := false
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		iin, answer, silent := usual(s, function, objects)
		if gone && len(answer) > 0 && answer[0] == 1 {
			answer = answer[6:]
		}
		if gone && function == 1 && objects[0] == 1 {
			iin, answer = 0x400, nil
		}
		return iin, answer, silent
	}}, nil)
	c.poll(t, 0)
	require.Equal(t, reading.Good, c.reads("closed").Quality)
	c.script.mu.Lock()
	gone = true
	c.script.mu.Unlock()
	c.poll(t, 0)
	assert.Equal(t, reading.Bad, c.reads("closed").Quality)
	assert.Equal(t, reading.Good, c.reads("cmd").Quality, "its neighbours stay")
}

func TestMoreEventsBringTheNextPollForward(t *testing.T) {
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		iin, answer, silent := usual(s, function, objects)
		if function == 1 && bytes.Equal(objects, []byte{60, 2, 6, 60, 3, 6, 60, 4, 6}) {
			return 0x02, []byte{2, 1, 0x17, 1, 0, 0x81}, false // one event, and there are more
		}
		return iin, answer, silent
	}}, nil)
	c.poll(t, 0)
	before := c.hurried
	c.poll(t, 1)
	assert.Equal(t, before+1, c.hurried)
}

func TestEventsOfPointsThatNobodyConfiguredAreKept(t *testing.T) {
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		iin, answer, silent := usual(s, function, objects)
		if function == 1 && bytes.Equal(objects, []byte{60, 2, 6, 60, 3, 6, 60, 4, 6}) {
			return 0, []byte{2, 1, 0x17, 2, 7, 0x81, 0, 0x01}, false
		}
		return iin, answer, silent
	}}, nil)
	c.poll(t, 0)
	c.poll(t, 1)
	list, _ := c.Host.(link.Bench).Events().After(nil, 0, 10)
	var tags []string
	for _, e := range list {
		tags = append(tags, e.Point.Tag+" "+e.Text())
	}
	assert.Equal(t, []string{"rtu bi:7 true", "closed false"}, tags)
}

func TestAPulseWhoseReadBackIsLostIsNotDone(t *testing.T) {
	lose := false
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		iin, answer, silent := usual(s, function, objects)
		if function >= 3 && function <= 5 {
			lose = true
		}
		return iin, answer, silent || lose && function == 1 && objects[0] == 10
	}}, nil)
	c.poll(t, 0)
	w := c.session.Write(c.station.Station, link.Command{Slot: c.slot("cmd"), Address: site.Address{Space: site.BinaryOutputs, Offset: 3}, Raw: []codec.Value{codec.BoolValue(true)}})
	assert.True(t, w.Accepted)
	assert.Nil(t, w.After, "nothing was read")
	assert.Error(t, w.Err)
}

// While a pulse lasts the output is on; the point shows it off again once the pulse has ended.
func TestAnOutputIsReadAgainAfterItsPulse(t *testing.T) {
	c := perform(t, &script{says: func(s *script, function byte, objects []byte) (uint16, []byte, bool) {
		if function == 4 || function == 5 {
			s.output = true
			time.AfterFunc(100*time.Millisecond, func() {
				s.mu.Lock()
				defer s.mu.Unlock()
				s.output = false
			})
		}
		return usual(s, function, objects)
	}}, nil)
	c.poll(t, 0)
	before := c.hurried
	w := c.session.Write(c.station.Station, link.Command{Slot: c.slot("cmd"), Address: site.Address{Space: site.BinaryOutputs, Offset: 3}, Raw: []codec.Value{codec.BoolValue(true)}})
	require.NoError(t, w.Err)
	assert.Equal(t, codec.BoolValue(true), c.reads("cmd").Value)
	require.Eventually(t, func() bool {
		c.hurrying.mu.Lock()
		defer c.hurrying.mu.Unlock()
		return c.hurried > before
	}, 5*time.Second, time.Millisecond, "it asks to be polled")
	c.poll(t, 1)
	assert.Equal(t, codec.BoolValue(false), c.reads("cmd").Value)
	assert.Equal(t, reading.Good, c.reads("cmd").Quality)
}

func TestAnAssignedClassIsNotReadBack(t *testing.T) {
	class := site.Point{Tag: "class", Station: "rtu", Address: site.Address{Space: site.BinaryInputs, Part: site.EventClass}, Writable: true}
	c := perform(t, &script{}, nil, class)
	c.poll(t, 0)
	w := c.session.Write(c.station.Station, link.Command{Slot: c.slot("class"), Address: class.Address, Raw: []codec.Value{codec.UintValue(2)}})
	assert.True(t, w.Accepted)
	assert.ErrorContains(t, w.Err, "the standard has no request that reads the class")
	assert.Nil(t, w.After)
	assert.NotEqual(t, reading.Good, c.reads("class").Quality)
}

// One response with a size before an object ended the whole service.
func TestResponsesThatAreNoneEndNothing(t *testing.T) {
	for name, objects := range map[string][]byte{
		"too short": {0x1E, 1, 0x5B, 1, 1, 0, 1}, "too long": {2, 2, 0x5B, 1, 3, 0, 'a', 'b', 'c'}, "text": {0x6E, 4, 0x5B, 1, 2, 0, 'a', 'b'},
		"deadband": {34, 1, 0x5B, 1, 1, 0, 1}, "clock": {50, 1, 0x5B, 1, 1, 0, 1},
	} {
		t.Run(name, func(t *testing.T) {
			c := perform(t, &script{says: func(s *script, function byte, _ []byte) (uint16, []byte, bool) {
				if function == 1 {
					return 0, objects, false
				}
				return 0, nil, false
			}}, nil)
			c.session.Do(c.jobs[0])
			c.session.Read(c.station.Station, site.Range{Start: site.Address{Space: site.AnalogInputs, Part: site.Deadband}, Count: 3})
			assert.False(t, c.session.Lost())
			if objects[0] < 34 {
				assert.Contains(t, c.notes[diagnose.NoteNoObject].Text, "objects with a size instead of an index")
			}
		})
	}
}
