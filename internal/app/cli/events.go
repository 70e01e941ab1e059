package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	dnp3driver "arithmon/internal/live/driver/dnp3"
)

func (a *app) events() *cobra.Command {
	var station, from, until string
	var last int
	var follow bool
	var limit time.Duration
	c := &cobra.Command{
		Use:   "events [PATTERN]",
		Short: "What devices reported, in their order, with their own times",
		Long: `What devices reported, in the order in which they reported it, each with the time that the device gave it.
PATTERN is a tag, or one with * for any characters. With --follow new events are printed as they come; Ctrl-C ends it.`,
		Args: arguments(0, 1, "at most one tag or pattern"),
		RunE: func(c *cobra.Command, args []string) error {
			query := url.Values{"tag": args, "limit": {fmt.Sprint(last)}}
			for name, text := range map[string]string{"station": station, "from": from, "until": until} {
				if text != "" {
					query.Set(name, text)
				}
			}
			if !follow {
				page, err := a.client().Events(c.Context(), query)
				if err != nil {
					return err
				}
				return a.print(page.Items, func(t *table) {
					t.header("DEVICE TIME (UTC)", "TAG", "VALUE", "QUALITY", "CAME AFTER", "OBJECT")
					for _, e := range page.Items {
						t.row(eventCells(e)...)
					}
				})
			}
			ctx, cancel := c.Context(), func() {}
			if limit > 0 {
				ctx, cancel = context.WithTimeout(ctx, limit)
			}
			defer cancel()
			err := a.client().FollowEvents(ctx, query, a.tellEvent)
			if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
				return nil // ended as asked
			}
			return err
		}}
	c.Flags().StringVar(&station, "station", "", "only those of this station")
	c.Flags().StringVar(&from, "from", "", "only what became known at this time or later, such as 2026-11-23T08:00:00Z")
	c.Flags().StringVar(&until, "until", "", "only what became known before this time")
	c.Flags().IntVar(&last, "last", 50, "the newest so many, 1 to 10000")
	c.Flags().BoolVar(&follow, "follow", false, "print new ones as they come")
	c.Flags().DurationVar(&limit, "for", 0, "with --follow: end after this time, such as 10s")
	return c
}

// eventCells are what a person reads of an event.
func eventCells(e api.EventRecord) []string {
	at, after := "-", "-"
	if e.SourceTime != nil {
		at, after = e.SourceTime.Format("2006-01-02 15:04:05.000"), e.Time.Sub(e.SourceTime.Time).Round(time.Millisecond).String()
	}
	quality := e.Quality.String()
	if e.Reason != "" {
		quality += " (" + string(e.Reason) + ")"
	}
	return []string{at, e.Tag, strings.TrimSpace(e.Text + " " + e.Unit), quality, after, e.Raw}
}

// tellEvent prints one event as it comes.
func (a *app) tellEvent(e api.EventRecord) error {
	switch a.output {
	case "json":
		b, err := json.Marshal(e)
		if err == nil {
			_, err = fmt.Fprintf(a.Out, "%s\n", b)
		}
		return err
	case "yaml":
		fmt.Fprintln(a.Out, "---")
		return writeYAML(a.Out, e)
	case "csv":
		cells := eventCells(e)
		for i := range cells {
			cells[i] = quoted(cells[i])
		}
		_, err := fmt.Fprintln(a.Out, strings.Join(cells, ","))
		return err
	}
	cells := eventCells(e)
	_, err := fmt.Fprintf(a.Out, "%s  %-28s  %-12s  %s\n", cells[0], cells[1], cells[2], cells[3])
	return err
}

// asking is the verb ask of stations.
func (a *app) asking() *cobra.Command {
	var actions strings.Builder
	for _, action := range dnp3driver.New().Actions() {
		fmt.Fprintf(&actions, "\n  %-20s %s", action.Name, action.Text)
	}
	c := &cobra.Command{
		Use:   "ask NAME WHAT",
		Short: "Have a DNP3 station set its clock, freeze counters, restart",
		Long:  "Run a protocol action on a DNP3 station. It is recorded as writes are. WHAT is one of" + actions.String(),
		Args:  arguments(2, 2, "a station and what it is to do"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.client().Ask(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(r, func(t *table) { t.line(r.Message) })
		}}
	return c
}
