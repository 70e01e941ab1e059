package modbuslink

import (
	"errors"
	"fmt"
	"net"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/engine"
	"arithmon/internal/modbus"
	"arithmon/internal/reading"
	"arithmon/internal/site"
)

// Reading back after a write: a device may take a moment to take a value over.
const (
	readBackTries = 4
	readBackPause = 100 * time.Millisecond
)

type session struct {
	conn    net.Conn
	client  *modbus.Client
	timeout time.Duration
	silence time.Duration // least quiet time between frames on a serial line
	quiet   time.Time     // since when the line is
	words   []uint16      // of the last answer
	lost    bool
}

// ask makes one exchange and notes whether the connection is lost.
func (s *session) ask(unit byte, request modbus.Request) ([]byte, error) {
	if s.silence > 0 {
		time.Sleep(time.Until(s.quiet.Add(s.silence)))
	}
	data, err := s.client.Do(unit, request, s.timeout)
	s.quiet = time.Now()
	s.lost = errors.Is(err, modbus.ErrClosed)
	return data, err
}

// Do sends a job's request and emits a sample for each of its points.
func (s *session) Do(work engine.Job) engine.Outcome {
	j := work.(*job)
	data, err := s.ask(j.unit, j.request)
	if err != nil {
		out := outcome(err)
		if errors.Is(err, modbus.IllegalDataAddress) || errors.Is(err, modbus.IllegalDataValue) {
			if out.Instead = j.smaller(); out.Instead == nil {
				j.refused = true
			}
		}
		j.refused = j.refused || errors.Is(err, modbus.IllegalFunction)
		return out
	}
	j.refused = false
	if !j.request.Function.Bits() {
		s.words = modbus.AppendWords(s.words[:0], data)
	} else {
		s.words = s.words[:0]
	}
	batch := engine.Begin(j.items[0].slot)
	defer batch.End()
	var sample engine.Sample
	for i := range j.items {
		it := &j.items[i]
		if it.again(batch, s.words, data) {
			continue
		}
		decode(&sample, &it.slot.Layout, j.request.Function, s.words, data, it.first, it.count)
		sample.Slot = it.slot
		batch.Emit(&sample)
	}
	return engine.Outcome{}
}

// Read asks for a range, in as many requests as it takes; each address is a sample, registers as uint16.
func (s *session) Read(station site.Station, what site.Range) ([]engine.Sample, error) {
	function, known := readFunction[what.Start.Space]
	if !known {
		return nil, fmt.Errorf("%s is no Modbus address", what.Start)
	}
	largest, bits, _ := station.ReadLimits()
	if function.Bits() {
		largest = bits
	}
	samples := make([]engine.Sample, 0, what.Count)
	for done := 0; done < what.Count; {
		n := min(largest, what.Count-done)
		at := what.Start.Offset + uint16(done)
		data, err := s.ask(byte(station.Unit), modbus.Request{Function: function, Address: at, Quantity: uint16(n)})
		if err != nil {
			return nil, fmt.Errorf("%s:%d..%d: %w", what.Start.Space, at, int(at)+n-1, err)
		}
		words := modbus.AppendWords(nil, data)
		for i := range n {
			sample := engine.Sample{}
			decode(&sample, &codec.Layout{Type: codec.TypeUint16}, function, words, data, i, 1)
			sample.Address = site.Address{Space: what.Start.Space, Offset: at + uint16(i)}
			samples = append(samples, sample)
		}
		done += n
	}
	return samples, nil
}

// Test reads one holding register; a refusal is a sign of life, too.
func (s *session) Test(station site.Station) (string, error) {
	data, err := s.ask(byte(station.Unit), modbus.Request{Function: modbus.ReadHoldingRegisters, Quantity: 1})
	var exception modbus.Exception
	switch {
	case err == nil:
		return fmt.Sprintf("unit %d answers: hr:0 is 0x%04X", station.Unit, modbus.Word(data, 0)), nil
	case errors.As(err, &exception) && outcome(err).Answered:
		return fmt.Sprintf("unit %d answers: it refuses hr:0 with %s, so it is there", station.Unit, exception), nil
	}
	return "", err
}

