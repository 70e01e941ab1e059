package sheet

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"hash/crc32"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// cells are those of a grid, row by row.
func cells(g Grid) (out [][]string) {
	for _, r := range g.Rows {
		out = append(out, r.Cells)
	}
	return out
}

func TestSeparatedValues(t *testing.T) {
	for _, c := range []struct {
		name, text string
		note       string
		want       [][]string
	}{
		{"commas", "tag,address\na,hr:1\n\nb,\"hr:2, the second\"\n", "columns parted by commas", [][]string{{"tag", "address"}, {"a", "hr:1"}, {"b", "hr:2, the second"}}},
		{"semicolons and decimal commas", "Name;Faktor;Einheit\nDruck;0,1;bar\nFluss;1,25;m³/h\n", "columns parted by semicolons", [][]string{{"Name", "Faktor", "Einheit"}, {"Druck", "0,1", "bar"}, {"Fluss", "1,25", "m³/h"}}},
		{"tabs", "a\tb\r\n1\t2, 3\r\n", "columns parted by tabs", [][]string{{"a", "b"}, {"1", "2, 3"}}},
		{"bars", "a|b|c\n1|2|3\n", "columns parted by bars", [][]string{{"a", "b", "c"}, {"1", "2", "3"}}},
		{"a mark and blanks that are not seen", "\xEF\xBB\xBFa,b\n\u00a01 ,\u200b2\n", "columns parted by commas", [][]string{{"a", "b"}, {"1", "2"}}},
		{"a line break within a cell", "a,b\n1,\"two\nlines\"\n3,4\n", "columns parted by commas", [][]string{{"a", "b"}, {"1", "two lines"}, {"3", "4"}}},
		{"old letters", "Name;Ger\xE4t\nPumpe;K\xFChler\n", "read as Windows-1252", [][]string{{"Name", "Gerät"}, {"Pumpe", "Kühler"}}},
		{"wide letters", "\xFF\xFEa\x00;\x00b\x00\n\x001\x00;\x002\x00\n\x00", "read as UTF-16", [][]string{{"a", "b"}, {"1", "2"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := Read([]byte(c.text))
			require.NoError(t, err)
			require.Len(t, b.Grids, 1)
			assert.Equal(t, Separated, b.Form)
			assert.Equal(t, c.want, cells(b.Grids[0]))
			assert.Contains(t, strings.Join(b.Notes, "\n"), c.note)
		})
	}
}

func TestRowsHaveTheirNumbers(t *testing.T) {
	b, err := Read([]byte("a,b\n\n\n1,2\n\"x\ny\",3\n5,6\n"))
	require.NoError(t, err)
	var numbers []int
	for _, r := range b.Grids[0].Rows {
		numbers = append(numbers, r.Number)
	}
	assert.Equal(t, []int{1, 4, 5, 7}, numbers)
}

func TestTextOfAPage(t *testing.T) {
	b, err := Read([]byte(`
  Register map, revision 3

  Reg.     Name                    Type      Unit     Access
  40001    Flow rate               FLOAT     m3/h     R
  40003    Temperature             INT16              R
  40010    Alarm word                                 R/W
           of the cabinet
`))
	require.NoError(t, err)
	assert.Equal(t, Page, b.Form)
	assert.Equal(t, [][]string{
		{"Register map, revision 3"},
		{"Reg.", "Name", "Type", "Unit", "Access"},
		{"40001", "Flow rate", "FLOAT", "m3/h", "R"},
		{"40003", "Temperature", "INT16", "", "R"},
		{"40010", "Alarm word", "", "", "R/W"},
		{"", "of the cabinet"},
	}, cells(b.Grids[0]))
	assert.Equal(t, 4, b.Grids[0].Rows[1].Number)
}

// workbook makes a spreadsheet.
func workbook(t *testing.T, make func(f *excelize.File)) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	make(f)
	b, err := f.WriteToBuffer()
	require.NoError(t, err)
	return b.Bytes()
}

func TestASpreadsheet(t *testing.T) {
	data := workbook(t, func(f *excelize.File) {
		require.NoError(t, f.SetSheetRow("Sheet1", "A2", &[]any{"Signal", "Reg.", "Factor"}))
		require.NoError(t, f.SetSheetRow("Sheet1", "A3", &[]any{"Flow", 40001, 0.1}))
		require.NoError(t, f.SetSheetRow("Sheet1", "A5", &[]any{"Level", 40003.0, true}))
		require.NoError(t, f.MergeCell("Sheet1", "A7", "A8"))
		require.NoError(t, f.SetSheetRow("Sheet1", "A7", &[]any{"Pump", 1}))
		require.NoError(t, f.SetSheetRow("Sheet1", "B8", &[]any{2}))
		_, err := f.NewSheet("Old")
		require.NoError(t, err)
		require.NoError(t, f.SetSheetRow("Old", "A1", &[]any{"x", "y"}))
		require.NoError(t, f.SetSheetVisible("Old", false))
	})
	b, err := Read(data)
	require.NoError(t, err)
	assert.Equal(t, Spreadsheet, b.Form)
	require.Len(t, b.Grids, 1)
	assert.Equal(t, "Sheet1", b.Grids[0].Name)
	assert.Equal(t, [][]string{{"Signal", "Reg.", "Factor"}, {"Flow", "40001", "0.1"}, {"Level", "40003", "1"}, {"Pump", "1"}, {"Pump", "2"}}, cells(b.Grids[0]))
	assert.Equal(t, 5, b.Grids[0].Rows[2].Number)
	assert.Equal(t, []string{"sheet Old is hidden, and left out"}, b.Notes)
}

