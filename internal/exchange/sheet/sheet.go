// Package sheet reads lists as people have them: files of separated values, spreadsheets, and text that was copied from a page. It knows nothing of
// points; it gives rows of cells as they are written, and says what it took the file for.
package sheet

import (
	"bytes"
	"fmt"
	"strings"
)

// What is read of a file at most.
const (
	MostBytes   = 64 << 20 // of a file
	MostRows    = 200_000  // of all sheets together
	MostColumns = 300
	MostCell    = 4000 // characters
)

// Book is what a file holds.
type Book struct {
	Form  Form
	Grids []Grid
	Notes []string // what it was taken for, and what was left out
}

// Form is what kind of file it is.
type Form string

// The forms.
const (
	Separated   Form = "separated"
	Spreadsheet Form = "spreadsheet"
	Page        Form = "page"  // text whose columns are parted by spaces
	Lines       Form = "lines" // text without columns
)

// Grid is one sheet.
type Grid struct {
	Name string // "" where the file has one alone
	Rows []Row
}

// Row is a row of cells, without white space around them. Rows that hold nothing are left out.
type Row struct {
	Number int // as the file counts it, from 1: the row of a sheet, the line of a text
	Cells  []string
}

// Read reads a file. What kind it is shows in its first octets, and not in its name.
func Read(data []byte) (Book, error) {
	if len(data) > MostBytes {
		return Book{}, fmt.Errorf("the file has %d MiB; at most %d are read: keep in it the sheet that is wanted alone", len(data)>>20, MostBytes>>20)
	}
	switch {
	case bytes.HasPrefix(data, []byte("PK\x03\x04")) && bytes.Contains(data[:min(len(data), 200)], []byte("opendocument")):
		return Book{}, fmt.Errorf("this is a spreadsheet of the OpenDocument form; save it as .xlsx, or as .csv")
	case bytes.HasPrefix(data, []byte("PK\x03\x04")):
		return readSpreadsheet(data)
	case bytes.HasPrefix(data, []byte("\xD0\xCF\x11\xE0")):
		return Book{}, fmt.Errorf("this is a spreadsheet of the old binary form, or one with a password; save it as .xlsx without one, or as .csv")
	case bytes.HasPrefix(data, []byte("%PDF")):
		return Book{}, fmt.Errorf("this is a PDF; open it, copy the text of the table, and give that")
	}
	text, notes, err := decode(data)
	if err != nil {
		return Book{}, err
	}
	return readText(text, notes)
}

// trim takes off white space and what invisible there is, and makes one line of a cell.
func trim(cell string) string {
	cell = strings.Map(func(r rune) rune {
		switch r {
		case '\u00a0', '\u2007', '\u202f', '\t', '\r', '\n':
			return ' '
		case '\u200b', '\ufeff', '\u00ad':
			return -1
		}
		return r
	}, cell)
	cell = strings.TrimSpace(cell)
	if len(cell) > MostCell {
		cell = strings.ToValidUTF8(cell[:MostCell], "")
	}
	return cell
}

// row makes a row; false when it holds nothing.
func row(number int, cells []string) (Row, bool) {
	r := Row{Number: number, Cells: make([]string, min(len(cells), MostColumns))}
	any := false
	for i := range r.Cells {
		r.Cells[i] = trim(cells[i])
		any = any || r.Cells[i] != ""
	}
	for n := len(r.Cells); n > 0 && r.Cells[n-1] == ""; n-- {
		r.Cells = r.Cells[:n-1]
	}
	return r, any
}
