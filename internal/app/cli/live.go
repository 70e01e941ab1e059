package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
)

// shapes go before quality words, so that they can be told apart without colour.
var shapes = map[reading.Quality]string{reading.Good: "●", reading.Uncertain: "◐", reading.Bad: "✕"}

// cells says a reading in columns.
func cells(r api.Reading, now time.Time) []string {
	value := r.Text
	if r.Unit != "" && value != "" {
		value += " " + r.Unit
	}
	if r.Quality == reading.Bad && value != "" {
		value = "(" + value + ")" // the last good one, not live
	}
	quality := shapes[r.Quality] + " " + r.Quality.String()
	if r.Reason != "" {
		quality += " (" + string(r.Reason) + ")"
	}
	return []string{r.Tag, value, quality, age(r.GoodTime, now), r.Raw.String()}
}

// age says how old the value is.
func age(at *time.Time, now time.Time) string {
	if at == nil {
		return "never"
	}
	switch d := max(0, now.Sub(*at)); {
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	default:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
}

var readingHead = []string{"TAG", "VALUE", "QUALITY", "AGE", "RAW"}

// recordHead are the columns of a reading for programs.
var recordHead = []string{"TIME", "TAG", "VALUE", "UNIT", "QUALITY", "REASON", "RAW"}

// record says a reading in columns for programs.
func record(r api.Reading) []string {
	at := ""
	if r.Time != nil {
		at = r.Time.UTC().Format("2006-01-02T15:04:05.000Z")
	}
	return []string{at, r.Tag, r.Text, r.Unit, r.Quality.String(), string(r.Reason), r.Raw.String()}
}

func (a *app) read() *cobra.Command {
	var d direct
	c := &cobra.Command{
		Use:   "read TAG|PATTERN|FOLDER/... | read --station STATION RANGE... | read HOST|PORT --unit N RANGE...",
		Short: "Read points, or addresses that no point has yet",
		Long: `Read points: the newest reading of each, as the service knows it. tern/ stands for all that is below, which is shown as a tree.
With --station, ask the device now for ranges of addresses, such as hr:0..9; with --every 1s again and again, until Ctrl-C. With --unit the
same of a device that is no station yet, at a host, a serial port of the service's machine, or on a link.
Ends with 4 when a reading is not good.`,
		Args: arguments(1, -1, "tags or patterns, or --station with a range"),
		RunE: func(c *cobra.Command, args []string) error {
			args, err := d.at(c.Context(), a, c, args)
			if err != nil {
				return err
			}
			if err := d.check(); err != nil {
				return err
			}
			if d.station != "" {
				return a.repeat(c.Context(), d.every, func() error { return a.readRanges(c.Context(), d, args) })
			}
			tags, tree := patterns(args)
			list, err := a.client().Readings(c.Context(), tags...)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return &exitError{exitNotFound, fmt.Sprintf("no tag fits %s; arithmon point list shows all", strings.Join(args, " "))}
			}
			if err := a.print(list, func(t *table) {
				switch {
				case a.output == "csv":
					t.header(recordHead...)
					for _, r := range list {
						t.row(record(r)...)
					}
				case tree:
					tellTree(t, list, time.Now())
				default:
					t.header(readingHead...)
					for _, r := range list {
						t.row(cells(r, time.Now())...)
					}
				}
			}); err != nil {
				return err
			}
			if slices.ContainsFunc(list, func(r api.Reading) bool { return r.Quality != reading.Good }) {
				return &exitError{code: exitNotGood}
			}
			return nil
		}}
	d.flags(c, "read")
	return c
}

