package cli

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v3"

	"arithmon/internal/app/client"
	"arithmon/internal/core/document"
	"arithmon/internal/core/nearest"
)

// field is a flag made from a field of a site type.
type field struct {
	name string // as in the site file
	text bool   // its value is text, whatever it looks like
}

// flag is the name of the field's flag.
func (f field) flag() string { return flagName(f.name) }

func flagName(field string) string { return strings.ReplaceAll(field, "_", "-") }

// kebab lets flags be written with _ in place of -, as fields are.
func kebab(_ *pflag.FlagSet, name string) pflag.NormalizedName {
	return pflag.NormalizedName(flagName(name))
}

type fields []field

// fieldValue is the text of a flag made from a field.
type fieldValue struct{ text, kind string }

func (v *fieldValue) String() string     { return v.text }
func (v *fieldValue) Set(s string) error { v.text = s; return nil }
func (v *fieldValue) Type() string       { return v.kind }

// kindOf says what is written for a field, for help.
func kindOf(t reflect.Type) string {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Bool:
		return "bool"
	case reflect.Slice, reflect.Array:
		return "list"
	case reflect.Map, reflect.Struct:
		return "map"
	case reflect.String:
		return "text"
	}
	if _, text := reflect.New(t).Interface().(interface{ UnmarshalText([]byte) error }); text {
		return "time"
	}
	return "number"
}

// fieldFlags gives a command a flag for each field of shape but its key, with the field's own description.
func fieldFlags(c *cobra.Command, shape any) (list fields) {
	t := reflect.TypeOf(shape)
	for _, f := range document.FieldsOf(t) {
		if f.Name == "name" || f.Name == "tag" {
			continue
		}
		sf := t.FieldByIndex(f.Index)
		doc, values := sf.Tag.Get("doc"), sf.Tag.Get("enum")
		_, written := reflect.New(sf.Type).Interface().(interface{ UnmarshalText([]byte) error })
		own := field{f.Name, sf.Type.Kind() == reflect.String || written}
		value := &fieldValue{kind: kindOf(sf.Type)}
		if f.Name == "address" || f.Name == "read_back" {
			value.kind = "address"
		}
		c.Flags().Var(value, own.flag(), strings.ReplaceAll(doc, "`", ""))
		if value.kind == "bool" {
			c.Flags().Lookup(own.flag()).NoOptDefVal = "true"
		}
		if values != "" {
			choose(c, own.flag(), strings.Split(values, ",")...)
		}
		list = append(list, own)
	}
	return list
}

// choose completes a flag with its possible values.
func choose(c *cobra.Command, flag string, values ...string) {
	if err := c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)); err != nil {
		panic(err) // there is no such flag
	}
}

// given returns the fields whose flags were set. Values that are not text are written as in a site file.
func (list fields) given(c *cobra.Command) (map[string]any, error) {
	values := map[string]any{}
	for _, f := range list {
		flag := c.Flags().Lookup(f.flag())
		if !flag.Changed {
			continue
		}
		text := flag.Value.String()
		if f.text {
			values[f.name] = text
			continue
		}
		var v any
		if err := yaml.Unmarshal([]byte(text), &v); err != nil {
			return nil, usage("--%s %q is not written as in a site file: %s", f.flag(), text, strings.TrimPrefix(err.Error(), "yaml: "))
		}
		values[f.name] = jsonable(v)
	}
	return values, nil
}

// named says the faults that the service found in fields as those of the flags that gave them; key is the field that stands before them.
// A wrong value ends with 2, a name that is taken does not.
func (list fields) named(err error, key string) error {
	var p *client.ProblemError
	if !errors.As(err, &p) || len(p.Errors) == 0 {
		return err
	}
	code := exitFailed
	var lines []string
	for _, f := range p.Errors {
		name, within, _ := strings.Cut(f.Field, ".")
		name, index, indexed := strings.Cut(name, "[")
		if indexed {
			within = strings.TrimSuffix("["+index+"."+within, ".")
		}
		where := f.Field
		switch {
		case name == key:
			where = strings.ToUpper(key)
		case slices.ContainsFunc(list, func(f field) bool { return f.name == name }):
			if where = "--" + flagName(name); within != "" {
				where += " (" + within + ")"
			}
			code = exitUsage
		default:
			code = exitUsage
		}
		var parts []string
		for _, part := range []string{f.Subject, where, f.Message} {
			if part != "" {
				parts = append(parts, part)
			}
		}
		lines = append(lines, strings.Join(parts, ": "))
	}
	return &exitError{code, strings.Join(lines, "\n")}
}

// jsonable gives maps that YAML reads with number keys the text keys of JSON.
func jsonable(v any) any {
	switch v := v.(type) {
	case map[any]any:
		m := map[string]any{}
		for k, e := range v {
			m[fmt.Sprint(k)] = jsonable(e)
		}
		return m
	case map[string]any:
		for k, e := range v {
			v[k] = jsonable(e)
		}
	case []any:
		for i, e := range v {
			v[i] = jsonable(e)
		}
	case float64:
		switch { // JSON has none of these; what is wrong with it the service says, with all else that is
		case math.IsNaN(v):
			return ".nan"
		case math.IsInf(v, 1):
			return ".inf"
		case math.IsInf(v, -1):
			return "-.inf"
		}
	}
	return v
}

// joined joins true or false that follows a flag of that kind to it, since such a flag may also stand alone.
func joined(root *cobra.Command, args []string) []string {
	c, _, err := root.Find(args)
	if err != nil {
		return args
	}
	var out []string
	for i := 0; i < len(args); i++ {
		arg := args[i]
		if arg == "--" {
			return append(out, args[i:]...)
		}
		if name, is := strings.CutPrefix(arg, "--"); is && i+1 < len(args) && (args[i+1] == "true" || args[i+1] == "false") {
			if flag := c.Flags().Lookup(flagName(name)); flag != nil && flag.Value.Type() == "bool" {
				arg += "=" + args[i+1]
				i++
			}
		}
		out = append(out, arg)
	}
	return out
}

// texts checks that what was typed is text.
func texts(args []string) error {
	for _, arg := range args {
		if !utf8.ValidString(arg) {
			return usage("%q is no UTF-8 text; see which encoding the terminal has", arg)
		}
	}
	return nil
}

// flagHint names the flags that are most like one that there is not.
func flagHint(c *cobra.Command, err error) string {
	unknown, is := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !is {
		return ""
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	near := nearest.Names(flagName(unknown), names, 2)
	if len(near) == 0 {
		return ""
	}
	return "; did you mean --" + strings.Join(near, " or --") + "?"
}

// ended ends a sentence after a hint, which may be a question.
func ended(hint string) string {
	if strings.HasSuffix(hint, "?") {
		return hint
	}
	return hint + "."
}

// commandHint is the error of a verb that there is not, with those that are most like it.
func commandHint(c *cobra.Command, typed string) error {
	var names []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			names = append(names, sub.Name())
		}
	}
	return usage("unknown verb %q%s See %s --help", typed, ended(nearest.Hint(typed, names)), c.CommandPath())
}
