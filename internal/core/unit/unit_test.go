package unit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/unit"
)

func TestUnitsByTheirNames(t *testing.T) {
	d := unit.BuiltIn()
	for name, first := range map[string]string{"°C": "°C", " degc ": "°C", "BAR": "bar", "kwh": "kWh", "m³/h": "m³/h", "M3/H": "m³/h", "pH": "pH", "Mvar": "MW", "kvar": "kW"} {
		if u := d.Find(name); assert.True(t, u.Known(), name) {
			assert.Equal(t, first, u.Names[0], name)
		}
	}
	assert.False(t, d.Find("").Known())
	assert.False(t, d.Find("furlong").Known())
	assert.True(t, d.Find("kWh").Total)
}

func TestADictionaryOfOnesOwn(t *testing.T) {
	own, err := unit.Read([]byte("units:\n  - {names: [furlong], possible: [0, 100], usual: [1, 8]}\n  - {names: [pH], possible: [-2, 16], usual: [0, 14]}\n"))
	require.NoError(t, err)
	d := unit.BuiltIn().With(own)
	assert.Equal(t, [2]float64{1, 8}, d.Find("Furlong").Usual)
	assert.Equal(t, [2]float64{0, 14}, d.Find("pH").Usual)
	assert.True(t, d.Find("bar").Known())
}

func TestFaultsOfADictionary(t *testing.T) {
	for text, want := range map[string]string{
		"":         "empty",
		"unit: []": "unit is not known here",
		"units: 5": "list",
		"units: [{possible: [0, 1], usual: [0, 1]}]":                "one name or more",
		"units: [{names: [x], possible: [1, 0], usual: [0, 1]}]":    "lower end comes first",
		"units: [{names: [x], possible: [0, 1], usual: [0, 2]}]":    "within the possible one",
		"units: [{names: [x, x], possible: [0, 1], usual: [0, 1]}]": `"x" is the name of another`,
		"units: [{names: [x], possible: [0, 1, 2], usual: [0, 1]}]": "2",
		"units: [{names: [x], possible: [.nan, 1], usual: [0, 1]}]": "",
		"units: [{names: [x], possible: [0, .inf], usual: [0, 1]}]": "",
		"units: [{names: [x], colour: red}]":                        "colour",
		"units: [{names: [\"\"], possible: [0, 1], usual: [0, 1]}]": "or none",
	} {
		_, err := unit.Read([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("units: [{names: [x], possible: [0, 1], usual: [0, 1]}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if d, err := unit.Read(data); err == nil {
			unit.BuiltIn().With(d).Find("x")
		}
	})
}
