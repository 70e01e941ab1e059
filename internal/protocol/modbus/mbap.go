package modbus

import "encoding/binary"

// The MBAP header (TCP 3.1.3): transaction identifier, protocol identifier 0, length of what follows it, unit identifier.
const (
	mbapHeader = 7
	maxADU     = mbapHeader + MaxPDU // TCP 3.1.2: 260 bytes
)

// AppendMBAP adds f to b with its header.
func AppendMBAP(b []byte, f Frame) []byte {
	b = beginMBAP(b, f.Transaction, f.Unit)
	b = append(b, f.PDU...)
	return endMBAP(b, len(b)-len(f.PDU)-mbapHeader)
}

// beginMBAP adds a header whose length endMBAP fills in once the PDU follows it.
func beginMBAP(b []byte, transaction uint16, unit byte) []byte {
	b = binary.BigEndian.AppendUint16(b, transaction)
	return append(b, 0, 0, 0, 0, unit)
}

func endMBAP(b []byte, start int) []byte {
	binary.BigEndian.PutUint16(b[start+4:], uint16(len(b)-start-6))
	return b
}

// CutMBAP takes the first frame off a stream. n is how many bytes it took, 0 when the frame is not complete yet.
// Its error wraps ErrBadResponse: the bytes are not Modbus, and where the next frame begins is not known.
// The PDU is a part of b.
func CutMBAP(b []byte) (f Frame, n int, err error) {
	// A wrong start is reported without waiting for the rest of what will never be a frame.
	if len(b) >= 4 && (b[2] != 0 || b[3] != 0) {
		return Frame{}, 0, badResponse("not Modbus TCP: protocol identifier 0x%02X%02X instead of 0", b[2], b[3])
	}
	if len(b) < 6 {
		return Frame{}, 0, nil
	}
	length := int(binary.BigEndian.Uint16(b[4:]))
	if length < 2 || length > maxADU-6 {
		return Frame{}, 0, badResponse("not Modbus TCP: length %d; 2 to %d are possible", length, maxADU-6)
	}
	if len(b) < 6+length {
		return Frame{}, 0, nil
	}
	return Frame{binary.BigEndian.Uint16(b), b[6], b[mbapHeader : 6+length]}, 6 + length, nil
}

// seekMBAP is where a response to a transaction begins behind bytes that are no frame, 0 when none is there.
func seekMBAP(b []byte, transaction uint16) int {
	for start := 1; start+mbapHeader < len(b); start++ {
		if binary.BigEndian.Uint16(b[start:]) != transaction {
			continue
		}
		if _, _, err := CutMBAP(b[start:]); err == nil {
			return start
		}
	}
	return 0
}

// brokenOff says that a response did not end: how many bytes came of it, and its head.
func brokenOff(head []byte, came int) error {
	if len(head) < 6 {
		return badResponse("a response broke off after %d bytes", came)
	}
	return badResponse("a response broke off: %d bytes came of the %d that its length field announces", came, 6+int(binary.BigEndian.Uint16(head[4:])))
}
