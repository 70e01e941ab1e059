// Package recent keeps in memory how points went that are not recorded, from when somebody first looks at them until nobody has for a while.
package recent

import (
	"slices"
	"sync"
	"time"

	"arithmon/internal/live/recorder"
	"arithmon/internal/live/table"
	"arithmon/internal/record/history/chunk"
)

// What is kept at most.
const (
	mostPoints = 1000
	chunkLong  = 500 // samples
	mostChunks = 16  // of a point
	forgotten  = 15 * time.Minute
	sweepEvery = time.Minute
)

// Recent follows points that are looked at.
type Recent struct {
	tap *table.Tap

	wanted sync.RWMutex // of points, which the table asks for
	points map[string]*past

	taking   sync.Mutex // of what is taken from the tap, and of what a past holds
	list     []table.Tapped
	stopping chan struct{}
	running  sync.WaitGroup
}

// past is how a point went.
type past struct {
	looked time.Time
	since  time.Time
	chunks []*chunk.Appender // the oldest first
}

// Start begins to be there for those who look; the caller stops it.
func Start(tap func(table.TapOptions) *table.Tap) *Recent {
	r := &Recent{points: map[string]*past{}, stopping: make(chan struct{})}
	r.tap = tap(table.TapOptions{Wants: r.wants})
	r.running.Go(r.run)
	return r
}

// Stop ends it.
func (r *Recent) Stop() {
	r.tap.Close()
	close(r.stopping)
	r.running.Wait()
}

func (r *Recent) wants(tag string) bool {
	r.wanted.RLock()
	defer r.wanted.RUnlock()
	return r.points[tag] != nil
}

func (r *Recent) run() {
	ticker := time.NewTicker(sweepEvery)
	defer ticker.Stop()
	for {
		select {
		case <-r.stopping:
			return
		case <-r.tap.Ready():
			r.take()
		case now := <-ticker.C:
			r.sweep(now)
		}
	}
}

// Look says that somebody looks at points, which are followed from now on if they were not.
func (r *Recent) Look(tags []string, now time.Time) {
	var fresh, gone []string
	r.wanted.Lock()
	for _, tag := range tags {
		p := r.points[tag]
		if p == nil {
			p = &past{since: now}
			r.points[tag], fresh = p, append(fresh, tag)
		}
		p.looked = now
	}
	for len(r.points) > mostPoints { // what nobody has looked at for longest
		oldest := ""
		for tag, p := range r.points {
			if oldest == "" || p.looked.Before(r.points[oldest].looked) {
				oldest = tag
			}
		}
		delete(r.points, oldest)
		gone = append(gone, oldest)
	}
	r.wanted.Unlock()
	if len(fresh)+len(gone) > 0 {
		r.tap.Again(slices.Concat(fresh, gone))
	}
}

// sweep forgets points that nobody has looked at for a while.
func (r *Recent) sweep(now time.Time) {
	var gone []string
	r.wanted.Lock()
	for tag, p := range r.points {
		if now.Sub(p.looked) > forgotten {
			delete(r.points, tag)
			gone = append(gone, tag)
		}
	}
	r.wanted.Unlock()
	r.tap.Again(gone)
}

// take takes what waits.
func (r *Recent) take() {
	const together = 1000
	r.taking.Lock()
	defer r.taking.Unlock()
	for {
		var lost uint64
		r.list, lost = r.tap.Take(r.list[:0], together)
		for i := range r.list {
			r.keep(&r.list[i])
		}
		if lost > 0 { // nobody knows of what
			r.wanted.RLock()
			for _, p := range r.points {
				p.add(recorder.Unknown(time.Now()))
			}
			r.wanted.RUnlock()
		}
		if len(r.list) < together {
			clear(r.list)
			return
		}
	}
}

func (r *Recent) keep(t *table.Tapped) {
	r.wanted.RLock()
	p := r.points[t.Point.Tag]
	r.wanted.RUnlock()
	switch {
	case p == nil:
	case t.Removed: // what was until now is of another point
		p.chunks, p.since = nil, time.Now()
	default:
		x := recorder.Sample(&t.Reading)
		if since := p.since.UnixMilli(); len(p.chunks) == 0 && x.Time < since { // what stood when somebody first looked
			x.Time = since
		}
		p.add(x)
	}
}

func (p *past) add(x chunk.Sample) {
	if n := len(p.chunks); n == 0 || p.chunks[n-1].Summary().Count >= chunkLong {
		if p.chunks = append(p.chunks, &chunk.Appender{}); n >= mostChunks {
			p.chunks = slices.Delete(p.chunks, 0, 1)
			p.since = p.chunks[0].Last().At()
		}
	}
	p.chunks[len(p.chunks)-1].Add(x)
}

// Of is what is known of a point, as chunks of samples, and since when; nothing of one that nobody has looked at.
func (r *Recent) Of(tag string) (chunks [][]byte, since time.Time) {
	r.take() // what has come until now
	r.taking.Lock()
	defer r.taking.Unlock()
	r.wanted.RLock()
	defer r.wanted.RUnlock()
	p := r.points[tag]
	if p == nil {
		return nil, time.Time{}
	}
	for _, c := range p.chunks {
		chunks = append(chunks, c.Bytes())
	}
	return chunks, p.since
}
