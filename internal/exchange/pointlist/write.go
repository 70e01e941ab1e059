package pointlist

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"

	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
)

// The headings of the columns that tell of which point a row was made, and of which version of it.
const (
	Was     = "_tag"
	Version = "_version"
)

// Headings are those of the columns that Write writes.
func Headings() (list []string) {
	for _, f := range document.FieldsOf(reflect.TypeFor[site.Point]()) {
		list = append(list, f.Name)
	}
	return append(list, Was, Version)
}

// Cells are those of a point under Headings: texts as they are, the address in the notation of its station, all else as a site file has it; empty
// where it has its default.
func Cells(p site.Point, station site.Station, version int64) ([]string, error) {
	v, usual := reflect.ValueOf(p), reflect.ValueOf(site.NewPoint())
	cells := make([]string, 0, 40)
	for _, f := range document.FieldsOf(v.Type()) {
		value := v.FieldByIndex(f.Index)
		switch {
		case f.Name == "address":
			cells = append(cells, p.Address.Format(station.Convention()))
		case f.Name == "read_back" && p.ReadBack.Space != "":
			cells = append(cells, p.ReadBack.Format(station.Convention()))
		case value.IsZero() && usual.FieldByIndex(f.Index).IsZero() || reflect.DeepEqual(value.Interface(), usual.FieldByIndex(f.Index).Interface()):
			cells = append(cells, "")
		default:
			text, err := json.Marshal(value.Interface())
			if err != nil {
				return nil, fmt.Errorf("point %s, %s: %w", p.Tag, f.Name, err)
			}
			if value.Kind() == reflect.String || text[0] == '"' {
				var plain string
				if err := json.Unmarshal(text, &plain); err != nil {
					return nil, fmt.Errorf("point %s, %s: %w", p.Tag, f.Name, err)
				}
				cells = append(cells, plain)
				continue
			}
			cells = append(cells, string(text))
		}
	}
	return append(cells, p.Tag, strconv.FormatInt(version, 10)), nil
}

// rows calls f with the rows of all points of a site that are wanted, headings first.
func rows(s *site.Site, tags []string, f func([]string) error) error {
	if err := f(Headings()); err != nil {
		return err
	}
	for _, tag := range tags {
		p, ok := s.Point(tag)
		if !ok {
			continue
		}
		station, _ := s.Station(p.Station)
		cells, err := Cells(p, station, s.Version(site.KindPoint, tag))
		if err != nil {
			return err
		}
		if err := f(cells); err != nil {
			return err
		}
	}
	return nil
}

// WriteCSV writes points as separated values, which Read reads back as they were.
func WriteCSV(to io.Writer, s *site.Site, tags []string) error {
	if _, err := io.WriteString(to, "\uFEFF"); err != nil { // or spreadsheets take it for an older character set
		return err
	}
	w := csv.NewWriter(to)
	if err := rows(s, tags, func(cells []string) error { return w.Write(guard(cells)) }); err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}

// WriteJSON writes points as a list of rows of texts, headings first. Columns in which no point has anything are left out.
func WriteJSON(to io.Writer, s *site.Site, tags []string) error {
	w := bufio.NewWriter(to)
	used := usedFields(s, tags)
	begin := byte('[')
	if err := rows(s, tags, func(cells []string) error {
		kept := make([]string, 0, len(used))
		for _, i := range used {
			kept = append(kept, cells[i])
		}
		b, err := json.Marshal(kept)
		w.WriteByte(begin)
		w.Write(b)
		begin = ','
		return err
	}); err != nil {
		return err
	}
	w.WriteString("]\n")
	return w.Flush()
}

// usedFields are the places of the columns in which some point has something, those of Was included.
func usedFields(s *site.Site, tags []string) (used []int) {
	fields := document.FieldsOf(reflect.TypeFor[site.Point]())
	has := make([]bool, len(fields))
	for _, tag := range tags {
		p, ok := s.Point(tag)
		if !ok {
			continue
		}
		v := reflect.ValueOf(&p).Elem()
		for i, f := range fields {
			has[i] = has[i] || !v.FieldByIndex(f.Index).IsZero()
		}
	}
	for i, is := range has {
		if is || fields[i].Name == "tag" {
			used = append(used, i)
		}
	}
	return append(used, len(fields)) // Was
}

// guard keeps spreadsheets from taking a text for a formula.
func guard(cells []string) []string {
	cells = slices.Clone(cells)
	for i, c := range cells {
		if c != "" && strings.ContainsRune("=@", rune(c[0])) {
			cells[i] = "'" + c
		}
	}
	return cells
}

// WriteSpreadsheet writes points as a spreadsheet.
func WriteSpreadsheet(to io.Writer, s *site.Site, tags []string) error {
	f := excelize.NewFile()
	defer f.Close()
	const name = "points"
	if err := f.SetSheetName("Sheet1", name); err != nil {
		return err
	}
	w, err := f.NewStreamWriter(name)
	if err != nil {
		return err
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	if err := w.SetColWidth(1, 2, 24); err != nil {
		return err
	}
	if err := w.SetPanes(&excelize.Panes{Freeze: true, XSplit: 1, YSplit: 1, TopLeftCell: "B2", ActivePane: "bottomRight"}); err != nil {
		return err
	}
	n := 0
	err = rows(s, tags, func(cells []string) error {
		n++
		values := make([]any, len(cells))
		for i, c := range cells {
			values[i] = c
			if n == 1 {
				values[i] = excelize.Cell{StyleID: bold, Value: c}
			}
		}
		at, err := excelize.CoordinatesToCellName(1, n)
		if err != nil {
			return err
		}
		return w.SetRow(at, values)
	})
	if err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Write(to)
}
