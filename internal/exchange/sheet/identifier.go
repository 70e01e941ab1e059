package sheet

import (
	"slices"
	"strings"
	"unicode"
)

var letters = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "Ä", "Ae", "Ö", "Oe", "Ü", "Ue", "ß", "ss", "²", "2", "³", "3", "°", "", "\\", "/", "%", "percent")

// Identifier makes an allowed name or tag of what was written, at most so many characters: letters, digits and - _ . with / between parts.
func Identifier(text string, most int) string {
	text = letters.Replace(text)
	var b strings.Builder
	for _, r := range text {
		switch {
		case unicode.IsLetter(r), unicode.IsDigit(r), strings.ContainsRune("-_./", r):
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	parts := strings.FieldsFunc(b.String(), func(r rune) bool { return r == '/' })
	for i := range parts {
		parts[i] = strings.Trim(parts[i], "-")
	}
	made := strings.Join(slices.DeleteFunc(parts, func(part string) bool { return part == "" }), "/")
	for strings.Contains(made, "--") {
		made = strings.ReplaceAll(made, "--", "-")
	}
	made = strings.ReplaceAll(made, "-.", ".") // Tank[3].Level
	if len([]rune(made)) > most {
		made = strings.Trim(string([]rune(made)[:most]), "-/")
	}
	return made
}
