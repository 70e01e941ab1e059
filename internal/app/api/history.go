package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/moment"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/samples"
	"arithmon/internal/live/engine"
	"arithmon/internal/record/history"
	"arithmon/internal/record/history/chunk"
)

// Sample is what was recorded of a point at one moment.
type Sample struct {
	Tag        string              `json:"tag"`
	Time       time.Time           `json:"time" doc:"the moment that it stands for: the device's own where that can be, otherwise when it came"`
	Value      codec.Value         `json:"value" doc:"null when it was bad"`
	Text       string              `json:"text" doc:"the value as a person would read it, without the unit"`
	Unit       string              `json:"unit"`
	Quality    reading.Quality     `json:"quality" enum:"good,uncertain,bad"`
	Reason     reading.Reason      `json:"reason" doc:"why the quality is not good; not-recorded: nothing was recorded from then on"`
	SourceTime *reading.DeviceTime `json:"source_time,omitempty" doc:"the device's own time, where it has one"`
	Imported   bool                `json:"imported,omitempty" doc:"true: it came from elsewhere, and was not read here"`
}

// Aggregate is what was known of a point in a stretch of time. A value holds from its sample to the next, or to where recording ended.
type Aggregate struct {
	Tag   string      `json:"tag"`
	Time  time.Time   `json:"time" doc:"when the stretch begins"`
	Mean  *float64    `json:"mean" doc:"of the value, by how long it held; null where none was known, or it has no number"`
	Min   *float64    `json:"min" doc:"least value that it had"`
	Max   *float64    `json:"max" doc:"most"`
	Last  codec.Value `json:"last" doc:"value at the end of the stretch; null when that was bad, or is not known"`
	Known float64     `json:"known" doc:"share of the stretch in which there was a value that was not bad, 0 to 1"`
	Count int         `json:"count" doc:"samples that are not bad"`
	Bad   int         `json:"bad" doc:"samples that are bad"`
}

// Numbers is a list of numbers, null where there is none.
type Numbers []float64

// MarshalJSON writes null for what is no number.
func (n Numbers) MarshalJSON() ([]byte, error) {
	b := append(make([]byte, 0, 8*len(n)+2), '[')
	for i, f := range n {
		if i > 0 {
			b = append(b, ',')
		}
		if math.IsNaN(f) || math.IsInf(f, 0) {
			b = append(b, "null"...)
		} else {
			b = strconv.AppendFloat(b, f, 'g', -1, 64)
		}
	}
	return append(b, ']'), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (n *Numbers) UnmarshalJSON(b []byte) error {
	var list []*float64
	if err := json.Unmarshal(b, &list); err != nil {
		return err
	}
	*n = make(Numbers, len(list))
	for i, f := range list {
		if (*n)[i] = math.NaN(); f != nil {
			(*n)[i] = *f
		}
	}
	return nil
}

// Plot is what was recorded of points over some time, in as many columns as it is drawn with.
type Plot struct {
	From   time.Time   `json:"from"`
	To     time.Time   `json:"to"`
	Step   int64       `json:"step" doc:"milliseconds of a column"`
	Series []Curve     `json:"series"`
	Gaps   []PlotGap   `json:"gaps" doc:"stretches in which not everything was recorded"`
	Faults []MonthFile `json:"faults" doc:"months of which something cannot be read"`
}

// Curve is one point of a Plot. A column that holds nothing is left out: the value stays what it was.
type Curve struct {
	Tag    string       `json:"tag"`
	Unit   string       `json:"unit"`
	States *site.States `json:"states,omitempty" doc:"names of its values; of a text, the texts that there were"`
	Times  []int64      `json:"times" doc:"when each column begins, in milliseconds since 1970"`
	Least  Numbers      `json:"least"`
	Most   Numbers      `json:"most"`
	Last   Numbers      `json:"last" doc:"at the end of the column; null where it was bad"`
	Bad    []int        `json:"bad" doc:"bad samples in each"`
	Count  int          `json:"count" doc:"samples in all columns"`
	Before *float64     `json:"before" doc:"value at the beginning, where it was good"`
	Live   bool         `json:"live" doc:"true: it is known what its value is until now"`
	Since  *time.Time   `json:"since,omitempty" doc:"it is not recorded; what is drawn is kept in memory since then, and forgotten once nobody looks"`
}

// PlotGap is a stretch in which not everything was recorded.
type PlotGap struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Why  string    `json:"why" enum:"stopped,behind" doc:"stopped: the service did not run; behind: the disk could not keep up, or was full"`
	Lost int64     `json:"lost,omitempty" doc:"samples that are missing, where that is known"`
}

