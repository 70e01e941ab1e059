package dnp3

import (
	"fmt"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/dnp3"
)

// response takes a fragment of whatever response.
func (r *remote) response(f dnp3.Fragment) {
	r.taking.Lock()
	defer r.taking.Unlock()
	r.memory.mu.Lock()
	defer r.memory.mu.Unlock()
	r.came = time.Now()
	known := r.known(f)
	var newest dnp3.Time
	had, class := false, 0
	if f.Function == dnp3.FuncResponse { // reports may be of any class
		class = r.single
	}
	err := dnp3.Measurements(f.Objects, func(m *dnp3.Measurement, _ *dnp3.Objects) {
		if m == nil {
			return
		}
		if m.Event {
			had = true
			if m.HasTime && m.Time > newest {
				newest = m.Time
			}
			if known != nil && m.HasTime && known[identityOf(m)] > 0 {
				known[identityOf(m)]--
				return
			}
		}
		m.Unsynchronised = m.Unsynchronised || f.IIN&dnp3.IINNeedTime != 0
		r.measured(m, class)
	})
	r.emit()
	if err != nil {
		r.note(diagnose.NoteNoObject, 0, "a response has what is not understood: "+err.Error())
	}
	if had { // what brings no events, such as the response to a command, says nothing about those before
		r.memory.unsure = append(r.memory.unsure[:0], f.Objects...)
	}
	// What is reported by itself is fresh, so that its time tells of the clock; no event is of the future.
	if off := time.Until(newest.Go()); newest != 0 && (off > tolerated || f.Function == dnp3.FuncUnsolicited && off > -tolerated) {
		r.timeOff(off)
	} else if newest != 0 && f.Function == dnp3.FuncResponse {
		r.behind(newest.Go())
	}
	r.drain(f)
	r.indicated(f, had)
}

// identity is what tells an event that comes again from another.
type identity struct {
	kind  dnp3.Kind
	index uint16
	time  dnp3.Time
	flags dnp3.Flags
	value codec.Value
}

func identityOf(m *dnp3.Measurement) identity {
	return identity{m.Kind, m.Index, m.Time, m.Flags, m.Value}
}

// known are the events that were taken from the fragment before, when this one brings them again: then its confirmation was lost, and
// the outstation reports all of them anew (4.6.2.5). Of a response that goes on, the fragment before was confirmed.
func (r *remote) known(f dnp3.Fragment) map[identity]int {
	if len(r.memory.unsure) == 0 || f.Control&dnp3.First == 0 && f.Function == dnp3.FuncResponse {
		return nil
	}
	timed := func(objects []byte) map[identity]int {
		set := map[identity]int{}
		dnp3.Measurements(objects, func(m *dnp3.Measurement, _ *dnp3.Objects) {
			if m != nil && m.Event && m.HasTime {
				set[identityOf(m)]++
			}
		})
		return set
	}
	before := timed(r.memory.unsure)
	if len(before) == 0 {
		return nil
	}
	now := timed(f.Objects)
	for id := range before {
		if now[id] == 0 {
			if len(now) == 0 {
				return nil
			}
			for id := range now { // all of a shorter fragment may be of the one before
				if before[id] == 0 {
					return nil
				}
			}
			break
		}
	}
	r.note(diagnose.NoteConfirms, 0, fmt.Sprintf("%d events came again although they were confirmed", len(now)))
	return before
}

// measured emits a measurement to the points that it is of; class is that of events, where it is known.
func (r *remote) measured(m *dnp3.Measurement, class int) {
	if m.Command {
		return // what was commanded is no reading; the state of the output is reported by itself
	}
	if !m.Event {
		r.held.add(m.Kind, m.Index)
	}
	e := r.entry(m.Kind, m.Index, false)
	if m.Event && (e == nil || len(e.slots) == 0) {
		r.unconfigured(m)
	}
	if e == nil {
		return
	}
	if !m.Event {
		e.round, e.variation = r.round, m.Variation
	} else if class != 0 {
		e.class = class
	}
	if len(e.slots) == 0 {
		return
	}
	for _, slot := range e.slots {
		r.sample(slot, m)
	}
}

// sample adds a measurement of a point to those that are emitted together.
func (r *remote) sample(slot *table.Slot, m *dnp3.Measurement) {
	if len(r.samples) == cap(r.samples) {
		r.emit()
	}
	n := len(r.samples)
	r.samples = r.samples[:n+1]
	s := &r.samples[n]
	fill(s, m)
	s.Slot, s.Time = slot, r.came
}

