package reading

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every reason that this package declares is explained, once, in words of its own.
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
			if of, ok := spec.Type.(*ast.Ident); ok && of.Name == "Reason" {
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
		assert.False(t, explained[string(m.Reason)], "%s twice", m.Reason)
		assert.False(t, texts[m.Text], "%s says the same as another", m.Reason)
		assert.NotEmpty(t, m.Text, m.Reason)
		explained[string(m.Reason)], texts[m.Text] = true, true
	}
	assert.Equal(t, declared, explained)
}
