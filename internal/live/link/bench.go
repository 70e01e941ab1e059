package link

import (
	"time"

	"arithmon/internal/core/crash"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
)

// Bench is a Host without a link, for tests and measurements of a driver: it has a live table of one station, and takes no notice of the
// rest.
type Bench struct{ *table.Table }

// NewBench makes a Bench with the points of a station.
func NewBench(st site.Station, points []site.Point) (Bench, Station) {
	b := Bench{table.New()}
	station := Station{Station: st}
	for _, p := range points {
		station.Slots = append(station.Slots, b.Put(&p, st))
	}
	return b, station
}

// FrameSeen is for Host.
func (Bench) FrameSeen(Frame) {}

// Doing is for Host.
func (Bench) Doing(string) {}

// PollNow is for Host.
func (Bench) PollNow(string) {}

// Note is for Host.
func (Bench) Note(string, diagnose.Note) {}

// Fault is for Host.
func (Bench) Fault(*crash.Error) {}

// Keep is for Host.
func (b Bench) Keep() bool { return b.Events().Keep(keepWithin) }

// Asked is for Host.
func (Bench) Asked(int, Outcome, time.Duration, bool) {}

// DeviceState is for Host.
func (Bench) DeviceState(string, []string) {}
