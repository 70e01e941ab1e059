package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
)

// importing takes over a list of stations, or makes points of a profile.
func (a *app) importing() *cobra.Command {
	var prefix, link, template, columns, defaults, values string
	var dry bool
	c := &cobra.Command{
		Use:   "import FILE | import STATION PROFILE",
		Short: "Take over a list of stations, or a DNP3 device profile",
		Long: `Take over a list of stations, a row each, all or nothing: separated values or a spreadsheet; - reads the standard input. Columns are recognised by
their headings (name, link, unit, template, ...); one that is named like a parameter of the template holds its value. A row with a host or an IP
address, and without a link, gets a link to it.

With a station and the XML device profile that a maker gives with a DNP3 outstation: make points of it, with names, descriptions, units, scaling and the
names of states. Tags are made of --prefix and the names; points that are there are changed.`,
		Example: `  arithmon station import drives.csv --template drive-one --link tern-bus --dry-run
  arithmon station import heron-rtu profile.xml --dry-run`,
		Args: arguments(1, 2, "a file, or a station and a file"),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 2 {
				return a.importProfile(c, args[0], args[1], prefix, dry)
			}
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			out, err := a.client().ImportStations(c.Context(), data, url.Values{"link": {link}, "template": {template}, "columns": {columns}, "defaults": {defaults}, "values": {values}, "dry_run": {fmt.Sprint(dry)}})
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if err := a.print(out, func(t *table) { a.tellStations(t, out, dry) }); err != nil {
				return err
			}
			if out.FaultsAll > 0 {
				return fmt.Errorf("%s was not taken over: %d faults; nothing was changed", args[0], out.FaultsAll)
			}
			return nil
		}}
	c.Flags().StringVar(&link, "link", "", "link of rows that name none")
	c.Flags().StringVar(&template, "template", "", "template of rows that name none")
	c.Flags().StringVar(&columns, "columns", "", "what columns hold, by hand: 'name=Device,unit=C' (a heading, letter or number; 'values.base=D' for a parameter, 'Pumps!unit=B' for one sheet, 'Remarks=' for a column of which nothing is to be made)")
	c.Flags().StringVar(&defaults, "defaults", "", "fields of rows that say nothing of them: '{poll: 5s}'")
	c.Flags().StringVar(&values, "values", "", "values of the template's parameters, of rows that say nothing of them: '{base: 100}'")
	c.Flags().StringVar(&prefix, "prefix", "", "of a profile: what tags begin with (default the station's name and /)")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	return c
}

func (a *app) tellStations(t *table, out api.Import, dry bool) {
	shown := out.Items
	if a.output != "csv" {
		for _, note := range out.Notes {
			a.tell(t, "", note)
		}
		shown = shown[:min(len(shown), shownRows)]
	}
	t.header("ROW", "ACTION", "NAME", "LINK", "ADDRESS", "TEMPLATE", "VALUES")
	for _, i := range shown {
		address := cellOf(i.Fields, "unit")
		if address == "" {
			address = cellOf(i.Fields, "outstation")
		}
		t.row(place(i.Sheet, i.Row), i.Action, i.Tag, cellOf(i.Fields, "link"), address, cellOf(i.Fields, "template"), cellOf(i.Fields, "values"))
	}
	if a.output == "csv" {
		return
	}
	if n := out.Rows - len(shown); n > 0 {
		t.line(fmt.Sprintf("and %d rows more", n))
	}
	a.tellFaults(t, out)
	if out.FaultsAll == 0 {
		verb := ""
		if dry {
			verb = "would be "
		}
		t.line(fmt.Sprintf("%d stations: %d %sadded, %d %schanged, %d as they are", out.Rows, out.Added, verb, out.Changed, verb, out.Unchanged))
	}
}

// importProfile makes points of a device profile.
func (a *app) importProfile(c *cobra.Command, station, path, prefix string, dry bool) error {
	file, err := a.readFile(path)
	if err != nil {
		return err
	}
	r, err := a.client().Profile(c.Context(), station, path, file, prefix, dry)
	if err != nil {
		return err
	}
	for _, note := range r.Notes {
		a.warn(note)
	}
	if a.output != "text" {
		return a.print(r, func(t *table) {
			t.header("TAG", "ADDRESS", "CLASS", "UNIT", "DESCRIPTION")
			for _, p := range r.Points {
				t.row(p.Tag, p.Address.String(), fmt.Sprint(p.Class), p.Unit, p.Description)
			}
		})
	}
	if device := strings.TrimSpace(r.Vendor + " " + r.Product); device != "" {
		fmt.Fprintln(a.Out, "profile of", device)
	}
	return a.printSummary(r.Summary)
}
