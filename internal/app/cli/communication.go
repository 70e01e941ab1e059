package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/traffic"
)

func (a *app) findings() *cobra.Command {
	c := &cobra.Command{
		Use:   "findings [SUBJECT]",
		Short: "What is wrong, why, and what to try next",
		Long: `What is wrong with communication, why, and what to try next; the most certain first.
SUBJECT is a link, a station or a tag; findings for its station and link, and for what is on it, are given, too. Ends with 4 when there are any,
or while a station without a good point is watched until there is enough evidence.
A step with a change of settings is taken with: arithmon findings apply CODE SUBJECT`,
		Args: arguments(0, 1, "at most one subject"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().FindingsAndWatching(c.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			if err := a.print(all.Items, func(t *table) { a.tellFindings(t, all) }); err != nil {
				return err
			}
			if len(all.Items)+len(all.Watching) > 0 {
				return &exitError{code: exitNotGood}
			}
			return nil
		}}
	var dry bool
	var number int
	apply := &cobra.Command{
		Use:   "apply CODE SUBJECT",
		Short: "Take a step of a finding that is a change of settings",
		Long: `Take a step of a finding that is a change of settings: the first of them, or the one of a number.
It is recorded as any change, and arithmon undo takes it back.`,
		Args: arguments(2, 2, "the code and the subject of a finding"),
		RunE: func(c *cobra.Command, args []string) error {
			taken, err := a.client().Take(c.Context(), api.Take{Code: diagnose.Code(args[0]), Subject: args[1], Step: number, DryRun: dry})
			var problem *client.ProblemError
			if errors.As(err, &problem) && problem.Status == http.StatusBadRequest {
				return usage("%s", problem)
			}
			if err != nil {
				return err
			}
			return a.print(took{taken.Step.Changes[0], taken.Step.Changes, taken.Summary}, func(t *table) {
				verb := "is set to"
				if dry {
					verb = "would be set to"
				}
				for _, change := range taken.Step.Changes {
					b, _ := json.Marshal(change.Fields) // which came as JSON
					t.line(fmt.Sprintf("%s %s %s %s", change.Kind, change.Name, verb, b))
				}
			})
		}}
	apply.Flags().IntVar(&number, "step", 0, "number of the step, as arithmon findings shows it; the first that is a change unless given")
	apply.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	c.AddCommand(apply)
	return c
}

// took is what a step changed: the first change, all of them, and what came of them.
type took struct {
	api.Change
	Changes []api.Change      `json:"changes"`
	Summary api.ChangeSummary `json:"summary"`
}

// firstChange is the index of the first step that is a change of settings, -1 for none.
func firstChange(f api.Finding) int {
	return slices.IndexFunc(f.Next, func(s api.Step) bool { return s.Change != nil })
}

func (a *app) tellFindings(t *table, all api.Findings) {
	list := all.Items
	if a.output == "csv" {
		t.header("CODE", "SUBJECT", "SINCE", "CERTAINTY", "CAUSE")
		for _, f := range list {
			t.row(string(f.Code), f.Subject, f.Since.Format(time.RFC3339), fmt.Sprint(f.Certainty), f.Cause)
		}
		return
	}
	for _, m := range all.Taken {
		a.tell(t, "", m.Text)
	}
	for _, w := range all.Watching {
		a.tell(t, "", w.Text)
	}
	if len(list)+len(all.Watching) == 0 {
		t.line("nothing is wrong with communication")
	}
	for i, f := range list {
		if i > 0 || len(all.Watching)+len(all.Taken) > 0 {
			t.line("")
		}
		a.tell(t, "", fmt.Sprintf("%s %s: %s (%.0f %% certain, since %s %s)", f.Kind, f.Subject, f.Code, 100*f.Certainty, f.Since.Local().Format(time.TimeOnly), zone()))
		a.tell(t, "  ", f.Cause)
		for _, e := range f.Evidence {
			if e != "" {
				a.tell(t, "  seen: ", e)
			}
		}
		for k, step := range f.Next {
			a.tell(t, fmt.Sprintf("  %d. ", k+1), step.Text)
			if step.Change != nil {
				which := ""
				if k != firstChange(f) {
					which = fmt.Sprintf(" --step %d", k+1)
				}
				t.line(fmt.Sprintf("     [arithmon findings apply %s %s%s]", f.Code, f.Subject, which))
			}
			if step.Action != nil {
				t.line("     [arithmon " + commandOf(*step.Action) + "]")
			}
		}
	}
}

// commandOf is the command that does what a step asks of the service.
func commandOf(a api.StepAction) string {
	forms := map[diagnose.Verb]string{
		diagnose.Scan: "scan %s", diagnose.ScanSettings: "scan %s --settings", diagnose.Probe: "probe %s", diagnose.Ports: "ports", diagnose.Traffic: "traffic --link %s",
		diagnose.Frames: "traffic --fields --station %s", diagnose.Wrong: "traffic --wrong --fields --station %s", diagnose.Refresh: "station refresh %s",
		diagnose.SetTime: "station ask %s set-time", diagnose.Explain: "explain %s",
	}
	return strings.TrimSuffix(strings.Replace(forms[a.Verb], "%s", a.Subject, 1), " ")
}

func (a *app) traffic() *cobra.Command {
	var link, station string
	var function, limit int
	var wrong, follow, fields bool
	query := func() url.Values {
		q := url.Values{"link": {link}, "station": {station}, "wrong": {strconv.FormatBool(wrong)}}
		if function != 0 {
			q.Set("function", strconv.Itoa(function))
		}
		return q
	}
	c := &cobra.Command{
		Use:   "traffic",
		Short: "Show what crosses the links, frame by frame",
		Args:  arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			q := query()
			q.Set("limit", strconv.Itoa(limit))
			q.Set("fields", strconv.FormatBool(fields || a.output != "text"))
			for {
				t, err := a.client().Traffic(c.Context(), q)
				if err != nil {
					if follow && c.Context().Err() != nil {
						return nil
					}
					return err
				}
				if err := a.printFrames(t.Frames, fields); err != nil {
					return err
				}
				if !follow {
					return nil
				}
				q.Set("after", strconv.FormatUint(t.Last, 10))
				q.Set("limit", "5000")
				select {
				case <-c.Context().Done():
					return nil
				case <-time.After(300 * time.Millisecond):
				}
			}
		}}
	c.PersistentFlags().StringVar(&link, "link", "", "only this link")
	c.PersistentFlags().StringVar(&station, "station", "", "only this station")
	c.PersistentFlags().IntVar(&function, "function", 0, "only this function code")
	c.PersistentFlags().BoolVar(&wrong, "wrong", false, "only what is wrong, and refusals")
	c.Flags().IntVar(&limit, "limit", 40, "the newest so many")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what comes, until Ctrl-C")
	c.Flags().BoolVar(&fields, "fields", false, "with every field of each frame")
	export := &cobra.Command{Use: "export FILE", Short: "Write the frames that are kept as a pcapng capture", Args: arguments(1, 1, "one file"),
		Long: `Write the frames that are kept as a pcapng capture, which a protocol analyser opens.
Those of a network are IP packets with their real addresses and ports; those of serial lines have the link type USER0 (147),
which the analyser is told is Modbus RTU.`,
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.client().Capture(c.Context(), query())
			if err != nil {
				return err
			}
			return os.WriteFile(args[0], data, 0o644)
		}}
	var megabytes int
	record := &cobra.Command{Use: "record", Short: "Record to a capture file on the service's machine, up to a size", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.client().Record(c.Context(), api.RecordRequest{Link: link, LimitMB: megabytes})
			if err != nil {
				return err
			}
			return a.printRecording(r)
		}}
	record.Flags().IntVar(&megabytes, "limit", 100, "size at which it ends, in megabytes")
	state := &cobra.Command{Use: "recording", Short: "Show the recording that runs, or ran last", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.client().Recording(c.Context(), false)
			if err != nil {
				return err
			}
			return a.printRecording(r)
		}}
	stop := &cobra.Command{Use: "stop", Short: "End the recording", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.client().Recording(c.Context(), true)
			if err != nil {
				return err
			}
			return a.printRecording(r)
		}}
	c.AddCommand(export, record, state, stop)
	return c
}