// mostUnknown is of how many points that nobody configured the latest reading is held. Events of more are kept all the same.
const mostUnknown = 4096

// unconfigured keeps an event of a point that the site does not have, under the station's name and its address.
func (r *remote) unconfigured(m *dnp3.Measurement) {
	key := identity{kind: m.Kind, index: m.Index}
	slot := r.unknown[key]
	if slot == nil {
		code := m.Kind.Code()
		if code == "" {
			code = "fai"
		}
		a := site.Address{Space: site.Space(code), Offset: m.Index}
		slot = table.NewSlot(site.Point{Tag: r.station.Name + " " + a.String(), Station: r.station.Name, Address: a}, r.station)
		if len(r.unknown) < mostUnknown {
			r.unknown[key] = slot
		}
	}
	r.sample(slot, m)
}

// emit gives what was measured to the points.
func (r *remote) emit() {
	if len(r.samples) > 0 {
		r.session.host.Emit(r.samples)
		r.samples = r.samples[:0]
	}
}

// staysAfter is how long an indication of a restart may stay that was cleared.
const staysAfter = 3 * time.Second

// Pauses between what an indication that stays leads to.
const (
	clearEvery = time.Minute
	hurryEvery = 5 * time.Second
)

// indicated acts upon the indications of a response (4.2.2.6).
func (r *remote) indicated(f dnp3.Fragment, had bool) {
	host, name := r.session.host, r.station.Name
	r.mu.Lock()
	before := r.iin
	r.iin = f.IIN
	hurry := false
	stays := f.IIN&dnp3.IINRestart != 0 && before&dnp3.IINRestart != 0 && !r.cleared.IsZero() && time.Since(r.cleared) > staysAfter && !r.todo.clear
	if stays != r.stays {
		text := ""
		if r.stays = stays; stays {
			text = "it indicates a restart, and goes on doing so although the indication was cleared"
		}
		defer r.note(diagnose.NoteRestartStays, 0, text)
	}
	if f.IIN&dnp3.IINRestart != 0 {
		again := before&dnp3.IINRestart == 0
		r.todo.clear = r.todo.clear || again || time.Since(r.cleared) > clearEvery
		if again && r.started { // it restarted while we spoke: everything begins anew
			r.todo.integrity, r.todo.enable, hurry = true, true, true
			r.started = false
			defer r.note(diagnose.NoteRestarted, 0, "it says that it restarted")
		}
		hurry = hurry || again
	}
	if f.IIN&dnp3.IINNeedTime != 0 && r.setsTime() && !r.todo.time && !r.setting && (before&dnp3.IINNeedTime == 0 || time.Since(r.timeSet) > timeSetEvery) {
		r.todo.time, hurry = true, true
	}
	if f.IIN&dnp3.IINOverflow != 0 && before&dnp3.IINOverflow == 0 {
		r.todo.integrity, hurry = true, true
		defer r.note(diagnose.NoteEventsLost, 0, "its event buffer overflowed")
	}
	// It has more events than it was asked for. When a poll has just brought some, or none for a while, the next one is at once.
	if final := f.Control&dnp3.Final != 0; f.IIN&dnp3.IINEvents != 0 && final && !r.more && (f.Function == dnp3.FuncUnsolicited || had || time.Since(r.hurried) > hurryEvery) {
		r.more, r.hurried, hurry = true, time.Now(), true
	}
	r.mu.Unlock()
	if shown := f.IIN &^ (dnp3.IINEvents | dnp3.IINBroadcast | dnp3.IINRefused); shown != before&^(dnp3.IINEvents|dnp3.IINBroadcast|dnp3.IINRefused) {
		host.DeviceState(name, shown.Names())
		for bit, kind := range map[dnp3.IIN]diagnose.NoteKind{dnp3.IINNeedTime: diagnose.NoteNeedsTime, dnp3.IINTrouble: diagnose.NoteTrouble, dnp3.IINCorrupt: diagnose.NoteCorrupt, dnp3.IINLocalControl: diagnose.NoteLocal} {
			text := ""
			if shown&bit != 0 {
				text = "it indicates " + bit.String()
			}
			r.note(kind, 0, text)
		}
	}
	if hurry {
		host.PollNow(name)
	}
}