// packed is an archive of one file of so many megabytes of zeros, which says that it has so many. One megabyte is packed once, and what comes
// of it repeated.
func packed(t *testing.T, name string, megabytes, says int) []byte {
	zeros, crc := make([]byte, 1<<20), crc32.NewIEEE()
	var part, all bytes.Buffer
	pack, err := flate.NewWriter(&part, flate.DefaultCompression)
	require.NoError(t, err)
	next := func() []byte {
		part.Reset()
		_, err := pack.Write(zeros)
		require.NoError(t, err)
		require.NoError(t, pack.Flush())
		return bytes.Clone(part.Bytes())
	}
	all.Write(next())
	again := next() // which refers to zeros before it
	for range megabytes {
		crc.Write(zeros)
	}
	for range megabytes - 1 {
		all.Write(again)
	}
	part.Reset()
	require.NoError(t, pack.Close())
	all.Write(part.Bytes())
	var archive bytes.Buffer
	z := zip.NewWriter(&archive)
	w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Deflate, CRC32: crc.Sum32(), CompressedSize64: uint64(all.Len()), UncompressedSize64: uint64(says) << 20})
	require.NoError(t, err)
	_, err = w.Write(all.Bytes())
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return archive.Bytes()
}

// Files that are something else, or mean harm, are refused with what to do instead, and take no more memory than is due.
func TestFilesThatAreNotRead(t *testing.T) {
	bomb := packed(t, "xl/worksheets/sheet1.xml", 600, 600)
	require.Less(t, len(bomb), 2<<20)
	archive, err := zip.NewReader(bytes.NewReader(bomb), int64(len(bomb)))
	require.NoError(t, err)
	inside, err := archive.File[0].Open()
	require.NoError(t, err)
	n, err := io.CopyN(io.Discard, inside, 3<<20)
	require.NoError(t, err, "it can be unpacked")
	require.EqualValues(t, 3<<20, n)
	for _, c := range []struct {
		name string
		data []byte
		says string
	}{
		{"nothing", nil, "the file holds nothing"},
		{"a PDF", []byte("%PDF-1.7\n..."), "copy the text of the table"},
		{"an old workbook", []byte("\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"), "save it as .xlsx"},
		{"an OpenDocument spreadsheet", append([]byte("PK\x03\x04\x14\x00"+strings.Repeat("\x00", 24)+"mimetype"), "application/vnd.oasis.opendocument.spreadsheet"...), "save it as .xlsx, or as .csv"},
		{"a program", []byte("\x7FELF\x02\x01\x00\x00\x00\xFF\xFE\x00"), "is no text"},
		{"a bomb", bomb, "cannot be read"},
		{"a bomb that says that it is small", packed(t, "xl/worksheets/sheet1.xml", 600, 1), "cannot be read"},
		{"half a workbook", workbook(t, func(*excelize.File) {})[:400], "cannot be read"},
		{"too much", make([]byte, MostBytes+1), "at most 64 are read"},
		{"too many rows", []byte(strings.Repeat("a,b\n", MostRows+1)), "more than 200000 rows"},
		{"an empty workbook", workbook(t, func(*excelize.File) {}), "no sheet of the spreadsheet holds anything"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Read(c.data)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("a,b\n1,2\n"))
	f.Add([]byte("Reg.  Name\n1  x\n  y\n"))
	f.Add([]byte("\xFF\xFEa\x00;\x00b\x00"))
	f.Add([]byte("a;\"b\n1;2"))
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := Read(data)
		if err != nil {
			return
		}
		for _, g := range b.Grids {
			last := 0
			for _, r := range g.Rows {
				if r.Number < last || len(r.Cells) == 0 || len(r.Cells) > MostColumns {
					t.Fatalf("row %d after %d with %d cells", r.Number, last, len(r.Cells))
				}
				last = r.Number
				for _, c := range r.Cells {
					if c != strings.TrimSpace(c) || strings.ContainsAny(c, "\n\r\t") {
						t.Fatalf("%q", c)
					}
				}
			}
		}
	})
}
