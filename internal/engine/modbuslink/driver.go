// Package modbuslink drives Modbus links for the engine: it plans requests for points, sends them, and turns what
// comes back into samples.
package modbuslink

import (
	"context"
	"errors"
	"time"

	"arithmon/internal/codec"
	"arithmon/internal/engine"
	"arithmon/internal/modbus"
	"arithmon/internal/plan"
	"arithmon/internal/reading"
	"arithmon/internal/site"
	"arithmon/internal/wire"
)

// What requests cost on TCP, in the time of one register on the wire: a round trip weighs as much as the largest
// request, so that fewer requests are better than smaller ones.
const (
	exchangeCost = 125
	bitsPerWord  = 16 // coils are that much cheaper than registers
)

// refusedPeriod is how often an address that a device refused is asked for again, at the most often.
const refusedPeriod = 30 * time.Second

// Driver is the Modbus driver.
type Driver struct{}

// Protocol is site.Modbus.
func (Driver) Protocol() site.Protocol { return site.Modbus }

// job is one read request and the points it serves.
type job struct {
	unit    byte
	request modbus.Request
	items   []item
	period  time.Duration
	limits  limits
	refused bool // the device refused it, and it cannot be made smaller
}

// item is a point within a request.
type item struct {
	slot  *engine.Slot
	first int // of its addresses, counted from the request's
	count int
}

// again reports whether the item's raw data are as before, which its slot then knows.
func (it *item) again(b engine.Batch, words []uint16, data []byte) bool {
	if len(words) == 0 { // bits
		return b.Again(it.slot, nil, modbus.Bit(data, it.first))
	}
	return b.Again(it.slot, words[it.first:it.first+it.count], false)
}

func (j *job) Period() time.Duration {
	if j.refused {
		return max(j.period, refusedPeriod)
	}
	return j.period
}

func (j *job) Slots() []*engine.Slot {
	slots := make([]*engine.Slot, len(j.items))
	for i, it := range j.items {
		slots[i] = it.slot
	}
	return slots
}

// readFunction is the function that reads a table.
var readFunction = map[site.Space]modbus.Function{
	site.Coils: modbus.ReadCoils, site.DiscreteInputs: modbus.ReadDiscreteInputs,
	site.InputRegisters: modbus.ReadInputRegisters, site.HoldingRegisters: modbus.ReadHoldingRegisters,
}

// Jobs plans the requests that read a station's points: per table and period the cheapest set.
func (Driver) Jobs(station engine.Station) []engine.Job {
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
	for _, g := range order {
		jobs = append(jobs, planned(byte(station.Unit), readFunction[g.space], g.period, groups[g], limits)...)
	}
	return jobs
}

// limits are what a station bears in one read.
type limits struct {
	registers, bits, gap int
	stringsAlone         bool
}

func limitsOf(s site.Station) limits {
	l := limits{stringsAlone: s.StringsAlone}
	l.registers, l.bits, l.gap = s.ReadLimits()
	return l
}

// planned makes the jobs for points of one table and period.
func planned(unit byte, function modbus.Function, period time.Duration, slots []*engine.Slot, l limits) []engine.Job {
	cost := plan.Cost{Largest: l.registers, Gap: l.gap, Exchange: exchangeCost, Address: 1}
	if function.Bits() {
		cost.Largest = l.bits
		cost.Gap, cost.Exchange = cost.Gap*bitsPerWord, cost.Exchange*bitsPerWord
	}
	items := make([]plan.Item, len(slots))
	for i, slot := range slots {
		items[i] = plan.Item{Start: slot.Point.Address.Offset, Count: slot.Layout.Words(), Alone: l.stringsAlone && slot.Layout.Type == codec.TypeString}
	}
	var jobs []engine.Job
	for _, r := range plan.Requests(items, cost) {
		j := &job{unit: unit, period: period, limits: l, request: modbus.Request{Function: function, Address: r.Start, Quantity: uint16(r.Count)}}
		for _, i := range r.Items {
			j.items = append(j.items, item{slots[i], int(items[i].Start) - int(r.Start), items[i].Count})
		}
		jobs = append(jobs, j)
	}
	return jobs
}

// smaller divides a request that the device refused: first into runs without gaps, since what nobody wants may not
// exist, then into halves, until the addresses that are refused stand alone. nil when it cannot be divided.
func (j *job) smaller() []engine.Job {
	slots, l := j.Slots(), j.limits
	l.gap = 0
	if jobs := planned(j.unit, j.request.Function, j.period, slots, l); len(jobs) > 1 {
		return jobs
	}
	// Items at the same address cannot be parted.
	middle := -1
	for i := 1; i < len(j.items); i++ {
		apart := j.items[i].first >= j.items[i-1].first+j.items[i-1].count
		if apart && (middle < 0 || i <= len(j.items)/2) {
			middle = i
		}
	}
	if middle < 0 {
		return nil
	}
	return append(planned(j.unit, j.request.Function, j.period, slots[:middle], l),
		planned(j.unit, j.request.Function, j.period, slots[middle:], l)...)
}

// framings are the framings by their names in a site.
var framings = map[site.Framing]modbus.Framing{site.MBAP: modbus.MBAP, site.RTU: modbus.RTU, site.ASCII: modbus.ASCII}

// gatewayGap is the silence that ends a frame through a gateway or an adapter, which pass bytes on in their own time.
const gatewayGap = 50 * time.Millisecond

// Open connects to the far end.
func (Driver) Open(ctx context.Context, link site.Link, _ engine.Sink) (engine.Session, error) {
	conn, err := wire.Open(ctx, link)
	if err != nil {
		return nil, err
	}
	s := &session{conn: conn, timeout: time.Duration(link.Timeout)}
	o := modbus.ClientOptions{Framing: framings[link.Framing], Gap: gatewayGap}
	if link.Serial != nil {
		o.Character, o.Echo = link.Serial.Character(), link.Serial.Echo
		o.Gap = max(o.Gap, 5*o.Character)
		s.silence = modbus.Silence(link.Serial.Baud, link.Serial.Bits())
	}
	s.client = modbus.NewClient(conn, o)
	return s, nil
}

// outcome says what an exchange that failed means to its points.
func outcome(err error) engine.Outcome {
	var exception modbus.Exception
	out := engine.Outcome{Err: err}
	switch {
	case errors.As(err, &exception):
		out.Answered = true
		out.Reason = reading.ExceptionReason(byte(exception))
		// A gateway that says that it cannot reach the device is not the device.
		if exception == modbus.GatewayPathFailure || exception == modbus.GatewayTargetFailed {
			out.Answered = false
		}
	case errors.Is(err, modbus.ErrChecksum):
		out.Reason = reading.Checksum
	case errors.Is(err, modbus.ErrBadResponse):
		out.Reason = reading.BadResponse
	case errors.Is(err, modbus.ErrTimeout):
		out.Reason = reading.Timeout
	default:
		out.Reason = reading.LinkDown
	}
	return out
}

// decode makes a sample of the words or bits of one item.
func decode(s *engine.Sample, layout *codec.Layout, function modbus.Function, words []uint16, data []byte, first, count int) {
	s.Quality, s.Reason = reading.Good, ""
	if function.Bits() {
		s.HasBit, s.Bit = true, modbus.Bit(data, first)
		s.Value = codec.BoolValue(s.Bit)
		return
	}
	s.Words = words[first : first+count]
	var err error
	if s.Value, err = layout.Decode(s.Words); err != nil {
		s.Quality, s.Reason = reading.Bad, reading.Decode
	}
}
