// Package reading holds what is known of a point at one moment: value, quality, reason, raw data and times.
package reading

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
)

// Quality says how far a value can be trusted.
type Quality uint8

// The qualities; the zero Quality is Bad, so that nothing is good by omission.
const (
	Bad Quality = iota
	Uncertain
	Good
)

var qualityNames = [...]string{"bad", "uncertain", "good"}

func (q Quality) String() string { return qualityNames[q] }

// MarshalText writes good, uncertain or bad.
func (q Quality) MarshalText() ([]byte, error) { return []byte(q.String()), nil }

// UnmarshalText reads good, uncertain or bad.
func (q *Quality) UnmarshalText(b []byte) error {
	for i, name := range qualityNames {
		if name == string(b) {
			*q = Quality(i)
			return nil
		}
	}
	return fmt.Errorf("%q is no quality: good, uncertain or bad", b)
}

// Reason says why a reading is not good. It is empty for a good one.
type Reason string

// Reasons for uncertain readings.
const (
	Stale              Reason = "stale"     // older than three polls, or than its limit
	RawRange           Reason = "raw-range" // outside the raw range of its scaling
	Forced             Reason = "forced"    // local or remote
	Restarted          Reason = "restarted" // since the device restarted
	Chatter            Reason = "chatter"
	TimeUnsynchronised Reason = "time-unsynchronised"
	LastKnown          Reason = "last-known"      // the device gives an old value
	ReferenceError     Reason = "reference-error" // the device's converter has lost its reference
	Discontinuity      Reason = "discontinuity"   // a counter cannot be compared with what it was before
)

// Reasons for bad readings; the device's exceptions are further ones (ExceptionReason).
const (
	NeverRead   Reason = "never-read"
	Disabled    Reason = "disabled"
	LinkDown    Reason = "link-down"
	Timeout     Reason = "timeout"
	Checksum    Reason = "checksum"
	BadResponse Reason = "bad-response"
	Offline     Reason = "offline"   // the device's own flag
	CommLost    Reason = "comm-lost" // behind the device
	Decode      Reason = "decode"    // not a number, not BCD, not text

	SensorFailure Reason = "sensor-failure" // a raw code that the point lists as invalid
)

const exceptionPrefix = "exception-"

// ExceptionReason is the reason for a Modbus exception code.
func ExceptionReason(code byte) Reason {
	return Reason(exceptionPrefix + strconv.Itoa(int(code)))
}

// Exception returns the Modbus exception code of a reason made by ExceptionReason.
func (r Reason) Exception() (code byte, ok bool) {
	digits, found := strings.CutPrefix(string(r), exceptionPrefix)
	n, err := strconv.ParseUint(digits, 10, 8)
	return byte(n), found && err == nil
}

// Raw is the data as it came over the wire. It is never changed after it was made, so that it can be shared.
type Raw struct {
	Words  []uint16 // registers in the order received
	Bit    uint8    // a coil or discrete input, 0 or 1
	HasBit bool
	Object Object // a DNP3 object with its flags
}

// Object is raw data that its protocol alone can put into words. It is small and costs nothing to make, since every event has one;
// its text is made when someone looks.
type Object struct {
	By   Teller // nil: there is no object
	Bits uint64 // the number as it came
	Meta [6]byte
}

// Teller puts objects into words.
type Teller interface{ Tell(Object) string }

func (o Object) String() string {
	if o.By == nil {
		return ""
	}
	return o.By.Tell(o)
}

// Text is an object of which only the text is known.
func Text(s string) Object { return Object{By: text(s)} }

type text string

// Tell makes it a Teller.
func (t text) Tell(Object) string { return string(t) }

// IsZero reports whether there is no raw data.
func (r Raw) IsZero() bool { return r.Words == nil && !r.HasBit && r.Object.By == nil }

// String writes the data as a person reads it: 0x41C8 0x0000, or 1.
func (r Raw) String() string {
	switch {
	case r.HasBit:
		return strconv.Itoa(int(r.Bit))
	case r.Words != nil:
		return strings.Join(r.hexWords(), " ")
	}
	return r.Object.String()
}

func (r Raw) hexWords() []string {
	hex := make([]string, len(r.Words))
	for i, w := range r.Words {
		hex[i] = fmt.Sprintf("0x%04X", w)
	}
	return hex
}

// rawJSON is the shape of Raw in JSON: {"words":["0x41C8"]}, {"bit":1} or {"object":"…"}.
type rawJSON struct {
	Words  []string `json:"words,omitempty"`
	Bit    *uint8   `json:"bit,omitempty"`
	Object string   `json:"object,omitempty"`
}

// MarshalJSON writes {"words":["0x41C8","0x0000"]}, {"bit":1}, {"object":"…"} or null.
func (r Raw) MarshalJSON() ([]byte, error) {
	switch {
	case r.IsZero():
		return []byte("null"), nil
	case r.HasBit:
		return json.Marshal(rawJSON{Bit: &r.Bit})
	case r.Words != nil:
		return json.Marshal(rawJSON{Words: r.hexWords()})
	}
	return json.Marshal(rawJSON{Object: r.Object.String()})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (r *Raw) UnmarshalJSON(b []byte) error {
	var shape rawJSON
	if err := json.Unmarshal(b, &shape); err != nil {
		return err
	}
	*r = Raw{}
	if shape.Object != "" {
		r.Object = Text(shape.Object)
	}
	if shape.Bit != nil {
		r.Bit, r.HasBit = *shape.Bit, true
	}
	for _, hex := range shape.Words {
		w, err := strconv.ParseUint(hex, 0, 16)
		if err != nil {
			return fmt.Errorf("raw word %q: %w", hex, err)
		}
		r.Words = append(r.Words, uint16(w))
	}
	return nil
}

// Reading is a point at one moment. The zero Reading is bad; NotRead makes one that says why.
type Reading struct {
	Value      codec.Value // engineering value; with a bad quality the last good one, or nothing when there was none
	Quality    Quality
	Reason     Reason
	Raw        Raw
	Time       time.Time // when this became known here
	SourceTime time.Time // the device's own, zero where it has none
	GoodTime   time.Time // when Value was last good or uncertain from the device; zero when it never was
}

// NotRead is the reading of a point that nothing was heard of yet.
func NotRead(at time.Time) Reading { return Reading{Reason: NeverRead, Time: at} }

// Failed is the reading after r when its point could not be read: bad, with the last good value kept and its age
// known from GoodTime.
func (r Reading) Failed(reason Reason, at time.Time) Reading {
	r.Quality, r.Reason, r.Time = Bad, reason, at
	return r
}

// Aged is r made uncertain because it is stale. Only good readings and those uncertain for a lesser reason age.
func (r Reading) Aged() Reading {
	if r.Quality != Bad {
		r.Quality, r.Reason = Uncertain, Stale
	}
	return r
}

// ShortName says a quality and its reason as a person reads it: good, bad (timeout).
func (r Reading) ShortName() string {
	if r.Reason == "" {
		return r.Quality.String()
	}
	return r.Quality.String() + " (" + string(r.Reason) + ")"
}
