package modbus

import (
	"slices"

	"arithmon/internal/core/site"
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
	for _, framing := range []site.Framing{site.RTU, site.MBAP, site.ASCII} {
		if framing != l.Framing {
			other := l
			other.Framing, other.Connections, other.InFlight = framing, 1, 1
			list = append(list, other)
		}
	}
	return slices.Clip(list)
}
