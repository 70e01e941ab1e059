package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"arithmon/internal/app/api"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// entities are the verbs of each kind of entity: those that all have, and a kind's own.
func (a *app) entities() (list []*cobra.Command) {
	own := map[site.Kind][]*cobra.Command{
		site.KindTemplate: a.ofTemplates(),
		site.KindLink:     {a.listLinks()},
		site.KindStation:  {a.listStations(), a.refreshing(), a.asking(), a.importing()},
		site.KindBoard:    a.ofBoards(),
		site.KindPoint:    {a.listPoints(), a.pointTree(), a.importPoints(), a.exportPoints(), a.renamePoints()},
	}
	for _, kind := range site.Kinds() {
		c := a.entity(kind)
		c.AddCommand(own[kind]...)
		if site.Owned(kind) { // what is asked, rather than what is read
			c.AddCommand(a.copying(kind), a.enabling(kind, true), a.enabling(kind, false), a.testing(kind))
		}
		list = append(list, c)
	}
	return list
}

func (a *app) entity(kind site.Kind) *cobra.Command {
	shape, key := form.Shape(kind), strings.ToUpper(site.KeyField(kind))
	parent := &cobra.Command{Use: string(kind), Short: fmt.Sprintf("List, show, add, change and remove %ss", kind),
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return commandHint(c, args[0])
			}
			return nil
		},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	show := &cobra.Command{Use: "show " + key, Short: "Show one with all its fields", Args: arguments(1, 1, "one "+key),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := a.client().Show(c.Context(), kind, args[0])
			if err != nil {
				return err
			}
			return a.printEntity(e)
		}}
	add := &cobra.Command{Use: "add " + key, Short: "Add one", Args: arguments(1, 1, "one "+key)}
	addFields := fieldFlags(add, shape)
	add.RunE = func(c *cobra.Command, args []string) error {
		fields, err := addFields.given(c)
		if err != nil {
			return err
		}
		fields[strings.ToLower(key)] = args[0]
		e, err := a.client().Add(c.Context(), kind, fields)
		if err != nil {
			return addFields.named(err, site.KeyField(kind))
		}
		return a.printEntity(e)
	}
	set := &cobra.Command{Use: "set " + key, Short: "Change some fields", Args: arguments(1, 1, "one "+key)}
	setFields := fieldFlags(set, shape)
	set.Flags().String(strings.ToLower(key), "", "new "+strings.ToLower(key)+": renames it, and what refers to it follows")
	unset := set.Flags().StringSlice("unset", nil, "field to give its default; may be repeated")
	set.RunE = func(c *cobra.Command, args []string) error {
		fields, err := setFields.given(c)
		if err != nil {
			return err
		}
		for _, name := range *unset {
			fields[strings.ReplaceAll(name, "-", "_")] = nil
		}
		if f := c.Flags().Lookup(strings.ToLower(key)); f.Changed {
			fields[f.Name] = f.Value.String()
		}
		if len(fields) == 0 {
			return usage("nothing to change: give a field, such as --%s. See %s --help", setFields[1].flag(), c.CommandPath())
		}
		e, err := a.client().Set(c.Context(), kind, args[0], fields)
		if err != nil {
			return setFields.named(err, site.KeyField(kind))
		}
		return a.printEntity(e)
	}
	var cascade bool
	remove := &cobra.Command{Use: "remove " + key + "...", Short: "Remove", Args: arguments(1, -1, "at least one "+key),
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range args {
				sum, err := a.client().Remove(c.Context(), kind, name, cascade)
				if err != nil {
					return err
				}
				if err := a.printSummary(sum); err != nil {
					return err
				}
			}
			return nil
		}}
	if site.Owned(kind) {
		remove.Flags().BoolVar(&cascade, "cascade", false, "also what belongs to it")
	}
	if site.Referred(kind) {
		remove.Flags().BoolVar(&cascade, "cascade", false, "also when stations are made from it, which stand alone then")
	}
	if kind == site.KindTemplate {
		a.setTemplate(set, setFields, unset)
		show.RunE = func(c *cobra.Command, args []string) error {
			e, err := a.client().Show(c.Context(), kind, args[0])
			if err != nil {
				return err
			}
			return a.tellTemplate(e)
		}
	}
	if kind == site.KindPoint {
		a.addSeries(add, addFields)
		a.setMany(set, setFields, unset)
		a.removeMany(remove)
	}
	parent.AddCommand(show, add, set, remove)
	return parent
}

