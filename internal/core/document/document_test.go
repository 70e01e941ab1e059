package document

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"
)

// span is written with a unit: 5m.
type span int

func (s *span) UnmarshalText(b []byte) error {
	_, err := fmt.Sscanf(string(b), "%dm", (*int)(s))
	return err
}

// anything takes any JSON.
type anything struct{ text string }

func (a *anything) UnmarshalJSON(b []byte) error {
	if strings.Contains(string(b), "bad") {
		return fmt.Errorf("bad is not allowed")
	}
	a.text = string(b)
	return nil
}

type inner struct {
	Low  int `json:"low"`
	High int `json:"high"`
}

type embedded struct {
	Name  string `json:"name"`
	Depth int    `json:"depth"`
}

type sample struct {
	embedded
	Name    string            `json:"name"` // hides the embedded one
	Count   int               `json:"count"`
	Byte    uint8             `json:"byte"`
	Ratio   float64           `json:"ratio"`
	On      bool              `json:"on"`
	Range   [2]float64        `json:"range"`
	List    []int             `json:"list"`
	Words   map[string]string `json:"words"`
	Inner   inner             `json:"inner"`
	Pointer *int              `json:"pointer"`
	Span    span              `json:"span"`
	Any     anything          `json:"any"`
	Node    *Node             `json:"node"`
	Hidden  string            `json:"-"`
}

func decode(t *testing.T, text string, into sample) (sample, Faults) {
	t.Helper()
	n, err := Parse([]byte(text))
	require.NoError(t, err)
	faults := n.Decode(&into, sample{Count: 7})
	return into, faults
}

func TestDecodeEveryKindOfField(t *testing.T) {
	yaml := "name: x\ndepth: 3\ncount: 0x10\nbyte: 255\nratio: 2\non: true\nrange: [1, 2.5]\nlist: [1, 2]\nwords: {a: b, 1: c}\ninner: {low: 1}\npointer: 5\nspan: 5m\nany: {k: [1, true, null, x]}\nnode: {free: form}\n"
	got, faults := decode(t, yaml, sample{Inner: inner{High: 9}})
	require.Nil(t, faults)
	five := 5
	node := got.Node
	got.Node = nil
	assert.Equal(t, sample{embedded: embedded{Depth: 3}, Name: "x", Count: 16, Byte: 255, Ratio: 2, On: true, Range: [2]float64{1, 2.5}, List: []int{1, 2},
		Words: map[string]string{"a": "b", "1": "c"}, Inner: inner{Low: 1}, Pointer: &five, Span: 5, Any: anything{`{"k":[1,true,null,"x"]}`}}, got,
		"a struct is replaced whole, so that high is 0 again")
	assert.Equal(t, "node", node.Path())
	assert.Equal(t, 14, node.Line())
}

func TestJSONIsReadLikeYAML(t *testing.T) {
	n, err := Parse([]byte("{\"name\": \"a\\tb\",\n\t\"count\": 4,\n \"any\": [1.5, \"x\"], \"list\": []}"))
	require.NoError(t, err)
	var got sample
	require.Nil(t, n.Decode(&got, sample{}))
	assert.Equal(t, "a\tb", got.Name)
	assert.Equal(t, 4, got.Count)
	assert.Equal(t, `[1.5,"x"]`, got.Any.text)
	assert.NotNil(t, got.List)
	n, err = Parse([]byte("{\"a\": 1,\n\n \"count\": \"x\"}"))
	require.NoError(t, err)
	faults := n.Decode(&got, sample{})
	assert.Equal(t, 3, faults[1].Line, "lines are counted in JSON, too")
}

func TestFieldsNotNamedStayAndNullGivesTheDefault(t *testing.T) {
	got, faults := decode(t, "count: null\nname: new\n", sample{Count: 1, Ratio: 0.5})
	require.Nil(t, faults)
	assert.Equal(t, 7, got.Count)
	assert.Equal(t, 0.5, got.Ratio)
}

