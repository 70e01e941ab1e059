package alarm

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/alarm"
	"arithmon/internal/core/site"
)

// Standing is an alarm with its point.
type Standing struct {
	alarm.Alarm
	Now   string // value now, as a person reads it, with its unit
	Was   string // with which it became active, likewise
	Limit string // bound, likewise; empty where it is none
}

// List lists the alarms that fit, the most urgent first, and of those the newest.
func (b *Book) List(fits func(*alarm.Alarm) bool) []Standing {
	b.mu.Lock()
	defer b.mu.Unlock()
	list := []Standing{}
	for key, a := range b.alarms {
		if !fits(a) {
			continue
		}
		x := Standing{Alarm: *a, Was: a.Said}
		if p := b.points[key.Tag]; p != nil {
			x.Now = p.text()
			if a.Bound != nil {
				x.Limit = strings.TrimSpace(fmt.Sprint(*a.Bound) + " " + p.point.Unit)
			}
			if key.Limit == site.Rate {
				x.Limit += "/min"
			}
			if key.Limit == site.InState {
				x.Limit = string(*p.point.Limits.State)
			}
		}
		list = append(list, x)
	}
	slices.SortFunc(list, func(x, y Standing) int {
		return cmp.Or(cmp.Compare(x.Severity, y.Severity), y.Since.Compare(x.Since), cmp.Compare(x.Tag, y.Tag), cmp.Compare(x.Alarm.Limit, y.Alarm.Limit))
	})
	return list
}

// Counts say how many alarms there are that people are to be told of.
type Counts struct {
	Active         int // out of their limit now
	Unacknowledged int // active or gone
	Shelved        int
	Urgent         int // the least number of a severity among those that count; 0 for none
}

// Counts counts the alarms that fit.
func (b *Book) Counts(fits func(*alarm.Alarm) bool) (c Counts) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, a := range b.alarms {
		switch {
		case !fits(a):
			continue
		case a.Shelved():
			c.Shelved++
			continue
		case a.State == alarm.Active:
			c.Active++
			c.Unacknowledged++
		case a.State == alarm.Acknowledged:
			c.Active++
		case a.State == alarm.Gone:
			c.Unacknowledged++
		}
		if a.Counts() && (c.Urgent == 0 || a.Severity < c.Urgent) {
			c.Urgent = a.Severity
		}
	}
	return c
}

// ErrNone says that no alarm fits.
var ErrNone = errors.New("there is no such alarm")

// Acknowledge acknowledges the alarms that fit, and says how many; they are on the disk then.
func (b *Book) Acknowledge(ctx context.Context, fits func(*alarm.Alarm) bool, who, said string) (n int, err error) {
	b.mu.Lock()
	for key, a := range b.alarms {
		if !fits(a) || a.State != alarm.Active && a.State != alarm.Gone {
			continue
		}
		n++
		if a.AckedBy, a.AckedAt, a.Note = who, b.now(), said; a.State == alarm.Active {
			a.State = alarm.Acknowledged
		} else {
			a.State = alarm.Normal
		}
		b.note(a, alarm.Acked, who, said, b.points[key.Tag])
	}
	b.mu.Unlock()
	return n, b.save(ctx)
}

// Shelve has nobody told of limits of points until a time, whether they are exceeded or not; it is on the disk then. Every limit of a point is
// meant where none is named. ErrNone says that none of the points has such a limit.
func (b *Book) Shelve(ctx context.Context, tags func(string) bool, limit site.Limit, until time.Time, who, said string) (n int, err error) {
	b.mu.Lock()
	for tag, p := range b.points {
		if !tags(tag) {
			continue
		}
		for _, w := range p.watches {
			if limit != "" && w.Limit != limit {
				continue
			}
			key := alarm.Key{Tag: tag, Limit: w.Limit}
			a := b.alarms[key]
			if a == nil {
				a = &alarm.Alarm{Key: key, Bound: w.Bound, Severity: p.point.Limits.Weight()}
				b.alarms[key] = a
			}
			n++
			a.ShelvedBy, a.ShelvedTo, a.Note = who, until, said
			b.note(a, alarm.ShelvedStep, who, said, p)
		}
	}
	b.mu.Unlock()
	if n == 0 {
		return 0, ErrNone
	}
	return n, b.save(ctx)
}

// Unshelve ends that.
func (b *Book) Unshelve(ctx context.Context, fits func(*alarm.Alarm) bool, who string) (n int, err error) {
	b.mu.Lock()
	for key, a := range b.alarms {
		if fits(a) && a.Shelved() {
			n++
			a.ShelvedBy, a.ShelvedTo = "", time.Time{}
			b.note(a, alarm.Unshelved, who, "", b.points[key.Tag])
		}
	}
	b.mu.Unlock()
	return n, b.save(ctx)
}
