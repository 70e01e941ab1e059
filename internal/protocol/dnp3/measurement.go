package dnp3

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
)

// Flags is the flag octet of an object (IEEE 1815-2012, 11.6). The upper bits mean different things in different kinds.
type Flags byte

// The flags.
const (
	Online       Flags = 1 << 0
	Restart      Flags = 1 << 1
	CommLost     Flags = 1 << 2
	RemoteForced Flags = 1 << 3
	LocalForced  Flags = 1 << 4

	Chatter        Flags = 1 << 5 // of binary and double-bit inputs
	OverRange      Flags = 1 << 5 // of analogs
	Rollover       Flags = 1 << 5 // of counters; obsolete
	ReferenceError Flags = 1 << 6 // of analogs
	Discontinuity  Flags = 1 << 6 // of counters
	State          Flags = 1 << 7 // of binaries
)

var lowFlags = [...]string{"online", "restart", "comm lost", "remote forced", "local forced"}

// Names are the flags that are set, for a kind.
func (f Flags) Names(k Kind) (list []string) {
	for bit, name := range lowFlags {
		if f>>bit&1 != 0 {
			list = append(list, name)
		}
	}
	add := func(bit Flags, name string) {
		if f&bit != 0 {
			list = append(list, name)
		}
	}
	switch k {
	case BinaryInput, DoubleBitInput:
		add(Chatter, "chatter")
	case Counter, FrozenCounter:
		add(Rollover, "rollover")
		add(Discontinuity, "discontinuity")
	case AnalogInput, FrozenAnalog, AnalogOutput:
		add(OverRange, "over-range")
		add(ReferenceError, "reference error")
	}
	return list
}

// Time is a moment as DNP3 has it: milliseconds since 1970, UTC, in 48 bits.
type Time int64

// TimeOf is the Time of t.
func TimeOf(t time.Time) Time { return Time(t.UnixMilli()) }

// Go is t as Go has it. The 48 bits reach into the year 10889.
func (t Time) Go() time.Time { return time.UnixMilli(int64(t)).UTC() }

func appendTime(b []byte, t Time) []byte {
	return append(b, byte(t), byte(t>>8), byte(t>>16), byte(t>>24), byte(t>>32), byte(t>>40))
}

func readTime(b []byte) Time {
	return Time(b[0]) | Time(b[1])<<8 | Time(b[2])<<16 | Time(b[3])<<24 | Time(b[4])<<32 | Time(b[5])<<40
}

// Measurement is a value of a point, present or of an event.
type Measurement struct {
	Kind             Kind
	Group, Variation byte
	Index            uint16
	Event            bool
	Value            codec.Value // bool, integer, float or text; nothing when a float is no number
	Flags            Flags
	HasFlags         bool
	Command          bool // it tells of a command and its Status, not of a change
	Status           Status
	Time             Time
	HasTime          bool
	Unsynchronised   bool // the device's clock was not set
}

// ValueText is a value as a person reads it: a number in single precision has no digits beyond those it came with.
func ValueText(v codec.Value) string {
	f, ok := v.Float()
	switch {
	case v.IsZero():
		return "not a number"
	case ok && v.Kind() == codec.Float && f == float64(float32(f)):
		return strconv.FormatFloat(f, 'g', -1, 32)
	}
	return v.String()
}

// Good reports whether m is online and free of what makes it doubtful. An object without flags is online: 11.6.1.
func (m *Measurement) Good() bool {
	return !m.HasFlags || m.Flags&(Online|Restart|CommLost|RemoteForced|LocalForced) == Online
}

// HasEvents reports whether a fragment of a response has events, by its object headers alone.
func HasEvents(objects []byte) bool {
	o := ReadObjects(objects, FuncResponse)
	for o.Next() {
		if s := shapeOf(o.Header.Group, o.Header.Variation); s != nil && s.kind != NoKind && s.event && o.Header.Count > 0 {
			return true
		}
	}
	return false
}

// Measurements visits every measurement of a fragment in order, and every other header with what nil. m holds until visit
// returns. The common times of occurrence are taken in. It stops at the first fault that hides what follows, and returns the first of
// all faults. Points whose objects come with a size before each instead of an index (qualifier 5B) are not known by it, so they are
// passed over: ErrSize.
func Measurements(objects []byte, visit func(m *Measurement, other *Objects)) error {
	o := ReadObjects(objects, FuncResponse)
	var m Measurement
	var common Time
	var unsynchronised bool
	var fault error
	for o.Next() {
		h := o.Header
		s := shapeOf(h.Group, h.Variation)
		if s == nil || s.kind == NoKind {
			if h.Group == 51 && o.Plain() && len(o.Body) >= 6 {
				common, unsynchronised = readTime(o.Body[len(o.Body)-6:]), h.Variation == 2
			}
			visit(nil, &o)
			continue
		}
		if h.Qualifier == FreeCount || h.Qualifier == All && h.Count > 0 {
			if fault == nil {
				fault = fmt.Errorf("%w: g%dv%d", ErrSize, h.Group, h.Variation)
			}
			continue
		}
		m = Measurement{Kind: s.kind, Group: h.Group, Variation: h.Variation, Event: s.event, HasFlags: s.flags, HasTime: s.time != timeNone}
		if s.status {
			m.Command, m.HasFlags = true, false
		}
		size, prefix := s.octets(h.Variation), h.Qualifier.Prefix()
		body := o.Body
		for i := range h.Count {
			switch prefix {
			case 0:
				m.Index = uint16(h.Start + i)
			case 1:
				m.Index = uint16(body[0])
			default:
				m.Index = uint16(body[0]) | uint16(body[1])<<8
			}
			if s.bits != 0 {
				m.packed(s, body, int(i))
			} else {
				m.read(s, body[prefix:prefix+size], common, unsynchronised)
				body = body[prefix+size:]
			}
			visit(&m, nil)
		}
	}
	if o.Err != nil {
		return o.Err
	}
	return fault
}