// repeat calls f once, or every so often until ctx ends. A failure is said and does not end it: the device may answer
// the next time.
func (a *app) repeat(ctx context.Context, every time.Duration, f func() error) error {
	if every == 0 {
		return f()
	}
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		if a.output == "text" {
			fmt.Fprintln(a.Out, time.Now().Format(time.TimeOnly), zone())
		}
		if err := f(); err != nil && ctx.Err() == nil {
			if exitCode(err) != exitFailed {
				return err // an address or station that is none stays so
			}
			fmt.Fprintln(a.Err, "arithmon:", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}

func (a *app) readRanges(ctx context.Context, d direct, ranges []string) error {
	list := []api.RawReading{}
	for _, what := range ranges {
		part, err := d.read(ctx, a.client(), what)
		if err != nil {
			return err
		}
		list = append(list, part...)
	}
	holes := slices.ContainsFunc(list, func(r api.RawReading) bool { return r.Problem != "" })
	if d.every != 0 && a.output == "json" { // a line for each, so that a program can follow
		return a.jsonLines(list)
	}
	err := a.print(list, func(t *table) {
		head := []string{"ADDRESS", "NOTATION", "RAW", "UNSIGNED", "SIGNED"}
		if d.typ != "" {
			head = append(head[:3:3], strings.ToUpper(d.typ))
		}
		if holes {
			head = append(head, "WHY NOT")
		}
		t.header(head...)
		for _, r := range list {
			row := []string{r.Address, r.Shown, r.Raw.String(), r.Value.String()}
			if d.typ == "" && r.Signed != nil {
				row = append(row, fmt.Sprint(*r.Signed))
			} else if d.typ == "" {
				row = append(row, "")
			}
			if holes {
				row = append(row, r.Problem)
			}
			t.row(row...)
		}
	})
	if err == nil && holes && d.every == 0 {
		return &exitError{code: exitNotGood}
	}
	return err
}

// read reads a range of a station, or of a device that is none.
func (d direct) read(ctx context.Context, c *client.Client, what string) ([]api.RawReading, error) {
	if d.visit == nil {
		return c.ReadRange(ctx, d.station, what, d.typ, d.order)
	}
	v := *d.visit
	v.Range = what
	return c.ReadAt(ctx, v)
}

// write writes to a range of a station, or of a device that is none.
func (d direct) write(ctx context.Context, c *client.Client, w api.RangeWrite) (api.RangeResult, error) {
	if d.visit == nil {
		return c.WriteRange(ctx, d.station, w)
	}
	v := *d.visit
	v.Range, v.Values, v.Length = w.Range, w.Values, w.Length
	return c.WriteAt(ctx, v)
}

// jsonLines prints what was read now, a line each, with the time.
func (a *app) jsonLines(list []api.RawReading) error {
	now := time.Now().UTC().Truncate(time.Millisecond)
	for _, r := range list {
		b, err := json.Marshal(struct {
			Time time.Time `json:"time"`
			api.RawReading
		}{now, r})
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(a.Out, "%s\n", b); err != nil {
			return err
		}
	}
	return nil
}

// direct is how addresses without a point are asked for and written.
type direct struct {
	station, typ, order string
	every               time.Duration

	unit, outstation, master int // of a device that is no station of the site
	far                      farEnd
	visit                    *api.VisitRequest // nil when it is one
}

func (d *direct) flags(c *cobra.Command, does string) {
	c.Flags().StringVar(&d.station, "station", "", does+" addresses of this station")
	c.Flags().StringVar(&d.typ, "type", "", "with --station: data type of the values, such as float32 (default single registers)")
	c.Flags().StringVar(&d.order, "order", "", "with --station: byte order ABCD, CDAB, BADC or DCBA (default the station's)")
	c.Flags().DurationVar(&d.every, "every", 0, "with --station or --unit: again after this time, such as 1s")
	c.Flags().IntVar(&d.unit, "unit", 1, does+" addresses of this unit at a far end: HOST, HOST:PORT, a serial port or a link")
	c.Flags().IntVar(&d.outstation, "outstation", 0, "the same of a DNP3 outstation")
	c.Flags().IntVar(&d.master, "master", site.DefaultMaster, "with --outstation: link address of this end")
	d.far.flags(c)
}

// at takes the far end from the arguments when --unit or --outstation was given, and returns the rest of them.
func (d *direct) at(ctx context.Context, a *app, c *cobra.Command, args []string) ([]string, error) {
	unit, outstation := c.Flags().Changed("unit"), c.Flags().Changed("outstation")
	if !unit && !outstation {
		return args, nil
	}
	if d.station != "" || unit && outstation {
		return nil, usage("give one of --station, --unit and --outstation")
	}
	if len(args) < 2 {
		return nil, usage("say where and which addresses, such as: %s 192.0.2.7 --unit 1 hr:0..9", c.CommandPath())
	}
	v := &api.VisitRequest{Unit: &d.unit, Type: codec.Type(d.typ), Order: codec.Order(d.order)}
	if outstation {
		d.far.protocol, v.Unit, v.Master = string(site.DNP3), &d.outstation, &d.master
	}
	v.At = d.far.at(args[0])
	links, err := a.client().Links(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range links {
		if l.Name == args[0] {
			v.Link, v.At = l.Name, nil
		}
	}
	d.visit, d.station = v, args[0]
	return args[1:], nil
}

func (d *direct) check() error {
	if d.station == "" && (d.typ != "" || d.order != "") {
		return usage("--type and --order go with --station; a point has its own")
	}
	if d.every != 0 && (d.station == "" || d.every < 100*time.Millisecond) {
		return usage("--every goes with --station, from 100ms up; points are followed with arithmon watch")
	}
	return nil
}

func (a *app) write() *cobra.Command {
	var d direct
	c := &cobra.Command{
		Use:   "write TAG VALUE | write --station STATION RANGE VALUE... | write HOST|PORT --unit N RANGE VALUE...",
		Short: "Write a value to a point and read it back",
		Long: `Write a value to a point and read it back.
VALUE is an engineering value, true or false, text, or the name of a state. Put -- before a negative number.
With --station, write raw values to addresses that no point needs to have: hr:20 5, or hr:20..22 1 2 3. A point that is
there and read-only forbids it. With --unit the same of a device that is no station yet, at a host, a serial port or on a link. With --every 1s again and again, until Ctrl-C.
Ends with 0 only when the value reads back as sent.`,
		Args: arguments(2, -1, "a tag and a value, or --station with a range and values"),
		RunE: func(c *cobra.Command, args []string) error {
			args, err := d.at(c.Context(), a, c, args)
			if err != nil {
				return err
			}
			if err := d.check(); err != nil {
				return err
			}
			if d.station != "" {
				if len(args) < 2 {
					return usage("say where and what: hr:20 5, or hr:20..22 1 2 3")
				}
				return a.repeat(c.Context(), d.every, func() error { return a.writeRange(c.Context(), d, args[0], args[1:]) })
			}
			if len(args) > 2 {
				return usage("a point takes one value, not %d; several go to a range: --station STATION %s", len(args)-1, "hr:0..3")
			}
			r, err := a.client().Write(c.Context(), api.WriteRequest{Tag: args[0], Value: codec.TextValue(args[1])})
			if err != nil {
				return err
			}
			return a.outcome(r, r.Tag, r.Outcome, r.NotAllowed, []string{r.Before.String(), r.Sent.String(), r.After.String(), r.Message})
		}}
	d.flags(c, "write to")
	return c
}

func (a *app) writeRange(ctx context.Context, d direct, what string, texts []string) error {
	request := api.RangeWrite{Range: what, Type: codec.Type(d.typ), Order: codec.Order(d.order)}
	for _, text := range texts {
		request.Values = append(request.Values, codec.TextValue(text))
	}
	if request.Type == codec.TypeString {
		request.Length = max(1, len(texts[0]))
	}
	r, err := d.write(ctx, a.client(), request)
	if err != nil {
		return err
	}
	list := func(values []codec.Value) string {
		var s []string
		for _, v := range values {
			s = append(s, v.String())
		}
		return strings.Join(s, " ")
	}
	return a.outcome(r, r.Station+" "+r.Address, r.Outcome, r.NotAllowed, []string{list(r.Before), list(r.Sent), list(r.After), r.Message})
}

// outcome prints how a write ended and makes its exit code.
func (a *app) outcome(r any, where string, outcome control.Outcome, notAllowed bool, values []string) error {
	if err := a.print(r, func(t *table) {
		t.header("TAG", "OUTCOME", "BEFORE", "SENT", "AFTER", "MESSAGE")
		if a.output == "csv" {
			t.row(append([]string{where, string(outcome)}, values...)...)
			return
		}
		t.head = nil
		t.line(fmt.Sprintf("%s: %s: %s", where, outcome, values[3]))
	}); err != nil {
		return err
	}
	switch {
	case notAllowed:
		return &exitError{code: exitNotAllowed}
	case outcome != control.Done:
		return &exitError{code: exitFailed}
	}
	return nil
}

func (a *app) watch() *cobra.Command {
	var limit time.Duration
	var all bool
	c := &cobra.Command{
		Use:   "watch [TAG|PATTERN|FOLDER/]...",
		Short: "Follow readings as they change",
		Long: `Follow readings as they change: in place on a terminal, otherwise a line for each change of a value or its quality.
Without a pattern all points are followed. Ends with Ctrl-C, or after --for.`,
		RunE: func(c *cobra.Command, args []string) error {
			args, _ = patterns(args)
			if len(args) == 0 {
				args = []string{"*"}
			}
			if _, err := a.client().Readings(c.Context(), args...); err != nil {
				return err // an unknown tag is said at once
			}
			ctx := c.Context()
			if limit > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, limit)
				defer cancel()
			}
			follow := func(ctx context.Context, tags []string) error { return a.watchLines(ctx, tags, all) }
			if f, ok := a.Out.(*os.File); ok && a.output == "text" && term.IsTerminal(int(f.Fd())) {
				follow = func(ctx context.Context, tags []string) error { return a.watchScreen(ctx, f, tags) }
			}
			err := follow(ctx, args)
			if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
				return nil // ended as asked
			}
			return err
		}}
	c.Flags().DurationVar(&limit, "for", 0, "end after this time, such as 10s")
	c.Flags().BoolVar(&all, "every-poll", false, "print a line for each poll, whether or not anything changed")
	return c
}

