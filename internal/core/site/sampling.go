package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"time"
)

// Sampling says what is kept of a point's readings in the history: all of them, or fewer. A change of quality is always kept. The zero
// Sampling keeps nothing.
type Sampling struct {
	On       bool
	Deadband float64  // a reading that differs by less from the one kept last is left out; of what is no number, one that does not differ
	AtLeast  Duration // but after so long one is kept all the same; 0: however long it takes
	Every    Duration // one reading in each such period; 0: as the rest says
}

// The limits of a Sampling.
const (
	MinEvery = time.Second
	MaxEvery = 24 * time.Hour
)

// samplingShape is a Sampling that is more than true or false in JSON.
type samplingShape struct {
	Deadband float64  `json:"deadband,omitempty"`
	AtLeast  Duration `json:"at_least,omitempty"`
	Every    Duration `json:"every,omitempty"`
}

// MarshalJSON writes true, false, {"deadband": 0.5, "at_least": "10m"} or {"every": "1m"}.
func (r Sampling) MarshalJSON() ([]byte, error) {
	if shape := (samplingShape{r.Deadband, r.AtLeast, r.Every}); r.On && shape != (samplingShape{}) {
		return json.Marshal(shape)
	}
	return json.Marshal(r.On)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (r *Sampling) UnmarshalJSON(b []byte) error {
	var on bool
	if json.Unmarshal(b, &on) == nil {
		*r = Sampling{On: on}
		return nil
	}
	var shape samplingShape
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err := d.Decode(&shape); err != nil {
		return fmt.Errorf("%s is none of true, false, {deadband: 0.5, at_least: 10m} and {every: 1m}: %w", bytes.TrimSpace(b), err)
	}
	*r = Sampling{On: true, Deadband: shape.Deadband, AtLeast: shape.AtLeast, Every: shape.Every}
	return nil
}

func (r *Sampling) validate(f *faults, field string) {
	if r == nil || !r.On {
		return
	}
	if !(r.Deadband >= 0 && r.Deadband <= math.MaxFloat64) {
		f.add(field+".deadband", r.Deadband, "is a number from 0 on, in the unit of the point")
	}
	if r.AtLeast != 0 {
		f.span(field+".at_least", r.AtLeast, MinEvery, MaxEvery)
	}
	if r.Every != 0 {
		f.span(field+".every", r.Every, MinEvery, MaxEvery)
		if r.Deadband != 0 || r.AtLeast != 0 {
			f.add(field+".every", r.Every, "goes without deadband and at_least: give either {every: 1m} or {deadband: 0.5, at_least: 10m}")
		}
	}
}

// Recorded is what is kept of p's readings, given its station.
func (p Point) Recorded(s Station) Sampling {
	switch {
	case p.Record != nil:
		return *p.Record
	case s.Record != nil:
		return *s.Record
	}
	return Sampling{}
}
