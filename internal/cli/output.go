package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// table is output for people, which csv takes as well.
type table struct {
	head []string
	rows [][]string
	text []string // lines without columns
}

func (t *table) row(cells ...string)    { t.rows = append(t.rows, cells) }
func (t *table) line(text string)       { t.text = append(t.text, text) }
func (t *table) header(cells ...string) { t.head = cells }

// print writes data in the form asked for; for people and for csv as fill lays it out.
func (a *app) print(data any, fill func(*table)) error {
	switch a.output {
	case "json":
		b, err := json.MarshalIndent(data, "", "  ")
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.Out, "%s\n", b)
		return err
	case "yaml":
		return writeYAML(a.Out, data)
	}
	t := &table{}
	fill(t)
	if a.output == "csv" {
		w := csv.NewWriter(a.Out)
		if t.head == nil {
			for _, line := range t.text {
				if err := w.Write([]string{line}); err != nil {
					return err
				}
			}
		} else if err := w.WriteAll(append([][]string{t.head}, t.rows...)); err != nil {
			return err
		}
		w.Flush()
		return w.Error()
	}
	return t.write(a.Out)
}

// writeYAML writes data with the names it has in JSON and in their order.
func writeYAML(w io.Writer, data any) error {
	b, err := json.Marshal(data)
	if err != nil {
		return err
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return err
	}
	unquote(&doc)
	encoder := yaml.NewEncoder(w)
	encoder.SetIndent(2)
	if err := encoder.Encode(&doc); err != nil {
		return err
	}
	return encoder.Close()
}

func unquote(n *yaml.Node) {
	n.Style = 0
	for _, child := range n.Content {
		unquote(child)
	}
}

// width is how wide a table may be when it can.
const width = 80

// write lays the table out in columns; the widest text column gives way so that it fits a terminal.
func (t *table) write(w io.Writer) error {
	for _, line := range t.text {
		if _, err := fmt.Fprintln(w, line); err != nil {
			return err
		}
	}
	if t.head == nil {
		return nil
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, row := range fit(append([][]string{t.head}, t.rows...)) {
		fmt.Fprintln(tw, strings.Join(row, "\t"))
	}
	return tw.Flush()
}

// fit shortens the last column where the table is too wide, and drops what it has after it.
func fit(rows [][]string) [][]string {
	columns := len(rows[0])
	widths := make([]int, columns)
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	used := 0
	for _, w := range widths[:columns-1] {
		used += w + 2
	}
	room := max(12, width-used)
	if widths[columns-1] <= room {
		return rows
	}
	short := make([][]string, len(rows))
	for i, row := range rows {
		short[i] = append([]string{}, row...)
		if last := []rune(row[columns-1]); len(last) > room {
			short[i][columns-1] = string(last[:room-1]) + "…"
		}
	}
	return short
}
