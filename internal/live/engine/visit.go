package engine

import (
	"context"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// Visit is a station that is no part of the site, on a link that is none, spoken to for a while. Commands are carried out on it as on any
// other.
type Visit struct {
	runner  *link.Runner
	station string
}

// visitEnds is how long a visit waits for its link to be closed.
const visitEnds = 2 * time.Second

// Visit speaks to a station at a far end until it is closed. Nothing is asked of it by itself.
func (e *Engine) Visit(ctx context.Context, l site.Link, st site.Station) *Visit {
	l.Name, l.Enabled = l.FarEnd(), true
	st.Link, st.Enabled, st.LivenessAsk = l.Name, true, site.AskNothing
	frames := traffic.NewLog()
	return &Visit{station: st.Name, runner: link.Start(ctx, link.Options{
		Log: e.log, Link: l, Driver: e.drivers[l.Protocol], Table: table.New(), Ring: frames.Ring(l.Name, 1), Stations: []link.Station{{Station: st}},
	})}
}

// Close ends the visit.
func (v *Visit) Close() {
	v.runner.Stop()
	select {
	case <-v.runner.Done():
	case <-time.After(visitEnds):
	}
}

// Slot is nil: a visit has no points.
func (v *Visit) Slot(string) *table.Slot { return nil }

// Command runs f on a connection to the station.
func (v *Visit) Command(ctx context.Context, _ string, f func(*link.Turn) error) error {
	return v.runner.Command(ctx, v.station, f)
}

// Hold does nothing: nobody else has the link.
func (v *Visit) Hold(string) (release func()) { return func() {} }

// Perform has the station do one of its driver's actions and says what came of it.
func (v *Visit) Perform(ctx context.Context, _, action string) (string, error) {
	return v.runner.Perform(ctx, v.station, action)
}

// Read asks the station for addresses.
func (v *Visit) Read(ctx context.Context, what site.Range) ([]table.Sample, error) {
	return v.runner.ReadAddresses(ctx, v.station, what)
}
