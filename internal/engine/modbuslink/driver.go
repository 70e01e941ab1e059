// Package modbuslink drives Modbus links for the engine: it plans requests for points, sends them, and turns what
// comes back into samples.
package modbuslink

import (
	"cmp"
	"context"
	"errors"
	"net"
	"sync"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/engine"
	"arithmon/internal/modbus"
	"arithmon/internal/plan"
	"arithmon/internal/reading"
	"arithmon/internal/site"
	"arithmon/internal/traffic"
	"arithmon/internal/wire"
)

// What requests cost, in the time of one register.
const (
	// registerTime is what a register costs on a network, where the time of its bytes is nothing: a device or gateway that
	// fetches it.
	registerTime = 40 * time.Microsecond
	// unknownCost is what an exchange costs on a network before round trips were measured: as much as the largest request,
	// so that fewer requests are better than smaller ones.
	unknownCost = 125
	leastCost   = 25
	mostCost    = 10000
	bitsPerWord = 16 // coils are that much cheaper than registers
)

// refusedPeriod is how often an address or function that a device refused is asked for again, at the most often.
const refusedPeriod = time.Minute

// gatewayRest is how long a station is left alone whose gateway says that it has no path to it.
const gatewayRest = 5 * time.Second

// exchangeCost is what an exchange costs on a link, beside its registers: on a serial line the characters and silences
// around them, on a network the round trip.
func exchangeCost(l site.Link, roundTrip time.Duration) int {
	switch {
	case l.Transport.OnPort() && l.Serial != nil:
		characters, register := 8+5+7, 2 // RTU: request, answer around its data, two silences
		if l.Framing == site.ASCII {
			characters, register = 17+11, 4
		}
		return characters/register + int(time.Duration(l.Pause)/max(1, time.Duration(register)*l.Serial.Character()))
	case roundTrip > 0:
		return min(max(leastCost, int(roundTrip/registerTime)), mostCost)
	}
	return unknownCost
}

// Driver is the Modbus driver.
type Driver struct{}

// Protocol is site.Modbus.
func (Driver) Protocol() site.Protocol { return site.Modbus }

// job is one request and the points it serves; none when it is only to see whether the station lives.
type job struct {
	to       target
	request  modbus.Request
	items    []engine.Place
	period   time.Duration
	limits   limits
	refusals *refusals
	block    *engine.Block // what it was answered last
	refused  bool          // the device refused it, and it cannot be made smaller
}

// target is where a request goes.
type target struct {
	unit   byte
	number string // to be called first, on a dial-up line
}

func targetOf(s site.Station) target { return target{byte(s.Unit), s.Number} }

// refusals are the functions that a station said not to have, with the time of the last refusal.
type refusals struct {
	mu        sync.Mutex
	functions map[modbus.Function]time.Time
}

// barred reports whether a function is not to be asked for. From time to time it lets one request through.
func (r *refusals) barred(f modbus.Function) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	at, refused := r.functions[f]
	if refused && time.Since(at) >= refusedPeriod {
		r.functions[f] = time.Now()
		return false
	}
	return refused
}

func (r *refusals) note(f modbus.Function, refused bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !refused {
		delete(r.functions, f)
		return
	}
	if r.functions == nil {
		r.functions = map[modbus.Function]time.Time{}
	}
	r.functions[f] = time.Now()
}

func (j *job) Period() time.Duration {
	if j.refused {
		return max(j.period, refusedPeriod)
	}
	return j.period
}

// Asks is for engine.Refusable.
func (j *job) Asks() site.Range {
	return site.Range{Start: site.Address{Space: tables[j.request.Function], Offset: j.request.Address}, Count: max(1, int(j.request.Quantity))}
}

func (j *job) Slots() []*engine.Slot {
	slots := make([]*engine.Slot, len(j.items))
	for i, it := range j.items {
		slots[i] = it.Slot
	}
	return slots
}

// readFunction is the function that reads a table.
var readFunction = map[site.Space]modbus.Function{
	site.Coils: modbus.ReadCoils, site.DiscreteInputs: modbus.ReadDiscreteInputs,
	site.InputRegisters: modbus.ReadInputRegisters, site.HoldingRegisters: modbus.ReadHoldingRegisters,
}

