package main

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/pointlist"
	sheets "arithmon/internal/exchange/sheet"
)

// listRows is how many points a list has.
const listRows = 50_000

// lists measures a list of points that becomes changes of a site, as a spreadsheet and as separated values, beside the same file read into strings.
func lists() error {
	rows := [][]string{{"tag", "station", "address", "type", "factor", "unit", "description", "access"}}
	for i := range listRows {
		rows = append(rows, []string{fmt.Sprintf("area%d/p%d", i/100, i%100), "plc", fmt.Sprintf("hr:%d", i), "int16", "0.1", "bar", fmt.Sprintf("Point number %d", i), "R"})
	}
	var text bytes.Buffer
	if err := csv.NewWriter(&text).WriteAll(rows); err != nil {
		return err
	}
	f := excelize.NewFile()
	defer f.Close()
	w, err := f.NewStreamWriter("Sheet1")
	if err != nil {
		return err
	}
	for i, cells := range rows {
		row := make([]any, len(cells))
		for k, c := range cells {
			row[k] = c
		}
		if err := w.SetRow(fmt.Sprintf("A%d", i+1), row); err != nil {
			return err
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	var workbook bytes.Buffer
	if err := f.Write(&workbook); err != nil {
		return err
	}
	for _, form := range []struct {
		name    string
		data    []byte
		strings func([]byte) error
	}{{"spreadsheet", workbook.Bytes(), stringsOfWorkbook}, {"separated values", text.Bytes(), stringsOfText}} {
		var alone, whole time.Duration
		for range 3 { // the quickest of each, in turns
			took, err := timed(func() error { return form.strings(form.data) })
			if err != nil {
				return err
			}
			alone = least(alone, took)
			if took, err = timed(func() error { return takeList(form.data) }); err != nil {
				return err
			}
			whole = least(whole, took)
		}
		fmt.Printf("a list of %d points as %s: read into strings in %s, understood and made changes of a site in %s, %.1f times that\n", listRows, form.name,
			alone.Round(10*time.Millisecond), whole.Round(10*time.Millisecond), whole.Seconds()/alone.Seconds())
	}
	return nil
}

func timed(f func() error) (time.Duration, error) {
	began := time.Now()
	err := f()
	return time.Since(began), err
}

func least(a, b time.Duration) time.Duration {
	if a == 0 {
		return b
	}
	return min(a, b)
}

func stringsOfWorkbook(data []byte) error {
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.GetRows("Sheet1")
	return err
}

func stringsOfText(data []byte) error {
	_, err := csv.NewReader(strings.NewReader(string(data))).ReadAll()
	return err
}

// takeList makes changes of a list, as the service does before it writes them.
func takeList(data []byte) error {
	l, st := site.NewLink(), site.NewStation()
	l.Name, l.Host, st.Name, st.Link = "gate", "127.0.0.1", "plc", "gate"
	d := site.New().Edit()
	d.Add(l)
	d.Add(st)
	changes, err := d.Changes()
	if err != nil {
		return err
	}
	now := site.New().With(changes)
	book, err := sheets.Read(data)
	if err != nil {
		return err
	}
	list, err := pointlist.Read(book, pointlist.Options{})
	if err != nil {
		return err
	}
	d = now.Edit()
	if err := list.Into(d, now, false); err != nil {
		return err
	}
	if changes, err = d.Changes(); err == nil && len(changes) != listRows {
		err = fmt.Errorf("%d changes of %d points", len(changes), listRows)
	}
	return err
}
