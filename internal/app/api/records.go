package api

import (
	"encoding/json"
	"math"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/record/store"
)

// What the API says of records, findings and tests. These types are the API's own, made from the inner ones here and nowhere else, so that a
// name that changes inside breaks no client.

// Record is one recorded change of the site.
type Record struct {
	ID      int64           `json:"id"`
	Batch   int64           `json:"batch" doc:"id of the first change that was made together with this one"`
	Time    time.Time       `json:"time"`
	Who     string          `json:"who"`
	Kind    site.Kind       `json:"kind" enum:"template,link,station,point,board"`
	Action  site.Action     `json:"action" enum:"add,change,remove"`
	Name    string          `json:"name"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
	Message string          `json:"message,omitempty" doc:"what was said of the change set; with the first of its changes"`
}

// WriteRecord is one recorded write to a device.
type WriteRecord struct {
	ID      int64       `json:"id"`
	Time    time.Time   `json:"time"`
	Who     string      `json:"who"`
	Tag     string      `json:"tag" doc:"empty for addresses without a point"`
	Station string      `json:"station" doc:"empty in records of before version 2"`
	Address string      `json:"address" doc:"canonical, the first"`
	Outcome string      `json:"outcome" enum:"done,refused,differs,unknown"`
	Tried   string      `json:"tried" doc:"what was to be written, as a person reads it, with its unit"`
	Before  codec.Value `json:"before"`
	Sent    codec.Value `json:"sent"`
	After   codec.Value `json:"after"`
	Message string      `json:"message"`
}

// Quarantined is a record that did not fit the site when it was loaded. It is kept as it was, and the rest runs.
type Quarantined struct {
	Time time.Time `json:"time"`
	Kind site.Kind `json:"kind" enum:"template,link,station,point,board"`
	Name string    `json:"name"`
	Body string    `json:"body" doc:"as it was stored"`
	Why  string    `json:"why" doc:"why it does not fit, in words"`
}

// EventRecord is a change that a device reported.
type EventRecord struct {
	ID         uint64              `json:"id" doc:"counts up; one that is missing was lost"`
	Tag        string              `json:"tag"`
	Station    string              `json:"station"`
	Value      codec.Value         `json:"value"`
	Text       string              `json:"text" doc:"as a person would read it"`
	Unit       string              `json:"unit,omitempty"`
	Quality    reading.Quality     `json:"quality" enum:"good,uncertain,bad"`
	Reason     reading.Reason      `json:"reason,omitempty"`
	Raw        string              `json:"raw" doc:"the object, with its flags"`
	Time       time.Time           `json:"time" doc:"when it became known"`
	SourceTime *reading.DeviceTime `json:"source_time,omitempty" doc:"the device's own"`
}

// Test is what a station answered to a request for any sign of life.
type Test struct {
	Answers     bool    `json:"answers"`
	Message     string  `json:"message" doc:"what was asked and what came back, in words"`
	RoundTripMS float64 `json:"round_trip_ms"`
}

// Recording is the state of a recorder.
type Recording struct {
	Running bool      `json:"running"`
	File    string    `json:"file,omitempty" doc:"on the service's machine"`
	Link    string    `json:"link,omitempty" doc:"the only link that is recorded (default all)"`
	Since   time.Time `json:"since,omitzero"`
	Frames  uint64    `json:"frames"`
	Bytes   int64     `json:"bytes"`
	Limit   int64     `json:"limit"`
	Dropped uint64    `json:"dropped" doc:"frames that came faster than the disk took them"`
	Ended   string    `json:"ended,omitempty" doc:"why it ended"`
}

// Finding is a conclusion.
type Finding struct {
	Code      diagnose.Code  `json:"code"`
	Subject   string         `json:"subject" doc:"name of the link or station, or tag of the point, that it is about; of kind service, a part of it: history"`
	Kind      site.Kind      `json:"kind" enum:"link,station,point,service"`
	Since     time.Time      `json:"since"`
	Certainty float64        `json:"certainty" doc:"0 to 1"`
	Cause     string         `json:"cause" doc:"what is likely wrong, in a sentence a person can act on"`
	Sentence  string         `json:"sentence" doc:"which sentence cause is, so that it can be said in another language"`
	With      map[string]any `json:"with" doc:"what the sentence names"`
	Evidence  []string       `json:"evidence" doc:"what was seen: counts, times, frames"`
	Next      []Step         `json:"next" doc:"what to try, most promising first"`
	Drawn     []Drawing      `json:"drawn,omitempty" doc:"of values that are read wrongly, some: how each went, and would have gone after the first step"`
}

// Drawing is how a value went, as it is set and as it would be.
type Drawing struct {
	Tag   string      `json:"tag"`
	Unit  string      `json:"unit,omitempty"`
	Times []time.Time `json:"times"`
	Shows []*float64  `json:"shows" doc:"null: no value"`
	Would []*float64  `json:"would,omitempty" doc:"likewise; absent where no step is known"`
}

// Step is something to try.
type Step struct {
	Text    string      `json:"text"`
	Change  *Change     `json:"change,omitempty" doc:"the settings that do it; the first of changes"`
	Changes []Change    `json:"changes,omitempty" doc:"all of them, which POST /api/v1/findings/take makes together"`
	Action  *StepAction `json:"action,omitempty" doc:"or what is asked of the service"`
}

// StepAction is something that a step asks of the service.
type StepAction struct {
	Verb    diagnose.Verb `json:"verb" enum:"scan,scan-settings,probe,ports,traffic,frames,wrong-frames,refresh,set-time,explain"`
	Subject string        `json:"subject" doc:"a link, a station or a word"`
}

// Change is a change of settings that mends something.
type Change struct {
	Kind   site.Kind      `json:"kind" enum:"link,station,point"`
	Name   string         `json:"name"`
	Fields map[string]any `json:"fields" doc:"as for PATCH of the entity"`
}

// each makes a list of another.
func each[A, B any](list []A, f func(A) B) []B {
	out := make([]B, len(list))
	for i, a := range list {
		out[i] = f(a)
	}
	return out
}

func newRecord(r store.Record) Record { return Record(r) }
func newWriteRecord(r store.WriteRecord) WriteRecord {
	return WriteRecord{r.ID, r.Time, r.Who, r.Tag, r.Station, r.Address, r.Outcome, r.Tried, r.Before, r.Sent, r.After, r.Message}
}
func newQuarantined(q store.Quarantined) Quarantined { return Quarantined(q) }
func newEventRecord(e store.EventRecord) EventRecord { return EventRecord(e) }

func newFinding(f diagnose.Finding) Finding {
	return Finding{f.Code, f.Subject, f.Kind, f.Since, f.Certainty, f.Cause.String(), f.Cause.Sentence, f.Cause.With, f.Evidence, each(f.Next, newStep), each(f.Drawn, newDrawing)}
}

func newDrawing(d diagnose.Drawing) Drawing {
	number := func(f float64) *float64 {
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return nil // JSON has none
		}
		return &f
	}
	return Drawing{d.Tag, d.Unit, each(d.Secs, func(sec uint32) time.Time { return time.Unix(int64(sec), 0).UTC() }), each(d.Shows, number), each(d.Would, number)}
}

func newStep(s diagnose.Step) Step {
	step := Step{Text: s.Text}
	if len(s.Changes) > 0 {
		step.Changes = each(s.Changes, func(c diagnose.Change) Change { return Change(c) })
		step.Change = &step.Changes[0]
	}
	if s.Action != nil {
		action := StepAction(*s.Action)
		step.Action = &action
	}
	return step
}
