package wire

import (
	"context"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
)

// set is a modem that answers each command, by what it begins with; what it says is read in small pieces.
type set struct {
	net.Conn
	answers map[string]string
	said    string // not yet read
	asked   []string
	gone    error
}

func (s *set) Write(b []byte) (int, error) {
	if s.gone != nil {
		return 0, s.gone
	}
	command := strings.TrimSpace(string(b))
	s.asked = append(s.asked, command)
	best := ""
	for begin := range s.answers {
		if strings.HasPrefix(command, begin) && len(begin) >= len(best) {
			best = begin
		}
	}
	s.said += string(b) + s.answers[best] // it echoes what it gets
	return len(b), nil
}

func (s *set) Read(b []byte) (int, error) {
	if s.said == "" {
		if s.gone != nil {
			return 0, s.gone
		}
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(b[:min(len(b), 5)], s.said)
	s.said = s.said[n:]
	return n, nil
}

func (s *set) SetWriteDeadline(time.Time) error { return nil }

func (s *set) SetReadDeadline(time.Time) error { return nil }
func (s *set) Close() error                    { return nil }

// modem drives a set; states are what it was doing.
func modem(s *set) (m *Modem, states *[]string) {
	states = new([]string)
	settings := site.Modem{Connect: site.Duration(10 * time.Second), Guard: site.Duration(time.Millisecond)}
	return &Modem{port: s, device: "/dev/ttyX", settings: settings.WithDefaults(), doing: func(what string) { *states = append(*states, what) }}, states
}

func TestHowCallsEnd(t *testing.T) {
	for _, c := range []struct{ answer, state, want string }{
		{"\r\nBUSY\r\n", Busy, "calling 01632: busy"},
		{"\r\nNO CARRIER\r\n", NoCarrier, "no carrier"},
		{"\r\nNO ANSWER\r\n", NoAnswer, "no answer"},
		{"\r\nNO DIALTONE\r\n", NoDialtone, "no dialtone"},
		{"\r\nNO DIAL TONE\r\n", NoDialtone, "no dialtone"},
		{"\r\nERROR\r\n", "", "the modem answers ERROR; check modem.dial and the number"},
		{"\r\nRINGING\r\n\r\nSOMETHING ELSE\r\n", NoAnswer, "no connection within 20ms"},
		{strings.Repeat("x", 5000), NoAnswer, "no connection within 20ms"},
	} {
		t.Run(c.want, func(t *testing.T) {
			m, states := modem(&set{answers: map[string]string{"ATD": c.answer}})
			if c.state == NoAnswer && !strings.Contains(c.answer, "NO ANSWER") {
				m.settings.Connect = site.Duration(20 * time.Millisecond)
			}
			_, err := m.Dial("01632")
			assert.ErrorContains(t, err, c.want)
			assert.Equal(t, []string{Dialling, c.state}, *states)
			assert.False(t, m.Gone())
		})
	}
	s := &set{gone: io.ErrClosedPipe}
	m, _ := modem(s)
	_, err := m.Dial("01632")
	assert.ErrorIs(t, err, io.ErrClosedPipe)
	assert.True(t, m.Gone(), "an adapter that was pulled out")
}

func TestTheDataOfACall(t *testing.T) {
	s := &set{answers: map[string]string{"ATD": "\r\nRINGING\r\n\r\nCONNECT 9600\r\n\x01\x03first", "+++": "\r\nOK\r\n", "ATH": "\r\nOK\r\n"}}
	m, states := modem(s)
	conn, err := m.Dial("01632")
	require.NoError(t, err)
	got := ""
	read := func() error {
		b := make([]byte, 64)
		n, err := conn.Read(b)
		got += string(b[:n])
		return err
	}
	for len(got) < 7 {
		require.NoError(t, read())
	}
	assert.Equal(t, "\x01\x03first", got, "the data begin behind the line that says so")
	s.said = "more\r\nNO CARRIER\r\n"
	for err == nil {
		err = read()
	}
	assert.ErrorIs(t, err, io.EOF, "when the modem says that the carrier is lost, the call is over")
	assert.Contains(t, got, "more")
	assert.ErrorIs(t, read(), io.EOF)
	assert.False(t, m.Dropped(), "the port is still there")
	assert.Equal(t, []string{Dialling, Connected, NoCarrier}, *states)

	s.said = ""
	s.answers["ATD"] = "\r\nERROR\r\n\r\nOK\r\n" + s.answers["ATD"] // a slow one, which answers to what went before only now
	_, err = m.Dial("01632")
	require.NoError(t, err)
	assert.Contains(t, s.asked, "AT", "a command that had been begun is ended first")
	require.NoError(t, m.HangUp())
	assert.Equal(t, []string{"+++", "ATH"}, s.asked[len(s.asked)-2:], "without DTR by the escape sequence")
	assert.Equal(t, OnHook, (*states)[len(*states)-1])
	asked := len(s.asked)
	require.NoError(t, m.HangUp())
	assert.Len(t, s.asked, asked, "once")
}

func TestAModemThatIsStopped(t *testing.T) {
	m, _ := modem(&set{})
	m.Interrupt()
	_, err := m.command(context.Background(), "AT", time.Hour)
	assert.ErrorContains(t, err, "the link was stopped")
	m, _ = modem(&set{})
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = m.command(ctx, "AT", time.Hour)
	assert.ErrorIs(t, err, context.Canceled)
}

// Whatever a modem says, a command ends.
func FuzzModem(f *testing.F) {
	f.Add("\r\nOK\r\n")
	f.Add("ATDT1\r\nCONNECT\r\n\x01\x03\r\nNO CARRIER\r\n")
	f.Add("\n\n\n\r\r\r")
	f.Fuzz(func(t *testing.T, said string) {
		s := &set{answers: map[string]string{"": said}}
		m, _ := modem(s)
		m.settings.Connect = site.Duration(time.Millisecond)
		conn, err := m.Dial("1")
		if err != nil {
			return
		}
		b, total := make([]byte, 16), 0
		for err == nil {
			var n int
			n, err = conn.Read(b)
			if total += n; total > len(said) {
				t.Fatal("more than was said")
			}
		}
	})
}

// inCall is a modem that is still in a call of which nobody here knows: it takes all for data until it is escaped.
type inCall struct {
	set
	data bool
}

func (s *inCall) Write(b []byte) (int, error) {
	if !s.data {
		return s.set.Write(b)
	}
	if s.asked = append(s.asked, strings.TrimSpace(string(b))); string(b) == "+++" {
		s.data, s.said = false, s.said+"\r\nOK\r\n"
	}
	return len(b), nil
}

func TestAModemThatIsStillInACallIsBroughtOutOfIt(t *testing.T) {
	s := &inCall{set: set{answers: map[string]string{"ATD": "\r\nCONNECT 9600\r\n", "ATH": "\r\nOK\r\n"}}, data: true}
	m, _ := modem(&s.set)
	m.port = s
	m.settings.Connect = site.Duration(20 * time.Millisecond)
	_, err := m.Dial("01632")
	assert.ErrorContains(t, err, "no connection within 20ms")
	assert.Contains(t, s.asked, "ATH")
	_, err = m.Dial("01632")
	require.NoError(t, err, "and dials again")
}

// OK that comes late is not taken for the answer to a number.
func TestAnOKThatComesLateIsNoAnswerToANumber(t *testing.T) {
	m, _ := modem(&set{answers: map[string]string{"ATD": "\r\nOK\r\n\r\nCONNECT 9600\r\n"}})
	_, err := m.Dial("01632")
	require.NoError(t, err)
}
