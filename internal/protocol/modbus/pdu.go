// Package modbus is a Modbus client and server. Protocol data units and their framing are apart, so that one set of
// requests serves every line.
//
// Sources: MODBUS Application Protocol Specification V1.1b3 (cited as AP) and MODBUS Messaging on TCP/IP
// Implementation Guide V1.0b (cited as TCP).
package modbus

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
)

// Function is a function code (AP 5.1).
type Function byte

// The function codes that are spoken here.
const (
	ReadCoils                  Function = 1
	ReadDiscreteInputs         Function = 2
	ReadHoldingRegisters       Function = 3
	ReadInputRegisters         Function = 4
	WriteSingleCoil            Function = 5
	WriteSingleRegister        Function = 6
	Diagnostics                Function = 8
	WriteMultipleCoils         Function = 15
	WriteMultipleRegisters     Function = 16
	ReportServerID             Function = 17
	MaskWriteRegister          Function = 22
	ReadWriteMultipleRegisters Function = 23
	EncapsulatedInterface      Function = 43
)

// Sub-codes of Diagnostics and EncapsulatedInterface.
const (
	ReturnQueryData          = 0  // AP 6.8.1
	ReadDeviceIdentification = 14 // AP 6.21
)

var functionNames = map[Function]string{
	ReadCoils: "Read Coils", ReadDiscreteInputs: "Read Discrete Inputs", ReadHoldingRegisters: "Read Holding Registers",
	ReadInputRegisters: "Read Input Registers", WriteSingleCoil: "Write Single Coil", WriteSingleRegister: "Write Single Register",
	WriteMultipleCoils: "Write Multiple Coils", WriteMultipleRegisters: "Write Multiple Registers", MaskWriteRegister: "Mask Write Register",
	Diagnostics: "Diagnostics", ReportServerID: "Report Server ID", ReadWriteMultipleRegisters: "Read/Write Multiple Registers",
	EncapsulatedInterface: "Encapsulated Interface Transport",
}

// Functions names the functions by their codes.
func Functions() map[int]string {
	all := map[int]string{}
	for f, name := range functionNames {
		all[int(f)] = name
	}
	return all
}

// Name is the standard's name of the function; "" for one that is not spoken here.
func (f Function) Name() string { return functionNames[f] }

func (f Function) String() string {
	if name, ok := functionNames[f]; ok {
		return fmt.Sprintf("%s (%d)", name, byte(f))
	}
	return fmt.Sprintf("function %d", byte(f))
}

// Bits reports whether f is about coils or discrete inputs rather than registers.
func (f Function) Bits() bool {
	return f == ReadCoils || f == ReadDiscreteInputs || f == WriteSingleCoil || f == WriteMultipleCoils
}

// reads reports whether f reads a table and does nothing else.
func (f Function) reads() bool { return f >= ReadCoils && f <= ReadInputRegisters }

// Writes reports whether f changes something in the device.
func (f Function) Writes() bool {
	return !f.reads() && f != Diagnostics && f != ReportServerID && f != EncapsulatedInterface
}

// Limits of quantities, each with its clause of AP.
const (
	MaxReadBits       = 2000 // 6.1, 6.2
	MaxReadRegisters  = 125  // 6.3, 6.4
	MaxWriteBits      = 1968 // 6.11
	MaxWriteRegisters = 123  // 6.12
	MaxReadWrite      = 121  // 6.17, of those written
	MaxPDU            = 253  // 4.1
)

const (
	exceptionFlag = 0x80   // AP 7: set in the function code of an exception response
	coilOn        = 0xFF00 // AP 6.5
	coilOff       = 0x0000
)

// Exception is an exception code that a device answered (AP 7).
type Exception byte

// The exception codes.
const (
	IllegalFunction     Exception = 1
	IllegalDataAddress  Exception = 2
	IllegalDataValue    Exception = 3
	ServerDeviceFailure Exception = 4
	Acknowledge         Exception = 5
	ServerDeviceBusy    Exception = 6
	MemoryParityError   Exception = 8
	GatewayPathFailure  Exception = 10
	GatewayTargetFailed Exception = 11
)

var exceptionNames = map[Exception]string{
	IllegalFunction: "illegal function", IllegalDataAddress: "illegal data address", IllegalDataValue: "illegal data value",
	ServerDeviceFailure: "server device failure", Acknowledge: "acknowledge", ServerDeviceBusy: "server device busy",
	MemoryParityError: "memory parity error", GatewayPathFailure: "gateway path unavailable",
	GatewayTargetFailed: "gateway target device failed to respond",
}