// watchLines prints a line for each change, or for each poll.
func (a *app) watchLines(ctx context.Context, tags []string, all bool) error {
	if a.output == "csv" {
		fmt.Fprintln(a.Out, strings.Join(recordHead[:6], ","))
	}
	said := map[string]string{}
	return a.client().Live(ctx, tags, func(m api.LiveMessage) error {
		for _, r := range m.Readings {
			is := strings.Join([]string{r.Text, r.Quality.String(), string(r.Reason)}, "\x00")
			if before, known := said[r.Tag]; known && before == is && !all {
				continue
			}
			said[r.Tag] = is
			var line string
			at := ""
			if r.Time != nil {
				at = r.Time.Format("2006-01-02T15:04:05.000Z")
			}
			switch a.output {
			case "json":
				b, err := json.Marshal(r)
				if err != nil {
					return err
				}
				line = string(b)
			case "yaml":
				line = "---"
			case "csv":
				cells := record(r)[:6]
				for i := range cells {
					cells[i] = quoted(cells[i])
				}
				line = strings.Join(cells, ",")
			default:
				line = strings.TrimRight(at+"  "+strings.Join(cells(r, time.Now())[:3], "  "), " ")
			}
			if _, err := fmt.Fprintln(a.Out, line); err != nil {
				return err
			}
			if a.output == "yaml" {
				if err := writeYAML(a.Out, r); err != nil {
					return err
				}
			}
		}
		for _, tag := range m.Removed {
			fmt.Fprintf(a.Err, "arithmon: point %s was removed\n", tag)
		}
		return nil
	})
}

