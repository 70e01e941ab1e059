package sheet

import (
	"archive/zip"
	"bytes"
	"io"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// rowsOf is a workbook with these rows, after a change.
func rowsOf(t *testing.T, rows [][]any, change func(f *excelize.File)) []byte {
	t.Helper()
	f := excelize.NewFile()
	for i, row := range rows {
		at, _ := excelize.CoordinatesToCellName(1, i+1)
		require.NoError(t, f.SetSheetRow("Sheet1", at, &row))
	}
	change(f)
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	return out.Bytes()
}

func cellsOf(t *testing.T, data []byte) (rows [][]string, notes []string) {
	t.Helper()
	book, err := Read(data)
	require.NoError(t, err)
	for _, r := range book.Grids[0].Rows {
		rows = append(rows, r.Cells)
	}
	return rows, book.Notes
}

func styled(t *testing.T, f *excelize.File, from, to string, s *excelize.Style) {
	t.Helper()
	id, err := f.NewStyle(s)
	require.NoError(t, err)
	require.NoError(t, f.SetCellStyle("Sheet1", from, to, id))
}

// What a person sees in a cell of digits or of a date counts; of other formats, the value does.
func TestCellsAsTheirFormatsShowThem(t *testing.T) {
	for _, c := range []struct {
		format string
		value  any
		want   string
	}{
		{`"4"0000`, 10, "40010"}, {`"4"####`, 10, "410"}, {`\4\x0000`, 10, "4x0010"}, {`4x0000`, 10, "4x0010"}, {`00000`, 1, "00001"}, {`[Blue]00000;[Red]-0`, 1, "00001"}, {`"HR "0000`, 12, "12"},
		{`"0x"0000`, 100, "0x0100"}, {`00000`, 123456, "123456"}, {`00000`, 1.5, "1.5"}, {`00000`, "text", "text"},
		{`#,##0`, 40010, "40010"}, {`0.00`, 0.1, "0.1"}, {`0%`, 0.1, "0.1"}, {`0" m3/h"`, 250, "250"}, {`0.0E+00`, 0.001, "0.001"}, {`General`, 7, "7"}, {`@`, 7, "7"},
		{`yyyy-mm-dd`, 46024, "2026-01-02"}, {`d-mmm`, 46024, "2026-01-02"}, {`h:mm`, 0.25, "06:00:00"}, {`dd/mm/yyyy hh:mm`, 46024.25, "2026-01-02 06:00:00"}, {`[$-409]d\-mmm;@`, 46024, "2026-01-02"},
	} {
		rows, _ := cellsOf(t, rowsOf(t, [][]any{{c.value}}, func(f *excelize.File) {
			styled(t, f, "A1", "A1", &excelize.Style{CustomNumFmt: &c.format})
		}))
		if c.format == `"HR "0000` {
			c.want = "HR 0012"
		}
		assert.Equal(t, [][]string{{c.want}}, rows, c.format)
	}
	rows, _ := cellsOf(t, rowsOf(t, [][]any{{time.Date(2026, 3, 4, 0, 0, 0, 0, time.UTC)}}, func(*excelize.File) {}))
	assert.Equal(t, [][]string{{"2026-03-04"}}, rows, "a date of the formats that every workbook has")
	rows, _ = cellsOf(t, rowsOf(t, [][]any{{1000}}, func(f *excelize.File) {
		is := true
		require.NoError(t, f.SetWorkbookProps(&excelize.WorkbookPropsOptions{Date1904: &is}))
		styled(t, f, "A1", "A1", &excelize.Style{NumFmt: 14})
	}))
	assert.Equal(t, [][]string{{"1906-09-27"}}, rows, "dates that count from 1904")
}

// Rows that are struck out are left out, and said; those that are hidden are taken, and said.
func TestRowsThatAreStruckOutOrHidden(t *testing.T) {
	data := rowsOf(t, [][]any{{"Name", "Address"}, {"a", 1}, {"b", 2}, {"c", 3}, {"d", 4}}, func(f *excelize.File) {
		styled(t, f, "A3", "B3", &excelize.Style{Font: &excelize.Font{Strike: true}})
		styled(t, f, "A4", "A4", &excelize.Style{Font: &excelize.Font{Strike: true}}) // one cell of two is no row
		require.NoError(t, f.SetRowVisible("Sheet1", 5, false))
	})
	rows, notes := cellsOf(t, data)
	assert.Equal(t, [][]string{{"Name", "Address"}, {"a", "1"}, {"c", "3"}, {"d", "4"}}, rows)
	assert.Equal(t, []string{"sheet Sheet1: rows that are struck out, and left out: 3", "sheet Sheet1: rows that are hidden, and taken all the same: 5"}, notes)
}

// Formulas of which a program that wrote the file left no results are worked out; what cannot be is shown as it is.
func TestFormulasWithoutResults(t *testing.T) {
	data := rowsOf(t, [][]any{{"Name", "Address"}, {"a", 100}, {"b"}, {"c"}, {"d"}, {"e"}}, func(f *excelize.File) {
		require.NoError(t, f.SetCellFormula("Sheet1", "B3", "B2+2"))
		require.NoError(t, f.SetCellFormula("Sheet1", "B4", "B3+2"))
		require.NoError(t, f.SetCellFormula("Sheet1", "B5", `"4"&TEXT(B2,"0000")`))
		require.NoError(t, f.SetCellFormula("Sheet1", "B6", "NOSUCHFUNCTION(B2)"))
	})
	rows, notes := cellsOf(t, data)
	assert.Equal(t, [][]string{{"Name", "Address"}, {"a", "100"}, {"b", "102"}, {"c", "104"}, {"d", "40100"}, {"e", "=NOSUCHFUNCTION(B2)"}}, rows)
	assert.Equal(t, []string{"sheet Sheet1: formulas of which the file has no results, so that they were worked out: 4"}, notes)

	withResults := repacked(t, data, func(name, text string) string {
		return regexp.MustCompile(`(<c r="B3"[^>]*><f>[^<]*</f>)(?:<v></v>|<v/>)?`).ReplaceAllString(text, "$1<v>555</v>")
	})
	rows, _ = cellsOf(t, withResults)
	assert.Equal(t, []string{"b", "555"}, rows[2], "a result that the file has counts")
}

// repacked is a workbook with its parts changed.
func repacked(t *testing.T, data []byte, change func(name, text string) string) []byte {
	t.Helper()
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, part := range archive.File {
		r, err := part.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		to, err := w.Create(part.Name)
		require.NoError(t, err)
		_, err = io.WriteString(to, change(part.Name, string(text)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// What the text of a sheet says is read with prefixes, other quotes, other white space, and without the numbers that may be left out.
func TestMarkupAsOtherProgramsWriteIt(t *testing.T) {
	for what, text := range map[string]string{
		"prefixes":           `<x:worksheet><x:row r="1"><x:c r="A1" s="3"><x:v>1 > 0</x:v></x:c></x:row><x:row r="2" hidden="1"><x:c r="B2"><x:f>A1</x:f></x:c></x:row><x:mergeCell ref="A1:B2"/></x:worksheet>`,
		"single quotes":      `<worksheet><row r='1'><c r='A1' s='3'/></row><row hidden='true' r='2'><c r='B2'><f>A1</f><v></v></c></row><mergeCell ref='A1:B2'/></worksheet>`,
		"lines":              "<worksheet>\n<row\n r=\"1\"><c\tr=\"A1\"\n s=\"3\"><v>1</v>\n</c></row><row r=\"2\"\thidden=\"1\"><c r=\"B2\"><f>A1</f></c></row><mergeCell\n ref=\"A1:B2\"/></worksheet>",
		"numbers left out":   `<worksheet><row><c s="3"><v>1</v></c></row><row hidden="1"><c><v>1</v></c><c><f>A1</f></c></row><mergeCell ref="A1:B2"/></worksheet>`,
		"names that contain": `<worksheet><row r="1" customr="9" ht="3"><c xr="Z9" r="A1" cs="9" s="3"/></row><row r="2" hidden="1"><c r="B2"><f r="Q7">A1</f><v/></c><c r="C2" t="str"><f>A1</f><v></v></c></row><mergeCell ref="A1:B2"/></worksheet>`,
	} {
		m, err := readMarkup(strings.NewReader(text), func(style int) bool { return style == 3 })
		require.NoError(t, err, what)
		assert.Equal(t, markup{merged: []area{{1, 1, 2, 2}}, hidden: []int{2}, styled: map[place]int{{1, 1}: 3}, formulas: []place{{2, 2}}}, m, what)
	}
}

func FuzzMarkup(f *testing.F) {
	f.Add([]byte(`<worksheet><row r="1" hidden="1"><c r="A1" s="3"><f>B1</f><v>1</v></c></row><mergeCell ref="A1:B2"/></worksheet>`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := readMarkup(bytes.NewReader(data), func(style int) bool { return style > 0 })
		if err == nil && len(m.formulas)+len(m.hidden)+len(m.merged) > len(data) {
			t.Fatal("more is said than there is")
		}
	})
}
