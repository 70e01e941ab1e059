package document

import (
	"arithmon/internal/core/parallel"
	"bytes"
	"errors"
	"io"
	"regexp"

	"go.yaml.in/yaml/v3"
)

// A long list of a YAML document is read in parts, by as many as there are processors. Where anything about that is not as expected, the document is
// read as a whole, so that faults are told as they are.

// minPart is how many bytes of a list are worth a part of their own.
const minPart = 128 << 10

// listKey is a line of a field at the top whose value follows in the next lines.
var listKey = regexp.MustCompile(`^[A-Za-z_]+:[ \t]*(#.*)?\r?$`)

// list is a list of a document as text: the entries begin with a dash behind so many spaces.
type list struct {
	from, to int   // bytes
	line     int   // of the first entry, from 0
	entries  []int // where they begin
	lines    []int // their lines
}

// longest finds the longest list of a field at the top, by lines alone.
func longest(data []byte) (best list) {
	var now *list
	indent, afterKey := 0, false
	end := func(at int) {
		if now != nil {
			if now.to = at; now.to-now.from > best.to-best.from {
				best = *now
			}
			now = nil
		}
	}
	for at, line := 0, 0; at < len(data); line++ {
		next := len(data)
		if n := bytes.IndexByte(data[at:], '\n'); n >= 0 {
			next = at + n + 1
		}
		text := bytes.TrimRight(data[at:next], "\n")
		rest := bytes.TrimLeft(text, " ")
		spaces := len(text) - len(rest)
		switch {
		case len(rest) > 0 && rest[0] == '\t': // whether that may be, depends on what it stands in
			return list{}
		case len(rest) == 0 || rest[0] == '#' || rest[0] == '\r':
			// belongs to what it stands in
		case isEntry(rest) && afterKey:
			now, indent, afterKey = &list{from: at, line: line, entries: []int{at}, lines: []int{line}}, spaces, false
		case isEntry(rest) && now != nil && spaces == indent:
			now.entries, now.lines = append(now.entries, at), append(now.lines, line)
		case spaces == 0:
			end(at)
			afterKey = listKey.Match(text)
		default:
			afterKey = false
		}
		at = next
	}
	end(len(data))
	return best
}

// plainLines reports whether line feeds end all lines, and not what else may in YAML.
func plainLines(data []byte) bool {
	for _, end := range []string{"\u0085", "\u2028", "\u2029"} {
		if bytes.Contains(data, []byte(end)) {
			return false
		}
	}
	return bytes.Count(data, []byte{'\r'}) == bytes.Count(data, []byte("\r\n"))
}

func isEntry(text []byte) bool {
	return text[0] == '-' && (len(text) == 1 || text[1] == ' ' || text[1] == '\t' || text[1] == '\r')
}

// inParts reads a document whose longest list is long, several parts of it at once; nil where it is to be read as a whole.
func inParts(data []byte, workers, least int) *yaml.Node {
	if len(data) < 2*least || workers < 2 || !plainLines(data) {
		return nil
	}
	l := longest(data)
	workers = min(workers, (l.to-l.from)/least, len(l.entries))
	if workers < 2 {
		return nil
	}
	// What stands before the list is read with its first part, and what stands after it as one more. Each has to be whole by itself: a text that
	// goes on over the end of a part is not.
	type part struct {
		from, to, line, entries int
		node                    *yaml.Node
	}
	parts := make([]part, workers, workers+1)
	for i, first := 0, 0; i < workers; i++ {
		parts[i].from, parts[i].line = l.entries[first], l.lines[first]
		parts[i].entries = len(l.entries)*(i+1)/workers - first
		first += parts[i].entries
		if parts[i].to = l.to; i+1 < workers {
			parts[i].to = l.entries[first]
		}
	}
	parts[0].from, parts[0].line = 0, 0
	if len(bytes.Trim(data[l.to:], " \t\r\n")) > 0 {
		parts = append(parts, part{from: l.to, to: len(data), line: bytes.Count(data[:l.to], []byte{'\n'})})
	}
	parallel.Parts(len(parts), 1, func(i, _ int) {
		p := &parts[i]
		if p.node = one(data[p.from:p.to]); p.node != nil && p.line > 0 {
			shift(p.node, p.line)
		}
	})
	for _, p := range parts {
		if p.node == nil {
			return nil
		}
	}
	root := parts[0].node
	items := last(root)
	if items == nil || items.Line != l.line+1 || len(items.Content) != parts[0].entries {
		return nil
	}
	for i, p := range parts[1:] {
		switch {
		case i+1 < workers && p.node.Kind == yaml.SequenceNode && len(p.node.Content) == p.entries:
			items.Content = append(items.Content, p.node.Content...)
		case i+1 == workers && p.node.Kind == yaml.MappingNode && p.node.Style&yaml.FlowStyle == 0:
			root.Content = append(root.Content, p.node.Content...)
		default:
			return nil
		}
	}
	return root
}

// one reads a text that is one document; nil where it is not.
func one(text []byte) *yaml.Node {
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var doc, more yaml.Node
	if decoder.Decode(&doc) != nil || !errors.Is(decoder.Decode(&more), io.EOF) || doc.Kind != yaml.DocumentNode || len(doc.Content) != 1 {
		return nil
	}
	return doc.Content[0]
}

// last is the list that the last field at the top has.
func last(root *yaml.Node) *yaml.Node {
	if root.Kind != yaml.MappingNode || root.Style&yaml.FlowStyle != 0 || len(root.Content) == 0 {
		return nil
	}
	if n := root.Content[len(root.Content)-1]; n.Kind == yaml.SequenceNode && n.Style&yaml.FlowStyle == 0 {
		return n
	}
	return nil
}

// shift moves nodes on by some lines.
func shift(n *yaml.Node, by int) {
	n.Line += by
	for _, c := range n.Content {
		shift(c, by)
	}
}
