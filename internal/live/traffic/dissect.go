package traffic

import (
	"arithmon/internal/protocol/dissection"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/modbus"
)

// Function is the function code of a frame, 0 when it has none, and whether it is a refusal.
func Function(f *Frame) (code int, refused bool) {
	at := -1
	switch {
	case f.Ends.Framing == "dnp3":
		return dnp3.FunctionOf(f.Data)
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

// Reader says what frames hold, one after the other: an answer is read with its request, and a fragment is put together of the
// frames that carried it. Its zero value is ready.
type Reader struct {
	requests  map[pair]*Frame
	fragments map[pair]*dnp3.Dissector
}

// pair is a conversation, or one direction of it.
type pair struct {
	link string
	unit int
	sent bool
}

// Dissect says what a frame holds, field by field.
func (r *Reader) Dissect(f *Frame) dissection.Dissection {
	if len(f.Data) == 0 {
		return dissection.Dissection{Summary: f.Text}
	}
	ours := f.Kind == Sent || f.Kind == Echo
	if f.Ends.Framing == "dnp3" {
		if r.fragments == nil {
			r.fragments = map[pair]*dnp3.Dissector{}
		}
		p := pair{f.Link, f.Unit, ours}
		if r.fragments[p] == nil {
			r.fragments[p] = new(dnp3.Dissector)
		}
		return r.fragments[p].Dissect(f.Data)
	}
	if r.requests == nil {
		r.requests = map[pair]*Frame{}
	}
	p := pair{f.Link, f.Unit, true}
	side := modbus.Answers
	if ours {
		side = modbus.Requests
	}
	if f.Kind == Sent {
		r.requests[p] = f
	}
	var asked []byte
	if request := r.requests[p]; request != nil {
		asked = request.Data
	}
	return modbus.Dissect(modbus.Framings[f.Ends.Framing], side, f.Data, asked)
}
