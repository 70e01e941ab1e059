package api

import (
	"bytes"
	"encoding/json"
	"sync"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
)

// encodings keeps the newest readings as JSON, so that what many follow is written once. It is safe for concurrent use.
type encodings struct {
	mu sync.Mutex
	of map[*site.Point]encoding // by point, as the live table has it: another one when the point is changed
}

type encoding struct {
	of   reading.Reading
	text []byte
}

// mostEncodings is how many are kept, so that those of points that are gone do not stay for ever.
const mostEncodings = 200_000

// reading is a reading as JSON.
func (e *encodings) reading(l table.Live) ([]byte, error) {
	e.mu.Lock()
	kept, ok := e.of[l.Point]
	e.mu.Unlock()
	if ok && sameReading(kept.of, l.Reading) {
		return kept.text, nil
	}
	text, err := json.Marshal(newReading(l))
	if err != nil {
		return nil, err
	}
	of := l.Reading
	of.Raw = reading.Raw{} // which changes with the time
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.of == nil || len(e.of) >= mostEncodings {
		e.of = map[*site.Point]encoding{}
	}
	e.of[l.Point] = encoding{of, text}
	return text, nil
}

// sameReading reports whether two readings of a point are one. Raw data never changes without the time.
func sameReading(a, b reading.Reading) bool {
	return a.Time.Equal(b.Time) && a.Quality == b.Quality && a.Reason == b.Reason && a.Value == b.Value && a.SourceTime.Equal(b.SourceTime) && a.GoodTime.Equal(b.GoodTime)
}

// message writes a LiveMessage as JSON.
func (e *encodings) message(out *bytes.Buffer, list []table.Live) error {
	var removed []string
	n := 0
	out.WriteString(`{"readings":[`)
	for _, l := range list {
		if l.Removed {
			removed = append(removed, l.Point.Tag)
			continue
		}
		text, err := e.reading(l)
		if err != nil {
			return err
		}
		if n++; n > 1 {
			out.WriteByte(',')
		}
		out.Write(text)
	}
	out.WriteByte(']')
	if removed != nil {
		names, err := json.Marshal(removed)
		if err != nil {
			return err
		}
		out.WriteString(`,"removed":`)
		out.Write(names)
	}
	out.WriteByte('}')
	return nil
}
