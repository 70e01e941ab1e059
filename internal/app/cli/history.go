package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/moment"
	"arithmon/internal/exchange/samples"
)

// window is from when to when something is wanted.
type window struct{ from, to string }

func (w *window) flags(c *cobra.Command) {
	c.Flags().StringVar(&w.from, "from", "1h", "the beginning: a span before now (2h, 7d), 2026-11-28, \"2026-11-28 14:00\" in this machine's zone, or RFC 3339")
	c.Flags().StringVar(&w.to, "to", "now", "the end, likewise; what is of that very moment is not in it")
}

// resolve gives both ends as the service reads them.
func (w *window) resolve(now time.Time) (from, to string, err error) {
	ends := [2]time.Time{}
	for i, text := range []string{w.from, w.to} {
		if ends[i], err = moment.Parse(text, now, time.Local); err != nil {
			return "", "", usage("--%s %s", []string{"from", "to"}[i], err)
		}
	}
	if !ends[0].Before(ends[1]) {
		return "", "", usage("--from %s is not before --to %s", w.from, w.to)
	}
	form := func(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }
	if w.to == "now" {
		return form(ends[0]), "now", nil
	}
	return form(ends[0]), form(ends[1]), nil
}

// aggregated are what --as can name.
var aggregated = []string{"mean", "min", "max", "last", "known", "count", "bad"}

func (a *app) history() *cobra.Command {
	var of window
	var every, as string
	c := &cobra.Command{
		Use:   "history TAG|PATTERN...",
		Short: "What was recorded of points",
		Long: `Show what was recorded of points, by tag and time. A point is recorded when it, or its station, says so: --record true keeps every
reading, --record '{deadband: 0.5, at_least: 10m}' what moves, --record '{every: 1m}' one in a period; a change of quality is always kept.
The time is the device's own where the device gives one that can be. A line with not-recorded says that from then on nothing was recorded.`,
		Args: arguments(1, -1, "at least one tag or pattern"),
		RunE: func(c *cobra.Command, args []string) error {
			from, to, err := of.resolve(time.Now())
			if err != nil {
				return err
			}
			if every == "" {
				if c.Flags().Changed("as") {
					return usage("--as goes with --every, such as --every 1m --as mean")
				}
				return a.showSamples(c, args, from, to)
			}
			columns := strings.Split(as, ",")
			for i, name := range columns {
				if columns[i] = strings.TrimSpace(name); !slices.Contains(aggregated, columns[i]) {
					return usage("--as %s: choose among %s", name, strings.Join(aggregated, ", "))
				}
			}
			if _, err := moment.Span(every); err != nil {
				return usage("--every %s", err)
			}
			return a.showAggregates(c, args, from, to, every, columns)
		}}
	of.flags(c)
	c.Flags().StringVar(&every, "every", "", "put together what is in stretches of this length: 10s, 1m, 1h, 1d; they begin with the hours and days of this machine's zone")
	c.Flags().StringVar(&as, "as", "mean,min,max,last", "with --every: what is shown of each (mean by how long a value held; known: the share of the time in which there was one), among "+strings.Join(aggregated, ", "))
	c.AddCommand(a.historyExport(), a.historyImport(), a.historyState(), a.historyRemove())
	return c
}

// nothing says on stderr why a list is empty.
func (a *app) nothing(args []string) {
	fmt.Fprintf(a.Err, "arithmon: nothing was recorded of %s in that time. arithmon history state says what is recorded; a point is when it says so: arithmon point set TAG --record true\n", strings.Join(args, ", "))
}

// array writes the items of a JSON array as they come.
type array struct {
	to    io.Writer
	count int
}

func (w *array) put(item any) error {
	b, err := json.Marshal(item)
	if err != nil {
		return err
	}
	before := ",\n  "
	if w.count == 0 {
		before = "[\n  "
	}
	w.count++
	_, err = fmt.Fprintf(w.to, "%s%s", before, b)
	return err
}