// MonthFile is the file of a month.
type MonthFile struct {
	Month string     `json:"month" doc:"in UTC: 2026-11"`
	Bytes int64      `json:"bytes"`
	From  *time.Time `json:"from"`
	To    *time.Time `json:"to"`
	Fault string     `json:"fault,omitempty" doc:"why nothing, or not everything, is read from it"`
}

// RecordingState says how the recording goes.
type RecordingState struct {
	Points  int         `json:"points" doc:"points that are recorded now"`
	Series  int         `json:"series" doc:"points of which something was recorded, those that are gone included"`
	Samples int64       `json:"samples" doc:"taken since the service started"`
	Lost    int64       `json:"lost" doc:"of them, those that the disk could not keep up with"`
	Waiting int         `json:"waiting" doc:"bytes that are not on the disk yet"`
	Bytes   int64       `json:"bytes" doc:"of all files"`
	Fault   string      `json:"fault,omitempty" doc:"why nothing can be written now"`
	Since   *time.Time  `json:"since,omitempty" doc:"of the fault"`
	Files   []MonthFile `json:"files"`
}

// ImportedSamples is what an import of samples added.
type ImportedSamples struct {
	Rows  int      `json:"rows" doc:"samples in the file"`
	Added int      `json:"added" doc:"of them, those that were not there already"`
	Tags  []string `json:"tags"`
}

var (
	spanDoc      = ": now, a span before now such as 2h or 7d, 2026-11-28, or RFC 3339; without a zone in UTC"
	historyQuery = []parameter{{name: "tag", doc: "tag or pattern; may be repeated", many: true}, {name: "from", doc: "the beginning" + spanDoc + " (default 1h)"}, {name: "to", doc: "the end, which is not in it" + spanDoc + " (default now)"}}
)

func (s *Server) historyRoutes() []route {
	steps := []parameter{{name: "every", doc: "length of a stretch: 1s, 1m, 1h, 1d"}, {name: "zone", doc: "where hours and days begin: UTC (default), or one such as Europe/Berlin"}}
	return []route{
		{"GET", "/api/v1/history", viewerOfPart, "what was recorded of points, by tag and time", append(slices.Clone(historyQuery), paging...), nil, Page[Sample]{}, 200, s.samples},
		{"GET", "/api/v1/history/aggregates", viewerOfPart, "mean, least, most and last value in stretches of time, by tag and time", slices.Concat(historyQuery, steps, paging), nil, Page[Aggregate]{}, 200, s.aggregates},
		{"GET", "/api/v1/history/plot", viewerOfPart, "what was recorded of points, to be drawn: least and most of each column, and where nothing is known", append(slices.Clone(historyQuery), parameter{name: "pixels", doc: "columns (default 1000)", is: count(10000)}), nil, Plot{}, 200, s.plot},
		{"GET", "/api/v1/history/export", viewerOfPart, "what was recorded of points, as a file", append(slices.Clone(historyQuery), parameter{name: "form", doc: "csv (default), xlsx or parquet", is: choice(samples.Forms()...)}), nil, media("text/csv"), 200, s.exportSamples},
		{"POST", "/api/v1/history/import", engineer, "add samples from elsewhere: separated values or a spreadsheet with the columns tag, time, value, and quality and reason if wanted, or time and a column for each tag; all or nothing", []parameter{{name: "tag", doc: "of all samples, where the file has no column for it"}, {name: "zone", doc: "of times that do not say theirs: UTC (default), or one such as Europe/Berlin"}, {name: "dry_run", doc: "true: say what is wrong with the file", is: truth}}, media("text/csv"), ImportedSamples{}, 200, s.importSamples},
		{"GET", "/api/v1/history/recording", viewer, "how the recording goes, and what files there are", nil, nil, RecordingState{}, 200, s.recordingState},
		{"DELETE", "/api/v1/history/months/:name", admin, "remove what was recorded in a month, or say that a month that is missing is meant to be", nil, nil, nil, 204, s.removeMonth},
	}
}

