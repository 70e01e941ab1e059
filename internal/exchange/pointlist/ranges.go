package pointlist

import (
	"cmp"
	"maps"
	"math"
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// What the range of a value, and its decimals, tell of how it is scaled.

// implied takes decimals of a whole number that nothing scales for those that the device leaves out.
func (m *making) implied(n int) {
	t := codec.Type(text(m.item.Fields["type"]))
	if _, whole := signs[t]; n < 1 || n > 9 || m.protocol() != site.Modbus || m.item.Fields["scaling"] != nil || m.item.From[colFactor] != "" || m.item.From[colRawMin] != "" || !whole && t != "" && !slices.Contains(slices.Collect(maps.Values(signs)), t) {
		return
	}
	m.item.Fields["scaling"] = map[string]any{"factor": round(math.Pow10(-n))}
	m.from("scaling", "decimals")
	m.guess("scaling")
	m.once("decimals of integers are taken as decimal places that the device leaves out: with 1, 215 is read as 21.5")
}

// inStepsOf makes a range that was written in steps one in the unit.
func inStepsOf(fields map[string]any, step float64) {
	if r, ok := fields["range"].([2]float64); ok {
		fields["range"] = [2]float64{round(r[0] * step), round(r[1] * step)}
	}
}

// ends are the least and the greatest value of integers.
var ends = map[codec.Type][2]float64{codec.TypeInt8: {math.MinInt8, math.MaxInt8}, codec.TypeUint8: {0, math.MaxUint8}, codec.TypeInt16: {math.MinInt16, math.MaxInt16}, codec.TypeUint16: {0, math.MaxUint16}, codec.TypeInt32: {math.MinInt32, math.MaxInt32}, codec.TypeUint32: {0, math.MaxUint32}}

// fractions looks at values of integers that have fractions, as their range says, though nothing scales them. Where the range is all that the type can
// be, and a decimal point in it, that is the factor; else it is told.
func (m *making) fractions() {
	r, ok := m.item.Fields["range"].([2]float64)
	t := codec.Type(cmp.Or(text(m.item.Fields["type"]), string(codec.TypeUint16)))
	if _, whole := ends[t]; !ok || !whole || m.item.Fields["scaling"] != nil || m.protocol() != site.Modbus || len(m.headings.exact) > 0 || r[0] == math.Trunc(r[0]) && r[1] == math.Trunc(r[1]) {
		return
	}
	for _, by := range []float64{10, 100, 1000} {
		if [2]float64{round(r[0] * by), round(r[1] * by)} == ends[t] {
			m.item.Fields["scaling"] = map[string]any{"factor": round(1 / by)}
			m.from("scaling", "range")
			m.guess("scaling")
			return
		}
	}
	if !m.fractional {
		m.fractional = true
		m.note("row %d, and perhaps others: the range has fractions, and the value is an integer without scaling; is a factor missing?", m.item.Row)
	}
}
