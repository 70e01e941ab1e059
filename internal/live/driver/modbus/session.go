package modbus

import (
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/modbus"
)

// turnaround is how long devices have to take a broadcast in (serial line 2.4.1: 100 to 200 ms).
const turnaround = 100 * time.Millisecond

// session is an open connection to the stations behind it.
type session struct {
	conn       net.Conn
	host       link.Host // nil in tests
	asker      asker
	client     *modbus.Client // nil where several requests are under way at once
	counters   *modbus.Counters
	timeout    time.Duration
	retries    int
	identified bool          // responses carry transaction identifiers
	silence    time.Duration // least quiet time between frames on a serial line
	quiet      time.Time     // since when the line is
	lost       atomic.Bool

	edges sync.Mutex
	tight map[edge]bool // where reads that are no job's cannot be widened; guarded by edges
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
func (s *session) Do(work link.Job) link.Outcome {
	j := work.(*job)
	if j.search != nil {
		return s.step(j)
	}
	function := j.request.Function
	if len(j.items) > 0 && !j.learnt.passes(function) {
		out := outcome(modbus.IllegalFunction)
		out.Skipped = true
		return out
	}
	if j.wantsBrief() {
		return s.brief(j)
	}
	began := time.Now()
	answer, err := s.ask(j.to.unit, j.request)
	if answer.Widened && refusesAddresses(err) && !answer.Doubtful { // what was read along may not exist
		s.counted(j.to.unit, err, time.Since(began), false)
		j.request.Spare = 0
		j.learnt.table(tables[function]).tighten(j.span().To)
		answer, err = s.ask(j.to.unit, j.request)
	}
	if err != nil {
		out := j.failed(err, answer.Doubtful)
		out.Took = answer.Took
		return out
	}
	j.unheard = 0
	out := link.Outcome{Took: answer.Took}
	if j.refused { // nobody else changes it meanwhile
		j.setRefused(false)
	}
	j.learnt.function(function, false)
	if tables[function] == "" {
		return out
	}
	table := j.learnt.table(tables[function])
	was := table.notHeard()
	changed := table.answered(j.span())
	if was > 0 && table.notHeard() == 0 {
		s.note(j, diagnose.Note{Kind: diagnose.NoteLongest}) // it holds no more
	}
	if len(j.items) > 0 {
		j.block.Store(answer.Data, function.Bits(), j.items, answer.At)
	}
	j.divisionGoesOn(&out, true)
	out.Replan = out.Replan || changed && j.part == nil
	return out
}

// divisionGoesOn notes how a job ended that may be a part of a refused one.
func (j *job) divisionGoesOn(out *link.Outcome, read bool) {
	next, replan := j.learnt.concluded(j, read)
	out.Replan = replan
	if next != nil {
		seek := *j
		seek.items, seek.search = nil, next
		again := *j
		out.Instead = []link.Job{&again, &seek}
	}
}

// failed says what follows from a request that failed. A refusal that may be meant for an earlier request teaches nothing.
func (j *job) failed(err error, doubtful bool) link.Outcome {
	out := outcome(err)
	switch {
	case doubtful:
		out.Later = true
	case leavesUnanswered(err, out):
		j.leftUnheard(&out)
	case len(j.items) == 0: // to see whether the station lives, or whether something is still refused
		if is(err, modbus.IllegalFunction) && tables[j.request.Function] != "" {
			out.Replan = j.learnt.function(j.request.Function, true) // with another function
		}
	case refusesAddresses(err):
		if j.learnt.spend(2) {
			if out.Instead = j.divided(); out.Instead != nil {
				return out
			}
			j.learnt.table(tables[j.request.Function]).refused(j.span())
		}
		j.setRefused(true)
		j.divisionGoesOn(&out, false)
	case is(err, modbus.IllegalFunction):
		j.learnt.function(j.request.Function, true)
	}
	return out
}

func is(err, target error) bool { return errors.Is(err, target) }

// counted tells the engine of an exchange beside the one of a job.
func (s *session) counted(unit byte, err error, took time.Duration, repeated bool) {
	if s.host != nil {
		out := outcome(err)
		s.host.Asked(int(unit), out, took, repeated)
	}
}

// mostUnsettled is how long a read that is no job's waits at most for responses to earlier requests.
const mostUnsettled = 2 * time.Second

// read makes a read that is no job's, repeated as the link says while nothing answers.
func (s *session) read(unit byte, request modbus.Request) (answer modbus.Answered, err error) {
	end := edge{unit, request.Function, int(request.Address) + int(request.Quantity)}
	if s.isTight(end) {
		request.Spare = 0
	}
	for try := 0; ; try++ {
		began := time.Now()
		answer, err = s.ask(unit, request)
		var unsettled *modbus.UnsettledError
		if errors.As(err, &unsettled) {
			wait := time.Until(unsettled.Until)
			if wait > mostUnsettled || try > s.retries {
				return answer, err
			}
			time.Sleep(wait)
			continue
		}
		out := outcome(err)
		s.counted(unit, err, time.Since(began), try > 0)
		if answer.Widened && refusesAddresses(err) && !answer.Doubtful {
			s.tighten(end)
			request.Spare = 0
			continue
		}
		if again := err != nil && !out.Answered || answer.Doubtful; !again || s.Lost() || try >= s.retries || out.Rest > 0 {
			return answer, err
		}
	}
}

// edge is where reads end that cannot be widened.
type edge struct {
	unit     byte
	function modbus.Function
	end      int
}

func (s *session) isTight(e edge) bool {
	s.edges.Lock()
	defer s.edges.Unlock()
	return s.tight[e]
}

func (s *session) tighten(e edge) {
	s.edges.Lock()
	defer s.edges.Unlock()
	if s.tight == nil || len(s.tight) > mostSpans {
		s.tight = map[edge]bool{}
	}
	s.tight[e] = true
}

// spareOf is by how much a read that is no job's may be widened.
func (s *session) spareOf(station site.Station) uint16 {
	if _, _, gap := station.ReadLimits(); s.identified || gap == 0 {
		return 0
	}
	return mostSpare
}

// Read asks for a range, in as many requests as it takes; each address is a sample, registers as uint16.
func (s *session) Read(station site.Station, what site.Range) ([]table.Sample, error) {
	function, known := readFunction[what.Start.Space]
	if !known {
		return nil, fmt.Errorf("%s is no Modbus address", what.Start)
	}
	largest, bits, _ := station.ReadLimits()
	if function.Bits() {
		largest = bits
	}
	samples := make([]table.Sample, 0, what.Count)
	for done := 0; done < what.Count; {
		n := min(largest, what.Count-done)
		at := what.Start.Offset + uint16(done)
		request := modbus.Request{Function: function, Address: at, Quantity: uint16(n), Spare: uint16(min(int(s.spareOf(station)), largest-n))}
		answer, err := s.read(byte(station.Unit), request)
		if err != nil {
			asked := site.Range{Start: site.Address{Space: what.Start.Space, Offset: at}, Count: n}
			return nil, fmt.Errorf("%s: %w", asked, err)
		}
		words := modbus.AppendWords(nil, answer.Data)
		for i := range n {
			sample := table.Sample{Quality: reading.Good, Time: answer.At}
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
func (s *session) Test(station site.Station) (link.Sign, error) {
	if station.Broadcast {
		return link.Sign{}, errors.New("this station is all devices of the line at once, and none answers a broadcast")
	}
	request, ok := livenessRequest(station, new(learnt), nil)
	if !ok {
		request = modbus.Request{Function: modbus.ReadHoldingRegisters, Quantity: 1}
	}
	began := time.Now()
	answer, err := s.read(byte(station.Unit), request)
	sign := link.Sign{Took: time.Since(began)}
	asked := request.Function.String()
	var exception modbus.Exception
	switch {
	case err == nil && request.Function == modbus.ReadHoldingRegisters:
		sign.Said = fmt.Sprintf("unit %d answers: hr:%d is 0x%04X", station.Unit, request.Address, modbus.Word(answer.Data, 0))
	case err == nil:
		sign.Said = fmt.Sprintf("unit %d answers to %s", station.Unit, asked)
	case errors.As(err, &exception) && outcome(err).Answered:
		sign.Said, err = fmt.Sprintf("unit %d answers: it refuses %s with %s, so it is there", station.Unit, asked, exception), nil
	}
	return sign, err
}

func (s *session) Lost() bool { return s.lost.Load() }

func (s *session) Close() { s.conn.Close() }

func (s *session) Traffic() link.Traffic {
	c := s.counters
	return link.Traffic{BytesSent: c.Sent.Load(), BytesReceived: c.Got.Load(), Late: c.Late.Load(), Foreign: c.Foreign.Load(), Stray: c.Stray.Load()}
}
