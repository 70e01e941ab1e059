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
	mostMerged   = 20_000   // cells that merged ones are written into
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
	b = Book{Form: Spreadsheet}
	rows := 0
	for _, name := range f.GetSheetList() {
		if visible, err := f.GetSheetVisible(name); err == nil && !visible {
			b.Notes = append(b.Notes, fmt.Sprintf("sheet %s is hidden, and left out", name))
			continue
		}
		g, err := readSheet(f, name, MostRows-rows)
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

func readSheet(f *excelize.File, name string, most int) (Grid, error) {
	g := Grid{Name: name}
	merged, err := mergedCells(f, name)
	if err != nil {
		return g, err
	}
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
		for column, value := range merged[number] {
			for len(cells) < column {
				cells = append(cells, "")
			}
			if cells[column-1] == "" {
				cells[column-1] = value
			}
		}
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

// mergedCells are the values of merged cells, by row and column, in all cells that they cover.
func mergedCells(f *excelize.File, name string) (map[int]map[int]string, error) {
	list, err := f.GetMergeCells(name)
	if err != nil {
		return nil, err
	}
	out, n := map[int]map[int]string{}, 0
	for _, m := range list {
		left, top, err1 := excelize.CellNameToCoordinates(m.GetStartAxis())
		right, bottom, err2 := excelize.CellNameToCoordinates(m.GetEndAxis())
		if err1 != nil || err2 != nil || m.GetCellValue() == "" {
			continue
		}
		for r := top; r <= bottom; r++ {
			for c := left; c <= min(right, MostColumns); c++ {
				if n++; n > mostMerged {
					return out, nil
				}
				if out[r] == nil {
					out[r] = map[int]string{}
				}
				out[r][c] = m.GetCellValue()
			}
		}
	}
	return out, nil
}