func quoted(s string) string {
	if strings.ContainsAny(s, "\",\n") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

// watchScreen shows a table that is refreshed in place.
func (a *app) watchScreen(ctx context.Context, out *os.File, tags []string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	messages := make(chan api.LiveMessage)
	ended := make(chan error, 1)
	go func() {
		ended <- a.client().Live(ctx, tags, func(m api.LiveMessage) error {
			select {
			case messages <- m:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	fmt.Fprint(out, "\x1b[?25l\x1b[2J") // hide the cursor, clear
	defer fmt.Fprint(out, "\x1b[?25h\n")
	known := map[string]api.Reading{}
	redraw := time.NewTicker(250 * time.Millisecond) // ages move on even when nothing changes
	defer redraw.Stop()
	for {
		select {
		case err := <-ended:
			return err
		case m := <-messages:
			for _, r := range m.Readings {
				known[r.Tag] = r
			}
			for _, tag := range m.Removed {
				delete(known, tag)
			}
			continue
		case <-redraw.C:
		}
		columns, lines, err := term.GetSize(int(out.Fd()))
		if err != nil {
			columns, lines = width, 24
		}
		screen(out, known, columns, lines)
	}
}

// screen draws what fits of the readings.
func screen(out io.Writer, known map[string]api.Reading, columns, lines int) {
	tags := make([]string, 0, len(known))
	count := map[reading.Quality]int{}
	for tag, r := range known {
		tags = append(tags, tag)
		count[r.Quality]++
	}
	slices.Sort(tags)
	var b strings.Builder
	fmt.Fprintf(&b, "\x1b[H%s   %s %d good   %s %d uncertain   %s %d bad\x1b[K\n\x1b[K\n", time.Now().Format(time.TimeOnly),
		shapes[reading.Good], count[reading.Good], shapes[reading.Uncertain], count[reading.Uncertain], shapes[reading.Bad], count[reading.Bad])
	rows := [][]string{readingHead}
	shown := tags[:min(len(tags), max(1, lines-5))]
	for _, tag := range shown {
		rows = append(rows, cells(known[tag], time.Now()))
	}
	widths := make([]int, len(readingHead))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], len([]rune(cell)))
		}
	}
	for _, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			pad := strings.Repeat(" ", widths[i]-len([]rune(cell)))
			if i == 1 || i == 3 {
				line.WriteString(pad + cell + "  ") // numbers to the right
			} else {
				line.WriteString(cell + pad + "  ")
			}
		}
		text := []rune(strings.TrimRight(line.String(), " "))
		b.WriteString(string(text[:min(len(text), columns)]) + "\x1b[K\n")
	}
	if hidden := len(tags) - len(shown); hidden > 0 {
		fmt.Fprintf(&b, "… and %d more; narrow the pattern to see them\x1b[K\n", hidden)
	}
	b.WriteString("\x1b[J")
	fmt.Fprint(out, b.String())
}

