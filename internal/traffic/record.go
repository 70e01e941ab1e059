package traffic

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"
)

// Recorder writes frames to a capture file as they come, up to a size. It never holds up the links: what comes faster
// than the disk takes it is dropped and counted.
type Recorder struct {
	path  string
	links string // the only one; "" for all
	limit int64
	stop  chan struct{} // closed when it has ended
	began time.Time
	done  chan struct{} // closed when all is on the disk

	written atomic.Int64
	frames  atomic.Uint64
	dropped atomic.Uint64
	mu      sync.Mutex
	ended   string // why; guarded by mu
	batch          // gathered; guarded by mu
	spare   batch  // of run: that was written last
}

// batch is frames that wait to be written. Their data are in one run of bytes.
type batch struct {
	waiting []Frame
	data    []byte
	sizes   []int // where the data of each frame end
}

// Recording is the state of a recorder.
type Recording struct {
	Running bool      `json:"running"`
	File    string    `json:"file,omitempty" doc:"on the service's machine"`
	Link    string    `json:"link,omitempty" doc:"the only link that is recorded; all unless said"`
	Since   time.Time `json:"since,omitzero"`
	Frames  uint64    `json:"frames"`
	Bytes   int64     `json:"bytes"`
	Limit   int64     `json:"limit"`
	Dropped uint64    `json:"dropped" doc:"frames that came faster than the disk took them"`
	Ended   string    `json:"ended,omitempty" doc:"why it ended"`
}

// ErrRecording is returned when a recording runs already.
var ErrRecording = errors.New("a recording runs already; stop it first")

// Frames are gathered and written together, so that a recording does not cost the links a wake-up for each: so often, and at most so
// many of so many bytes.
const (
	recordEvery = 50 * time.Millisecond
	recordMost  = 1 << 15
	recordBytes = 8 << 20
)

// Record begins to record to a new file.
func (l *Log) Record(path, link string, limit int64) error {
	if r := l.recorder.Load(); r != nil && r.running() {
		return ErrRecording
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("recording: %w", err)
	}
	r := &Recorder{path: path, links: link, limit: limit, stop: make(chan struct{}), began: time.Now(), done: make(chan struct{})}
	l.recorder.Store(r)
	go r.run(file)
	return nil
}

// StopRecording ends the recording, if one runs, and waits until it is on the disk.
func (l *Log) StopRecording() Recording {
	if r := l.recorder.Load(); r != nil {
		r.end("stopped")
		<-r.done
	}
	return l.Recording()
}

// Recording is the state of the recording that runs, or ran last.
func (l *Log) Recording() Recording {
	r := l.recorder.Load()
	if r == nil {
		return Recording{}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return Recording{r.ended == "", r.path, r.links, r.began.UTC(), r.frames.Load(), r.written.Load(), r.limit, r.dropped.Load(), r.ended}
}

func (r *Recorder) running() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.ended == ""
}

// end takes no more frames; what was gathered is written.
func (r *Recorder) end(why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended == "" {
		r.ended = why
		close(r.stop)
	}
}

func (r *Recorder) add(f Frame) {
	if r.links != "" && f.Link != r.links {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended != "" {
		return
	}
	if len(r.waiting) >= recordMost || len(r.data)+len(f.Data) > recordBytes {
		r.dropped.Add(1)
		return
	}
	r.data = append(r.data, f.Data...)
	f.Data = nil // it is in data
	r.waiting = append(r.waiting, f)
	r.sizes = append(r.sizes, len(r.data))
}

// run writes what was gathered until the recording ends.
func (r *Recorder) run(file *os.File) {
	defer close(r.done)
	w := NewWriter(file)
	ticker := time.NewTicker(recordEvery)
	defer ticker.Stop()
	for going := true; going; {
		select {
		case <-ticker.C:
		case <-r.stop:
			going = false
		}
		r.write(w)
	}
	if err := errors.Join(w.Flush(), file.Close()); err != nil {
		r.end("the disk: " + err.Error())
	}
}

// write writes what was gathered.
func (r *Recorder) write(w *Writer) {
	r.mu.Lock()
	b := r.batch
	r.batch = batch{r.spare.waiting[:0], r.spare.data[:0], r.spare.sizes[:0]}
	r.mu.Unlock()
	from := 0
	for i := range b.waiting {
		b.waiting[i].Data = b.data[from:b.sizes[i]]
		from = b.sizes[i]
		if w.written >= r.limit {
			r.end(fmt.Sprintf("the limit of %d bytes is reached", r.limit))
			break
		}
		if err := w.Write(b.waiting[i]); err != nil {
			r.end("the disk: " + err.Error())
			break
		}
		r.frames.Add(1)
		r.written.Store(w.written)
	}
	w.Flush() // its error is the next write's
	if w.written >= r.limit {
		r.end(fmt.Sprintf("the limit of %d bytes is reached", r.limit))
	}
	r.spare = b
}
