package dnp3

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Qualifier is the qualifier octet of an object header (IEEE 1815-2012, 4.2.2.7.3): which prefix the objects have, and how
// their range is given.
type Qualifier byte

// The qualifiers in use.
const (
	Range8    Qualifier = 0x00 // start and stop, an octet each
	Range16   Qualifier = 0x01
	All       Qualifier = 0x06 // no range
	Count8    Qualifier = 0x07
	Count16   Qualifier = 0x08
	Index8    Qualifier = 0x17 // count, and before each object its index, an octet each
	Index16   Qualifier = 0x28
	FreeCount Qualifier = 0x5B // count of objects, each with its size in two octets before it
)

// Header is an object header.
type Header struct {
	Group, Variation byte
	Qualifier        Qualifier
	Start            uint32 // of a range
	Count            uint32 // objects; of All: 0
}

// Ranged reports whether the header gives a start and a stop.
func (h Header) Ranged() bool { return h.Qualifier&0x0F <= 2 }

func (h Header) String() string {
	s := fmt.Sprintf("g%dv%d", h.Group, h.Variation)
	switch {
	case h.Qualifier == All:
		return s + " all"
	case h.Ranged() && h.Count > 0:
		return fmt.Sprintf("%s %d to %d", s, h.Start, h.Start+h.Count-1)
	}
	return fmt.Sprintf("%s %d objects", s, h.Count)
}

// AppendHeader appends h; its range must fit its qualifier.
func AppendHeader(b []byte, h Header) []byte {
	b = append(b, h.Group, h.Variation, byte(h.Qualifier))
	last := h.Start + h.Count - 1
	switch h.Qualifier {
	case Range8:
		return append(b, byte(h.Start), byte(last))
	case Range16:
		b = binary.LittleEndian.AppendUint16(b, uint16(h.Start))
		return binary.LittleEndian.AppendUint16(b, uint16(last))
	case Count8, Index8, FreeCount:
		return append(b, byte(h.Count))
	case Count16, Index16:
		return binary.LittleEndian.AppendUint16(b, uint16(h.Count))
	}
	return b
}

// AppendRange appends the header of a range with the smallest qualifier that holds it.
func AppendRange(b []byte, group, variation byte, start, count uint32) []byte {
	q := Range8
	if start+count-1 > 0xFF {
		q = Range16
	}
	return AppendHeader(b, Header{group, variation, q, start, count})
}

// AppendIndex appends the header of objects with an index before each, and returns how many octets that has.
func AppendIndex(b []byte, group, variation byte, count int, largest uint16) (_ []byte, octets int) {
	if largest <= 0xFF && count <= 0xFF {
		return AppendHeader(b, Header{group, variation, Index8, 0, uint32(count)}), 1
	}
	return AppendHeader(b, Header{group, variation, Index16, 0, uint32(count)}), 2
}

// Errors of object headers.
var (
	ErrObject    = errors.New("unknown object")
	ErrQualifier = errors.New("unknown qualifier")
	ErrRange     = errors.New("a range that ends before it starts")
	ErrSize      = errors.New("objects with a size instead of an index")
)

// MaxObjects is the most objects that one header is taken with.
const MaxObjects = 1 << 16

// Objects reads the object headers of a fragment and steps over their objects.
type Objects struct {
	rest  []byte
	bare  bool // headers come without objects, as in a read request
	timed bool // but for those of group 50, as in a request to freeze at a time

	Header Header
	Body   []byte // prefixes and objects of Header
	Err    error  // why Next returned false; nil at the end
}

// ReadObjects begins with the objects of a fragment of a function.
func ReadObjects(objects []byte, f Function) Objects {
	return Objects{rest: objects, bare: f.bare(), timed: f == FuncFreezeAtTime || f == FuncFreezeAtTimeNR}
}

// bare reports whether the headers of a request come without objects (4.4).
func (f Function) bare() bool {
	switch f {
	case FuncRead, FuncFreeze, FuncFreezeNR, FuncFreezeClear, FuncFreezeClearNR, FuncFreezeAtTime, FuncFreezeAtTimeNR,
		FuncEnableUnsolicited, FuncDisableUnsolicited, FuncAssignClass:
		return true
	}
	return false
}

