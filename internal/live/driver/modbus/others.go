package modbus

import (
	"context"
	"slices"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
	"arithmon/internal/protocol/wire"
)

// mostLineSettings are tried of a line without anybody having asked for it. A scan tries all.
const mostLineSettings = 12

// Others are the framings that the link may have instead, and of a serial line the usual settings. A read of one register in another framing,
// or at another rate, is noise to a device that has not got it.
func (Driver) Others(l site.Link) (list []site.Link) {
	if l.Transport.UsesSerialPort() {
		if l.Serial == nil {
			return nil
		}
		for _, s := range site.UsualLineSettings(*l.Serial)[1 : 1+mostLineSettings] {
			other := l
			other.Serial = &s
			list = append(list, other)
		}
		other := l // least usual
		if other.Framing = site.ASCII; l.Framing == site.ASCII {
			other.Framing = site.RTU
		}
		return append(list, other)
	}
	if l.Transport == site.TLS {
		list = append(list, l.Unsecured())
	}
	for _, framing := range []site.Framing{site.RTU, site.MBAP, site.ASCII} {
		if framing != l.Framing {
			other := l
			other.Framing, other.Connections, other.InFlight = framing, 1, 1
			list = append(list, other)
		}
	}
	return slices.Clip(list)
}

// Explore is for link.Explorer.
func (Driver) Explore(ctx context.Context, l site.Link, asks bool) (diagnose.Place, error) {
	p, err := wire.Explore(ctx, l, asks)
	return diagnose.Place{Closed: p.Closed, After: p.After, Said: p.Said, TLS: p.TLS}, err
}

// Recognise is for link.Recogniser: it reads one register, which devices of other protocols take for noise.
func (d Driver) Recognise(ctx context.Context, l site.Link) bool {
	conn, err := wire.Open(ctx, l)
	if err != nil {
		return false
	}
	defer conn.Close()
	request := []byte{0x5A, 0x01, 0, 0, 0, 6, 1, byte(modbus.ReadHoldingRegisters), 0, 0, 0, 1}
	answer, err := wire.Hail(ctx, conn, request, func(b []byte) bool { return len(b) >= 9 })
	return err == nil && slices.Equal(answer[:4], request[:4]) && answer[6] == 1 && answer[7]&0x7F == byte(modbus.ReadHoldingRegisters)
}

// Speaks is for link.Recogniser: no unit does so unasked.
func (Driver) Speaks([]byte) bool { return false }

// Manners are none: a unit that answers does so in one way.
func (Driver) Manners(site.Link, site.Station) []link.Manner { return nil }

// mostLikely are asked for in the place of one that is silent.
const mostLikely = 6

// Likely are units that devices often have, beside those next to the unit that a station has: of a network 1 and 255, which stands for the
// device itself (MODBUS Messaging on TCP/IP V1.0b, 4.4.2), of a line the first ones.
func (Driver) Likely(l site.Link, station site.Station) (list []site.Station) {
	units := []int{1, 255, station.Unit + 1, station.Unit - 1, 2, 3}
	if l.Transport.UsesSerialPort() || l.Framing != site.MBAP {
		units = []int{1, station.Unit + 1, station.Unit - 1, 2, 3, 10}
	}
	for i, unit := range units {
		if unit < 1 || unit > 247 && unit != 255 || unit == station.Unit || slices.Contains(units[:i], unit) {
			continue
		}
		other := station
		other.Unit = unit
		list = append(list, other)
	}
	return list[:min(len(list), mostLikely)]
}
