package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/samples"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/history"
	"arithmon/internal/record/history/chunk"
)

// exportSamples writes what was recorded to a file.
func (s *Server) exportSamples(c *gin.Context) error {
	window, err := span(c)
	if err != nil {
		return err
	}
	list, err := s.recordedOf(c)
	if err != nil {
		return err
	}
	form := samples.Form(c.DefaultQuery("form", string(samples.CSV)))
	if err := s.enter(c, audit.Export, "history", strings.Join(c.QueryArray("tag"), ", ")); err != nil {
		return err
	}
	c.Header("Content-Type", form.Media())
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "history."+string(form)))
	w, err := samples.NewWriter(c.Writer, form)
	if err == nil {
		err = s.writeSamples(c, w, list, window)
	}
	if err != nil && c.Writer.Written() {
		panic(http.ErrAbortHandler) // half a file must not pass for a whole one
	}
	return err
}

func (s *Server) writeSamples(c *gin.Context, w samples.Writer, list []history.Series, window history.Span) error {
	now := s.site(c)
	for _, series := range list {
		tell := tellerOf(now, series.Tag)
		var failed error
		if err := s.kept.Each(c.Request.Context(), series.ID, window, func(x history.Recorded) bool {
			failed = w.Write(SampleRow(newSample(series.Tag, &tell, x)))
			return failed == nil
		}); err != nil || failed != nil {
			return errors.Join(err, failed)
		}
	}
	return w.Close()
}

// SampleRow is a sample as it stands in files.
func SampleRow(x Sample) samples.Row {
	row := samples.Row{Tag: x.Tag, Time: x.Time, Value: x.Value, Text: x.Text, Unit: x.Unit, Quality: x.Quality.String(), Reason: string(x.Reason)}
	if x.SourceTime != nil {
		row.Source = x.SourceTime.String()
	}
	return row
}

// importSamples adds samples from elsewhere.
func (s *Server) importSamples(c *gin.Context) error {
	zone, err := zoneOf(c)
	if err != nil {
		return err
	}
	data, err := body(c, sheet.MostBytes)
	if err != nil {
		return err
	}
	list, faults, err := samples.Read(data, c.Query("tag"), zone)
	if err != nil {
		return fail(http.StatusUnprocessableEntity, "%s", err)
	}
	now := s.store.Site()
	tags := map[string][]chunk.Sample{}
	for _, x := range list {
		if why := site.CheckTag(x.Tag); why != "" {
			faults = append(faults, samples.Fault{Column: "tag", Value: x.Tag, Message: why})
			continue
		}
		tags[x.Tag] = append(tags[x.Tag], chunk.Sample{Time: x.Time.UnixMilli(), Source: chunk.NoTime, Value: x.Value, Quality: x.Quality, Reason: x.Reason})
	}
	if len(faults) > 0 {
		var problem site.Errors
		for _, f := range faults[:min(len(faults), site.MaxFaults)] {
			problem = append(problem, &site.FieldError{Name: strings.TrimSpace(f.Sheet), Field: f.Column, Value: f.Value, Line: f.Row, Message: f.Message})
		}
		return problem
	}
	out := ImportedSamples{Rows: len(list), Tags: []string{}}
	for tag := range tags {
		out.Tags = append(out.Tags, tag)
	}
	slices.Sort(out.Tags)
	if dry, err := flag(c, "dry_run"); err != nil || dry {
		c.JSON(http.StatusOK, out)
		return err
	}
	for _, tag := range out.Tags {
		p, is := now.Point(tag)
		for i := range tags[tag] {
			if is {
				tags[tag][i].Value = fitting(p, tags[tag][i].Value)
			}
		}
		added, err := s.kept.Import(c.Request.Context(), tag, tags[tag])
		if out.Added += added; err != nil {
			return fmt.Errorf("importing samples of %s: %w; %d samples were added before that, and importing the file again adds the rest", tag, err, out.Added)
		}
	}
	if err := s.enter(c, audit.Recording, "history", fmt.Sprintf("%d samples imported, of %s", out.Added, strings.Join(out.Tags[:min(len(out.Tags), 5)], ", "))); err != nil {
		return err
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// fitting is a value as the point has them: true and false for 1 and 0, and the number of a state for its name.
func fitting(p site.Point, v codec.Value) codec.Value {
	if v.Kind() == codec.Text {
		if n, ok := p.Conversion().States().Find(v.Text()); ok {
			v = codec.IntValue(n)
		}
	}
	if f, ok := v.Float(); ok && p.Type == codec.TypeBool && (f == 0 || f == 1) {
		return codec.BoolValue(f == 1)
	}
	return v
}

// recordingState says how the recording goes.
func (s *Server) recordingState(c *gin.Context) error {
	f := s.kept.Figures()
	now := s.store.Site()
	out := RecordingState{Series: f.Series, Samples: f.Samples, Lost: f.Lost, Waiting: f.Waiting, Bytes: f.Bytes, Fault: f.Fault, Files: monthFiles(f.Files)}
	if f.Fault != "" {
		out.Since = when(f.Since)
	}
	for _, st := range now.Stations() {
		for _, p := range now.SharedPointsOf(st.Name) {
			if p.Recorded(st).On {
				out.Points++
			}
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// removeMonth removes a month.
func (s *Server) removeMonth(c *gin.Context) error {
	if err := s.kept.RemoveMonth(c.Request.Context(), name(c)); err != nil {
		switch {
		case errors.Is(err, history.ErrNoMonth):
			return fail(http.StatusNotFound, "%s", err)
		case errors.Is(err, history.ErrCurrent):
			return fail(http.StatusConflict, "%s", err)
		}
		return err
	}
	if err := s.enter(c, audit.Recording, "history", "month "+name(c)+" removed"); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
