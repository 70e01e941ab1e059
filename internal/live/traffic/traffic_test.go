package traffic

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/protocol/dissection"
	"arithmon/internal/protocol/modbus"
)

func frame(kind Kind, data ...byte) Frame {
	return Frame{Time: time.Unix(1, 0), Station: "st", Unit: 1, Kind: kind, Data: data, Ends: &Ends{Framing: "rtu"}}
}

func TestARingIsBoundedAndKeepsTheNewest(t *testing.T) {
	l := NewLog()
	r := l.Ring("bus", 1<<20) // the smallest ring
	for i := range 5000 {
		data := make([]byte, 100)
		binary.BigEndian.PutUint32(data, uint32(i))
		r.Add(frame(Answer, data...))
	}
	assert.LessOrEqual(t, r.size(), leastLog+200)
	assert.Greater(t, r.size(), leastLog/2)
	list, last := l.Frames(Filter{Limit: 5})
	require.Len(t, list, 5)
	assert.Equal(t, uint64(5000), last)
	assert.Equal(t, uint32(4999), binary.BigEndian.Uint32(list[4].Data), "the newest last")
	assert.Equal(t, uint64(4996), list[0].Seq)
	after, _ := l.Frames(Filter{Limit: 10, After: 4998})
	assert.Len(t, after, 2)
}

func TestFramesOfManyConnections(t *testing.T) {
	l := NewLog()
	r := l.Ring("bus", 1)
	for i := range 3000 { // a device that closes after each request
		f := frame(Sent, byte(i>>8), byte(i))
		f.Ends = &Ends{Framing: "rtu", Local: netip.AddrPortFrom(netip.MustParseAddr("192.0.2.1"), uint16(i))}
		r.Add(f)
	}
	list, _ := l.Frames(Filter{Limit: 3000})
	for _, f := range list {
		assert.Equal(t, uint16(f.Data[0])<<8|uint16(f.Data[1]), f.Ends.Local.Port())
	}
	assert.Len(t, list, 3000)
}

func TestAddKeepsACopy(t *testing.T) {
	l := NewLog()
	data := []byte{1, 3, 0}
	l.Ring("bus", 1).Add(frame(Sent, data...))
	data[0] = 9
	list, _ := l.Frames(Filter{Limit: 1})
	assert.Equal(t, byte(1), list[0].Data[0])
}

func TestFilters(t *testing.T) {
	l := NewLog()
	a, b := l.Ring("a", 2), l.Ring("b", 2)
	a.Add(frame(Sent, 1, 3, 0, 0, 0, 1, 0x84, 0x0A))
	a.Add(frame(Answer, 1, 0x83, 2, 0xC0, 0xF1)) // a refusal
	b.Add(frame(Sent, 1, 4, 0, 0, 0, 1, 0x31, 0xCA))
	b.Add(Frame{Station: "other", Kind: Timeout, Text: "no answer", Ends: &Ends{Framing: "rtu"}})
	count := func(f Filter) int {
		f.Limit = 100
		list, _ := l.Frames(f)
		return len(list)
	}
	assert.Equal(t, 4, count(Filter{}))
	assert.Equal(t, 2, count(Filter{Link: "a"}))
	assert.Equal(t, 1, count(Filter{Station: "other"}))
	assert.Equal(t, 2, count(Filter{Function: 3}))
	assert.Equal(t, 2, count(Filter{Wrong: true}))
	l.Drop("a")
	assert.Equal(t, 2, count(Filter{}))
}

// A TCP packet of a capture has the addresses, the ports and the sequence of its connection.
func TestPacketsOfACapture(t *testing.T) {
	c, _ := beginCapture(nil)
	ends := &Ends{Local: netip.MustParseAddrPort("192.0.2.1:40000"), Remote: netip.MustParseAddrPort("192.0.2.7:502"), Framing: "mbap"}
	packet := func(kind Kind, ends *Ends, data string) []byte {
		b := c.append(nil, &Frame{Link: "gate", Kind: kind, Data: []byte(data), Ends: ends})
		if binary.LittleEndian.Uint32(b) == blockInterface {
			assert.Contains(t, string(b), "gate")
			b = b[binary.LittleEndian.Uint32(b[4:]):]
		}
		assert.Equal(t, uint32(len(b)), binary.LittleEndian.Uint32(b[4:]))
		return b[28 : 28+binary.LittleEndian.Uint32(b[20:])]
	}
	request, again, answer := packet(Sent, ends, "12 bytes here"), packet(Sent, ends, "x"), packet(Answer, ends, "answer")
	assert.Equal(t, byte(0x45), request[0])
	assert.Equal(t, []byte{192, 0, 2, 1, 192, 0, 2, 7}, request[12:20])
	assert.Equal(t, uint16(0), fold(sum(0, request[:20])), "the header's checksum fits")
	assert.Equal(t, "12 bytes here", string(request[40:]))
	assert.Equal(t, uint32(1), binary.BigEndian.Uint32(request[24:]))
	assert.Equal(t, uint32(14), binary.BigEndian.Uint32(again[24:]), "after the bytes before")
	assert.Equal(t, []byte{192, 0, 2, 7, 192, 0, 2, 1}, answer[12:20])
	assert.Equal(t, uint32(15), binary.BigEndian.Uint32(answer[28:]), "it acknowledges both")
	six := packet(Sent, &Ends{Local: netip.MustParseAddrPort("[fd00::1]:1"), Remote: netip.MustParseAddrPort("[fd00::2]:502"), Packets: true}, "x")
	assert.Equal(t, byte(0x60), six[0])
	assert.Equal(t, byte(17), six[6])
	assert.Equal(t, []byte("x"), packet(Answer, &Ends{Framing: "rtu"}, "x"), "on a serial line there is no packet")
	assert.Len(t, c.interfaces, 2, "a link is one, however many connections it had")
}

