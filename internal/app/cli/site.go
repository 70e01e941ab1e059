package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
)

func (a *app) apply() *cobra.Command {
	var dryRun, prune, force bool
	c := &cobra.Command{
		Use:   "apply FILE",
		Short: "Take over a site file, all or nothing",
		Long: `Take over a site file in YAML or JSON, all or nothing; - reads the standard input.
Entries are added or replaced; what the file does not name stays, unless --prune is given. What somebody changed since the file was exported is
not taken back, unless --force is given.`,
		Args: arguments(1, 1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			apply := a.client().Apply
			if force {
				apply = a.client().ApplyByForce
			}
			sum, err := apply(c.Context(), args[0], data, dryRun, prune)
			if err != nil {
				return fmt.Errorf("%s was not applied; nothing was changed\n%w", args[0], err)
			}
			return a.printSummary(sum)
		}}
	c.Flags().BoolVar(&dryRun, "dry-run", false, "say what would change, and change nothing")
	c.Flags().BoolVar(&prune, "prune", false, "remove what the file does not name")
	c.Flags().BoolVar(&force, "force", false, "take back what was changed since the file was exported")
	return c
}

func (a *app) export() *cobra.Command {
	var only []string
	c := &cobra.Command{
		Use:   "export [FILE]",
		Short: "Write the site as a site file",
		Long:  "Write the site as a site file: YAML, or JSON with -o json or to a FILE whose name ends with .json.",
		Args:  arguments(0, 1, "at most one file"),
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.client().Export(c.Context(), only...)
			if err != nil {
				return err
			}
			if a.output == "json" || len(args) == 1 && strings.HasSuffix(args[0], ".json") {
				if data, err = asJSON(data); err != nil {
					return err
				}
			}
			if len(args) == 1 {
				return os.WriteFile(args[0], data, 0o644)
			}
			_, err = a.Out.Write(data)
			return err
		}}
	c.Flags().StringArrayVar(&only, "only", nil, "tag or pattern: these points alone, with their stations and links; may be repeated")
	return c
}

func (a *app) backup() *cobra.Command {
	return &cobra.Command{
		Use:   "backup FILE",
		Short: "Save a copy of the whole database while it is used",
		Long: `Save a copy of the whole database as it is now: the site, its changes, writes and events. The service goes on meanwhile.
To go back to it, stop the service and put it back: arithmon restore-backup FILE --data DIR.`,
		Args: arguments(1, 1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := os.Lstat(args[0]); err == nil {
				return fmt.Errorf("%s is there already; nothing was saved. Give another name, or remove it first", args[0])
			}
			to, err := os.CreateTemp(filepath.Dir(args[0]), ".backup-*")
			if err != nil {
				return err
			}
			defer os.Remove(to.Name()) // without effect once it has its name
			err = a.client().Backup(c.Context(), to)
			if err = errors.Join(err, to.Sync(), to.Close()); err != nil {
				return fmt.Errorf("nothing was saved: %w", err)
			}
			if err := os.Rename(to.Name(), args[0]); err != nil {
				return err
			}
			saved, err := os.Stat(args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "saved %s, %d KiB\n", args[0], (saved.Size()+1023)/1024)
			return nil
		}}
}

func (a *app) status() *cobra.Command {
	var window string
	var reset bool
	c := &cobra.Command{
		Use:   "status",
		Short: "Show how links and stations communicate",
		Args:  arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if reset {
				return a.client().ResetFigures(c.Context())
			}
			if window != "" && window != "minute" && window != "quarter" && window != "total" {
				return usage("--figures %s: choose minute, quarter or total", window)
			}
			st, err := a.client().Status(c.Context())
			if err != nil {
				return err
			}
			if window != "" {
				return a.printFigures(st, window)
			}
			return a.print(st, func(t *table) {
				t.header("NAME", "STATE", "GOOD", "UNCERTAIN", "BAD", "ROUND TRIP", "REASON")
				for _, l := range st.Links {
					t.row(l.Name, state(l), "", "", "", milliseconds(l.Statistics), l.Reason)
					for _, s := range st.Stations {
						if s.Link == l.Name {
							t.row("  "+s.Name, string(s.State), strconv.Itoa(s.Points.Good), strconv.Itoa(s.Points.Uncertain), strconv.Itoa(s.Points.Bad), milliseconds(s.Statistics), s.Reason)
						}
					}
				}
			})
		}}
	c.Flags().StringVar(&window, "figures", "", "show the figures over the last minute, the last quarter of an hour, or in total")
	c.Flags().Lookup("figures").NoOptDefVal = "minute"
	c.Flags().BoolVar(&reset, "reset", false, "begin the total figures anew")
	return c
}

