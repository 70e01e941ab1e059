package diagnose

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every code that this package declares is explained, once, in words of its own.
func TestTheCatalogueIsWhole(t *testing.T) {
	declared := map[string]bool{}
	files, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, file := range files {
		if !strings.HasSuffix(file.Name(), ".go") || strings.HasSuffix(file.Name(), "_test.go") {
			continue
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file.Name(), nil, 0)
		require.NoError(t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			spec, ok := n.(*ast.ValueSpec)
			if !ok || len(spec.Values) == 0 {
				return true
			}
			if of, ok := spec.Type.(*ast.Ident); ok && of.Name == "Code" {
				if value, ok := spec.Values[0].(*ast.BasicLit); ok {
					text, _ := strconv.Unquote(value.Value)
					declared[text] = true
				}
			}
			return true
		})
	}
	require.Greater(t, len(declared), 15)
	explained, texts := map[string]bool{}, map[string]bool{}
	for _, m := range Catalogue() {
		assert.False(t, explained[string(m.Code)], "%s twice", m.Code)
		assert.False(t, texts[m.Text], "%s says the same as another", m.Code)
		assert.NotEmpty(t, m.Text, m.Code)
		explained[string(m.Code)], texts[m.Text] = true, true
	}
	assert.Equal(t, declared, explained)
}

// Every sentence of the catalogue is said somewhere, with exactly what it names; no finding says one that is not there.
func TestTheSentencesAreWhole(t *testing.T) {
	named := regexp.MustCompile(`\{(\w+)\}`)
	said := map[string]bool{}
	files, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, file := range files {
		if !strings.HasSuffix(file.Name(), ".go") || strings.HasSuffix(file.Name(), "_test.go") {
			continue
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file.Name(), nil, 0)
		require.NoError(t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			if text, ok := n.(*ast.BasicLit); ok && text.Kind == token.STRING { // a name may be chosen before it is said
				if name, _ := strconv.Unquote(text.Value); sentences[name] != "" {
					said[name] = true
				}
			}
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if f, ok := call.Fun.(*ast.Ident); !ok || f.Name != "because" {
				return true
			}
			first, ok := call.Args[0].(*ast.BasicLit)
			if !ok {
				return true
			}
			name, _ := strconv.Unquote(first.Value)
			if assert.Contains(t, sentences, name) {
				var wants, gets []string
				for _, m := range named.FindAllStringSubmatch(sentences[name], -1) {
					wants = append(wants, m[1])
				}
				for i := 1; i < len(call.Args); i += 2 {
					text, _ := strconv.Unquote(call.Args[i].(*ast.BasicLit).Value)
					gets = append(gets, text)
				}
				assert.ElementsMatch(t, wants, gets, name)
			}
			return true
		})
	}
	for name := range sentences {
		assert.True(t, said[name], "%s is never said", name)
	}
}

// The console says every sentence in German, too, with what it names.
func TestTheSentencesInGerman(t *testing.T) {
	text, err := os.ReadFile("../../../web/src/language/sentences.de.json")
	require.NoError(t, err)
	var german map[string]string
	require.NoError(t, json.Unmarshal(text, &german))
	named := regexp.MustCompile(`\{\w+\}`)
	for name, sentence := range sentences {
		if assert.Contains(t, german, name) {
			assert.ElementsMatch(t, named.FindAllString(sentence, -1), named.FindAllString(german[name], -1), name)
		}
	}
	assert.Len(t, german, len(sentences), "none that is never said")
}
