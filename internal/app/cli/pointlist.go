package cli

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
)

// importPoints takes over a list of points.
func (a *app) importPoints() *cobra.Command {
	var station, prefix, columns, notation, defaults, marked, keep string
	var dry, force bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take over a list of points, all or nothing",
		Long: `Take over a list of points: separated values (.csv, .tsv), a spreadsheet (.xlsx), or text that was copied from a page of a manual; - reads the
standard input. Columns are recognised by their headings; what each was taken for is shown. Points that are there already are changed in what the list
has. A cell that is not understood is a fault with its row and column, and nothing is taken over then.`,
		Example: `  arithmon point import points.csv --station sallow-plc --dry-run
  arithmon point import points.xlsx --columns 'tag=Signal,address=C' --defaults '{type: uint16}'`,
		Args: arguments(1, 1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			query := url.Values{"station": {station}, "prefix": {prefix}, "columns": {columns}, "notation": {notation}, "defaults": {defaults}, "dry_run": {fmt.Sprint(dry)}, "force": {fmt.Sprint(force)}}
			out, err := a.client().ImportPoints(c.Context(), data, query)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if marked != "" && out.FaultsAll > 0 {
				if err := writeWhole(marked, func(f *os.File) error { return a.client().MarkedPoints(c.Context(), f, data, query) }); err != nil {
					return err
				}
			}
			if err := a.print(out, func(t *table) { a.tellImport(t, out, dry) }); err != nil {
				return err
			}
			if keep != "" && out.FaultsAll == 0 {
				if err := a.client().KeepColumns(c.Context(), keep, out.Named); err != nil {
					return fmt.Errorf("the columns were not kept: %w", err)
				}
			}
			if out.FaultsAll > 0 {
				return fmt.Errorf("%s was not taken over: %d faults; nothing was changed", args[0], out.FaultsAll)
			}
			return nil
		}}
	c.Flags().StringVar(&station, "station", "", "station of rows that name none")
	c.Flags().StringVar(&prefix, "prefix", "", "put before each tag; {station} in it is the name of the station")
	c.Flags().StringVar(&columns, "columns", "", "what columns hold: by hand, 'tag=Signal,address=C,unit=5' (a heading, letter or number; 'Pumps!tag=B' for one sheet, 'Remarks=' for a column of which nothing is to be made), or the name under which that is kept")
	c.Flags().StringVar(&keep, "keep", "", "keep what the columns hold under this name, for --columns of the next list of the kind")
	c.Flags().StringVar(&notation, "notation", "", "how plain numbers of addresses count, where the list does not show it: offset, number, ref5, ref6 or hex (default the station's)")
	choose(c, "notation", "offset", "number", "ref5", "ref6", "hex")
	c.Flags().StringVar(&defaults, "defaults", "", "fields of rows that say nothing of them: '{type: uint16, poll_group: slow}'")
	c.Flags().StringVar(&marked, "marked", "", "where there are faults, write a copy of the list to this .xlsx file in which they are marked")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	c.Flags().BoolVar(&force, "force", false, "take back what was changed since the list was exported")
	return c
}

// shownRows is how many rows are told of an import.
const shownRows = 20

func (a *app) tellImport(t *table, out api.Import, dry bool) {
	if a.output == "csv" {
		t.header("ROW", "ACTION", "TAG", "ADDRESS", "TYPE", "UNIT", "NOTE")
		for _, i := range out.Items {
			t.row(place(i.Sheet, i.Row), i.Action, i.Tag, cellOf(i.Fields, "address"), cellOf(i.Fields, "type"), cellOf(i.Fields, "unit"), i.Note)
		}
		return
	}
	for _, note := range out.Notes {
		a.tell(t, "", note)
	}
	told := ""
	for _, s := range out.Sheets {
		var taken []string
		for _, heading := range s.Headings {
			if f := s.Columns[heading]; f != "" && f != heading {
				taken = append(taken, heading+" → "+f)
			}
		}
		if list := strings.Join(taken, ", "); list != "" && list != told {
			told = list
			if s.Name != "" && len(out.Sheets) > 1 {
				list = "of sheet " + s.Name + ": " + list
			}
			a.tell(t, "", "columns: "+list)
		}
	}
	t.header("ROW", "ACTION", "TAG", "ADDRESS", "TYPE", "ORDER", "SCALING", "UNIT")
	for _, i := range out.Items[:min(len(out.Items), shownRows)] {
		t.row(place(i.Sheet, i.Row), i.Action, i.Tag, cellOf(i.Fields, "address"), cellOf(i.Fields, "type"), cellOf(i.Fields, "order"), cellOf(i.Fields, "scaling"), cellOf(i.Fields, "unit"))
	}
	if n := out.Rows - shownRows; n > 0 {
		t.line(fmt.Sprintf("and %d rows more", n))
	}
	a.tellFaults(t, out)
	if out.FaultsAll == 0 {
		verb := ""
		if dry || out.Proposal != 0 {
			verb = "would be "
		}
		t.line(fmt.Sprintf("%d rows: %d %sadded, %d %schanged, %d as they are", out.Rows, out.Added, verb, out.Changed, verb, out.Unchanged))
	}
}

// tellFaults says what is wrong in a list.
func (a *app) tellFaults(t *table, out api.Import) {
	for _, f := range out.Faults {
		where := "row " + place(f.Sheet, f.Row) + ": "
		switch {
		case f.Column != "":
			where = "row " + place(f.Sheet, f.Row) + ", " + f.Column + ": "
		case f.Row == 0:
			where = ""
		}
		a.tell(t, "", where+f.Message)
	}
	if n := out.FaultsAll - len(out.Faults); n > 0 {
		t.line(fmt.Sprintf("and %d faults more", n))
	}
}

// place is a row, with its sheet where that has a name.
func place(sheet string, row int) string {
	if sheet == "" {
		return fmt.Sprint(row)
	}
	return fmt.Sprintf("%s %d", sheet, row)
}

// cellOf is a field of a point as text, "" where it has none.
func cellOf(fields map[string]any, name string) string {
	switch v := fields[name].(type) {
	case nil:
		return ""
	case map[string]any:
		var parts []string
		for _, key := range slices.Sorted(maps.Keys(v)) {
			parts = append(parts, fmt.Sprintf("%s: %v", key, v[key]))
		}
		return strings.Join(parts, ", ")
	default:
		return fmt.Sprint(v)
	}
}

// exportPoints writes points as a list.
func (a *app) exportPoints() *cobra.Command {
	return &cobra.Command{
		Example: "  arithmon point export points.xlsx 'sallow/*'",
		Use:     "export FILE [TAG|PATTERN]...",
		Short:   "Write points as a list with every field",
		Long: `Write points as a list with every field, a spreadsheet where FILE ends with .xlsx, else separated values; - writes these to the standard output.
Importing it again changes nothing; what was edited in it comes back as that alone.`,
		Args: arguments(1, 1000, "a file and tags or patterns"),
		RunE: func(c *cobra.Command, args []string) (err error) {
			form := "csv"
			if strings.EqualFold(filepath.Ext(args[0]), ".xlsx") {
				form = "xlsx"
			}
			if args[0] == "-" {
				return a.client().ExportPoints(c.Context(), a.Out, form, args[1:]...)
			}
			return writeWhole(args[0], func(f *os.File) error { return a.client().ExportPoints(c.Context(), f, form, args[1:]...) })
		}}
}

// writeWhole writes a file; what is there already stays until the new one is whole.
func writeWhole(path string, write func(*os.File) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".arithmon-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // of one that was not renamed
	if err := errors.Join(write(f), f.Chmod(0o644), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
