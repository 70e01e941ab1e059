// Package diagnose draws conclusions about communication from evidence: what is wrong, how certain that is, and what to
// try next. It is pure: the same evidence gives the same findings. One cause gives one finding: what is wrong with a link
// hides what follows from it at its stations, and what is wrong with a station what follows from it at its points.
package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose/weigh"
)

// Code names a kind of finding. Codes are stable.
type Code string

// The codes of links.
const (
	NameUnresolved    Code = "name-unresolved"
	HostUnreachable   Code = "host-unreachable"
	ConnectionRefused Code = "connection-refused"
	ConnectTimeout    Code = "connect-timeout"
	BindWrong         Code = "bind-wrong"
	TLSRefused        Code = "tls-refused"
	TransportDiffers  Code = "transport-differs"
	PortMissing       Code = "port-missing"
	RTSMissing        Code = "rts-missing"
	PortTaken         Code = "port-taken"
	NoModem           Code = "no-modem"
	CallFails         Code = "call-fails"
	LineSilent        Code = "line-silent"
	LineSettings      Code = "line-settings"
	LineNoise         Code = "line-noise"
	Echo              Code = "echo"
	ClosesConnection  Code = "closes-connection"
	ConnectionLimit   Code = "connection-limit"
	NotTheProtocol    Code = "not-the-protocol"
	FramingDiffers    Code = "framing-differs"
	InternalFault     Code = "internal-fault"
	PollsLate         Code = "polls-late"
)

// The codes of stations.
const (
	UnitSilent        Code = "unit-silent"
	OtherUnit         Code = "other-unit"
	UnitOfAnother     Code = "unit-of-another"
	UnitTwice         Code = "unit-twice"
	UnitDamaged       Code = "unit-damaged"
	GatewayPath       Code = "gateway-path"
	GatewayTarget     Code = "gateway-target"
	FunctionRefused   Code = "function-refused"
	AddressRefused    Code = "address-refused"
	ValueRefused      Code = "value-refused"
	DeviceFailure     Code = "device-failure"
	TimeoutShort      Code = "timeout-short"
	PauseShort        Code = "pause-short"
	ShortResponse     Code = "short-response"
	Interchanged      Code = "stations-interchanged"
	IdentifierIgnored Code = "identifier-ignored"
	AnswersMalformed  Code = "answers-malformed"
	AnswersMissing    Code = "answers-missing"
	ExtraBytes        Code = "extra-bytes"
	DeviceBusy        Code = "device-busy"
	LengthLimit       Code = "length-limit"
	ExceptionUnknown  Code = "exception-unknown"
)

// The codes of points.
const (
	WordOrder       Code = "word-order"
	AddressShifted  Code = "address-shifted"
	TypeDiffers     Code = "type-differs"
	ScalingDiffers  Code = "scaling-differs"
	ValueOdd        Code = "value-odd"
	CounterFellBack Code = "counter-fell"
	ClockAsValue    Code = "clock-as-value"
	ValueStands     Code = "value-stands"
	AddressDoubled  Code = "address-doubled"
	TableDiffers    Code = "table-differs"
	MovesAlike      Code = "moves-alike"
	ValueSaturated  Code = "value-saturated"
	BelowLiveZero   Code = "below-live-zero"
	ValueSpikes     Code = "value-spikes"
	BitsTurned      Code = "bits-turned"
	NothingGood     Code = "nothing-good"
	EndOfType       Code = "end-of-type"
	NoNumber        Code = "not-a-number"
	ValueFrozen     Code = "value-frozen"
)

// The codes of the service itself.
const (
	HistoryStopped Code = "history-stopped"
	HistoryBehind  Code = "history-behind"
	HistoryFile    Code = "history-file"
	MachineBusy    Code = "machine-busy"
)

// OfService is the kind of what a finding about the service itself is about; its subject is then the part of it, such as history.
const OfService site.Kind = "service"

// Finding is a conclusion.
type Finding struct {
	Code      Code
	Subject   string // name of the link or station, or tag of the point, that it is about
	Kind      site.Kind
	Since     time.Time
	Certainty float64  // 0 to 1
	Cause     Cause    // what is likely wrong
	Evidence  []string // what was seen: counts, times, frames
	Next      []Step   // what to try, most promising first
	Drawn     []Drawing
}