// span reads from and to.
func span(c *gin.Context) (history.Span, error) {
	now := time.Now()
	read := func(name, usual string) (int64, error) {
		t, err := moment.Parse(c.DefaultQuery(name, usual), now, time.UTC)
		if err != nil {
			return 0, fail(http.StatusBadRequest, "%s=%s: %s", name, c.Query(name), err)
		}
		return t.UnixMilli(), nil
	}
	from, err := read("from", "1h")
	if err != nil {
		return history.Span{}, err
	}
	to, err := read("to", "now")
	if err != nil {
		return history.Span{}, err
	}
	if c.DefaultQuery("to", "now") == "now" {
		to++ // what came this moment is in it
	}
	if from >= to {
		return history.Span{}, fail(http.StatusBadRequest, "from=%s is not before to=%s", c.DefaultQuery("from", "1h"), c.DefaultQuery("to", "now"))
	}
	return history.Span{From: from, To: to}, nil
}

// mostDrawn is how many points are drawn at once.
const mostDrawn = 100

// recordedOf lists what was recorded of the points that the query names, by tag. A tag that is neither a point nor was one is an error.
func (s *Server) recordedOf(c *gin.Context) ([]history.Series, error) {
	now, only, sees := s.site(c), principal(c).Only, s.seesOwn(c)
	patterns := slices.DeleteFunc(slices.Clone(c.QueryArray("tag")), func(p string) bool { return p == "" })
	if len(patterns) == 0 {
		return nil, fail(http.StatusBadRequest, "tag is missing: name at least one tag or pattern, such as tag=tern/*")
	}
	list := s.kept.Find(func(tag string) bool {
		if !slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, tag) }) {
			return false
		}
		_, seen := now.Point(tag)
		return seen || only.Tag(tag, "") || sees(tag)
	})
	for _, p := range patterns {
		if site.IsPattern(p) || slices.ContainsFunc(list, func(x history.Series) bool { return site.Match(p, x.Tag) }) {
			continue
		}
		if _, is := now.Point(p); !is && !strings.HasPrefix(p, site.Own) {
			return nil, notFound(now, site.KindPoint, p)
		}
	}
	return list, nil
}

// teller says values of a series as its point does.
type teller struct {
	unit       string
	conversion *site.Conversion
	point      *site.Point
}

func tellerOf(now *site.Site, tag string) teller {
	p, ok := now.Point(tag)
	if !ok {
		return teller{unit: engine.OwnUnit(tag)}
	}
	conversion := p.Conversion()
	return teller{p.Unit, &conversion, &p}
}

func (t *teller) text(v codec.Value) string {
	switch {
	case v.IsZero():
		return ""
	case t.conversion == nil:
		return v.String()
	}
	return t.conversion.Text(v)
}

func newSample(tag string, tell *teller, x history.Recorded) Sample {
	out := Sample{Tag: tag, Time: x.At(), Value: x.Value, Text: tell.text(x.Value), Unit: tell.unit, Quality: x.Quality, Reason: x.Reason, Imported: x.Imported}
	if x.Source != chunk.NoTime {
		out.SourceTime = deviceTime(time.UnixMilli(x.Source))
	}
	return out
}