func (a *app) ports() *cobra.Command {
	return &cobra.Command{
		Use:   "ports",
		Short: "List the serial ports of the service's machine",
		Args:  arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Ports(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				for _, port := range list {
					t.line(port)
				}
				if len(list) == 0 && a.output == "text" {
					t.line("no serial port; is the adapter plugged in?")
				}
			})
		}}
}

// state says what a link is, and what it is doing.
func state(l api.LinkStatus) string {
	if l.Doing != "" {
		return string(l.State) + ", " + l.Doing
	}
	return string(l.State)
}

func milliseconds(s api.Statistics) string {
	if s.LastAnswer == nil {
		return "-"
	}
	return fmt.Sprintf("%.1f ms", s.RoundTripMS)
}

func (a *app) changes() *cobra.Command {
	var limit int
	var quarantined bool
	c := &cobra.Command{
		Use:   "changes [link|station|point NAME]",
		Short: "Show who changed what in the site, newest first",
		RunE: func(c *cobra.Command, args []string) error {
			kind, name := "", ""
			if quarantined {
				list, err := a.client().Quarantined(c.Context())
				if err != nil {
					return err
				}
				return a.print(list, func(t *table) {
					t.header(a.timeHead("TIME"), "KIND", "NAME", "WHY")
					for _, q := range list {
						t.row(a.stamp(q.Time), string(q.Kind), q.Name, q.Why)
					}
				})
			}
			switch len(args) {
			case 0:
			case 2:
				kind, name = args[0], args[1]
			default:
				return usage("changes takes nothing, or a kind and a name, such as: changes point sallow/gate1/position")
			}
			list, err := a.client().Changes(c.Context(), site.Kind(kind), name, limit)
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("ID", a.timeHead("TIME"), "WHO", "ACTION", "KIND", "NAME", "MESSAGE")
				for _, r := range list {
					t.row(strconv.FormatInt(r.ID, 10), a.stamp(r.Time), r.Who, string(r.Action), string(r.Kind), r.Name, r.Message)
				}
			})
		}}
	c.AddCommand(a.changesShow())
	c.Flags().IntVar(&limit, "limit", 50, "most lines")
	c.Flags().BoolVar(&quarantined, "quarantined", false, "instead: stored records that did not fit the site when it was loaded")
	return c
}

func (a *app) undo() *cobra.Command {
	return &cobra.Command{
		Use:   "undo ID",
		Short: "Undo a recorded change, with those made together with it",
		Long:  `Undo a recorded change, with those that were made together with it, such as the other entries of a file. arithmon changes shows their numbers. The undoing is recorded, too.`,
		Args:  arguments(1, 1, "the number of one change"),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is no number of a change; arithmon changes shows them", args[0])
			}
			sum, err := a.client().Undo(c.Context(), id)
			if err != nil {
				return err
			}
			return a.printSummary(sum)
		}}
}

func (a *app) writes() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:   "writes [TAG]",
		Short: "Show what was written to devices, newest first",
		Args:  arguments(0, 1, "at most one tag"),
		RunE: func(c *cobra.Command, args []string) error {
			tag := ""
			if len(args) == 1 {
				tag = args[0]
			}
			list, err := a.client().Writes(c.Context(), tag, limit)
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				if a.output == "csv" {
					t.header("TIME", "WHO", "TAG", "STATION", "ADDRESS", "OUTCOME", "TRIED", "BEFORE", "SENT", "AFTER", "MESSAGE")
					for _, w := range list {
						t.row(a.stamp(w.Time), w.Who, w.Tag, w.Station, w.Address, w.Outcome, w.Tried, w.Before.String(), w.Sent.String(), w.After.String(), w.Message)
					}
					return
				}
				for _, w := range list {
					where := w.Tag
					if where == "" {
						where = w.Station + " " + w.Address
					}
					a.tell(t, "", fmt.Sprintf("%s %s  %s  %s: %s", a.stamp(w.Time), zone(), w.Who, where, w.Outcome))
					if w.Tried != "" && w.Outcome != string(control.Done) {
						a.tell(t, "    ", "tried: "+w.Tried)
					}
					a.tell(t, "    ", w.Message)
				}
			})
		}}
	c.Flags().IntVar(&limit, "limit", 50, "most lines")
	return c
}
