package template

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	values := map[string]string{"tag": "tern/pump4", "base": "100", "n": "3", "hex": "0x10", "word": "left"}
	for text, want := range map[string]string{
		"{tag}/current":             "tern/pump4/current",
		"hr:{base+9}":               "hr:109",
		"{ base - 1 }":              "99",
		"{n*100+40001}":             "40301",
		"{base-n*2}.{n}":            "94.3",
		"{hex+1}":                   "17",
		"{0x10+n}":                  "19",
		"no parameter":              "no parameter",
		"{{n}} stands for itself":   "{n} stands for itself",
		"a }} and a {{ {n}":         "a } and a { 3",
		"":                          "",
		"{hex}":                     "0x10",
		"{n*n*n}":                   "27",
		"Überstrom {word} °C {tag}": "Überstrom left °C tern/pump4",
	} {
		got, err := Text(text, values)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, why := range map[string]string{
		"{tag":                            "does not end",
		"tag}":                            "without a { before it",
		"{}":                              "no expression",
		"{base+}":                         "no expression",
		"{+base}":                         "no expression",
		"{base 1}":                        "no expression",
		"{base/2}":                        "no expression",
		"{a.b}":                           "no expression",
		"{none}":                          `no parameter "none"`,
		"{none+1}":                        `no parameter "none"`,
		"{word+1}":                        `"left" is no whole number`,
		"{99999999999*99999999999}":       "too large",
		"{9999999999999999999}":           "no expression",
		"{2147483647*2147483647*4000000}": "too large",
	} {
		_, err := Text(text, values)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestFieldsAreFilled(t *testing.T) {
	var f Fields
	require.NoError(t, json.Unmarshal([]byte(`{"type":"int16","tag":"{tag}/a","scaling":{"raw":[0,"{max}"],"eng":[0,1.50]},"states":["off {n}","on"],"decimals":"{n}","address":"hr:{n}"}`), &f))
	got, err := f.Fill(map[string]string{"tag": "x", "max": "27648", "n": "2"})
	require.NoError(t, err)
	b, err := json.Marshal(got)
	require.NoError(t, err)
	assert.Equal(t, `{"tag":"x/a","address":"hr:2","type":"int16","decimals":2,"scaling":{"eng":[0,1.50],"raw":[0,27648]},"states":["off 2","on"]}`, string(b), "numbers stay as they are written, and what gives a number is one")
	_, err = f.Fill(map[string]string{"tag": "x"})
	assert.Error(t, err)
}

func TestCheck(t *testing.T) {
	f := Fields{"tag": "{tag}/{no}", "scaling": map[string]any{"raw": []any{"{bad"}}}
	var found []string
	Check(f, []Parameter{{Name: "tag"}}, func(err error) { found = append(found, err.Error()) })
	require.Len(t, found, 2)
	assert.Contains(t, found[0], "does not end")
	assert.Contains(t, found[1], `no parameter "no"`)
	for name, why := range map[string]string{"": "missing", "1a": "no name", "a b": "no name", "ä": "no name", "unit": "every station", "tag_1": ""} {
		if got := (Parameter{Name: name}).Valid(); why == "" {
			assert.Empty(t, got)
		} else {
			assert.Contains(t, got, why, name)
		}
	}
}

func FuzzText(f *testing.F) {
	for _, s := range []string{"{tag}/a", "hr:{base+9}", "{{}}", "{n*2-1}", "}{", "{0x}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		values := map[string]string{"tag": "x", "base": "7", "n": "-3"}
		if _, err := Text(text, values); err != nil {
			assert.NotEmpty(t, err.Error())
		}
		got, err := Text(Literal(text), nil)
		require.NoError(t, err)
		assert.Equal(t, text, got, "what stands for itself comes back")
	})
}
