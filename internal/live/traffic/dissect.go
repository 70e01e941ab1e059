package traffic

import (
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/dissection"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/modbus"
)

// language is how the frames of a framing are read.
type language struct {
	function func(frame []byte) (code int, refused bool)
	dissect  func(r *Reader, f *Frame, ours bool) dissection.Dissection
}

// languages are those of every framing, by the name that drivers give it. A protocol is its framings here, and one entry in protocols.
var languages = map[string]language{
	"mbap": {functionAt(7), (*Reader).unit}, "rtu": {functionAt(1), (*Reader).unit}, "ascii": {asciiFunction, (*Reader).unit},
	"dnp3": {dnp3.FunctionOf, (*Reader).outstation},
}

// protocols are the functions of every protocol by their codes.
var protocols = map[site.Protocol]map[int]string{site.Modbus: modbus.Functions(), site.DNP3: dnp3.Functions()}

// Functions names the functions of a protocol by their codes.
func Functions(p site.Protocol) map[int]string { return protocols[p] }

// Function is the function code of a frame, 0 when it has none, and whether it is a refusal.
func Function(f *Frame) (code int, refused bool) {
	if l, known := languages[f.Ends.Framing]; known {
		return l.function(f.Data)
	}
	return 0, false
}

// functionAt reads the function of a Modbus frame whose bytes are its data.
func functionAt(at int) func([]byte) (int, bool) {
	return func(frame []byte) (code int, refused bool) {
		if len(frame) <= at {
			return 0, false
		}
		return int(frame[at] &^ 0x80), frame[at]&0x80 != 0
	}
}

// asciiFunction reads the function of a Modbus frame that is written in hexadecimal digits.
func asciiFunction(frame []byte) (code int, refused bool) {
	if len(frame) <= 4 {
		return 0, false
	}
	b, ok := hexByte(frame[3:5])
	return int(b &^ 0x80), ok && b&0x80 != 0
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

// Reader says what frames hold, one after the other: a response is read with its request, and a fragment is put together of the
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
	l, known := languages[f.Ends.Framing]
	if !known {
		return dissection.Dissection{Summary: f.Text}
	}
	return l.dissect(r, f, f.Kind == Sent || f.Kind == Echo)
}

// outstation reads a DNP3 frame with those that carried the fragment before.
func (r *Reader) outstation(f *Frame, ours bool) dissection.Dissection {
	if r.fragments == nil {
		r.fragments = map[pair]*dnp3.Dissector{}
	}
	p := pair{f.Link, f.Unit, ours}
	if r.fragments[p] == nil {
		r.fragments[p] = new(dnp3.Dissector)
	}
	return r.fragments[p].Dissect(f.Data)
}

// unit reads a Modbus frame with its request.
func (r *Reader) unit(f *Frame, ours bool) dissection.Dissection {
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