// tables are the tables by the function that reads them.
var tables = map[modbus.Function]site.Space{
	modbus.ReadCoils: site.Coils, modbus.ReadDiscreteInputs: site.DiscreteInputs,
	modbus.ReadInputRegisters: site.InputRegisters, modbus.ReadHoldingRegisters: site.HoldingRegisters,
}

// Jobs plans the requests that read a station's points: per table and period the cheapest set. Where none of them is due
// often enough to show that the station lives, another one does.
func (Driver) Jobs(link site.Link, station engine.Station) []engine.Job {
	if station.Broadcast {
		return nil // nobody answers
	}
	type group struct {
		space  site.Space
		period time.Duration
	}
	groups := map[group][]*engine.Slot{}
	var order []group
	for _, slot := range station.Slots {
		g := group{slot.Point.Address.Space, slot.Period}
		if groups[g] == nil {
			order = append(order, g)
		}
		groups[g] = append(groups[g], slot)
	}
	var jobs []engine.Job
	limits := limitsOf(station.Station)
	limits.exchange = exchangeCost(link, station.RoundTrip)
	shared := new(refusals)
	often := time.Duration(cmp.Or(station.Liveness, site.Duration(site.DefaultLiveness)))
	ask := true
	for _, g := range order {
		like := job{to: targetOf(station.Station), request: modbus.Request{Function: readFunction[g.space]}, period: g.period, limits: limits, refusals: shared}
		jobs = append(jobs, like.planned(groups[g])...)
		ask = ask && g.period > often
	}
	if request, ok := livenessRequest(station.Station); ok && ask {
		jobs = append(jobs, &job{to: targetOf(station.Station), request: request, period: often, refusals: shared})
	}
	return jobs
}

// livenessRequest is what shows that a station lives.
func livenessRequest(s site.Station) (modbus.Request, bool) {
	address, word, err := s.LivenessRequest()
	switch {
	case err != nil || word == site.AskNothing:
		return modbus.Request{}, false
	case word == site.AskDiagnostics:
		return modbus.Request{Function: modbus.Diagnostics, Address: modbus.ReturnQueryData, Words: []uint16{0xA537}}, true
	case word == site.AskIdentification:
		return modbus.Request{Function: modbus.EncapsulatedInterface, Level: 1}, true
	}
	return modbus.Request{Function: readFunction[address.Space], Address: address.Offset, Quantity: 1}, true
}

// limits are what a station bears in one read.
type limits struct {
	registers, bits, gap int
	exchange             int // what one costs
	stringsAlone         bool
}

func limitsOf(s site.Station) limits {
	l := limits{stringsAlone: s.StringsAlone}
	l.registers, l.bits, l.gap = s.ReadLimits()
	return l
}

// planned makes jobs like j for points of its table and period.
func (j *job) planned(slots []*engine.Slot) []engine.Job {
	l := j.limits
	cost := plan.Cost{Largest: l.registers, Gap: l.gap, Exchange: l.exchange, Address: 1}
	if j.request.Function.Bits() {
		cost.Largest = l.bits
		cost.Gap, cost.Exchange = cost.Gap*bitsPerWord, cost.Exchange*bitsPerWord
	}
	items := make([]plan.Item, len(slots))
	for i, slot := range slots {
		items[i] = plan.Item{Start: slot.Point.Address.Offset, Count: slot.Layout.Words(), Alone: l.stringsAlone && slot.Layout.Type == codec.TypeString}
	}
	var jobs []engine.Job
	for _, r := range plan.Requests(items, cost) {
		made := *j
		made.block = new(engine.Block)
		made.request.Address, made.request.Quantity, made.items, made.refused = r.Start, uint16(r.Count), make([]engine.Place, 0, len(r.Items)), false
		for _, i := range r.Items {
			made.items = append(made.items, engine.Place{Slot: slots[i], First: int32(items[i].Start) - int32(r.Start), Count: int32(items[i].Count)})
		}
		jobs = append(jobs, &made)
	}
	return jobs
}

