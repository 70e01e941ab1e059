package weigh

import (
	"arithmon/internal/core/codec"
)

// What makes registers a text.
const (
	fewTextWords = 4
	fewLetters   = 5
)

// text finds out whether a number that stands is a part of a text, how it would be read, and how certain that is.
func (s *Signal) text() (r Reading, certain float64, ok bool) {
	n := s.Layout.Words()
	if s.Area == nil || n == 0 || n > 4 || s.moved(s.At, n) || (float(s.Layout.Type) || s.Expect.known()) && s.Fit().Doubt() < suspicious { // plausible values can be letters
		return r, 0, false
	}
	words := s.Area.Words[len(s.Area.Words)-1]
	from, to := s.At, s.At
	for from > 0 && printable(words[from-1]) && !s.moved(from-1, 1) {
		from--
	}
	for to < len(words) && printable(words[to]) && !s.moved(to, 1) {
		to++
	}
	if from == s.At && to == s.At+2 && n == 2 && s.letters() {
		return Reading{Type: codec.TypeString, Length: 4}, shortCertain, true
	}
	if to-from < fewTextWords || to < s.At+n && (words[to] != 0 && words[to]&0xFF != 0) {
		return r, 0, false
	}
	if to < len(words) && words[to]&0xFF == 0 && printableByte(byte(words[to]>>8)) { // of an odd length
		to++
	}
	letters := 0
	for _, w := range words[from:to] {
		for _, b := range []byte{byte(w >> 8), byte(w)} {
			if b|0x20 >= 'a' && b|0x20 <= 'z' {
				letters++
			}
		}
	}
	if letters < fewLetters || 2*letters < to-from {
		return r, 0, false
	}
	return Reading{Type: codec.TypeString, Length: 2 * (to - from), By: from - s.At}, textCertain, true
}

// letters reports whether two registers of a whole number of which nothing is known are four letters and digits, three of them letters.
func (s *Signal) letters() bool {
	if s.Expect.known() || !whole(s.Layout.Type) || s.moved(s.At, 2) {
		return false
	}
	letters := 0
	for _, w := range s.Area.Words[0][s.At : s.At+2] {
		for _, b := range []byte{byte(w >> 8), byte(w)} {
			switch {
			case b|0x20 >= 'a' && b|0x20 <= 'z':
				letters++
			case b < '0' || b > '9':
				return false
			}
		}
	}
	return letters >= 3
}

// noText finds out whether a text is none, and how its registers would be read as a number.
func (s *Signal) noText() (r Reading, ok bool) {
	n := s.Layout.Words()
	if s.Layout.Type != codec.TypeString || s.Area == nil || n < 2 || s.At < 0 || len(s.Area.Words) < leastSeen || s.At+n > len(s.Area.Words[0]) {
		return r, false
	}
	for _, words := range s.Area.Words {
		text := true
		for _, w := range words[s.At : s.At+n] {
			hi, lo := byte(w>>8), byte(w)
			text = text && (hi == 0 || printableByte(hi)) && (lo == 0 || printableByte(lo))
		}
		if text {
			return r, false
		}
	}
	o := own(s.Layout.Order)
	for _, order := range []codec.Order{o, reversed(o), swapped(o), reversed(swapped(o))} {
		r := Reading{Type: codec.TypeFloat32, Order: order}
		if order == o {
			r.Order = ""
		}
		plain := weighed{Signal: s, values: s.Values(r)}
		if len(plain.values) > 0 && plain.values[0] != 0 && plain.floats() && s.moved(s.At, 2) {
			return r, true
		}
	}
	return r, false
}

func printable(w uint16) bool { return printableByte(byte(w>>8)) && printableByte(byte(w)) }

func printableByte(b byte) bool { return b >= ' ' && b <= '~' }

// Text is the newest text under a reading as one; "" when it is none.
func (s *Signal) Text(r Reading) string {
	l, at := s.layout(r), s.At+r.By
	if s.Area == nil || l.Type != codec.TypeString || len(s.Area.Words) == 0 {
		return ""
	}
	words := s.Area.Words[len(s.Area.Words)-1]
	if at < 0 || at+l.Words() > len(words) {
		return ""
	}
	v, err := l.Decode(words[at : at+l.Words()])
	if err != nil {
		return ""
	}
	return v.Text()
}
