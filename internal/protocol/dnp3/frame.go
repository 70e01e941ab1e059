package dnp3

import (
	"bytes"
	"errors"
	"fmt"
)

// Sizes of the data link layer (IEEE 1815-2012, 9.2.4).
const (
	headerSize  = 10
	blockSize   = 16
	MaxUserData = 250
	MaxFrame    = 292
)

// Addresses of the data link layer (9.2.4.1.4). From 65520 to 65531 they are reserved.
const (
	MaxAddress         = 65519
	SelfAddress        = 0xFFFC // whoever supports it answers as if it were his own
	BroadcastMayAck    = 0xFFFD // application confirmation is not mandatory
	BroadcastMustAck   = 0xFFFE
	BroadcastOptionAck = 0xFFFF
)

// Broadcast reports whether an address means all outstations.
func Broadcast(address uint16) bool { return address >= BroadcastMayAck }

// Control is the control octet of a frame (9.2.4.1.3).
type Control byte

// The bits of a control octet.
const (
	FromMaster Control = 0x80 // DIR
	Primary    Control = 0x40 // PRM: from whoever begins the exchange
	CountBit   Control = 0x20 // FCB, of primary frames
	CountValid Control = 0x10 // FCV, of primary frames
	FlowFull   Control = 0x10 // DFC, of secondary frames
)

// LinkFunction is the function of a frame; the bit Primary is part of it, since the numbers are used twice.
type LinkFunction byte

// The functions (9.2.4.1.3, tables 9-1 and 9-2).
const (
	ResetLinkStates LinkFunction = 0x40
	TestLinkStates  LinkFunction = 0x42
	ConfirmedData   LinkFunction = 0x43
	UnconfirmedData LinkFunction = 0x44
	RequestStatus   LinkFunction = 0x49

	Ack          LinkFunction = 0x00
	Nack         LinkFunction = 0x01
	LinkStatus   LinkFunction = 0x0B
	NotSupported LinkFunction = 0x0F
)

var linkFunctionNames = map[LinkFunction]string{
	ResetLinkStates: "reset link states", TestLinkStates: "test link states", ConfirmedData: "confirmed user data",
	UnconfirmedData: "unconfirmed user data", RequestStatus: "request link status",
	Ack: "ack", Nack: "nack", LinkStatus: "link status", NotSupported: "not supported",
}

func (f LinkFunction) String() string {
	if name, ok := linkFunctionNames[f]; ok {
		return name
	}
	return fmt.Sprintf("link function 0x%02X", byte(f))
}

// Frame is one frame of the data link layer.
type Frame struct {
	Control     Control
	Destination uint16
	Source      uint16
	Data        []byte // at most MaxUserData
}

// Function is what the frame is for.
func (f Frame) Function() LinkFunction {
	return LinkFunction(f.Control & (Primary | 0x0F))
}

// AppendFrame appends f as it goes over the wire. Data beyond MaxUserData are a fault of the caller.
func AppendFrame(b []byte, f Frame) []byte {
	start := len(b)
	b = append(b, 0x05, 0x64, byte(5+len(f.Data)), byte(f.Control), byte(f.Destination), byte(f.Destination>>8), byte(f.Source), byte(f.Source>>8))
	b = appendCRC(b, b[start:])
	for data := f.Data; len(data) > 0; {
		n := min(len(data), blockSize)
		b = append(b, data[:n]...)
		b = appendCRC(b, data[:n])
		data = data[n:]
	}
	return b
}

// Errors of ParseFrame.
var (
	ErrIncomplete = errors.New("the frame goes on")
	ErrNoFrame    = errors.New("no frame of DNP3")
	ErrChecksum   = errors.New("wrong CRC")
)

var start = []byte{0x05, 0x64}

// ParseFrame reads the frame at the start of b and returns how many octets it has. The user data are put into room, which has
// MaxUserData octets.
//
// With ErrIncomplete more octets are needed. With ErrNoFrame and ErrChecksum the octets returned are to be skipped: what
// follows may be a frame (9.2.4.1.1).
func ParseFrame(b, room []byte) (f Frame, size int, err error) {
	if len(b) > 0 && b[0] != start[0] || len(b) > 1 && b[1] != start[1] {
		return f, next(b, 1), ErrNoFrame
	}
	if len(b) < headerSize {
		return f, 0, ErrIncomplete
	}
	if !crcFits(b[:8], b[8:10]) {
		return f, next(b, 2), ErrChecksum
	}
	length := int(b[2])
	if length < 5 {
		return f, next(b, 2), ErrNoFrame
	}
	data := length - 5
	blocks := (data + blockSize - 1) / blockSize
	size = headerSize + data + 2*blocks
	if len(b) < size {
		// A frame that was cut short is followed by the next, whose start shows it.
		return f, 0, ErrIncomplete
	}
	f = Frame{Control: Control(b[3]), Destination: uint16(b[4]) | uint16(b[5])<<8, Source: uint16(b[6]) | uint16(b[7])<<8}
	room = room[:0]
	for at := headerSize; data > 0; {
		n := min(data, blockSize)
		if !crcFits(b[at:at+n], b[at+n:at+n+2]) {
			return Frame{}, next(b[:size], 2), ErrChecksum
		}
		room = append(room, b[at:at+n]...)
		at, data = at+n+2, data-n
	}
	f.Data = room
	return f, size, nil
}

// next is where the next frame may start, at or after from; the length of b where there is none.
func next(b []byte, from int) int {
	if i := bytes.Index(b[from:], start); i >= 0 {
		return from + i
	}
	if len(b) > from && b[len(b)-1] == start[0] {
		return len(b) - 1
	}
	return len(b)
}
