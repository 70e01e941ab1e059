package modbus

import (
	"cmp"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/plan"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/modbus"
)

// Periods of what is asked beside the points.
const (
	// refusedPeriod is how often an address or function that a device refused is asked for again.
	refusedPeriod = time.Minute
	// recheckPeriod is how often a boundary or limit that a device had is tried again.
	recheckPeriod = 10 * time.Minute
	// seldomPolled is the period of points from which on a station is asked for a sign of life besides, where it does not say.
	seldomPolled = time.Minute
)

// job is one request and the points it serves; none when it is only to see whether the station lives.
type job struct {
	to      target
	request modbus.Request
	items   []table.Place
	period  time.Duration
	limits  limits
	learnt  *learnt
	block   *table.Block // what it was answered last
	search  *search      // for why a request is refused whose parts are read; nil otherwise
	unheard int          // how often it has been asked in a row without a response
	doubted bool         // it is known not to be answered, and asked to see whether that still holds

	// What follows is changed while the job is done, with learnt locked, since others may look at it meanwhile.
	part    *part // of a refused request that is being divided; nil otherwise
	refused bool  // the device refused it, and it is not divided for now
}

// target is where a request goes.
type target struct {
	station string
	unit    byte
	number  string // to be called first, on a dial-up line
}

func targetOf(s site.Station) target { return target{s.Name, byte(s.Unit), s.Number} }

func (j *job) Period() time.Duration {
	if j.search != nil {
		return searchPeriod
	}
	if _, refused := j.now(); refused {
		return max(j.period, refusedPeriod)
	}
	return j.period
}

// now is what the job is a part of, and whether the device refused it.
func (j *job) now() (p *part, refused bool) {
	j.learnt.mu.Lock()
	defer j.learnt.mu.Unlock()
	return j.part, j.refused
}

// setRefused notes whether the device refused the job.
func (j *job) setRefused(refused bool) {
	j.learnt.mu.Lock()
	defer j.learnt.mu.Unlock()
	j.refused = refused
}

// Asks is for link.Refusable.
func (j *job) Asks() site.Range {
	return site.Range{Start: site.Address{Space: tables[j.request.Function], Offset: j.request.Address}, Count: max(1, int(j.request.Quantity))}
}

func (j *job) Slots() []*table.Slot {
	slots := make([]*table.Slot, len(j.items))
	for i, it := range j.items {
		slots[i] = it.Slot
	}
	return slots
}

// Adopt is for link.Adopter: j takes the place of a job that asks for the same.
func (j *job) Adopt(old link.Job) bool {
	o, ok := old.(*job)
	if !ok {
		return false
	}
	part, refused := o.now()
	if part != nil || o.search != nil || o.request.Function != j.request.Function || o.request.Address != j.request.Address ||
		o.request.Quantity != j.request.Quantity || o.period != j.period || !slices.Equal(o.items, j.items) {
		return false
	}
	j.refused = refused // nobody else has it yet
	if len(j.items) > 0 {
		j.block = o.block
	}
	return true
}

// span is the addresses that the job asks for.
func (j *job) span() plan.Span {
	return plan.Span{From: int(j.request.Address), To: int(j.request.Address) + int(j.request.Quantity)}
}

// readFunction is the function that reads a table.
var readFunction = map[site.Space]modbus.Function{
	site.Coils: modbus.ReadCoils, site.DiscreteInputs: modbus.ReadDiscreteInputs,
	site.InputRegisters: modbus.ReadInputRegisters, site.HoldingRegisters: modbus.ReadHoldingRegisters,
}

// tables are the tables by the function that reads them.
var tables = [256]site.Space{
	modbus.ReadCoils: site.Coils, modbus.ReadDiscreteInputs: site.DiscreteInputs,
	modbus.ReadInputRegisters: site.InputRegisters, modbus.ReadHoldingRegisters: site.HoldingRegisters,
}

// Jobs plans the requests that read a station's points: per table and period the cheapest set that the station is known to answer.
// Where none of them is due often enough to show that the station lives, another one does.
func (Driver) Jobs(l site.Link, station link.Station) []link.Job {
	if station.Broadcast {
		return nil // nobody answers
	}
	type group struct {
		space  site.Space
		period time.Duration
	}
	groups := map[group][]*table.Slot{}
	var order []group
	for _, slot := range station.Slots {
		g := group{slot.Point.Address.Space, slot.Period}
		if groups[g] == nil {
			order = append(order, g)
		}
		groups[g] = append(groups[g], slot)
	}
	var jobs []link.Job
	limits := limitsOf(l, station.Station)
	limits.exchange = exchangeCost(l, station.RoundTrip)
	known := learntOf(station)
	like := job{to: targetOf(station.Station), limits: limits, learnt: known}
	often := time.Duration(cmp.Or(station.Liveness, site.Duration(site.DefaultLiveness)))
	if station.Liveness == 0 && len(order) > 0 {
		often = seldomPolled
	}
	ask := true
	for _, g := range order {
		like.request, like.period = modbus.Request{Function: readFunction[g.space]}, g.period
		jobs = append(jobs, like.planned(groups[g])...)
		ask = ask && g.period > often
	}
	if request, ok := livenessRequest(station.Station, known, jobs); ok && ask {
		jobs = append(jobs, &job{to: like.to, request: request, period: often, learnt: known})
	}
	return append(jobs, known.rechecks(like, jobs)...)
}

