package rig

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
)

// Rig is a running set of simulated stations.
type Rig struct {
	control     sync.Mutex // of cutting and restoring lines
	mu          sync.Mutex // guards everything the stations hold
	world       *world
	simulated   time.Time        // until when
	certificate *tls.Certificate // of TLS lines; made when first needed
	began       time.Time
	lines       map[string]*line
}

// line is a listener that can be cut and restored.
type line struct {
	config   Line
	stations map[byte]*station
	far      map[int]*far // by link address, on a DNP3 line
	listen   string       // where it really listens
	cancel   context.CancelFunc
	done     chan struct{} // closed when it no longer listens
}

// Options say how a rig starts.
type Options struct {
	// AnyPort takes a free port of this machine where the one a line names is taken.
	AnyPort bool
}

// Start listens on all lines and answers until Stop.
func Start(c *Config, o Options) (*Rig, error) {
	r := &Rig{lines: map[string]*line{}, began: time.Now(), simulated: time.Now()}
	for _, lc := range c.Lines {
		lc = lc.withDefaults()
		l := &line{config: lc, stations: map[byte]*station{}, far: map[int]*far{}}
		for _, sc := range lc.Stations {
			simulations[lc.Protocol].add(l, sc)
		}
		r.lines[lc.Name] = l
	}
	var err error
	if r.world, err = newWorld(c.Signals, c.Seed, r.written); err != nil {
		return nil, err
	}
	for _, lc := range c.Lines {
		l := r.lines[lc.Name]
		err := r.listen(l, lc.Listen)
		if err != nil && o.AnyPort {
			err = r.listenElsewhere(l)
		}
		if err != nil {
			r.Stop()
			return nil, fmt.Errorf("line %s: %w", lc.Name, err)
		}
	}
	return r, nil
}

// listenElsewhere listens on a free port where the one a line names is taken. A serial line gets a pseudo-terminal without a
// name of its own; where there are none, TCP carries its frames.
func (r *Rig) listenElsewhere(l *line) error {
	if l.config.Transport.UsesSerialPort() {
		if r.listen(l, "") == nil {
			return nil
		}
		if l.config.Transport == site.Dialup {
			return errors.New("this machine has no pseudo-terminals for the modem")
		}
		l.config.Transport = site.TCP
	}
	return r.listen(l, "127.0.0.1:0")
}

// Stop closes all lines and waits for them.
func (r *Rig) Stop() {
	for name := range r.lines {
		r.Cut(name)
	}
}

// Address is where a line listens, host:port; "" for an unknown line.
func (r *Rig) Address(name string) string {
	if l := r.lines[name]; l != nil {
		return l.listen
	}
	return ""
}

// Cut closes a line: its port refuses connections.
func (r *Rig) Cut(name string) {
	r.control.Lock()
	defer r.control.Unlock()
	if l := r.lines[name]; l != nil && l.cancel != nil {
		l.cancel()
		<-l.done
		l.cancel = nil
	}
}

// Restore opens a line that was cut, at the same address.
func (r *Rig) Restore(name string) error {
	r.control.Lock()
	defer r.control.Unlock()
	l := r.lines[name]
	if l == nil || l.cancel != nil {
		return nil
	}
	if l.config.Transport.UsesSerialPort() {
		return r.listen(l, l.config.Listen)
	}
	return r.listen(l, l.listen)
}

// LineState is a line as it is now.
type LineState struct {
	Name      string
	Protocol  site.Protocol
	Transport site.Transport
	Framing   site.Framing
	Listen    string // host:port or serial port
	Cut       bool   // the line is cut: nothing listens
	Stations  []StationState
	Possible  []PossibleFault // faults that have an effect on its stations
}

// StationState is a simulated station as it is now.
type StationState struct {
	Unit   int // or address of an outstation
	Number string
	Name   string
	Faults Faults
}