func TestFaultsAreAllReported(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"unknown field, near", "cuont: 1", `line 1: cuont: unknown field "cuont"; did you mean count?`},
		{"hidden field", "Hidden: x", "unknown field"},
		{"text for a number", "count: many", `line 1: count: "many" is text; a whole number is needed`},
		{"fraction for a whole number", "count: 1.5", "line 1: count: 1.5 is a number; a whole number is needed"},
		{"out of range", "byte: 256", "line 1: byte: 256 is out of range"},
		{"negative", "byte: -1", "line 1: byte: -1 is out of range"},
		{"not a number", "ratio: .nan", "line 1: ratio: .nan is not finite, or too large; write a number, such as 0.1"},
		{"number for a truth", "on: 1", "line 1: on: 1 is a number; true or false is needed"},
		{"list of the wrong length", "range: [1]", "line 1: range: has 1 entries; 2 are needed"},
		{"map for a list", "list: {a: 1}", "line 1: list: is a map; a list is needed, each entry after a dash"},
		{"list for a map", "inner: [1]", "line 1: inner: is a list; fields with their values are needed, such as name: value"},
		{"list for text", "name: [a]", "line 1: name: is a list; text is needed"},
		{"nested", "inner:\n  low: x\n  hihg: 1\n", "line 2: inner.low: \"x\" is text; a whole number is needed\nline 3: inner.hihg: unknown field \"hihg\"; did you mean high?"},
		{"its own decoder says so", "any: bad", "line 1: any: bad is not allowed"},
		{"twice", "count: 1\ncount: 2", "line 2: count: is given twice, first in line 1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, faults := decode(t, c.text, sample{})
			require.NotNil(t, faults)
			assert.Contains(t, faults.Error(), c.want)
		})
	}
}

func TestParseRefuses(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"nothing", "", "is empty"},
		{"an alias", "a: &x 1\nb: *x\n", "anchors and aliases are not read"},
		{"depth", strings.Repeat("[", 40) + strings.Repeat("]", 40), "nested too deeply"},
		{"depth in JSON", strings.Repeat(`{"a":`, 40) + "1" + strings.Repeat("}", 40), "nested too deeply"},
		{"two documents", "a: 1\n---\nb: 2\n", "line 2: a second document begins here"},
		{"a tab for indentation", "a:\n\tb: 1\n", "is not YAML"},
		{"size", strings.Repeat("#\n", MaxBytes/2+1), "at most 32 MB are read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Parse([]byte(c.text))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
		})
	}
}