func (w *array) end() error {
	text := "\n]\n"
	if w.count == 0 {
		text = "[]\n"
	}
	_, err := io.WriteString(w.to, text)
	return err
}

// showSamples prints what was recorded, page by page.
func (a *app) showSamples(c *cobra.Command, tags []string, from, to string) error {
	count := 0
	var put func([]api.Sample) error
	end := func() error { return nil }
	switch a.output {
	case "json":
		out := &array{to: a.Out}
		put, end = func(page []api.Sample) error {
			for _, x := range page {
				if err := out.put(x); err != nil {
					return err
				}
			}
			return nil
		}, out.end
	case "yaml":
		put = func(page []api.Sample) error {
			if len(page) == 0 {
				return nil
			}
			return writeYAML(a.Out, page)
		}
	case "csv":
		w, err := samples.NewWriter(a.Out, samples.CSV)
		if err != nil {
			return err
		}
		put, end = func(page []api.Sample) error {
			for _, x := range page {
				if err := w.Write(api.SampleRow(x)); err != nil {
					return err
				}
			}
			return nil
		}, w.Close
	default:
		put = func(page []api.Sample) error {
			w := tabwriter.NewWriter(a.Out, 0, 8, 2, ' ', 0)
			if count == 0 && len(page) > 0 {
				fmt.Fprintln(w, strings.Join([]string{a.timeHead("TIME"), "TAG", "VALUE", "QUALITY"}, "\t"))
			}
			for _, x := range page {
				fmt.Fprintln(w, strings.Join([]string{x.Time.Local().Format("2006-01-02 15:04:05.000"), x.Tag, orDash(strings.TrimSpace(x.Text+" "+x.Unit), x.Text), qualityOf(x)}, "\t"))
			}
			return w.Flush()
		}
	}
	if err := a.client().Samples(c.Context(), tags, from, to, func(page []api.Sample) error {
		err := put(page)
		count += len(page)
		return err
	}); err != nil {
		return err
	}
	if count == 0 {
		a.nothing(tags)
	}
	return end()
}

// orDash is a text, or a dash when there is no value.
func orDash(text, value string) string {
	if value == "" {
		return "-"
	}
	return text
}

func qualityOf(x api.Sample) string {
	text := x.Quality.String()
	if x.Reason != "" {
		text += " (" + string(x.Reason) + ")"
	}
	if x.Imported {
		text += ", imported"
	}
	return text
}

// showAggregates prints what stretches of time hold.
func (a *app) showAggregates(c *cobra.Command, tags []string, from, to, every string, as []string) error {
	count := 0
	cells := func(x api.Aggregate) (list []any) {
		for _, name := range as {
			list = append(list, map[string]any{"mean": x.Mean, "min": x.Min, "max": x.Max, "last": x.Last, "known": x.Known, "count": x.Count, "bad": x.Bad}[name])
		}
		return list
	}
	var put func([]api.Aggregate) error
	end := func() error { return nil }
	object := func(x api.Aggregate) map[string]any {
		o := map[string]any{"tag": x.Tag, "time": x.Time, "count": x.Count}
		for i, v := range cells(x) {
			o[as[i]] = v
		}
		return o
	}
	switch a.output {
	case "json":
		out := &array{to: a.Out}
		put, end = func(page []api.Aggregate) error {
			for _, x := range page {
				if err := out.put(object(x)); err != nil {
					return err
				}
			}
			return nil
		}, out.end
	case "yaml":
		put = func(page []api.Aggregate) error {
			for _, x := range page {
				if err := writeYAML(a.Out, []any{object(x)}); err != nil {
					return err
				}
			}
			return nil
		}
	default:
		put = func(page []api.Aggregate) error {
			var rows [][]string
			if count == 0 && (len(page) > 0 || a.output == "csv") {
				head := []string{a.timeHead("TIME"), "TAG"}
				if a.output == "csv" {
					head = []string{"tag", "time"}
				}
				for _, name := range as {
					if a.output != "csv" {
						name = strings.ToUpper(name)
					}
					head = append(head, name)
				}
				rows = append(rows, head)
			}
			for _, x := range page {
				row := []string{a.stamp(x.Time), x.Tag}
				if a.output == "csv" {
					row = []string{x.Tag, a.stamp(x.Time)}
				}
				for _, v := range cells(x) {
					row = append(row, a.numeral(v))
				}
				rows = append(rows, row)
			}
			if a.output == "csv" {
				return csv.NewWriter(a.Out).WriteAll(rows)
			}
			w := tabwriter.NewWriter(a.Out, 0, 8, 2, ' ', 0)
			for _, row := range rows {
				fmt.Fprintln(w, strings.Join(row, "\t"))
			}
			return w.Flush()
		}
	}
	if err := a.client().Aggregates(c.Context(), tags, from, to, every, localZone(), func(page []api.Aggregate) error {
		err := put(page)
		count += len(page)
		return err
	}); err != nil {
		return err
	}
	if count == 0 {
		a.nothing(tags)
	}
	return end()
}

