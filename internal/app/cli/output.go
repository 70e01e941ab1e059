package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
	"golang.org/x/term"
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

// tell adds a text as lines that fit, each with what goes before it.
func (a *app) tell(t *table, before, text string) {
	columns := columnsOf(a.Out)
	if columns == 0 {
		columns = width
	}
	for i, line := range broken(text, max(leastColumn, columns-utf8.RuneCountInString(before))) {
		t.line(before + line)
		if i == 0 {
			before = strings.Repeat(" ", utf8.RuneCountInString(before)) // what goes on stands below
		}
	}
}

// asJSON gives a YAML document as JSON, with its fields in their order.
func asJSON(data []byte) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := encodeNode(&b, doc.Content[0]); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := json.Indent(&out, b.Bytes(), "", "  "); err != nil {
		return nil, err
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

func encodeNode(b *bytes.Buffer, n *yaml.Node) error {
	switch n.Kind {
	case yaml.MappingNode:
		b.WriteByte('{')
		for i := 0; i+1 < len(n.Content); i += 2 {
			if i > 0 {
				b.WriteByte(',')
			}
			key, err := json.Marshal(n.Content[i].Value)
			if err != nil {
				return err
			}
			b.Write(append(key, ':'))
			if err := encodeNode(b, n.Content[i+1]); err != nil {
				return err
			}
		}
		b.WriteByte('}')
		return nil
	case yaml.SequenceNode:
		b.WriteByte('[')
		for i, item := range n.Content {
			if i > 0 {
				b.WriteByte(',')
			}
			if err := encodeNode(b, item); err != nil {
				return err
			}
		}
		b.WriteByte(']')
		return nil
	}
	var v any
	if err := n.Decode(&v); err != nil {
		return err
	}
	encoded, err := json.Marshal(v)
	b.Write(encoded)
	return err
}

// width is how wide a terminal is that does not say.
const width = 80

// columnsOf is how wide a table on w may be; 0 for any width, where no person reads it as it is.
func columnsOf(w io.Writer) int {
	file, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return 0
	}
	columns, _, err := term.GetSize(int(file.Fd()))
	if err != nil || columns <= 0 {
		return width
	}
	return columns
}

// write lays the table out in columns that fit a terminal.
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
	for _, row := range fit(append([][]string{t.head}, t.rows...), columnsOf(w)) {
		fmt.Fprintln(tw, strings.Join(row, "\t"))
	}
	return tw.Flush()
}

// leastColumn is what the last column keeps in a terminal that is too narrow.
const leastColumn = 20

// fit breaks the last column where the table is too wide, at its spaces if it can, and goes on below. 0 is any width.
func fit(rows [][]string, width int) [][]string {
	last := len(rows[0]) - 1
	used := 0
	for i := range last {
		widest := 0
		for _, row := range rows {
			widest = max(widest, utf8.RuneCountInString(row[i]))
		}
		used += widest + 2
	}
	if width == 0 {
		return rows
	}
	var out [][]string
	for _, row := range rows {
		for i, part := range broken(row[last], max(leastColumn, width-used)) {
			if i > 0 {
				row = make([]string, len(row))
			}
			out = append(out, append(slices.Clone(row[:last]), part))
		}
	}
	return out
}

// broken is a text in lines of at most so many characters.
func broken(text string, most int) (lines []string) {
	rest := []rune(text)
	for len(rest) > most {
		end := most
		for end > 0 && rest[end] != ' ' {
			end--
		}
		if end == 0 {
			end = most // a word that is longer than a line
		}
		lines = append(lines, string(rest[:end]))
		rest = []rune(strings.TrimLeft(string(rest[end:]), " "))
	}
	return append(lines, string(rest))
}
