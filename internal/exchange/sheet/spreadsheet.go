package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// What is unpacked of a spreadsheet at most, so that a small file cannot fill the memory.
const (
	mostUnpacked = 512 << 20
	mostPart     = 64 << 20 // in memory; larger parts go to the disk
)

// readSpreadsheet reads the sheets of a workbook that are not hidden. Of formulas, the values count that the program which
// saved it had worked out; where it had not, they are worked out.
func readSpreadsheet(data []byte) (b Book, err error) {
	defer func() {
		if fault := recover(); fault != nil { // a library that reads what others wrote may stumble
			b, err = Book{}, fmt.Errorf("the spreadsheet cannot be read (%v); save it anew, or as .csv", fault)
		}
	}()
	f, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{RawCellValue: true, UnzipSizeLimit: mostUnpacked, UnzipXMLSizeLimit: mostPart})
	if err != nil {
		return Book{}, fmt.Errorf("the spreadsheet cannot be read (%w); save it anew as .xlsx, or as .csv", err)
	}
	defer f.Close()
	styles := stylesOf(f)
	said, unknown := markups(data, func(n int) bool { return styles[n] != style{} })
	until := time.Now().Add(longestFormulas)
	b = Book{Form: Spreadsheet}
	rows := 0
	for _, name := range f.GetSheetList() {
		if visible, err := f.GetSheetVisible(name); err == nil && !visible {
			b.Notes = append(b.Notes, fmt.Sprintf("sheet %s is hidden, and left out", name))
			continue
		}
		if unknown != nil { // a workbook of an unusual build
			if said[name], err = markupByLibrary(f, name); err != nil {
				return Book{}, fmt.Errorf("sheet %s: %w", name, err)
			}
		}
		s := worksheet{File: f, name: name, markup: said[name], styles: styles, until: until}
		g, notes, err := s.read(MostRows - rows)
		if err != nil {
			return Book{}, fmt.Errorf("sheet %s: %w", name, err)
		}
		b.Notes = append(b.Notes, notes...)
		if rows += len(g.Rows); len(g.Rows) > 0 {
			b.Grids = append(b.Grids, g)
		}
	}
	if len(b.Grids) == 0 {
		return Book{}, errors.New("no sheet of the spreadsheet holds anything that is to be seen")
	}
	return b, nil
}

// worksheet is one sheet of a workbook.
type worksheet struct {
	*excelize.File
	name string
	markup
	styles map[int]style
	until  time.Time // formulas are worked out so long
}

// longestFormulas is how long formulas of a workbook are worked out; of what is left then, the formula is shown.
const longestFormulas = 10 * time.Second

// read gives the rows of a sheet, and says what is not as its values alone would have it.
func (s worksheet) read(most int) (g Grid, notes []string, err error) {
	g.Name = s.name
	covers := cover(s.merged)
	formulas := map[int][]place{}
	for _, at := range s.formulas {
		formulas[at.row] = append(formulas[at.row], at)
	}
	var struck []int
	list, err := s.Rows(s.name)
	if err != nil {
		return g, nil, err
	}
	defer list.Close()
	for number := 1; list.Next(); number++ {
		cells, err := list.Columns()
		if err != nil {
			return g, nil, fmt.Errorf("row %d: %w", number, err)
		}
		for _, at := range formulas[number] {
			for len(cells) < at.column && at.column <= MostColumns {
				cells = append(cells, "")
			}
			if at.column <= len(cells) {
				cells[at.column-1] = s.worked(at)
			}
		}
		out := s.formatted(number, cells)
		cells = covers.row(number, cells)
		row, any := row(number, cells)
		if !any {
			continue
		}
		if out {
			struck = append(struck, number)
			continue
		}
		if len(g.Rows) == most {
			return g, nil, tooMany()
		}
		g.Rows = append(g.Rows, row)
	}
	tell := func(what string, rows []int) {
		if len(rows) > 0 {
			notes = append(notes, fmt.Sprintf("sheet %s: "+what+": %s", s.name, rowNumbers(rows)))
		}
	}
	tell("rows that are struck out, and left out", struck)
	tell("rows that are hidden, and taken all the same", s.hiddenOf(g))
	if n := len(s.formulas); n > 0 {
		notes = append(notes, fmt.Sprintf("sheet %s: formulas of which the file has no results, so that they were worked out: %d", s.name, n))
	}
	return g, notes, list.Error()
}

// formatted gives the cells of a row whose formats tell something what these show, and reports whether the row is struck out: most of its cells that hold
// anything.
func (s worksheet) formatted(number int, cells []string) (struck bool) {
	if len(s.styled) == 0 {
		return false
	}
	filled, out := 0, 0
	for i, text := range cells {
		if text == "" {
			continue
		}
		filled++
		of := s.styles[s.styled[place{i + 1, number}]]
		if of.struck {
			out++
		}
		switch {
		case of.date:
			cells[i] = inDate(text, s.from1904())
		case of.digits != "":
			cells[i] = inDigits(text, of.digits)
		}
	}
	return 2*out > filled
}

// from1904 reports whether the dates of a workbook count from 1904.
func (s worksheet) from1904() bool {
	return s.WorkBook != nil && s.WorkBook.WorkbookPr != nil && s.WorkBook.WorkbookPr.Date1904
}

// worked is the result of a formula; the formula itself where it cannot be worked out.
func (s worksheet) worked(at place) string {
	name, err := excelize.CoordinatesToCellName(at.column, at.row)
	if err != nil {
		return ""
	}
	if time.Now().Before(s.until) {
		if result, err := s.CalcCellValue(s.name, name); err == nil {
			return result
		}
	}
	formula, _ := s.GetCellFormula(s.name, name)
	return "=" + strings.TrimPrefix(formula, "=")
}

// hiddenOf are the rows that are hidden and hold something.
func (s worksheet) hiddenOf(g Grid) (list []int) {
	is := map[int]bool{}
	for _, n := range s.hidden {
		is[n] = true
	}
	for _, row := range g.Rows {
		if is[row.Number] {
			list = append(list, row.Number)
		}
	}
	return list
}

// mostNumbered is how many rows are named.
const mostNumbered = 10

// rowNumbers names rows.
func rowNumbers(rows []int) string {
	var names []string
	for _, n := range rows[:min(len(rows), mostNumbered)] {
		names = append(names, strconv.Itoa(n))
	}
	if more := len(rows) - len(names); more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}
