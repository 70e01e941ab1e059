package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// id reads the number of a change, a proposal or a note.
func id(text, what, list string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, usage("%q is no number of a %s; %s shows them", text, what, list)
	}
	return n, nil
}

// differences lays out what differs between two states: a line for each field.
func differences(t *table, list []api.EntityDifference) {
	t.header("ACTION", "KIND", "NAME", "FIELD", "FROM", "TO")
	for _, d := range list {
		action, kind, name := string(d.Action), string(d.Kind), d.Name
		if d.Action != site.Modify {
			t.row(action, kind, name, "", "", gist(d))
			continue
		}
		for _, f := range d.Fields {
			t.row(action, kind, name, f.Field, cell(f.From), cell(f.To))
		}
	}
}

// gist is what came or went, in few words.
func gist(d api.EntityDifference) string {
	var parts []string
	for _, f := range d.Fields {
		value := f.To
		if d.Action == site.Remove {
			value = f.From
		}
		switch f.Field {
		case "station", "address", "type", "link", "unit", "host", "protocol":
			parts = append(parts, cell(value))
		}
	}
	return strings.Join(parts, " ")
}

// cell is a value of a field in a table.
func cell(value any) string {
	switch v := value.(type) {
	case nil:
		return "–"
	case string:
		return v
	}
	text, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return string(text)
}

func (a *app) changesShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "Show changes that were made together, field by field",
		Args:  arguments(1, 1, "the number of one change"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "change", "arithmon changes")
			if err != nil {
				return err
			}
			set, err := a.client().ChangeSet(c.Context(), n)
			if err != nil {
				return err
			}
			if a.output == "text" {
				fmt.Fprintf(a.Err, "change %d, by %s at %s\n", set.ID, set.Who, a.stamp(set.Time))
				if set.Message != "" {
					fmt.Fprintln(a.Err, set.Message)
				}
			}
			return a.print(set, func(t *table) { differences(t, set.Changes) })
		}}
}

const stateHelp = `A state is a version (arithmon version list), the number of a change (arithmon changes), a time such as 2026-11-28T10:00, how long ago (2h),
or now.`

func (a *app) diff() *cobra.Command {
	var only []string
	c := &cobra.Command{
		Use:   "diff A [B]",
		Short: "Show in what two states of the site differ, field by field",
		Long: `Show in what two states of the site differ, field by field; without B, in what A differs from now. ` + stateHelp + `
B may also be a site file.`,
		Args: arguments(1, 2, "one or two states"),
		RunE: func(c *cobra.Command, args []string) error {
			to := "now"
			if len(args) == 2 {
				to = args[1]
			}
			var file []byte
			if strings.ContainsAny(to, "./\\") && !strings.Contains(to, ":") || to == "-" {
				var err error
				if file, err = a.readFile(to); err != nil {
					return err
				}
			}
			out, err := a.client().Diff(c.Context(), args[0], to, file, only)
			if err != nil {
				return err
			}
			return a.print(out, func(t *table) {
				if differences(t, out.Items); len(out.Items) == 0 {
					t.head = nil
					t.line("They do not differ.")
				}
			})
		}}
	c.Flags().StringArrayVar(&only, "only", nil, "tag or pattern: these points alone; may be repeated")
	return c
}

func (a *app) versionAdd() *cobra.Command {
	var at string
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Name a state of the site, to compare with and to go back to",
		Long:  `Name a state of the site: as it is now, or was at another time. --message says what it is. ` + stateHelp,
		Args:  arguments(1, 1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			v, err := a.client().AddVersion(c.Context(), api.NewVersion{Name: args[0], At: at, Message: a.said.Message})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s is the site after change %d\n", v.Name, v.Change)
			return nil
		}}
	c.Flags().StringVar(&at, "at", "", "the state that is named (default now)")
	return c
}

func (a *app) versionList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the named states of the site", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Versions(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "CHANGE", a.timeHead("NAMED"), "WHO", "MESSAGE")
				for _, v := range list {
					t.row(v.Name, strconv.FormatInt(v.Change, 10), a.stamp(v.Time), v.Who, v.Message)
				}
			})
		}}
}

