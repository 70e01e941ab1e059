package pointlist

import (
	"regexp"
	"slices"
	"strings"
	"unicode"

	"arithmon/internal/exchange/sheet"
)

// Text that was copied from a page of which the columns were lost: one space parts words and columns alike. What each word is shows in the words.

// leastLines is how many lines begin with an address, or name one, of text that is a table.
const leastLines = 3

// lineColumns are the columns that are made of lines, called by what they hold.
var lineColumns = []string{"address", "words", "description", "type", "factor", "range", "unit", "access"}

// Parted parts the lines of a page without columns into cells; other books are given back as they are.
func Parted(b sheet.Book) sheet.Book {
	if b.Form != sheet.Page || len(b.Grids) != 1 {
		return b
	}
	if slices.ContainsFunc(b.Grids[0].Rows, func(r sheet.Row) bool { return len(r.Cells) > 1 }) && !joinedToNames(b.Grids[0]) {
		return b
	}
	rows, n := []sheet.Row{{Cells: lineColumns}}, 0
	for _, row := range b.Grids[0].Rows {
		cells, is := partLine(strings.Join(strings.Fields(strings.Join(row.Cells, " ")), " "))
		if is {
			n++
		}
		rows = append(rows, sheet.Row{Number: row.Number, Cells: cells})
	}
	if n < leastLines {
		return b
	}
	return sheet.Book{Form: sheet.Lines, Grids: []sheet.Grid{{Name: b.Grids[0].Name, Rows: rows}}, Notes: append(slices.Clone(b.Notes), "no columns are to be seen in the text; what each word is was guessed by the words: look at it")}
}

// joinedToNames reports whether one space alone parts the addresses of a page from what is behind them, and no row names its columns.
func joinedToNames(g sheet.Grid) bool {
	joined := 0
	for _, row := range g.Rows {
		if address, name, has := strings.Cut(cell(row.Cells, 0), " "); has && farAddress.MatchString(address) && name != "" && unicode.IsLetter([]rune(name)[0]) {
			joined++
		}
	}
	if joined < leastLines {
		return false
	}
	_, err := findHeadings(g, nil)
	return err != nil
}

var (
	lineAddress = regexp.MustCompile(`^(?:[134][xX]\d{1,5}|0[xX][0-9a-fA-F]{1,4}|[0-9a-fA-F]{2,4}[hH]|\d{1,6}|\d{1,3},\d{3})(?:\.\d{1,2}|-\d{1,6})?$`)
	farAddress  = regexp.MustCompile(`^(?:[134][xX]\d{4,5}|0[xX][0-9a-fA-F]{1,4}|[0-9a-fA-F]{3,4}[hH]|[0134]\d{4,5}|\d{1,3},\d{3})(?:\.\d{1,2}|-\d{1,6})?$`)
	lineRange   = regexp.MustCompile(`^[-+]?\d[\d.,]*(?:\.\.\.?|…|–|~)[-+]?\d[\d.,]*$`)
	lineAccess  = regexp.MustCompile(`^(?:R|W|RO|WO|RW|R/W|r/w|r|rw|ro)$`)
)

// partLine parts a line into the cells of lineColumns; false where it names no address, and all of it describes.
func partLine(line string) (cells []string, is bool) {
	cells = make([]string, len(lineColumns))
	at := func(field string) *string { return &cells[slices.Index(lineColumns, field)] }
	words := strings.Fields(line)
	var before []string
	rest := words
	switch first := slices.IndexFunc(words, farAddress.MatchString); {
	case len(words) > 1 && lineAddress.MatchString(words[0]) && !strings.ContainsAny(words[1][:1], "=:"):
		*at("address"), rest = words[0], words[1:]
		if len(rest) > 1 && strings.HasPrefix(strings.ToLower(rest[0]), "0x") { // the same once more, as on the wire
			*at("address"), rest = rest[0], rest[1:]
		}
	case first > 0:
		*at("address"), before, rest = words[first], words[:first], words[first+1:]
	default:
		*at("description") = line
		return cells, false
	}
	if len(rest) > 1 && (rest[0] == "1" || rest[0] == "2" || rest[0] == "4") && strings.IndexFunc(rest[1], unicode.IsLetter) == 0 {
		*at("words"), rest = rest[0], rest[1:]
	}
	take := func(word string) bool {
		field := wordIs(word)
		if field == "" || field != "-" && *at(field) != "" {
			return false
		}
		if field != "-" {
			*at(field) = word
		}
		return true
	}
	for len(rest) > 1 && wordIs(rest[0]) == "type" && take(rest[0]) { // a type may stand before the name
		rest = rest[1:]
	}
	end := len(rest)
	for ; end > 0 && (end > 1 || before != nil); end-- {
		if word := rest[end-1]; word == "W" && *at("unit") == "" && (end < 2 || wordIs(rest[end-2]) != "unit") {
			*at("unit") = word // and not that it is written
		} else if !take(word) {
			break
		}
	}
	if u := *at("unit"); phase(u, line) && *at("type") == "" && *at("access") == "" && *at("factor") == "" { // Pump A
		*at("unit") = ""
		end++
	}
	*at("description") = strings.Join(append(slices.Clone(before), rest[:min(end, len(rest))]...), " ")
	return cells, *at("description") != "" && strings.IndexFunc(*at("description"), unicode.IsLetter) >= 0
}

// wordIs is the field that a word is of, "-" for one that says nothing, and "" for one that describes.
func wordIs(word string) string {
	switch {
	case dashes[strings.ToLower(word)]:
		return "-"
	case lineAccess.MatchString(word):
		return "access"
	case lineRange.MatchString(word):
		return "range"
	}
	if factorLike.MatchString(word) {
		return "factor"
	}
	loud := strings.ToUpper(word) == word || strings.ContainsAny(word, "0123456789") || slices.Contains([]string{"float", "double", "bool", "boolean", "string", "Float", "Double", "Bool", "Boolean", "String"}, word)
	if _, _, _, _, err := typeOf(word, 0); err == nil && loud && strings.IndexFunc(word, unicode.IsLetter) == 0 {
		return "type"
	}
	if u := unitOf(word); isUnit(u) {
		return "unit"
	}
	return ""
}