// State lists all lines by name.
func (r *Rig) State() []LineState {
	r.control.Lock()
	defer r.control.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	list := []LineState{}
	for _, name := range slices.Sorted(maps.Keys(r.lines)) {
		l := r.lines[name]
		state := LineState{Name: name, Protocol: l.config.Protocol, Transport: l.config.Transport, Framing: l.config.Framing, Listen: l.listen, Cut: l.cancel == nil, Stations: []StationState{}, Possible: FaultsOn(l.config)}
		for _, unit := range slices.Sorted(maps.Keys(l.stations)) {
			s := l.stations[unit]
			state.Stations = append(state.Stations, StationState{int(unit), s.config.Number, s.config.Name, s.faults})
		}
		for _, address := range slices.Sorted(maps.Keys(l.far)) {
			f := l.far[address]
			state.Stations = append(state.Stations, StationState{address, "", f.config.Name, f.faults})
		}
		list = append(list, state)
	}
	return list
}

// SetFaults replaces the faults of a station.
func (r *Rig) SetFaults(line string, unit int, f Faults) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if l := r.lines[line]; l != nil {
		if err := f.Check(l.config); err != nil {
			return err
		}
	}
	if o := r.far(line, unit); o != nil {
		o.apply(time.Now(), f)
		return nil
	}
	s, err := r.station(line, unit)
	if err != nil {
		return err
	}
	if f.Restart > 0 {
		s.restart(time.Now().Add(time.Duration(f.Restart)))
		f.Restart = 0
	}
	s.faults = f
	return nil
}

// Faults are those of a station.
func (r *Rig) Faults(line string, unit int) (Faults, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if o := r.far(line, unit); o != nil {
		return o.faults, nil
	}
	s, err := r.station(line, unit)
	if err != nil {
		return Faults{}, err
	}
	return s.faults, nil
}

// Registers reads holding registers of a station as they are, for checking what arrived.
func (r *Rig) Registers(line string, unit int, address uint16, n int) ([]uint16, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s, err := r.station(line, unit)
	if err != nil {
		return nil, err
	}
	words := make([]uint16, n)
	return words, s.ReadRegisters(modbus.HoldingRegisters, address, words)
}

func (r *Rig) station(line string, unit int) (*station, error) {
	if l := r.lines[line]; l != nil && l.stations[byte(unit)] != nil {
		return l.stations[byte(unit)], nil
	}
	return nil, fmt.Errorf("the rig has no unit %d on line %s", unit, line)
}

// handle answers one request that came over a line, on a dial-up line to a number. Units that are not there do not
// answer.
func (r *Rig) handle(l *line, number string, unit byte, pdu []byte) modbus.Reply {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.advance(time.Now())
	if unit == 0 && l.config.Transport.UsesSerialPort() { // a broadcast: all take it in, none answers (serial line 2.2)
		for _, s := range l.stations {
			if s.config.Number == number && !s.faults.Drop {
				s.refresh(r.world.now)
				modbus.Answer(s, pdu)
			}
		}
		return modbus.Reply{}
	}
	s := l.stations[unit]
	if s == nil || s.config.Number != number || time.Now().Before(s.until) {
		return modbus.Reply{}
	}
	f := s.faults
	if s.answers++; f.Some > 1 && s.answers%f.Some != 0 {
		f = Faults{Delay: f.Delay}
	}
	if f.Drop || f.Outage != nil && time.Since(r.began)%time.Duration(f.Outage.Every) >= time.Duration(f.Outage.Every-f.Outage.For) {
		return modbus.Reply{}
	}
	if time.Since(s.replied) < time.Duration(f.Rests) {
		return modbus.Reply{}
	}
	defer func() { s.replied = time.Now() }()
	if f.Longest > 0 && len(pdu) == 5 && modbus.Function(pdu[0]) <= modbus.ReadInputRegisters && int(pdu[3])<<8+int(pdu[4]) > f.Longest {
		switch f.LongestEnds {
		case "close":
			return modbus.Reply{PDU: pdu[:1], Alter: func([]byte) []byte { return nil }, Close: true}
		case "part":
			pdu = append(slices.Clone(pdu[:3]), byte(f.Longest>>8), byte(f.Longest))
		default:
			return modbus.Reply{}
		}
	}
	reply := modbus.Reply{Delay: time.Duration(f.Delay)}
	if l.config.Transport.UsesSerialPort() { // a request has ended when silence has followed it (serial line 2.5.1.1)
		reply.Delay += modbus.Silence(l.config.Serial.Baud, l.config.Serial.Bits())
	}
	if f.Function == int(pdu[0]) && f.Function != 0 {
		reply.PDU = []byte{pdu[0] | 0x80, byte(modbus.IllegalFunction)}
		return reply
	}
	if f.Exception != 0 { // refused, so that nothing is carried out
		reply.PDU = []byte{pdu[0] | 0x80, byte(f.Exception)}
		return reply
	}
	if !f.Frozen {
		s.refresh(r.world.now)
	}
	s.takeOver(time.Now())
	if f.LateWrites > 0 && modbus.Function(pdu[0]).Writes() {
		reply.PDU = s.takeLater(pdu, time.Now().Add(time.Duration(f.LateWrites)))
	} else {
		reply.PDU = modbus.Answer(s, pdu)
	}
	l.readdress(s, unit)
	if f.MuteWrites && modbus.Function(pdu[0]).Writes() {
		return modbus.Reply{}
	}
	if f.WordSwap && swappable(reply.PDU) {
		if s.swaps++; s.swaps%2 == 0 {
			swapWords(reply.PDU)
		}
	}
	f.spoil(&reply)
	if f.TwoMasters {
		reply.Alter = func(frame []byte) []byte {
			return append(frame, overheard(modbus.Framings[string(l.config.Framing)], unit)...)
		}
	}
	return reply
}

