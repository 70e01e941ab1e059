package api

import (
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/form"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/table"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/modbus"
)

// Reading is a point's reading as programs get it.
type Reading struct {
	Tag         string              `json:"tag"`
	Value       codec.Value         `json:"value" doc:"engineering value; with a bad quality the last good one; null when never read"`
	Text        string              `json:"text" doc:"the value as a person would read it, without the unit"`
	Unit        string              `json:"unit"`
	Quality     reading.Quality     `json:"quality" enum:"good,uncertain,bad"`
	Reason      reading.Reason      `json:"reason" doc:"why the quality is not good; empty when it is"`
	Explanation string              `json:"explanation,omitempty" doc:"the reason in words"`
	Raw         reading.Raw         `json:"raw" doc:"wire data: words, bit or object; null when never read"`
	Time        *time.Time          `json:"time" doc:"when this became known; UTC"`
	SourceTime  *reading.DeviceTime `json:"source_time" doc:"the device's own time, null where it has none"`
	GoodTime    *time.Time          `json:"good_time" doc:"when the value came from the device; for a bad reading, how old the last good value is"`
}

func newReading(l table.Live) Reading {
	r := l.Reading
	return Reading{
		Tag: l.Point.Tag, Value: r.Value, Text: l.Text(), Unit: l.Point.Unit, Quality: r.Quality, Reason: r.Reason,
		Explanation: explain(r.Reason), Raw: r.Raw, Time: when(r.Time), SourceTime: deviceTime(r.SourceTime), GoodTime: when(r.GoodTime),
	}
}

func when(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC().Truncate(time.Millisecond)
	return &t
}

// deviceTime is a time of a device, nil where it gave none.
func deviceTime(t time.Time) *reading.DeviceTime {
	if t.IsZero() {
		return nil
	}
	return &reading.DeviceTime{Time: t.UTC()}
}

// explain says a reason in words.
func explain(reason reading.Reason) string {
	if code, ok := reason.Exception(); ok {
		return "the device refused: " + modbus.Exception(code).Error()
	}
	return reason.Explain()
}

// Point is a point as programs get it: its address as its station's notation has it, and what that means.
type Point struct {
	form.PointEntry
	Canonical string `json:"canonical" doc:"the address as on the wire: hr:9"`
	Meaning   string `json:"meaning" doc:"the address in words"`
}

func newPoint(p site.Point, s site.Station) Point {
	out := Point{PointEntry: form.PointEntry{Address: p.Address.Format(s.Convention()), ReadBack: p.ReadBack.Format(s.Convention()), Point: p}}
	out.Canonical, out.Meaning = p.Address.String(), p.Address.Meaning()
	return out
}

// Page is a part of a list.
type Page[E any] struct {
	Items []E    `json:"items"`
	Next  string `json:"next,omitempty" doc:"cursor of the next page; absent on the last"`
}

// ChangeSummary is what a modification did, or would do.
type ChangeSummary struct {
	DryRun   bool         `json:"dry_run"`
	Proposal int64        `json:"proposal,omitempty" doc:"the number of the proposal that the changes became; nothing was changed then"`
	Added    int          `json:"added"`
	Changed  int          `json:"changed"`
	Removed  int          `json:"removed"`
	Warnings []string     `json:"warnings,omitempty" doc:"what is allowed and yet seldom meant"`
	Changes  []ChangeLine `json:"changes"`
}

// ChangeLine is one entity that was modified.
type ChangeLine struct {
	Action site.Action `json:"action" enum:"add,change,remove"`
	Kind   site.Kind   `json:"kind" enum:"template,link,station,point,board"`
	Name   string      `json:"name"`
	Fields []string    `json:"fields,omitempty" doc:"what differs, of a changed entity"`
}

// WriteRequest is a value for a point.
type WriteRequest struct {
	Tag   string      `json:"tag"`
	Value codec.Value `json:"value" doc:"number, boolean, text, or the name of a state"`
}

// WriteResult is how a write ended.
type WriteResult struct {
	Tag     string          `json:"tag"`
	Outcome control.Outcome `json:"outcome" enum:"done,refused,differs,unknown"`
	Before  codec.Value     `json:"before"`
	Sent    codec.Value     `json:"sent"`
	After   codec.Value     `json:"after"`
	Message string          `json:"message"`

	NotAllowed bool `json:"not_allowed,omitempty" doc:"refused because the point may not be written"`
}

