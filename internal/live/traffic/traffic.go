// Package traffic keeps what crossed the links: the newest frames of each in a ring of bounded size, for looking at, for
// exporting, and for recording to disk.
package traffic

import (
	"math"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"
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
	Report              // what a device says by itself, as it may
)

var kindNames = [...]string{"request", "answer", "late", "foreign", "stray", "damaged", "echo", "timeout", "closed", "report"}

func (k Kind) String() string { return kindNames[k] }

// MarshalText writes the name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the name.
func (k *Kind) UnmarshalText(b []byte) error {
	*k = Kind(max(0, slices.Index(kindNames[:], string(b))))
	return nil
}

// Wrong reports whether a frame of this kind means that something is wrong.
func (k Kind) Wrong() bool { return k > Answer && k != Report }

// Ends are the two ends of a connection, and how its frames are framed.
type Ends struct {
	Local, Remote netip.AddrPort // not valid on a serial line
	Packets       bool           // datagrams
	Framing       string
}

// EndsOf are those of a connection.
func EndsOf(conn net.Conn, framing string) *Ends {
	e := &Ends{Framing: framing}
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

var unknown Ends

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
	Ends    *Ends // of its connection, which frames share
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

// Budget is how many bytes the rings of all links hold at most, together, and the bounds of one.
const (
	Budget   = 16 << 20
	leastLog = 2 << 10
	mostLog  = 2 << 20
)

// Ring is the newest frames of one link. A frame's data lie in one run of bytes with those of its neighbours, so that a
// frame costs little beside them.
type Ring struct {
	log  *Log
	link string

	mu     sync.Mutex
	frames []kept  // the oldest first
	data   []byte  // of frames, in their order
	ends   []*Ends // of the connections of frames; few, since a connection has many
	limit  int
}

// kept is a frame in its ring.
type kept struct {
	seq     uint64
	at      int64 // in Unix nanoseconds
	station string
	text    string
	after   time.Duration
	length  uint16
	unit    int32
	ends    uint16 // which of the ring's
	kind    Kind
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
	r.limit = min(max(leastLog, Budget/max(1, links)), mostLog)
	r.mu.Unlock()
	return r
}

// Size is how many bytes of memory the rings take.
func (l *Log) Size() (bytes uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range l.rings {
		r.mu.Lock()
		bytes += uint64(cap(r.frames)*int(unsafe.Sizeof(kept{})) + cap(r.data) + cap(r.ends)*int(unsafe.Sizeof(Ends{})+unsafe.Sizeof(&Ends{})))
		r.mu.Unlock()
	}
	return bytes
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
	f.Data = f.Data[:min(len(f.Data), math.MaxUint16)]
	if f.Ends == nil {
		f.Ends = &unknown
	}
	r.mu.Lock()
	if r.size()+len(f.Data) > r.limit {
		r.forget()
	}
	r.frames = append(r.frames, kept{f.Seq, f.Time.UnixNano(), f.Station, f.Text, f.After, uint16(len(f.Data)), int32(f.Unit), r.end(f.Ends), f.Kind})
	r.data = append(r.data, f.Data...)
	r.mu.Unlock()
	if rec := r.log.recorder.Load(); rec != nil {
		rec.add(&f)
	}
}

// size is how many bytes the ring takes.
func (r *Ring) size() int { return len(r.frames)*int(unsafe.Sizeof(kept{})) + len(r.data) }

// forget drops the oldest quarter, so that what is left is moved seldom.
func (r *Ring) forget() {
	n, bytes := (len(r.frames)+3)/4, 0
	for i := range r.frames[:n] {
		bytes += int(r.frames[i].length)
	}
	r.frames = slices.Delete(r.frames, 0, n)
	r.data = slices.Delete(r.data, 0, bytes)
	first := uint16(len(r.ends)) // that a frame has
	for i := range r.frames {
		first = min(first, r.frames[i].ends)
	}
	for i := range r.frames {
		r.frames[i].ends -= first
	}
	r.ends = slices.Delete(r.ends, 0, int(first))
}

// recentEnds is how many of the last connections are looked at for that of a frame: more than a link has at a time.
const recentEnds = 32

// end returns the number of the two ends of a connection. There are never more of them than frames.
func (r *Ring) end(e *Ends) uint16 {
	for i := len(r.ends) - 1; i >= max(0, len(r.ends)-recentEnds); i-- {
		if r.ends[i] == e {
			return uint16(i)
		}
	}
	r.ends = append(r.ends, e)
	return uint16(len(r.ends) - 1)
}

// frame makes a frame of what is kept; its data are a part of the ring's.
func (r *Ring) frame(k *kept, data []byte) Frame {
	return Frame{k.seq, time.Unix(0, k.at), r.link, k.station, int(k.unit), k.kind, data, k.after, k.text, r.ends[k.ends]}
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
		list = append(list, r.newest(q)...)
	}
	slices.SortFunc(list, func(a, b Frame) int {
		if a.Seq < b.Seq {
			return -1
		}
		return 1
	})
	return list[max(0, len(list)-q.Limit):], last
}

// newest returns copies of the frames of one link that are wanted, the newest first.
func (r *Ring) newest(q Filter) (list []Frame) {
	r.mu.Lock()
	defer r.mu.Unlock()
	end := len(r.data)
	for i := len(r.frames) - 1; i >= 0 && len(list) < q.Limit; i-- {
		k := &r.frames[i]
		if k.seq <= q.After {
			break
		}
		f := r.frame(k, r.data[end-int(k.length):end])
		end -= int(k.length)
		if q.fits(&f) {
			f.Data = slices.Clone(f.Data)
			list = append(list, f)
		}
	}
	return list
}
