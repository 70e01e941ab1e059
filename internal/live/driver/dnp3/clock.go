package dnp3

import (
	"errors"
	"fmt"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// setTime sets the clock as the station wants it.
func (r *remote) setTime(out *master.Outstation) error {
	r.mu.Lock()
	r.setting = true // what is answered meanwhile was answered before the clock was set
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		r.setting, r.timeSet = false, time.Now()
		r.mu.Unlock()
	}()
	return r.ask(dnp3.FuncRecordTime, func() (master.Answer, error) {
		var err error
		switch r.station.TimeSync {
		case site.TimeSyncLAN:
			err = out.SetTimeLAN()
		case site.TimeSyncSerial:
			_, err = out.SetTimeSerial()
		}
		return master.Answer{}, err
	})
}

// tolerated is by how much a clock may be wrong.
const tolerated = 2 * time.Second

// timeSetEvery is how often a clock is set at most that stays wrong, or says that it needs the time.
const timeSetEvery = time.Minute

// setsTime reports whether the station wants its clock to be set.
func (r *remote) setsTime() bool {
	return r.station.TimeSync != "" && r.station.TimeSync != site.TimeSyncNone
}

// compareTime reads the station's clock and notes by how much it is wrong.
func (r *remote) compareTime(out *master.Outstation) error {
	theirs, ours, err := out.Clock()
	if err != nil {
		if errors.Is(err, master.ErrTimeout) || errors.Is(err, master.ErrClosed) {
			return err
		}
		r.mu.Lock()
		r.noTime = true
		r.mu.Unlock()
		return nil
	}
	r.timeOff(theirs.Go().Sub(ours))
	return nil
}

// muchBehind is by how much an event must be older than the poll that it was not in, for the clock to be behind: a device may take its time
// to see a change, or have it from another.
const muchBehind = time.Minute

// behind looks whether the newest of some events has the time of before a poll that left none: what happened after it has a later one. It
// matters where the clock cannot be read. r.taking is held.
func (r *remote) behind(newest time.Time) {
	r.mu.Lock()
	blind := r.noTime
	r.mu.Unlock()
	if blind && !r.drained.IsZero() && newest.Before(r.drained.Add(-muchBehind)) {
		r.timeOff(newest.Sub(r.came))
	}
}

// drain notes when a poll for all events left none. r.taking is held.
func (r *remote) drain(f dnp3.Fragment) {
	if f.Function == dnp3.FuncResponse && f.Control&dnp3.Final != 0 && f.IIN&dnp3.IINEvents == 0 && r.single == 0 {
		r.drained = r.came
	}
}

func (r *remote) timeOff(off time.Duration) {
	text := ""
	if off.Abs() > tolerated {
		r.mu.Lock()
		set := r.setsTime() && time.Since(r.timeSet) > timeSetEvery // it does not ask, and its clock is wrong
		r.todo.time = r.todo.time || set
		r.mu.Unlock()
		if set {
			r.session.host.PollNow(r.station.Name)
		}
		direction := "ahead"
		if off < 0 {
			direction = "behind"
		}
		how := off.Abs().Round(time.Second).String()
		if days := off.Abs().Hours() / 24; days >= 3 {
			how = fmt.Sprintf("%.0f days", days)
		}
		text = fmt.Sprintf("its clock is %s %s", how, direction)
	}
	r.note(diagnose.NoteTime, off.Seconds(), text)
}
