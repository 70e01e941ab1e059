package modbus

import "fmt"

// Frame is one frame on a line. Transaction is 0 where the framing has none.
type Frame struct {
	Transaction uint16
	Unit        byte
	PDU         []byte
}

// Side says whose frames a stream carries, since requests and answers of one function differ in length.
type Side byte

// The sides.
const (
	Requests Side = iota
	Answers
)

// Framing puts PDUs into frames and finds them again. The zero Framing is MBAP.
type Framing byte

// The framings.
const (
	MBAP  Framing = iota // TCP 3.1
	RTU                  // serial line 2.5.1
	ASCII                // serial line 2.5.2
)

// maxFrame is the longest frame of any framing: an ASCII one, 2.5.2.1.
const maxFrame = 513

// Framings are the framings by the names that String gives.
var Framings = map[string]Framing{"mbap": MBAP, "rtu": RTU, "ascii": ASCII}

// longest is the longest frame of a framing.
func (f Framing) longest() int {
	return [...]int{MBAP: maxADU, RTU: maxRTU, ASCII: maxFrame}[f]
}

func (f Framing) String() string { return [...]string{"mbap", "rtu", "ascii"}[f] }

// Append adds a frame to b.
func (f Framing) Append(b []byte, frame Frame) []byte {
	switch f {
	case RTU:
		return AppendRTU(b, frame)
	case ASCII:
		return AppendASCII(b, frame)
	}
	return AppendMBAP(b, frame)
}

// Cut takes the first frame off a stream. n is how many bytes it took, 0 when more are needed. A frame that was damaged is an error that wraps ErrChecksum, and n tells how much to
// drop; one that wraps ErrBadResponse alone means that the stream cannot go on.
// The PDU is a part of b, which ASCII decodes in place.
func (f Framing) Cut(b []byte, side Side) (frame Frame, n int, err error) {
	switch f {
	case RTU:
		return CutRTU(b, side)
	case ASCII:
		return CutASCII(b)
	}
	return CutMBAP(b)
}

// size is how many of the bytes that gave a frame are its own, without the noise before it.
func (f Framing) size(frame Frame, raw []byte) int {
	switch f {
	case RTU:
		return min(len(raw), len(frame.PDU)+3)
	case ASCII:
		return min(len(raw), 2*len(frame.PDU)+5) // what is no digit is not counted, which errs by less than one read
	}
	return len(raw)
}

// ErrChecksum is wrapped by errors about frames whose CRC or LRC does not fit; it is itself a bad response.
var ErrChecksum = fmt.Errorf("%w: checksum", ErrBadResponse)

func badFrame(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrChecksum, fmt.Sprintf(format, args...))
}