func (a *app) printRecording(r api.Recording) error {
	return a.print(r, func(t *table) {
		switch {
		case r.File == "":
			t.line("nothing was recorded since the service started")
		case r.Running:
			t.line(fmt.Sprintf("recording to %s: %d frames, %d bytes of at most %d", r.File, r.Frames, r.Bytes, r.Limit))
		default:
			t.line(fmt.Sprintf("%s: %d frames, %d bytes; %s", r.File, r.Frames, r.Bytes, r.Ended))
		}
		if r.Dropped > 0 {
			t.line(fmt.Sprintf("%d frames came faster than the disk took them", r.Dropped))
		}
	})
}

// arrow shows which way a frame went, or what is wrong with it.
func arrow(k traffic.Kind) string {
	switch {
	case k == traffic.Sent:
		return "→"
	case k.Wrong():
		return "✕ " + k.String()
	}
	return "←"
}

func (a *app) printFrames(frames []api.TrafficFrame, fields bool) error {
	if a.output != "text" {
		for _, f := range frames {
			b, err := json.Marshal(f)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s\n", b)
		}
		return nil
	}
	const (
		margin      = "                            " // below what was said of the frame
		bytesInLine = 16
	)
	t := &table{}
	for _, f := range frames {
		took := ""
		if f.AfterMS > 0 {
			took = fmt.Sprintf(" (%.1f ms)", f.AfterMS)
		}
		subject := f.Station
		if subject == "" {
			subject = f.Link
		}
		a.tell(t, fmt.Sprintf("%s %-14s %s ", f.Time.Local().Format("15:04:05.000"), subject, arrow(f.Kind)), f.Summary+took)
		if f.Problem != "" && f.Problem != f.Summary {
			a.tell(t, margin, f.Problem)
		}
		if f.Bytes != "" {
			for line := range slices.Chunk(strings.Fields(f.Bytes), bytesInLine) {
				t.line(margin + strings.Join(line, " "))
			}
		}
		for _, field := range f.Fields {
			if fields {
				a.tell(t, fmt.Sprintf("%s%3d  %-16s ", margin, field.At, field.Name), strings.TrimSpace(field.Value+"  "+strings.Join(field.Tags, " ")))
			}
		}
	}
	return t.write(a.Out)
}

