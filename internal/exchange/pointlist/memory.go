package pointlist

import (
	"arithmon/internal/core/codec"
)

// memory is what cells mean that come again and again.
type memory struct {
	scalings map[string]map[string]any
	types    map[typeCell]typeMeaning
}

type typeCell struct {
	text  string
	words int
}

type typeMeaning struct {
	t      codec.Type
	length int
	order  codec.Order
	loose  string
}

// mostKnown is how many cells are remembered.
const mostKnown = 10_000

func (m *memory) scaling(text string) (map[string]any, error) {
	if s, ok := m.scalings[text]; ok {
		return s, nil
	}
	s, err := scalingOf(text)
	if m.scalings == nil {
		m.scalings = map[string]map[string]any{}
	}
	if err == nil && len(m.scalings) < mostKnown {
		m.scalings[text] = s
	}
	return s, err
}

func (m *memory) kind(text string, words int) (typeMeaning, error) {
	cell := typeCell{text, words}
	if k, ok := m.types[cell]; ok {
		return k, nil
	}
	t, length, order, loose, err := typeOf(text, words)
	k := typeMeaning{t, length, order, loose}
	if m.types == nil {
		m.types = map[typeCell]typeMeaning{}
	}
	if err == nil && len(m.types) < mostKnown {
		m.types[cell] = k
	}
	return k, err
}
