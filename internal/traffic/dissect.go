package traffic

import (
	"arithmon/internal/modbus"
)

// Function is the function code of a frame, 0 when it has none, and whether it is a refusal.
func Function(f *Frame) (code int, refused bool) {
	at := -1
	switch {
	case f.Ends.Framing == "mbap" && len(f.Data) > 7:
		at = 7
	case f.Ends.Framing == "rtu" && len(f.Data) > 1:
		at = 1
	case f.Ends.Framing == "ascii" && len(f.Data) > 4:
		if b, ok := hexByte(f.Data[3:5]); ok {
			return int(b &^ 0x80), b&0x80 != 0
		}
	}
	if at < 0 {
		return 0, false
	}
	return int(f.Data[at] &^ 0x80), f.Data[at]&0x80 != 0
}

func hexByte(b []byte) (v byte, ok bool) {
	for _, c := range b {
		switch {
		case c >= '0' && c <= '9':
			v = v<<4 | c - '0'
		case c >= 'A' && c <= 'F':
			v = v<<4 | c - 'A' + 10
		default:
			return 0, false
		}
	}
	return v, true
}

// Dissect says what a frame holds, field by field. request is the frame it answers, when that is known.
func Dissect(f Frame, request *Frame) modbus.Dissection {
	if len(f.Data) == 0 {
		return modbus.Dissection{Summary: f.Text}
	}
	side := modbus.Answers
	if f.Kind == Sent || f.Kind == Echo {
		side = modbus.Requests
	}
	var asked []byte
	if request != nil {
		asked = request.Data
	}
	return modbus.Dissect(modbus.Framings[f.Ends.Framing], side, f.Data, asked)
}
