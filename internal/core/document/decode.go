package document

import (
	"encoding"
	"encoding/json"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/nearest"
)

// Decode fills the struct that into points to from a mapping and returns every fault. Fields that the mapping does not
// name keep their value; those it gives as null take that of defaults, a struct of the same type. Of a struct behind a pointer that is set, fields that are not named stay as well.
// Not so of a Whole one, or one with a json.Unmarshaler of its own: what is given takes its place.
// A field is decoded by its json.Unmarshaler or encoding.TextUnmarshaler when it has one; a *Node takes the part as it is.
func (n *Node) Decode(into, defaults any) Faults {
	var faults Faults
	target := reflect.ValueOf(into).Elem()
	n.decodeStruct(target, reflect.Indirect(reflect.ValueOf(defaults)), &faults)
	return faults
}

// Whole is a struct of which a document gives all there is, so that what it does not name does not stay.
type Whole interface{ Whole() }

// DecodeValue reads n into a value that into points to.
func (n *Node) DecodeValue(into any) Faults {
	var faults Faults
	n.decode(reflect.ValueOf(into).Elem(), &faults)
	return faults
}

// Fields returns the values of a mapping by field; faults when it is none or names a field twice.
func (n *Node) Fields() (map[string]*Node, Faults) {
	var faults Faults
	fields := map[string]*Node{}
	n.eachField(&faults, func(name string, _ *yaml.Node, value *Node) { fields[name] = value })
	return fields, faults
}

// Items returns the values of a list; faults when it is none. A null is an empty list.
func (n *Node) Items() ([]*Node, Faults) {
	if n.yaml.Tag == "!!null" {
		return nil, nil
	}
	if n.yaml.Kind != yaml.SequenceNode {
		return nil, Faults{n.Fault("%s; a list is needed, each entry after a dash", n.what())}
	}
	items := make([]*Node, len(n.yaml.Content))
	for i, item := range n.yaml.Content {
		items[i] = &Node{yaml: item, up: n, at: i}
	}
	return items, nil
}

// Text is the node as it was written; ok is false unless it is a single value.
func (n *Node) Text() (text string, ok bool) {
	return n.yaml.Value, n.yaml.Kind == yaml.ScalarNode && n.yaml.Tag != "!!null"
}

// IsNull reports whether the node is null.
func (n *Node) IsNull() bool { return n.yaml.Tag == "!!null" }

// IsMap reports whether n is a mapping of fields to values.
func (n *Node) IsMap() bool { return n.yaml.Kind == yaml.MappingNode }

// what says what a node is, for messages.
func (n *Node) what() string {
	switch {
	case n.yaml.Kind == yaml.MappingNode:
		return "is a map"
	case n.yaml.Kind == yaml.SequenceNode:
		return "is a list"
	case n.yaml.Tag == "!!str":
		return strconv.Quote(shorten(n.yaml.Value)) + " is text"
	case n.yaml.Tag == "!!null":
		return "is empty"
	case n.yaml.Tag == "!!bool":
		return n.yaml.Value + " is true or false"
	}
	return shorten(n.yaml.Value) + " is a number"
}

// Field is the value of a field of a mapping; nil where it is not named.
func (n *Node) Field(name string) *Node {
	if n.yaml.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.yaml.Content); i += 2 {
		if n.yaml.Content[i].Value == name {
			return &Node{yaml: n.yaml.Content[i+1], up: n, name: name}
		}
	}
	return nil
}

// key is the node of a field's name.
func (n *Node) key(of *yaml.Node) *Node { return &Node{yaml: of, up: n, name: of.Value} }

// fewFields are so few that those before one are looked through.
const fewFields = 30

func (n *Node) eachField(faults *Faults, visit func(name string, key *yaml.Node, value *Node)) {
	if n.yaml.Kind != yaml.MappingNode {
		*faults = append(*faults, n.Fault("%s; fields with their values are needed, such as name: value", n.what()))
		return
	}
	content := n.yaml.Content
	var seen map[string]*yaml.Node
	if len(content) > 2*fewFields {
		seen = make(map[string]*yaml.Node, len(content)/2)
	}
	before := func(at int) *yaml.Node {
		if seen != nil {
			return seen[content[at].Value]
		}
		for i := 0; i < at; i += 2 {
			if content[i].Value == content[at].Value {
				return content[i]
			}
		}
		return nil
	}
	for i := 0; i+1 < len(content); i += 2 {
		key := content[i]
		if first := before(i); first != nil {
			*faults = append(*faults, n.key(key).Fault("is given twice, first in line %d", first.Line))
			continue
		}
		if seen != nil {
			seen[key.Value] = key
		}
		visit(key.Value, key, &Node{yaml: content[i+1], up: n, name: key.Value})
	}
}

