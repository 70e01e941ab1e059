package modbus

import (
	"fmt"
	"strings"

	"arithmon/internal/protocol/dissection"
)

// Dissection and Field are those of all protocols.
type (
	Dissection = dissection.Dissection
	Field      = dissection.Field
)

// Dissect says what the bytes of a frame mean. asked is the request that a response belongs to, nil when that is not
// known. It takes any bytes.
func Dissect(framing Framing, side Side, raw, asked []byte) Dissection {
	d := dissector{raw: raw, width: 1}
	frame, n, err := framing.Cut(append([]byte(nil), raw...), side)
	if n == 0 && framing == RTU {
		frame, n = SeekRTU(raw, side)
	}
	if err != nil || n == 0 {
		d.Summary = fmt.Sprintf("%d bytes that are no frame", len(raw))
		if err != nil {
			d.Summary = err.Error()
		}
		return d.Dissection
	}
	switch framing {
	case MBAP:
		d.field("transaction", fmt.Sprint(frame.Transaction), 2)
		d.field("protocol", "0 (Modbus)", 2)
		d.field("length", fmt.Sprint(len(frame.PDU)+1), 2)
	case ASCII:
		d.width = 2
		d.at = strings.LastIndexByte(string(raw[:n]), asciiStart)
		d.width, d.at = 2, max(0, d.at)
		d.mark("start", "colon", 1)
	default:
		if noise := n - len(frame.PDU) - 3; noise > 0 {
			d.mark("noise", fmt.Sprintf("%d stray bytes", noise), noise)
		}
	}
	d.field("unit", fmt.Sprint(frame.Unit), 1)
	d.pdu(side, frame.PDU, requested(framing, asked))
	switch framing {
	case RTU:
		d.field("CRC", "fits", 2)
	case ASCII:
		d.field("LRC", "fits", 1)
	}
	d.Summary = fmt.Sprintf("unit %d: %s", frame.Unit, d.Summary)
	return d.Dissection
}

// requested is the request in a frame; its zero when there is none.
func requested(framing Framing, raw []byte) (r Request) {
	if raw == nil {
		return r
	}
	frame, n, err := framing.Cut(append([]byte(nil), raw...), Requests)
	if err == nil && n > 0 {
		r, _ = ParseRequest(frame.PDU) // what is none has no addresses to show
	}
	return r
}

type dissector struct {
	Dissection
	raw   []byte
	at    int
	width int // bytes on the wire of one of the PDU
}

func (d *dissector) field(name, value string, n int) { d.mark(name, value, n*d.width) }

func (d *dissector) mark(name, value string, n int) {
	d.Fields = append(d.Fields, Field{Name: name, Value: value, At: d.at, Bytes: n})
	d.at += n
}

// pdu goes through a PDU.
func (d *dissector) pdu(side Side, pdu []byte, asked Request) {
	f := Function(pdu[0] &^ exceptionFlag)
	if side == Answers && pdu[0]&exceptionFlag != 0 {
		d.field("function", fmt.Sprintf("%s, refused", f), 1)
		d.Summary = f.String() + " refused"
		if len(pdu) > 1 {
			d.field("exception", Exception(pdu[1]).Error(), 1)
			d.Summary += ": " + Exception(pdu[1]).Error()
		}
		return
	}
	d.field("function", f.String(), 1)
	if side == Requests {
		d.request(pdu)
		return
	}
	d.answer(f, pdu, asked)
}

