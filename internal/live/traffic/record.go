package traffic

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"
)

// Recorder writes frames to a capture file as they come, up to a size. It never holds up the links: what comes faster
// than the disk takes it is dropped and counted.
type Recorder struct {
	path  string
	links string // the only one; "" for all
	limit int64
	began time.Time
	piece chan struct{} // holds one token when a piece is gathered
	stop  chan struct{} // closed when it has ended
	done  chan struct{} // closed when all is on the disk

	mu       sync.Mutex // guards what follows
	capture  *capture
	gathered []byte // of the capture, to be written next
	bytes    int64  // of the capture, gathered or written
	frames   uint64
	dropped  uint64
	ended    string // why
}

// Recording is the state of a recorder.
type Recording struct {
	Running bool
	File    string // on the service's machine
	Link    string // the only link that is recorded (default all)
	Since   time.Time
	Frames  uint64
	Bytes   int64
	Limit   int64
	Dropped uint64 // frames that came faster than the disk took them
	Ended   string // why it ended
}

// ErrRecording is returned when a recording runs already.
var ErrRecording = errors.New("a recording runs already; stop it first")

// The capture is made as frames come, and written in pieces, so that a recording does not cost the links a wake-up for each: so
// often, when so many bytes are gathered, and at most as many as there is room for.
const (
	recordEvery = 50 * time.Millisecond
	recordPiece = 128 << 10
	recordRoom  = 8 << 20
)

// Record begins to record to a new file.
func (l *Log) Record(path, link string, limit int64) error {
	l.mu.Lock() // one at a time
	defer l.mu.Unlock()
	if r := l.recorder.Load(); r != nil && r.running() {
		return ErrRecording
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("recording: %w", err)
	}
	l.record(file, path, link, limit)
	return nil
}

// record begins to record to what a file is, as far as a recording goes.
func (l *Log) record(file io.WriteCloser, path, link string, limit int64) {
	r := &Recorder{path: path, links: link, limit: limit, began: time.Now(), piece: make(chan struct{}, 1), stop: make(chan struct{}), done: make(chan struct{})}
	r.capture, r.gathered = beginCapture(make([]byte, 0, 2*recordPiece))
	r.bytes = int64(len(r.gathered))
	l.recorder.Store(r)
	go r.run(file)
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
	return Recording{r.ended == "", r.path, r.links, r.began.UTC(), r.frames, r.bytes, r.limit, r.dropped, r.ended}
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
	r.endLocked(why)
}

func (r *Recorder) endLocked(why string) {
	if r.ended == "" {
		r.ended = why
		close(r.stop)
	}
}

func (r *Recorder) add(f *Frame) {
	if r.links != "" && f.Link != r.links {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended != "" {
		return
	}
	before := len(r.gathered)
	if before+len(f.Data) > recordRoom {
		r.dropped++
		return
	}
	r.gathered = r.capture.append(r.gathered, f)
	if r.bytes += int64(len(r.gathered) - before); len(r.gathered) > before {
		r.frames++
	}
	if before < recordPiece && len(r.gathered) >= recordPiece {
		select {
		case r.piece <- struct{}{}:
		default:
		}
	}
	if r.bytes >= r.limit {
		r.endLocked(fmt.Sprintf("the limit of %d bytes is reached", r.limit))
	}
}

// run writes what was gathered until the recording ends.
func (r *Recorder) run(file io.WriteCloser) {
	defer close(r.done)
	ticker := time.NewTicker(recordEvery)
	defer ticker.Stop()
	piece := make([]byte, 0, 2*recordPiece)
	var err error
	for going := true; going && err == nil; {
		select {
		case <-ticker.C:
		case <-r.piece:
		case <-r.stop:
			going = false
		}
		r.mu.Lock()
		piece, r.gathered = r.gathered, piece[:0]
		r.mu.Unlock()
		if len(piece) > 0 {
			_, err = file.Write(piece)
		}
	}
	err = errors.Join(err, file.Close())
	r.mu.Lock()
	defer r.mu.Unlock()
	if err != nil {
		r.endLocked("")
		r.ended = "the disk: " + err.Error() // even when it was to end: what is missing is to be known
	}
	r.capture, r.gathered = nil, nil
}