// An analyser finds nothing wrong with what a recording says of frames of every kind.
func TestAnAnalyserReadsACapture(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.pcapng")
	l := NewLog()
	require.NoError(t, l.Record(path, "", 1<<20))
	tcp := &Ends{Local: netip.MustParseAddrPort("192.0.2.1:40000"), Remote: netip.MustParseAddrPort("192.0.2.7:502"), Framing: "mbap"}
	udp := &Ends{Local: netip.MustParseAddrPort("[fd00::1]:40001"), Remote: netip.MustParseAddrPort("[fd00::2]:502"), Framing: "mbap", Packets: true}
	mixed := &Ends{Local: netip.MustParseAddrPort("[fd00::1]:40001"), Remote: netip.MustParseAddrPort("192.0.2.9:502"), Framing: "mbap"}
	for i, ends := range []*Ends{tcp, udp, mixed, {Framing: "rtu"}} {
		r := l.Ring([]string{"gate", "datagrams", "both", "bus"}[i], 4)
		for n := range 5 { // every length that has to be padded
			r.Add(Frame{Time: time.Unix(1_700_000_000, 1), Kind: Sent, Data: make([]byte, 1+n), Ends: ends})
			r.Add(Frame{Time: time.Unix(1_700_000_000, 2), Kind: Late, Text: "after 2 s", Data: make([]byte, 9+n), Ends: ends})
		}
	}
	l.Ring("gate", 4).Add(Frame{Kind: Timeout, Text: "no answer"}) // has no bytes
	r := l.StopRecording()
	assert.Equal(t, uint64(40), r.Frames)
	out, err := exec.Command("tshark", "-r", path, "-o", "ip.check_checksum:TRUE", "-o", "tcp.check_checksum:TRUE", "-o", "udp.check_checksum:TRUE", "-T", "fields", "-e", "frame.interface_name",
		"-e", "frame.time_epoch", "-e", "frame.packet_flags_direction", "-e", "frame.comment", "-e", "ip.checksum.status", "-e", "tcp.checksum.status", "-e", "udp.checksum.status", "-e", "tcp.analysis.flags", "-E", "separator=|").Output()
	require.NoError(t, err, "make tools installs it")
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, lines, 40)
	for i, checked := range []string{"1|1||", "||1|", "|1||", "|||"} { // checksums that fit, and no remark on the order
		link := []string{"gate", "datagrams", "both", "bus"}[i]
		assert.Equal(t, link+"|1700000000.000000001|0x00000002||"+checked, lines[10*i])
		assert.Equal(t, link+"|1700000000.000000002|0x00000001|late: after 2 s|"+checked, lines[10*i+9])
	}
}

func TestARecordingEndsAtItsLimit(t *testing.T) {
	l := NewLog()
	r := l.Ring("bus", 1)
	path := filepath.Join(t.TempDir(), "a.pcapng")
	require.NoError(t, l.Record(path, "", 4000))
	assert.ErrorIs(t, l.Record(path+"2", "", 4000), ErrRecording)
	for range 100 {
		r.Add(frame(Sent, make([]byte, 100)...))
	}
	require.Eventually(t, func() bool { return !l.Recording().Running }, 10*time.Second, time.Millisecond)
	l.StopRecording()
	assert.Contains(t, l.Recording().Ended, "the limit of 4000 bytes is reached")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, l.Recording().Bytes, info.Size())
	assert.Less(t, info.Size(), int64(4300))
	require.Error(t, l.Record(path, "", 4000), "a file that is there is kept")
	require.NoError(t, l.Record(path+"3", "other", 4000))
	r.Add(frame(Sent, 1))
	assert.Zero(t, l.StopRecording().Frames, "of another link")
}