func TestFieldNames(t *testing.T) {
	assert.Equal(t, []string{"name", "depth"}, FieldNames(embedded{}))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("name: x\ncount: 3\nwords: {a: b}\n"))
	f.Add([]byte(`{"range":[1,2],"any":{"a":null}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := Parse(data)
		if err != nil {
			return
		}
		var s sample
		if n.Decode(&s, sample{}) == nil && s.Any.text != "" && !json.Valid([]byte(s.Any.text)) {
			t.Fatalf("%q is no JSON", s.Any.text)
		}
	})
}

// decoded reads a document into a value that is there already.
func decoded[T any](t *testing.T, text string, into T) (T, Faults) {
	t.Helper()
	n, err := Parse([]byte(text))
	require.NoError(t, err)
	var none T
	return into, n.Decode(&into, none)
}

type line struct {
	Baud   int    `json:"baud" zero:"no"`
	Parity string `json:"parity"`
}

type wired struct {
	Line  *line   `json:"line"`
	Ratio float64 `json:"ratio"`
}

// What is named within a struct that is there changes that alone, in a copy.
func TestANestedFieldChangesAlone(t *testing.T) {
	old := &line{Baud: 19200, Parity: "even"}
	got, faults := decoded(t, "{line: {parity: none}}", wired{Line: old})
	require.Empty(t, faults)
	assert.Equal(t, line{19200, "none"}, *got.Line)
	assert.Equal(t, "even", old.Parity, "others may have the old one")
	got, faults = decoded(t, "{line: {parity: none}}", wired{})
	require.Empty(t, faults)
	assert.Equal(t, line{0, "none"}, *got.Line)
	got, faults = decoded(t, "{line: null}", wired{Line: old})
	require.Empty(t, faults)
	assert.Nil(t, got.Line)
}

func TestValuesThatWouldBeIgnored(t *testing.T) {
	for text, want := range map[string]string{
		"{line: {baud: 0}}":   "line 1: line.baud: 0 is not possible; leave it out, or give null, for the default",
		"{ratio: 0,1}":        `line 1: 1: "1" stands behind a comma, which parts fields: write a decimal number with a point, such as 0.1`,
		"{ratio: .inf}":       "line 1: ratio: .inf is not finite, or too large; write a number, such as 0.1",
		"{line: {baud: 0.5}}": "line 1: line.baud: 0.5 is a number; a whole number is needed",
	} {
		_, faults := decoded(t, text, wired{})
		assert.Contains(t, faults.Error(), want, text)
	}
}

func TestBytesThatAreNoText(t *testing.T) {
	for _, text := range []string{"{line: {parity: \"a\xffb\"}}", "ratio: 1\nline: {parity: \xc3}\n"} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, "is no UTF-8; save the text as UTF-8")
	}
	_, err := Parse([]byte("ratio: 1\nline: {parity: \xc3}\n"))
	assert.ErrorContains(t, err, "line 2: byte 25 (0xC3)")
}

// A value is the document that its JSON would be.
func TestDocumentsOfValues(t *testing.T) {
	type own struct {
		Raw  [2]float64 `json:"raw"`
		Text string     `json:"text,omitempty"`
	}
	rapid.Check(t, func(rt *rapid.T) {
		var value func(depth int) any
		value = func(depth int) any {
			kinds := 9
			if depth > 3 {
				kinds = 7
			}
			switch rapid.IntRange(0, kinds-1).Draw(rt, "kind") {
			case 0:
				return nil
			case 1:
				return rapid.String().Draw(rt, "text")
			case 2:
				return rapid.Bool().Draw(rt, "truth")
			case 3:
				return rapid.Int().Draw(rt, "number")
			case 4:
				return rapid.Float64Range(-1e20, 1e20).Draw(rt, "float")
			case 5:
				return json.Number(strconv.Itoa(rapid.Int().Draw(rt, "digits")))
			case 6:
				return own{[2]float64{0, rapid.Float64Range(-10, 10).Draw(rt, "end")}, rapid.StringN(0, 3, -1).Draw(rt, "of")}
			case 7:
				var list []any
				for range rapid.IntRange(0, 3).Draw(rt, "length") {
					list = append(list, value(depth+1))
				}
				return append([]any{}, list...)
			}
			m := map[string]any{}
			for range rapid.IntRange(0, 4).Draw(rt, "fields") {
				m[rapid.StringMatching("[a-z]{1,3}").Draw(rt, "name")] = value(depth + 1)
			}
			return m
		}
		v := map[string]any{"it": value(0)}
		text, err := json.Marshal(v)
		require.NoError(rt, err)
		want, err := Parse(text)
		require.NoError(rt, err)
		got, err := Of(v)
		require.NoError(rt, err)
		assert.Equal(rt, tagged(want.yaml), tagged(got.yaml), "%s", text)
	})
	_, err := Of(map[string]any{"it": "a\xffb"})
	assert.ErrorContains(t, err, "is no UTF-8")
	_, err = Of(map[string]any{"it": math.NaN()})
	assert.Error(t, err)
}

// tagged is a node with the tags of what is in it, without the lines; a number is its value.
func tagged(n *yaml.Node) string {
	text := n.Tag + " " + strconv.Quote(n.Value)
	if f, err := strconv.ParseFloat(n.Value, 64); err == nil && n.Tag != "!!str" {
		text = fmt.Sprint("number ", f)
	}
	for _, c := range n.Content {
		text += "(" + tagged(c) + ")"
	}
	return text
}
