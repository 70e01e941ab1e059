package table

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
)

// A value that stands exactly at an end of its type may be a device's word for having none; the finding proposes to say so.
func TestAValueAtTheEndOfItsType(t *testing.T) {
	percent := scaling.Scaling{Raw: &[2]float64{0, 27648}, Eng: &[2]float64{0, 100}}
	for _, c := range []struct {
		point site.Point
		raw   uint16
		want  string // code; "" for no finding
	}{
		{site.Point{Type: codec.TypeInt16}, 0x8000, "0x8000"},
		{site.Point{Type: codec.TypeInt16, Unit: "°C"}, 0x7FFF, "0x7FFF"},
		{site.Point{Type: codec.TypeInt16}, 0x7FFE, ""},
		{site.Point{Type: codec.TypeUint16, Unit: "m"}, 0xFFFF, "0xFFFF"},
		{site.Point{Type: codec.TypeUint16, Scaling: percent}, 0x8000, "0x8000"},
		{site.Point{Type: codec.TypeUint16}, 0xFFFF, ""}, // a word of bits, or a counter
		{site.Point{Type: codec.TypeInt16, States: site.States{-32768: "none"}}, 0x8000, ""},
		{site.Point{Type: codec.TypeInt16, Invalid: []site.RawCode{-32768}}, 0x8000, ""}, // it says so already
		{site.Point{Type: codec.TypeUint16, Unit: "m"}, 0, ""},
	} {
		name := fmt.Sprintf("%s %04X %s", c.point.Type, c.raw, c.point.Unit)
		table, st := New(), site.NewStation()
		st.Name = "plc"
		c.point.Tag, c.point.Station, c.point.Address = "p", "plc", site.Address{Space: site.HoldingRegisters}
		slots := []*Slot{table.Put(&c.point, st)}
		places := []Place{{Slot: slots[0], Count: 1}}
		var block Block
		began := time.Now()
		for second := range 16 {
			at := began.Add(time.Duration(second) * time.Second)
			block.Store(registers(1, c.raw), false, places, at)
			Age(slots, at)
			if second < 8 {
				assert.Empty(t, Evidence([][]*Slot{slots}, at), name)
			}
		}
		list := Evidence([][]*Slot{slots}, began.Add(16*time.Second))
		if c.want == "" {
			assert.Empty(t, list, name)
			continue
		}
		require.Len(t, list, 1, name)
		assert.Equal(t, c.want, list[0].End, name)
		found := diagnose.Find(diagnose.Evidence{Points: list})
		require.Len(t, found, 1, name)
		assert.Equal(t, diagnose.EndOfType, found[0].Code)
		fields := found[0].Next[0].Changes[0].Fields
		assert.Equal(t, map[string]any{"invalid": []any{c.want}}, fields)
	}
}
