package engine

import (
	"context"

	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// Command runs f on a connection of a station's link, between two exchanges, and waits for it. When ctx ends before f's turn, f is not run.
func (e *Engine) Command(ctx context.Context, station string, f func(*link.Turn) error) error {
	r, err := e.runnerOf(station)
	if err != nil {
		return err
	}
	return r.Command(ctx, station, f)
}

// Hold keeps the link of a station from being lent until release is called.
func (e *Engine) Hold(station string) (release func()) {
	r, err := e.runnerOf(station)
	if err != nil {
		return func() {}
	}
	return r.Hold()
}

// ReadAddresses asks a station for addresses that no point needs to have.
func (e *Engine) ReadAddresses(ctx context.Context, station string, what site.Range) ([]table.Sample, error) {
	r, err := e.runnerOf(station)
	if err != nil {
		return nil, err
	}
	return r.ReadAddresses(ctx, station, what)
}

// Refresh plans a station anew and asks it everything at once, what it refused before included.
func (e *Engine) Refresh(ctx context.Context, station string) error {
	r, err := e.runnerOf(station)
	if err != nil {
		return err
	}
	return r.Refresh(ctx, station)
}

// TestStation asks a station for any sign of life.
func (e *Engine) TestStation(ctx context.Context, station string) (link.Test, error) {
	r, err := e.runnerOf(station)
	if err != nil {
		return link.Test{}, err
	}
	return r.TestStation(ctx, station)
}

// Perform has a station do one of its Actions and says what came of it.
func (e *Engine) Perform(ctx context.Context, station, action string) (string, error) {
	r, err := e.runnerOf(station)
	if err != nil {
		return "", err
	}
	return r.Perform(ctx, station, action)
}

// Actions are what stations of a protocol can do beside reading and writing.
func (e *Engine) Actions(p site.Protocol) []link.Action {
	if actor, ok := e.drivers[p].(link.Actor); ok {
		return actor.Actions()
	}
	return nil
}

// Borrow gives a link to f alone: its connections are closed and its polls pause until f returns. f ends soon after its context does,
// which is when ctx ends or the link is stopped or changed.
func (e *Engine) Borrow(ctx context.Context, name, why string, f func(context.Context)) error {
	e.mu.Lock()
	r := e.runners[name]
	e.mu.Unlock()
	if r == nil {
		return link.ErrStopped
	}
	return r.Lend(ctx, why, f)
}
