package document

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"
)

// placed is a node with the lines, tags and values of what is in it.
func placed(n *yaml.Node) string {
	var b strings.Builder
	var write func(n *yaml.Node)
	write = func(n *yaml.Node) {
		line := n.Line
		if n.Tag == "!!null" && n.Value == "" {
			line = 0 // of what follows
		}
		fmt.Fprintf(&b, "%d %s %q(", line, n.Tag, n.Value)
		for _, c := range n.Content {
			write(c)
		}
		b.WriteString(")")
	}
	write(n)
	return b.String()
}

// sameInParts fails when a text that is read in parts is something else than as a whole; it says whether it was read in parts.
func sameInParts(t require.TestingT, text string) bool {
	node := inParts([]byte(text), 3, 1)
	if node == nil {
		return false
	}
	decoder := yaml.NewDecoder(strings.NewReader(text))
	var doc, more yaml.Node
	require.NoError(t, decoder.Decode(&doc), "%s", text)
	require.True(t, errors.Is(decoder.Decode(&more), io.EOF), "%s", text)
	require.Equal(t, placed(doc.Content[0]), placed(node), "%s", text)
	return true
}

// What is read in parts is what it is as a whole, each line included, whatever entries look like.
func TestDocumentsInParts(t *testing.T) {
	entries := []string{
		"{tag: a, unit: '%'}", "{tag: a,\n    unit: b}", "tag: a\n    unit: b", "tag: a\n    text: |\n      - x\n\n      y\n    unit: b", "text: >-\n      a\n      b",
		"text: \"a\n      - b\"", "text: 'it''s'", "text: a long\n      one - with\n      lines", "list:\n      - a\n      - b", "list:\n    - a\n    - b", "# nothing\n    tag: a", "- a\n    - b", "plain", "{a: [1, 2,\n  3]}", "~", "&x a", "*x", "{tag: \"a\n  - b\"}", "a: 1\n    a: 2", "!!str 1", "- - x",
	}
	split := 0
	rapid.Check(t, func(rt *rapid.T) {
		var b strings.Builder
		indent := rapid.SampledFrom([]string{"", "  ", "    "}).Draw(rt, "indent")
		list := func(name string) {
			b.WriteString(name + ":" + rapid.SampledFrom([]string{"", " ", " # some", " |", " >", " \"a", " [", " &y"}).Draw(rt, "after") + "\n")
			for range rapid.IntRange(0, 8).Draw(rt, "entries") {
				if rapid.IntRange(0, 5).Draw(rt, "between") == 0 {
					b.WriteString(rapid.SampledFrom([]string{"\n", "# a remark\n", "   # within\n", "\r\n", "\t\n", "]\n", "\"\n"}).Draw(rt, "what"))
				}
				b.WriteString(indent + "- " + strings.ReplaceAll(rapid.SampledFrom(entries).Draw(rt, "entry"), "\n", "\n"+indent[:min(len(indent), 2)]) + "\n")
			}
		}
		b.WriteString(rapid.SampledFrom([]string{"", "arithmon: 1\n", "# a file\n\n", "---\n", "%YAML 1.1\n---\n", "\ufeff", "links: [{name: a}]\n", "text: \"x\n"}).Draw(rt, "head"))
		list("points")
		if rapid.Bool().Draw(rt, "more") {
			list("stations")
		}
		b.WriteString(rapid.SampledFrom([]string{"", "templates: []\n", "...\n", "---\n", "boards:\n  - name: x", "\"\n", "    tail\n"}).Draw(rt, "tail"))
		if sameInParts(rt, b.String()) {
			split++
		}
	})
	assert.Positive(t, split, "some are read in parts")
}

func FuzzParts(f *testing.F) {
	f.Add("points:\n  - {tag: a}\n  - {tag: b}\n  - tag: c\n    unit: |\n      - x\nlinks: []\n")
	f.Add("points:\n- a\n- 'b\n- c'\n- \"d\n\n- e\"\n")
	f.Fuzz(func(t *testing.T, text string) { sameInParts(t, text) })
}

// A long file says the faults of its last lines with their numbers, and has nothing of them when they are broken.
func TestALongDocument(t *testing.T) {
	var b strings.Builder
	b.WriteString("links:\n  - {name: gate}\npoints:\n")
	for i := range 20_000 {
		b.WriteString("  - {tag: area/p" + strconv.Itoa(i) + ", unit: bar}\n")
	}
	tail := "stations:\n  - {name: plc}\n"
	n, err := Parse([]byte(b.String() + tail))
	require.NoError(t, err)
	require.NotNil(t, inParts([]byte(b.String()+tail), 2, minPart), "it is read in parts")
	fields, _ := n.Fields()
	points, _ := fields["points"].Items()
	require.Len(t, points, 20_000)
	assert.Equal(t, 20_003, points[19_999].Line())
	assert.Equal(t, "points[19999]", points[19_999].Path())
	stations, _ := fields["stations"].Items()
	assert.Equal(t, 20_005, stations[0].Line())
	_, err = Parse([]byte(b.String() + "  - {tag: broken\n" + tail))
	assert.ErrorContains(t, err, "line 2000")
	_, err = Parse([]byte(b.String() + "  - &a {tag: x}\n" + tail))
	assert.ErrorContains(t, err, "line 20004: anchors and aliases are not read")
}