// samples lists what was recorded.
func (s *Server) samples(c *gin.Context) error {
	window, err := span(c)
	if err != nil {
		return err
	}
	limit, after, err := page(c)
	if err != nil {
		return err
	}
	list, err := s.recordedOf(c)
	if err != nil {
		return err
	}
	var from string // tag that the page begins with
	var at, skip int64
	if after != "" {
		parts := strings.Split(after, "\x00")
		if len(parts) != 3 {
			return fail(http.StatusBadRequest, "cursor=%s: it is of another list", c.Query("cursor"))
		}
		from = parts[0]
		at, _ = strconv.ParseInt(parts[1], 10, 64) // made here, and has a checksum
		skip, _ = strconv.ParseInt(parts[2], 10, 64)
	}
	out := Page[Sample]{Items: []Sample{}}
	now := s.site(c)
	for _, series := range list {
		if series.Tag < from {
			continue
		}
		of, skipped := window, int64(0)
		if series.Tag == from {
			of.From, skipped = max(at, window.From), skip
		}
		tell := tellerOf(now, series.Tag)
		last, same := int64(math.MinInt64), int64(0) // time of the sample before, and how many had it
		if err := s.kept.Each(c.Request.Context(), series.ID, of, func(x history.Recorded) bool {
			if x.Time != last {
				last, same = x.Time, 0
			}
			if same++; series.Tag == from && x.Time == at && same <= skipped {
				return true
			}
			if len(out.Items) == limit {
				out.Next = cursorOf(fmt.Sprintf("%s\x00%d\x00%d", series.Tag, x.Time, same-1))
				return false
			}
			out.Items = append(out.Items, newSample(series.Tag, &tell, x))
			return true
		}); err != nil {
			return fmt.Errorf("reading the history of %s: %w", series.Tag, err)
		}
		if out.Next != "" {
			break
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// shortest is the shortest stretch of aggregates, in milliseconds.
const shortest = 100

// mostStretches is how many there are in one request at most, on all of its pages.
const mostStretches = 10_000_000

// aggregates lists what was known in stretches of time.
func (s *Server) aggregates(c *gin.Context) error {
	window, err := span(c)
	if err != nil {
		return err
	}
	length, err := moment.Span(c.Query("every"))
	if err != nil || length.Milliseconds() < shortest {
		return fail(http.StatusBadRequest, "every=%s: the length of a stretch is needed, 100ms or more: 1s, 1m, 1h, 1d", c.Query("every"))
	}
	if n := (window.To - window.From) / length.Milliseconds(); n > mostStretches {
		return fail(http.StatusBadRequest, "every=%s: these are %d stretches; at most %d are looked at: ask for longer ones, or for less time", c.Query("every"), n, mostStretches)
	}
	zone, err := zoneOf(c)
	if err != nil {
		return err
	}
	steps := moment.Steps{Each: length, In: zone}
	limit, after, err := page(c)
	if err != nil {
		return err
	}
	list, err := s.recordedOf(c)
	if err != nil {
		return err
	}
	from, at, _ := strings.Cut(after, "\x00")
	out := Page[Aggregate]{Items: []Aggregate{}}
	for _, series := range list {
		if series.Tag < from {
			continue
		}
		next := steps.Begin(time.UnixMilli(window.From)) // stretches begin at whole ones
		if series.Tag == from {
			begin, _ := strconv.ParseInt(at, 10, 64) // made here, and has a checksum
			next = time.UnixMilli(begin)
		}
		for next.UnixMilli() < window.To {
			room := limit - len(out.Items)
			if room <= 0 {
				out.Next = cursorOf(fmt.Sprintf("%s\x00%d", series.Tag, next.UnixMilli()))
				break
			}
			bounds := []int64{next.UnixMilli()}
			for len(bounds) <= room && next.UnixMilli() < window.To {
				next = steps.Next(next)
				bounds = append(bounds, min(next.UnixMilli(), window.To))
			}
			stretches, err := s.kept.Stretches(c.Request.Context(), series.ID, bounds, time.Now().UnixMilli())
			if err != nil {
				return fmt.Errorf("reading the history of %s: %w", series.Tag, err)
			}
			for _, x := range stretches {
				out.Items = append(out.Items, Aggregate{Tag: series.Tag, Time: time.UnixMilli(x.From).UTC(), Mean: finite(x.Mean), Min: finite(x.Least), Max: finite(x.Most),
					Last: x.Last, Known: math.Round(float64(x.Known)/float64(x.To-x.From)*1e6) / 1e6, Count: x.Count, Bad: x.Bad})
			}
		}
		if out.Next != "" {
			break
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// zoneOf reads the zone of a request.
func zoneOf(c *gin.Context) (*time.Location, error) {
	zone, err := time.LoadLocation(c.DefaultQuery("zone", "UTC"))
	if err != nil {
		return nil, fail(http.StatusBadRequest, "zone=%s: no such time zone; write UTC, or one such as Europe/Berlin", c.Query("zone"))
	}
	return zone, nil
}

func finite(f float64) *float64 {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return nil
	}
	return &f
}

// plot gives what was recorded, to be drawn.
func (s *Server) plot(c *gin.Context) error {
	window, err := span(c)
	if err != nil {
		return err
	}
	list, err := s.recordedOf(c)
	if err != nil {
		return err
	}
	list = s.withUnrecorded(c, list)
	if len(list) > mostDrawn {
		return fail(http.StatusBadRequest, "%d points; at most %d are drawn at once: name fewer", len(list), mostDrawn)
	}
	s.recent.Look(s.unrecorded(list), time.Now())
	pixels := int64(1000)
	if text := c.Query("pixels"); text != "" {
		pixels, _ = strconv.ParseInt(text, 10, 64) // the query was checked
	}
	each := max(1, (window.To-window.From+pixels-1)/pixels)
	ctx, now := c.Request.Context(), s.site(c)
	out := Plot{From: time.UnixMilli(window.From).UTC(), To: time.UnixMilli(window.To).UTC(), Step: each, Series: []Curve{}, Gaps: []PlotGap{}, Faults: []MonthFile{}}
	for _, series := range list {
		curve, err := s.curve(ctx, now, series, window, each)
		if err != nil {
			return fmt.Errorf("reading the history of %s: %w", series.Tag, err)
		}
		out.Series = append(out.Series, curve)
	}
	gaps, err := s.kept.Gaps(ctx, window)
	if err != nil {
		return fmt.Errorf("reading the history: %w", err)
	}
	for _, g := range gaps {
		out.Gaps = append(out.Gaps, PlotGap{time.UnixMilli(g.From).UTC(), time.UnixMilli(g.To).UTC(), g.Why, g.Lost})
	}
	for _, f := range monthFiles(s.kept.Figures().Files) {
		if f.Fault != "" {
			out.Faults = append(out.Faults, f)
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// withUnrecorded adds to series the points that a query names one by one and of which nothing was ever recorded. They have no number.
func (s *Server) withUnrecorded(c *gin.Context, list []history.Series) []history.Series {
	now, sees := s.site(c), s.seesOwn(c)
	for _, tag := range c.QueryArray("tag") {
		known := slices.ContainsFunc(list, func(x history.Series) bool { return x.Tag == tag })
		if _, is := now.Point(tag); !known && (is || sees(tag) && s.engine.Known(tag)) {
			list = append(list, history.Series{Tag: tag})
		}
	}
	return list
}

// unrecorded are the tags of series that are not recorded now, of points that there are.
func (s *Server) unrecorded(list []history.Series) (tags []string) {
	for _, x := range list {
		if !s.recorder.Records(x.Tag) && s.engine.Known(x.Tag) {
			tags = append(tags, x.Tag)
		}
	}
	return tags
}

// curve is how a series went: as it was recorded, and as it is kept in memory where it is not.
func (s *Server) curve(ctx context.Context, now *site.Site, series history.Series, window history.Span, each int64) (Curve, error) {
	var buckets []history.Bucket
	var before codec.Value
	if series.ID != 0 {
		var err error
		if buckets, err = s.kept.Buckets(ctx, series.ID, window, each); err != nil {
			return Curve{}, err
		}
		if before, err = s.kept.Held(ctx, series.ID, window.From, max(window.To-window.From, beforeAtLeast)); err != nil {
			return Curve{}, err
		}
	}
	tell := tellerOf(now, series.Tag)
	curve := Curve{Tag: series.Tag, Unit: tell.unit, Live: s.recorder.Records(series.Tag)}
	if chunks, since := s.recent.Of(series.Tag); !curve.Live && !since.IsZero() {
		buckets = append(buckets, history.Columns(chunks, window, each)...)
		slices.SortStableFunc(buckets, func(a, b history.Bucket) int { return cmp.Compare(a.From, b.From) })
		if value, ok := history.At(chunks, window.From); ok {
			before = value
		}
		curve.Live, curve.Since = true, when(since)
	}
	if tell.conversion != nil {
		if names := tell.conversion.States(); len(names) > 0 {
			curve.States = &names
		}
	}
	curve.draw(buckets, before)
	return curve, nil
}

// draw fills in the columns, and what it was before them. Texts are numbered.
func (c *Curve) draw(buckets []history.Bucket, before codec.Value) {
	n := len(buckets)
	c.Times, c.Least, c.Most, c.Last, c.Bad = make([]int64, n), make(Numbers, n), make(Numbers, n), make(Numbers, n), make([]int, n)
	texts := map[string]int64{}
	number := func(v codec.Value) float64 {
		if v.Kind() == codec.Text {
			if _, known := texts[v.Text()]; !known {
				texts[v.Text()] = int64(len(texts))
			}
			return float64(texts[v.Text()])
		}
		if f, ok := v.Float(); ok {
			return f
		}
		return math.NaN()
	}
	c.Before = finite(number(before))
	for i, b := range buckets {
		c.Times[i], c.Least[i], c.Most[i], c.Last[i], c.Bad[i] = b.From, b.Least, b.Most, number(b.Last), b.Bad
		if b.Last.Kind() == codec.Text {
			c.Least[i], c.Most[i] = c.Last[i], c.Last[i]
		}
		c.Count += b.Count + b.Bad + b.Other
	}
	if len(texts) > 0 {
		names := site.States{}
		for text, n := range texts {
			names[n] = text
		}
		c.States = &names
	}
}

// beforeAtLeast is how far back it is looked for the value that a plot begins with, in milliseconds.
const beforeAtLeast = 25 * 3600_000

func monthFiles(files []history.File) []MonthFile {
	return each(files, func(f history.File) MonthFile { return MonthFile{f.Month, f.Bytes, when(f.From), when(f.To), f.Fault} })
}