func (n *Node) decodeStruct(target, defaults reflect.Value, faults *Faults) {
	known := fieldsOf(target.Type())
	n.eachField(faults, func(name string, key *yaml.Node, value *Node) {
		i, ok := known.index[name]
		switch {
		case !ok && value.IsNull() && allDigits(name):
			*faults = append(*faults, n.key(key).Fault("%q stands behind a comma, which parts fields: write a decimal number with a point, such as 0.%s", name, name))
			return
		case !ok:
			*faults = append(*faults, Unknown(n.key(key), name, known.names))
			return
		}
		if value.IsNull() {
			target.FieldByIndex(i).Set(defaults.FieldByIndex(i))
			return
		}
		field := target.FieldByIndex(i)
		before := len(*faults)
		value.decode(field, faults)
		if known.nonzero[name] && field.IsZero() && len(*faults) == before {
			*faults = append(*faults, value.Fault("%s is not possible; leave it out, or give null, for the default", value.yaml.Value))
		}
	})
}

func allDigits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// Unknown is the fault of a field that is none of the known ones.
func Unknown(key *Node, name string, known []string) Fault {
	fault := key.Fault("unknown field %q%s", name, nearest.Hint(name, known))
	if nearest.Hint(name, known) == "" {
		fault.Message += "; known are " + strings.Join(known, ", ")
	}
	return fault
}

func (n *Node) decode(target reflect.Value, faults *Faults) {
	fault := func(format string, args ...any) { *faults = append(*faults, n.Fault(format, args...)) }
	if node, ok := target.Addr().Interface().(**Node); ok {
		*node = n
		return
	}
	if u, ok := target.Addr().Interface().(json.Unmarshaler); ok {
		b, err := json.Marshal(n.plain())
		if err == nil {
			err = u.UnmarshalJSON(b)
		}
		if err != nil {
			fault("%s", err)
		}
		return
	}
	if u, ok := target.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if text, ok := n.Text(); !ok {
			fault("%s; a single value is needed", n.what())
		} else if err := u.UnmarshalText([]byte(text)); err != nil {
			fault("%s", err)
		}
		return
	}
	switch target.Kind() {
	case reflect.Pointer:
		now := reflect.New(target.Type().Elem())
		_, own := now.Interface().(json.Unmarshaler)
		_, whole := now.Interface().(Whole)
		if !target.IsNil() && now.Elem().Kind() == reflect.Struct && n.IsMap() && !own && !whole { // what is not named stays, in a copy: others may have the old one
			now.Elem().Set(target.Elem())
			n.decodeStruct(now.Elem(), reflect.Zero(now.Type().Elem()), faults)
		} else {
			n.decode(now.Elem(), faults)
		}
		target.Set(now)
	case reflect.Struct:
		target.SetZero()
		n.decodeStruct(target, reflect.Zero(target.Type()), faults)
	case reflect.Slice, reflect.Array:
		n.decodeList(target, faults)
	case reflect.Map:
		target.Set(reflect.MakeMap(target.Type()))
		n.eachField(faults, func(name string, _ *yaml.Node, value *Node) {
			element := reflect.New(target.Type().Elem()).Elem()
			value.decode(element, faults)
			target.SetMapIndex(reflect.ValueOf(name).Convert(target.Type().Key()), element)
		})
	case reflect.String:
		if text, ok := n.Text(); ok {
			target.SetString(text)
		} else {
			fault("%s; text is needed", n.what())
		}
	case reflect.Bool:
		if n.yaml.Kind != yaml.ScalarNode || n.yaml.Tag != "!!bool" {
			fault("%s; true or false is needed", n.what())
			return
		}
		target.SetBool(strings.EqualFold(n.yaml.Value, "true"))
	case reflect.Int, reflect.Int64, reflect.Uint8, reflect.Uint16:
		n.decodeInt(target, faults)
	case reflect.Float64:
		f, err := strconv.ParseFloat(n.yaml.Value, 64)
		if hex, herr := strconv.ParseInt(n.yaml.Value, 0, 64); herr == nil {
			f, err = float64(hex), nil
		}
		switch {
		case n.yaml.Kind == yaml.ScalarNode && n.yaml.Tag == "!!float" && (err != nil || math.IsInf(f, 0) || math.IsNaN(f)):
			fault("%s is not finite, or too large; write a number, such as 0.1", n.yaml.Value)
			return
		case n.yaml.Kind != yaml.ScalarNode || n.yaml.Tag != "!!int" && n.yaml.Tag != "!!float" || err != nil:
			fault("%s; a number is needed", n.what())
			return
		}
		target.SetFloat(f)
	default:
		panic("document: no way to decode " + target.Type().String())
	}
}

