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
		text = fmt.Sprintf("its clock is %s %s", off.Abs().Round(time.Second), direction)
	}
	r.note(diagnose.NoteTime, off.Seconds(), text)
}
