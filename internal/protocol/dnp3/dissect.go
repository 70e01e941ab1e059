package dnp3

import (
	"encoding/binary"
	"fmt"
	"strings"

	"arithmon/internal/protocol/dissection"
)

// Dissector says what frames mean, one after the other: a fragment is put together of the frames that carried it. It is for one
// direction of one pair of addresses. Its zero value is ready.
type Dissector struct{ gather Reassembly }

// mostShown is how many objects of a frame are shown one by one.
const mostShown = 500

// dissecting is a frame under dissection.
type dissecting struct {
	dissection.Dissection
	direct bool // the fragment is in this frame alone, so that its octets can be pointed at
	at     int  // in the fragment
}

// field adds a field of the frame's own octets.
func (d *dissecting) raw(name, value string, at, n int) {
	d.Fields = append(d.Fields, dissection.Field{Name: name, Value: value, At: at, Bytes: n})
}

// part adds a field of the fragment; n are its octets, after which the next begins.
func (d *dissecting) part(name, value string, n int) {
	f := dissection.Field{Name: name, Value: value}
	if d.direct {
		first, last := 1+d.at, d.at+max(1, n) // after the transport octet
		f.At = headerSize + first + 2*(first/blockSize)
		f.Bytes = headerSize + last + 2*(last/blockSize) - f.At + 1
	}
	d.Fields = append(d.Fields, f)
	d.at += n
}

// spaceOf are the types of points that object groups are about (IEEE 1815-2012, annex A), as in an address.
var spaceOf = map[byte]string{
	1: "bi", 2: "bi", 3: "dbi", 4: "dbi", 10: "bo", 11: "bo", 12: "bo", 13: "bo", 20: "ctr", 22: "ctr", 21: "fctr", 23: "fctr",
	30: "ai", 32: "ai", 34: "ai", 40: "ao", 41: "ao", 42: "ao", 43: "ao", 110: "os", 111: "os",
}

// about says which point the last field is about.
func (d *dissecting) about(group byte, index int) {
	if space := spaceOf[group]; space != "" {
		d.Fields[len(d.Fields)-1].Of = dissection.Addresses{Space: space, From: index, Count: 1}
	}
}

// Dissect says what the octets of a frame mean. It takes any octets.
func (x *Dissector) Dissect(raw []byte) dissection.Dissection {
	f, size, err := ParseFrame(raw, make([]byte, 0, MaxUserData))
	if err != nil || size != len(raw) {
		text := fmt.Sprintf("%d bytes that are no frame", len(raw))
		if err != nil && err != ErrNoFrame {
			text += ": " + err.Error()
		}
		return dissection.Dissection{Summary: text}
	}
	d := &dissecting{}
	d.raw("start", "0x0564", 0, 2)
	d.raw("length", fmt.Sprint(raw[2]), 2, 1)
	d.raw("control", controlText(f), 3, 1)
	d.raw("destination", addressText(f.Destination), 4, 2)
	d.raw("source", fmt.Sprint(f.Source), 6, 2)
	d.raw("CRC", "fits", 8, 2)
	way := fmt.Sprintf("%d to %s: ", f.Source, addressText(f.Destination))
	if len(f.Data) == 0 {
		d.Summary = way + f.Function().String()
		return d.Dissection
	}
	octet := f.Data[0]
	d.raw("transport", transportText(octet), headerSize, 1)
	fragment, err := x.gather.Add(f.Data)
	switch {
	case err != nil:
		d.Summary = way + "segment: " + err.Error()
		return d.Dissection
	case fragment == nil:
		d.Summary = fmt.Sprintf("%ssegment %d of a fragment that goes on, %d octets", way, octet&transportNumber, len(f.Data)-1)
		if octet&transportFirst != 0 && len(f.Data) >= 3 {
			d.Summary += ", " + Function(f.Data[2]).String()
		}
		return d.Dissection
	}
	d.direct = octet&(transportFirst|transportFinal) == transportFirst|transportFinal
	d.Summary = way + d.fragment(fragment)
	return d.Dissection
}

func addressText(a uint16) string {
	switch {
	case Broadcast(a):
		return fmt.Sprintf("all (0x%04X)", a)
	case a == SelfAddress:
		return "whoever it is (0xFFFC)"
	}
	return fmt.Sprint(a)
}

func controlText(f Frame) string {
	parts := []string{f.Function().String(), "from outstation"}
	if f.Control&FromMaster != 0 {
		parts[1] = "from master"
	}
	if f.Control&Primary != 0 && f.Control&CountValid != 0 {
		parts = append(parts, fmt.Sprintf("count bit %d", f.Control&CountBit>>5))
	}
	if f.Control&Primary == 0 && f.Control&FlowFull != 0 {
		parts = append(parts, "its buffers are full")
	}
	return strings.Join(parts, ", ")
}