// numeral says a value of an aggregate: for people with as many digits as they read.
func (a *app) numeral(v any) string {
	if f, ok := v.(*float64); ok {
		switch {
		case f == nil && a.output == "csv":
			return ""
		case f == nil:
			return "-"
		case a.output == "csv":
			return fmt.Sprint(*f)
		}
		return fmt.Sprintf("%.6g", *f)
	}
	if value, ok := v.(codec.Value); ok && value.Kind() == codec.Float && a.output != "csv" {
		f, _ := value.Float()
		return fmt.Sprintf("%.6g", f)
	}
	text := fmt.Sprint(v)
	if text == "" && a.output != "csv" {
		return "-"
	}
	return text
}

func (a *app) historyExport() *cobra.Command {
	var of window
	c := &cobra.Command{
		Use:   "export FILE [TAG|PATTERN]...",
		Short: "Write what was recorded to a file: .csv, .xlsx or .parquet",
		Args:  arguments(1, -1, "a file, and tags or patterns if not all are wanted"),
		RunE: func(c *cobra.Command, args []string) error {
			from, to, err := of.resolve(time.Now())
			if err != nil {
				return err
			}
			form := samples.Form(strings.ToLower(strings.TrimPrefix(filepath.Ext(args[0]), ".")))
			if !slices.Contains(samples.Forms(), form) {
				return usage("%s: the end of the name says the form: .csv, .xlsx or .parquet", args[0])
			}
			tags := args[1:]
			if len(tags) == 0 {
				tags = []string{"*"}
			}
			count, err := a.exportSamples(c, args[0], form, tags, from, to)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"file": args[0], "samples": count}, func(t *table) { t.line(fmt.Sprintf("%d samples written to %s", count, args[0])) })
		}}
	of.flags(c)
	return c
}

// exportSamples writes a file, which takes its name only when it is whole.
func (a *app) exportSamples(c *cobra.Command, path string, form samples.Form, tags []string, from, to string) (count int, err error) {
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".part*")
	if err != nil {
		return 0, err
	}
	defer os.Remove(f.Name()) // gone when it was renamed
	defer f.Close()
	w, err := samples.NewWriter(f, form)
	if err != nil {
		return 0, err
	}
	told := time.Now()
	if err := a.client().Samples(c.Context(), tags, from, to, func(page []api.Sample) error {
		for _, x := range page {
			if err := w.Write(api.SampleRow(x)); err != nil {
				return err
			}
		}
		if count += len(page); time.Since(told) > time.Second && len(page) > 0 {
			told = time.Now()
			last := page[len(page)-1]
			fmt.Fprintf(a.Err, "arithmon: %d samples, at %s of %s\n", count, last.Time.Local().Format(time.DateTime), last.Tag)
		}
		return nil
	}); err != nil {
		return 0, err
	}
	if count == 0 {
		a.nothing(tags)
	}
	if err := w.Close(); err != nil {
		return 0, err
	}
	if err := f.Chmod(0o644); err != nil {
		return 0, err
	}
	if err := f.Close(); err != nil {
		return 0, err
	}
	return count, os.Rename(f.Name(), path)
}

