package modbus

import (
	"encoding/binary"
	"fmt"
	"time"
)

// RTU frames (MODBUS over Serial Line V1.02, 2.5.1): unit, PDU, CRC with its low byte first.
const (
	minRTU = 4   // unit, function, CRC
	maxRTU = 256 // 2.5.1.1
)

// AppendRTU adds f to b.
func AppendRTU(b []byte, f Frame) []byte {
	start := len(b)
	b = append(append(b, f.Unit), f.PDU...)
	return binary.LittleEndian.AppendUint16(b, CRC(b[start:]))
}

// CutRTU takes the first frame off b. A frame has no mark of its own: where it ends follows from its function, and that
// it is one from its CRC. Bytes that cannot begin a frame are noise and are dropped with it. n is 0 while what may be a
// frame is not complete; when silence follows then, SeekRTU looks further.
func CutRTU(b []byte, side Side) (f Frame, n int, err error) {
	for start := 0; start+minRTU <= len(b); start++ {
		length, known := rtuLength(b[start:], side)
		if !known || length > len(b)-start {
			if length <= maxRTU {
				return Frame{}, 0, nil
			}
			continue
		}
		if length < minRTU || length > maxRTU {
			continue
		}
		body := b[start : start+length-2]
		if CRC(body) == binary.LittleEndian.Uint16(b[start+length-2:]) {
			return Frame{Unit: body[0], PDU: body[1:]}, start + length, nil
		}
	}
	return Frame{}, 0, nil
}

// SeekRTU looks for a frame anywhere in bytes that silence followed: noise before it may have looked like the start of a
// longer one. n is 0 when there is none.
func SeekRTU(b []byte, side Side) (f Frame, n int) {
	for start := 1; start < len(b); start++ {
		if f, n, _ := CutRTU(b[start:], side); n > 0 {
			return f, start + n
		}
	}
	return Frame{}, 0
}

// Damaged says what bytes are that silence followed and that hold no frame: an error that wraps ErrChecksum when they are
// as long as one, otherwise one that wraps ErrBadResponse.
func Damaged(b []byte, f Framing) error {
	if f == RTU && len(b) >= minRTU && CRC(b[:len(b)-2]) == binary.BigEndian.Uint16(b[len(b)-2:]) {
		return fmt.Errorf("%w, and right with its two bytes interchanged: % X", ErrChecksum, b[:min(len(b), 24)])
	}
	if f != ASCII && len(b) >= minRTU || f == ASCII && len(b) > 0 && b[0] == asciiStart {
		return badFrame("% X", b[:min(len(b), 24)])
	}
	return badResponse("%d bytes that are no frame: % X", len(b), b[:min(len(b), 24)])
}

// rtuLength is how long a frame is that begins with b, of which there are minRTU bytes or more: 0 when b begins with none.
// known is false while that takes more bytes to say.
func rtuLength(b []byte, side Side) (length int, known bool) {
	if side == Answers && b[1]&exceptionFlag != 0 {
		return 5, true
	}
	switch Function(b[1]) {
	case ReadCoils, ReadDiscreteInputs, ReadHoldingRegisters, ReadInputRegisters:
		if side == Requests {
			return 8, true
		}
		return 5 + int(b[2]), true
	case WriteSingleCoil, WriteSingleRegister, Diagnostics:
		return 8, true
	case ReportServerID:
		if side == Requests {
			return 4, true
		}
		return 5 + int(b[2]), true
	case ReadWriteMultipleRegisters:
		if side == Answers {
			return 5 + int(b[2]), true
		}
		if len(b) > 10 {
			return 13 + int(b[10]), true
		}
		return 0, false
	case EncapsulatedInterface:
		if side == Requests {
			return 7, true
		}
		return identificationLength(b)
	case MaskWriteRegister:
		return 10, true
	case WriteMultipleCoils, WriteMultipleRegisters:
		if side == Answers {
			return 8, true
		}
		if len(b) > 6 {
			return 9 + int(b[6]), true
		}
		return 0, false
	}
	return 0, true
}

// Silence is how long a line is quiet between RTU frames: 3.5 characters, and 1.75 ms above 19200 baud (2.5.1.1).
// bits is the length of a character with start, parity and stop bits: 11, or 10 or less where the line has it so.
func Silence(baud, bits int) time.Duration {
	if baud > 19200 {
		return 1750 * time.Microsecond
	}
	return time.Duration(3.5 * float64(bits) / float64(baud) * float64(time.Second))
}
