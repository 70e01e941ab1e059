package rig

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"

	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
)

// units answers on a line of Modbus servers.
func (r *Rig) units(l *line) *served {
	server := &modbus.Server{
		Framing: modbus.Framings[string(l.config.Framing)],
		Handle:  func(unit byte, pdu []byte) modbus.Reply { return r.handle(l, "", unit, pdu) },
	}
	s := &served{
		listener: func(ctx context.Context, listener net.Listener) { server.Serve(ctx, listener) }, // it ends when the line is cut
		packets:  func(ctx context.Context, conn net.PacketConn) { server.ServePackets(ctx, conn) },
		port:     func(ctx context.Context, port io.ReadWriteCloser) { server.ServeConn(ctx, port) },
	}
	if l.config.Transport == site.Dialup {
		s.port = func(ctx context.Context, port io.ReadWriteCloser) { (&modem{rig: r, line: l, port: port}).run(ctx) }
	}
	return s
}

// validateModbus checks a line of Modbus servers.
func (l Line) validateModbus(path string, signals map[string]Signal, fault faulty) {
	if framing := l.Framing; framing != site.MBAP && framing != site.RTU && framing != site.ASCII || framing == site.MBAP && l.Transport.UsesSerialPort() {
		fault(path+".framing", "%q does not fit; choose mbap (not on a port), rtu or ascii", framing)
	}
	units := map[int]bool{}
	for j, st := range l.Stations {
		path := fmt.Sprintf("%s.stations[%d]", path, j)
		if st.Unit < 0 || st.Unit > 255 || units[st.Unit] {
			fault(path+".unit", "%d: units of a line differ and go from 0 to 255", st.Unit)
		}
		units[st.Unit] = true
		if st.UnitAt.Space != "" && st.UnitAt.Space != site.HoldingRegisters {
			fault(path+".unit_at", "%s: a unit is kept in a holding register", st.UnitAt)
		}
		for table, n := range st.Tables {
			if _, known := tables[site.Space(table)]; !known || n < 0 || n > 0x10000 {
				fault(path+".tables."+table, "%d: tables are co, di, ir and hr, of at most 65536 addresses", n)
			}
		}
		if (l.Transport == site.Dialup) != (st.Number != "") {
			fault(path+".number", "%q: a station on a dialup line has a telephone number, and only there", st.Number)
		}
		if err := st.Faults.Check(l); err != nil {
			fault(path+".faults", "%s", err)
		}
		for k, v := range st.Values {
			path := fmt.Sprintf("%s.values[%d]", path, k)
			if v.At.Space.Protocol() != site.Modbus {
				fault(path+".at", "%q is no Modbus address", v.At)
				continue
			}
			if _, known := signals[v.Signal]; !known && (v.Signal != "" || v.Set.IsZero()) {
				fault(path+".signal", "there is no signal %q%s", v.Signal, nearest.Hint(v.Signal, slices.Sorted(maps.Keys(signals))))
			}
			if n := v.layout(st.Order).Words(); n == 0 || int(v.At.Offset)+n > 0x10000 {
				fault(path+".type", "%q does not fit %s", v.Type, v.At)
			}
		}
	}
}
