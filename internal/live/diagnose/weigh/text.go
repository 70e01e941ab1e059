package weigh

import (
	"arithmon/internal/core/codec"
)

// What makes registers a text.
const (
	fewTextWords = 4
	fewLetters   = 5
)

// text finds out whether a number that stands is a part of a text, and how it would be read.
func (s *Signal) text() (r Reading, ok bool) {
	n := s.Layout.Words()
	if s.Area == nil || n == 0 || n > 4 || s.moved(s.At, n) {
		return r, false
	}
	words := s.Area.Words[len(s.Area.Words)-1]
	from, to := s.At, s.At
	for from > 0 && printable(words[from-1]) && !s.moved(from-1, 1) {
		from--
	}
	for to < len(words) && printable(words[to]) && !s.moved(to, 1) {
		to++
	}
	if to-from < fewTextWords || to < s.At+n && (words[to] != 0 && words[to]&0xFF != 0) {
		return r, false
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
		return r, false
	}
	return Reading{Type: codec.TypeString, Length: 2 * (to - from), By: from - s.At}, true
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
