package dnp3

import (
	"encoding/binary"
	"fmt"
	"math"

	"arithmon/internal/core/codec"
)

// Status is the status code of a command (IEEE 1815-2012, 11.7, table 11-10).
type Status byte

// The status codes.
const (
	StatusSuccess           Status = 0
	StatusTimeout           Status = 1
	StatusNoSelect          Status = 2
	StatusFormatError       Status = 3
	StatusNotSupported      Status = 4
	StatusAlreadyActive     Status = 5
	StatusHardwareError     Status = 6
	StatusLocal             Status = 7
	StatusTooManyOps        Status = 8
	StatusNotAuthorised     Status = 9
	StatusAutomationInhibit Status = 10
	StatusProcessingLimited Status = 11
	StatusOutOfRange        Status = 12
	StatusNotParticipating  Status = 126
	StatusUndefined         Status = 127
)

var statusTexts = map[Status]string{
	StatusSuccess:           "success",
	StatusTimeout:           "timeout: the operate came too late after the select",
	StatusNoSelect:          "no select: an operate without a matching select before it",
	StatusFormatError:       "format error: the device finds the request malformed",
	StatusNotSupported:      "not supported: the device does not control this point, or not in this way",
	StatusAlreadyActive:     "already active: the output is busy, or the queue is full",
	StatusHardwareError:     "hardware error: the device has trouble with the output",
	StatusLocal:             "local: the point is switched to local control",
	StatusTooManyOps:        "too many operations at once",
	StatusNotAuthorised:     "not authorised",
	StatusAutomationInhibit: "inhibited by the device's own automation",
	StatusProcessingLimited: "processing limited: the device has no resources left",
	StatusOutOfRange:        "out of range: the value is beyond what the point takes",
	StatusNotParticipating:  "not participating",
	StatusUndefined:         "undefined error",
}

func (s Status) String() string {
	if text, ok := statusTexts[s]; ok {
		return text
	}
	return fmt.Sprintf("status %d", byte(s))
}

// ControlCode is the control code of a control relay output block (A.8.1).
type ControlCode byte

// The codes; the operation is in the low nibble, trip or close in the upper two bits.
const (
	Nul      ControlCode = 0
	PulseOn  ControlCode = 1
	PulseOff ControlCode = 2
	LatchOn  ControlCode = 3
	LatchOff ControlCode = 4
	Queue    ControlCode = 0x10 // obsolete
	Clear    ControlCode = 0x20
	Close    ControlCode = 0x40
	Trip     ControlCode = 0x80
)

func (c ControlCode) String() string {
	op := c & 0x0F
	name := fmt.Sprintf("operation %d", op)
	if int(op) < 5 {
		name = [...]string{"nul", "pulse on", "pulse off", "latch on", "latch off"}[op]
	}
	switch c & 0xC0 {
	case Close:
		name = "close, " + name
	case Trip:
		name = "trip, " + name
	}
	if c&Clear != 0 {
		name += ", clear"
	}
	return name
}

// Output is a control relay output block (group 12 variation 1).
type Output struct {
	Code    ControlCode
	Count   byte
	On, Off uint32 // milliseconds
	Status  Status
}

// AppendOutput appends the object.
func AppendOutput(b []byte, o Output) []byte {
	b = append(b, byte(o.Code), o.Count)
	b = binary.LittleEndian.AppendUint32(b, o.On)
	b = binary.LittleEndian.AppendUint32(b, o.Off)
	return append(b, byte(o.Status))
}

// ReadOutput reads the object's 11 octets.
func ReadOutput(b []byte) Output {
	return Output{ControlCode(b[0]), b[1], binary.LittleEndian.Uint32(b[2:]), binary.LittleEndian.Uint32(b[6:]), Status(b[10] & 0x7F)}
}

// AnalogCommand is an analog output block (group 41) of a variation: 1 int32, 2 int16, 3 binary32, 4 binary64.
type AnalogCommand struct {
	Variation byte
	Value     codec.Value
	Status    Status
}

var commandValues = [...]value{1: valueI32, 2: valueI16, 3: valueF32, 4: valueF64}

// AppendAnalogCommand appends the object; a value that does not fit its variation is an error.
func AppendAnalogCommand(b []byte, c AnalogCommand) ([]byte, error) {
	if c.Variation < 1 || c.Variation > 4 {
		return b, fmt.Errorf("%w g41v%d", ErrObject, c.Variation)
	}
	if f, _ := c.Value.Float(); c.Variation <= 2 && f != math.Trunc(f) {
		return b, fmt.Errorf("%s is not a whole number, which g41v%d takes", c.Value, c.Variation)
	}
	b, over := appendValue(b, commandValues[c.Variation], c.Value)
	if over {
		return b, fmt.Errorf("%s is beyond what g41v%d takes", c.Value, c.Variation)
	}
	return append(b, byte(c.Status)), nil
}

// ReadAnalogCommand reads an object of a variation.
func ReadAnalogCommand(variation byte, b []byte) AnalogCommand {
	v := commandValues[variation]
	return AnalogCommand{variation, readValue(v, b), Status(b[valueOctets[v]] & 0x7F)}
}

// AppendDeadband appends a deadband (group 34) of a variation: 1 uint16, 2 uint32, 3 binary32.
func AppendDeadband(b []byte, variation byte, v float64) []byte {
	switch variation {
	case 1:
		return binary.LittleEndian.AppendUint16(b, uint16(min(max(math.Round(v), 0), math.MaxUint16)))
	case 2:
		return binary.LittleEndian.AppendUint32(b, uint32(min(max(math.Round(v), 0), math.MaxUint32)))
	}
	return binary.LittleEndian.AppendUint32(b, math.Float32bits(float32(v)))
}

// ReadDeadband reads a deadband of a variation.
func ReadDeadband(variation byte, b []byte) float64 {
	switch variation {
	case 1:
		return float64(binary.LittleEndian.Uint16(b))
	case 2:
		return float64(binary.LittleEndian.Uint32(b))
	}
	return float64(math.Float32frombits(binary.LittleEndian.Uint32(b)))
}

// AppendTimeObject appends a header of one time (group 50 variation 1 or 3) and the time.
func AppendTimeObject(b []byte, variation byte, t Time) []byte {
	b = AppendHeader(b, Header{50, variation, Count8, 0, 1})
	return appendTime(b, t)
}

// AppendCommonTime appends a common time of occurrence, synchronised (group 51 variation 1) or not (2).
func AppendCommonTime(b []byte, t Time, unsynchronised bool) []byte {
	variation := byte(1)
	if unsynchronised {
		variation = 2
	}
	b = AppendHeader(b, Header{51, variation, Count8, 0, 1})
	return appendTime(b, t)
}

// AppendDelay appends a time delay in milliseconds (group 52 variation 2).
func AppendDelay(b []byte, ms uint16) []byte {
	b = AppendHeader(b, Header{52, 2, Count8, 0, 1})
	return binary.LittleEndian.AppendUint16(b, ms)
}

// ReadTime reads the 6 octets of a time.
func ReadTime(b []byte) Time { return readTime(b) }

// ReadDelay reads a time delay of a variation in milliseconds: 1 counts seconds.
func ReadDelay(variation byte, b []byte) int {
	n := int(binary.LittleEndian.Uint16(b))
	if variation == 1 {
		n *= 1000
	}
	return n
}
