package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
)

// ofTemplates are the verbs that only templates have.
func (a *app) ofTemplates() []*cobra.Command {
	return []*cobra.Command{a.listTemplates(), a.makeTemplate(), a.templateStations(), a.ownValues(), a.conform(), a.importTemplates(), a.exportTemplates()}
}

func (a *app) listTemplates() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all templates", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Templates(c.Context())
			if err != nil {
				return err
			}
			stations, err := a.client().Stations(c.Context())
			if err != nil {
				return err
			}
			made := map[string]int{}
			for _, s := range stations {
				made[s.Template]++
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "PROTOCOL", "PARAMETERS", "POINTS", "STATIONS", "DESCRIPTION")
				for _, e := range list {
					var names []string
					for _, p := range e.Parameters {
						names = append(names, p.Name)
					}
					t.row(e.Name, string(e.Speaks()), strings.Join(names, " "), strconv.Itoa(len(e.Points)), strconv.Itoa(made[e.Name]), e.Description)
				}
			})
		}}
}

// tellTemplate shows a template: what its stations have, and its points.
func (a *app) tellTemplate(body json.RawMessage) error {
	var e site.Template
	if err := json.Unmarshal(body, &e); err != nil {
		return err
	}
	return a.print(body, func(t *table) {
		if a.output == "text" {
			for _, line := range [][2]string{{"name", e.Name}, {"description", e.Description}, {"protocol", string(e.Speaks())}, {"identifies", strings.Join(e.Identifies, "  ")}} {
				if line[1] != "" {
					t.line(fmt.Sprintf("%-12s %s", line[0], line[1]))
				}
			}
			for _, p := range e.Parameters {
				text := "{" + p.Name + "}"
				if p.Default != "" {
					text += " = " + p.Default
				}
				t.line(strings.TrimRight(fmt.Sprintf("%-12s %s  %s", "parameter", text, p.Description), " "))
			}
			for _, name := range e.Station.Names() {
				t.line(fmt.Sprintf("%-12s %s: %s", "station", name, cellOf(e.Station, name)))
			}
			t.line("")
		}
		t.header("TAG", "ADDRESS", "TYPE", "UNIT", "MORE")
		for _, p := range e.Points {
			var more []string
			for _, name := range p.Names() {
				if !slices.Contains([]string{"tag", "address", "type", "unit"}, name) {
					more = append(more, name+" "+cellOf(p, name))
				}
			}
			t.row(p.Text("tag"), cellOf(p, "address"), cellOf(p, "type"), cellOf(p, "unit"), strings.Join(more, ", "))
		}
	})
}

// setTemplate changes a template, and shows what follows in its stations.
func (a *app) setTemplate(set *cobra.Command, fields fields, unset *[]string) {
	dry := set.Flags().Bool("dry-run", false, "say what would change in it and in its stations, and change nothing")
	set.Long = "Change some fields of a template. Its stations follow, in the same change, but for what they have as their own."
	set.RunE = func(c *cobra.Command, args []string) error {
		values, err := fields.given(c)
		if err != nil {
			return err
		}
		for _, name := range *unset {
			values[strings.ReplaceAll(name, "-", "_")] = nil
		}
		if f := c.Flags().Lookup("name"); f.Changed {
			values["name"] = f.Value.String()
		}
		if len(values) == 0 {
			return usage("nothing to change: give a field, such as --description. See %s --help", c.CommandPath())
		}
		sum, err := a.client().ChangeTemplate(c.Context(), args[0], values, *dry)
		if err != nil {
			return fields.named(err, "name")
		}
		return a.printSummary(sum)
	}
}

func (a *app) makeTemplate() *cobra.Command {
	m := tie.Making{}
	var base int
	c := &cobra.Command{
		Use:     "make NAME --station STATION",
		Short:   "Make one from a station that works",
		Long:    "Make a template from a station that works: its settings, and its points with a parameter in place of what all their tags begin with. The station keeps the tie.",
		Example: "  arithmon template make drive-one --station tern-drive1 --identifies '*Drive one*'",
		Args:    arguments(1, 1, "one NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if m.Name = args[0]; m.Station == "" {
				return usage("--station is missing: the station that it is made from")
			}
			if c.Flags().Changed("base") {
				m.Base = &base
			}
			t, err := a.client().MakeTemplate(c.Context(), m)
			if err != nil {
				return err
			}
			body, err := json.Marshal(t)
			if err != nil {
				return err
			}
			return a.tellTemplate(body)
		}}
	c.Flags().StringVar(&m.Station, "station", "", "the station that it is made from")
	c.Flags().StringVar(&m.Description, "description", "", "free text")
	c.Flags().StringVar(&m.Tags, "tags", "", "what all its tags begin with, in whose place {tag} stands (default what they have in common)")
	c.Flags().StringArrayVar(&m.Identifies, "identifies", nil, "what such a device says of itself when it is probed, a pattern: '*WX-200*'; may be repeated")
	c.Flags().IntVar(&base, "base", 0, "Modbus: the offset from which addresses count, in whose place {base} stands (default none)")
	return c
}