// readdress gives a station the unit that a client has written into it, if it has such a register and nothing else has that unit.
func (l *line) readdress(s *station, unit byte) {
	at := s.config.UnitAt
	if at.Space != site.HoldingRegisters {
		return
	}
	wanted := s.words[modbus.HoldingRegisters][at.Offset]
	if wanted == uint16(unit) || wanted < 1 || wanted > 247 || l.stations[byte(wanted)] != nil {
		return
	}
	delete(l.stations, unit)
	l.stations[byte(wanted)] = s
}

// overheard is what crosses the line when another master asks a unit, too.
func overheard(framing modbus.Framing, unit byte) []byte {
	asked := framing.Append(nil, modbus.Frame{Unit: unit, PDU: []byte{byte(modbus.ReadHoldingRegisters), 0, 0, 0, 2}})
	return framing.Append(asked, modbus.Frame{Unit: unit, PDU: []byte{byte(modbus.ReadHoldingRegisters), 4, 0, 0, 0, 0}})
}

// spoil makes of a proper reply what the faults say.
func (f Faults) spoil(reply *modbus.Reply) {
	if f.Duplicate {
		reply.Also = slices.Clone(reply.PDU)
		reply.Also[len(reply.Also)-1] ^= 0x55
	}
	switch {
	case f.Truncate:
		reply.Alter = func(frame []byte) []byte { return frame[:max(1, len(frame)-3)] }
	case f.Short && len(reply.PDU) >= 4:
		reply.PDU = reply.PDU[:len(reply.PDU)-2]
		reply.PDU[1] -= 2
	case f.Close:
		reply.Alter, reply.Close = func(frame []byte) []byte { return frame[:len(frame)-1] }, true
	case f.Garbage:
		reply.Alter = func([]byte) []byte { return []byte("login: ") }
	case f.Checksum:
		reply.Alter = func(frame []byte) []byte {
			at := len(frame) - 1
			if frame[0] == ':' {
				at -= 2 // before CR LF
			}
			frame[at] ^= 1
			return frame
		}
	case f.Miscount && len(reply.PDU) >= 4:
		reply.PDU[1] += 2
	case f.Trailing:
		reply.Alter = func(frame []byte) []byte { return append(frame, 0xFF, 0x00) }
	case f.Noise:
		reply.Alter = func(frame []byte) []byte { return append([]byte{0xFF, 0x00, 0x7F}, frame...) }
	}
	reply.Other, reply.Echo, reply.Wrong = f.WrongUnit, f.Echo, f.Identifier
}

// swappable reports whether a PDU is a response with registers.
func swappable(pdu []byte) bool {
	f := modbus.Function(pdu[0])
	return f == modbus.ReadHoldingRegisters || f == modbus.ReadInputRegisters
}

