// Package document reads YAML and JSON strictly into Go structs.
//
// Every fault is reported, each with its line, its field and the value: unknown and repeated fields, text where a
// number belongs, null bytes and nonsense. Field names are those of the json struct tags. Anchors and aliases are
// refused, so that a small file cannot become a large one.
package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// Limits of a document.
const (
	MaxBytes = 32 << 20
	maxDepth = 20
)

// Fault is one thing that is wrong in a document.
type Fault struct {
	Line    int    // from 1; 0 when not known
	Path    string // of the field, such as points[3].scaling.raw; "" for the whole document
	Value   string // as written, shortened; "" when there is none
	Message string
}

func (f Fault) Error() string {
	var b strings.Builder
	if f.Line > 0 {
		fmt.Fprintf(&b, "line %d: ", f.Line)
	}
	if f.Path != "" {
		b.WriteString(f.Path + ": ")
	}
	return b.String() + f.Message
}

// Faults are all faults of a document; as an error it is not empty.
type Faults []Fault

func (f Faults) Error() string {
	lines := make([]string, len(f))
	for i, fault := range f {
		lines[i] = fault.Error()
	}
	return strings.Join(lines, "\n")
}

// Node is a part of a document with its place in it.
type Node struct {
	yaml *yaml.Node
	up   *Node  // what it is in; nil for the document itself
	name string // of its field; "" for an entry of a list
	at   int    // its place in a list
}

// Line is where the node begins, from 1.
func (n *Node) Line() int { return n.yaml.Line }

// Path names the node's field, such as points[3].scaling.
func (n *Node) Path() string {
	if n.up == nil {
		return ""
	}
	above := n.up.Path()
	switch {
	case n.name == "":
		return above + "[" + strconv.Itoa(n.at) + "]"
	case above == "":
		return n.name
	}
	return above + "." + n.name
}

// Fault makes a fault of this node.
func (n *Node) Fault(format string, args ...any) Fault {
	return Fault{n.yaml.Line, n.Path(), shorten(n.yaml.Value), fmt.Sprintf(format, args...)}
}

// Parse reads one YAML or JSON document. Its error is Faults.
func Parse(data []byte) (*Node, error) {
	if at := invalidUTF8(data); at >= 0 {
		return nil, Faults{{Line: 1 + bytes.Count(data[:at], []byte{'\n'}), Message: fmt.Sprintf("byte %d (0x%02X) is no UTF-8; save the text as UTF-8", at+1, data[at])}}
	}
	if len(data) > MaxBytes {
		return nil, Faults{{Message: fmt.Sprintf("has %.1f MB; at most %d MB are read. Divide it into several files", float64(len(data))/(1<<20), MaxBytes>>20)}}
	}
	if trimmed := bytes.TrimLeft(data, " \t\r\n\ufeff"); len(trimmed) > 0 && (trimmed[0] == '{' || trimmed[0] == '[') {
		if node, err := parseJSON(data); err == nil {
			return &Node{yaml: node}, nil
		} else if trimmed[0] == '{' && json.Valid(data) {
			return nil, Faults{{Message: err.Error()}}
		}
		// Not JSON: YAML's own flow form is tried, whose errors name the line.
	}
	if node := inParts(data, runtime.GOMAXPROCS(0), minPart); node != nil {
		if fault := check(node, 0); fault != nil {
			return nil, Faults{*fault}
		}
		return &Node{yaml: node}, nil
	}
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	var doc yaml.Node
	if err := decoder.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, Faults{{Message: "is empty"}}
		}
		return nil, Faults{yamlFault(err)}
	}
	var more yaml.Node
	if err := decoder.Decode(&more); err == nil {
		return nil, Faults{{Line: more.Line, Message: "a second document begins here; put all into one"}}
	} else if !errors.Is(err, io.EOF) {
		return nil, Faults{yamlFault(err)}
	}
	node := &doc
	if doc.Kind == yaml.DocumentNode {
		node = doc.Content[0]
	}
	if fault := check(node, 0); fault != nil {
		return nil, Faults{*fault}
	}
	return &Node{yaml: node}, nil
}

var yamlLine = regexp.MustCompile(`line (\d+): `)

// yamlFault takes the line out of the parser's message.
func yamlFault(err error) Fault {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	fault := Fault{Message: "is not YAML: " + yamlLine.ReplaceAllString(text, "")}
	if m := yamlLine.FindStringSubmatch(text); m != nil {
		fault.Line, _ = strconv.Atoi(m[1])
	}
	return fault
}

// check refuses aliases and nonsense depth.
func check(n *yaml.Node, depth int) *Fault {
	switch {
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		return &Fault{Line: n.Line, Value: n.Value, Message: "anchors and aliases are not read; write the value out"}
	case depth > maxDepth:
		return &Fault{Line: n.Line, Message: "is nested too deeply"}
	}
	for _, child := range n.Content {
		if fault := check(child, depth+1); fault != nil {
			return fault
		}
	}
	return nil
}

// parseJSON makes the nodes that YAML would, with lines.
func parseJSON(data []byte) (*yaml.Node, error) {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	line, counted := 1, 0
	at := func() int {
		offset := int(decoder.InputOffset())
		line += bytes.Count(data[counted:offset], []byte{'\n'})
		counted = offset
		return line
	}
	var value func(depth int) (*yaml.Node, error)
	value = func(depth int) (*yaml.Node, error) {
		token, err := decoder.Token()
		if err != nil {
			return nil, err
		}
		if depth > maxDepth {
			return nil, fmt.Errorf("is nested too deeply at line %d", at())
		}
		n := &yaml.Node{Kind: yaml.ScalarNode, Line: at()}
		switch token := token.(type) {
		case json.Delim:
			n.Kind, n.Tag = yaml.SequenceNode, "!!seq"
			if token == '{' {
				n.Kind, n.Tag = yaml.MappingNode, "!!map"
			}
			for decoder.More() { // keys of an object come as values of their own
				child, err := value(depth + 1)
				if err != nil {
					return nil, err
				}
				n.Content = append(n.Content, child)
			}
			_, err = decoder.Token()
			return n, err
		case string:
			n.Tag, n.Value, n.Style = "!!str", token, yaml.DoubleQuotedStyle
		case json.Number:
			n.Tag, n.Value = "!!float", token.String()
			if !strings.ContainsAny(n.Value, ".eE") {
				n.Tag = "!!int"
			}
		case bool:
			n.Tag, n.Value = "!!bool", strconv.FormatBool(token)
		default:
			n.Tag, n.Value = "!!null", "null"
		}
		return n, nil
	}
	root, err := value(0)
	if err != nil {
		return nil, err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the end of the JSON document")
	}
	return root, nil
}

func shorten(s string) string {
	if runes := []rune(s); len(runes) > 60 {
		return string(runes[:60]) + "…"
	}
	return s
}

// invalidUTF8 is where the first byte stands that is no UTF-8, -1 when all is.
func invalidUTF8(data []byte) int {
	if bytes.HasPrefix(data, []byte{0xFE, 0xFF}) || bytes.HasPrefix(data, []byte{0xFF, 0xFE}) {
		return -1 // UTF-16, which YAML has, too
	}
	for at := 0; at < len(data); {
		r, size := utf8.DecodeRune(data[at:])
		if r == utf8.RuneError && size == 1 {
			return at
		}
		at += size
	}
	return -1
}