// RangeWrite is values for addresses that no point needs to have.
type RangeWrite struct {
	Range  string        `json:"range" doc:"hr:0..3, or the first address alone"`
	Values []codec.Value `json:"values" doc:"one for each value that fits the range"`
	Type   codec.Type    `json:"type,omitempty" doc:"data type of the values (default uint16 in registers)" enum:"bool,int8,uint8,int16,uint16,int32,uint32,int64,uint64,float32,float64,bcd16,bcd32,string,bits"`
	Order  codec.Order   `json:"order,omitempty" doc:"byte order (default the station's)" enum:"ABCD,CDAB,BADC,DCBA"`
	Length int           `json:"length,omitempty" doc:"string: characters"`
}

// RangeResult is how writing to addresses ended.
type RangeResult struct {
	Station string          `json:"station"`
	Address string          `json:"address" doc:"canonical, the first"`
	Outcome control.Outcome `json:"outcome" enum:"done,refused,differs,unknown"`
	Before  []codec.Value   `json:"before"`
	Sent    []codec.Value   `json:"sent"`
	After   []codec.Value   `json:"after"`
	Message string          `json:"message"`

	NotAllowed bool `json:"not_allowed,omitempty" doc:"refused because a point that is there may not be written"`
}

// Copy is the name of a duplicate.
type Copy struct {
	Name string `json:"name" doc:"of the copy"`
}

// ProbeRequest says what to probe: a station, a unit of a link, or a unit at a far end that is no link yet.
type ProbeRequest struct {
	Station string     `json:"station,omitempty" doc:"of the site"`
	Link    string     `json:"link,omitempty" doc:"of the site"`
	At      *site.Link `json:"at,omitempty" doc:"a far end that is no link of the site: {transport: tcp, host: 192.0.2.7}"`
	Unit    *int       `json:"unit,omitempty" doc:"or link address of an outstation (default the station's, otherwise 1)"`
	Master  *int       `json:"master,omitempty" doc:"DNP3: link address of this end (default the station's, otherwise 1)"`
}

// Findings are conclusions about communication.
type Findings struct {
	Items    []Finding `json:"items"`
	Watching []Watch   `json:"watching" doc:"stations without a good point of which too little is known yet to say why"`
	Taken    []Mending `json:"taken" doc:"steps that were taken within ten minutes, and what came of each, the newest first"`
	Next     string    `json:"next,omitempty" doc:"cursor of the next page; absent on the last"`
}

// Mending is a step of a finding that was taken, and what came of it.
type Mending struct {
	Code    diagnose.Code    `json:"code"`
	Subject string           `json:"subject"`
	Kind    site.Kind        `json:"kind" enum:"link,station,point"`
	Step    string           `json:"step"`
	Time    time.Time        `json:"time" doc:"when it was taken"`
	Change  int64            `json:"change" doc:"number of the first recorded change that it was; undoing that takes the step back"`
	State   engine.MendState `json:"state" enum:"checking,mended,not-mended,taken-back"`
	Text    string           `json:"text"`
}

func newMending(m engine.Mending) Mending {
	return Mending{m.Finding.Code, m.Finding.Subject, m.Finding.Kind, m.Step, m.Taken.UTC(), m.Change, m.State, m.Text}
}

// Watch is a station that is watched until there is enough evidence.
type Watch struct {
	Station string `json:"station"`
	Bad     int    `json:"bad" doc:"of its points: all of them"`
	Seconds int    `json:"seconds" doc:"until there is enough evidence"`
	Text    string `json:"text" doc:"this in words"`
}

func newWatch(w diagnose.Watch) Watch {
	return Watch{w.Station, w.Bad, int(w.Left.Round(time.Second) / time.Second), w.String()}
}

// TrafficPage is a part of what crossed the links.
type TrafficPage struct {
	Frames []TrafficFrame `json:"frames"`
	Last   uint64         `json:"last" doc:"number of the newest frame; give it as after to get what comes then"`
}