func (a *app) templateStations() *cobra.Command {
	return &cobra.Command{Use: "stations NAME", Short: "List the stations that are made from one", Args: arguments(1, 1, "one NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			list, err := a.client().Tied(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("STATION", "POINTS", "OWN", "LEFT OUT", "ADDED", "VALUES")
				for _, s := range list {
					var values []string
					for _, name := range slices.Sorted(maps.Keys(s.Values)) {
						values = append(values, name+"="+s.Values[name])
					}
					if s.Fault != "" {
						values = append(values, s.Fault)
					}
					t.row(s.Station, strconv.Itoa(s.Points), strconv.Itoa(s.Own), strconv.Itoa(s.LeftOut), strconv.Itoa(s.Added), strings.Join(values, " "))
				}
			})
		}}
}

func (a *app) ownValues() *cobra.Command {
	return &cobra.Command{Use: "own STATION", Short: "Show what a station has otherwise than its template", Args: arguments(1, 1, "one STATION"),
		RunE: func(c *cobra.Command, args []string) error {
			list, err := a.client().Own(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "WHAT", "FIELD", "OWN", "TEMPLATE")
				for _, d := range list {
					t.row(d.Name, string(d.What), d.Field, plainly(d.Own), plainly(d.Template))
				}
			})
		}}
}

// plainly is a JSON value as a person reads it.
func plainly(v json.RawMessage) string {
	var text string
	if json.Unmarshal(v, &text) == nil {
		return text
	}
	return string(v)
}

func (a *app) conform() *cobra.Command {
	var what api.Conform
	c := &cobra.Command{
		Use:   "conform STATION [TAG|PATTERN]...",
		Short: "Give up what a station has otherwise than its template",
		Long:  "Give up what a station has otherwise than its template: in all, or in the points of some tags. Points that were left out are there again; those that the template does not have stay.",
		Args:  arguments(1, 1000, "a station, and tags or patterns"),
		RunE: func(c *cobra.Command, args []string) error {
			what.Names = args[1:]
			sum, err := a.client().Conform(c.Context(), args[0], what)
			if err != nil {
				return err
			}
			return a.printSummary(sum)
		}}
	c.Flags().StringSliceVar(&what.Fields, "field", nil, "only these fields, such as unit; may be repeated")
	c.Flags().BoolVar(&what.DryRun, "dry-run", false, "say what would change, and change nothing")
	return c
}

func (a *app) importTemplates() *cobra.Command {
	var dry bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take over the templates of a file",
		Long:  "Take over the templates of a site file, whatever else is in it; - reads the standard input. Stations that are made from one that was there follow.",
		Args:  arguments(1, 1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			sum, err := a.client().ImportTemplates(c.Context(), args[0], data, dry)
			if err != nil {
				return fmt.Errorf("%s was not taken over; nothing was changed\n%w", args[0], err)
			}
			return a.printSummary(sum)
		}}
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	return c
}

func (a *app) exportTemplates() *cobra.Command {
	return &cobra.Command{
		Use:     "export FILE [NAME|PATTERN]...",
		Short:   "Write templates as a site file, for other sites",
		Long:    "Write templates as a site file that arithmon template import takes over elsewhere; - writes to the standard output.",
		Example: "  arithmon template export drives.yaml 'drive-*'",
		Args:    arguments(1, 1000, "a file, and names or patterns"),
		RunE: func(c *cobra.Command, args []string) error {
			patterns := args[1:]
			if len(patterns) == 0 {
				patterns = []string{"*"}
			}
			data, err := a.client().ExportTemplates(c.Context(), patterns...)
			if err == nil && (a.output == "json" || strings.HasSuffix(args[0], ".json")) {
				data, err = asJSON(data)
			}
			if err != nil {
				return err
			}
			if args[0] == "-" {
				_, err = a.Out.Write(data)
				return err
			}
			return writeWhole(args[0], func(f *os.File) error {
				_, err := f.Write(data)
				return err
			})
		}}
}
