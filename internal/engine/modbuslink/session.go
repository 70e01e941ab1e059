package modbuslink

import (
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/engine"
	"arithmon/internal/modbus"
	"arithmon/internal/reading"
	"arithmon/internal/site"
)

// turnaround is how long devices have to take a broadcast in (serial line 2.4.1: 100 to 200 ms).
const turnaround = 100 * time.Millisecond

// session is an open connection to the stations behind it.
type session struct {
	conn     net.Conn
	asker    asker
	client   *modbus.Client // nil where several requests are under way at once
	counters *modbus.Counters
	timeout  time.Duration
	silence  time.Duration // least quiet time between frames on a serial line
	quiet    time.Time     // since when the line is
	lost     atomic.Bool
}

// asker makes one exchange: modbus.Client or modbus.Pipeline.
type asker interface {
	Exchange(unit byte, req modbus.Request, timeout time.Duration) (modbus.Answered, error)
}

// ask makes one exchange and notes whether the connection is lost.
func (s *session) ask(unit byte, request modbus.Request) (modbus.Answered, error) {
	s.wait()
	answer, err := s.asker.Exchange(unit, request, s.timeout)
	if s.silence > 0 {
		s.quiet = time.Now()
	}
	if errors.Is(err, modbus.ErrClosed) {
		s.lost.Store(true)
	}
	return answer, err
}

// wait keeps the silence between two frames.
func (s *session) wait() {
	if s.silence > 0 {
		time.Sleep(time.Until(s.quiet.Add(s.silence)))
	}
}

// Do sends a job's request and emits a sample for each of its points.
func (s *session) Do(work engine.Job) engine.Outcome {
	j := work.(*job)
	function := j.request.Function
	if j.refusals.barred(function) {
		out := outcome(modbus.IllegalFunction)
		out.Skipped = true
		return out
	}
	answer, err := s.ask(j.to.unit, j.request)
	switch {
	case len(j.items) == 0: // only whether it lives
		return outcome(err)
	case err != nil:
		out := j.failed(err)
		out.Took = answer.Took
		return out
	}
	j.refused = false
	j.refusals.note(function, false)
	j.block.Store(answer.Data, function.Bits(), j.items, answer.At)
	return engine.Outcome{Took: answer.Took}
}

// failed says what follows from a request that failed.
func (j *job) failed(err error) engine.Outcome {
	out := outcome(err)
	switch {
	case errors.Is(err, modbus.IllegalDataAddress), errors.Is(err, modbus.IllegalDataValue):
		if out.Instead = j.smaller(); out.Instead == nil {
			j.refused = true
		}
	case errors.Is(err, modbus.IllegalFunction):
		j.refusals.note(j.request.Function, true)
	}
	return out
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
		answer, err := s.ask(byte(station.Unit), modbus.Request{Function: function, Address: at, Quantity: uint16(n)})
		if err != nil {
			asked := site.Range{Start: site.Address{Space: what.Start.Space, Offset: at}, Count: n}
			return nil, fmt.Errorf("%s: %w", asked, err)
		}
		words := modbus.AppendWords(nil, answer.Data)
		for i := range n {
			sample := engine.Sample{Quality: reading.Good}
			if function.Bits() {
				sample.DecodeBit(modbus.Bit(answer.Data, i))
			} else {
				sample.DecodeWords(codec.Layout{Type: codec.TypeUint16}, words[i:i+1])
			}
			sample.Address = site.Address{Space: what.Start.Space, Offset: at + uint16(i)}
			samples = append(samples, sample)
		}
		done += n
	}
	return samples, nil
}

// Test makes the request that shows whether the station lives; a refusal is a sign of life, too.
func (s *session) Test(station site.Station) (string, error) {
	if station.Broadcast {
		return "", errors.New("this station is all devices of the line at once, and none answers a broadcast")
	}
	request, ok := livenessRequest(station)
	if !ok {
		request = modbus.Request{Function: modbus.ReadHoldingRegisters, Quantity: 1}
	}
	answer, err := s.ask(byte(station.Unit), request)
	asked := request.Function.String()
	var exception modbus.Exception
	switch {
	case err == nil && request.Function == modbus.ReadHoldingRegisters:
		return fmt.Sprintf("unit %d answers: hr:%d is 0x%04X", station.Unit, request.Address, modbus.Word(answer.Data, 0)), nil
	case err == nil:
		return fmt.Sprintf("unit %d answers to %s", station.Unit, asked), nil
	case errors.As(err, &exception) && outcome(err).Answered:
		return fmt.Sprintf("unit %d answers: it refuses %s with %s, so it is there", station.Unit, asked, exception), nil
	}
	return "", err
}

func (s *session) Lost() bool { return s.lost.Load() }

func (s *session) Close() { s.conn.Close() }

func (s *session) Traffic() engine.Traffic {
	c := s.counters
	return engine.Traffic{BytesSent: c.Sent.Load(), BytesReceived: c.Got.Load(), Late: c.Late.Load(), Foreign: c.Foreign.Load(), Stray: c.Stray.Load()}
}
