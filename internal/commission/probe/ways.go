package probe

import (
	"context"

	"arithmon/internal/core/site"
)

// way is how the devices of a protocol are probed and looked for.
type way struct {
	stages func(*prober) []stage // after the path is open
	open   func(*prober)         // begins to speak on the connection
	// scan asks for the addresses of a request, one after the other; done of total steps were made before.
	scan func(ctx context.Context, link site.Link, r ScanRequest, done, total int, report func(Progress)) error
	// try asks for addresses with the line settings of a link and returns the first that answers, or -1.
	try func(ctx context.Context, link site.Link, r ScanRequest, known []int, step func(now string)) (int, error)
}

// ways are those of all protocols.
var ways = map[site.Protocol]way{
	site.Modbus: {
		stages: func(p *prober) []stage {
			return []stage{{"modbus", p.anything}, {"unit", p.this}, {"identification", p.identify}, {"tables", p.tables}, {"limits", p.limits}}
		},
		open: func(p *prober) { p.ask = client(p.conn, p.link) },
		scan: scanUnits, try: trySettings,
	},
	site.DNP3: {stages: (*prober).outstation, open: (*prober).speak, scan: scanAddresses, try: tryAddresses},
}
