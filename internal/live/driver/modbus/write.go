package modbus

import (
	"errors"
	"fmt"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/modbus"
)

// Reading back after a write: a device may take a moment to take a value over.
const (
	readBackTries = 4
	readBackPause = 100 * time.Millisecond
)

// Write sends raw values with the function that fits, single where one address is enough, and reads them back.
func (s *session) Write(station site.Station, what link.Command) link.Written {
	var w link.Written
	request, sent, err := writeRequest(station, what)
	if err != nil {
		w.Err = err
		return w
	}
	w.Sent = sent
	if station.Broadcast {
		return s.broadcast(w, request)
	}
	unit, back := byte(station.Unit), readBack(what)
	if w.Before, err = s.readBack(station, what, back); err != nil && !errors.As(err, new(modbus.Exception)) && !errors.As(err, new(*modbus.UnsettledError)) {
		w.Err = fmt.Errorf("the station does not answer properly (%w)", err)
		return w
	}
	if request.Function == modbus.MaskWriteRegister && station.PartialWrite == site.PartialRewrite {
		rest, err := s.read(unit, modbus.Request{Function: modbus.ReadHoldingRegisters, Address: what.Address.Offset, Quantity: 1, Spare: s.spareOf(station)})
		if err != nil {
			w.Err = fmt.Errorf("the rest of the register could not be read (%w)", err)
			return w
		}
		merged := what.Layout.Merge(modbus.Word(rest.Data, 0), request.Or)
		request = registersRequest(station, what.Address.Offset, []uint16{merged})
	}
	w.Reached = true
	began := time.Now()
	answer, err := s.ask(unit, request)
	s.counted(unit, err, time.Since(began), false)
	s.writeFunction(station.Name, request.Function, err, answer.Doubtful)
	if err != nil {
		if is(err, modbus.IllegalFunction) {
			err = fmt.Errorf("function %d (%s) with %w", byte(request.Function), request.Function.Name(), err)
		}
		if w.Err, w.Refused = err, refusedWrite(err) && !answer.Doubtful; !w.Refused && !s.Lost() {
			w.After, _ = s.settled(station, what, back, sent, nil) // it may tell; when it does not, nothing is known
		}
		return w
	}
	w.Accepted = true
	if request.Function == modbus.ReadWriteMultipleRegisters && s.identified { // otherwise it may be the response to another one
		w.After = samplesOf(what, modbus.ReadHoldingRegisters, answer)
	}
	if w.After, err = s.settled(station, what, back, sent, w.After); err != nil {
		w.Err = err
	} else if !same(what.Layout, sent, w.After) {
		w.Err = errors.New("it reads back otherwise")
	}
	return w
}

// writeFunction notes whether a device refused the function of a write, or carried it out.
func (s *session) writeFunction(station string, f modbus.Function, err error, doubtful bool) {
	note := diagnose.Note{Kind: diagnose.NoteWriteFunction, Number: float64(f)}
	switch {
	case s.host == nil || doubtful:
		return
	case is(err, modbus.IllegalFunction):
		note.Text = fmt.Sprintf("a write with function %d (%s) was refused with %s", byte(f), f.Name(), modbus.IllegalFunction)
	case err != nil:
		return
	}
	s.host.Note(station, note)
}

// settled reads back what was written, from what was read already on, until it is what was sent or the device has had time enough.
func (s *session) settled(station site.Station, what link.Command, back site.Address, sent, after []table.Sample) (_ []table.Sample, err error) {
	for try := range readBackTries {
		if try > 0 {
			time.Sleep(readBackPause)
		}
		if try > 0 || after == nil {
			if after, err = s.readBack(station, what, back); err != nil {
				return nil, err
			}
		}
		if same(what.Layout, sent, after) {
			break
		}
	}
	return after, nil
}

// Reread is part of link.Rereader.
func (s *session) Reread(station site.Station, what link.Command) ([]table.Sample, bool, error) {
	_, sent, err := writeRequest(station, what)
	if err != nil {
		return nil, false, err
	}
	after, err := s.readBack(station, what, readBack(what))
	return after, err == nil && same(what.Layout, sent, after), err
}

// refusedWrite reports whether an exception says that nothing was done (AP 7): the function, an address or a value is refused, or the
// device is busy with something else. After any other, and after codes that the standard does not have, something may have been.
func refusedWrite(err error) bool {
	return is(err, modbus.IllegalFunction) || refusesAddresses(err) || is(err, modbus.ServerDeviceBusy)
}

// broadcast sends a request to all devices of the line.
func (s *session) broadcast(w link.Written, request modbus.Request) link.Written {
	if s.client == nil {
		w.Err = errors.New("only a serial line has a broadcast")
		return w
	}
	w.Reached, w.Broadcast = true, true
	s.wait()
	if w.Err = s.client.Send(request, turnaround); errors.Is(w.Err, modbus.ErrClosed) {
		s.lost.Store(true)
	}
	s.quiet = time.Now()
	return w
}

// readBack is where what was written is read back from.
func readBack(what link.Command) site.Address {
	if what.ReadBack.Space != "" {
		return what.ReadBack
	}
	return what.Address
}

