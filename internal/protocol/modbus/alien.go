package modbus

import (
	"bytes"
	"encoding/binary"
	"slices"
)

// HoldsRequest reports whether there is a whole read request of RTU or ASCII framing, with a checksum that fits, among bytes that came in. Of a
// master alone on its line none does, unless the line gives back what it sends. Writes are left out: the response to one may be the same.
func HoldsRequest(f Framing, b []byte) bool {
	switch f {
	case RTU:
		for ; len(b) >= readRTU; b = b[1:] {
			if readsPlausibly(b[1:6]) && binary.LittleEndian.Uint16(b[6:]) == CRC(b[:6]) {
				return true
			}
		}
	case ASCII:
		for b = slices.Clone(b); ; { // which is decoded in place
			start := bytes.IndexByte(b, ':')
			if start < 0 {
				return false
			}
			frame, n, err := CutASCII(b[start:])
			if err == nil && n > 0 && len(frame.PDU) == 5 && readsPlausibly(frame.PDU) {
				return true
			}
			b = b[start+max(1, n):]
		}
	}
	return false
}

// readRTU is the length of a read request in RTU framing.
const readRTU = 8

// readsPlausibly reports whether a PDU of five octets is a read request and no response: one of so many octets has a byte count of 3.
func readsPlausibly(pdu []byte) bool {
	function, quantity := Function(pdu[0]), binary.BigEndian.Uint16(pdu[3:])
	switch function {
	case ReadCoils, ReadDiscreteInputs:
		return quantity >= 1 && quantity <= MaxReadBits && pdu[1] != 3
	case ReadHoldingRegisters, ReadInputRegisters:
		return quantity >= 1 && quantity <= MaxReadRegisters
	}
	return false
}
