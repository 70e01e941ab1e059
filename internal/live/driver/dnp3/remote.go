package dnp3

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// call is a station on one connection. It hands what comes to its remote.
type call struct {
	remote  *remote
	channel *master.Channel
	out     *master.Outstation
}

// Heard is part of master.Handler.
func (c *call) Heard() {
	if c.remote.outstation() != c.out {
		c.remote.use(c.out)
		c.remote.calledOn(c.channel)
		c.remote.session.host.PollNow(c.remote.station.Name)
	}
}

// Response is part of master.Handler.
func (c *call) Response(f dnp3.Fragment) { c.remote.response(f) }

// Keep is part of master.Handler.
func (c *call) Keep() bool { return c.remote.session.host.Keep() }

// Repeated is part of master.Handler.
func (c *call) Repeated() {
	c.remote.note(diagnose.NoteConfirms, 0, "an unsolicited response came again although it was confirmed")
}

// steps are what is to be done before a station is polled.
type steps struct {
	reset, disable, clear, time, integrity, enable bool
}

// remote is a station as its master sees it.
type remote struct {
	session *session
	station site.Station

	mu       sync.Mutex
	out      *master.Outstation // nil: it has not called in
	on       *master.Channel    // of a station that calls in, its connection
	left     time.Time          // when that ended; zero where none has
	todo     steps
	started  bool                       // what todo held when the connection came about is done
	silent21 int                        // how often disabling unsolicited responses was not answered
	stays    bool                       // its restart indication does, though it was cleared
	cleared  time.Time                  // when the restart indication was cleared last
	setting  bool                       // its clock is being set
	timeSet  time.Time                  // when it was last
	reread   []site.Address             // outputs whose state a command has changed, or will have by now
	fails    int                        // exchanges in a row that nothing answered
	more     bool                       // it has events that were not asked for
	hurried  time.Time                  // when events brought a poll forward last
	iin      dnp3.IIN                   // of the last response
	noTime   bool                       // it does not say its time
	noClass  map[master.Classes]refusal // classes that it refused
	static   time.Time                  // when its present values were read last
	refused  map[dnp3.Function]bool

	// What follows belongs to the reader, and to those who hold taking.
	taking  sync.Mutex
	entries [dnp3.KindCount][]*entry // by index
	extra   []*table.Slot            // deadbands and classes
	unknown map[identity]*table.Slot // of events of points that nobody configured
	round   int                      // of integrity polls
	masters []uint16                 // that it answered in place of its own, while it was silent; guarded by the session's mu
	held    indexes                  // that it gave in the last integrity poll
	others  indexes                  // that it gave when it was asked for all kinds, at looked
	looked  time.Time
	single  int // the class that is being asked for alone, 0 for none
	memory  *memory
	drained time.Time      // when it had no events left
	came    time.Time      // when the fragment did that is being taken
	samples []table.Sample // of its measurements, to be emitted together
}

// entry is a point of the outstation.
type entry struct {
	slots     []*table.Slot
	round     int  // in which it was seen last
	class     int  // 0: not known
	variation byte // of its present value
}

// emitted is how many readings are emitted together at most.
const emitted = 64

func newRemote(s *session, station link.Station) *remote {
	remembers := new(memory)
	if _, trial := s.host.(link.Trial); !trial {
		remembers = s.driver.memory(s.link.Name, station.LinkAddress())
	}
	r := &remote{session: s, station: station.Station, memory: remembers, refused: map[dnp3.Function]bool{}, noClass: map[master.Classes]refusal{}, unknown: map[identity]*table.Slot{}, samples: make([]table.Sample, 0, emitted)}
	r.points(station.Slots)
	return r
}

// points takes the slots that the station's points have now.
func (r *remote) points(slots []*table.Slot) {
	r.taking.Lock()
	defer r.taking.Unlock()
	before := r.entries
	r.entries, r.extra = [dnp3.KindCount][]*entry{}, nil
	fresh := false
	for _, slot := range slots {
		a := slot.Point.Address
		if a.Part != site.Whole {
			r.extra = append(r.extra, slot)
			fresh = true
			continue
		}
		e := r.entry(dnp3.KindOf(string(a.Space)), a.Offset, true)
		e.slots = append(e.slots, slot)
		if old := at(before[dnp3.KindOf(string(a.Space))], a.Offset); old != nil {
			e.class, e.variation, e.round = old.class, old.variation, old.round
		}
		fresh = fresh || e.round == 0
	}
	if fresh && r.round > 0 { // a new point is read at once
		r.mu.Lock()
		r.todo.integrity = true
		r.mu.Unlock()
		r.session.host.PollNow(r.station.Name)
	}
}

func at(list []*entry, index uint16) *entry {
	if int(index) < len(list) {
		return list[index]
	}
	return nil
}

// entry finds a point; r.taking is held.
func (r *remote) entry(k dnp3.Kind, index uint16, add bool) *entry {
	list := r.entries[k]
	if e := at(list, index); e != nil || !add {
		return e
	}
	for len(list) <= int(index) {
		list = append(list, nil)
	}
	list[index] = new(entry)
	r.entries[k] = list
	return list[index]
}

