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
	"arithmon/internal/core/site"
)

func (a *app) alarm() *cobra.Command {
	c := a.alarmList()
	c.Use, c.Aliases = "alarm [PATTERN]...", []string{"alarms"}
	c.AddCommand(a.alarmList(), a.alarmHistory(), a.alarmAck(), a.alarmShelve(), a.alarmUnshelve())
	return c
}

func (a *app) alarmList() *cobra.Command {
	var state string
	var follow bool
	var limit time.Duration
	c := &cobra.Command{
		Use:   "list [PATTERN]...",
		Short: "Alarms: points that are, or were, out of their limits",
		Long: `Show the alarms that stand, the most urgent first. A point has limits when it says so:
--limits '{low: 0.3, high: 2.6, deadband: 0.05, delay: 5s, severity: 2}', or '{state: tripped}'. An alarm is active until it is acknowledged or
gone, and stays on the list until it is both (ISA-18.2). Limits are judged by good values alone; a point with limits that is bad has an alarm of
its own (quality). With --follow what happens is printed as it comes; Ctrl-C ends it. Ends with 4 when an alarm stands.`,
		Args: arguments(0, -1, "tags or patterns"),
		RunE: func(c *cobra.Command, args []string) error {
			if follow {
				ctx, cancel := c.Context(), func() {}
				if limit > 0 {
					ctx, cancel = context.WithTimeout(ctx, limit)
				}
				defer cancel()
				err := a.client().FollowAlarms(ctx, args, a.tellAlarm)
				if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
					return nil // ended as asked
				}
				return err
			}
			all, err := a.client().Alarms(c.Context(), state, args...)
			if err != nil {
				return err
			}
			if err := a.print(all.Items, func(t *table) {
				if len(all.Items) == 0 && a.output != "csv" {
					t.line("no alarm" + shelved(all.Counts))
					return
				}
				t.header("SEVERITY", "TAG", "LIMIT", "STATE", a.timeHead("SINCE"), "VALUE", "NOW")
				for _, x := range all.Items {
					t.row(alarmCells(a, x)...)
				}
				if a.output != "csv" {
					t.line(fmt.Sprintf("%d active, %d unacknowledged%s", all.Counts.Active, all.Counts.Unacknowledged, shelved(all.Counts)))
				}
			}); err != nil {
				return err
			}
			if len(all.Items) > 0 && state == "" {
				return &exitError{code: exitNotGood}
			}
			return nil
		}}
	c.Flags().StringVar(&state, "state", "", "only those that are active, acknowledged, gone or shelved; all: also what is shelved")
	c.Flags().BoolVar(&follow, "follow", false, "print what happens as it comes")
	c.Flags().DurationVar(&limit, "for", 0, "with --follow: end after this time, such as 10s")
	return c
}

func shelved(n api.AlarmCounts) string {
	if n.Shelved == 0 {
		return ""
	}
	return fmt.Sprintf(", %d shelved", n.Shelved)
}

// alarmCells are what a person reads of an alarm.
func alarmCells(a *app, x api.Alarm) []string {
	state := string(x.State)
	if state == "" {
		state = "within"
	}
	if x.State == "acknowledged" {
		state += " by " + x.AckedBy
	}
	if x.Unknown {
		state += ", not known now"
	}
	if x.ShelvedUntil != nil {
		state += ", shelved until " + a.stamp(*x.ShelvedUntil)
	}
	since := "-"
	if x.Since != nil {
		since = a.stamp(*x.Since)
	}
	limit := string(x.Limit)
	if x.BoundText != "" {
		limit += " " + x.BoundText
	}
	return []string{fmt.Sprint(x.Severity), x.Tag, limit, state, since, orDash(x.Text, x.Text), orDash(x.Now, x.Now)}
}