func (n *Node) decodeInt(target reflect.Value, faults *Faults) {
	i, err := strconv.ParseInt(n.yaml.Value, 0, 64)
	if n.yaml.Kind != yaml.ScalarNode || n.yaml.Tag != "!!int" || err != nil {
		*faults = append(*faults, n.Fault("%s; a whole number is needed", n.what()))
		return
	}
	if target.CanInt() {
		if target.OverflowInt(i) {
			*faults = append(*faults, n.Fault("%d is too large", i))
			return
		}
		target.SetInt(i)
		return
	}
	if i < 0 || target.OverflowUint(uint64(i)) {
		*faults = append(*faults, n.Fault("%d is out of range", i))
		return
	}
	target.SetUint(uint64(i))
}

func (n *Node) decodeList(target reflect.Value, faults *Faults) {
	items, wrong := n.Items()
	*faults = append(*faults, wrong...)
	if wrong != nil {
		return
	}
	if target.Kind() == reflect.Array && len(items) != target.Len() {
		*faults = append(*faults, n.Fault("has %d entries; %d are needed", len(items), target.Len()))
		return
	}
	if target.Kind() == reflect.Slice {
		target.Set(reflect.MakeSlice(target.Type(), len(items), len(items)))
	}
	for i, item := range items {
		item.decode(target.Index(i), faults)
	}
}

// plain gives the node as the types that encoding/json has.
func (n *Node) plain() any {
	switch n.yaml.Kind {
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i+1 < len(n.yaml.Content); i += 2 {
			m[n.yaml.Content[i].Value] = (&Node{yaml: n.yaml.Content[i+1]}).plain()
		}
		return m
	case yaml.SequenceNode:
		list := make([]any, len(n.yaml.Content))
		for i, item := range n.yaml.Content {
			list[i] = (&Node{yaml: item}).plain()
		}
		return list
	}
	switch n.yaml.Tag {
	case "!!null":
		return nil
	case "!!bool":
		return strings.EqualFold(n.yaml.Value, "true")
	case "!!int", "!!float":
		if json.Valid([]byte(n.yaml.Value)) {
			return json.Number(n.yaml.Value)
		}
		if i, err := strconv.ParseInt(n.yaml.Value, 0, 64); err == nil {
			return i
		}
	}
	return n.yaml.Value
}

// FieldNames lists the json names of a struct's fields in the order of their declaration, those of embedded structs
// included.
func FieldNames(of any) []string { return slices.Clone(fieldsOf(reflect.TypeOf(of)).names) }

// Field is a field of a struct that documents can have, with its place for reflect.Value.FieldByIndex.
type Field struct {
	Name  string
	Index []int
}

// FieldsOf lists the fields of a struct type in the order of their declaration, those of embedded structs included.
func FieldsOf(t reflect.Type) []Field {
	known := fieldsOf(t)
	list := make([]Field, len(known.names))
	for i, name := range known.names {
		list[i] = Field{name, known.index[name]}
	}
	return list
}

// structFields are the named fields of a struct type; an outer field hides an embedded one.
type structFields struct {
	names   []string // in the order of their declaration
	index   map[string][]int
	nonzero map[string]bool // those tagged zero:"no": their zero means the default, and is no value that may be given
}

// structs keeps the fields of each struct type that was decoded: there are few of them, and a file has many entries of each.
var structs sync.Map // reflect.Type to *structFields

func fieldsOf(t reflect.Type) *structFields {
	if f, ok := structs.Load(t); ok {
		return f.(*structFields)
	}
	f := &structFields{index: map[string][]int{}, nonzero: map[string]bool{}}
	for _, field := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		if _, hidden := f.index[name]; name != "" && name != "-" && !hidden {
			f.index[name] = field.Index
			f.names = append(f.names, name)
			f.nonzero[name] = field.Tag.Get("zero") == "no"
		}
	}
	structs.Store(t, f)
	return f
}
