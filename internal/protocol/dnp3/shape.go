package dnp3

import "fmt"

// Kind is a type of point. Its numbers are of no meaning outside.
type Kind uint8

// The kinds.
const (
	NoKind Kind = iota
	BinaryInput
	DoubleBitInput
	BinaryOutput
	Counter
	FrozenCounter
	AnalogInput
	FrozenAnalog
	AnalogOutput
	OctetString
	KindCount
)

var kindNames = [...]string{"", "binary input", "double-bit input", "binary output", "counter", "frozen counter", "analog input", "frozen analog input", "analog output", "octet string"}

func (k Kind) String() string { return kindNames[k] }

// kindCodes are the short names of kinds; of frozen analog inputs there is none.
var kindCodes = [...]string{"", "bi", "dbi", "bo", "ctr", "fctr", "ai", "", "ao", "os"}

// Code is the short name of a kind: bi, dbi, bo, ctr, fctr, ai, ao, os; "" for others.
func (k Kind) Code() string { return kindCodes[k] }

// KindOf is the kind of a short name, NoKind for others.
func KindOf(code string) Kind {
	for k := BinaryInput; k < KindCount; k++ {
		if kindCodes[k] == code && code != "" {
			return k
		}
	}
	return NoKind
}

// StaticGroup is the object group of a kind's present values, EventGroup that of its events.
func (k Kind) StaticGroup() byte { return [...]byte{0, 1, 3, 10, 20, 21, 30, 31, 40, 110}[k] }

// EventGroup is the object group of a kind's events.
func (k Kind) EventGroup() byte { return [...]byte{0, 2, 4, 11, 22, 23, 32, 33, 42, 111}[k] }

// value is how an object carries its value.
type value uint8

const (
	valueNone   value = iota
	valueBit          // packed, or in the flags
	valueDouble       // two bits, packed, or in the flags
	valueU16
	valueU32
	valueI16
	valueI32
	valueF32
	valueF64
	valueText // as many octets as the variation says
)

var valueOctets = [...]int{valueU16: 2, valueU32: 4, valueI16: 2, valueI32: 4, valueF32: 4, valueF64: 8, valueText: 0}

// timing is the time of an object.
type timing uint8

const (
	timeNone     timing = iota
	timeAbsolute        // 48 bits, milliseconds since 1970
	timeRelative        // 16 bits, milliseconds since the common time of occurrence
)

var timeOctets = [...]int{0, 6, 2}

// shape is how an object group and variation is laid out (IEEE 1815-2012, annex A).
type shape struct {
	group, variation byte
	kind             Kind // NoKind of what is no measurement
	event            bool
	flags            bool
	status           bool // the flags octet is a command's status: A.8, A.43
	value            value
	time             timing
	bits             int  // of packed objects
	fixed            int  // octets of what is no measurement; of deltas of counters and of what is only passed over, too
	sized            bool // the variation is the number of octets
	skip             bool // it is passed over, and nothing more
}

// octets is the size of one object.
func (s *shape) octets(variation byte) int {
	switch {
	case s.sized:
		return int(variation)
	case s.kind == NoKind:
		return s.fixed
	}
	n := timeOctets[s.time]
	if s.flags {
		n++
	}
	if s.value == valueText {
		return n + int(variation)
	}
	return n + valueOctets[s.value]
}