func (a *app) restore() *cobra.Command {
	var only []string
	var dry bool
	c := &cobra.Command{
		Use:   "restore STATE",
		Short: "Make the site, or some points, what they were",
		Long: `Make the site what it was, or with --only some points of it. It is a change as any other: it is recorded, and can be undone.
` + stateHelp,
		Args: arguments(1, 1, "one state"),
		RunE: func(c *cobra.Command, args []string) error {
			sum, err := a.client().Restore(c.Context(), api.Restoring{To: args[0], Only: only, DryRun: dry})
			if err != nil {
				return err
			}
			return a.printSummary(sum)
		}}
	c.Flags().StringArrayVar(&only, "only", nil, "tag or pattern: these points alone, with what they need; may be repeated")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	return c
}

// proposal are the verbs of what is proposed.
func (a *app) proposal() *cobra.Command {
	c := &cobra.Command{
		Use:   "proposal",
		Short: "Changes that were prepared and are not in force",
		Long: `Changes that were prepared and are not in force. Every command that changes the site makes one with --propose TITLE, also for who may only look.
An engineer takes it over, on top of what was changed since, or drops it.`,
	}
	var state string
	list := &cobra.Command{
		Use: "list", Short: "List what is proposed", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if state == "all" {
				state = ""
			}
			list, err := a.client().Proposals(c.Context(), state)
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("ID", "TITLE", "STATE", "WHO", a.timeHead("TIME"), "DECIDED BY")
				for _, p := range list {
					t.row(strconv.FormatInt(p.ID, 10), p.Title, string(p.State), p.Who, a.stamp(p.Time), p.DecidedBy)
				}
			})
		}}
	list.Flags().StringVar(&state, "state", "open", "open, taken, dropped or all")
	show := &cobra.Command{
		Use: "show ID", Short: "Show what a proposal changes, and what is said of it", Args: arguments(1, 1, "the number of one proposal"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "proposal", "arithmon proposal list")
			if err != nil {
				return err
			}
			p, err := a.client().Proposal(c.Context(), n)
			if err != nil {
				return err
			}
			if a.output == "text" {
				fmt.Fprintf(a.Err, "proposal %d, %s: %s, by %s at %s\n", p.ID, p.State, p.Title, p.Who, a.stamp(p.Time))
				for _, m := range p.Comments {
					fmt.Fprintf(a.Err, "  %s, %s: %s\n", m.Who, a.stamp(m.Time), m.Text)
				}
				a.conflicts(p.Conflicts)
			}
			return a.print(p, func(t *table) { differences(t, p.Changes) })
		}}
	var all string
	var dry bool
	var choose map[string]string
	take := &cobra.Command{
		Use:   "take ID",
		Short: "Put a proposal into force",
		Long: `Put a proposal into force, on top of what was changed since it was made. Where somebody changed the same since, say which it is to be:
--all mine for what the proposal has, --all theirs for what is there now, or --choose 'point tern/a unit=mine' for one field.`,
		Args: arguments(1, 1, "the number of one proposal"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "proposal", "arithmon proposal list")
			if err != nil {
				return err
			}
			sum, err := a.client().TakeProposal(c.Context(), n, api.Taking{Choose: choose, All: all, DryRun: dry})
			var problem *client.ProblemError
			if errors.As(err, &problem) {
				a.conflicts(problem.Conflicts)
			}
			if err != nil {
				return err
			}
			return a.printSummary(sum)
		}}
	take.Flags().StringVar(&all, "all", "", "where somebody changed the same since: mine for what the proposal has, theirs for what is there")
	take.Flags().StringToStringVar(&choose, "choose", nil, "the same for one field: 'point tern/a unit=mine'; may be repeated")
	take.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	drop := &cobra.Command{
		Use: "drop ID", Short: "Drop a proposal", Args: arguments(1, 1, "the number of one proposal"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "proposal", "arithmon proposal list")
			if err != nil {
				return err
			}
			if err := a.client().DropProposal(c.Context(), n); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "dropped proposal %d\n", n)
			return nil
		}}
	comment := &cobra.Command{
		Use: "comment ID TEXT", Short: "Say something of a proposal", Args: arguments(2, 2, "the number of one proposal, and a text"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "proposal", "arithmon proposal list")
			if err != nil {
				return err
			}
			_, err = a.client().Comment(c.Context(), n, args[1])
			return err
		}}
	c.AddCommand(list, show, take, drop, comment)
	return c
}

