package traffic

import (
	"bufio"
	"encoding/binary"
	"io"
	"net/netip"
	"strings"
)

// Link types of a capture: whole IP packets, and the first of those that are left to users, for serial frames.
const (
	linkRaw  = 101
	linkUser = 147
)

// Blocks of a capture and their options (pcapng, sections 3 and 4).
const (
	blockSection   = 0x0A0D0D0A
	blockInterface = 1
	blockPacket    = 6

	optionComment    = 1
	optionName       = 2 // of an interface
	optionDirection  = 2 // of a packet
	optionResolution = 9 // of an interface's times
)

// longestComment is how much of what is wrong with a frame is said.
const longestComment = 500

// capture makes a pcapng capture, frame by frame: those of a network are the IP packets that carried them, with their real
// addresses and ports and sequence numbers that are made up; those of a serial line have the link type USER0 (147), which a protocol
// analyser can be told. Each link is an interface by its name.
type capture struct {
	interfaces map[medium]uint32
	flows      map[connection]*flow
}

type medium struct {
	link string
	kind uint16
}

type connection struct {
	link string
	ends *Ends
}

// flow is what the frames of a connection share, and how far it is.
type flow struct {
	number  uint32 // of its interface
	network bool
	ways    [2]way // out, in
}

// way is one direction of a connection.
type way struct {
	head     []byte // of its packets: IP, then TCP or UDP, with what differs left 0
	ip       int    // bytes of head that are IP's
	tcp      bool   // and not UDP
	pseudo   uint64 // sum over the pseudo header, the length left out
	sequence uint32 // of TCP
}

// beginCapture adds what a capture begins with to b.
func beginCapture(b []byte) (*capture, []byte) {
	start := len(b)
	b = beginBlock(b, blockSection)
	b = append(b, 0x4D, 0x3C, 0x2B, 0x1A, 1, 0, 0, 0)             // byte order, version 1.0
	b = append(b, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF) // of unknown length
	return &capture{map[medium]uint32{}, map[connection]*flow{}}, endBlock(b, start)
}

// append adds a frame. One without data is left out.
func (c *capture) append(b []byte, f *Frame) []byte {
	if len(f.Data) == 0 {
		return b
	}
	flow := c.flows[connection{f.Link, f.Ends}]
	if flow == nil {
		b, flow = c.open(b, f)
	}
	start := len(b)
	b = beginBlock(b, blockPacket)
	b = binary.LittleEndian.AppendUint32(b, flow.number)
	at := uint64(f.Time.UnixNano())
	b = binary.LittleEndian.AppendUint32(b, uint32(at>>32))
	b = binary.LittleEndian.AppendUint32(b, uint32(at))
	b = append(b, 0, 0, 0, 0, 0, 0, 0, 0) // lengths, once they are known
	packet := len(b)
	along, against := flow.way(f)
	b = append(append(b, along.head...), f.Data...)
	if flow.network {
		along.fill(b[packet:], len(f.Data), against)
	}
	length := uint32(len(b) - packet)
	binary.LittleEndian.PutUint32(b[packet-8:], length)
	binary.LittleEndian.PutUint32(b[packet-4:], length)
	b = pad(b, packet)
	direction := byte(1) // in
	if f.Kind == Sent {
		direction = 2
	}
	b = append(b, optionDirection, 0, 4, 0, direction, 0, 0, 0)
	if f.Kind.Wrong() || f.Text != "" {
		b = appendOption(b, optionComment, comment(f))
	}
	return endBlock(b, start)
}

// comment says what is wrong with a frame.
func comment(f *Frame) string {
	s := f.Kind.String()
	if f.Text != "" {
		s += ": " + f.Text
	}
	return strings.ToValidUTF8(s[:min(len(s), longestComment)], "")
}

// open begins the flow of a frame's connection.
func (c *capture) open(b []byte, f *Frame) ([]byte, *flow) {
	made := new(flow)
	on := medium{f.Link, linkUser}
	if e := f.Ends; e.Local.IsValid() && e.Remote.IsValid() {
		made.network, on.kind = true, linkRaw
		made.ways = [2]way{newWay(e.Local, e.Remote, e.Packets), newWay(e.Remote, e.Local, e.Packets)}
	}
	number, known := c.interfaces[on]
	if !known {
		number = uint32(len(c.interfaces))
		c.interfaces[on] = number
		start := len(b)
		b = binary.LittleEndian.AppendUint16(beginBlock(b, blockInterface), on.kind)
		b = append(b, 0, 0, 0, 0, 0, 0)
		if f.Link != "" {
			b = appendOption(b, optionName, f.Link)
		}
		b = endBlock(appendOption(b, optionResolution, "\x09"), start) // nanoseconds
	}
	made.number = number
	c.flows[connection{f.Link, f.Ends}] = made
	return b, made
}

// way is that of a frame, and the other one.
func (l *flow) way(f *Frame) (along, against *way) {
	if f.Kind == Sent {
		return &l.ways[0], &l.ways[1]
	}
	return &l.ways[1], &l.ways[0]
}