// packed reads the i-th of packed objects, of which the first are in the low bits.
func (m *Measurement) packed(s *shape, body []byte, i int) {
	if s.bits == 1 {
		m.Value = codec.BoolValue(body[i/8]>>(i%8)&1 == 1)
		return
	}
	m.Value = codec.UintValue(uint64(body[i/4] >> (i % 4 * 2) & 3))
}

// read reads one object that is not packed.
func (m *Measurement) read(s *shape, b []byte, common Time, unsynchronised bool) {
	if s.flags {
		m.Flags, b = Flags(b[0]), b[1:]
		if s.status {
			m.Status, m.Flags = Status(m.Flags&^State), m.Flags&State
		}
	}
	switch s.value {
	case valueBit:
		m.Value = codec.BoolValue(m.Flags&State != 0)
	case valueDouble:
		m.Value = codec.UintValue(uint64(m.Flags >> 6))
	case valueText:
		m.Value = codec.TextValue(strings.TrimRight(string(b), "\x00"))
		return
	default:
		m.Value = readValue(s.value, b)
		b = b[valueOctets[s.value]:]
	}
	switch s.time {
	case timeAbsolute:
		m.Time, m.Unsynchronised = readTime(b), false
	case timeRelative:
		m.Time, m.Unsynchronised = common+Time(binary.LittleEndian.Uint16(b)), unsynchronised
		m.HasTime = common != 0
	}
}

func readValue(v value, b []byte) codec.Value {
	switch v {
	case valueU16:
		return codec.UintValue(uint64(binary.LittleEndian.Uint16(b)))
	case valueU32:
		return codec.UintValue(uint64(binary.LittleEndian.Uint32(b)))
	case valueI16:
		return codec.IntValue(int64(int16(binary.LittleEndian.Uint16(b))))
	case valueI32:
		return codec.IntValue(int64(int32(binary.LittleEndian.Uint32(b))))
	case valueF32:
		return codec.FloatValue(float64(math.Float32frombits(binary.LittleEndian.Uint32(b))))
	}
	return codec.FloatValue(math.Float64frombits(binary.LittleEndian.Uint64(b)))
}

// appendValue appends a number; one beyond the range becomes the end of it, and over says so (11.6.4, over-range).
func appendValue(b []byte, v value, number codec.Value) (_ []byte, over bool) {
	f, _ := number.Float()
	whole := func(lo, hi float64) int64 {
		r := math.Round(f)
		over = r < lo || r > hi
		return int64(min(max(r, lo), hi))
	}
	switch v {
	case valueU16:
		return binary.LittleEndian.AppendUint16(b, uint16(uint64(f))), false // counters go round
	case valueU32:
		return binary.LittleEndian.AppendUint32(b, uint32(uint64(f))), false
	case valueI16:
		n := whole(math.MinInt16, math.MaxInt16)
		return binary.LittleEndian.AppendUint16(b, uint16(n)), over
	case valueI32:
		n := whole(math.MinInt32, math.MaxInt32)
		return binary.LittleEndian.AppendUint32(b, uint32(n)), over
	case valueF32:
		over = math.Abs(f) > math.MaxFloat32
		f = min(max(f, -math.MaxFloat32), math.MaxFloat32)
		return binary.LittleEndian.AppendUint32(b, math.Float32bits(float32(f))), over
	}
	return binary.LittleEndian.AppendUint64(b, math.Float64bits(f)), false
}

// AppendMeasurement appends the object of m in its group and variation, without header or index; not of packed ones. common is
// what relative times count from.
func AppendMeasurement(b []byte, m *Measurement, common Time) []byte {
	s := shapeOf(m.Group, m.Variation)
	flags := m.Flags
	switch s.value {
	case valueBit:
		flags &^= State
		if m.Value.Bool() {
			flags |= State
		}
		if s.status {
			flags = flags&State | Flags(m.Status)
		}
	case valueDouble:
		n, _ := m.Value.Float()
		flags = flags&0x3F | Flags(byte(n)&3)<<6
	}
	if s.status && s.value != valueBit {
		flags = Flags(m.Status)
	}
	at := len(b)
	if s.flags {
		b = append(b, byte(flags))
	}
	switch s.value {
	case valueBit, valueDouble:
	case valueText:
		text := make([]byte, m.Variation)
		copy(text, m.Value.Text())
		return append(b, text...)
	default:
		var over bool
		if b, over = appendValue(b, s.value, m.Value); over && s.flags && !s.status {
			b[at] |= byte(OverRange)
		}
	}
	switch s.time {
	case timeAbsolute:
		b = appendTime(b, m.Time)
	case timeRelative:
		b = binary.LittleEndian.AppendUint16(b, uint16(m.Time-common))
	}
	return b
}

// Octets is the size of an object of a group and variation, 0 when it is packed or unknown.
func Octets(group, variation byte) int {
	if s := shapeOf(group, variation); s != nil && s.bits == 0 {
		return s.octets(variation)
	}
	return 0
}

// Relative reports whether objects of a group and variation have a relative time.
func Relative(group, variation byte) bool {
	s := shapeOf(group, variation)
	return s != nil && s.time == timeRelative
}

// Packed is how many bits a packed object of a group and variation has, 0 when it is none.
func Packed(group, variation byte) int {
	if s := shapeOf(group, variation); s != nil {
		return s.bits
	}
	return 0
}
