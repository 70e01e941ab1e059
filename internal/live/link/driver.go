package link

import (
	"context"
	"sync/atomic"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/crash"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
)

// Driver speaks one protocol on links. It knows bytes and objects; what they mean to a person is the engine's.
// A protocol is added by a package with a Driver and one entry in Options.Drivers.
type Driver interface {
	// Protocol is what a link must say to be served by this driver.
	Protocol() site.Protocol
	// Jobs says what to ask a station, and how often. For a polled protocol these are planned requests; for one that
	// reports by itself they are its integrity and event polls, the latter with the readings of all classes.
	Jobs(link site.Link, station Station) []Job
	// Open connects a link. ctx bounds the connecting, not the session. A session that receives by itself starts
	// its own reader here, which calls host at any time.
	Open(ctx context.Context, link site.Link, host Host) (Session, error)
}

// Station is a station with what is to be read of it.
type Station struct {
	site.Station
	Slots     []*table.Slot // by tag
	RoundTrip time.Duration // recent mean as measured, 0 where it is not known; what an exchange costs

	// Memory is the driver's, for what the station's answers teach about planning its jobs. It stays while the station's settings do;
	// nil in tests that plan once.
	Memory *atomic.Value
}

// Job is something that is done about a station again and again.
type Job interface {
	Period() time.Duration
	Slots() []*table.Slot // the points that depend on it
}

// Refusable is a Job that can say what a device refused of it.
type Refusable interface {
	// Asks are the addresses it asks for.
	Asks() site.Range
}

// Adopter is a Job that can take the place of one planned earlier, with what that has learnt.
type Adopter interface {
	// Adopt takes over from an old job and reports whether it asks for the same.
	Adopt(old Job) bool
}

// Flagger is a Driver whose devices say themselves that a value is not to be trusted, by these reasons.
type Flagger interface {
	Flags() []reading.Reason
}

// Sign is a sign of life of a station.
type Sign struct {
	Said   string        // what was answered, in words
	Took   time.Duration // until it was
	Partly bool          // its data link layer answered, and what is above it did not
}

// Session is an open link. As many goroutines use it at a time as the link allows requests in flight; Close may come at
// any time and ends what is under way.
type Session interface {
	// Do does a job once and emits what it learnt to the host.
	Do(job Job) Outcome
	// Read asks for addresses that no point needs to have.
	Read(station site.Station, what site.Range) ([]table.Sample, error)
	// Write sends raw values and reads them back.
	Write(station site.Station, what Command) Written
	// Test asks the station for any sign of life.
	Test(station site.Station) (Sign, error)
	// Lost reports whether a call found the link gone; then the session must be closed.
	Lost() bool
	Close()
	// Traffic returns what the session counted since it opened.
	Traffic() Traffic
}

// Caller is a Session that has to call its stations one after the other, as over a dial-up line.
type Caller interface {
	// AtHand reports whether a station can be asked without another call.
	AtHand(station site.Station) bool
}

// Rereader is a Session that can look again at what a command has written.
type Rereader interface {
	// Reread reads what a command writes, once, and reports whether it is what was sent.
	Reread(station site.Station, what Command) (after []table.Sample, same bool, err error)
}

// Reporter is a Session whose stations report by themselves. It is told of them when it opens, before it begins to take what comes
// and before anything is asked, and when they change.
type Reporter interface {
	Follow(station Station)
	Leave(station string)
	Begin()
}

// Performer is a Session that can have a station do more than read and write.
type Performer interface {
	// Perform does one of the driver's Actions and says in words what came of it.
	Perform(station site.Station, action string) (string, error)
}

// Action is something that a station can be asked to do.
type Action struct {
	Name string
	Text string // what it does
}

// Actor is a Driver whose sessions are Performers.
type Actor interface {
	Actions() []Action
}

// Command is something to write.
type Command struct {
	Slot     *table.Slot // of the point; nil for addresses without one
	Address  site.Address
	ReadBack site.Address // where it is read back from; zero: from Address
	Layout   codec.Layout
	Raw      []codec.Value // at least one; several go to successive addresses
}

// Traffic counts what crossed a link.
type Traffic struct {
	BytesSent     uint64
	BytesReceived uint64
	Late          uint64 // responses that came after their request had timed out
	Foreign       uint64 // answers to no request of ours
	Stray         uint64 // what came though nothing was asked
}

// Host is what a session has of the engine. It is safe for concurrent use.
type Host interface {
	// Emit takes readings as they come, in their order. It keeps nothing of samples but what their fields point to.
	Emit(samples []table.Sample)
	// FrameSeen takes what crossed the link, or should have. It returns soon and keeps nothing of the frame.
	FrameSeen(f Frame)
	// Doing takes what the link is doing beside its exchanges, such as dialling; "" when nothing.
	Doing(what string)
	// PollNow makes all jobs of a station due at once: there is news of it.
	PollNow(station string)
	// Note takes something that a session found out about a station; a later note of the same kind takes its place.
	Note(station string, note diagnose.Note)
	// Keep waits until the events that were emitted are on the disk, and reports whether they are: what is confirmed to a device, it
	// forgets.
	Keep() bool
	// Asked counts an exchange with a station, by its link address, that is not the one of a job.
	Asked(unit int, out Outcome, took time.Duration, repeated bool)
	// Fault takes a panic within the session, which has ended because of it.
	Fault(f *crash.Error)
	// DeviceState takes what a device says of its own state, in words.
	DeviceState(station string, what []string)
}

// Frame is something that crossed a link, or should have.
type Frame struct {
	Kind  traffic.Kind
	Unit  int           // or outstation, that sent it, or is asked; -1 when that is not known
	Asked int           // of what came: the unit that had been asked; -1 when that is not known
	Data  []byte        // as on the wire
	After time.Duration // of a response: since its request
	Text  string        // what is wrong, when something is
	At    time.Time     // when; zero: now
	Ends  *traffic.Ends // of the connection
	Alien bool          // there is a request in it that nobody here has made
}

// Outcome is how a job ended.
type Outcome struct {
	Err      error          // nil: it was done and its samples emitted
	Reason   reading.Reason // of the points that depend on the job, when Err is not nil
	Answered bool           // the station said something, be it a refusal
	Instead  []Job          // what takes the job's place from now on, which may be nothing; nil leaves it
	Replan   bool           // the station's jobs are to be planned anew
	// NotBefore is when the job can be done, which was not now, and nothing was asked; zero otherwise.
	NotBefore time.Time
	Skipped   bool          // nothing was asked, since the response is known
	Absent    bool          // nothing was asked, since the station connects by itself, and is not connected
	Later     bool          // the station asks to be asked again later
	Took      time.Duration // how long the exchange was, when that is not the time of Do
	Short     bool          // there was less in the response than was asked for
	Expected  bool          // that nothing came was to be expected, and says nothing about the station
	Rest      time.Duration // the station is not asked again sooner, and nothing is repeated at once
}

// Written is how a write ended.
type Written struct {
	Before, Sent, After []table.Sample // one for each raw value; nil where not known
	Err                 error          // why it is not done; nil when After equals Sent
	Reached             bool           // something was sent, so that the device may have changed
	Accepted            bool           // the device acknowledged
	Refused             bool           // the device refused; Err says how
	Broadcast           bool           // it went to all devices, none of which answers
}
