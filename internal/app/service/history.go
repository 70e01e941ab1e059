package service

import (
	"context"
	"time"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/recorder"
	"arithmon/internal/record/database"
	"arithmon/internal/record/history"
)

// mostMissed is how many changes that the history has missed are told to it together.
const mostMissed = 10_000

// openHistory opens the history, and tells it what became of points while it was not told.
func (s *Service) openHistory(ctx context.Context, o Options) (err error) {
	s.History = history.Open(ctx, history.Options{Dir: o.Dir, Keep: o.KeepHistory, Most: o.MostHistory, Log: o.Log})
	latest, err := s.Store.LatestChange(ctx)
	if err != nil {
		return err
	}
	if s.History.Figures().Series == 0 || latest < s.History.Followed() { // nothing to follow, or the database is older than what is followed
		s.History.Follow(latest, nil, nil)
		return nil
	}
	return recorder.CatchUp(ctx, s.History, func(ctx context.Context) (last int64, changes []site.Change, err error) {
		records, err := s.Store.ChangesAfter(ctx, s.History.Followed(), mostMissed)
		if err != nil {
			return 0, nil, err
		}
		for _, r := range records {
			last = r.ID
			if c, err := r.Change(); err == nil { // what cannot be read any more was of no point that is recorded
				changes = append(changes, c)
			}
		}
		return last, changes, nil
	})
}

// recordingEvidence says how the recording goes, for findings.
func (s *Service) recordingEvidence() diagnose.History {
	if s.History == nil { // not opened yet
		return diagnose.History{}
	}
	f, now := s.History.Figures(), time.Now()
	h := diagnose.History{Fault: f.Fault, Full: f.Kind == database.ErrFull, Waiting: f.Waiting, Lost: f.Lost, LostAgo: now.Sub(f.LostAt)}
	if f.Fault != "" {
		h.For = now.Sub(f.Since)
	}
	for _, m := range f.Files {
		if m.Fault != "" {
			h.Files = append(h.Files, diagnose.HistoryMonth{Month: m.Month, Fault: m.Fault})
		}
	}
	return h
}

// counts counts what the service's own points of the whole site tell.
func (s *Service) counts() map[string]int {
	w := s.watching.Load()
	if w == nil { // not started yet
		return nil
	}
	n := w.Counts(func(*alarm.Alarm) bool { return true })
	return map[string]int{"alarms": n.Active, "unacknowledged": n.Unacknowledged}
}

// follow puts changes of the site into force.
func (s *Service) follow(now *site.Site, changes []site.Change) {
	r, w := s.recorder.Load(), s.watching.Load()
	if r == nil || w == nil { // before the start is over, when nothing changes the site
		s.Engine.Apply(now, changes)
		return
	}
	recorded, limited := r.Before(s.Store.LastStored(), now, changes), w.Before(now, changes)
	s.Engine.Apply(now, changes)
	r.After(recorded)
	w.After(limited)
}
