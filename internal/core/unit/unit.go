// Package unit knows what values with an engineering unit are in plants: the dictionary that findings take as evidence. Nothing is refused
// by it.
package unit

import (
	_ "embed"
	"fmt"
	"math"
	"slices"
	"strings"

	"arithmon/internal/core/document"
)

// Unit is what a unit tells of a value. The zero Unit tells nothing.
type Unit struct {
	Names    []string   `json:"names" doc:"as it is written"`
	Possible [2]float64 `json:"possible" doc:"what a plant has at all"`
	Usual    [2]float64 `json:"usual" doc:"what most plants have"`
	Total    bool       `json:"total,omitempty" doc:"it counts up, and falls when it is reset"`
}

// Known reports whether the unit tells anything.
func (u Unit) Known() bool { return len(u.Names) > 0 }

// Dictionary finds units by the names people write.
type Dictionary struct {
	exact map[string]Unit
	loose map[string]Unit // by the name without case and spaces, where one unit alone has it
}

//go:embed units.yaml
var builtIn []byte

// Source is the dictionary that comes with the program, as YAML.
func Source() []byte { return slices.Clone(builtIn) }

// BuiltIn is the dictionary that comes with the program.
func BuiltIn() *Dictionary {
	d, err := Read(builtIn)
	if err != nil {
		panic(fmt.Sprintf("unit: %v", err)) // a test reads it
	}
	return d
}

// Read reads a dictionary in YAML or JSON: `units`, a list of names, possible, usual and total. Its error is document.Faults.
func Read(data []byte) (*Dictionary, error) {
	root, err := document.Parse(data)
	if err != nil {
		return nil, err
	}
	fields, faults := root.Fields()
	for name, node := range fields {
		if name != "units" {
			faults = append(faults, node.Fault("%s is not known here; a dictionary has units alone", name))
		}
	}
	if fields["units"] == nil {
		return nil, append(faults, root.Fault("units is missing: a list of {names, possible, usual}"))
	}
	items, more := fields["units"].Items()
	faults = append(faults, more...)
	d := &Dictionary{exact: map[string]Unit{}, loose: map[string]Unit{}}
	for _, node := range items {
		var u Unit
		if more := node.DecodeValue(&u); len(more) > 0 {
			faults = append(faults, more...)
			continue
		}
		faults = append(faults, d.add(node, u)...)
	}
	for name, u := range d.exact {
		key := plain(name)
		if other, taken := d.loose[key]; taken && other.Names[0] != u.Names[0] {
			d.loose[key] = Unit{} // mW and MW: the case tells
		} else {
			d.loose[key] = u
		}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return d, nil
}

// add enters a unit, unless it has faults.
func (d *Dictionary) add(node *document.Node, u Unit) (faults document.Faults) {
	switch {
	case len(u.Names) == 0:
		return document.Faults{node.Fault("a unit has one name or more: names")}
	case !(u.Possible[0] < u.Possible[1]) || math.IsInf(u.Possible[1]-u.Possible[0], 0):
		return document.Faults{node.Fault("possible: [%g, %g] is no range; the lower end comes first", u.Possible[0], u.Possible[1])}
	case !(u.Usual[0] < u.Usual[1]) || u.Usual[0] < u.Possible[0] || u.Usual[1] > u.Possible[1]:
		return document.Faults{node.Fault("usual: [%g, %g] is no range within the possible one", u.Usual[0], u.Usual[1])}
	}
	for _, name := range u.Names {
		if _, taken := d.exact[name]; taken || strings.TrimSpace(name) == "" {
			faults = append(faults, node.Fault("%q is the name of another unit, or none", name))
		}
		d.exact[name] = u
	}
	return faults
}

// With gives a dictionary whose units come before those of d.
func (d *Dictionary) With(over *Dictionary) *Dictionary {
	both := &Dictionary{exact: map[string]Unit{}, loose: map[string]Unit{}}
	for _, from := range []*Dictionary{d, over} {
		for name, u := range from.exact {
			both.exact[name] = u
		}
		for name, u := range from.loose {
			both.loose[name] = u
		}
	}
	return both
}

// Find returns the unit of a name; the zero Unit when it is not known.
func (d *Dictionary) Find(name string) Unit {
	name = strings.TrimSpace(name)
	if u, ok := d.exact[name]; ok || name == "" {
		return u
	}
	return d.loose[plain(name)]
}

func plain(name string) string { return strings.ToLower(strings.ReplaceAll(name, " ", "")) }
