package codec

import (
	"fmt"
	"unicode"
	"unicode/utf8"
)

// decodeString reads ISO 8859-1 or UTF-8 characters, two bytes a register. The string ends at the first NUL; spaces that pad it
// are cut off. Control characters are no text, nor are bytes that are no UTF-8 where that is meant.
func (l Layout) decodeString(words []uint16) (Value, error) {
	ordered := make([]uint16, len(words))
	copy(ordered, words)
	l.Order.arrange(ordered)
	b := make([]byte, 0, l.Length)
	for i := range l.Length {
		c := byte(ordered[i/2] >> 8)
		if i%2 == 1 {
			c = byte(ordered[i/2])
		}
		if c == 0 {
			break
		}
		b = append(b, c)
	}
	for len(b) > 0 && b[len(b)-1] == ' ' {
		b = b[:len(b)-1]
	}
	runes := make([]rune, 0, len(b))
	for i := 0; i < len(b); {
		r, size := rune(b[i]), 1
		if l.UTF8 {
			r, size = utf8.DecodeRune(b[i:])
		}
		if !l.printable(r) || r == utf8.RuneError && size == 1 {
			return Value{}, fmt.Errorf("%w: byte 0x%02X at character %d is outside %s", ErrNotText, b[i], i+1, l.charset())
		}
		runes = append(runes, r)
		i += size
	}
	return TextValue(string(runes)), nil
}

// encodeString writes v padded with NUL.
func (l Layout) encodeString(v Value) ([]uint16, error) {
	s := v.String()
	words := make([]uint16, l.Words())
	i := 0
	for _, r := range s {
		if !l.printable(r) {
			return nil, fmt.Errorf("%w: character %q is outside %s", ErrNotText, r, l.charset())
		}
		bytes := []byte{byte(r)}
		if l.UTF8 {
			bytes = []byte(string(r))
		}
		for _, c := range bytes {
			if i == l.Length {
				return nil, fmt.Errorf("%q is longer than the %d %s of the point", s, l.Length, l.lengthUnit())
			}
			words[i/2] |= uint16(c) << (8 * uint(1-i%2))
			i++
		}
	}
	l.Order.arrange(words)
	return words, nil
}

func (l Layout) charset() string {
	if l.UTF8 {
		return "UTF-8"
	}
	return "ISO 8859-1"
}

func (l Layout) lengthUnit() string {
	if l.UTF8 {
		return "bytes"
	}
	return "characters"
}

func (l Layout) printable(r rune) bool {
	if l.UTF8 {
		return unicode.IsPrint(r) && r != utf8.RuneError
	}
	return r >= 0x20 && r < 0x7F || r >= 0xA0 && r <= 0xFF
}
