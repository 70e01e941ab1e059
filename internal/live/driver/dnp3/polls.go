package dnp3

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// refusal is a class that was refused. It is asked for again after a pause that grows.
type refusal struct {
	pause time.Duration
	until time.Time
}

const (
	firstRefusal = 30 * time.Second
	lastRefusal  = 10 * time.Minute
)

// pollable are the event classes that the station is not known to refuse.
func (r *remote) pollable() master.Classes {
	r.mu.Lock()
	defer r.mu.Unlock()
	c := master.Events
	for class, refused := range r.noClass {
		if time.Now().Before(refused.until) {
			c &^= class
		}
	}
	return c
}

// lookAgain reads outputs that a command has changed, or that have gone back by themselves since.
func (r *remote) lookAgain(out *master.Outstation) error {
	r.mu.Lock()
	list := r.reread
	r.reread = nil
	r.mu.Unlock()
	for i, a := range list {
		_, err := out.ReadObjects(dnp3.AppendRange(nil, dnp3.KindOf(string(a.Space)).StaticGroup(), 0, uint32(a.Offset), 1), nil)
		if err != nil && !isRefusal(err) {
			r.mu.Lock()
			r.reread = append(r.reread, list[i:]...)
			r.mu.Unlock()
			return err
		}
	}
	return nil
}

// lookAt reads an output again after a while, however its command ends.
func (r *remote) lookAt(a site.Address, after time.Duration) {
	time.AfterFunc(after, func() {
		r.mu.Lock()
		if !slices.Contains(r.reread, a) {
			r.reread = append(r.reread, a)
		}
		r.mu.Unlock()
		r.session.host.PollNow(r.station.Name)
	})
}

// leastStatic is how often present values are read at most in place of events that the station does not report.
const leastStatic = 10 * time.Second

// events reads classes. Where the station refuses one of them, its present values are read instead, so that no point is taken for good
// that is not asked for.
func (r *remote) events(out *master.Outstation, c master.Classes) error {
	asked := c & r.pollable()
	if asked != 0 {
		if err := r.readClasses(out, asked); err != nil {
			return err
		}
	}
	r.mu.Lock()
	due := time.Since(r.static) >= leastStatic
	r.mu.Unlock()
	switch {
	case c&^r.pollable() != 0 && due:
		return r.integrity(out)
	case asked == 0:
		_, err := out.Status()
		return err
	}
	return nil
}

// readClasses reads classes together and, when that is refused, one by one; those that are refused by themselves are noted. Its error
// is a refusal only when nothing of class 0 can be read.
func (r *remote) readClasses(out *master.Outstation, c master.Classes) error {
	single := map[master.Classes]int{master.Class1: 1, master.Class2: 2, master.Class3: 3}
	r.setSingle(single[c])
	defer r.setSingle(0)
	_, err := out.Read(c, nil)
	if !isRefusal(err) {
		if err == nil {
			r.mu.Lock()
			for class := range r.noClass {
				if c&class != 0 {
					delete(r.noClass, class)
				}
			}
			r.mu.Unlock()
		}
		return err
	}
	for _, one := range []master.Classes{master.Class1, master.Class2, master.Class3, master.Class0} {
		if c&one == 0 {
			continue
		}
		if c != one {
			r.setSingle(single[one])
			_, err = out.Read(one, nil)
		}
		var refused *master.RefusedError
		switch {
		case errors.As(err, &refused) && one == master.Class0:
			return r.readGroups(out, refused)
		case errors.As(err, &refused):
			r.mu.Lock()
			pause := min(max(firstRefusal, 2*r.noClass[one].pause), lastRefusal)
			r.noClass[one] = refusal{pause, time.Now().Add(pause)}
			r.mu.Unlock()
			r.note(diagnose.NoteNoClass, float64(single[one]), fmt.Sprintf("reading class %d was refused: %s", single[one], refused.IIN&(dnp3.IINRefused)))
		case err != nil:
			return err
		}
	}
	return nil
}