// Drawing is how a value that is read wrongly went: as it is set, and as it would be after the first step.
type Drawing struct {
	Tag, Unit string
	Secs      []uint32  // seconds since 1970
	Shows     []float64 // NaN: no value
	Would     []float64 // likewise; nil where no step is known
}

// Step is something to try.
type Step struct {
	Text    string
	Changes []Change // the settings that do it, together
	Action  *Action  // or what is asked of the service
}

// Verb is what a step asks of the service.
type Verb string

// The verbs. The subject of Ports is empty, that of Explain a word, of the others a link or a station.
const (
	Scan         Verb = "scan"          // look for units on a link
	ScanSettings Verb = "scan-settings" // and for the settings of a serial line first
	Probe        Verb = "probe"         // ask a station stage by stage
	Ports        Verb = "ports"         // list the serial ports
	Traffic      Verb = "traffic"       // show the frames of a link
	Frames       Verb = "frames"        // of a station
	Wrong        Verb = "wrong-frames"  // those of a station that are wrong
	Refresh      Verb = "refresh"       // ask a station everything anew
	SetTime      Verb = "set-time"      // set a station's clock
	Explain      Verb = "explain"       // say what a reason means
)

// Action is something that a step asks of the service.
type Action struct {
	Verb    Verb
	Subject string
}

// Change is a change of settings that mends something.
type Change struct {
	Kind   site.Kind
	Name   string
	Fields map[string]any // as for PATCH of the entity
}

// Counts are what was seen in the last minute.
type Counts struct {
	Requests, Answers, Timeouts, Checksums, Malformed, Closed int
	Late, Foreign, Stray, Echoes                              int
	Damaged                                                   int // frames
	Alien                                                     int // frames that were a request which nobody here had made
	Sent, Received                                            int // bytes
	Exceptions                                                map[int]int
}

// Link is the evidence about a link.
type Link struct {
	Link         site.Link
	Up           bool
	Down         bool
	Failure      failure.Kind // why it does not open
	Port         string       // the serial port that may be meant, where that of the link is not there; "" when none is known
	Failures     int          // attempts in a row that failed
	Reason       string       // in words
	Worked       bool         // something was answered on it with the settings that it has
	ExtraRefused int          // further connections that were refused while one was open
	Open         int          // connections that are
	Counts       Counts       // of the last minute
	Since        Counts       // since the last response
	Faults       int          // how often a fault of this program ended one of its sessions, if one has lately
	Fault        string       // the last one
	Found        []int        // units or outstations that a scan or a probe found on it lately
	FoundAgo     time.Duration
	Other        *Other  // settings with which something answered, when nothing does with those that it has
	Words        string  // a text that came in place of a frame
	Manner       *Manner // in which a station answers that is silent with the settings that it has; nil: none, or that was not tried
	Slow         *Slow   // who answered when it was asked with more patience; nil: nobody, or that was not tried
	Tried        int     // other settings that were tried
	Looked       bool    // it was looked what else it may be
	Place        *Place  // what its far end did when nothing was asked; nil: that was not looked at
}

// Slow is a station that answers later than the timeout of its link.
type Slow struct {
	Station string
	Took    time.Duration
}

// Place is what a place on the network does with connections on which nothing of the protocol is asked.
type Place struct {
	Closed bool // it closed one before anything was asked
	After  time.Duration
	Said   []byte        // what it said by itself
	TLS    bool          // it takes TLS
	Speaks site.Protocol // the other protocol that is spoken there; "" for none
}

// Manner is another way to ask a station, in which it answered.
type Manner struct {
	Station string
	Fields  map[string]any // of the station, that differ
	Said    string
}

// Other are settings of a link with which a station answered.
type Other struct {
	Link    site.Link
	Station string
	Said    string
}