// conflicts says what others changed otherwise.
func (a *app) conflicts(list []api.Conflict) {
	for _, c := range list {
		fmt.Fprintf(a.Err, "  conflict: %s: was %s, is %s now, would be %s\n", strings.TrimSpace(fmt.Sprintf("%s %s %s", c.Kind, c.Name, c.Field)), cell(c.Was), cell(c.Theirs), cell(c.Mine))
	}
}

// note are the verbs of notes.
func (a *app) note() *cobra.Command {
	c := &cobra.Command{
		Use:   "note",
		Short: "What people wrote at links, stations and points",
	}
	var all bool
	list := &cobra.Command{
		Use: "list [KIND NAME]", Short: "List notes that are open", Args: arguments(0, 2, "nothing, or a kind and a name"),
		RunE: func(c *cobra.Command, args []string) error {
			query := url.Values{"open": {fmt.Sprint(!all)}}
			switch len(args) {
			case 1:
				return usage("note list takes nothing, or a kind and a name, such as: note list point tern/pump1/current")
			case 2:
				query.Set("kind", args[0])
				query.Set("name", args[1])
			}
			list, err := a.client().Notes(c.Context(), query)
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("ID", "KIND", "NAME", "WHO", a.timeHead("TIME"), "DONE BY", "TEXT")
				for _, n := range list {
					t.row(strconv.FormatInt(n.ID, 10), string(n.Kind), n.Name, n.Who, a.stamp(n.Time), n.DoneBy, n.Text)
				}
			})
		}}
	list.Flags().BoolVar(&all, "all", false, "also those that are done")
	add := &cobra.Command{
		Use: "add KIND NAME TEXT", Short: "Write a note at a link, a station or a point", Args: arguments(3, 3, "a kind, a name and a text"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := a.client().AddNote(c.Context(), api.NewNote{Kind: site.Kind(args[0]), Name: args[1], Text: args[2]})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "wrote note %d\n", n.ID)
			return nil
		}}
	var again bool
	done := &cobra.Command{
		Use: "done ID", Short: "Say that what a note is about is done", Args: arguments(1, 1, "the number of one note"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "note", "arithmon note list")
			if err != nil {
				return err
			}
			return a.client().CloseNote(c.Context(), n, !again)
		}}
	done.Flags().BoolVar(&again, "open", false, "say that it is open again")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Remove a note", Args: arguments(1, 1, "the number of one note"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := id(args[0], "note", "arithmon note list")
			if err != nil {
				return err
			}
			return a.client().RemoveNote(c.Context(), n)
		}}
	c.AddCommand(list, add, done, remove)
	return c
}

func (a *app) restoreBackup() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use:   "restore-backup FILE",
		Short: "Put a backup in the place of the database, while the service is stopped",
		Long: `Put a backup in the place of the database, while the service is stopped. The backup is checked first, and what it replaces stays beside it, under
a name that says when.`,
		Args: arguments(1, 1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := os.Stat(args[0]); err != nil {
				return &exitError{exitNotFound, fmt.Sprintf("there is no file %q", args[0])}
			}
			kept, err := database.Restore(c.Context(), args[0], data, time.Now())
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s is the database of %s now\n", args[0], data)
			if kept != "" {
				fmt.Fprintf(a.Err, "the one before is kept as %s\n", kept)
			}
			return nil
		}}
	c.Flags().StringVar(&data, "data", dataDir(), "directory of the database")
	return c
}