// Name is the standard's name of the code, "unassigned" for one it does not have.
func (e Exception) Name() string {
	if name, ok := exceptionNames[e]; ok {
		return name
	}
	return "unassigned"
}

// Exceptions lists the codes that the standard has (MODBUS Application Protocol V1.1b3, 7).
func Exceptions() []Exception { return slices.Sorted(maps.Keys(exceptionNames)) }

func (e Exception) Error() string { return fmt.Sprintf("exception %d (%s)", byte(e), e.Name()) }

// ErrBadResponse is wrapped by every error that says that the bytes that came are no valid response.
var ErrBadResponse = errors.New("bad response")

func badResponse(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrBadResponse, fmt.Sprintf(format, args...))
}

// LengthError says that a response has other data than were asked for. It wraps ErrBadResponse.
type LengthError struct {
	Function Function
	Quantity uint16
	Got, Due int // bytes
	Says     int // bytes that its count announces
}

func (e *LengthError) Error() string {
	if e.Got == e.Due {
		return fmt.Sprintf("%s: a response to %s announces %d bytes of data and holds the %d that are due", ErrBadResponse, e.Function, e.Says, e.Due)
	}
	return fmt.Sprintf("%s: %d bytes of data answered to %s for %d; %d are due", ErrBadResponse, e.Got, e.Function, e.Quantity, e.Due)
}

// Unwrap is ErrBadResponse.
func (e *LengthError) Unwrap() error { return ErrBadResponse }

// Request is a request PDU.
type Request struct {
	Function Function
	Address  uint16   // first address; of Diagnostics the sub-function
	Quantity uint16   // of a read or a multiple write; for a multiple write it may be left 0 and follows from the values
	Words    []uint16 // registers to write; of Diagnostics the one word of data
	Bits     []bool   // coils to write
	And, Or  uint16   // masks of function 22
	WriteTo  uint16   // first register that function 23 writes, before it reads
	Level    byte     // of ReadDeviceIdentification: 1 basic, 2 regular, 3 extended, 4 one object
	Object   byte     // of ReadDeviceIdentification: the first asked for

	// Spare is how many addresses behind the last a Client may read along, so that the length of the response tells it from those of
	// other reads, where responses have no identifier. Their data are dropped.
	Spare uint16
}

// quantity is how many addresses r is about.
func (r Request) quantity() int {
	switch r.Function {
	case WriteSingleCoil, WriteSingleRegister, MaskWriteRegister, Diagnostics, ReportServerID, EncapsulatedInterface:
		return 1
	case WriteMultipleCoils:
		return len(r.Bits)
	case WriteMultipleRegisters:
		return len(r.Words)
	}
	return int(r.Quantity)
}

// check says whether r keeps the standard's limits.
func (r Request) check() error {
	limit := map[Function]int{
		ReadCoils: MaxReadBits, ReadDiscreteInputs: MaxReadBits, ReadHoldingRegisters: MaxReadRegisters, ReadInputRegisters: MaxReadRegisters,
		WriteMultipleCoils: MaxWriteBits, WriteMultipleRegisters: MaxWriteRegisters,
		WriteSingleCoil: 1, WriteSingleRegister: 1, MaskWriteRegister: 1,
		Diagnostics: 1, ReportServerID: 1, EncapsulatedInterface: 1, ReadWriteMultipleRegisters: MaxReadRegisters,
	}[r.Function]
	n := r.quantity()
	switch {
	case limit == 0:
		return fmt.Errorf("%s is not spoken here", r.Function)
	case n < 1 || n > limit:
		return fmt.Errorf("%s: quantity %d is out of range: 1 to %d", r.Function, n, limit)
	case int(r.Address)+n > 0x10000:
		return fmt.Errorf("%s: %d addresses from %d end beyond 65535", r.Function, n, r.Address)
	case r.Function == WriteSingleCoil && len(r.Bits) != 1, (r.Function == WriteSingleRegister || r.Function == Diagnostics) && len(r.Words) != 1:
		return fmt.Errorf("%s takes one value", r.Function)
	case r.Function != ReadWriteMultipleRegisters:
	case len(r.Words) < 1 || len(r.Words) > MaxReadWrite:
		return fmt.Errorf("%s: %d registers to write are out of range: 1 to %d", r.Function, len(r.Words), MaxReadWrite)
	case int(r.WriteTo)+len(r.Words) > 0x10000:
		return fmt.Errorf("%s: %d addresses from %d end beyond 65535", r.Function, len(r.Words), r.WriteTo)
	}
	return nil
}