// testing is the verb test.
func (a *app) testing(kind site.Kind) *cobra.Command {
	return &cobra.Command{Use: "test NAME", Short: "Does it answer?", Args: arguments(1, 1, "one NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			t, err := a.client().Test(c.Context(), kind, args[0])
			if err != nil {
				return err
			}
			if err := a.print(t, func(tb *table) {
				word := "answers"
				if !t.Answers {
					word = "no response"
				}
				tb.line(fmt.Sprintf("%s: %s (%.1f ms)", word, t.Message, t.RoundTripMS))
			}); err != nil {
				return err
			}
			if !t.Answers {
				return &exitError{code: exitFailed}
			}
			return nil
		}}
}

// documented are the descriptions of a struct's fields by their names.
func documented(of any) map[string]string {
	docs := map[string]string{}
	for _, f := range reflect.VisibleFields(reflect.TypeOf(of)) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		docs[name] = f.Tag.Get("doc")
		if values := f.Tag.Get("enum"); values != "" {
			docs[name] += " (" + strings.ReplaceAll(values, ",", ", ") + ")"
		}
	}
	return docs
}

// copying is the verb copy.
func (a *app) copying(kind site.Kind) *cobra.Command {
	c := &cobra.Command{Use: "copy NAME NEW", Short: "Duplicate one; the copy is disabled", Args: arguments(2, 2, "a name and that of the copy")}
	var link, number, tags string
	var unit int
	if kind == site.KindLink {
		c.Long = "Duplicate a link, without its stations. The copy is disabled, and has no serial port until it is given one."
	} else {
		c.Long = "Duplicate a station. The copy is disabled. With --tags tern/pump1=tern/pump4 its points are duplicated, too,\nwith the second in place of the first in every tag."
		c.Flags().StringVar(&link, "link", "", "link of the copy (default the same)")
		c.Flags().IntVar(&unit, "unit", 0, "unit of the copy (default the next free one)")
		c.Flags().StringVar(&number, "number", "", "telephone number of the copy (default the same)")
		c.Flags().StringVar(&tags, "tags", "", "FROM=TO: copies the points, too, with TO in place of FROM in their tags")
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		fields := map[string]any{"name": args[1]}
		for name, value := range map[string]string{"link": link, "number": number} {
			if value != "" {
				fields[name] = value
			}
		}
		if c.Flags().Changed("unit") {
			fields["unit"] = unit
		}
		if tags != "" {
			from, to, found := strings.Cut(tags, "=")
			if !found || from == "" {
				return usage("--tags %q: write FROM=TO, such as tern/pump1=tern/pump4", tags)
			}
			fields["tags"] = site.TagChange{From: from, To: to}
		}
		e, err := a.client().Copy(c.Context(), kind, args[0], fields)
		if err != nil {
			return err
		}
		return a.printEntity(e)
	}
	return c
}

// enabling is the verb enable or disable.
func (a *app) enabling(kind site.Kind, on bool) *cobra.Command {
	verb := map[bool]string{true: "enable", false: "disable"}[on]
	return &cobra.Command{Use: verb + " NAME...", Short: strings.ToUpper(verb[:1]) + verb[1:] + " some", Args: arguments(1, -1, "at least one name"),
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range args {
				if _, err := a.client().Set(c.Context(), kind, name, map[string]any{"enabled": on}); err != nil {
					return err
				}
				if err := a.print(map[string]any{"name": name, "enabled": on}, func(t *table) { t.line(fmt.Sprintf("%s %s is %s", kind, name, enabled(on))) }); err != nil {
					return err
				}
			}
			return nil
		}}
}

// refreshing is the verb refresh of stations.
func (a *app) refreshing() *cobra.Command {
	return &cobra.Command{Use: "refresh NAME...", Short: "Ask everything at once, what was refused before included", Args: arguments(1, -1, "at least one name"),
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range args {
				if err := a.client().Refresh(c.Context(), name); err != nil {
					return err
				}
			}
			return nil
		}}
}

