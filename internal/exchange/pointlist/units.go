package pointlist

import (
	"regexp"
	"sync"

	"arithmon/internal/core/unit"
)

// Units that stand elsewhere than in a column of their own.

// units are those by which a text is known for one.
var units = sync.OnceValue(unit.BuiltIn)

var bracketed = regexp.MustCompile(`\s*\[([^\[\]]{1,12})\]\s*$`)

// unitWithin takes the unit that stands in brackets behind a name or a description, where no column has units: Running hours [h].
func (m *making) unitWithin(plain func(string) (string, bool)) {
	if m.item.From["unit"] != "" || m.item.Fields["unit"] != nil {
		return
	}
	for _, column := range []string{"tag", "description"} {
		text, ok := plain(column)
		found := bracketed.FindStringSubmatchIndex(text)
		if !ok || found == nil {
			continue
		}
		u := unitOf(text[found[2]:found[3]])
		if !units().Find(u).Known() {
			continue
		}
		m.item.Fields["unit"] = u
		m.from("unit", column)
		if column == "tag" {
			m.cells["tag"] = text[:found[0]]
		}
		return
	}
}

var stepOf = regexp.MustCompile(`^([x×*]?\s*\d[\d.,/^-]*)\s*([^\d\s.,/].*)$`)

// step reads a factor with its unit: 0.1 °C.
func (m *making) step(text string) (map[string]any, error) {
	s, err := m.known.scaling(text)
	if err == nil {
		return s, nil
	}
	parts := stepOf.FindStringSubmatch(text)
	if parts == nil || !units().Find(unitOf(parts[2])).Known() {
		return nil, err
	}
	of, wrong := m.known.scaling(parts[1])
	if wrong != nil {
		return nil, err
	}
	if m.item.Fields["unit"] == nil && m.cells["unit"] == "" {
		m.item.Fields["unit"] = unitOf(parts[2])
		m.from("unit", colFactor)
	}
	return of, nil
}

// unitBeside takes the unit that stands behind a range, where the row has none: -40..120 °C.
func (m *making) unitBeside(column, text string) {
	if both := spans.FindStringSubmatch(text); both != nil {
		text = both[2]
	}
	parts := span.FindStringSubmatch(text)
	if parts == nil {
		return
	}
	if u := unitOf(parts[3]); u != "" && m.item.Fields["unit"] == nil {
		m.item.Fields["unit"] = u
		m.from("unit", column)
	}
}