// Station is the evidence about a station.
type Station struct {
	Station     site.Station
	Silent      bool
	Answering   bool
	Reason      string
	Failure     failure.Kind  // of a silent one that is called: why the call does not come about
	Counts      Counts        // of the last minute
	Since       Counts        // since the last response
	OtherUnit   int           // that answered in its place, -1 for none
	Instead     string        // the station with which it is interchanged: each has what the other refuses; "" for none
	Short       int           // answers with too few registers, within the last minute or since the last response
	ClosedAfter int           // connections that ended after a response
	Slowest     time.Duration // of responses that came late, likewise
	Median      time.Duration
	Refused     []Refusal
	Notes       map[NoteKind]Note
	Flags       []Flagged     // of its points that the device itself flags, the most first
	Bad         int           // of its points, when none of them is good or uncertain; 0 otherwise
	BadFor      time.Duration // how long that has been so
	Why         string        // for most of them
	Rest        time.Duration // how long after a response requests are heard again, 0 where that is no matter
	Demand      []Demand      // what is to be asked
	Exchange    time.Duration // how long one takes, the pause after it included; 0 where there was none
	Polls       int           // within the last minute
	LatePolls   int           // of them, those that began late
}

// Flagged are points of which a device says itself that their values are not to be trusted.
type Flagged struct {
	Reason reading.Reason
	Tags   []string
}

// Demand is how many requests are to be made every so often.
type Demand struct {
	Period   time.Duration
	Requests int
}

// NoteKind is a kind of note.
type NoteKind string

// The kinds of note.
const (
	NoteOtherSource   NoteKind = "other-source"   // frames come from another outstation's address: Number
	NoteOtherMaster   NoteKind = "other-master"   // its frames go to another master's address: Number
	NoteTwoMasters    NoteKind = "two-masters"    // another master asks it: Number
	NoteLinkOnly      NoteKind = "link-only"      // its data link layer answers, its application does not
	NoteNoFunction    NoteKind = "no-function"    // it refused a function
	NoteWriteFunction NoteKind = "write-function" // or one that a write was made with: Number
	NoteNoObject      NoteKind = "no-object"      // or an object
	NoteNoClass       NoteKind = "no-class"       // or a class: Number
	NoteConfirms      NoteKind = "confirms"       // it repeats what was confirmed
	NoteEventsLost    NoteKind = "events-lost"    // its buffer overflowed
	NoteTime          NoteKind = "time"           // its clock is wrong by Number seconds
	NoteNeedsTime     NoteKind = "needs-time"     // it asks for the time
	NoteMissing       NoteKind = "missing"        // it has none of some points: Number
	NoteRestarted     NoteKind = "restarted"      // it restarted while it was watched
	NoteRestartStays  NoteKind = "restart-stays"  // it goes on saying that it restarted
	NoteTrouble       NoteKind = "trouble"        // it says that it has trouble
	NoteCorrupt       NoteKind = "corrupt"        // or that its configuration is corrupt
	NoteLongest       NoteKind = "longest"        // it answers reads of at most Number registers, or bits, and leaves longer ones without a response
	NoteLocal         NoteKind = "local"          // or that points are in local control
	NoteNotCalled     NoteKind = "not-called"     // it connects by itself, and has not; Number is 1 when it had before
)

// Note is something that was found out about a station beside what its figures tell.
type Note struct {
	Kind    NoteKind
	Text    string // what was seen; "" takes the note back
	Number  float64
	Of      string         // what the number counts, where that differs
	Missing []site.Address // some of the addresses that it does not have
	Moves   []Move         // where points of it were found
	Count   int            // how often, since it was taken back
	At      time.Time
}

// Move is another address of a point than it has.
type Move struct {
	Tag      string
	From, To site.Address
}

// Refusal is a request that a device refused for good.
type Refusal struct {
	Code    int
	Table   site.Space
	From    int
	Count   int
	Points  []At
	Instead []site.Range        // what was found to work
	Along   map[site.Range][]At // for one of these that other points have: they all would have to move as far, and may
}

// Beside is how many registers further on, in the same table, all that was refused was found to answer.
func (r Refusal) Beside() (by []int) {
	for _, works := range r.Instead {
		if works.Start.Space == r.Table && works.Count == r.Count && int(works.Start.Offset) != r.From {
			by = append(by, int(works.Start.Offset)-r.From)
		}
	}
	return by
}

// At is a point and where it is read.
type At struct {
	Tag     string
	Address site.Address
}

