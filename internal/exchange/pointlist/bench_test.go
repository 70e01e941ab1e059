package pointlist

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"arithmon/internal/exchange/sheet"
)

// large is a list of so many points.
func large(rows int) []byte {
	var b bytes.Buffer
	b.WriteString("tag;station;address;type;factor;unit;description;access\n")
	for i := range rows {
		fmt.Fprintf(&b, "area%d/p%d;raw;hr:%d;int16;0,1;bar;Point number %d;R\n", i/100, i%100, i%60000, i)
	}
	return b.Bytes()
}

// BenchmarkStrings50000 reads the list into strings alone.
func BenchmarkStrings50000(b *testing.B) {
	data := string(large(50_000))
	for b.Loop() {
		r := csv.NewReader(strings.NewReader(data))
		r.Comma = ';'
		var rows [][]string
		for {
			cells, err := r.Read()
			if err == io.EOF {
				break
			}
			require.NoError(b, err)
			rows = append(rows, cells)
		}
		require.Len(b, rows, 50_001)
	}
}

// BenchmarkRead50000 makes points' fields of it.
func BenchmarkRead50000(b *testing.B) {
	data := large(50_000)
	for b.Loop() {
		book, err := sheet.Read(data)
		require.NoError(b, err)
		l, err := Read(book, Options{})
		require.NoError(b, err)
		require.Len(b, l.Items, 50_000)
		require.Empty(b, l.Faults)
	}
}

// BenchmarkInto50000 takes them into a site.
func BenchmarkInto50000(b *testing.B) {
	book, err := sheet.Read(large(50_000))
	require.NoError(b, err)
	l, err := Read(book, Options{})
	require.NoError(b, err)
	s := load(b, empty)
	for b.Loop() {
		d := s.Edit()
		require.NoError(b, l.Into(d, s, false))
		changes, err := d.Changes()
		require.NoError(b, err)
		require.Len(b, changes, 50_000)
	}
}

// workbook is the same list as a spreadsheet.
func workbook(b *testing.B, rows int) []byte {
	f := excelize.NewFile()
	defer f.Close()
	w, err := f.NewStreamWriter("Sheet1")
	require.NoError(b, err)
	for i, line := range strings.Split(strings.TrimSpace(string(large(rows))), "\n") {
		var cells []any
		for _, c := range strings.Split(line, ";") {
			cells = append(cells, c)
		}
		require.NoError(b, w.SetRow(fmt.Sprintf("A%d", i+1), cells))
	}
	require.NoError(b, w.Flush())
	var out bytes.Buffer
	require.NoError(b, f.Write(&out))
	return out.Bytes()
}

// BenchmarkStringsOfAWorkbook50000 reads the rows of a spreadsheet into strings alone.
func BenchmarkStringsOfAWorkbook50000(b *testing.B) {
	data := workbook(b, 50_000)
	for b.Loop() {
		f, err := excelize.OpenReader(bytes.NewReader(data))
		require.NoError(b, err)
		rows, err := f.GetRows("Sheet1")
		require.NoError(b, err)
		require.Len(b, rows, 50_001)
		require.NoError(b, f.Close())
	}
}

// BenchmarkReadWorkbook50000 makes points' fields of it.
func BenchmarkReadWorkbook50000(b *testing.B) {
	data := workbook(b, 50_000)
	for b.Loop() {
		book, err := sheet.Read(data)
		require.NoError(b, err)
		l, err := Read(book, Options{})
		require.NoError(b, err)
		require.Len(b, l.Items, 50_000)
	}
}