// Append adds the request PDU to b. It fails when r breaks a limit of the standard.
func (r Request) Append(b []byte) ([]byte, error) {
	// Reads are the hot path and are checked without the general table.
	if !r.Function.reads() || r.Quantity == 0 || int(r.Address)+int(r.Quantity) > 0x10000 || r.Quantity > MaxReadRegisters {
		if err := r.check(); err != nil {
			return b, err
		}
	}
	b = append(b, byte(r.Function))
	switch r.Function {
	case ReportServerID:
		return b, nil
	case EncapsulatedInterface:
		return append(b, ReadDeviceIdentification, r.Level, r.Object), nil
	}
	b = binary.BigEndian.AppendUint16(b, r.Address)
	switch r.Function {
	case WriteSingleCoil:
		v := uint16(coilOff)
		if r.Bits[0] {
			v = coilOn
		}
		b = binary.BigEndian.AppendUint16(b, v)
	case WriteSingleRegister, Diagnostics:
		b = binary.BigEndian.AppendUint16(b, r.Words[0])
	case ReadWriteMultipleRegisters:
		b = binary.BigEndian.AppendUint16(b, r.Quantity)
		b = binary.BigEndian.AppendUint16(b, r.WriteTo)
		b = binary.BigEndian.AppendUint16(b, uint16(len(r.Words)))
		b = append(b, byte(2*len(r.Words)))
		b = appendWords(b, r.Words)
	case MaskWriteRegister:
		b = binary.BigEndian.AppendUint16(b, r.And)
		b = binary.BigEndian.AppendUint16(b, r.Or)
	case WriteMultipleCoils:
		b = binary.BigEndian.AppendUint16(b, uint16(len(r.Bits)))
		b = append(b, byte((len(r.Bits)+7)/8))
		b = appendBits(b, r.Bits)
	case WriteMultipleRegisters:
		b = binary.BigEndian.AppendUint16(b, uint16(len(r.Words)))
		b = append(b, byte(2*len(r.Words)))
		b = appendWords(b, r.Words)
	default:
		b = binary.BigEndian.AppendUint16(b, r.Quantity)
	}
	return b, nil
}

// ParseRequest reads a request PDU, as a server does. Its error is the Exception to answer with: 1 for a function not
// spoken here, 3 for a PDU that contradicts itself or the limits (AP 6, the state diagrams; 7).
// Whether the addresses exist is for the device to say.
func ParseRequest(pdu []byte) (Request, error) {
	if len(pdu) == 0 {
		return Request{}, IllegalFunction
	}
	r := Request{Function: Function(pdu[0])}
	if _, spoken := functionNames[r.Function]; !spoken {
		return r, IllegalFunction
	}
	switch {
	case r.Function == ReportServerID && len(pdu) == 1:
		return r, nil
	case r.Function == EncapsulatedInterface && len(pdu) > 1 && pdu[1] != ReadDeviceIdentification:
		return r, IllegalFunction // another MEI type
	case r.Function == EncapsulatedInterface && len(pdu) == 4 && pdu[2] >= 1 && pdu[2] <= 4:
		r.Level, r.Object = pdu[2], pdu[3]
		return r, nil
	case len(pdu) < 5 || r.Function == ReportServerID || r.Function == EncapsulatedInterface:
		return r, IllegalDataValue
	}
	r.Address = binary.BigEndian.Uint16(pdu[1:])
	value, rest := binary.BigEndian.Uint16(pdu[3:]), pdu[5:]
	switch r.Function {
	case WriteSingleCoil:
		if value != coilOn && value != coilOff || len(rest) != 0 {
			return r, IllegalDataValue
		}
		r.Bits = []bool{value == coilOn}
	case WriteSingleRegister, Diagnostics:
		if len(rest) != 0 {
			return r, IllegalDataValue
		}
		r.Words = []uint16{value}
	case ReadWriteMultipleRegisters:
		if value == 0 || value > MaxReadRegisters || len(rest) < 5 {
			return r, IllegalDataValue
		}
		n := int(binary.BigEndian.Uint16(rest[2:]))
		if n == 0 || n > MaxReadWrite || int(rest[4]) != 2*n || len(rest) != 5+2*n {
			return r, IllegalDataValue
		}
		r.Quantity, r.WriteTo, r.Words = value, binary.BigEndian.Uint16(rest), AppendWords(nil, rest[5:])
	case MaskWriteRegister:
		if len(rest) != 2 {
			return r, IllegalDataValue
		}
		r.And, r.Or = value, binary.BigEndian.Uint16(rest)
	case WriteMultipleCoils:
		if value == 0 || value > MaxWriteBits || len(rest) != 1+int(value+7)/8 || int(rest[0]) != len(rest)-1 {
			return r, IllegalDataValue
		}
		r.Quantity, r.Bits = value, make([]bool, value)
		for i := range r.Bits {
			r.Bits[i] = Bit(rest[1:], i)
		}
	case WriteMultipleRegisters:
		if value == 0 || value > MaxWriteRegisters || len(rest) != 1+2*int(value) || int(rest[0]) != len(rest)-1 {
			return r, IllegalDataValue
		}
		r.Quantity, r.Words = value, AppendWords(nil, rest[1:])
	default:
		limit := uint16(MaxReadRegisters)
		if r.Function.Bits() {
			limit = MaxReadBits
		}
		if value == 0 || value > limit || len(rest) != 0 {
			return r, IllegalDataValue
		}
		r.Quantity = value
	}
	return r, nil
}