// printFigures prints the figures of links and stations over a window.
func (a *app) printFigures(st api.Status, window string) error {
	pick := func(w api.Windows) api.Figures {
		return map[string]api.Figures{"minute": w.Minute, "quarter": w.Quarter, "total": w.Total}[window]
	}
	return a.print(st, func(t *table) {
		t.header("NAME", "REQUESTS", "GOOD", "TIMEOUT", "CHECKSUM", "REFUSED", "RETRY", "LATE", "MEDIAN", "P95", "MOST", "BUSY")
		row := func(name string, f api.Figures) {
			refused := 0
			var codes []string
			for code, n := range f.Exceptions {
				refused += int(n)
				codes = append(codes, fmt.Sprintf("%d×%d", code, n))
			}
			slices.Sort(codes)
			text := strconv.Itoa(refused)
			if refused > 0 {
				text += " (" + strings.Join(codes, " ") + ")"
			}
			t.row(name, fmt.Sprint(f.Requests), fmt.Sprintf("%.1f %%", 100*f.Good), fmt.Sprint(f.Timeouts), fmt.Sprint(f.Checksums), text, fmt.Sprint(f.Retries),
				fmt.Sprint(f.Late), fmt.Sprintf("%.1f ms", f.RoundTrip.Median), fmt.Sprintf("%.1f ms", f.RoundTrip.P95), fmt.Sprintf("%.1f ms", f.RoundTrip.Most), fmt.Sprintf("%.0f %%", 100*f.Occupancy))
		}
		for _, l := range st.Links {
			row(l.Name, pick(l.Figures))
			for _, s := range st.Stations {
				if s.Link == l.Name {
					row("  "+s.Name, pick(s.Figures))
				}
			}
		}
	})
}
