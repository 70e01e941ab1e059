package cli

import (
	"bytes"
	"context"
	"io"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

// commands calls f with every verb that a person can use.
func commands(t *testing.T, f func(c *cobra.Command, path string)) {
	t.Helper()
	a := &app{Env: Env{Out: io.Discard, Err: io.Discard, Getenv: func(string) string { return "" }}}
	each(a.root(), func(c *cobra.Command) {
		if path := strings.TrimPrefix(c.CommandPath(), "arithmon "); c.IsAvailableCommand() && path != "arithmon" && !strings.HasPrefix(path, "completion ") {
			f(c, path)
		}
	})
}

// words are the words of a line as a shell makes them.
func shellWords(line string) (list []string) {
	var word strings.Builder
	quoted, any := false, false
	for _, r := range line {
		switch {
		case r == '\'':
			quoted, any = !quoted, true
		case r == ' ' && !quoted:
			if any {
				list = append(list, word.String())
			}
			word.Reset()
			any = false
		default:
			word.WriteRune(r)
			any = true
		}
	}
	if any {
		list = append(list, word.String())
	}
	return list
}

// Every verb has an example that is written as it wants to be, belongs to a group or a verb that does, and has help that fits.
func TestHelpIsWhole(t *testing.T) {
	named := map[string]bool{}
	commands(t, func(c *cobra.Command, path string) {
		named[path] = true
		if assert.NotEmpty(t, c.Example, path) {
			for line := range strings.SplitSeq(c.Example, "\n") {
				line, _, _ = strings.Cut(strings.TrimSpace(line), " > ")
				a := &app{Env: Env{Out: io.Discard, Err: io.Discard, Getenv: func(string) string { return "" }}}
				root := a.root()
				found, args, err := root.Find(joined(root, shellWords(line)[1:]))
				require.NoError(t, err, line)
				require.NoError(t, found.ParseFlags(args), line)
				assert.NoError(t, found.ValidateArgs(found.Flags().Args()), line)
				assert.True(t, found.CommandPath() == c.CommandPath() || strings.HasPrefix(found.CommandPath(), c.CommandPath()+" "), "%s is an example of %s", line, found.CommandPath())
			}
		}
		assert.True(t, c.GroupID != "" || strings.Contains(path, " ") || slices.Contains([]string{"version", "completion"}, path), "%s is in no group", path)
		c.Flags().VisitAll(func(f *pflag.Flag) { assert.NotContains(t, f.Name, "_", path) })
	})
	for path := range examples {
		assert.True(t, named[path], "there is an example of %s, which is no verb", path)
	}
}

func TestHelpFits(t *testing.T) {
	commands(t, func(_ *cobra.Command, path string) {
		var out bytes.Buffer
		code := Run(context.Background(), Env{Out: &out, Err: &out, Getenv: func(string) string { return "" }}, append(strings.Split(path, " "), "--help"))
		assert.Zero(t, code, path)
		before, _, _ := strings.Cut(out.String(), "\nExamples:")
		for line := range strings.SplitSeq(out.String(), "\n") {
			if !strings.Contains(line, "arithmon ") || strings.Contains(before, line) { // an example stands in one line
				assert.LessOrEqual(t, utf8.RuneCountInString(line), width, "%s: %s", path, line)
			}
		}
	})
}

// A flag that is true or false stands alone, too, and fields may be written with _.
func TestFlagsOfFields(t *testing.T) {
	for _, c := range []struct {
		line string
		want map[string]any
	}{
		{"station set rtu --unsolicited", map[string]any{"unsolicited": true}},
		{"station set rtu --unsolicited false --poll 2s", map[string]any{"unsolicited": false, "poll": "2s"}},
		{"station set rtu --strings_alone --max_registers 20", map[string]any{"strings_alone": true, "max_registers": 20}},
		{"station set rtu --max-registers=20", map[string]any{"max_registers": 20}},
		{"link set bus --serial {rts: toggle}", map[string]any{"serial": map[string]any{"rts": "toggle"}}},
	} {
		a := &app{Env: Env{Out: io.Discard, Err: io.Discard, Getenv: func(string) string { return "" }}}
		root := a.root()
		line := strings.Replace(c.line, "{rts: toggle}", "'{rts: toggle}'", 1)
		found, args, err := root.Find(joined(root, shellWords(line)))
		require.NoError(t, err)
		kind := site.Kind(strings.Fields(c.line)[0])
		list := fieldFlags(&cobra.Command{}, form.Shape(kind))
		require.NoError(t, found.ParseFlags(args), c.line)
		assert.NoError(t, found.ValidateArgs(found.Flags().Args()), c.line)
		got, err := list.given(found)
		require.NoError(t, err, c.line)
		assert.Equal(t, c.want, got, c.line)
	}
}

// What the service says of a field is said of its flag; all of it, and with 2.
func TestFaultsOfFlags(t *testing.T) {
	list := fields{{"max_registers", false}, {"serial", false}, {"poll", true}}
	problem := &client.ProblemError{Problem: api.Problem{Status: 422, Errors: []api.ProblemField{
		{Subject: "station x", Field: "name", Message: "is taken"},
		{Subject: "station x", Field: "max_registers", Message: "700 is out of range", Line: 1},
		{Subject: "station x", Field: "serial.baud", Message: "is odd", Line: 1},
		{Subject: "station x", Field: "order", Message: "is unknown"},
	}}}
	err := list.named(problem, "name")
	assert.Equal(t, "station x: NAME: is taken\nstation x: --max-registers: 700 is out of range\nstation x: --serial (baud): is odd\nstation x: order: is unknown", err.Error())
	assert.Equal(t, exitUsage, exitCode(err))
	problem.Errors = problem.Errors[:1]
	assert.Equal(t, exitFailed, exitCode(list.named(problem, "name")), "a name that is taken is no wrong usage")
}

func TestWhatIsMistypedIsNamed(t *testing.T) {
	for line, want := range map[string]string{
		"stationn":                "arithmon: unknown verb \"stationn\"; did you mean station? See arithmon --help\n",
		"station lst":             "arithmon: unknown verb \"lst\"; did you mean list or ask or set? See arithmon station --help\n",
		"station add x --unti 3":  "arithmon: unknown flag: --unti; did you mean --unit? See arithmon station add --help\n",
		"read a --every x":        "invalid argument \"x\" for \"--every\" flag",
		"station add \xff":        "is no UTF-8 text",
		"read -o xml a":           "-o xml: choose text, json, yaml or csv",
		"read 1.2.3.4 --unit one": "invalid argument \"one\"",
	} {
		var out bytes.Buffer
		code := Run(context.Background(), Env{Out: &out, Err: &out, Getenv: func(string) string { return "" }}, strings.Split(line, " "))
		assert.Equal(t, exitUsage, code, line)
		assert.Contains(t, out.String(), want, line)
	}
}

// Readings below a folder are laid out as a tree.
func TestTheTreeOfTags(t *testing.T) {
	list := []api.Reading{{Tag: "tern/basin/level"}, {Tag: "tern/pump1/current"}, {Tag: "tern/pump1/speed"}, {Tag: "tern/total"}}
	tb := &table{}
	tellTree(tb, list, time.Now())
	var names []string
	for _, row := range tb.rows {
		names = append(names, row[0])
	}
	assert.Equal(t, []string{"tern/", "  basin/", "    level", "  pump1/", "    current", "    speed", "  total"}, names)
	pattern, is := folder("tern/")
	assert.True(t, is)
	assert.Equal(t, "tern/*", pattern)
	_, is = folder("tern/pump1")
	assert.False(t, is)
}

func TestASiteFileAsJSON(t *testing.T) {
	out, err := asJSON([]byte("arithmon: 1\npoints:\n  - tag: a\n    address: 400010\n    states: {0: off, 5: tripped}\n    scaling: {raw: [0, 1.5]}\n"))
	require.NoError(t, err)
	assert.Equal(t, `{
  "arithmon": 1,
  "points": [
    {
      "tag": "a",
      "address": 400010,
      "states": {
        "0": "off",
        "5": "tripped"
      },
      "scaling": {
        "raw": [
          0,
          1.5
        ]
      }
    }
  ]
}
`, string(out))
}
