package sheet

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
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

// unmarked are letters that carry no mark that could be taken off.
var unmarked = strings.NewReplacer("ł", "l", "ø", "o", "đ", "d", "ı", "i", "æ", "ae", "œ", "oe", "ß", "ss")

// Fold is a text in small letters without accents, since headings are written with them and without: Unité, unite.
func Fold(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(unmarked.Replace(strings.ToLower(text))))
}

// Meaning is what a column may hold, and behind it the headings by which it is known, in small letters and without marks, parted by bars.
type Meaning [2]string

// Field is what the column may hold.
func (m Meaning) Field() string { return m[0] }

// ByHeading gives the fields by the headings that name them, folded; of two that one heading names, the first.
func ByHeading(meanings []Meaning) map[string]string {
	of := map[string]string{}
	for _, m := range meanings {
		for h := range strings.SplitSeq(m[1], "|") {
			if plain := Fold(h); of[plain] == "" {
				of[plain] = m.Field()
			}
		}
	}
	return of
}

// Letter is the letter of a column of a spreadsheet.
func Letter(i int) string {
	s := ""
	for i++; i > 0; i = (i - 1) / 26 {
		s = string(rune('A'+(i-1)%26)) + s
	}
	return s
}