// writeRequest makes the request that writes, and the samples that reading back should give.
func writeRequest(station site.Station, what link.Command) (r modbus.Request, sent []table.Sample, err error) {
	address, layout := what.Address, what.Layout
	if address.Space == site.Coils {
		r = modbus.Request{Function: modbus.WriteMultipleCoils, Address: address.Offset}
		for _, raw := range what.Raw {
			r.Bits = append(r.Bits, raw.Bool())
			sent = append(sent, table.Sample{Slot: what.Slot, Value: codec.BoolValue(raw.Bool()), HasBit: true, Bit: raw.Bool(), Quality: reading.Good})
		}
		switch {
		case len(r.Bits) == 1 && station.WriteFunction != site.WriteMultiple:
			r.Function = modbus.WriteSingleCoil
		case len(r.Bits) > 1 && station.WriteFunction == site.WriteSingle:
			return r, nil, fmt.Errorf("%d coils at once need function 15, but the station's write_function is single", len(r.Bits))
		}
		_, err = r.Append(nil)
		return r, sent, err
	}
	if address.Space != site.HoldingRegisters {
		return r, nil, fmt.Errorf("a %s (%s) can only be read; co and hr can be written", address.Space.Name(), address)
	}
	var words []uint16
	for _, raw := range what.Raw {
		encoded, err := layout.Encode(raw)
		if err != nil {
			return r, nil, err
		}
		sample := table.Sample{Slot: what.Slot, Words: encoded, Quality: reading.Good}
		if sample.Value, err = layout.Decode(encoded); err != nil {
			return r, nil, err
		}
		words, sent = append(words, encoded...), append(sent, sample)
	}
	switch {
	case layout.Partial() && station.PartialWrite == site.PartialNever:
		return r, nil, errors.New("the station's partial_write is never, so a part of a register is not written")
	case layout.Partial() && len(words) > 1:
		return r, nil, errors.New("several values are written to whole registers only")
	case layout.Partial(): // the rest of the register stays as it is
		return modbus.Request{Function: modbus.MaskWriteRegister, Address: address.Offset, And: ^layout.Mask(), Or: words[0]}, sent, nil
	case len(words) > 1 && station.WriteFunction == site.WriteSingle:
		return r, nil, fmt.Errorf("%s takes %d registers at once, but the station's write_function is single", layout.Type, len(words))
	case station.ReadWrite && what.ReadBack.Space == "" && len(words) <= modbus.MaxReadWrite:
		return modbus.Request{Function: modbus.ReadWriteMultipleRegisters, Address: address.Offset, Quantity: uint16(len(words)), WriteTo: address.Offset, Words: words}, sent, nil
	}
	r = registersRequest(station, address.Offset, words)
	_, err = r.Append(nil)
	return r, sent, err
}

// registersRequest writes whole registers with the function that the station wants.
func registersRequest(station site.Station, offset uint16, words []uint16) modbus.Request {
	r := modbus.Request{Function: modbus.WriteMultipleRegisters, Address: offset, Words: words}
	if len(words) == 1 && station.WriteFunction != site.WriteMultiple {
		r.Function = modbus.WriteSingleRegister
	}
	return r
}

// same reports whether what was read back holds what was sent, as far as its point is concerned.
func same(layout codec.Layout, sent, after []table.Sample) bool {
	for i := range sent {
		if sent[i].HasBit || after[i].HasBit {
			if sent[i].Value.Bool() != after[i].Value.Bool() {
				return false
			}
			continue
		}
		if layout.Bit != codec.WholeRegister { // read back elsewhere, it may be another bit
			if sent[i].Value.Bool() != after[i].Value.Bool() {
				return false
			}
			continue
		}
		for k := range sent[i].Words {
			if (sent[i].Words[k]^after[i].Words[k])&layout.Mask() != 0 {
				return false
			}
		}
	}
	return true
}

// readBack reads what a command writes.
func (s *session) readBack(station site.Station, what link.Command, from site.Address) ([]table.Sample, error) {
	function := readFunction[from.Space]
	n := len(what.Raw) * what.Layout.Words()
	answer, err := s.read(byte(station.Unit), modbus.Request{Function: function, Address: from.Offset, Quantity: uint16(n), Spare: s.spareOf(station)})
	if err != nil {
		return nil, err
	}
	if bit, ok := from.Part.Bit(); ok {
		what.Layout.Bit = int8(bit)
	}
	return samplesOf(what, function, answer), nil
}

// samplesOf decodes the values of a command.
func samplesOf(what link.Command, function modbus.Function, answer modbus.Answered) []table.Sample {
	data := answer.Data
	words := modbus.AppendWords(nil, data)
	if function.Bits() {
		words = nil
	}
	samples := make([]table.Sample, len(what.Raw))
	for i := range samples {
		n := what.Layout.Words()
		samples[i] = table.Sample{Slot: what.Slot, Quality: reading.Good, Time: answer.At}
		if function.Bits() {
			samples[i].DecodeBit(modbus.Bit(data, i))
		} else {
			samples[i].DecodeWords(what.Layout, words[i*n:(i+1)*n])
		}
	}
	return samples
}
