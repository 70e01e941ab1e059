package codec

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCharacterSets(t *testing.T) {
	latin, utf := Layout{Type: TypeString, Length: 8}, Layout{Type: TypeString, Length: 8, UTF8: true}
	for _, c := range []struct {
		name   string
		layout Layout
		text   string
		words  []uint16
	}{
		{"ISO 8859-1", latin, "Höhe", []uint16{0x48F6, 0x6865, 0, 0}},
		{"UTF-8", utf, "Höhe", []uint16{0x48C3, 0xB668, 0x6500, 0}},
		{"UTF-8, three bytes", utf, "20 €", []uint16{0x3230, 0x20E2, 0x82AC, 0}},
		{"UTF-8, swapped", Layout{Type: TypeString, Length: 4, UTF8: true, Order: BADC}, "ö", []uint16{0xB6C3, 0}},
	} {
		t.Run(c.name, func(t *testing.T) {
			words, err := c.layout.Encode(TextValue(c.text))
			require.NoError(t, err)
			assert.Equal(t, c.words, words)
			v, err := c.layout.Decode(words)
			require.NoError(t, err)
			assert.Equal(t, c.text, v.Text())
		})
	}
	_, err := utf.Decode([]uint16{0x48F6, 0x6865, 0, 0})
	assert.ErrorIs(t, err, ErrNotText)
	assert.ErrorContains(t, err, "byte 0xF6 at character 2 is outside UTF-8")
	_, err = utf.Encode(TextValue("12345678ö"))
	assert.ErrorContains(t, err, "longer than the 8 bytes")
	_, err = utf.Decode([]uint16{0x4100 | 0x07, 0, 0, 0})
	assert.ErrorIs(t, err, ErrNotText, "control characters are no text")
}

func TestFloat32Text(t *testing.T) {
	for f, want := range map[float64]string{
		16777216: "16777216", 16777218: "16777218", float64(float32(12.3)): "12.3", float64(float32(1e20)): "1e+20", -0.5: "-0.5", float64(float32(1e-7)): "1e-07",
	} {
		assert.Equal(t, want, Float32Text(f))
	}
}