// Evidence is all that is known.
type Evidence struct {
	Links    []Link
	Stations []Station
	Points   []Point
	Misread  []weigh.Explanation // of the values of stations
	Failing  []weigh.Fault       // values that fail whatever their reading is
	Zeros    []Elsewhere         // tables that hold nothing, where others do
	History  History             // how the recording of readings goes
	Stalls   Stalls              // of this machine
}

// Elsewhere is a table of a station that holds nothing but zeros, where the other has values.
type Elsewhere struct {
	Station  string
	From, To site.Space
	Points   int
	Moves    []Move
	Shown    []Shown // what some of them would show
	Moved    int     // of these, those that moved meanwhile
}

// Shown is what a point would show.
type Shown struct {
	Tag   string
	Value float64
	Unit  string
}

// enough is how many times something must have been seen in the last minute to count.
const enough = 3

// Find draws the conclusions, the most certain first.
func Find(e Evidence) []Finding {
	f := finder{links: e.Links, misreads: map[string]bool{}, stations: map[string][]Station{}, units: map[string]map[int]string{}, covered: map[string]bool{}, slow: map[string]bool{}, masters: map[string]bool{}, noisy: map[string]bool{}}
	for _, s := range e.Stations {
		f.stations[s.Station.Link] = append(f.stations[s.Station.Link], s)
		if f.units[s.Station.Link] == nil {
			f.units[s.Station.Link] = map[int]string{}
		}
		f.units[s.Station.Link][s.Station.LinkAddress()] = s.Station.Name
	}
	for _, l := range e.Links {
		if l.Faults > 0 {
			f.add(site.KindLink, l.Link.Name, InternalFault, 0.99, because("internal-fault"),
				[]string{fmt.Sprintf("%d times, the last: %s", l.Faults, l.Fault)},
				do("export the traffic of the link and send it, with the service's log, to whoever maintains Arithmon", Traffic, l.Link.Name),
				say("disable the station whose responses cause it, so that the others of the link keep their rate"))
		}
		if f.link(l) {
			for _, s := range f.stations[l.Link.Name] {
				f.covered[s.Station.Name] = true
			}
			continue
		}
		f.calls(l)
		for _, s := range f.stations[l.Link.Name] {
			if f.covered[s.Station.Name] {
				continue
			}
			if byProtocol[s.Station.Speaks()](&f, l, s, e.Links, e.Stations) {
				f.covered[s.Station.Name] = true
			}
		}
		f.shared(l)
	}
	f.zeros(e.Zeros)
	f.misread(e.Misread, e.Points)
	f.failing(e.Failing, e.Points)
	f.points(e.Points)
	f.nothingGood(e)
	f.history(e.History)
	f.stalled(e.Stalls, e.Stations)
	slices.SortStableFunc(f.list, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Certainty, a.Certainty), cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.Code, b.Code))
	})
	return f.list
}

type finder struct {
	list     []Finding
	links    []Link
	stations map[string][]Station      // by link
	units    map[string]map[int]string // stations by link and unit
	covered  map[string]bool           // stations whose trouble is explained
	slow     map[string]bool           // links on which several stations answer late
	masters  map[string]bool           // links on which another master asks
	noisy    map[string]bool           // links with noise
	misreads map[string]bool           // points whose values are explained by how they are read
}

func (f *finder) add(kind site.Kind, subject string, code Code, certainty float64, cause Cause, evidence []string, next ...Step) {
	f.list = append(f.list, Finding{Code: code, Subject: subject, Kind: kind, Certainty: certainty, Cause: cause, Evidence: evidence, Next: next})
}

// seen is how often something was seen within the last minute or, of a station that is silent and therefore asked seldom, since it
// answered last.
func seen(minute, since int) (n int, when string) {
	if since > minute {
		return since, "since the last response"
	}
	return minute, "within a minute"
}

func say(text string) Step { return Step{Text: text} }

func do(text string, verb Verb, subject string) Step {
	return Step{Text: text, Action: &Action{verb, subject}}
}

func set(text string, kind site.Kind, name string, fields map[string]any) Step {
	return Step{Text: text, Changes: []Change{{kind, name, fields}}}
}
