// Package traffic keeps what crossed the links: the newest frames of each in a ring of bounded size, for looking at, for
// exporting, and for recording to disk.
package traffic

import (
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Kind says what a frame is.
type Kind byte

// The kinds.
const (
	Sent    Kind = iota // a request
	Answer              // to the request under way, be it a refusal
	Late                // to a request that has timed out
	Foreign             // to no request under way
	Stray               // though nothing was asked
	Damaged             // no frame, or one whose checksum does not fit
	Echo                // our own request came back
	Timeout             // nothing came; without data
	Closed              // the connection ended; without data
)

var kindNames = [...]string{"request", "answer", "late", "foreign", "stray", "damaged", "echo", "timeout", "closed"}

func (k Kind) String() string { return kindNames[k] }

// MarshalText writes the name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the name.
func (k *Kind) UnmarshalText(b []byte) error {
	*k = Kind(max(0, slices.Index(kindNames[:], string(b))))
	return nil
}

// Wrong reports whether a frame of this kind means that something is wrong.
func (k Kind) Wrong() bool { return k > Answer }

// Ends are the two ends of a connection, and how its frames are framed.
type Ends struct {
	Local, Remote netip.AddrPort // not valid on a serial line
	Packets       bool           // datagrams
	Framing       string
}

// EndsOf are those of a connection.
func EndsOf(conn net.Conn, framing string) Ends {
	e := Ends{Framing: framing}
	of := func(a net.Addr) netip.AddrPort {
		switch a := a.(type) {
		case *net.TCPAddr:
			return a.AddrPort()
		case *net.UDPAddr:
			e.Packets = true
			return a.AddrPort()
		}
		return netip.AddrPort{}
	}
	e.Local, e.Remote = of(conn.LocalAddr()), of(conn.RemoteAddr())
	return e
}

// Frame is one frame of a link.
type Frame struct {
	Seq     uint64 // in the order of all links, from 1
	Time    time.Time
	Link    string
	Station string // "" when it is of none
	Unit    int
	Kind    Kind
	Data    []byte
	After   time.Duration
	Text    string
	Ends    Ends
}

// Log holds the rings of all links.
type Log struct {
	seq    atomic.Uint64
	paused atomic.Bool

	mu       sync.Mutex
	rings    map[string]*Ring
	recorder atomic.Pointer[Recorder]
}

// NewLog makes an empty log.
func NewLog() *Log { return &Log{rings: map[string]*Ring{}} }

// budget is how many bytes the rings of all links may hold together, and the bounds of one.
const (
	budget   = 64 << 20
	leastLog = 32 << 10
	mostLog  = 2 << 20
	overhead = 160 // of a frame, beside its data
)

// Ring is the newest frames of one link.
type Ring struct {
	log  *Log
	link string

	mu     sync.Mutex
	frames []Frame // a queue: the oldest at head
	head   int
	size   int
	limit  int
}

// Ring returns the ring of a link, of which there are so many.
func (l *Log) Ring(link string, links int) *Ring {
	l.mu.Lock()
	defer l.mu.Unlock()
	r := l.rings[link]
	if r == nil {
		r = &Ring{log: l, link: link}
		l.rings[link] = r
	}
	r.mu.Lock()
	r.limit = min(max(leastLog, budget/max(1, links)), mostLog)
	r.mu.Unlock()
	return r
}

// Drop forgets a link.
func (l *Log) Drop(link string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.rings, link)
}

// Pause stops keeping frames, for measurements of what that costs.
func (l *Log) Pause(on bool) { l.paused.Store(on) }

// Add keeps a copy of a frame.
func (r *Ring) Add(f Frame) {
	if r.log.paused.Load() {
		return
	}
	f.Seq, f.Link = r.log.seq.Add(1), r.link
	r.mu.Lock()
	for r.size > r.limit {
		old := &r.frames[r.head]
		r.size -= overhead + len(old.Data)
		if r.head++; r.head == len(r.frames) {
			r.frames, r.head = r.frames[:0], 0
		}
	}
	if r.head > 64 && r.head > len(r.frames)/2 { // move what is left to the front, its data with it
		r.frames = r.frames[:copy(r.frames, r.frames[r.head:])]
		r.head = 0
	}
	f.Data = append([]byte(nil), f.Data...)
	r.frames = append(r.frames, f)
	r.size += overhead + len(f.Data)
	r.mu.Unlock()
	if rec := r.log.recorder.Load(); rec != nil {
		rec.add(f)
	}
}

// Filter says which frames are wanted.
type Filter struct {
	Link     string
	Station  string
	Function int  // 0: all
	Wrong    bool // only what is wrong, and refusals
	After    uint64
	Limit    int
}

// fits reports whether a frame is wanted.
func (q Filter) fits(f *Frame) bool {
	if q.Station != "" && f.Station != q.Station {
		return false
	}
	if q.Function == 0 && !q.Wrong {
		return true
	}
	function, refused := Function(f)
	if q.Function != 0 && function != q.Function {
		return false
	}
	return !q.Wrong || f.Kind.Wrong() || refused || f.Text != ""
}

// Frames returns the newest frames that are wanted, at most Limit, in the order in which they came; last is the newest
// frame there is.
func (l *Log) Frames(q Filter) (list []Frame, last uint64) {
	last = l.seq.Load()
	l.mu.Lock()
	rings := make([]*Ring, 0, len(l.rings))
	for name, r := range l.rings {
		if q.Link == "" || name == q.Link {
			rings = append(rings, r)
		}
	}
	l.mu.Unlock()
	for _, r := range rings {
		r.mu.Lock()
		found := 0
		for i := len(r.frames) - 1; i >= r.head && found < q.Limit; i-- {
			f := &r.frames[i]
			if f.Seq <= q.After {
				break
			}
			if q.fits(f) {
				list = append(list, *f)
				found++
			}
		}
		r.mu.Unlock()
	}
	slices.SortFunc(list, func(a, b Frame) int {
		if a.Seq < b.Seq {
			return -1
		}
		return 1
	})
	return list[max(0, len(list)-q.Limit):], last
}