// disk takes what is written when it is let, or fails.
type disk struct {
	let    chan struct{}
	fail   error
	bytes  int
	closed bool
}

func (d *disk) Write(b []byte) (int, error) {
	<-d.let
	d.bytes += len(b)
	return len(b), d.fail
}

func (d *disk) Close() error {
	d.closed = true
	return nil
}

func TestARecordingOnADiskThatIsSlowOrFull(t *testing.T) {
	l := NewLog()
	r := l.Ring("bus", 1)
	slow := &disk{let: make(chan struct{})}
	l.record(slow, "a", "", 1<<40)
	const most = recordRoom/60_000 + 20 // frames, of which the last find no room
	for range 2 * most {
		r.Add(frame(Sent, make([]byte, 60_000)...))
	}
	now := l.Recording()
	assert.True(t, now.Running, "the links are not held up")
	assert.Positive(t, now.Dropped)
	assert.Equal(t, uint64(2*most), now.Frames+now.Dropped)
	close(slow.let)
	now = l.StopRecording()
	assert.Equal(t, now.Bytes, int64(slow.bytes), "what was not dropped is written")
	assert.True(t, slow.closed)

	full := &disk{let: make(chan struct{}), fail: errors.New("no space left")}
	close(full.let)
	l.record(full, "b", "", 1<<40)
	require.Eventually(t, func() bool { return !l.Recording().Running }, 10*time.Second, time.Millisecond)
	assert.Equal(t, "the disk: no space left", l.Recording().Ended)
	r.Add(frame(Sent, 1)) // is of no use to it any more
	last := &disk{let: make(chan struct{}), fail: errors.New("no space left")}
	l.StopRecording()
	assert.True(t, full.closed)
	l.record(last, "d", "", 1<<40)
	r.Add(frame(Sent, 1))
	time.AfterFunc(0, func() { close(last.let) })
	assert.Equal(t, "the disk: no space left", l.StopRecording().Ended, "though it was stopped")
	l.record(&disk{let: full.let}, "c", "", 1<<40)
	assert.Equal(t, "c", l.StopRecording().File, "another can be made")
}

func TestDissect(t *testing.T) {
	var reader Reader
	alone := func(f Frame) dissection.Dissection { return new(Reader).Dissect(&f) }
	request := frame(Sent, 1, 3, 0, 9, 0, 2, 0x14, 0x09)
	d := reader.Dissect(&request)
	assert.Equal(t, "unit 1: Read Holding Registers (3), 2 from 9", d.Summary)
	assert.Equal(t, modbus.Field{Name: "quantity", Value: "2", At: 4, Bytes: 2, Of: dissection.Addresses{Space: "hr", From: 9, Count: 2}}, d.Fields[3])
	answer := modbus.AppendRTU(nil, modbus.Frame{Unit: 1, PDU: []byte{3, 4, 0x41, 0xC8, 0, 0}})
	reply := frame(Answer, answer...)
	d = reader.Dissect(&reply)
	assert.Equal(t, "unit 1: Read Holding Registers (3), 2 registers: 41C8 0000", d.Summary)
	assert.Equal(t, "register 10", d.Fields[4].Name, "as its request says")
	assert.Equal(t, "register +1", alone(reply).Fields[4].Name)
	ascii := frame(Answer, modbus.AppendASCII(nil, modbus.Frame{Unit: 1, PDU: []byte{0x83, 2}})...)
	ascii.Ends = &Ends{Framing: "ascii"}
	assert.Equal(t, "unit 1: Read Holding Registers (3) refused: exception 2 (illegal data address)", alone(ascii).Summary)
	code, refused := Function(&ascii)
	assert.Equal(t, 3, code)
	assert.True(t, refused)
	assert.Contains(t, alone(frame(Damaged, 0xFF)).Summary, "1 bytes that are no frame")
	assert.Equal(t, "late", Late.String())
}

func FuzzDissect(f *testing.F) {
	f.Add(byte(0), byte(0), []byte{0, 1, 0, 0, 0, 6, 1, 3, 0, 9, 0, 2}, []byte(nil))
	f.Add(byte(1), byte(1), []byte{1, 3, 4, 0x41, 0xC8, 0, 0, 0x6F, 0xF7}, []byte{1, 3, 0, 9, 0, 2, 0x14, 0x09})
	f.Add(byte(2), byte(1), []byte(":018302 7A\r\n"), []byte(":"))
	f.Fuzz(func(t *testing.T, framing, side byte, raw, asked []byte) {
		d := modbus.Dissect(modbus.Framing(framing%3), modbus.Side(side%2), raw, asked)
		if d.Summary == "" {
			t.Fatal("nothing said")
		}
		for _, field := range d.Fields {
			if field.At < 0 || field.Bytes < 0 {
				t.Fatalf("%+v", field)
			}
		}
	})
}
