package alarm

import (
	"slices"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/site"
)

// Before follows changes of the site before the live table does. It returns the tags that After is to have.
func (b *Book) Before(s *site.Site, changes []site.Change) (again []string) {
	touched := map[string]string{} // by tag, what it was called before
	for _, c := range changes {
		was, before := c.Before.(site.Point)
		is, after := c.After.(site.Point)
		from := is.Tag
		if before {
			if from = was.Tag; touched[was.Tag] != "" {
				from = touched[was.Tag] // it has that tag since a change before
			}
			touched[was.Tag] = was.Tag
		}
		if after {
			touched[is.Tag] = from
		}
	}
	if len(touched) == 0 {
		return nil
	}
	b.take()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.planning.Lock()
	defer b.planning.Unlock()
	now := b.now()
	moved := map[alarm.Key]*alarm.Alarm{}
	for tag, was := range touched {
		if tag == was {
			continue
		}
		for _, limit := range site.AllLimits() {
			if a := b.alarms[alarm.Key{Tag: was, Limit: limit}]; a != nil {
				delete(b.alarms, a.Key)
				b.changed[a.Key] = true
				a.Tag = tag
				moved[a.Key] = a
			}
		}
	}
	for key, a := range moved {
		b.alarms[key] = a
		b.changed[key] = true
	}
	for tag := range touched {
		again = append(again, tag)
		shared := s.SharedPoint(tag)
		delete(b.points, tag)
		delete(b.pending, tag)
		if shared == nil || shared.Limits == nil {
			for _, limit := range site.AllLimits() {
				b.drop(alarm.Key{Tag: tag, Limit: limit}, now)
			}
			continue
		}
		p := watch(shared)
		b.points[tag] = p
		for _, limit := range site.AllLimits() {
			key := alarm.Key{Tag: tag, Limit: limit}
			a := b.alarms[key]
			if a == nil {
				continue
			}
			i := slices.IndexFunc(p.watches, func(w *alarm.Watch) bool { return w.Limit == limit })
			switch {
			case i < 0:
				b.drop(key, now)
			case a.State == alarm.Active || a.State == alarm.Acknowledged:
				p.watches[i].Resume()
				a.Bound, a.Severity = p.watches[i].Bound, p.point.Limits.Weight()
				b.changed[key] = true
			}
		}
	}
	return again
}

// After has the live table ask anew which of some points have limits.
func (b *Book) After(tags []string) {
	if len(tags) > 0 {
		b.tap.Again(tags)
	}
}