func (r *remote) outstation() *master.Outstation {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.out
}

// use speaks to the station by a connection from now on, which begins as the standard's start-up does (IEEE 1815-2012, 4.6, 5.1.1.1).
func (r *remote) use(out *master.Outstation) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.out, r.started, r.silent21 = out, false, 0
	r.todo = steps{reset: r.station.LinkReset || r.station.LinkConfirm, disable: true, integrity: true, enable: true}
}

// calledOn notes the connection on which the station has called in.
func (r *remote) calledOn(ch *master.Channel) {
	r.mu.Lock()
	r.on = ch
	r.mu.Unlock()
	r.note(diagnose.NoteNotCalled, 0, "")
	r.note(diagnose.NoteOtherSource, 0, "")
}

// hungUp notes that a connection has ended; where the station had called in on it, it cannot be asked any more.
func (r *remote) hungUp(ch *master.Channel) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.on == ch {
		r.out, r.on, r.left, r.fails = nil, nil, time.Now(), 0
	}
}

func (r *remote) silent() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.fails > 0
}

func (r *remote) note(kind diagnose.NoteKind, number float64, text string) {
	r.session.host.Note(r.station.Name, note(kind, number, text))
}

// errNoStatus is that of an outstation whose data link layer is silent.
var errNoStatus = errors.New("link status")

// do does a job, after what is to be done before it.
func (r *remote) do(j *job) (err error) {
	out := r.outstation()
	if out == nil {
		return r.session.absent(r)
	}
	defer func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		if errors.Is(err, master.ErrTimeout) {
			r.fails++
		} else if err == nil {
			r.fails = 0
		}
	}()
	if r.silent() { // its data link layer answers sooner than anything else, and costs its neighbours no more than one timeout
		if _, err := out.Status(); err != nil {
			return fmt.Errorf("%w: %w", errNoStatus, err)
		}
		r.note(diagnose.NoteLinkOnly, 0, "its data link layer answers, its application layer does not")
		r.note(diagnose.NoteOtherSource, 0, "")
	}
	polled, err := r.prepare(out)
	if err != nil {
		return err
	}
	if err := r.lookAgain(out); err != nil {
		return err
	}
	switch {
	case j.kind == integrity:
		if !polled {
			err = r.integrity(out)
		}
	case r.take(&r.more):
		err = r.events(out, r.pollable())
	case j.kind == events:
		if !polled {
			err = r.events(out, j.classes)
		}
	default:
		_, err = out.Status()
		return err
	}
	if err == nil {
		r.note(diagnose.NoteLinkOnly, 0, "")
	}
	return err
}

// take returns a mark and takes it away.
func (r *remote) take(mark *bool) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	was := *mark
	*mark = false
	return was
}

// prepare brings the station up, or as far as its indications want it to be; polled says that its values were read thereby.
func (r *remote) prepare(out *master.Outstation) (polled bool, err error) {
	step := func(mark *bool, do func() error) {
		if err != nil || !r.take(mark) {
			return
		}
		if err = do(); err != nil && !isRefusal(err) {
			r.mu.Lock()
			*mark = true // to be done yet
			r.mu.Unlock()
			return
		}
		err = nil
	}
	step(&r.todo.reset, out.Reset)
	step(&r.todo.disable, func() error {
		err := r.ask(dnp3.FuncDisableUnsolicited, func() (master.Answer, error) { return out.Unsolicited(false, master.Events) })
		if errors.Is(err, master.ErrTimeout) && r.neverDisables(out) {
			return nil
		}
		return err
	})
	step(&r.todo.clear, func() error { return r.clearRestart(out) })
	step(&r.todo.time, func() error { return r.setTime(out) })
	step(&r.todo.integrity, func() error {
		polled = true
		return r.integrity(out)
	})
	step(&r.todo.clear, func() error { return r.clearRestart(out) }) // the first response told of it
	step(&r.todo.time, func() error { return r.setTime(out) })
	step(&r.todo.enable, func() error {
		classes := classesOf(r.station.ReportedClasses())
		if classes == 0 {
			return nil
		}
		return r.ask(dnp3.FuncEnableUnsolicited, func() (master.Answer, error) { return out.Unsolicited(true, classes) })
	})
	if err == nil {
		r.mu.Lock()
		r.started = true
		r.mu.Unlock()
	}
	return polled, err
}

// neverDisables notes that disabling unsolicited responses was not answered. An outstation that answers its data link layer, and this
// twice not, does not know the function and keeps silent: it is polled all the same.
func (r *remote) neverDisables(out *master.Outstation) bool {
	r.mu.Lock()
	r.silent21++
	again := r.silent21 < 2
	r.mu.Unlock()
	if again {
		return false
	}
	if _, err := out.Read(master.Class1, nil); err != nil && !isRefusal(err) {
		return false
	}
	r.mu.Lock()
	r.refused[dnp3.FuncDisableUnsolicited] = true
	r.mu.Unlock()
	r.note(diagnose.NoteNoFunction, float64(dnp3.FuncDisableUnsolicited), "disable unsolicited responses was not answered, and a read was")
	return true
}