func (r *remote) setSingle(class int) {
	r.taking.Lock()
	defer r.taking.Unlock()
	r.single = class
}

// readGroups reads the present values of each kind that has points, where class 0 is refused.
func (r *remote) readGroups(out *master.Outstation, refused *master.RefusedError) error {
	r.note(diagnose.NoteNoClass, 0, fmt.Sprintf("reading class 0 was refused: %s", refused.IIN&dnp3.IINRefused))
	any := false
	for kind := dnp3.BinaryInput; kind < dnp3.KindCount; kind++ {
		r.taking.Lock()
		wanted := len(r.entries[kind]) > 0
		r.taking.Unlock()
		if !wanted {
			continue
		}
		_, err := out.ReadObjects(dnp3.AppendHeader(nil, dnp3.Header{Group: kind.StaticGroup(), Qualifier: dnp3.All}), nil)
		if err != nil && !isRefusal(err) {
			return err
		}
		any = any || err == nil
	}
	if !any {
		return refused
	}
	return nil
}

// integrity reads all events and then all present values, and looks what is missing. What was read before and is missing now is not
// good any more.
func (r *remote) integrity(out *master.Outstation) error {
	r.taking.Lock()
	r.round++
	round := r.round
	r.held = indexes{}
	r.taking.Unlock()
	r.mu.Lock()
	r.more, r.static = false, time.Now()
	r.mu.Unlock()
	err := r.readClasses(out, master.Class0|r.pollable())
	if err != nil && !isRefusal(err) {
		return err
	}
	if err == nil && r.pollable() == master.Events {
		r.note(diagnose.NoteNoClass, 0, "")
	}
	r.mu.Lock()
	noTime := r.noTime
	r.mu.Unlock()
	missing := r.missing(round)
	for _, a := range missing { // what is not in class 0 may be read by itself
		if _, err := out.ReadObjects(dnp3.AppendRange(nil, dnp3.KindOf(string(a.Space)).StaticGroup(), 0, uint32(a.Offset), 1), nil); err != nil && !isRefusal(err) {
			return err
		}
	}
	missing = r.missing(round)
	r.lose(round)
	if err != nil {
		return err
	}
	var moves []diagnose.Move
	if len(missing) > 0 {
		if moves, err = r.place(out); err != nil {
			return err
		}
	}
	text := ""
	if len(missing) > 0 {
		names := make([]string, 0, 5)
		for _, a := range missing[:min(5, len(missing))] {
			names = append(names, a.String())
		}
		if text = fmt.Sprintf("it has no %s", strings.Join(names, ", ")); len(missing) > 5 {
			text += fmt.Sprintf(" and %d more", len(missing)-5)
		}
	}
	found := note(diagnose.NoteMissing, float64(len(missing)), text)
	found.Missing, found.Moves = missing, moves
	r.session.host.Note(r.station.Name, found)
	if err := r.extras(out); err != nil {
		return err
	}
	if noTime {
		return nil
	}
	return r.compareTime(out)
}

// lose makes the readings bad of points that were seen before, and not in a round.
func (r *remote) lose(round int) {
	r.taking.Lock()
	defer r.taking.Unlock()
	for _, entries := range r.entries {
		for _, e := range entries {
			if e == nil || e.round == 0 || e.round >= round {
				continue
			}
			e.round = 0
			for _, slot := range e.slots {
				slot.Fail(reading.BadResponse)
			}
		}
	}
}

// mostMissing is how many points are asked for by themselves when an integrity poll did not give them.
const mostMissing = 50

// missing are addresses of points that were not seen in a round.
func (r *remote) missing(round int) (list []site.Address) {
	r.taking.Lock()
	defer r.taking.Unlock()
	for kind, entries := range r.entries {
		for index, e := range entries {
			if e != nil && len(e.slots) > 0 && e.round < round && len(list) < mostMissing {
				list = append(list, site.Address{Space: site.Space(dnp3.Kind(kind).Code()), Offset: uint16(index)})
			}
		}
	}
	return list
}