var shapes = [...]shape{
	{group: 1, variation: 1, kind: BinaryInput, value: valueBit, bits: 1},
	{group: 1, variation: 2, kind: BinaryInput, value: valueBit, flags: true},
	{group: 2, variation: 1, kind: BinaryInput, event: true, value: valueBit, flags: true},
	{group: 2, variation: 2, kind: BinaryInput, event: true, value: valueBit, flags: true, time: timeAbsolute},
	{group: 2, variation: 3, kind: BinaryInput, event: true, value: valueBit, flags: true, time: timeRelative},
	{group: 3, variation: 1, kind: DoubleBitInput, value: valueDouble, bits: 2},
	{group: 3, variation: 2, kind: DoubleBitInput, value: valueDouble, flags: true},
	{group: 4, variation: 1, kind: DoubleBitInput, event: true, value: valueDouble, flags: true},
	{group: 4, variation: 2, kind: DoubleBitInput, event: true, value: valueDouble, flags: true, time: timeAbsolute},
	{group: 4, variation: 3, kind: DoubleBitInput, event: true, value: valueDouble, flags: true, time: timeRelative},
	{group: 10, variation: 1, kind: BinaryOutput, value: valueBit, bits: 1},
	{group: 10, variation: 2, kind: BinaryOutput, value: valueBit, flags: true},
	{group: 11, variation: 1, kind: BinaryOutput, event: true, value: valueBit, flags: true},
	{group: 11, variation: 2, kind: BinaryOutput, event: true, value: valueBit, flags: true, time: timeAbsolute},
	{group: 12, variation: 1, fixed: 11},
	{group: 12, variation: 2, fixed: 11},
	{group: 12, variation: 3, bits: 1},
	{group: 13, variation: 1, kind: BinaryOutput, event: true, value: valueBit, flags: true, status: true},
	{group: 13, variation: 2, kind: BinaryOutput, event: true, value: valueBit, flags: true, status: true, time: timeAbsolute},
	{group: 20, variation: 1, kind: Counter, value: valueU32, flags: true},
	{group: 20, variation: 2, kind: Counter, value: valueU16, flags: true},
	{group: 20, variation: 3, fixed: 5, skip: true},
	{group: 20, variation: 4, fixed: 3, skip: true},
	{group: 20, variation: 5, kind: Counter, value: valueU32},
	{group: 20, variation: 6, kind: Counter, value: valueU16},
	{group: 20, variation: 7, fixed: 4, skip: true},
	{group: 20, variation: 8, fixed: 2, skip: true},
	{group: 21, variation: 1, kind: FrozenCounter, value: valueU32, flags: true},
	{group: 21, variation: 2, kind: FrozenCounter, value: valueU16, flags: true},
	{group: 21, variation: 3, fixed: 5, skip: true},
	{group: 21, variation: 4, fixed: 3, skip: true},
	{group: 21, variation: 7, fixed: 11, skip: true},
	{group: 21, variation: 8, fixed: 9, skip: true},
	{group: 21, variation: 11, fixed: 4, skip: true},
	{group: 21, variation: 12, fixed: 2, skip: true},
	{group: 21, variation: 5, kind: FrozenCounter, value: valueU32, flags: true, time: timeAbsolute},
	{group: 21, variation: 6, kind: FrozenCounter, value: valueU16, flags: true, time: timeAbsolute},
	{group: 21, variation: 9, kind: FrozenCounter, value: valueU32},
	{group: 21, variation: 10, kind: FrozenCounter, value: valueU16},
	{group: 22, variation: 1, kind: Counter, event: true, value: valueU32, flags: true},
	{group: 22, variation: 2, kind: Counter, event: true, value: valueU16, flags: true},
	{group: 22, variation: 3, fixed: 5, skip: true},
	{group: 22, variation: 4, fixed: 3, skip: true},
	{group: 22, variation: 7, fixed: 11, skip: true},
	{group: 22, variation: 8, fixed: 9, skip: true},
	{group: 22, variation: 5, kind: Counter, event: true, value: valueU32, flags: true, time: timeAbsolute},
	{group: 22, variation: 6, kind: Counter, event: true, value: valueU16, flags: true, time: timeAbsolute},
	{group: 23, variation: 1, kind: FrozenCounter, event: true, value: valueU32, flags: true},
	{group: 23, variation: 2, kind: FrozenCounter, event: true, value: valueU16, flags: true},
	{group: 23, variation: 3, fixed: 5, skip: true},
	{group: 23, variation: 4, fixed: 3, skip: true},
	{group: 23, variation: 7, fixed: 11, skip: true},
	{group: 23, variation: 8, fixed: 9, skip: true},
	{group: 23, variation: 5, kind: FrozenCounter, event: true, value: valueU32, flags: true, time: timeAbsolute},
	{group: 23, variation: 6, kind: FrozenCounter, event: true, value: valueU16, flags: true, time: timeAbsolute},
	{group: 30, variation: 1, kind: AnalogInput, value: valueI32, flags: true},
	{group: 30, variation: 2, kind: AnalogInput, value: valueI16, flags: true},
	{group: 30, variation: 3, kind: AnalogInput, value: valueI32},
	{group: 30, variation: 4, kind: AnalogInput, value: valueI16},
	{group: 30, variation: 5, kind: AnalogInput, value: valueF32, flags: true},
	{group: 30, variation: 6, kind: AnalogInput, value: valueF64, flags: true},
	{group: 31, variation: 1, kind: FrozenAnalog, value: valueI32, flags: true},
	{group: 31, variation: 2, kind: FrozenAnalog, value: valueI16, flags: true},
	{group: 31, variation: 3, kind: FrozenAnalog, value: valueI32, flags: true, time: timeAbsolute},
	{group: 31, variation: 4, kind: FrozenAnalog, value: valueI16, flags: true, time: timeAbsolute},
	{group: 31, variation: 5, kind: FrozenAnalog, value: valueI32},
	{group: 31, variation: 6, kind: FrozenAnalog, value: valueI16},
	{group: 31, variation: 7, kind: FrozenAnalog, value: valueF32, flags: true},
	{group: 31, variation: 8, kind: FrozenAnalog, value: valueF64, flags: true},
	{group: 32, variation: 1, kind: AnalogInput, event: true, value: valueI32, flags: true},
	{group: 32, variation: 2, kind: AnalogInput, event: true, value: valueI16, flags: true},
	{group: 32, variation: 3, kind: AnalogInput, event: true, value: valueI32, flags: true, time: timeAbsolute},
	{group: 32, variation: 4, kind: AnalogInput, event: true, value: valueI16, flags: true, time: timeAbsolute},
	{group: 32, variation: 5, kind: AnalogInput, event: true, value: valueF32, flags: true},
	{group: 32, variation: 6, kind: AnalogInput, event: true, value: valueF64, flags: true},
	{group: 32, variation: 7, kind: AnalogInput, event: true, value: valueF32, flags: true, time: timeAbsolute},
	{group: 32, variation: 8, kind: AnalogInput, event: true, value: valueF64, flags: true, time: timeAbsolute},
	{group: 33, variation: 1, kind: FrozenAnalog, event: true, value: valueI32, flags: true},
	{group: 33, variation: 2, kind: FrozenAnalog, event: true, value: valueI16, flags: true},
	{group: 33, variation: 3, kind: FrozenAnalog, event: true, value: valueI32, flags: true, time: timeAbsolute},
	{group: 33, variation: 4, kind: FrozenAnalog, event: true, value: valueI16, flags: true, time: timeAbsolute},
	{group: 33, variation: 5, kind: FrozenAnalog, event: true, value: valueF32, flags: true},
	{group: 33, variation: 6, kind: FrozenAnalog, event: true, value: valueF64, flags: true},
	{group: 33, variation: 7, kind: FrozenAnalog, event: true, value: valueF32, flags: true, time: timeAbsolute},
	{group: 33, variation: 8, kind: FrozenAnalog, event: true, value: valueF64, flags: true, time: timeAbsolute},
	{group: 34, variation: 1, fixed: 2},
	{group: 34, variation: 2, fixed: 4},
	{group: 34, variation: 3, fixed: 4},
	{group: 40, variation: 1, kind: AnalogOutput, value: valueI32, flags: true},
	{group: 40, variation: 2, kind: AnalogOutput, value: valueI16, flags: true},
	{group: 40, variation: 3, kind: AnalogOutput, value: valueF32, flags: true},
	{group: 40, variation: 4, kind: AnalogOutput, value: valueF64, flags: true},
	{group: 41, variation: 1, fixed: 5},
	{group: 41, variation: 2, fixed: 3},
	{group: 41, variation: 3, fixed: 5},
	{group: 41, variation: 4, fixed: 9},
	{group: 42, variation: 1, kind: AnalogOutput, event: true, value: valueI32, flags: true},
	{group: 42, variation: 2, kind: AnalogOutput, event: true, value: valueI16, flags: true},
	{group: 42, variation: 3, kind: AnalogOutput, event: true, value: valueI32, flags: true, time: timeAbsolute},
	{group: 42, variation: 4, kind: AnalogOutput, event: true, value: valueI16, flags: true, time: timeAbsolute},
	{group: 42, variation: 5, kind: AnalogOutput, event: true, value: valueF32, flags: true},
	{group: 42, variation: 6, kind: AnalogOutput, event: true, value: valueF64, flags: true},
	{group: 42, variation: 7, kind: AnalogOutput, event: true, value: valueF32, flags: true, time: timeAbsolute},
	{group: 42, variation: 8, kind: AnalogOutput, event: true, value: valueF64, flags: true, time: timeAbsolute},
	{group: 43, variation: 1, kind: AnalogOutput, event: true, value: valueI32, flags: true, status: true},
	{group: 43, variation: 2, kind: AnalogOutput, event: true, value: valueI16, flags: true, status: true},
	{group: 43, variation: 3, kind: AnalogOutput, event: true, value: valueI32, flags: true, status: true, time: timeAbsolute},
	{group: 43, variation: 4, kind: AnalogOutput, event: true, value: valueI16, flags: true, status: true, time: timeAbsolute},
	{group: 43, variation: 5, kind: AnalogOutput, event: true, value: valueF32, flags: true, status: true},
	{group: 43, variation: 6, kind: AnalogOutput, event: true, value: valueF64, flags: true, status: true},
	{group: 43, variation: 7, kind: AnalogOutput, event: true, value: valueF32, flags: true, status: true, time: timeAbsolute},
	{group: 43, variation: 8, kind: AnalogOutput, event: true, value: valueF64, flags: true, status: true, time: timeAbsolute},
	{group: 50, variation: 1, fixed: 6},
	{group: 50, variation: 2, fixed: 10},
	{group: 50, variation: 3, fixed: 6},
	{group: 50, variation: 4, fixed: 11},
	{group: 51, variation: 1, fixed: 6},
	{group: 51, variation: 2, fixed: 6},
	{group: 52, variation: 1, fixed: 2},
	{group: 52, variation: 2, fixed: 2},
	{group: 60, variation: 1}, {group: 60, variation: 2}, {group: 60, variation: 3}, {group: 60, variation: 4},
	{group: 80, variation: 1, bits: 1},
	{group: 101, variation: 1, fixed: 2, skip: true},
	{group: 101, variation: 2, fixed: 4, skip: true},
	{group: 101, variation: 3, fixed: 8, skip: true},
	{group: 102, variation: 1, fixed: 1, skip: true},
	{group: 110, variation: 0, kind: OctetString, value: valueText},
	{group: 111, variation: 0, kind: OctetString, event: true, value: valueText},
	{group: 112, variation: 0, sized: true, skip: true},
	{group: 113, variation: 0, sized: true, skip: true},
	{group: 121, variation: 1, fixed: 7, skip: true},
	{group: 122, variation: 1, fixed: 7, skip: true},
	{group: 122, variation: 2, fixed: 13, skip: true},
}