// Write sends a raw value with the function that fits, single where one address is enough, and reads it back.
func (s *session) Write(station site.Station, slot *engine.Slot, raw codec.Value) engine.Written {
	var w engine.Written
	unit, address := byte(station.Unit), slot.Point.Address
	request, sent, err := writeRequest(station, address, slot.Layout, raw)
	if err != nil {
		w.Err = err
		return w
	}
	sent.Slot, w.Sent = slot, &sent
	if w.Before, err = s.readSlot(unit, slot); err != nil && !errors.As(err, new(modbus.Exception)) {
		w.Err = fmt.Errorf("the station does not answer properly (%w)", err)
		return w
	}
	if request.Function == modbus.MaskWriteRegister && station.PartialWrite == site.PartialRewrite {
		if w.Before == nil {
			w.Err = fmt.Errorf("the rest of the register could not be read (%w)", err)
			return w
		}
		merged := slot.Layout.Merge(w.Before.Words[0], sent.Words[0])
		request = registersRequest(station, address.Offset, []uint16{merged})
	}
	w.Reached = true
	if _, err = s.ask(unit, request); err != nil {
		out := outcome(err)
		w.Err, w.Refused = err, out.Answered && !errors.Is(err, modbus.Acknowledge)
		return w
	}
	w.Accepted = true
	for try := range readBackTries {
		if try > 0 {
			time.Sleep(readBackPause)
		}
		if w.After, err = s.readSlot(unit, slot); err != nil {
			w.Err = err
			return w
		}
		if same(slot.Layout, sent, *w.After) {
			return w
		}
	}
	w.Err = errors.New("it reads back otherwise")
	return w
}

// writeRequest makes the request that writes raw, and the sample that reading it back should give.
func writeRequest(station site.Station, address site.Address, layout codec.Layout, raw codec.Value) (modbus.Request, engine.Sample, error) {
	if address.Space == site.Coils {
		r := modbus.Request{Function: modbus.WriteSingleCoil, Address: address.Offset, Bits: []bool{raw.Bool()}}
		if station.WriteFunction == site.WriteMultiple {
			r.Function = modbus.WriteMultipleCoils
		}
		return r, engine.Sample{Value: codec.BoolValue(raw.Bool()), HasBit: true, Bit: raw.Bool(), Quality: reading.Good}, nil
	}
	words, err := layout.Encode(raw)
	if err != nil {
		return modbus.Request{}, engine.Sample{}, err
	}
	sample := engine.Sample{Words: words, Quality: reading.Good}
	if sample.Value, err = layout.Decode(words); err != nil {
		return modbus.Request{}, sample, err
	}
	switch {
	case layout.Partial() && station.PartialWrite == site.PartialNever:
		return modbus.Request{}, sample, errors.New("the station's partial_write is never, so a part of a register is not written")
	case layout.Partial(): // the rest of the register stays as it is
		return modbus.Request{Function: modbus.MaskWriteRegister, Address: address.Offset, And: ^layout.Mask(), Or: words[0]}, sample, nil
	case len(words) > 1 && station.WriteFunction == site.WriteSingle:
		return modbus.Request{}, sample, fmt.Errorf("%s takes %d registers at once, but the station's write_function is single", layout.Type, len(words))
	}
	return registersRequest(station, address.Offset, words), sample, nil
}

// registersRequest writes whole registers with the function that the station wants.
func registersRequest(station site.Station, offset uint16, words []uint16) modbus.Request {
	r := modbus.Request{Function: modbus.WriteMultipleRegisters, Address: offset, Words: words}
	if len(words) == 1 && station.WriteFunction != site.WriteMultiple {
		r.Function = modbus.WriteSingleRegister
	}
	return r
}

// same reports whether what was read back holds what was sent, as far as the point is concerned.
func same(layout codec.Layout, sent, after engine.Sample) bool {
	if sent.HasBit {
		return sent.Bit == after.Bit
	}
	if layout.Partial() {
		return (sent.Words[0]^after.Words[0])&layout.Mask() == 0
	}
	for i := range sent.Words {
		if sent.Words[i] != after.Words[i] {
			return false
		}
	}
	return true
}

// readSlot reads one point by itself.
func (s *session) readSlot(unit byte, slot *engine.Slot) (*engine.Sample, error) {
	address, n := slot.Point.Address, slot.Layout.Words()
	function := readFunction[address.Space]
	data, err := s.ask(unit, modbus.Request{Function: function, Address: address.Offset, Quantity: uint16(n)})
	if err != nil {
		return nil, err
	}
	sample := &engine.Sample{Slot: slot}
	decode(sample, &slot.Layout, function, modbus.AppendWords(nil, data), data, 0, n)
	return sample, nil
}

func (s *session) Lost() bool { return s.lost }

func (s *session) Close() { s.conn.Close() }

func (s *session) Traffic() engine.Traffic {
	c := &s.client.Counters
	return engine.Traffic{BytesSent: c.Sent.Load(), BytesReceived: c.Got.Load(), Late: c.Late.Load(), Foreign: c.Foreign.Load()}
}
