package pointlist

import (
	"bytes"
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// bookOf writes rows of cells as sheets of a spreadsheet, in the order of names.
func bookOf(t *testing.T, names []string, sheets map[string][][]string) sheet.Book {
	t.Helper()
	f := excelize.NewFile()
	for i, name := range names {
		if i == 0 {
			require.NoError(t, f.SetSheetName("Sheet1", name))
		} else {
			_, err := f.NewSheet(name)
			require.NoError(t, err)
		}
		for n, row := range sheets[name] {
			require.NoError(t, f.SetSheetRow(name, "A"+string(rune('1'+n)), &row))
		}
	}
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	b, err := sheet.Read(out.Bytes())
	require.NoError(t, err)
	return b
}

// twoHalls are sheets whose columns are called by other names, and stand in another order.
func twoHalls(t *testing.T) sheet.Book {
	return bookOf(t, []string{"North", "South"}, map[string][][]string{
		"North": {{"Messung", "Reg.", "Format", "Max"}, {"n1", "40001", "INT16", "60"}},
		"South": {{"Kommentar", "Stelle", "Reg.", "Format"}, {"in the hall", "s1", "40002", "FLOAT33"}},
	})
}

func TestColumnsOfEachSheet(t *testing.T) {
	b := twoHalls(t)
	l, err := Read(b, Options{Station: "plc", Columns: sheet.Named{"tag": "Messung", "South!tag": "B", "Max": ""}})
	require.NoError(t, err)
	require.Len(t, l.Items, 2)
	assert.Equal(t, "n1", l.Items[0].Tag())
	assert.Equal(t, "s1", l.Items[1].Tag())
	assert.NotContains(t, l.Items[0].Fields, "range", "nothing is made of Max")
	assert.Equal(t, "in the hall", l.Items[1].Fields["description"])

	// A fault is marked in the column of its own sheet.
	require.Len(t, l.Faults, 1)
	assert.Equal(t, sheet.Fault{Sheet: "South", Row: 2, Column: "Format", Value: "FLOAT33", Message: l.Faults[0].Message}, l.Faults[0])
	var marked bytes.Buffer
	require.NoError(t, WriteMarked(&marked, b, l.Columns, l.Faults))
	f, err := excelize.OpenReader(&marked)
	require.NoError(t, err)
	comments, err := f.GetComments("South")
	require.NoError(t, err)
	require.Len(t, comments, 1)
	assert.Equal(t, "D2", comments[0].Cell)
	beside, err := f.GetCellValue("South", "F2")
	require.NoError(t, err)
	assert.Contains(t, beside, "FLOAT33")

	// What was recognised is what is said of it the next time.
	named := sheet.NamedOf(l.Columns)
	assert.Equal(t, sheet.Named{"North!tag": "Messung", "South!tag": "Stelle", "address": "Reg.", "type": "Format", "description": "Kommentar", "Max": ""}, named)
	again, err := Read(b, Options{Station: "plc", Columns: named})
	require.NoError(t, err)
	assert.Equal(t, l.Columns, again.Columns)
}

func TestColumnsThatNoSheetHas(t *testing.T) {
	for message, named := range map[string]sheet.Named{
		`column "Einheit" for unit is not there; there are Messung, Reg., Format, Max, Kommentar, Stelle, Reg., Format`: {"unit": "Einheit"},
		`column "Messung" for tag is not there; there are Kommentar, Stelle, Reg., Format`:                              {"South!tag": "Messung"},
		`column "Typ" for type is not there`:                         {"type": "Typ"}, // though another column is one of types
		`there is no sheet "West"; there are North, South`:           {"West!tag": "A"},
		`column "Min", of which nothing is to be made, is not there`: {"Min": ""},
	} {
		_, err := Read(twoHalls(t), Options{Station: "plc", Columns: named})
		assert.ErrorContains(t, err, message)
	}
}

func TestHeadingsOfNumbersBesideALetter(t *testing.T) {
	l := read(t, "tag,address,type,2025,2026\na,40001,int16,1,2\n", Options{Station: "plc", Columns: sheet.Named{"decimals": "D"}})
	require.Len(t, l.Items, 1, "the first row names the columns")
	assert.Equal(t, "a", l.Items[0].Tag())
	named := sheet.Named{"tag": "A", "north!tag": "B"}
	for range 20 {
		assert.Equal(t, "B", named.Of("North")["tag"], "what is said of the sheet goes first")
	}
}

func TestColumnsOfASheetInAListWithoutSheets(t *testing.T) {
	b, err := sheet.Read([]byte("tag,address\na,40001\n"))
	require.NoError(t, err)
	_, err = Read(b, Options{Station: "plc", Columns: sheet.Named{"North!tag": "A"}})
	assert.ErrorContains(t, err, "this list has no sheets; write tag=A instead of North!tag=A")
}

func TestColumnsOfAListWithoutHeadings(t *testing.T) {
	text := "level,40001,INT16\nflow,40003,FLOAT\npower,40005,UINT32\n"
	for _, named := range []sheet.Named{
		{"tag": "A", "address": "B", "type": "C"},
		{"tag": "column A"}, // the rest shows
		{"tag": "1"},
	} {
		l := read(t, text, Options{Station: "plc", Columns: maps.Clone(named)})
		require.Empty(t, l.Faults)
		require.Len(t, l.Items, 3, "the first row is a point, too: %v", named)
		assert.Equal(t, map[string]any{"tag": "level", "station": "plc", "address": "hr:0", "type": "int16"}, l.Items[0].Fields)
	}
	l := read(t, text, Options{Station: "plc", Columns: sheet.Named{"description": "A", "column C": ""}})
	require.Len(t, l.Items, 3)
	assert.Equal(t, "level", l.Items[0].Fields["description"])
	assert.NotContains(t, l.Items[0].Fields, "type")

	l = read(t, "List of the hall,,\nSignal,Where,What\nlevel,40001,INT16\n", Options{Station: "plc", Columns: sheet.Named{"tag": "A", "address": "B", "type": "C"}})
	require.Len(t, l.Items, 1, "a row of words names the columns, and a title does not")
	assert.Equal(t, "level", l.Items[0].Tag())
}

func TestHeadingsByHandAndNone(t *testing.T) {
	l := read(t, "A,B,C\nx,1,40001\n", Options{Station: "plc", Columns: sheet.Named{"tag": "A", "address": "C"}})
	require.Len(t, l.Items, 1)
	assert.Equal(t, "x", l.Items[0].Tag())
	assert.Equal(t, "40001", l.Items[0].Fields["address"])
	b, err := sheet.Read([]byte("1,2,3\n4,5,6\n"))
	require.NoError(t, err)
	_, err = Read(b, Options{})
	assert.ErrorContains(t, err, "no headings are recognised")
	b, err = sheet.Read([]byte("tag,address\na,1\n"))
	require.NoError(t, err)
	_, err = Read(b, Options{Columns: sheet.Named{"unit": "Einheit"}})
	assert.ErrorContains(t, err, `column "Einheit" for unit is not there; there are tag, address`)
}

// A list without headings is read by what its cells look like, and says so.
func TestAListWithoutHeadings(t *testing.T) {
	for _, text := range []string{
		"40001  Frequency setpoint        x0.01   Hz    R/W\n40002  Output current            x0.1    A     R\n40003  Fault code                        -     R\n40004  Motor power               x0.1    kW    R\n",
		"tank/frequency-setpoint;INT16;40001;Frequency setpoint;0,01;Hz\ntank/current;INT16;40002;Output current;0,1;A\ntank/power;INT16;40004;Motor power;0,1;kW\n",
	} {
		l := read(t, text, Options{Station: "plc"})
		assert.Contains(t, strings.Join(l.Notes, "\n"), "guessed by their cells")
		s, _, faults := into(t, load(t, empty), l)
		require.Empty(t, faults)
		found := false
		for _, tag := range s.Names(site.KindPoint) {
			p, _ := s.Point(tag)
			if p.Description == "Frequency setpoint" {
				found = true
				assert.Equal(t, "hr:0", p.Address.String())
				assert.Equal(t, "Hz", p.Unit)
				assert.Equal(t, 0.01, *p.Scaling.Factor)
			}
		}
		assert.True(t, found, s.Names(site.KindPoint))
	}
}

func TestTwoRowsOfHeadings(t *testing.T) {
	l := read(t, `Point list of the plant,,,,,,
Signal,Address,Raw,Raw,Engineering,Engineering,Unit
,,min,max,min,max,
level,hr:10,0,27648,0,5,m
`, Options{Station: "raw"})
	require.Len(t, l.Items, 1)
	assert.Equal(t, map[string]any{"raw": [2]float64{0, 27648}, "eng": [2]float64{0, 5}}, l.Items[0].Fields["scaling"])
	assert.Equal(t, 4, l.Items[0].Row)
}
