package sheet

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var holds = []string{"tag", "address", "values." + Any}

func TestColumnsAsTheyAreTyped(t *testing.T) {
	named, err := ReadNamed(`tag=Signal, "address=Register, hex",Pumps!tag=B,Remarks=,"Min, Max=",values.base=D`, holds)
	require.NoError(t, err)
	assert.Equal(t, Named{"tag": "Signal", "address": "Register, hex", "Pumps!tag": "B", "Remarks": "", "Min, Max": "", "values.base": "D"}, named)
}

func TestColumnsThatAreNotTypedSo(t *testing.T) {
	for text, message := range map[string]string{
		"tag":          `"tag" is not FIELD=COLUMN`,
		"=A":           `"=A" is not FIELD=COLUMN`,
		"=":            `"=" is not FIELD=COLUMN`,
		`tag=Sig"nal`:  "quotes are not closed, or begin within a part",
		"colour=A":     `"colour" is nothing that a column holds; there are tag, address`,
		"values.=A":    `"values." is nothing that a column holds`,
		`"tag=Signal`:  "quotes are not closed",
		"Pumps!size=B": `"size" is nothing that a column holds`,
	} {
		_, err := ReadNamed(text, holds)
		assert.ErrorContains(t, err, message, text)
	}
}

func FuzzNamed(f *testing.F) {
	f.Add(`tag=Signal,Pumps!address=B,Remarks=,"tag=a,b"`)
	f.Fuzz(func(t *testing.T, text string) {
		named, err := ReadNamed(text, holds)
		if err != nil {
			return
		}
		before := maps.Clone(named)
		columns, _ := named.Recognise([]string{"Signal", "B", "", "Remarks"})
		if len(columns) != 4 || !maps.Equal(before, named) {
			t.Fatal("columns came or went")
		}
		_ = named.Missing([]Columns{{Sheet: "Pumps", Columns: columns}}, []Grid{{Name: "Pumps"}})
		again := NamedOf([]Columns{{Sheet: "Pumps", Columns: columns}})
		if other, _ := again.Recognise([]string{"Signal", "B", "", "Remarks"}); !assert.ObjectsAreEqual(columns, other) {
			t.Fatalf("%v is %v the next time", columns, other)
		}
	})
}
