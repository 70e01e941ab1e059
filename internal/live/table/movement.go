package table

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/live/diagnose"
)

// look notes how the raw data have moved since the last look. The slot's lock is held.
func (s *Slot) look(now time.Time) {
	var room [maxWords]uint16
	var words []uint16
	switch {
	case s.block != nil && !s.block.bits:
		if s.looked == s.block.version {
			return
		}
		s.looked = s.block.version
		s.block.remember(uint32(now.Unix()))
		words = s.words(room[:0])
	case s.block == nil && s.reading.Quality != reading.Bad && len(s.reading.Raw.Words) > 0:
		words = s.reading.Raw.Words
	default:
		return
	}
	s.movement.Look(*s.Layout, words, uint32(now.Unix()))
}

// Evidence gathers what is strange about single points.
func (t *Table) Evidence(now time.Time) (list []diagnose.Point) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	sec := uint32(now.Unix())
	lively := false
	for _, slot := range t.slots {
		slot.mu.Lock()
		lively = lively || slot.movement.Lively(sec)
		slot.mu.Unlock()
	}
	for _, slot := range t.slots {
		slot.mu.Lock()
		p := slot.movement.Strange(*slot.Layout, sec, lively)
		if slot.movement.Resting(slot.Layout.Type, sec) {
			slot.settle()
			if raw, err := slot.Layout.Decode(slot.reading.Raw.Words); err == nil && slot.reading.Quality != reading.Bad {
				p.End = diagnose.EndCode(*slot.Point, raw)
			}
		}
		if p.End != "" || p.Swaps > 0 || p.Frozen {
			slot.settle()
			p.Point, p.Shown = *slot.Point, slot.told(slot.reading.Value)
			if f, ok := slot.reading.Value.Float(); ok && f == 0 && slot.Layout.Type != codec.TypeBool {
				p.Zero = true // 4 mA, say, are no zero on the wire
			}
			if slot.reading.Quality != reading.Bad || slot.reading.Reason == reading.Decode {
				list = append(list, p)
			}
		}
		slot.mu.Unlock()
	}
	slices.SortFunc(list, func(a, b diagnose.Point) int { return cmp.Compare(a.Point.Tag, b.Point.Tag) })
	return list
}

// told is a value as its point shows it, unless its decimals would hide how small or large it is.
func (s *Slot) told(v codec.Value) string {
	if f, ok := v.Float(); ok && v.Kind() == codec.Float && f != 0 && (math.Abs(f) < 1e-4 || math.Abs(f) >= 1e10) {
		return strconv.FormatFloat(f, 'g', 3, 64)
	}
	return s.conversion.Text(v)
}