// clearRestart clears the restart indication.
func (r *remote) clearRestart(out *master.Outstation) error {
	r.mu.Lock()
	r.cleared = time.Now()
	r.mu.Unlock()
	return r.ask(dnp3.FuncWrite, out.ClearRestart)
}

func isRefusal(err error) bool {
	var refused *master.RefusedError
	return errors.As(err, &refused)
}

// ask makes a request that the station may not know; that it refused it is noted, where it matters.
func (r *remote) ask(f dnp3.Function, request func() (master.Answer, error)) error {
	r.mu.Lock()
	known := r.refused[f]
	r.mu.Unlock()
	if known && f != dnp3.FuncWrite {
		return nil
	}
	_, err := request()
	var refused *master.RefusedError
	if errors.As(err, &refused) {
		r.mu.Lock()
		r.refused[f] = true
		r.mu.Unlock()
		if f != dnp3.FuncDisableUnsolicited { // one that knows no unsolicited responses has none to be disabled
			r.note(diagnose.NoteNoFunction, float64(f), fmt.Sprintf("%s was refused: %s", f, refused.IIN&dnp3.IINRefused))
		}
	}
	return err
}

// extras reads deadbands and classes that points stand for.
func (r *remote) extras(out *master.Outstation) error {
	r.taking.Lock()
	slots := r.extra
	r.taking.Unlock()
	for _, slot := range slots {
		samples, err := r.read(out, slot.Point.Address, 1)
		if errors.Is(err, master.ErrTimeout) || errors.Is(err, master.ErrClosed) {
			return err
		}
		if err == nil {
			samples[0].Slot = slot
			r.session.host.Emit(samples[:1])
		}
	}
	return nil
}

// read reads addresses, whether or not there are points for them.
func (r *remote) read(out *master.Outstation, from site.Address, count int) ([]table.Sample, error) {
	list := make([]table.Sample, count)
	kind := dnp3.KindOf(string(from.Space))
	group := kind.StaticGroup()
	found := func(index int, s table.Sample) {
		if i := index - int(from.Offset); i >= 0 && i < count {
			s.Address = site.Address{Space: from.Space, Offset: uint16(index), Part: from.Part}
			list[i] = s
		}
	}
	switch from.Part {
	case site.EventClass:
		r.taking.Lock()
		for i := range count {
			if e := r.entry(kind, from.Offset+uint16(i), false); e != nil && e.class > 0 {
				found(int(from.Offset)+i, table.Sample{Quality: good, Value: codec.UintValue(uint64(e.class)), Object: reading.Text(fmt.Sprintf("class %d", e.class))})
			}
		}
		r.taking.Unlock()
		if list[0].Value.IsZero() {
			return nil, errors.New("the standard has no request for the class of a point; it becomes known when one of its events comes with a poll of one class alone")
		}
		return list, nil
	case site.Deadband:
		group = 34
	}
	_, err := out.ReadObjects(dnp3.AppendRange(nil, group, 0, uint32(from.Offset), uint32(count)), func(f dnp3.Fragment) {
		dnp3.Measurements(f.Objects, func(m *dnp3.Measurement, other *dnp3.Objects) {
			switch {
			case m != nil && m.Kind == kind && !m.Event:
				found(int(m.Index), sampleOf(m))
			case other != nil && other.Header.Group == 34 && group == 34 && other.Plain():
				size := dnp3.Octets(34, other.Header.Variation)
				for i := range int(other.Header.Count) {
					v := dnp3.ReadDeadband(other.Header.Variation, other.Body[i*size:])
					found(int(other.Header.Start)+i, table.Sample{Quality: good, Value: codec.FloatValue(v), Object: reading.Text(fmt.Sprintf("g34v%d %v", other.Header.Variation, v))})
				}
			}
		})
	})
	if err != nil && !isRefusal(err) {
		return nil, err
	}
	for i, s := range list {
		if s.Object.By == nil {
			a := site.Address{Space: from.Space, Offset: from.Offset + uint16(i), Part: from.Part}
			if err == nil {
				err = errors.New("it is not in the response")
			}
			return nil, fmt.Errorf("%s: %w", a, err)
		}
	}
	return list, nil
}

// variation is how the station reports the present value of a point, 0 when that is not known.
func (r *remote) variation(k dnp3.Kind, index uint16) byte {
	r.taking.Lock()
	defer r.taking.Unlock()
	if e := r.entry(k, index, false); e != nil {
		return e.variation
	}
	return 0
}

// assigned notes that a point has another class now, which its next event will tell.
func (r *remote) assigned(k dnp3.Kind, index uint16, _ int) {
	r.taking.Lock()
	defer r.taking.Unlock()
	r.entry(k, index, true).class = 0
	for _, slot := range r.extra {
		if a := slot.Point.Address; a.Part == site.EventClass && a.Offset == index && dnp3.KindOf(string(a.Space)) == k {
			slot.Fail(reading.NeverRead)
		}
	}
}