func (a *app) lens() *cobra.Command {
	return &cobra.Command{
		Use:   "lens TAG",
		Short: "Show a point's raw data under every type and byte order",
		Long: `Read a point's registers now and show them under every type and byte order, to find the one the device means.
Take it over with arithmon point set TAG --type T --order O.`,
		Args: arguments(1, 1, "one tag"),
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Lens(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(l, func(t *table) {
				if a.output == "csv" {
					t.header("TYPE", "ORDER", "RAW VALUE", "WITH SCALING", "PROBLEM")
					for _, row := range l.Rows {
						t.row(string(row.Type), string(row.Order), row.Value.String(), row.Text, row.Problem)
					}
					return
				}
				t.line(fmt.Sprintf("%s at %s: %s   (with its scaling; [in use], ~implausible)", l.Tag, l.Address, strings.Join(l.Words, " ")))
				t.header("TYPE", "ABCD", "CDAB", "BADC", "DCBA")
				for _, typ := range codec.Types {
					cells := []string{string(typ)}
					for _, order := range codec.Orders {
						cells = append(cells, lensCell(l.Rows, typ, order))
					}
					if strings.Join(cells[1:], "") != "" {
						t.row(cells...)
					}
				}
			})
		}}
}

// lensCell says one interpretation in few characters; "" where there is none.
func lensCell(rows []api.LensRow, typ codec.Type, order codec.Order) string {
	for _, row := range rows {
		if row.Type != typ || row.Order != order {
			continue
		}
		text := row.Text
		if f, err := strconv.ParseFloat(text, 64); err == nil && len(text) > 12 {
			text = strconv.FormatFloat(f, 'g', 5, 64)
		}
		switch {
		case row.Problem != "":
			return "no value"
		case row.Current:
			return "[" + text + "]"
		case !row.Plausible:
			return "~" + text
		}
		return text
	}
	return ""
}
