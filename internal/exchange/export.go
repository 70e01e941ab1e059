package exchange

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/site"
)

// always lists the fields that are written even where they have their default, so that a file can be read without
// knowing the defaults.
var always = map[site.Kind][]string{
	site.KindLink:    {"name", "protocol", "transport"},
	site.KindStation: {"name", "link", "unit", "notation"},
	site.KindPoint:   {"tag", "station", "address", "type"},
}

// WriteSiteFile returns the site as a YAML site file, which ReadSiteFile reads back to the same site. Addresses are in
// the notation of their station.
func WriteSiteFile(s *site.Site) ([]byte, error) {
	links, stations, points := list(), list(), list()
	for _, l := range s.Links() {
		implied := site.NewLink()
		implied.Transport, implied.Protocol = l.Transport, l.Protocol
		port := implied.Port
		implied = implied.WithDefaults()
		implied.Port = port // which is written even where it has its default, since people look for it
		if err := add(links, l, implied); err != nil {
			return nil, err
		}
	}
	for _, st := range s.Stations() {
		if err := add(stations, st, site.NewStation()); err != nil {
			return nil, err
		}
	}
	for _, p := range s.Points() {
		station, _ := s.Station(p.Station)
		address := p.Address.Format(station.Convention())
		if address[0] == '0' && p.Address.Offset < 9999 {
			address = p.Address.Format(site.Convention{Bits: station.Bits}) // leading zeros do not survive every program a file passes through
		}
		if err := add(points, p, site.NewPoint(), address, p.ReadBack.Format(station.Convention())); err != nil {
			return nil, err
		}
	}
	root := &yaml.Node{Kind: yaml.MappingNode, Content: []*yaml.Node{text("arithmon"), {Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.Itoa(Version)}}}
	for _, part := range []struct {
		name string
		list *yaml.Node
	}{{"links", links}, {"stations", stations}, {"points", points}} {
		if len(part.list.Content) > 0 {
			root.Content = append(root.Content, text(part.name), part.list)
		}
	}
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	if err := encoder.Encode(root); err != nil {
		return nil, fmt.Errorf("writing YAML: %w", err)
	}
	return out.Bytes(), encoder.Close()
}

func list() *yaml.Node { return &yaml.Node{Kind: yaml.SequenceNode} }

func text(s string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s} }

// add appends an entity to a list, without the fields that have their default.
// addresses are those of a point, as its station's notation has them.
func add(to *yaml.Node, e, defaults site.Entity, addresses ...string) error {
	v, d := reflect.ValueOf(e), reflect.ValueOf(defaults)
	m := &yaml.Node{Kind: yaml.MappingNode}
	for i := range v.NumField() {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		if st, ok := e.(site.Station); ok && st.Speaks() == site.DNP3 && (name == "unit" || name == "notation") {
			continue
		}
		wanted := strings.Contains(" "+strings.Join(always[e.Kind()], " ")+" ", " "+name+" ")
		if !wanted && reflect.DeepEqual(v.Field(i).Interface(), d.Field(i).Interface()) {
			continue
		}
		node, err := value(v.Field(i).Interface())
		if err != nil {
			return err
		}
		if at := map[string]int{"address": 0, "read_back": 1}; name == "address" || name == "read_back" {
			address := addresses[at[name]]
			node = text(address)
			if _, err := strconv.ParseUint(address, 10, 32); err == nil && address[0] != '0' {
				node.Tag = "!!int" // a reference number needs no quotes
			}
		}
		m.Content = append(m.Content, text(name), node)
	}
	to.Content = append(to.Content, m)
	return nil
}

// value gives the YAML of a field, lists and maps in one line.
func value(v any) (*yaml.Node, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
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