// smaller divides a request that the device refused: first into runs without gaps, since what nobody wants may not
// exist, then into halves, until the addresses that are refused stand alone. nil when it cannot be divided.
func (j *job) smaller() []engine.Job {
	slots, like := j.Slots(), *j
	like.limits.gap = 0
	if jobs := like.planned(slots); len(jobs) > 1 {
		return jobs
	}
	// Items at the same address cannot be parted.
	middle := -1
	for i := 1; i < len(j.items); i++ {
		apart := j.items[i].First >= j.items[i-1].First+j.items[i-1].Count
		if apart && (middle < 0 || i <= len(j.items)/2) {
			middle = i
		}
	}
	if middle < 0 {
		return nil
	}
	return append(like.planned(slots[:middle]), like.planned(slots[middle:])...)
}

// The silence that ends a frame: through an adapter, and through a gateway, which passes bytes on in its own time.
const (
	adapterGap = 50 * time.Millisecond
	gatewayGap = 250 * time.Millisecond
)

// Open connects to the far end; of a dial-up line it opens the modem.
func (Driver) Open(ctx context.Context, link site.Link, host engine.Host) (engine.Session, error) {
	if link.Transport == site.Dialup {
		return openDialled(ctx, link, host)
	}
	conn, err := wire.Open(ctx, link)
	if err != nil {
		return nil, err
	}
	return newSession(conn, link, host), nil
}

// watcher tells the host of what a client sees.
func watcher(conn net.Conn, link site.Link, host engine.Host) func(modbus.Event) {
	if host == nil {
		return nil
	}
	ends := traffic.EndsOf(conn, string(link.Framing))
	return func(e modbus.Event) {
		host.Saw(engine.Frame{Kind: traffic.Kind(e.Kind), Unit: int(e.Unit), Asked: e.Asked, Data: e.Data, After: e.After, At: e.At, Text: e.Text, Ends: ends})
	}
}

// newSession speaks over an open connection.
func newSession(conn net.Conn, link site.Link, host engine.Host) *session {
	s := &session{conn: conn, timeout: time.Duration(link.Timeout)}
	o := modbus.ClientOptions{Framing: modbus.Framings[string(link.Framing)], Gap: gatewayGap, Watch: watcher(conn, link, host)}
	if link.InFlight > 1 {
		p := modbus.NewPipeline(conn, watcher(conn, link, host))
		s.asker, s.counters = p, &p.Counters
		return s
	}
	if link.Serial != nil {
		o.Character, o.Echo = link.Serial.Character(), link.Serial.Echo
		o.Gap = max(adapterGap, 5*o.Character)
		s.silence = modbus.Silence(link.Serial.Baud, link.Serial.Bits())
	}
	s.client = modbus.NewClient(conn, o)
	s.asker, s.counters = s.client, &s.client.Counters
	return s
}

// outcome says what an exchange that failed means to its points.
func outcome(err error) engine.Outcome {
	var exception modbus.Exception
	out := engine.Outcome{Err: err}
	switch {
	case errors.As(err, &exception):
		out.Answered = true
		out.Reason = reading.ExceptionReason(byte(exception))
		switch exception {
		case modbus.Acknowledge, modbus.ServerDeviceBusy: // it works on it, or on something else: AP 7
			out.Later = true
		case modbus.GatewayPathFailure: // the gateway is set up wrongly or overloaded; asking again at once mends neither
			out.Answered, out.Rest = false, gatewayRest
		case modbus.GatewayTargetFailed: // a gateway that cannot reach the device is not the device
			out.Answered = false
		}
	case errors.Is(err, modbus.ErrChecksum):
		out.Reason = reading.Checksum
	case errors.Is(err, modbus.ErrBadResponse):
		out.Reason = reading.BadResponse
		var length *modbus.LengthError
		out.Short = errors.As(err, &length) && length.Got < length.Due
	case errors.Is(err, modbus.ErrTimeout):
		out.Reason = reading.Timeout
	default:
		out.Reason = reading.LinkDown
	}
	return out
}
