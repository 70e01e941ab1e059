package rig

import (
	"arithmon/internal/core/site"
)

// simulation is how devices of a protocol are simulated.
type simulation struct {
	// validate finds the faults of a line in a rig file.
	validate func(l Line, path string, signals map[string]Signal, fault faulty)
	// add puts a station on a line.
	add func(l *line, s Station)
	// serve says how a line answers.
	serve func(r *Rig, l *line) *served
}

// simulations are those of every protocol. A protocol is one entry here.
var simulations map[site.Protocol]simulation

func init() { // not a literal, since what serves asks for it
	simulations = map[site.Protocol]simulation{
		site.Modbus: {
			validate: Line.validateModbus,
			add:      func(l *line, s Station) { l.stations[byte(s.Unit)] = newStation(s) },
			serve:    (*Rig).units,
		},
		site.DNP3: {
			validate: Line.validateDNP3,
			add:      func(l *line, s Station) { l.far[s.Outstation] = newFar(s) },
			serve:    (*Rig).outstations,
		},
	}
}
