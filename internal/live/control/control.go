// Package control is the one way to write to devices. It refuses what must not be written, keeps a record of every write from before it is
// sent, carries it out, reads it back, and says what came of it: what was seen, and nothing else.
package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"arithmon/internal/core/access"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/record/store"
)

// Stations are where commands are carried out. An *engine.Engine is one.
type Stations interface {
	// Slot is the place of a point in the live table; nil when there is no such point.
	Slot(tag string) *table.Slot
	// Command runs f on a connection of the station's link, between two exchanges, and waits for it.
	Command(ctx context.Context, station string, f func(*link.Turn) error) error
	// Hold keeps the station's link from being lent until release is called.
	Hold(station string) (release func())
	// Perform has a station do one of its driver's actions and says what came of it.
	Perform(ctx context.Context, station, action string) (string, error)
}

// Records keep what is written. A *store.Store does.
type Records interface {
	// BeginWrite records that something is about to be sent.
	BeginWrite(ctx context.Context, w store.WriteRecord) (id int64, err error)
	// EndWrite completes a record; with id 0 it makes one.
	EndWrite(ctx context.Context, id int64, w store.WriteRecord) error
	// Later completes a record as soon as that is possible.
	Later(id int64, w store.WriteRecord)
}

// Controller writes to devices. It is safe for concurrent use.
type Controller struct {
	stations Stations
	records  Records
	log      *slog.Logger
	pulses   *pulses
}

// New makes a Controller; a nil log discards.
func New(stations Stations, records Records, log *slog.Logger) *Controller {
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	return &Controller{stations, records, log, newPulses()}
}

// At is a controller of other stations that keeps the same records.
func (c *Controller) At(stations Stations) *Controller {
	return &Controller{stations, c.records, c.log, c.pulses}
}

// ErrNoPoint says that there is no point of a tag.
var ErrNoPoint = errors.New("no such point")

// Write sends an engineering value to a point. Everything that can be refused is refused before anything is sent. When ctx ends before the
// turn of the write has come, nothing is sent; from then on it is followed to its end. A write is never repeated, but for the end of a
// pulse, which leaves the point as it should be however often it is sent. Who may not write to the point gets an *access.Refusal.
func (c *Controller) Write(ctx context.Context, who access.Principal, tag string, given codec.Value) (Write, error) {
	if err := who.May(access.Operator); err != nil {
		return Write{Tag: tag}, err
	}
	if slot := c.stations.Slot(tag); slot != nil {
		if err := who.Reaches(*slot.Point); err != nil {
			return Write{Tag: tag}, err
		}
	}
	return c.recorded(ctx, who, func(ctx context.Context, record func(Write) error) (Write, error) {
		return c.point(ctx, tag, given, record)
	})
}

// WriteAddresses sends raw values to successive addresses of a station that no point needs to have, laid out as p says.
// What a point of the site forbids is refused.
func (c *Controller) WriteAddresses(ctx context.Context, who access.Principal, st site.Station, p site.Point, given []codec.Value) (Write, error) {
	if err := mayCommand(who, st); err != nil {
		return Write{Station: st.Name}, err
	}
	return c.recorded(ctx, who, func(ctx context.Context, record func(Write) error) (Write, error) {
		return c.addresses(ctx, st, p, given, record)
	})
}

// Act has a station do one of its driver's actions and says what came of it in words. It is recorded as writes are.
func (c *Controller) Act(ctx context.Context, who access.Principal, station, action string) (said string, err error) {
	if err := mayCommand(who, site.Station{Name: station}); err != nil {
		return "", err
	}
	ctx = context.WithoutCancel(ctx)
	r := store.WriteRecord{Time: time.Now(), Who: who.Name(), From: who.From, Station: station, Address: "action:" + action, Outcome: string(Unknown)}
	id, err := c.records.BeginWrite(ctx, r)
	if err != nil {
		return "", err
	}
	said, err = c.stations.Perform(ctx, station, action)
	r.Outcome, r.Message = string(Done), said
	switch {
	case err == nil:
	case errors.Is(err, link.ErrRefused), errors.Is(err, link.ErrNotAsked), errors.Is(err, link.ErrStopped), errors.Is(err, link.ErrBorrowed):
		r.Outcome, r.Message = string(Refused), err.Error()
	default: // it may have been done
		r.Outcome, r.Message = string(Unknown), err.Error()
	}
	c.log.Info("action "+r.Outcome, "who", r.Who, "station", station, "action", action, "message", r.Message)
	if fault := c.records.EndWrite(ctx, id, r); fault != nil {
		c.records.Later(id, r)
	}
	return said, err
}

// mayCommand is an *access.Refusal when somebody may not command a station beside its points.
func mayCommand(who access.Principal, st site.Station) error {
	if err := who.May(access.Engineer); err != nil {
		return err
	}
	return who.Reaches(st)
}

// EndPulses ends pulses early, waits for that for a moment, and lets no further one begin.
func (c *Controller) EndPulses() { c.pulses.halt(pulsesEnd) }

// recorded sends something, with a record of it from before it is sent.
func (c *Controller) recorded(asked context.Context, who access.Principal, send func(context.Context, func(Write) error) (Write, error)) (Write, error) {
	ctx := context.WithoutCancel(asked) // once sent, a write is followed to its end, whether or not anybody still waits
	var id int64
	record := func(w Write) (err error) {
		if asked.Err() != nil {
			return ErrGivenUp
		}
		if id, err = c.records.BeginWrite(ctx, w.record(who)); err != nil {
			return fmt.Errorf("not sent, since it could not be recorded: %w", err)
		}
		return nil
	}
	w, err := send(ctx, record)
	if err != nil {
		c.log.Warn("write failed", "who", who.Name(), "station", w.Station, "tag", w.Tag, "error", err)
		return w, err
	}
	level := slog.LevelInfo
	if w.Outcome != Done {
		level = slog.LevelWarn
	}
	c.log.Log(ctx, level, "write "+string(w.Outcome), "who", who.Name(), "station", w.Station, "tag", w.Tag, "address", w.Address.String(), "sent", Together(w.Sent).String(), "message", w.Message)
	if err := c.records.EndWrite(ctx, id, w.record(who)); err != nil { // what became of it is told all the same
		c.log.Error("the record of a write is not complete; it is tried again", "tag", w.Tag, "station", w.Station, "outcome", w.Outcome, "error", err)
		c.records.Later(id, w.record(who))
		w.Message += fmt.Sprintf(". Its record is not complete yet, and is completed as soon as possible: %s", err)
	}
	return w, nil
}

// ErrGivenUp says that whoever asked for a write went away before anything was sent.
var ErrGivenUp = errors.New("not sent: the request was given up before its turn came")

// record is the write as it is kept.
func (w Write) record(who access.Principal) store.WriteRecord {
	return store.WriteRecord{Time: time.Now(), Who: who.Name(), From: who.From, Tag: w.Tag, Station: w.Station, Address: w.Address.String(),
		Outcome: string(w.Outcome), Tried: w.Tried, Before: Together(w.Before), Sent: Together(w.Sent), After: Together(w.After), Message: w.Message}
}

// Together is one value for several: the only one, or all of them as text.
func Together(list []codec.Value) codec.Value {
	switch len(list) {
	case 0:
		return codec.Value{}
	case 1:
		return list[0]
	}
	texts := make([]string, len(list))
	for i, v := range list {
		texts[i] = v.String()
	}
	return codec.TextValue(strings.Join(texts, ", "))
}
