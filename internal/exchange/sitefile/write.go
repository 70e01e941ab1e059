package sitefile

import (
	"bufio"
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// Options say what is written.
type Options struct {
	Since int64                                  // number of the newest change that the site has; 0: none is written
	Keep  func(kind site.Kind, name string) bool // which entities; nil: all
}

// Only keeps the points of some patterns, with the stations and links that they are on, and the templates of those.
func Only(s *site.Site, patterns []string) func(site.Kind, string) bool {
	kept := map[site.Kind]map[string]bool{site.KindTemplate: {}, site.KindLink: {}, site.KindStation: {}, site.KindPoint: {}, site.KindBoard: {}}
	for _, tag := range s.Names(site.KindPoint) {
		if slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, tag) }) {
			p, _ := s.Point(tag)
			station, _ := s.Station(p.Station)
			kept[site.KindTemplate][station.Template] = true
			kept[site.KindPoint][tag], kept[site.KindStation][p.Station], kept[site.KindLink][station.Link] = true, true, true
		}
	}
	for _, name := range s.Names(site.KindBoard) {
		b, _ := s.Get(site.KindBoard, name)
		tags := b.(site.Board).Points()
		kept[site.KindBoard][name] = len(tags) > 0 && !slices.ContainsFunc(tags, func(tag string) bool { return !kept[site.KindPoint][tag] })
	}
	return func(kind site.Kind, name string) bool { return kept[kind][name] }
}

// Write writes the site as a YAML site file, which Read reads back to the same site. Addresses are in
// the notation of their station. What was written is no site file when an error comes back.
func Write(to io.Writer, s *site.Site, o Options) error {
	w := &writer{to: bufio.NewWriter(to), known: map[string]string{}}
	fmt.Fprintf(w.to, "arithmon: %d\n", Version)
	if o.Since > 0 {
		fmt.Fprintf(w.to, "change: %d\n", o.Since)
	}
	for _, kind := range site.Kinds() {
		names := s.Names(kind)
		if o.Keep != nil {
			names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !o.Keep(kind, name) })
		}
		w.list(site.Plural(kind), len(names))
		as := form.Of(kind)
		for _, name := range names {
			e, _ := s.Get(kind, name)
			w.entry(as, e, as.Usual(s, e), as.Texts(s, e))
		}
	}
	if w.err == nil {
		w.err = w.to.Flush()
	}
	return w.err
}

// writer writes a site file entry by entry.
type writer struct {
	to    *bufio.Writer
	known map[string]string // the YAML of values that were written, by their JSON: the same ones come again and again
	err   error
}

// maxKnown is how many values a writer remembers.
const maxKnown = 10_000

// list begins a list that will have n entries; without entries it is left out.
func (w *writer) list(name string, n int) {
	if n > 0 {
		w.to.WriteString(name + ":\n")
	}
}

// entry writes an entity without the fields that are as usual. texts are how some of its fields are written.
func (w *writer) entry(as form.Form, e, usual site.Entity, texts map[string]string) {
	begin := "  - "
	v, d := reflect.ValueOf(e), reflect.ValueOf(usual)
	station, isStation := e.(site.Station)
	for _, field := range document.FieldsOf(v.Type()) {
		if isStation && station.Speaks().Foreign(field.Name) {
			continue
		}
		value, usually := v.FieldByIndex(field.Index), d.FieldByIndex(field.Index)
		if !as.Written(field.Name) && (value.IsZero() && usually.IsZero() || reflect.DeepEqual(value.Interface(), usually.Interface())) {
			continue
		}
		text, said := texts[field.Name]
		switch {
		case !said:
			text = w.value(value.Interface())
		case !reference(text):
			text = w.value(text)
		}
		if !strings.HasPrefix(text, "\n") {
			text = " " + text
		}
		w.to.WriteString(begin + field.Name + ":" + text + "\n")
		begin = "    "
	}
}

// value gives the YAML of a field's value, from its second line on with the indentation of an entry.
func (w *writer) value(v any) string {
	if text := reflect.ValueOf(v); text.Kind() == reflect.String && plainly(text.String()) {
		_, asJSON := v.(json.Marshaler)
		if _, asText := v.(encoding.TextMarshaler); !asJSON && !asText {
			return text.String()
		}
	}
	b, err := json.Marshal(v)
	if err != nil {
		w.err = errors.Join(w.err, err)
		return ""
	}
	if text, known := w.known[string(b)]; known {
		return text
	}
	node, err := value(b)
	var out bytes.Buffer
	if err == nil {
		encoder := yaml.NewEncoder(&out)
		encoder.SetIndent(2)
		err = encoder.Encode(&yaml.Node{Kind: yaml.MappingNode, Content: []*yaml.Node{{Kind: yaml.ScalarNode, Tag: "!!str", Value: "v"}, node}})
	}
	if err != nil {
		w.err = errors.Join(w.err, fmt.Errorf("writing YAML: %w", err))
		return ""
	}
	text := strings.TrimPrefix(strings.TrimPrefix(strings.TrimSuffix(out.String(), "\n"), "v:"), " ")
	text = strings.ReplaceAll(text, "\n", "\n    ")
	if len(w.known) < maxKnown {
		w.known[string(b)] = text
	}
	return text
}

// plainly reports whether text is written as it is in every YAML: letters, digits and / . : _ - from a letter to a letter or digit, and
// none of the words that YAML 1.1 has for something else.
func plainly(text string) bool {
	letter := func(c byte) bool { return 'a' <= c|0x20 && c|0x20 <= 'z' }
	digit := func(c byte) bool { return '0' <= c && c <= '9' }
	if len(text) == 0 || !letter(text[0]) || !letter(text[len(text)-1]) && !digit(text[len(text)-1]) {
		return false
	}
	for i := range len(text) {
		if c := text[i]; !letter(c) && !digit(c) && !strings.ContainsRune("/.:_-", rune(c)) {
			return false
		}
	}
	switch strings.ToLower(text) {
	case "y", "n", "yes", "no", "on", "off", "true", "false", "null":
		return false
	}
	return true
}

// value gives the YAML of a value in JSON: lists and maps in one line, a list of maps with a line for each.
func value(b []byte) (*yaml.Node, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return nil, err
	}
	node := doc.Content[0]
	plain(node)
	if len(node.Content) > 0 && node.Content[0].Kind == yaml.MappingNode && node.Kind == yaml.SequenceNode {
		node.Style = 0 // a line for each
	}
	return node, nil
}

// plain takes the quotes off that JSON needs and YAML does not.
func plain(n *yaml.Node) {
	n.Style = 0
	if n.Kind == yaml.SequenceNode || n.Kind == yaml.MappingNode {
		n.Style = yaml.FlowStyle
		for i, child := range n.Content {
			plain(child)
			if _, err := strconv.Atoi(child.Value); err == nil && n.Kind == yaml.MappingNode && i%2 == 0 {
				child.Tag = "!!int" // keys that number states
			}
		}
	}
}

// reference reports whether an address is a reference number, which needs no quotes.
func reference(address string) bool {
	_, err := strconv.ParseUint(address, 10, 32)
	return err == nil && address[0] != '0'
}
