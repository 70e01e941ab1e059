package modbus

import (
	"bytes"
	"encoding/hex"
)

// ASCII frames (MODBUS over Serial Line V1.02, 2.5.2): colon, unit, PDU and LRC in hex, CR LF.
const asciiStart = ':'

const upperHex = "0123456789ABCDEF"

// LRC is the checksum of ASCII (6.2.1): the two's complement of the sum of the bytes.
func LRC(b []byte) (lrc byte) {
	for _, c := range b {
		lrc -= c
	}
	return lrc
}

// AppendASCII adds f to b.
func AppendASCII(b []byte, f Frame) []byte {
	put := func(c byte) { b = append(b, upperHex[c>>4], upperHex[c&15]) }
	b = append(b, asciiStart)
	put(f.Unit)
	for _, c := range f.PDU {
		put(c)
	}
	put(LRC(f.PDU) - f.Unit)
	return append(b, '\r', '\n')
}

// CutASCII takes the first frame off b and decodes it in place. What stands before its colon is noise and dropped with it.
func CutASCII(b []byte) (f Frame, n int, err error) {
	end := bytes.IndexByte(b, '\n')
	if end < 0 {
		if len(b) > maxFrame {
			return Frame{}, len(b), badFrame("%d bytes without an end", len(b))
		}
		return Frame{}, 0, nil
	}
	n = end + 1
	line := bytes.TrimSuffix(b[:end], []byte{'\r'})
	start := bytes.LastIndexByte(line, asciiStart) // a colon begins a frame anew (2.5.2.1)
	if start < 0 {
		return Frame{}, n, badFrame("no colon in %q", line[:min(len(line), 40)])
	}
	digits := line[start+1:]
	if len(digits) < 6 || len(digits)%2 != 0 || len(digits) > 2*(MaxPDU+2) {
		return Frame{}, n, badFrame("%d characters between colon and end", len(digits))
	}
	bin := digits[:len(digits)/2]
	if _, err := hex.Decode(bin, digits); err != nil {
		return Frame{}, n, badFrame("characters that are no hex digits")
	}
	if LRC(bin) != 0 { // the LRC is among them
		return Frame{}, n, badFrame("LRC 0x%02X does not fit", bin[len(bin)-1])
	}
	return Frame{Unit: bin[0], PDU: bin[1 : len(bin)-1]}, n, nil
}
