package sheet

import (
	"strings"
	"unicode"
)

// Bare is a heading in small letters, without marks, with one space between words, and without what stands in brackets.
func Bare(heading string) string {
	var b strings.Builder
	depth := 0
	for _, r := range strings.ToLower(heading) {
		switch {
		case r == '(' || r == '[':
			depth++
		case r == ')' || r == ']':
			depth = max(0, depth-1)
		case depth > 0:
		case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '/':
			b.WriteRune(r)
		default:
			b.WriteByte(' ')
		}
	}
	return strings.Join(strings.Fields(strings.ReplaceAll(b.String(), " / ", "/")), " ")
}

// Letter is the letter of a column of a spreadsheet.
func Letter(i int) string {
	s := ""
	for i++; i > 0; i = (i - 1) / 26 {
		s = string(rune('A'+(i-1)%26)) + s
	}
	return s
}