// printEntity prints one entity, for people a field a line.
func (a *app) printEntity(e json.RawMessage) error {
	if a.output == "text" || a.output == "csv" {
		var doc yaml.Node
		if err := yaml.Unmarshal(e, &doc); err != nil {
			return err
		}
		return a.print(e, func(t *table) {
			t.header("FIELD", "VALUE")
			outstation := slices.ContainsFunc(doc.Content[0].Content, func(n *yaml.Node) bool { return n.Value == "outstation" })
			for i := 0; i+1 < len(doc.Content[0].Content); i += 2 {
				if outstation && slices.Contains([]string{"unit", "notation", "order", "poll"}, doc.Content[0].Content[i].Value) {
					continue // of Modbus alone
				}
				value := doc.Content[0].Content[i+1]
				text := value.Value
				if value.Kind != yaml.ScalarNode {
					b, _ := yaml.Marshal(flow(value)) // a node that was just read
					text = strings.TrimSpace(string(b))
				}
				t.row(doc.Content[0].Content[i].Value, text)
			}
		})
	}
	return a.print(e, nil)
}

func flow(n *yaml.Node) *yaml.Node {
	unquote(n)
	n.Style = yaml.FlowStyle
	return n
}

func (a *app) printSummary(sum api.ChangeSummary) error {
	return a.print(sum, func(t *table) {
		if a.output == "csv" {
			t.header("ACTION", "KIND", "NAME", "FIELDS")
		}
		for _, c := range sum.Changes {
			if a.output == "csv" {
				t.row(string(c.Action), string(c.Kind), c.Name, strings.Join(c.Fields, " "))
				continue
			}
			line := fmt.Sprintf("%-7s %-8s %s", c.Action, c.Kind, c.Name)
			if len(c.Fields) > 0 {
				line += " (" + strings.Join(c.Fields, ", ") + ")"
			}
			t.line(line)
		}
		verb := ""
		if sum.DryRun || sum.Proposal != 0 {
			verb = "would be "
		}
		t.line(fmt.Sprintf("%d %sadded, %d %schanged, %d %sremoved", sum.Added, verb, sum.Changed, verb, sum.Removed, verb))
		for _, w := range sum.Warnings {
			a.warn(w)
		}
	})
}

func enabled(b bool) string {
	if b {
		return "enabled"
	}
	return "disabled"
}

func (a *app) listLinks() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all links", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Links(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "PROTOCOL", "FAR END", "TIMEOUT", "", "DESCRIPTION")
				for _, l := range list {
					t.row(l.Name, string(l.Protocol)+"/"+string(l.Transport), l.FarEnd(), l.Timeout.String(), enabled(l.Enabled), l.Description)
				}
			})
		}}
}

func (a *app) listStations() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all stations", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Stations(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "LINK", "ADDRESS", "NOTATION", "ORDER", "POLL", "", "DESCRIPTION")
				for _, s := range list {
					notation, order, poll := string(s.Notation), string(s.Order), s.Poll.String()
					if s.Speaks().Traits().Typed {
						notation, order, poll = "-", "-", site.Duration(s.EventPolls()[1]).String()
					}
					t.row(s.Name, s.Link, strconv.Itoa(s.LinkAddress()), notation, order, poll, enabled(s.Enabled), s.Description)
				}
			})
		}}
}

func (a *app) listPoints() *cobra.Command {
	var station string
	c := &cobra.Command{Use: "list [PATTERN]...", Short: "List points by tag", Args: arguments(0, -1, "patterns"),
		RunE: func(c *cobra.Command, patterns []string) error {
			list, err := a.client().Points(c.Context(), station, patterns...)
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("TAG", "STATION", "ADDRESS", "WIRE", "TYPE", "UNIT", "")
				for _, p := range list {
					t.row(p.Tag, p.Point.Station, p.Address, p.Canonical, string(p.Type), p.Unit, writable(p.Writable))
				}
			})
		}}
	c.Flags().StringVar(&station, "station", "", "only those of this station")
	return c
}

func writable(b bool) string {
	if b {
		return "writable"
	}
	return ""
}
