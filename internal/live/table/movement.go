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

// Evidence gathers what is strange about single points, given the slots of each station.
func Evidence(stations [][]*Slot, now time.Time) (list []diagnose.Point) {
	sec := uint32(now.Unix())
	lively := lively(stations, sec)
	for _, slots := range stations {
		each(slots, func(s *Slot) {
			p := s.movement.Strange(*s.Layout, sec, lively)
			if s.movement.Resting(s.Layout.Type, sec) {
				s.settle()
				if raw, err := s.Layout.Decode(s.reading.Raw.Words); err == nil && s.reading.Quality != reading.Bad {
					p.End = diagnose.EndCode(*s.Point, raw)
				}
			}
			if p.End == "" && p.Swaps == 0 && !p.Frozen {
				return
			}
			s.settle()
			p.Point, p.Shown = *s.Point, s.told(s.reading.Value)
			if f, ok := s.reading.Value.Float(); ok && f == 0 && s.Layout.Type != codec.TypeBool {
				p.Zero = true // 4 mA, say, are no zero on the wire
			}
			if s.reading.Quality != reading.Bad || s.reading.Reason == reading.Decode {
				list = append(list, p)
			}
		})
	}
	slices.SortFunc(list, func(a, b diagnose.Point) int { return cmp.Compare(a.Point.Tag, b.Point.Tag) })
	return list
}

// lively reports whether any value moves.
func lively(stations [][]*Slot, sec uint32) (is bool) {
	for _, slots := range stations {
		each(slots, func(s *Slot) { is = is || s.movement.Lively(sec) })
		if is {
			return true
		}
	}
	return false
}

// told is a value as its point shows it, unless its decimals would hide how small or large it is.
func (s *Slot) told(v codec.Value) string {
	if f, ok := v.Float(); ok && v.Kind() == codec.Float && f != 0 && (math.Abs(f) < 1e-4 || math.Abs(f) >= 1e10) {
		return strconv.FormatFloat(f, 'g', 3, 64)
	}
	return s.conversion.Text(v)
}
