package sheet

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/xuri/excelize/v2"
)

// What is unpacked of a spreadsheet at most, so that a small file cannot fill the memory.
const (
	mostUnpacked = 512 << 20
	mostPart     = 64 << 20 // in memory; larger parts go to the disk
)

// readSpreadsheet reads the sheets of a workbook that are not hidden. Of formulas, the values count that the program which saved it had worked out.
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
	merged, unknown := merges(data)
	b = Book{Form: Spreadsheet}
	rows := 0
	for _, name := range f.GetSheetList() {
		if visible, err := f.GetSheetVisible(name); err == nil && !visible {
			b.Notes = append(b.Notes, fmt.Sprintf("sheet %s is hidden, and left out", name))
			continue
		}
		if unknown != nil { // a workbook of an unusual build
			if merged[name], err = mergesByLibrary(f, name); err != nil {
				return Book{}, fmt.Errorf("sheet %s: %w", name, err)
			}
		}
		g, err := readSheet(f, name, merged[name], MostRows-rows)
		if err != nil {
			return Book{}, fmt.Errorf("sheet %s: %w", name, err)
		}
		if rows += len(g.Rows); len(g.Rows) > 0 {
			b.Grids = append(b.Grids, g)
		}
	}
	if len(b.Grids) == 0 {
		return Book{}, errors.New("no sheet of the spreadsheet holds anything that is to be seen")
	}
	return b, nil
}

func readSheet(f *excelize.File, name string, merged []area, most int) (Grid, error) {
	g := Grid{Name: name}
	covers := cover(merged)
	list, err := f.Rows(name)
	if err != nil {
		return g, err
	}
	defer list.Close()
	for number := 1; list.Next(); number++ {
		cells, err := list.Columns()
		if err != nil {
			return g, fmt.Errorf("row %d: %w", number, err)
		}
		cells = covers.row(number, cells)
		row, any := row(number, cells)
		if !any {
			continue
		}
		if len(g.Rows) == most {
			return g, tooMany()
		}
		g.Rows = append(g.Rows, row)
	}
	return g, list.Error()
}
