// Package samples writes what was recorded to files for other programs, and reads such from them: separated values, spreadsheets and Parquet.
package samples

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"

	"arithmon/internal/core/codec"
)

// Row is a sample of a point.
type Row struct {
	Tag     string
	Time    time.Time
	Value   codec.Value // nothing when it was bad
	Text    string      // as a person reads it
	Unit    string
	Quality string
	Reason  string
	Source  string // the device's own time; empty where it has none
}

// Form is a kind of file.
type Form string

// The forms.
const (
	CSV     Form = "csv"
	XLSX    Form = "xlsx"
	Parquet Form = "parquet"
)

// Forms lists them.
func Forms() []Form { return []Form{CSV, XLSX, Parquet} }

// Media is the media type of a form.
func (f Form) Media() string {
	switch f {
	case XLSX:
		return "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
	case Parquet:
		return "application/vnd.apache.parquet"
	}
	return "text/csv; charset=utf-8"
}

// Writer writes rows to a file. What was written is whole only after Close.
type Writer interface {
	Write(Row) error
	Close() error
}

// NewWriter begins a file of a form.
func NewWriter(w io.Writer, f Form) (Writer, error) {
	switch f {
	case CSV:
		out := &separated{w: csv.NewWriter(w)}
		return out, out.w.Write(headings)
	case XLSX:
		return newSpreadsheet(w)
	case Parquet:
		return &columns{w: parquet.NewGenericWriter[record](w, parquet.Compression(&parquet.Zstd))}, nil
	}
	return nil, fmt.Errorf("%q is no form of a file: csv, xlsx or parquet", f)
}

// headings are those of csv and xlsx; Read knows them.
var headings = []string{"tag", "time", "value", "text", "unit", "quality", "reason", "source_time"}

// cells are the texts of a row.
func (r *Row) cells() []string {
	return []string{r.Tag, r.Time.UTC().Format(time.RFC3339Nano), r.Value.String(), r.Text, r.Unit, r.Quality, r.Reason, r.Source}
}

type separated struct{ w *csv.Writer }

func (s *separated) Write(r Row) error { return s.w.Write(r.cells()) }

func (s *separated) Close() error {
	s.w.Flush()
	return s.w.Error()
}

// spreadsheet writes a workbook; when a sheet is full, another one is begun.
type spreadsheet struct {
	to    io.Writer
	file  *excelize.File
	sheet *excelize.StreamWriter
	date  int // style
	row   int
	count int // of sheets
}

func newSpreadsheet(w io.Writer) (*spreadsheet, error) {
	s := &spreadsheet{to: w, file: excelize.NewFile()}
	format := "yyyy-mm-dd hh:mm:ss.000"
	var err error
	if s.date, err = s.file.NewStyle(&excelize.Style{CustomNumFmt: &format}); err != nil {
		return nil, err
	}
	return s, s.next()
}

// next begins a sheet.
func (s *spreadsheet) next() (err error) {
	if s.sheet != nil {
		if err := s.sheet.Flush(); err != nil {
			return err
		}
	}
	s.count, s.row = s.count+1, 1
	name := "History"
	if s.count > 1 {
		name += " " + strconv.Itoa(s.count)
		_, err = s.file.NewSheet(name)
	} else {
		err = s.file.SetSheetName("Sheet1", name)
	}
	if err != nil {
		return err
	}
	if s.sheet, err = s.file.NewStreamWriter(name); err != nil {
		return err
	}
	for i, width := range []float64{34, 24, 14, 14, 8, 11, 16, 24} {
		if err := s.sheet.SetColWidth(i+1, i+1, width); err != nil {
			return err
		}
	}
	if err := s.sheet.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	head := make([]any, len(headings))
	for i, h := range headings {
		head[i] = h
		if h == "time" {
			head[i] = "time (UTC)"
		}
	}
	return s.sheet.SetRow("A1", head)
}

func (s *spreadsheet) Write(r Row) error {
	if s.row == excelize.TotalRows {
		if err := s.next(); err != nil {
			return err
		}
	}
	s.row++
	value := any(nil)
	switch f, ok := r.Value.Float(); {
	case ok: // what is true or false is 1 or 0, so that it can be drawn
		value = f
	case !r.Value.IsZero():
		value = r.Value.Text()
	}
	return s.sheet.SetRow("A"+strconv.Itoa(s.row), []any{r.Tag, excelize.Cell{StyleID: s.date, Value: r.Time.UTC()}, value, r.Text, r.Unit, r.Quality, r.Reason, r.Source})
}

func (s *spreadsheet) Close() error {
	defer s.file.Close()
	if err := s.sheet.Flush(); err != nil {
		return err
	}
	_, err := s.file.WriteTo(s.to)
	return err
}

// record is a row of a Parquet file.
type record struct {
	Tag     string   `parquet:"tag,dict"`
	Time    int64    `parquet:"time,delta,timestamp(millisecond)"`
	Value   *float64 `parquet:"value,optional"`
	Text    string   `parquet:"text,dict"`
	Unit    string   `parquet:"unit,dict"`
	Quality string   `parquet:"quality,dict"`
	Reason  string   `parquet:"reason,dict"`
	Source  string   `parquet:"source_time,dict"`
}

// columns writes a Parquet file, a row group for each so many rows.
type columns struct {
	w     *parquet.GenericWriter[record]
	rows  [1]record
	count int
}

const rowGroup = 500_000

func (c *columns) Write(r Row) error {
	c.rows[0] = record{r.Tag, r.Time.UnixMilli(), nil, r.Text, r.Unit, r.Quality, r.Reason, r.Source}
	if f, ok := r.Value.Float(); ok {
		c.rows[0].Value = &f
	}
	if c.count++; c.count%rowGroup == 0 {
		if err := c.w.Flush(); err != nil {
			return err
		}
	}
	_, err := c.w.Write(c.rows[:])
	return err
}

func (c *columns) Close() error { return c.w.Close() }