// Where the fields are that differ from packet to packet (RFC 791, 8200, 9293, 768).
const (
	ip4Length   = 2
	ip4Checksum = 10
	ip6Length   = 4

	tcpSequence = 4
	tcpAck      = 8
	tcpChecksum = 16
	udpLength   = 4
	udpChecksum = 6

	protocolTCP = 6
	protocolUDP = 17
)

// newWay makes the headers of one direction.
func newWay(from, to netip.AddrPort, datagrams bool) way {
	source, target := from.Addr().Unmap().WithZone(""), to.Addr().Unmap().WithZone("")
	if source.Is4() != target.Is4() { // no packet has both
		source, target = netip.AddrFrom16(source.As16()), netip.AddrFrom16(target.As16())
	}
	protocol := byte(protocolTCP)
	if datagrams {
		protocol = protocolUDP
	}
	w := way{tcp: !datagrams, sequence: 1}
	if source.Is4() {
		w.head = []byte{0x45, 0, 0, 0, 0, 0, 0x40, 0, 64, protocol, 0, 0}
	} else {
		w.head = []byte{0x60, 0, 0, 0, 0, 0, protocol, 64}
	}
	addresses := append(source.AsSlice(), target.AsSlice()...)
	w.head = append(w.head, addresses...)
	w.ip = len(w.head)
	w.pseudo = sum(uint64(protocol), addresses)
	w.head = binary.BigEndian.AppendUint16(w.head, from.Port())
	w.head = binary.BigEndian.AppendUint16(w.head, to.Port())
	if datagrams {
		w.head = append(w.head, 0, 0, 0, 0)
	} else {
		w.head = append(w.head, 0, 0, 0, 0, 0, 0, 0, 0, 5<<4, 0x18, 0xFF, 0xFF, 0, 0, 0, 0) // PSH and ACK
	}
	return w
}

// fill fills in what differs in the headers of a packet that carries so many bytes.
func (w *way) fill(packet []byte, carried int, against *way) {
	segment, checksum := packet[w.ip:], udpChecksum
	if w.tcp {
		checksum = tcpChecksum
		binary.BigEndian.PutUint32(segment[tcpSequence:], w.sequence)
		binary.BigEndian.PutUint32(segment[tcpAck:], against.sequence)
		w.sequence += uint32(carried)
	} else {
		binary.BigEndian.PutUint16(segment[udpLength:], uint16(len(segment)))
	}
	folded := fold(sum(w.pseudo+uint64(len(segment)), segment))
	if folded == 0 && !w.tcp {
		folded = 0xFFFF // 0 says that there is none
	}
	binary.BigEndian.PutUint16(segment[checksum:], folded)
	if packet[0]>>4 == 4 {
		binary.BigEndian.PutUint16(packet[ip4Length:], uint16(len(packet)))
		binary.BigEndian.PutUint16(packet[ip4Checksum:], fold(sum(0, packet[:w.ip])))
	} else {
		binary.BigEndian.PutUint16(packet[ip6Length:], uint16(len(segment)))
	}
}

// beginBlock adds the head of a block, whose length endBlock fills in.
func beginBlock(b []byte, kind uint32) []byte {
	return append(binary.LittleEndian.AppendUint32(b, kind), 0, 0, 0, 0)
}

// endBlock ends the options and the block that began at start.
func endBlock(b []byte, start int) []byte {
	b = append(b, 0, 0, 0, 0)
	length := uint32(len(b) - start + 4)
	binary.LittleEndian.PutUint32(b[start+4:], length)
	return binary.LittleEndian.AppendUint32(b, length)
}

func appendOption(b []byte, code uint16, text string) []byte {
	b = binary.LittleEndian.AppendUint16(b, code)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(text)))
	start := len(b)
	return pad(append(b, text...), start)
}

// pad fills up to 32 bits from start.
func pad(b []byte, start int) []byte {
	return append(b, 0, 0, 0)[:len(b)+(start-len(b))&3]
}

// sum adds the 16-bit words of b to s, as the checksum of IP does (RFC 1071); fold ends it.
func sum(s uint64, b []byte) uint64 {
	for ; len(b) >= 4; b = b[4:] {
		s += uint64(binary.BigEndian.Uint32(b))
	}
	if len(b) >= 2 {
		s += uint64(binary.BigEndian.Uint16(b))
		b = b[2:]
	}
	if len(b) == 1 {
		s += uint64(b[0]) << 8
	}
	return s
}

// fold makes a sum the checksum.
func fold(s uint64) uint16 {
	for s > 0xFFFF {
		s = s>>16 + s&0xFFFF
	}
	return ^uint16(s)
}

// Writer writes frames as a pcapng capture.
type Writer struct {
	capture *capture
	out     *bufio.Writer
	room    []byte
}

// NewWriter begins a capture.
func NewWriter(w io.Writer) *Writer {
	c, head := beginCapture(nil)
	out := bufio.NewWriter(w)
	out.Write(head) // its error is the next one's
	return &Writer{capture: c, out: out}
}

// Write adds a frame; one without data is left out.
func (w *Writer) Write(f Frame) error {
	w.room = w.capture.append(w.room[:0], &f)
	_, err := w.out.Write(w.room)
	return err
}

// Flush writes what is still held.
func (w *Writer) Flush() error { return w.out.Flush() }
