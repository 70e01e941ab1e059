package pointlist

import (
	"fmt"
	"io"
	"strings"

	"github.com/xuri/excelize/v2"

	"arithmon/internal/exchange/sheet"
)

// mostMarked is how many faults are marked in a copy.
const mostMarked = 5000

// WriteMarked writes a copy of a list as a spreadsheet, each row where it was, with the cells of its faults in colour and what is wrong in a
// comment, and beside the row.
func WriteMarked(to io.Writer, b sheet.Book, columns []sheet.Columns, faults []sheet.Fault) error {
	f := excelize.NewFile()
	defer f.Close()
	wrong, err := f.NewStyle(&excelize.Style{Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"F8D0C8"}}})
	if err != nil {
		return err
	}
	names := map[string]string{}
	for i, g := range b.Grids {
		name := g.Name
		if name == "" {
			name = "list"
		}
		names[g.Name] = name
		if i == 0 {
			err = f.SetSheetName("Sheet1", name)
		} else {
			_, err = f.NewSheet(name)
		}
		if err != nil {
			return fmt.Errorf("sheet %s: %w", name, err)
		}
		if err := writeGrid(f, name, g); err != nil {
			return fmt.Errorf("sheet %s: %w", name, err)
		}
	}
	type place struct{ sheet, heading string }
	at, last := map[place][]int{}, map[string]int{}
	for _, s := range columns {
		for _, c := range s.Columns {
			p := place{s.Sheet, c.Heading}
			at[p] = append(at[p], c.At+1)
			last[s.Sheet] = max(last[s.Sheet], c.At+1)
		}
	}
	beside := map[string][]string{} // what is wrong, by the cell beside the row
	where := map[string]string{}
	for _, fault := range faults[:min(len(faults), mostMarked)] {
		name, known := names[fault.Sheet]
		if !known || fault.Row < 1 {
			continue
		}
		end, err := excelize.CoordinatesToCellName(last[fault.Sheet]+2, fault.Row)
		if err != nil {
			return err
		}
		text := fault.Message
		if fault.Column != "" {
			text = fault.Column + ": " + text
		}
		beside[name+" "+end], where[name+" "+end] = append(beside[name+" "+end], text), end
		column := 0
		for _, k := range at[place{fault.Sheet, fault.Column}] { // of two tables side by side, the cell that holds the value
			if now, err := excelize.CoordinatesToCellName(k, fault.Row); err == nil && column == 0 {
				if held, err := f.GetCellValue(name, now); err == nil && held == fault.Value {
					column = k
				}
			}
		}
		if first := at[place{fault.Sheet, fault.Column}]; column == 0 && len(first) > 0 {
			column = first[0]
		}
		if column == 0 {
			continue
		}
		cell, err := excelize.CoordinatesToCellName(column, fault.Row)
		if err != nil {
			return err
		}
		if err := f.SetCellStyle(name, cell, cell, wrong); err != nil {
			return err
		}
		if err := f.AddComment(name, excelize.Comment{Cell: cell, Author: "Arithmon", Text: fault.Message}); err != nil {
			return err
		}
	}
	for key, texts := range beside {
		name := strings.TrimSuffix(key, " "+where[key])
		if err := f.SetCellStr(name, where[key], strings.Join(texts, "; ")); err != nil {
			return err
		}
	}
	return f.Write(to)
}

func writeGrid(f *excelize.File, name string, g sheet.Grid) error {
	for _, row := range g.Rows {
		for i, text := range row.Cells {
			if text == "" || row.Number < 1 { // as headings that were made for a list
				continue
			}
			cell, err := excelize.CoordinatesToCellName(i+1, row.Number)
			if err != nil {
				return err
			}
			if err := f.SetCellStr(name, cell, text); err != nil {
				return err
			}
		}
	}
	return nil
}