// ParseAnswer checks a response PDU against the request and returns the data of a read: packed bits or big-endian
// registers, a part of pdu; what a device says of itself; nil for a write and for Diagnostics. Its error is an Exception
// or wraps ErrBadResponse.
func (r Request) ParseAnswer(pdu []byte) ([]byte, error) {
	if len(pdu) == 0 {
		return nil, badResponse("an empty PDU")
	}
	if pdu[0] == byte(r.Function)|exceptionFlag {
		if len(pdu) != 2 {
			return nil, badResponse("an exception of %d bytes; 2 are due", len(pdu))
		}
		return nil, Exception(pdu[1])
	}
	if pdu[0] != byte(r.Function) {
		return nil, badResponse("function %d answered to %s", pdu[0], r.Function)
	}
	switch r.Function {
	case ReportServerID:
		if len(pdu) < 2 || int(pdu[1]) != len(pdu)-2 {
			return nil, badResponse("% X answered to %s: its count is wrong", pdu[:min(len(pdu), 8)], r.Function)
		}
		return pdu[2:], nil
	case EncapsulatedInterface:
		return pdu[1:], nil // ParseIdentification looks into it
	}
	if r.Function.reads() || r.Function == ReadWriteMultipleRegisters {
		want := 2 * int(r.Quantity)
		if r.Function.Bits() {
			want = (int(r.Quantity) + 7) / 8
		}
		if len(pdu) < 2 || int(pdu[1]) != want || len(pdu) != 2+want {
			wrong := &LengthError{Function: r.Function, Quantity: r.Quantity, Got: max(0, len(pdu)-2), Due: want}
			if len(pdu) > 1 {
				wrong.Says = int(pdu[1])
			}
			return nil, wrong
		}
		return pdu[2:], nil
	}
	// A write is answered with the start of its request: AP 6.5, 6.6, 6.8.1, 6.11, 6.12, 6.16.
	echo, err := r.Append(make([]byte, 0, MaxPDU))
	if err != nil {
		return nil, err
	}
	if r.Function != MaskWriteRegister {
		echo = echo[:5]
	}
	if string(echo) != string(pdu) {
		return nil, badResponse("% X answered to %s; % X is due", pdu, r.Function, echo)
	}
	return nil, nil
}

// Bit returns bit i of packed bits, the first in the lowest bit of the first byte (AP 6.1).
func Bit(data []byte, i int) bool { return data[i/8]>>(i%8)&1 == 1 }

// Word returns register i of big-endian registers.
func Word(data []byte, i int) uint16 { return binary.BigEndian.Uint16(data[2*i:]) }

// AppendWords adds the registers of data to words.
func AppendWords(words []uint16, data []byte) []uint16 {
	for i := range len(data) / 2 {
		words = append(words, Word(data, i))
	}
	return words
}

func appendWords(b []byte, words []uint16) []byte {
	for _, w := range words {
		b = binary.BigEndian.AppendUint16(b, w)
	}
	return b
}

func appendBits(b []byte, bits []bool) []byte {
	start := len(b)
	b = append(b, make([]byte, (len(bits)+7)/8)...)
	for i, set := range bits {
		if set {
			b[start+i/8] |= 1 << (i % 8)
		}
	}
	return b
}