// byGroup finds shapes fast.
var byGroup = func() (t [123][16]*shape) {
	for i := range shapes {
		t[shapes[i].group][shapes[i].variation] = &shapes[i]
	}
	return t
}()

// shapeOf is the shape of a group and variation, nil when it is unknown.
func shapeOf(group, variation byte) *shape {
	switch {
	case group >= 110 && group <= 113:
		return byGroup[group][0]
	case int(group) >= len(byGroup) || int(variation) >= len(byGroup[0]):
		return nil
	}
	return byGroup[group][variation]
}

// Known reports whether a group and variation is one that is read and written here; variation 0 means any.
func Known(group, variation byte) bool {
	if group == 0 {
		return true
	}
	if variation != 0 || group == 110 || group == 111 {
		s := shapeOf(group, variation)
		return s != nil && !s.skip
	}
	for i := range shapes {
		if shapes[i].group == group && !shapes[i].skip {
			return true
		}
	}
	return false
}

// Shapes lists what is known of all groups and variations, for documents and for tests.
func Shapes() (list []struct{ Group, Variation byte }) {
	for i := range shapes {
		if shapes[i].skip {
			continue
		}
		list = append(list, struct{ Group, Variation byte }{shapes[i].group, shapes[i].variation})
	}
	return list
}

var groupNames = map[byte]string{
	0: "device attribute", 1: "binary input", 2: "binary input event", 3: "double-bit input", 4: "double-bit input event",
	10: "binary output", 11: "binary output event", 12: "control relay output block", 13: "binary output command event",
	20: "counter", 21: "frozen counter", 22: "counter event", 23: "frozen counter event",
	30: "analog input", 31: "frozen analog input", 32: "analog input event", 33: "frozen analog input event", 34: "analog input deadband",
	40: "analog output", 41: "analog output command", 42: "analog output event", 43: "analog output command event",
	50: "time and date", 51: "common time of occurrence", 52: "time delay", 60: "class", 80: "internal indications",
	101: "binary-coded decimal", 102: "unsigned integer", 110: "octet string", 111: "octet string event",
	112: "virtual terminal output", 113: "virtual terminal event", 121: "security statistic", 122: "security statistic event",
}

// GroupName says what objects of a group are.
func GroupName(group byte) string {
	if name, ok := groupNames[group]; ok {
		return name
	}
	return fmt.Sprintf("group %d", group)
}