// TrafficFrame is one frame.
type TrafficFrame struct {
	Seq     uint64       `json:"seq" doc:"in the order of all links"`
	Time    time.Time    `json:"time"`
	Link    string       `json:"link"`
	Station string       `json:"station,omitempty"`
	Unit    int          `json:"unit"`
	Kind    traffic.Kind `json:"kind" enum:"request,answer,late,foreign,stray,damaged,echo,timeout,closed,report"`
	AfterMS float64      `json:"after_ms,omitempty" doc:"of a response: since its request"`
	Bytes   string       `json:"bytes" doc:"as on the wire, in hex"`
	Summary string       `json:"summary" doc:"what it says, in a line"`
	Problem string       `json:"problem,omitempty" doc:"what is wrong with it"`
	Fields  []FrameField `json:"fields,omitempty" doc:"down to the field, where they were asked for"`
}

// FrameField is one field of a frame.
type FrameField struct {
	Name  string   `json:"name"`
	Value string   `json:"value"`
	At    int      `json:"at" doc:"its first byte in the frame, from 0"`
	Bytes int      `json:"bytes" doc:"0 when it began in a frame before"`
	Tags  []string `json:"tags,omitempty" doc:"the points that are there"`
}

// RecordRequest says what is recorded.
type RecordRequest struct {
	Link    string `json:"link,omitempty" doc:"only this link (default all)"`
	LimitMB int    `json:"limit_mb,omitempty" doc:"size at which it ends, 1 to 10000 (default 100)"`
}

// AddressMeaning is what a typed address means.
type AddressMeaning struct {
	Address   string `json:"address" doc:"in the station's notation"`
	Canonical string `json:"canonical" doc:"as on the wire: hr:9"`
	Meaning   string `json:"meaning" doc:"in words"`
	Count     int    `json:"count" doc:"how many addresses it names, from that one on: 2 of 40010-40011"`
}

// RawReading is one address that was read without a point.
type RawReading struct {
	Address string      `json:"address" doc:"canonical"`
	Shown   string      `json:"shown" doc:"in the station's notation"`
	Value   codec.Value `json:"value" doc:"a register as uint16, or a bit"`
	Signed  *int16      `json:"signed,omitempty" doc:"the register as int16"`
	Raw     reading.Raw `json:"raw"`
	Problem string      `json:"problem,omitempty" doc:"why it could not be read, while others of the range could"`
}

// Lens is a point's raw data under every interpretation.
type Lens struct {
	Tag     string    `json:"tag"`
	Address string    `json:"address" doc:"canonical, of the first word"`
	Words   []string  `json:"words" doc:"as on the wire, in hex"`
	Rows    []LensRow `json:"rows"`
}

// LensRow is one interpretation.
type LensRow struct {
	Type      codec.Type  `json:"type"`
	Order     codec.Order `json:"order"`
	Value     codec.Value `json:"value" doc:"raw value; null when these words are none"`
	Text      string      `json:"text" doc:"the value with the point's scaling"`
	Problem   string      `json:"problem,omitempty" doc:"why these words are no value of this type"`
	Plausible bool        `json:"plausible" doc:"false for values that are implausible in a plant"`
	Current   bool        `json:"current" doc:"this is how the point is read now"`
}

// Status is the state of communication.
type Status struct {
	Links    []LinkStatus    `json:"links"`
	Stations []StationStatus `json:"stations"`
}

// LiveMessage is what the WebSocket sends.
type LiveMessage struct {
	Readings []Reading `json:"readings"`
	Removed  []string  `json:"removed,omitempty" doc:"tags of points that are gone"`
}

// LiveRequest is what a client sends over the WebSocket to follow other tags from then on.
type LiveRequest struct {
	Tags []string `json:"tags" doc:"tags or patterns, * for any characters"`
}

// Problem is an RFC 9457 problem document.
type Problem struct {
	Type      string         `json:"type"`
	Title     string         `json:"title"`
	Status    int            `json:"status"`
	Detail    string         `json:"detail"`
	Errors    []ProblemField `json:"errors,omitempty" doc:"one entry a wrong field"`
	Conflicts []Conflict     `json:"conflicts,omitempty" doc:"what others changed meanwhile, otherwise than the request does"`
	Near      []string       `json:"near,omitempty" doc:"the names most like one that was not found"`
}

// ProblemField is one wrong field.
type ProblemField struct {
	Subject string `json:"subject,omitempty" doc:"kind and name of the entity"`
	Field   string `json:"field"`
	Value   string `json:"value"`
	Message string `json:"message"`
	Line    int    `json:"line,omitempty" doc:"in the file, from 1"`
}

// Changes and writes as recorded.
type (
	changePage = Page[Record]
	writePage  = Page[WriteRecord]
)