// livenessRequest is what shows that a station lives: what the station says, or else a read that one of its points needs, with a
// function that the station is not known to refuse.
func livenessRequest(s site.Station, known *learnt, jobs []link.Job) (modbus.Request, bool) {
	address, word, err := s.LivenessRequest()
	switch {
	case err != nil || word == site.AskNothing:
		return modbus.Request{}, false
	case word == site.AskDiagnostics:
		return modbus.Request{Function: modbus.Diagnostics, Address: modbus.ReturnQueryData, Words: []uint16{0xA537}}, true
	case word == site.AskIdentification:
		return modbus.Request{Function: modbus.EncapsulatedInterface, Level: 1}, true
	case s.LivenessAsk != "":
		return modbus.Request{Function: readFunction[address.Space], Address: address.Offset, Quantity: 1}, true
	}
	for _, work := range jobs {
		if j := work.(*job); !known.refuses(j.request.Function) {
			return modbus.Request{Function: j.request.Function, Address: j.request.Address, Quantity: 1}, true
		}
	}
	request := modbus.Request{Function: modbus.ReadHoldingRegisters, Address: address.Offset, Quantity: 1}
	for _, f := range []modbus.Function{modbus.ReadHoldingRegisters, modbus.ReadInputRegisters, modbus.ReadCoils, modbus.ReadDiscreteInputs} {
		if !known.refuses(f) {
			request.Function = f
			break
		}
	}
	return request, true
}

// limits are what a station bears in one read.
type limits struct {
	registers, bits, gap int
	spare                int // addresses that may be read along so that a response is told from others
	exchange             int // what one costs
	stringsAlone         bool
}

// mostSpare is how many registers more a read may have where responses carry no identifier.
const mostSpare = 32

func limitsOf(l site.Link, s site.Station) limits {
	limits := limits{stringsAlone: s.StringsAlone}
	limits.registers, limits.bits, limits.gap = s.ReadLimits()
	if identified := l.Framing == "" || l.Framing == site.MBAP; !identified && limits.gap > 0 {
		limits.spare = mostSpare
	}
	return limits
}

// planned makes jobs like j for points of its table and period.
func (j *job) planned(slots []*table.Slot) []link.Job {
	l, table := j.limits, j.learnt.table(tables[j.request.Function])
	barred, limit := table.barred()
	cost := plan.Cost{Largest: l.registers, Gap: l.gap, Exchange: l.exchange, Address: 1, Barred: barred}
	if j.request.Function.Bits() {
		cost.Largest = l.bits
		cost.Gap, cost.Exchange = cost.Gap*bitsPerWord, cost.Exchange*bitsPerWord
	}
	if limit > 0 {
		cost.Largest = min(cost.Largest, limit)
	} else if l.spare > 0 { // room to tell responses apart
		cost.Largest = max(cost.Largest-cost.Largest/16, 1)
	}
	items := make([]plan.Item, len(slots))
	for i, slot := range slots {
		items[i] = plan.Item{Start: slot.Point.Address.Offset, Count: slot.Layout.Words(), Alone: l.stringsAlone && slot.Layout.Type == codec.TypeString}
	}
	var jobs []link.Job
	for _, r := range plan.Requests(items, cost) {
		made := j.of(r, items, slots)
		made.part = nil
		jobs = append(jobs, made)
	}
	return jobs
}

// of is a job like j for a planned request.
func (j *job) of(r plan.Request, items []plan.Item, slots []*table.Slot) *job {
	made := *j
	made.block = new(table.Block)
	made.request.Address, made.request.Quantity, made.request.Spare = r.Start, uint16(r.Count), 0
	made.items, made.refused = make([]table.Place, 0, len(r.Items)), false
	for _, i := range r.Items {
		made.items = append(made.items, table.Place{Slot: slots[i], First: int32(items[i].Start) - int32(r.Start), Count: int32(items[i].Count)})
	}
	made.request.Spare = made.spare()
	return &made
}

// spare is how many addresses the request may be widened by: as many as its limits allow and as the device is known to bear.
func (j *job) spare() uint16 {
	spare, largest := j.limits.spare, j.limits.registers
	if j.request.Function.Bits() {
		spare, largest = spare*bitsPerWord, j.limits.bits
	}
	return j.learnt.table(tables[j.request.Function]).bearable(j.span(), min(spare, max(0, largest-int(j.request.Quantity))))
}