// tellAlarm prints one thing that happened to an alarm as it comes.
func (a *app) tellAlarm(e api.AlarmEntry) error {
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
		cells := entryCells(a, e)
		for i := range cells {
			cells[i] = quoted(cells[i])
		}
		_, err := fmt.Fprintln(a.Out, strings.Join(cells, ","))
		return err
	}
	c := entryCells(a, e)
	_, err := fmt.Fprintf(a.Out, "%s  %-12s  %-28s  %-9s  %s  %s\n", c[0], c[1], c[2], c[3], c[4], strings.TrimSpace(c[5]+" "+c[6]))
	return err
}

// entryCells are what a person reads of an entry.
func entryCells(a *app, e api.AlarmEntry) []string {
	limit := string(e.Limit)
	if e.Bound != nil {
		limit += fmt.Sprintf(" %g", *e.Bound)
	}
	note := e.Note
	if e.Until != nil {
		note = strings.TrimSpace("until " + a.stamp(*e.Until) + " " + note)
	}
	return []string{a.stamp(e.Time), string(e.Step), e.Tag, limit, e.Value, e.Who, note}
}

func (a *app) alarmHistory() *cobra.Command {
	var of window
	var last int
	c := &cobra.Command{
		Use:   "history [PATTERN]...",
		Short: "What happened to alarms, the newest first",
		Args:  arguments(0, -1, "tags or patterns"),
		RunE: func(c *cobra.Command, args []string) error {
			from, to, err := of.resolve(time.Now())
			if err != nil {
				return err
			}
			list, err := a.client().AlarmHistory(c.Context(), url.Values{"tag": args, "from": {from}, "to": {to}, "limit": {fmt.Sprint(last)}})
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header(a.timeHead("TIME"), "STEP", "TAG", "LIMIT", "VALUE", "WHO", "NOTE")
				for _, e := range list {
					t.row(entryCells(a, e)...)
				}
			})
		}}
	of.flags(c)
	c.Flags().Lookup("from").DefValue, of.from = "7d", "7d"
	c.Flags().IntVar(&last, "last", 100, "the newest so many, 1 to 10000")
	return c
}

// deed is a verb that does something to alarms.
func (a *app) deed(use, short, path, done string, more func(*cobra.Command, *api.AlarmDeed)) *cobra.Command {
	var what api.AlarmDeed
	var limit string
	c := &cobra.Command{
		Use:   use + " TAG|PATTERN...",
		Short: short,
		Args:  arguments(1, -1, "at least one tag or pattern"),
		RunE: func(c *cobra.Command, args []string) error {
			what.Tags, what.Limit = args, site.Limit(strings.ReplaceAll(limit, "-", "_"))
			n, err := a.client().DoAlarms(c.Context(), path, what)
			if err != nil {
				return err
			}
			return a.print(map[string]int{"done": n}, func(t *table) { t.line(fmt.Sprintf("%d %s", n, done)) })
		}}
	c.Flags().StringVar(&limit, "limit", "", "this one alone: low_low, low, high, high_high, rate, state or quality")
	if more != nil {
		more(c, &what)
	}
	return c
}

func (a *app) alarmAck() *cobra.Command {
	return a.deed("ack", "Acknowledge alarms: somebody knows of them", "acknowledge", "acknowledged", func(c *cobra.Command, what *api.AlarmDeed) {
		c.Flags().StringVar(&what.Note, "note", "", "what is to be kept with it")
	})
}

func (a *app) alarmShelve() *cobra.Command {
	return a.deed("shelve", "Have nobody told of alarms for a while", "shelve", "shelved", func(c *cobra.Command, what *api.AlarmDeed) {
		c.Flags().StringVar(&what.For, "for", "", "how long, 1m to 7d, such as 2h")
		c.Flags().StringVar(&what.Note, "note", "", "why")
	})
}

func (a *app) alarmUnshelve() *cobra.Command {
	return a.deed("unshelve", "End the shelving of alarms", "unshelve", "not shelved any more", nil)
}
