// Package dnp3 drives DNP3 links for the engine: it brings stations up as the standard's master does, takes what they report,
// and commands their outputs.
package dnp3

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/dnp3/master"
	"arithmon/internal/protocol/wire"
)

// Framing names the framing of DNP3 in the traffic.
const Framing = "dnp3"

// Driver is the DNP3 driver.
type Driver struct {
	mu       sync.Mutex
	memories map[string]*memory // by link and address
}

// New makes a driver.
func New() *Driver { return &Driver{memories: map[string]*memory{}} }

// memory is what is known of a station beyond the end of a connection.
type memory struct {
	mu     sync.Mutex
	unsure []byte // objects of the last fragment with events, whose confirmation may not have arrived
}

// maxMemories is how many stations are remembered; there are more only where many were removed since the start.
const maxMemories = 10_000

// memory gives that of a station.
func (d *Driver) memory(linkName string, address int) *memory {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := fmt.Sprint(linkName, " ", address)
	if d.memories[key] == nil {
		for other := range d.memories {
			if len(d.memories) < maxMemories {
				break
			}
			delete(d.memories, other) // at worst a few events are kept twice
		}
		d.memories[key] = new(memory)
	}
	return d.memories[key]
}

// Protocol is site.DNP3.
func (*Driver) Protocol() site.Protocol { return site.DNP3 }

// jobKind is what a job asks for.
type jobKind byte

const (
	integrity jobKind = iota // all present values, after all events
	events                   // of some classes
	alive                    // a sign of life
)

// job is a poll of a station.
type job struct {
	station string
	kind    jobKind
	classes master.Classes
	period  time.Duration
	slots   []*table.Slot
}

// Period is part of link.Job.
func (j *job) Period() time.Duration { return j.period }

// Slots is part of link.Job. Only what an integrity poll does not get is bad for it.
func (j *job) Slots() []*table.Slot { return j.slots }

// Jobs are the integrity poll, the event polls with one for each period, and a request for link status where nothing else is asked
// often.
func (*Driver) Jobs(_ site.Link, station link.Station) []link.Job {
	s := station.Station
	jobs := []link.Job{&job{station: s.Name, kind: integrity, classes: master.Class0 | master.Events, period: s.IntegrityPeriod(), slots: station.Slots}}
	byPeriod := map[time.Duration]*job{}
	often := s.IntegrityPeriod()
	for class, period := range s.EventPolls() {
		if class == 0 {
			continue
		}
		often = min(often, period)
		if j := byPeriod[period]; j != nil {
			j.classes |= master.Class0 << class
			continue
		}
		j := &job{station: s.Name, kind: events, classes: master.Class0 << class, period: period}
		byPeriod[period] = j
		jobs = append(jobs, j)
	}
	liveness := time.Duration(s.Liveness)
	if liveness == 0 {
		liveness = site.DefaultLiveness
	}
	if often > liveness {
		jobs = append(jobs, &job{station: s.Name, kind: alive, period: liveness})
	}
	return jobs
}

// Open connects to the far end, or begins to wait for stations that call in.
func (d *Driver) Open(ctx context.Context, l site.Link, host link.Host) (link.Session, error) {
	s := &session{driver: d, link: l, host: host, remotes: map[string]*remote{}}
	if l.Listen != "" {
		return s, s.listen(ctx)
	}
	conn, err := wire.Open(ctx, l)
	if err != nil {
		return nil, err
	}
	s.channel = s.begin(conn)
	return s, nil
}

// watcher tells the host of what a channel sees; what an adapter is known to give back is not told.
func watcher(host link.Host, ends *traffic.Ends, echoes bool) func(master.Event) {
	kinds := [...]traffic.Kind{
		master.EventSent: traffic.Sent, master.EventAnswer: traffic.Answer, master.EventLate: traffic.Late, master.EventForeign: traffic.Foreign,
		master.EventStray: traffic.Stray, master.EventDamaged: traffic.Damaged, master.EventEcho: traffic.Echo, master.EventTimeout: traffic.Timeout,
		master.EventClosed: traffic.Closed, master.EventReported: traffic.Report,
	}
	return func(e master.Event) {
		if echoes && e.Kind == master.EventEcho {
			return
		}
		host.FrameSeen(link.Frame{Kind: kinds[e.Kind], Unit: e.From, Asked: e.Asked, Data: e.Data, After: e.After, Text: e.Text, Ends: ends})
	}
}

// Flags is for link.Flagger: what flags of measurements say (IEEE 1815-2012, 11.6), and values that are no numbers.
func (*Driver) Flags() []reading.Reason {
	return []reading.Reason{reading.CommLost, reading.Offline, reading.Restarted, reading.Forced, reading.Chatter, reading.RawRange, reading.ReferenceError, reading.Decode}
}

// Actions is for link.Actor.
func (*Driver) Actions() []link.Action {
	list := make([]link.Action, len(actions))
	for i, a := range actions {
		list[i] = a.Action
	}
	return list
}

// note is a note with its text.
func note(kind diagnose.NoteKind, number float64, text string) diagnose.Note {
	return diagnose.Note{Kind: kind, Number: number, Text: text}
}

// classesOf are the classes of a list of their numbers.
func classesOf(list []int) (c master.Classes) {
	for class := 1; class <= 3; class++ {
		if slices.Contains(list, class) {
			c |= master.Class0 << class
		}
	}
	return c
}
