package codec

import "fmt"

// decodeString reads ISO 8859-1 characters, two a register. The string ends at the first NUL; spaces that pad it
// are cut off. Control characters are no text.
func (l Layout) decodeString(words []uint16) (Value, error) {
	ordered := make([]uint16, len(words))
	copy(ordered, words)
	l.Order.arrange(ordered)
	runes := make([]rune, 0, l.Length)
	end := 0 // after the last character that is no space
	for i := range l.Length {
		c := byte(ordered[i/2] >> 8)
		if i%2 == 1 {
			c = byte(ordered[i/2])
		}
		if c == 0 {
			break
		}
		if !printable(rune(c)) {
			return Value{}, fmt.Errorf("%w: byte 0x%02X at character %d", ErrNotText, c, i+1)
		}
		runes = append(runes, rune(c))
		if c != ' ' {
			end = len(runes)
		}
	}
	return TextValue(string(runes[:end])), nil
}

// encodeString writes v padded with NUL.
func (l Layout) encodeString(v Value) ([]uint16, error) {
	s := v.String()
	words := make([]uint16, l.Words())
	i := 0
	for _, r := range s {
		if !printable(r) {
			return nil, fmt.Errorf("%w: character %q is outside ISO 8859-1", ErrNotText, r)
		}
		if i == l.Length {
			return nil, fmt.Errorf("%q is longer than the %d characters of the point", s, l.Length)
		}
		words[i/2] |= uint16(r) << (8 * uint(1-i%2))
		i++
	}
	l.Order.arrange(words)
	return words, nil
}

func printable(r rune) bool { return r >= 0x20 && r < 0x7F || r >= 0xA0 && r <= 0xFF }
