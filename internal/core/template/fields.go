package template

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Fields are those of an entity, as a site file has them. The texts among them may hold parameters.
type Fields map[string]any

// first are the fields by which one knows what is described; they are written before the others, which follow by name.
var first = []string{"tag", "address", "table", "type", "protocol", "notation", "order"}

// Names lists the fields in the order in which they are written.
func (f Fields) Names() []string {
	list := make([]string, 0, len(f))
	for _, name := range first {
		if _, has := f[name]; has {
			list = append(list, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(f)) {
		if !slices.Contains(first, name) {
			list = append(list, name)
		}
	}
	return list
}

// MarshalJSON writes the fields in the order of Names.
func (f Fields) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, name := range f.Names() {
		if i > 0 {
			b.WriteByte(',')
		}
		key, _ := json.Marshal(name) // text
		value, err := json.Marshal(f[name])
		if err != nil {
			return nil, err
		}
		b.Write(key)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// UnmarshalJSON reads an object; its numbers stay as they are written.
func (f *Fields) UnmarshalJSON(data []byte) error {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	var m map[string]any
	if err := decoder.Decode(&m); err != nil {
		return fmt.Errorf("fields with their values are needed, such as {type: int16}")
	}
	*f = m
	return nil
}

// Text is a field that is a text; "" otherwise.
func (f Fields) Text(name string) string {
	text, _ := f[name].(string)
	return text
}

// Fill is what the fields become with the values of the parameters. A text that is one expression and gives a number is one.
func (f Fields) Fill(values map[string]string) (Fields, error) {
	out := make(Fields, len(f))
	for name, v := range f {
		filled, err := fill(v, values)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = filled
	}
	return out, nil
}

func fill(v any, values map[string]string) (any, error) {
	switch v := v.(type) {
	case string:
		text, err := Text(v, values)
		if err != nil {
			return nil, err
		}
		if pieces, _ := parse(v); len(pieces) == 1 && pieces[0].terms != nil && json.Valid([]byte(text)) && text != "" && (isNumber(strings.TrimPrefix(text, "-"))) {
			return json.Number(text), nil
		}
		return text, nil
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			var err error
			if out[i], err = fill(e, values); err != nil {
				return nil, err
			}
		}
		return out, nil
	case map[string]any:
		return Fields(v).Fill(values)
	case Fields:
		return v.Fill(values)
	}
	return v, nil
}

// uses calls f with every text in v that holds parameters, and with what is wrong with it.
func uses(v any, f func(pieces []piece, err error)) {
	switch v := v.(type) {
	case string:
		f(parse(v))
	case []any:
		for _, e := range v {
			uses(e, f)
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			uses(v[name], f)
		}
	case Fields:
		uses(map[string]any(v), f)
	}
}

// Parameter is what differs from one device of a kind to the next.
type Parameter struct {
	Name        string `json:"name" doc:"as it stands in braces: letters, digits and _"`
	Description string `json:"description,omitempty" doc:"what it is, for who gives its value"`
	Default     string `json:"default,omitempty" doc:"value where none is given; it may hold {station}, {link} and {unit}"`
}

// Own are the parameters that every station has without being asked: its name, that of its link, and its unit or link address.
var Own = [...]string{"station", "link", "unit"}

// Valid says what is wrong with the name of a parameter; "" when nothing is.
func (p Parameter) Valid() string {
	switch {
	case p.Name == "":
		return "is missing"
	case !validName(p.Name):
		return fmt.Sprintf("%q is no name of a parameter; use letters, digits and _, with a letter first", p.Name)
	case slices.Contains(Own[:], p.Name):
		return fmt.Sprintf("%q is there for every station; choose another", p.Name)
	}
	return ""
}

// Check calls f with everything that is wrong with the texts of v: braces that do not fit, parameters that there are not.
func Check(v any, known []Parameter, f func(error)) {
	uses(v, func(pieces []piece, err error) {
		if err != nil {
			f(err)
			return
		}
		for _, name := range names(pieces) {
			if !slices.Contains(Own[:], name) && !slices.ContainsFunc(known, func(p Parameter) bool { return p.Name == name }) {
				f(fmt.Errorf("there is no parameter %q; name it under parameters, or double the brace that is meant as such: {{", name))
			}
		}
	})
}

// Literal is a text that stands for itself: its braces are doubled.
func Literal(text string) string {
	return strings.NewReplacer("{", "{{", "}", "}}").Replace(text)
}

// Differs reports whether there is a parameter in a text.
func Differs(text string) bool {
	pieces, _ := parse(text)
	return len(names(pieces)) > 0
}