// Next steps to the next header.
func (o *Objects) Next() bool {
	if len(o.rest) == 0 || o.Err != nil {
		return false
	}
	if o.Err = o.header(); o.Err != nil {
		return false
	}
	size := 0
	bare := o.bare && !(o.timed && o.Header.Group == 50)
	if !bare || o.Header.Qualifier.Prefix() > 0 {
		if size, o.Err = o.size(bare); o.Err != nil {
			return false
		}
	}
	if size > len(o.rest) {
		o.Err = ErrShort
		return false
	}
	o.Body, o.rest = o.rest[:size], o.rest[size:]
	return true
}

// Prefix is how many octets of index or size stand before each object.
func (q Qualifier) Prefix() int {
	switch q >> 4 {
	case 1:
		return 1
	case 2, 5:
		return 2
	}
	return 0
}

// fields is how many octets the range takes, -1 of an unknown qualifier.
func (q Qualifier) fields() int {
	switch q {
	case All:
		return 0
	case Count8, Index8, FreeCount:
		return 1
	case Range8, Count16, Index16:
		return 2
	case Range16:
		return 4
	}
	return -1
}

func (o *Objects) header() error {
	b := o.rest
	if len(b) < 3 {
		return ErrShort
	}
	h := Header{Group: b[0], Variation: b[1], Qualifier: Qualifier(b[2])}
	b = b[3:]
	n := h.Qualifier.fields()
	switch {
	case n < 0:
		return fmt.Errorf("%w 0x%02X of g%dv%d", ErrQualifier, byte(h.Qualifier), h.Group, h.Variation)
	case len(b) < n:
		return ErrShort
	}
	last := uint32(0)
	switch h.Qualifier {
	case Range8:
		h.Start, last = uint32(b[0]), uint32(b[1])
	case Range16:
		h.Start, last = uint32(binary.LittleEndian.Uint16(b)), uint32(binary.LittleEndian.Uint16(b[2:]))
	case Count8, Index8, FreeCount:
		h.Count = uint32(b[0])
	case Count16, Index16:
		h.Count = uint32(binary.LittleEndian.Uint16(b))
	}
	if h.Ranged() {
		if last < h.Start {
			return fmt.Errorf("%w: g%dv%d %d to %d", ErrRange, h.Group, h.Variation, h.Start, last)
		}
		h.Count = last - h.Start + 1
	}
	o.Header, o.rest = h, b[n:]
	return nil
}

// size is how many octets the objects of the header have, with their prefixes.
func (o *Objects) size(bare bool) (int, error) {
	h := o.Header
	n, prefix := int(h.Count), h.Qualifier.Prefix()
	if bare {
		return n * prefix, nil
	}
	if h.Qualifier == FreeCount || h.Group == 0 && h.Qualifier != All {
		return o.measured(prefix)
	}
	if h.Qualifier == All {
		return 0, nil
	}
	s := shapeOf(h.Group, h.Variation)
	if s == nil {
		return 0, fmt.Errorf("%w g%dv%d", ErrObject, h.Group, h.Variation)
	}
	if s.bits != 0 {
		if prefix > 0 {
			return 0, fmt.Errorf("%w 0x%02X of packed g%dv%d", ErrQualifier, byte(h.Qualifier), h.Group, h.Variation)
		}
		return (n*s.bits + 7) / 8, nil
	}
	return n * (prefix + s.octets(h.Variation)), nil
}

// measured is the size of objects that carry their own: a size before each, or, of device attributes, after their type.
func (o *Objects) measured(prefix int) (int, error) {
	at := 0
	for range o.Header.Count {
		size := 0
		switch {
		case o.Header.Qualifier == FreeCount:
			if len(o.rest) < at+2 {
				return 0, ErrShort
			}
			size = 2 + int(binary.LittleEndian.Uint16(o.rest[at:]))
		case len(o.rest) < at+prefix+2:
			return 0, ErrShort
		default:
			size = prefix + 2 + int(o.rest[at+prefix+1])
		}
		if at += size; at > len(o.rest) {
			return 0, ErrShort
		}
	}
	return at, nil
}

// Plain reports whether the objects stand one behind the other, without an index or size before each.
func (o *Objects) Plain() bool { return o.Header.Qualifier.Prefix() == 0 }

// Rest is what follows the header that o stands at and its objects.
func (o *Objects) Rest() []byte { return o.rest }