func transportText(octet byte) string {
	var parts []string
	if octet&transportFirst != 0 {
		parts = append(parts, "first")
	}
	if octet&transportFinal != 0 {
		parts = append(parts, "final")
	}
	return strings.Join(append(parts, fmt.Sprintf("segment %d", octet&transportNumber)), ", ")
}

// fragment dissects a fragment and returns its summary.
func (d *dissecting) fragment(b []byte) string {
	f, err := ParseFragment(b)
	if err != nil {
		return err.Error()
	}
	d.part("application control", f.Control.String(), 1)
	d.part("function", fmt.Sprintf("%d, %s", f.Function, f.Function), 1)
	summary := []string{f.Function.String()}
	if f.Function.Response() {
		d.part("indications", f.IIN.String(), 2)
		if f.IIN != 0 {
			summary = append(summary, f.IIN.String())
		}
	}
	objects := ReadObjects(f.Objects, f.Function)
	shown := 0
	for objects.Next() {
		h := objects.Header
		at := len(f.Objects) - len(objects.Rest()) - len(objects.Body)
		d.part("object", fmt.Sprintf("%s: %s", GroupName(h.Group), h), at-(d.at-len(b)+len(f.Objects)))
		summary = append(summary, h.String())
		d.objects(&objects, &shown)
	}
	if objects.Err != nil {
		d.part("fault", objects.Err.Error(), 0)
		summary = append(summary, objects.Err.Error())
	}
	return strings.Join(summary, "; ")
}

// objects dissects those of one header.
func (d *dissecting) objects(o *Objects, shown *int) {
	h, prefix := o.Header, o.Header.Qualifier.Prefix()
	body := o.Body
	end := d.at + len(body)
	defer func() { d.at = end }()
	if len(body) == 0 || h.Qualifier == FreeCount {
		return
	}
	s := shapeOf(h.Group, h.Variation)
	if h.Group == 0 {
		for _, a := range ReadAttributes(o) {
			d.part(a.Name(), a.Text(), prefix+2+len(a.Data))
		}
		return
	}
	if s == nil {
		return
	}
	for i := range int(h.Count) {
		if *shown++; *shown > mostShown {
			return
		}
		index := int(h.Start) + i
		if s.bits != 0 {
			var m Measurement
			m.packed(s, body, i)
			n := 0
			if (i+1)*s.bits%8 == 0 {
				n = 1
			}
			d.part(fmt.Sprintf("%s %d", GroupName(h.Group), index), m.Value.String(), n)
			d.about(h.Group, index)
			continue
		}
		switch prefix {
		case 1:
			index = int(body[0])
		case 2:
			index = int(binary.LittleEndian.Uint16(body))
		}
		size := prefix + s.octets(h.Variation)
		d.part(fmt.Sprintf("%s %d", GroupName(h.Group), index), objectText(s, h, body[prefix:size]), size)
		d.about(h.Group, index)
		body = body[size:]
	}
}

// objectText is the value of one object.
func objectText(s *shape, h Header, b []byte) string {
	switch h.Group {
	case 12:
		o := ReadOutput(b)
		return fmt.Sprintf("%s, %d times, %d ms on, %d ms off, status: %s", o.Code, o.Count, o.On, o.Off, o.Status)
	case 34:
		return fmt.Sprint(ReadDeadband(h.Variation, b))
	case 41:
		c := ReadAnalogCommand(h.Variation, b)
		return fmt.Sprintf("%s, status: %s", c.Value, c.Status)
	case 50, 51:
		return readTime(b[len(b)-min(len(b), s.fixed):]).Go().Format("2006-01-02 15:04:05.000Z07:00")
	case 52:
		return fmt.Sprintf("%d ms", ReadDelay(h.Variation, b))
	}
	if s.kind == NoKind {
		return fmt.Sprintf("% X", b)
	}
	m := Measurement{Kind: s.kind}
	m.read(s, b, 0, false)
	text := ValueText(m.Value)
	if s.status {
		text += ", status: " + m.Status.String()
	} else if s.flags {
		text += ", " + strings.Join(m.Flags.Names(s.kind), ", ")
	}
	switch s.time {
	case timeAbsolute:
		text += ", " + m.Time.Go().Format("2006-01-02 15:04:05.000Z07:00")
	case timeRelative:
		text += fmt.Sprintf(", %d ms after the common time", m.Time)
	}
	return text
}

// FunctionOf is the function code of the fragment that a frame begins, 0 when it begins none, and whether it is a response that
// refuses.
func FunctionOf(raw []byte) (code int, refused bool) {
	if len(raw) < headerSize+3 || raw[headerSize]&transportFirst == 0 {
		return 0, false
	}
	f := Function(raw[headerSize+2])
	return int(f), f.Response() && len(raw) > headerSize+4 && IIN(raw[headerSize+4])<<8&IINRefused != 0
}
