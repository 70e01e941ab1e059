package dnp3

import (
	"context"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
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

// Explore is for link.Explorer.
func (*Driver) Explore(ctx context.Context, l site.Link, asks bool) (diagnose.Place, error) {
	p, err := wire.Explore(ctx, l, asks)
	return diagnose.Place(p), err
}
