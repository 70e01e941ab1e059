package traffic

import (
	"bufio"
	"encoding/binary"
	"io"
	"net/netip"
)

// Link types of the capture: whole IP packets, and the first of those that are left to users, for serial frames.
const (
	linkRaw  = 101
	linkUser = 147
)

// Writer writes frames as a pcapng capture: those of a network as the IP packets that carried them, with their real
// addresses and ports; those of a serial line under the link type USER0 (147), which a protocol analyser can be told.
type Writer struct {
	out     *bufio.Writer
	err     error
	written int64
	flows   map[Ends]*flow

	// Buffers that are used again and again, since a recording must not cost the links much.
	whole, body, segment, carried []byte
}

// flow is where a TCP connection has got to, each way.
type flow struct{ sent, received uint32 }

// NewWriter begins a capture.
func NewWriter(w io.Writer) *Writer {
	c := &Writer{out: bufio.NewWriter(w), flows: map[Ends]*flow{}}
	header := []byte{0x4D, 0x3C, 0x2B, 0x1A, 1, 0, 0, 0} // byte order, version 1.0
	c.block(0x0A0D0D0A, append(header, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF))
	for _, link := range []uint16{linkRaw, linkUser} {
		body := binary.LittleEndian.AppendUint16(nil, link)
		body = append(body, 0, 0, 0, 0, 0, 0)
		body = append(body, 9, 0, 1, 0, 9, 0, 0, 0, 0, 0, 0, 0) // times are in nanoseconds
		c.block(1, body)
	}
	return c
}

// block writes one block of the file.
func (c *Writer) block(kind uint32, body []byte) {
	for len(body)%4 != 0 {
		body = append(body, 0)
	}
	b := binary.LittleEndian.AppendUint32(c.whole[:0], kind)
	b = binary.LittleEndian.AppendUint32(b, uint32(12+len(body)))
	b = append(b, body...)
	b = binary.LittleEndian.AppendUint32(b, uint32(12+len(body)))
	if c.err == nil {
		_, c.err = c.out.Write(b)
	}
	c.written += int64(len(b))
	c.whole = b
}

// Write adds a frame; one without data is left out.
func (c *Writer) Write(f Frame) error {
	if len(f.Data) == 0 {
		return c.err
	}
	iface, packet := uint32(1), f.Data
	if f.Ends.Local.IsValid() && f.Ends.Remote.IsValid() {
		iface, packet = 0, c.packet(f)
	}
	at := uint64(f.Time.UnixNano())
	body := binary.LittleEndian.AppendUint32(c.body[:0], iface)
	body = binary.LittleEndian.AppendUint32(body, uint32(at>>32))
	body = binary.LittleEndian.AppendUint32(body, uint32(at))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(packet)))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(packet)))
	body = append(body, packet...)
	for len(body)%4 != 0 {
		body = append(body, 0)
	}
	comment := f.Link + ": " + f.Kind.String()
	if f.Text != "" {
		comment += ": " + f.Text
	}
	comment = comment[:min(len(comment), 500)]
	body = binary.LittleEndian.AppendUint16(body, 1) // a comment
	body = binary.LittleEndian.AppendUint16(body, uint16(len(comment)))
	body = append(body, comment...)
	for len(body)%4 != 0 {
		body = append(body, 0)
	}
	c.body = append(body, 0, 0, 0, 0)
	c.block(6, c.body)
	return c.err
}

// Flush writes what is still held.
func (c *Writer) Flush() error {
	if c.err == nil {
		c.err = c.out.Flush()
	}
	return c.err
}

// packet is the IP packet that carried a frame.
func (c *Writer) packet(f Frame) []byte {
	from, to := f.Ends.Remote, f.Ends.Local
	if f.Kind == Sent {
		from, to = to, from
	}
	ports := binary.BigEndian.AppendUint16(c.segment[:0], from.Port())
	ports = binary.BigEndian.AppendUint16(ports, to.Port())
	if f.Ends.Packets {
		segment := binary.BigEndian.AppendUint16(ports, uint16(8+len(f.Data)))
		c.segment = append(append(segment, 0, 0), f.Data...)
		return c.ip(17, from.Addr(), to.Addr(), c.segment, 6)
	}
	key := f.Ends
	flows := c.flows[key]
	if flows == nil {
		flows = &flow{1, 1}
		c.flows[key] = flows
	}
	seq, ack := &flows.received, flows.sent
	if f.Kind == Sent {
		seq, ack = &flows.sent, flows.received
	}
	segment := binary.BigEndian.AppendUint32(ports, *seq)
	segment = binary.BigEndian.AppendUint32(segment, ack)
	segment = append(segment, 5<<4, 0x18, 0xFF, 0xFF, 0, 0, 0, 0) // PSH and ACK
	*seq += uint32(len(f.Data))
	c.segment = append(segment, f.Data...)
	return c.ip(6, from.Addr(), to.Addr(), c.segment, 16)
}

// ip puts a segment into an IP packet, which holds until the next; its checksum goes to an offset within it.
func (c *Writer) ip(protocol byte, from, to netip.Addr, segment []byte, checksum int) []byte {
	from, to = from.Unmap().WithZone(""), to.Unmap().WithZone("")
	if from.Is4() != to.Is4() { // no packet has both
		from, to = netip.AddrFrom16(from.As16()), netip.AddrFrom16(to.As16())
	}
	var room [48]byte
	pseudo := append(append(room[:0], from.AsSlice()...), to.AsSlice()...)
	if from.Is4() {
		pseudo = append(pseudo, 0, protocol, byte(len(segment)>>8), byte(len(segment)))
	} else {
		pseudo = append(pseudo, 0, 0, byte(len(segment)>>8), byte(len(segment)), 0, 0, 0, protocol)
	}
	binary.BigEndian.PutUint16(segment[checksum:], sum(pseudo, segment))
	head := c.carried[:0]
	if from.Is4() {
		head = append(head, 0x45, 0, 0, 0, 0, 0, 0x40, 0, 64, protocol, 0, 0)
		binary.BigEndian.PutUint16(head[2:], uint16(20+len(segment)))
		head = append(append(head, from.AsSlice()...), to.AsSlice()...)
		binary.BigEndian.PutUint16(head[10:], sum(head))
	} else {
		head = append(head, 0x60, 0, 0, 0, byte(len(segment)>>8), byte(len(segment)), protocol, 64)
		head = append(append(head, from.AsSlice()...), to.AsSlice()...)
	}
	c.carried = append(head, segment...)
	return c.carried
}

// sum is the checksum of IP (RFC 1071) over parts of which only the last may be of odd length.
func sum(parts ...[]byte) uint16 {
	var s uint32
	for _, b := range parts {
		s = add(s, b)
	}
	for s > 0xFFFF {
		s = s>>16 + s&0xFFFF
	}
	return ^uint16(s)
}

func add(s uint32, b []byte) uint32 {
	for i := 0; i+1 < len(b); i += 2 {
		s += uint32(b[i])<<8 | uint32(b[i+1])
	}
	if len(b)%2 == 1 {
		s += uint32(b[len(b)-1]) << 8
	}
	return s
}
