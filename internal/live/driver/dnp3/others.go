package dnp3

import (
	"context"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/wire"
)

// mostLineSettings are tried of a line without anybody having asked for it.
const mostLineSettings = 8

// Others are the usual settings of a serial line: a request for link status at another rate is noise to an outstation.
func (*Driver) Others(l site.Link) (list []site.Link) {
	if !l.Transport.UsesSerialPort() || l.Serial == nil {
		if l.Transport == site.TLS {
			return []site.Link{l.Unsecured()}
		}
		return nil
	}
	for _, s := range site.UsualLineSettings(*l.Serial)[1 : 1+mostLineSettings] {
		other := l
		other.Serial = &s
		list = append(list, other)
	}
	return list
}

// Likely are none: a session that is up looks around for other addresses by itself.
func (*Driver) Likely(site.Link, site.Station) []site.Station { return nil }

// usualMasters are addresses that masters often have.
var usualMasters = []int{0, 1, 2, 3, 4, 5, 10, 100, 101, 1000, 1024}

// Manners are those of outstations whose data link layer wants more than usual, its states reset first or every frame acknowledged, and of
// those that answer a certain master alone.
func (*Driver) Manners(l site.Link, station site.Station) (list []link.Manner) {
	if !station.LinkReset && !station.LinkConfirm {
		reset := station
		reset.LinkReset = true
		list = append(list, link.Manner{Station: reset, Fields: map[string]any{"link_reset": true}})
	}
	if !station.LinkConfirm {
		confirmed := station
		confirmed.LinkConfirm = true
		list = append(list, link.Manner{Station: confirmed, Fields: map[string]any{"link_confirm": true}})
	}
	for _, master := range usualMasters {
		if master != station.MasterAddress() {
			other := station
			other.Master = &master
			list = append(list, link.Manner{Station: other, Fields: map[string]any{"master": master}})
		}
	}
	return list
}

// Recognise is for link.Recogniser: it asks for the link status of many addresses, which devices of other protocols take for noise.
func (*Driver) Recognise(ctx context.Context, l site.Link) bool {
	conn, err := wire.Open(ctx, l)
	if err != nil {
		return false
	}
	defer conn.Close()
	addresses := append([]uint16{dnp3.SelfAddress, 1000, 1024, 4096, 10000}, around(0, 256)...)
	if l.Framing != site.MBAP { // a slow line may be behind it
		addresses = append(around(0, 16), dnp3.SelfAddress)
	}
	var request []byte
	for _, to := range addresses {
		request = dnp3.AppendFrame(request, dnp3.Frame{Control: dnp3.Control(dnp3.RequestStatus) | dnp3.FromMaster, Destination: to, Source: site.DefaultMaster})
	}
	_, err = wire.Hail(ctx, conn, request, (*Driver)(nil).Speaks)
	return err == nil
}

// Speaks is for link.Recogniser: the first that is said is a frame of an outstation.
func (*Driver) Speaks(said []byte) bool {
	f, _, err := dnp3.ParseFrame(said, nil)
	return err == nil && f.Control&dnp3.FromMaster == 0
}

// around are addresses from one to before another.
func around(from, to uint16) (list []uint16) {
	for a := from; a < to; a++ {
		list = append(list, a)
	}
	return list
}

// Explore is for link.Explorer.
func (*Driver) Explore(ctx context.Context, l site.Link, asks bool) (diagnose.Place, error) {
	p, err := wire.Explore(ctx, l, asks)
	return diagnose.Place{Closed: p.Closed, After: p.After, Said: p.Said, TLS: p.TLS}, err
}