func (a *app) historyImport() *cobra.Command {
	var tag, zone string
	var dry bool
	c := &cobra.Command{
		Use:   "import FILE|-",
		Short: "Add values from elsewhere, from a list of samples",
		Long: `Add values from elsewhere to the history: separated values or a spreadsheet, a heading over each column: tag, time, value, and quality and
reason if wanted; or time, and a column for each tag. They stand beside what was recorded here, marked as imported. What is there already is left out, so that a file may be
given again. All or nothing: with a fault in it, nothing is added.`,
		Args: arguments(1, 1, "a file"),
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			if zone == "" {
				zone = localZone()
			}
			out, err := a.client().ImportSamples(c.Context(), data, tag, zone, dry)
			if err != nil {
				return err
			}
			return a.print(out, func(t *table) {
				if dry {
					t.line(fmt.Sprintf("%d samples of %d tags can be read; nothing was added", out.Rows, len(out.Tags)))
					return
				}
				t.line(fmt.Sprintf("%d samples of %d tags: %d added, %d were there already", out.Rows, len(out.Tags), out.Added, out.Rows-out.Added))
			})
		}}
	c.Flags().StringVar(&tag, "tag", "", "tag of all samples, where the file has no column for it")
	c.Flags().StringVar(&zone, "zone", "", "of times that do not say theirs, such as Europe/Berlin (default this machine's)")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what is wrong with the file; add nothing")
	return c
}

// localZone names the zone of this machine, as zones are named; UTC when it has no such name.
func localZone() string {
	if name := time.Local.String(); name != "Local" && name != "" {
		return name
	}
	if to, err := filepath.EvalSymlinks("/etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(to, "zoneinfo/"); ok {
			return name
		}
	}
	return "UTC"
}

func (a *app) historyState() *cobra.Command {
	return &cobra.Command{
		Use:   "state",
		Short: "How the recording goes, and which months there are",
		Args:  arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.client().RecordingState(c.Context())
			if err != nil {
				return err
			}
			return a.print(r, func(t *table) {
				t.header("MONTH", "SIZE", a.timeHead("FROM"), a.timeHead("TO"), "STATE")
				for _, f := range r.Files {
					state := "ok"
					if f.Fault != "" {
						state = f.Fault
					}
					from, to := "-", "-"
					if f.From != nil {
						from, to = a.stamp(*f.From), a.stamp(*f.To)
					}
					t.row(f.Month, sizeText(f.Bytes), from, to, state)
				}
				if a.output == "csv" {
					return
				}
				t.line(fmt.Sprintf("%d points are recorded; of %d there is something. %d samples since the service started, %d lost.", r.Points, r.Series, r.Samples, r.Lost))
				if r.Fault != "" {
					a.tell(t, "", "Nothing is written since "+a.stamp(*r.Since)+": "+r.Fault)
				}
			})
		}}
}

// sizeText says a size as people read it.
func sizeText(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	f := float64(n)
	for f >= 1024 && len(units) > 1 {
		f, units = f/1024, units[1:]
	}
	if units[0] == "B" {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", f, units[0])
}

func (a *app) historyRemove() *cobra.Command {
	return &cobra.Command{
		Use:   "remove MONTH",
		Short: "Remove what was recorded in a month",
		Long:  "Remove what was recorded in a month, or say that a month whose file is missing is meant to be gone.",
		Args:  arguments(1, 1, "a month, such as 2026-03"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveMonth(c.Context(), args[0]); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": args[0]}, func(t *table) { t.line("removed what was recorded in " + args[0]) })
		}}
}
