package service

import (
	"context"
	"log/slog"
	"time"

	"arithmon/internal/app/api"
	"arithmon/internal/live/table"
	"arithmon/internal/record/store"
)

// Events are written together, so often and so many at once at most.
const (
	recordEvery = 250 * time.Millisecond
	recordMost  = 4096
)

// recordEvents writes what devices report after the event done to the store until ctx ends, and then what is left.
func recordEvents(ctx context.Context, from *table.Events, done uint64, to *store.Store, log *slog.Logger) {
	write := func() {
		for {
			events, lost := from.After(nil, done, recordMost)
			if lost > 0 {
				log.Error("events came faster than they could be written", "lost", lost)
			}
			if len(events) == 0 {
				return
			}
			list := make([]store.EventRecord, len(events))
			for i, e := range events {
				list[i] = api.RecordOfEvent(e)
			}
			if err := to.AddEvents(context.WithoutCancel(ctx), list); err != nil {
				log.Error("events could not be written; it is tried again", "error", err)
				return
			}
			done = events[len(events)-1].ID
			from.Recorded(done)
		}
	}
	ticker := time.NewTicker(recordEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			write()
			return
		case <-from.More(done):
		}
		select { // more may come meanwhile, unless somebody waits, such as an outstation for its confirmation
		case <-ctx.Done():
		case <-from.Wanted():
		case <-ticker.C:
		}
		write()
	}
}
