package control

import (
	"context"
	"fmt"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
)

// againAfter are the pauses before it is looked again at what a device accepted and does not read back: many take a value over in their next
// cycle, or ramp to it. Polls go on meanwhile.
var againAfter = []time.Duration{300 * time.Millisecond, 600 * time.Millisecond, time.Second, 1100 * time.Millisecond}

// settle performs a write and, where the device accepted it and reads back otherwise, looks again for a while.
func (c *Controller) settle(ctx context.Context, job writing, w Write) (Write, error) {
	w, err := c.perform(ctx, job, w)
	if err != nil || w.Outcome != Differs {
		return w, err
	}
	began := time.Now()
	for _, pause := range againAfter {
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return w, nil
		case <-c.pulses.stop:
			return w, nil
		}
		after, same, looked := c.look(ctx, job, w.Station)
		if !looked {
			return w, nil // what was seen stands
		}
		took := time.Since(began).Round(100 * time.Millisecond)
		if w.After = after; same {
			w.Outcome, w.Message = Done, fmt.Sprintf("wrote %s; reads back %s, %s later", job.say(w.Sent), job.say(after), took)
			return w, nil
		}
		w.Message = fmt.Sprintf("the device accepted %s but reads back %s, %s later", job.say(w.Sent), job.say(after), took)
	}
	return w, nil
}

// look reads once more what was written. looked is false where that is not to be had.
func (c *Controller) look(ctx context.Context, job writing, station string) (after []codec.Value, same, looked bool) {
	_ = c.stations.Command(ctx, station, func(t *link.Turn) error {
		return t.Use(func(session link.Session) (failed bool) {
			again, can := session.(link.Rereader)
			if !can {
				return false
			}
			var samples []table.Sample
			var err error
			if samples, same, err = again.Reread(t.Station().Station, job.command); err != nil {
				return false
			}
			if job.command.Slot != nil && len(samples) == 1 {
				t.Emit(samples)
			}
			after = job.values(samples)
			looked = after != nil
			return false
		})
	})
	return after, same, looked
}