// swapWords puts the registers of a response in reverse order, two by two.
func swapWords(pdu []byte) {
	for at := 2; at+4 <= len(pdu); at += 4 {
		pdu[at], pdu[at+1], pdu[at+2], pdu[at+3] = pdu[at+2], pdu[at+3], pdu[at], pdu[at+1]
	}
}

// advance moves the simulation on to a moment, in steps of a tick; after a long silence it skips ahead.
func (r *Rig) advance(to time.Time) {
	const most = 36000 // an hour of ticks
	if behind := to.Sub(r.simulated); behind > most*tick {
		r.simulated = to.Add(-most * tick)
	}
	for ; !r.simulated.Add(tick).After(to); r.simulated = r.simulated.Add(tick) {
		r.world.step(tick.Seconds())
	}
}

// written is what a client wrote where an input signal looks.
func (r *Rig) written(s Signal) float64 {
	if o := r.far(s.Line, s.Unit); o != nil {
		v, _ := o.Value(kindOf(s.At.Space), s.At.Offset)
		n, _ := v.Float()
		return n
	}
	st, err := r.station(s.Line, s.Unit)
	if err != nil {
		return s.Value
	}
	if s.At.Space == site.Coils {
		if st.coil(s.At.Offset) {
			return 1
		}
		return 0
	}
	return float64(st.register(modbus.HoldingRegisters, s.At.Offset))
}

// station is the data of one device. It is a modbus.Model; the rig's mutex guards it.
type station struct {
	config  Station
	faults  Faults
	answers int         // so far
	replied time.Time   // when it did last
	swaps   int         // answers with registers while their words are swapped
	until   time.Time   // it restarts and does not answer before
	bits    [2][]bool   // coils, discrete inputs
	words   [4][]uint16 // by modbus.Table
	later   []lateWrite // in the order in which they came
}

// lateWrite is a request that was acknowledged and is yet to be carried out.
type lateWrite struct {
	at  time.Time
	pdu []byte
}

// takeLater answers a request that writes, and leaves what it writes for later.
func (s *station) takeLater(pdu []byte, at time.Time) []byte {
	coils, registers := slices.Clone(s.bits[modbus.Coils]), slices.Clone(s.words[modbus.HoldingRegisters])
	answer := modbus.Answer(s, pdu)
	s.bits[modbus.Coils], s.words[modbus.HoldingRegisters] = coils, registers
	if answer[0]&0x80 == 0 {
		s.later = append(s.later, lateWrite{at, slices.Clone(pdu)})
	}
	return answer
}

// takeOver carries out what was left for later until now.
func (s *station) takeOver(now time.Time) {
	for len(s.later) > 0 && !now.Before(s.later[0].at) {
		modbus.Answer(s, s.later[0].pdu)
		s.later = s.later[1:]
	}
}

// restart forgets what was written and keeps silent for a while.
func (s *station) restart(until time.Time) {
	fresh := newStation(s.config)
	s.bits, s.words, s.later, s.until = fresh.bits, fresh.words, nil, until
}

// Identify is modbus.Named's.
func (s *station) Identify() modbus.Identification {
	if s.config.Name == "" {
		return modbus.Identification{}
	}
	return modbus.Identification{
		Objects: map[byte]string{0: "Simulated", 1: s.config.Name, 2: "1.0"},
		ID:      append(append([]byte{byte(s.config.Unit)}, s.config.Name...), 0xFF),
	}
}

var tables = map[site.Space]modbus.Table{
	site.Coils: modbus.Coils, site.DiscreteInputs: modbus.DiscreteInputs,
	site.InputRegisters: modbus.InputRegisters, site.HoldingRegisters: modbus.HoldingRegisters,
}

func newStation(c Station) *station {
	s := &station{config: c, faults: c.Faults}
	size := map[site.Space]int{}
	for table, n := range c.Tables {
		size[site.Space(table)] = n
	}
	for _, v := range c.Values {
		end := int(v.At.Offset) + v.layout(c.Order).Words()
		size[v.At.Space] = max(size[v.At.Space], end)
	}
	if at := c.UnitAt; at.Space == site.HoldingRegisters {
		size[at.Space] = max(size[at.Space], int(at.Offset)+1)
	}
	s.bits[modbus.Coils] = make([]bool, size[site.Coils])
	s.bits[modbus.DiscreteInputs] = make([]bool, size[site.DiscreteInputs])
	s.words[modbus.InputRegisters] = make([]uint16, size[site.InputRegisters])
	s.words[modbus.HoldingRegisters] = make([]uint16, size[site.HoldingRegisters])
	for _, v := range c.Values {
		if v.Signal == "" {
			s.put(v, v.Set)
		}
	}
	if at := c.UnitAt; at.Space == site.HoldingRegisters {
		s.words[modbus.HoldingRegisters][at.Offset] = uint16(c.Unit)
	}
	return s
}

