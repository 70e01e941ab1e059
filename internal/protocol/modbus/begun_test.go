package modbus

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
)

// pieces answers each request with a response in pieces, each so long after the one before.
func pieces(framing string, apart time.Duration, cut ...int) *farend.Conn {
	conn := farend.NewConn(false)
	conn.Asked = func(b []byte) {
		id, _ := farend.Request(framing, b)
		whole := farend.Frame(framing, id, []byte{1, 3, 4, 0x12, 0x34, 0x56, 0x78})
		from := 0
		for i, to := range append(cut, len(whole)) {
			piece := whole[from:min(to, len(whole))]
			time.AfterFunc(time.Duration(i+1)*apart, func() { conn.Say(piece) })
			from = min(to, len(whole))
		}
	}
	return conn
}

// A response that is held up on its way is waited for once it has begun, longer than what is no frame; of an ASCII frame, characters may be a second
// apart (MODBUS over Serial Line V1.02, 2.5.2.1).
func TestAResponseThatHasBegunIsWaitedFor(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Quantity: 2}
	for _, c := range []struct {
		framing      string
		apart, begun time.Duration
		cut          []int
	}{
		{"rtu", 200 * time.Millisecond, 300 * time.Millisecond, []int{2, 3, 6}},
		{"rtu", 290 * time.Millisecond, 300 * time.Millisecond, []int{8}},
		{"ascii", 950 * time.Millisecond, time.Second, []int{1, 5}},
	} {
		synctest.Test(t, func(t *testing.T) {
			conn := pieces(c.framing, c.apart, c.cut...)
			client := NewClient(conn, ClientOptions{Framing: Framings[c.framing], Gap: 50 * time.Millisecond, Begun: c.begun, Character: time.Millisecond})
			data, err := client.Do(1, read, time.Second)
			require.NoError(t, err, "%s in %v", c.framing, c.cut)
			assert.Equal(t, []byte{0x12, 0x34, 0x56, 0x78}, data)
		})
	}
}

// What does not begin as the response is over after the short silence, so that a damaged line is not asked at the pace of its silences.
func TestWhatIsNotTheResponseIsNotWaitedFor(t *testing.T) {
	read := Request{Function: ReadHoldingRegisters, Quantity: 2}
	for what, begin := range map[string][]byte{
		"another unit": {2, 3, 4, 0}, "another function": {1, 4, 4, 0}, "another length": {1, 3, 40, 0}, "noise": {0xFF, 0x00, 0x13}, "text": []byte("ERR"),
	} {
		synctest.Test(t, func(t *testing.T) {
			conn := farend.NewConn(false)
			conn.Asked = func([]byte) { time.AfterFunc(5*time.Millisecond, func() { conn.Say(begin) }) }
			client := NewClient(conn, ClientOptions{Framing: RTU, Gap: 50 * time.Millisecond, Begun: 300 * time.Millisecond, Character: time.Millisecond})
			began := time.Now()
			_, err := client.Do(1, read, time.Second)
			require.Error(t, err)
			assert.Less(t, time.Since(began), 100*time.Millisecond, what)
		})
	}
}

// A checksum whose octets were sent in the wrong order is told as that (2.5.1.2).
func TestAChecksumWithItsBytesInterchanged(t *testing.T) {
	frame := farend.Frame("rtu", [2]byte{}, []byte{1, 3, 2, 0, 7})
	n := len(frame)
	frame[n-1], frame[n-2] = frame[n-2], frame[n-1]
	err := Damaged(frame, RTU)
	assert.ErrorIs(t, err, ErrChecksum)
	assert.ErrorContains(t, err, "right with its two bytes interchanged")
	frame[2]++
	assert.NotContains(t, Damaged(frame, RTU).Error(), "interchanged")
}
