// Package modbus drives Modbus links for the engine: it plans requests for points, sends them, and turns what
// comes back into samples.
package modbus

import (
	"context"
	"errors"
	"net"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/modbus"
	"arithmon/internal/protocol/wire"
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

// gatewayRest is how long a station is left alone whose gateway says that it has no path to it.
const gatewayRest = 5 * time.Second

// exchangeCost is what an exchange costs on a link, beside its registers: on a serial line the characters and silences
// around them, on a network the round trip.
func exchangeCost(l site.Link, roundTrip time.Duration) int {
	switch {
	case l.Transport.UsesSerialPort() && l.Serial != nil:
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

// The silence that ends a frame: through an adapter, and through a gateway, which passes bytes on in its own time.
const (
	adapterGap = 50 * time.Millisecond
	gatewayGap = 250 * time.Millisecond
)

// The silence that ends a frame which began as the response does that is waited for.
const (
	begunRTU   = 300 * time.Millisecond
	begunASCII = time.Second
)

// begun is that silence in a framing.
func begun(f modbus.Framing) time.Duration {
	if f == modbus.ASCII {
		return begunASCII
	}
	return begunRTU
}

// Open connects to the far end; of a dial-up line it opens the modem.
func (Driver) Open(ctx context.Context, l site.Link, host link.Host) (link.Session, error) {
	if l.Transport == site.Dialup {
		return openDialled(ctx, l, host)
	}
	conn, err := wire.Open(ctx, l)
	if err != nil {
		return nil, err
	}
	return newSession(conn, l, host), nil
}

// watcher tells the host of what a client sees.
func watcher(conn net.Conn, l site.Link, host link.Host) func(modbus.Event) {
	if host == nil {
		return nil
	}
	ends, framing := traffic.EndsOf(conn, string(l.Framing)), modbus.Framings[string(l.Framing)]
	return func(e modbus.Event) {
		alien := e.Kind != modbus.EventSent && e.Kind != modbus.EventAnswer && e.Kind != modbus.EventEcho && len(e.Data) > 0 && modbus.HoldsRequest(framing, e.Data)
		host.FrameSeen(link.Frame{Alien: alien, Kind: traffic.Kind(e.Kind), Unit: int(e.Unit), Asked: e.Asked, Data: e.Data, After: e.After, At: e.At, Text: e.Text, Ends: ends})
	}
}

// newSession speaks over an open connection.
func newSession(conn net.Conn, l site.Link, host link.Host) *session {
	s := &session{conn: conn, host: host, timeout: time.Duration(l.Timeout), retries: l.Retries}
	o := modbus.ClientOptions{Framing: modbus.Framings[string(l.Framing)], Gap: gatewayGap, Datagrams: l.Transport == site.UDP, Watch: watcher(conn, l, host)}
	o.Begun = begun(o.Framing)
	s.identified = o.Framing == modbus.MBAP
	if l.InFlight > 1 {
		if host != nil {
			o.Fault = host.Fault
		}
		p := modbus.NewPipeline(conn, o)
		s.asker, s.counters = p, &p.Counters
		return s
	}
	if l.Serial != nil {
		o.Character, o.Echo = l.Serial.Character(), l.Serial.Echo
		o.Gap = max(adapterGap, 5*o.Character)
		s.silence = modbus.Silence(l.Serial.Baud, l.Serial.Bits())
	}
	s.client = modbus.NewClient(conn, o)
	s.asker, s.counters = s.client, &s.client.Counters
	return s
}

// outcome says what an exchange that failed means to its points.
func outcome(err error) link.Outcome {
	var exception modbus.Exception
	var unsettled *modbus.UnsettledError
	out := link.Outcome{Err: err}
	switch {
	case errors.As(err, &unsettled):
		out.Skipped, out.NotBefore = true, unsettled.Until
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
