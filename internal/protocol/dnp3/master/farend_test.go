package master_test

import (
	"encoding/hex"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// The far end of the conformance tests: octets by the text of IEEE 1815-2012. It shares no code with the master, the outstation or the
// codec, so that a fault of those is not on both sides.

// octets reads hex digits; blanks and what stands in parentheses are for the reader.
func octets(t testing.TB, s string) []byte {
	t.Helper()
	for {
		from, to := strings.IndexByte(s, '('), strings.IndexByte(s, ')')
		if from < 0 || to < from {
			break
		}
		s = s[:from] + s[to+1:]
	}
	b, err := hex.DecodeString(strings.Join(strings.Fields(s), ""))
	require.NoError(t, err, s)
	return b
}

// farFrame makes a frame from the outstation (address 10) to the master (address 1).
func farFrame(control byte, data []byte) []byte { return farend.DNP3Frame(control, 1, 10, data) }

// far is an outstation that says what it is told to, octet by octet.
type far struct {
	t    *testing.T
	conn net.Conn

	mu       sync.Mutex
	got      []string // what its handler took
	repeated int
	full     bool // nothing can be kept
	more     chan struct{}
	seen     []master.EventKind
	text     []string

	*master.Outstation
	channel *master.Channel
}

// Heard is part of master.Handler.
func (f *far) Heard() {}

// Keep is part of master.Handler.
func (f *far) Keep() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return !f.full
}

// Repeated is part of master.Handler.
func (f *far) Repeated() {
	f.mu.Lock()
	f.repeated++
	f.mu.Unlock()
	f.news()
}

// Response is part of master.Handler.
func (f *far) Response(fragment dnp3.Fragment) {
	f.mu.Lock()
	if len(fragment.Objects) == 0 {
		f.got = append(f.got, "nothing, "+fragment.IIN.String())
	}
	err := dnp3.Measurements(fragment.Objects, func(m *dnp3.Measurement, _ *dnp3.Objects) {
		if m != nil {
			f.got = append(f.got, told(m))
		}
	})
	if err != nil {
		f.got = append(f.got, "fault: "+err.Error())
	}
	f.mu.Unlock()
	f.news()
}

func (f *far) news() {
	select {
	case f.more <- struct{}{}:
	default:
	}
}

// told is a measurement in words.
func told(m *dnp3.Measurement) string {
	s := fmt.Sprintf("%s %d %s", m.Kind, m.Index, m.Value)
	if m.Value.IsZero() {
		s = fmt.Sprintf("%s %d not a number", m.Kind, m.Index)
	}
	if m.HasFlags {
		s += fmt.Sprintf(" 0x%02X", byte(m.Flags))
	}
	if m.Command {
		s += " command " + m.Status.String()
	}
	if m.Event {
		s += " event"
	}
	if m.HasTime {
		s += fmt.Sprintf(" at %d", m.Time)
		if m.Unsynchronised {
			s += " unsynchronised"
		}
	}
	return s
}

// take returns what was taken since the last call.
func (f *far) take() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	got := f.got
	f.got = nil
	return got
}

// until waits for what the handler takes.
func (f *far) until(want func() bool) {
	f.t.Helper()
	end := time.After(10 * time.Second)
	for {
		f.mu.Lock()
		ok := want()
		f.mu.Unlock()
		if ok {
			return
		}
		select {
		case <-f.more:
		case <-end:
			f.t.Fatal("it did not come")
		}
	}
}

// meet connects a master to a far end.
func meet(t *testing.T, o master.Options) *far {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	near, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	conn, err := listener.Accept()
	require.NoError(t, err)
	f := &far{t: t, conn: conn, more: make(chan struct{}, 1)}
	o.Watch = func(e master.Event) {
		f.mu.Lock()
		f.seen, f.text = append(f.seen, e.Kind), append(f.text, e.Text)
		f.mu.Unlock()
		f.news()
	}
	f.channel = master.New(near, o)
	f.Outstation = f.channel.Outstation(10, 1, f)
	f.channel.Start()
	t.Cleanup(func() {
		conn.Close()
		f.channel.Close()
	})
	return f
}

func (f *far) say(frame []byte) {
	_, err := f.conn.Write(frame)
	assert.NoError(f.t, err)
}

// fragment says a fragment as unconfirmed user data in one segment.
func (f *far) fragment(hex string) { f.say(farFrame(0x44, append([]byte{0xC0}, octets(f.t, hex)...))) }

// heard reads one frame that the master sent and returns its control octet and user data, and checks its addresses and CRCs.
func (f *far) heard() (control byte, data []byte) {
	f.conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	head, data, err := farend.ReadDNP3Frame(f.conn)
	if err != nil {
		f.t.Errorf("the master sent nothing more: %s", err)
		return 0, nil
	}
	assert.Equal(f.t, []byte{0x05, 0x64}, head[:2])
	assert.Equal(f.t, []byte{10, 0, 1, 0}, head[4:8], "to outstation 10, from master 1")
	return head[3], data
}

// expect reads a fragment in one segment; its sequence number is taken out of the comparison and returned.
func (f *far) expect(hex string) (seq byte) {
	control, data := f.heard()
	if len(data) < 3 {
		f.t.Errorf("% X instead of %s", data, hex)
		return 0
	}
	assert.Equal(f.t, byte(0xC4), control, "unconfirmed user data, from the master, primary")
	assert.Equal(f.t, byte(0xC0), data[0]&0xC0, "one segment")
	want := octets(f.t, hex)
	got := slices.Clone(data[1:])
	seq = got[0] & 0x0F
	got[0] &^= 0x0F
	assert.Equal(f.t, fmt.Sprintf("% X", want), fmt.Sprintf("% X", got))
	return seq
}

// answer says a response with a sequence number: control without it, indications, objects.
func (f *far) answer(control, seq byte, rest string) {
	f.fragment(fmt.Sprintf("%02X 81 %s", control|seq, rest))
}

// confirmed expects a confirmation.
func (f *far) confirmed(control byte) {
	_, data := f.heard()
	assert.Equal(f.t, fmt.Sprintf("%02X 00", control), fmt.Sprintf("% X", data[min(1, len(data)):]))
}