func (d *dissector) request(pdu []byte) {
	r, err := ParseRequest(pdu)
	if err != nil {
		d.rest(pdu[1:])
		d.Summary = fmt.Sprintf("%s: no proper request", r.Function)
		return
	}
	n := r.quantity()
	d.Summary = fmt.Sprintf("%s, %d from %d", r.Function, n, r.Address)
	switch r.Function {
	case ReportServerID:
		d.Summary = r.Function.String()
		return
	case EncapsulatedInterface:
		d.field("MEI type", "14 (Read Device Identification)", 1)
		d.field("level", fmt.Sprint(r.Level), 1)
		d.field("object", fmt.Sprint(r.Object), 1)
		d.Summary = fmt.Sprintf("Read Device Identification, level %d from object %d", r.Level, r.Object)
		return
	case Diagnostics:
		d.field("sub-function", fmt.Sprint(r.Address), 2)
		d.field("data", fmt.Sprintf("0x%04X", r.Words[0]), 2)
		d.Summary = r.Function.String()
		return
	}
	d.field("address", fmt.Sprintf("%d (0x%04X)", r.Address, r.Address), 2)
	switch r.Function {
	case WriteSingleCoil:
		d.field("value", map[bool]string{true: "on", false: "off"}[r.Bits[0]], 2)
		d.about(r.Function, int(r.Address), 1)
		d.Summary = fmt.Sprintf("%s %d: %s", r.Function, r.Address, d.Fields[len(d.Fields)-1].Value)
	case WriteSingleRegister:
		d.field("value", word(r.Words[0]), 2)
		d.about(r.Function, int(r.Address), 1)
		d.Summary = fmt.Sprintf("%s %d: %s", r.Function, r.Address, word(r.Words[0]))
	case MaskWriteRegister:
		d.field("and", fmt.Sprintf("0x%04X", r.And), 2)
		d.field("or", fmt.Sprintf("0x%04X", r.Or), 2)
		d.about(r.Function, int(r.Address), 1)
	case ReadWriteMultipleRegisters:
		d.field("quantity", fmt.Sprint(r.Quantity), 2)
		d.field("write address", fmt.Sprint(r.WriteTo), 2)
		d.field("write quantity", fmt.Sprint(len(r.Words)), 2)
		d.field("byte count", fmt.Sprint(2*len(r.Words)), 1)
		d.words(r.Function, r.Words, int(r.WriteTo))
	case WriteMultipleCoils, WriteMultipleRegisters:
		d.field("quantity", fmt.Sprint(n), 2)
		d.field("byte count", fmt.Sprint(pdu[5]), 1)
		if r.Function == WriteMultipleRegisters {
			d.words(r.Function, r.Words, int(r.Address))
		} else {
			d.rest(pdu[6:])
			d.about(r.Function, int(r.Address), n)
		}
	default:
		d.field("quantity", fmt.Sprint(r.Quantity), 2)
		d.about(r.Function, int(r.Address), int(r.Quantity))
	}
}

func word(w uint16) string { return fmt.Sprintf("%d (0x%04X)", w, w) }

// tableOf are the tables that functions are about, as in an address.
var tableOf = map[Function]string{
	ReadCoils: "co", WriteSingleCoil: "co", WriteMultipleCoils: "co", ReadDiscreteInputs: "di", ReadInputRegisters: "ir",
	ReadHoldingRegisters: "hr", WriteSingleRegister: "hr", WriteMultipleRegisters: "hr", MaskWriteRegister: "hr", ReadWriteMultipleRegisters: "hr",
}

// about says which addresses the last field is about.
func (d *dissector) about(f Function, from, count int) {
	if table := tableOf[f]; table != "" && from >= 0 {
		d.Fields[len(d.Fields)-1].Of = dissection.Addresses{Space: table, From: from, Count: count}
	}
}

func (d *dissector) words(f Function, words []uint16, from int) {
	for i, w := range words {
		name := fmt.Sprintf("register %d", from+i)
		if from < 0 {
			name = fmt.Sprintf("register +%d", i)
		}
		d.field(name, word(w), 2)
		if from >= 0 {
			d.about(f, from+i, 1)
		}
	}
}

func (d *dissector) rest(data []byte) {
	if len(data) > 0 {
		d.field("data", fmt.Sprintf("% X", data), len(data))
	}
}

func (d *dissector) answer(f Function, pdu []byte, asked Request) {
	from := -1
	if asked.Function == f {
		from = int(asked.Address)
	}
	d.Summary = f.String()
	switch {
	case (f.reads() || f == ReadWriteMultipleRegisters) && len(pdu) > 1:
		d.field("byte count", fmt.Sprint(pdu[1]), 1)
		if f.Bits() {
			d.rest(pdu[2:])
			d.about(f, from, asked.quantity())
			d.Summary += fmt.Sprintf(": % X", pdu[2:min(len(pdu), 10)])
			return
		}
		words := AppendWords(nil, pdu[2:])
		d.words(f, words, from)
		var shown []string
		for _, w := range words[:min(len(words), 4)] {
			shown = append(shown, fmt.Sprintf("%04X", w))
		}
		if len(words) > 4 {
			shown = append(shown, "…")
		}
		d.Summary += fmt.Sprintf(", %d registers: %s", len(words), strings.Join(shown, " "))
	case f == EncapsulatedInterface:
		objects, _, _, err := ParseIdentification(pdu[1:])
		d.rest(pdu[1:])
		if err == nil {
			d.Summary = fmt.Sprintf("Read Device Identification: %s %s %s", objects[0], objects[1], objects[2])
		}
	case f == ReportServerID && len(pdu) > 1:
		d.field("byte count", fmt.Sprint(pdu[1]), 1)
		d.rest(pdu[2:])
	case len(pdu) == 5:
		d.field("address", fmt.Sprintf("%d (0x%04X)", Word(pdu[1:], 0), Word(pdu[1:], 0)), 2)
		d.field("value or quantity", word(Word(pdu[1:], 1)), 2)
		d.Summary += " done"
	default:
		d.rest(pdu[1:])
	}
}
