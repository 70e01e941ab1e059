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

	"arithmon/internal/core/site"
)

// always lists the fields that are written even where they have their default, so that a file can be read without
// knowing the defaults.
var always = map[site.Kind][]string{
	site.KindLink:    {"name", "protocol", "transport"},
	site.KindStation: {"name", "link", "unit", "notation"},
	site.KindPoint:   {"tag", "station", "address", "type"},
}

// Write writes the site as a YAML site file, which Read reads back to the same site. Addresses are in
// the notation of their station. What was written is no site file when an error comes back.
func Write(to io.Writer, s *site.Site) error {
	w := &writer{to: bufio.NewWriter(to), known: map[string]string{}, fields: map[reflect.Type][]string{}}
	fmt.Fprintf(w.to, "arithmon: %d\n", Version)
	w.list("links", s.Count(site.KindLink))
	for _, l := range s.Links() {
		implied := site.NewLink()
		implied.Transport, implied.Protocol = l.Transport, l.Protocol
		port := implied.Port
		implied = implied.WithDefaults()
		implied.Port = port // which is written even where it has its default, since people look for it
		w.entry(l, implied)
	}
	w.list("stations", s.Count(site.KindStation))
	for _, st := range s.Stations() {
		w.entry(st, site.NewStation())
	}
	w.list("points", s.Count(site.KindPoint))
	usual := site.NewPoint()
	for _, tag := range s.Tags() {
		p, _ := s.Point(tag)
		station, _ := s.Station(p.Station)
		address := p.Address.Format(station.Convention())
		if address[0] == '0' && p.Address.Offset < 9999 {
			address = p.Address.Format(site.Convention{Bits: station.Bits}) // leading zeros do not survive every program a file passes through
		}
		w.entry(p, usual, address, p.ReadBack.Format(station.Convention()))
	}
	if w.err == nil {
		w.err = w.to.Flush()
	}
	return w.err
}

// writer writes a site file entry by entry.
type writer struct {
	to     *bufio.Writer
	known  map[string]string         // the YAML of values that were written, by their JSON: the same ones come again and again
	fields map[reflect.Type][]string // the names of the fields of each kind of entity
	err    error
}

// maxKnown is how many values a writer remembers.
const maxKnown = 10_000

// list begins a list that will have n entries; without entries it is left out.
func (w *writer) list(name string, n int) {
	if n > 0 {
		w.to.WriteString(name + ":\n")
	}
}

// entry writes an entity without the fields that have their default.
// addresses are those of a point, as its station's notation has them.
func (w *writer) entry(e, defaults site.Entity, addresses ...string) {
	v, d := reflect.ValueOf(e), reflect.ValueOf(defaults)
	if w.fields[v.Type()] == nil {
		for i := range v.NumField() {
			name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
			w.fields[v.Type()] = append(w.fields[v.Type()], name)
		}
	}
	begin := "  - "
	for i, name := range w.fields[v.Type()] {
		if st, ok := e.(site.Station); ok && slices.Contains(st.Speaks().Traits().Foreign, name) {
			continue
		}
		value, usual := v.Field(i), d.Field(i)
		if !slices.Contains(always[e.Kind()], name) && (value.IsZero() && usual.IsZero() || reflect.DeepEqual(value.Interface(), usual.Interface())) {
			continue
		}
		var text string
		switch {
		case name == "address" || name == "read_back":
			address := addresses[map[string]int{"address": 0, "read_back": 1}[name]]
			if _, err := strconv.ParseUint(address, 10, 32); err == nil && address[0] != '0' {
				text = address // a reference number needs no quotes
			} else {
				text = w.value(address)
			}
		default:
			text = w.value(value.Interface())
		}
		w.to.WriteString(begin + name + ": " + text + "\n")
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
	text := strings.TrimPrefix(strings.TrimSuffix(out.String(), "\n"), "v: ")
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

// value gives the YAML of a value in JSON, lists and maps in one line.
func value(b []byte) (*yaml.Node, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return nil, err
	}
	plain(doc.Content[0])
	return doc.Content[0], nil
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