// refresh puts the signals into the registers.
func (s *station) refresh(signals map[string]float64) {
	for _, v := range s.config.Values {
		if v.Signal == "" {
			continue
		}
		factor := 1.0
		if v.Factor != nil {
			factor = *v.Factor
		}
		raw := signals[v.Signal]*factor + v.Offset
		if v.At.Space == site.Coils || v.At.Space == site.DiscreteInputs {
			raw = math.Min(1, math.Round(math.Abs(raw)))
		}
		s.put(v, codec.FloatValue(raw))
	}
}

// put encodes a value where it belongs; one that does not fit its type leaves what is there.
func (s *station) put(v Value, value codec.Value) {
	layout := v.layout(s.config.Order)
	if v.At.Space == site.Coils || v.At.Space == site.DiscreteInputs {
		s.bits[tables[v.At.Space]][v.At.Offset] = value.Bool()
		return
	}
	if _, bit := v.At.Part.Bit(); bit {
		value = codec.BoolValue(value.Bool())
	}
	words, err := layout.Encode(value)
	if err != nil {
		return
	}
	registers := s.words[tables[v.At.Space]][v.At.Offset:]
	if layout.Partial() {
		registers[0] = layout.Merge(registers[0], words[0])
		return
	}
	copy(registers, words)
}

func (s *station) coil(offset uint16) bool {
	return int(offset) < len(s.bits[modbus.Coils]) && s.bits[modbus.Coils][offset]
}

func (s *station) register(t modbus.Table, offset uint16) uint16 {
	if int(offset) >= len(s.words[t]) {
		return 0
	}
	return s.words[t][offset]
}

// ReadBits is part of modbus.Model.
func (s *station) ReadBits(t modbus.Table, address uint16, bits []bool) error {
	if int(address)+len(bits) > len(s.bits[t]) {
		return modbus.IllegalDataAddress
	}
	copy(bits, s.bits[t][address:])
	return nil
}

// ReadRegisters is part of modbus.Model.
func (s *station) ReadRegisters(t modbus.Table, address uint16, words []uint16) error {
	if int(address)+len(words) > len(s.words[t]) {
		return modbus.IllegalDataAddress
	}
	copy(words, s.words[t][address:])
	return nil
}

// WriteBits is part of modbus.Model.
func (s *station) WriteBits(address uint16, bits []bool) error {
	if int(address)+len(bits) > len(s.bits[modbus.Coils]) {
		return modbus.IllegalDataAddress
	}
	copy(s.bits[modbus.Coils][address:], bits)
	return nil
}

// WriteRegisters is part of modbus.Model.
func (s *station) WriteRegisters(address uint16, words []uint16) error {
	if int(address)+len(words) > len(s.words[modbus.HoldingRegisters]) {
		return modbus.IllegalDataAddress
	}
	copy(s.words[modbus.HoldingRegisters][address:], words)
	for _, v := range s.config.Values {
		if n := v.layout(s.config.Order).Words(); v.Limit != nil && v.At.Space == site.HoldingRegisters &&
			int(v.At.Offset) < int(address)+len(words) && int(address) < int(v.At.Offset)+n {
			s.limit(v)
		}
	}
	return nil
}

// limit brings a value into its bounds.
func (s *station) limit(v Value) {
	layout := v.layout(s.config.Order)
	value, err := layout.Decode(s.words[modbus.HoldingRegisters][v.At.Offset:][:layout.Words()])
	if n, ok := value.Float(); err == nil && ok && (n < v.Limit[0] || n > v.Limit[1]) {
		s.put(v, codec.FloatValue(min(max(n, v.Limit[0]), v.Limit[1])))
	}
}
