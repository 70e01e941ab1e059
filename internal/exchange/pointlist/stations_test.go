package pointlist

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// tagsAt are the tags of a list with their stations.
func tagsAt(l List) (list []string) {
	for _, i := range l.Items {
		list = append(list, i.Tag()+" at "+text(i.Fields["station"]))
	}
	return list
}

func calledPlc(text string) string {
	if lower := strings.ToLower(text); lower == "plc1" || lower == "plc2" {
		return lower
	}
	return ""
}

// Sheets that are called after stations are of them, and tags that come for each station can have its name before them.
func TestSheetsOfStations(t *testing.T) {
	rows := [][]string{{"Tag", "Address", "Type"}, {"flow", "40001", "FLOAT"}, {"level", "40003", "INT16"}}
	b := bookOf(t, []string{"PLC1", "plc2", "plc3"}, map[string][][]string{"PLC1": rows, "plc2": rows, "plc3": {{"Tag", "Address"}, {"amps", "40001"}}})
	l, err := Read(b, Options{Called: calledPlc})
	require.NoError(t, err)
	assert.Equal(t, []string{"flow at plc1", "level at plc1", "flow-2 at plc2", "level-2 at plc2", "amps at "}, tagsAt(l))
	require.Len(t, l.Faults, 1)
	assert.Equal(t, "plc3", l.Faults[0].Sheet, "there is no such station")
	assert.Contains(t, strings.Join(l.Notes, "\n"), "sheet PLC1: rows that name no station are of station plc1")
	assert.Contains(t, strings.Join(l.Notes, "\n"), "say --prefix '{station}/'")
	assert.Equal(t, "hr:0", l.Items[4].Fields["address"], "as the sheets before count")

	l, err = Read(b, Options{Called: calledPlc, Prefix: "{station}/"})
	require.NoError(t, err)
	assert.Equal(t, []string{"plc1/flow at plc1", "plc1/level at plc1", "plc2/flow at plc2", "plc2/level at plc2", "/amps at "}, tagsAt(l))

	l, err = Read(b, Options{Called: calledPlc, Station: "chosen"})
	require.NoError(t, err)
	assert.Empty(t, l.Faults)
	assert.Equal(t, "amps at chosen", tagsAt(l)[4], "what a person chose goes before")
}

// What a column calls a station is known in other sizes of letters, and what it is taken for is said.
func TestStationsInOtherLetters(t *testing.T) {
	l := read(t, "Device,Tag,Address,Type\nPLC1,a,40001,INT\nplc1,b,40002,INT\nPump,c,40003,INT\n", Options{Called: calledPlc})
	assert.Equal(t, []string{"a at plc1", "b at plc1", "c at Pump"}, tagsAt(l))
	assert.Contains(t, strings.Join(l.Notes, "\n"), `station "PLC1" of the list is taken for plc1`)
}

// A cell of which a spreadsheet has made a date is no address and no factor, and is told once.
func TestCellsThatBecameDates(t *testing.T) {
	l := read(t, "Name,Registers,Type,Factor\na,2-Jan,INT32,\nb,3-4,INT32,2026-10-01\nc,5-6,FLOAT,Jan-10\n", Options{Station: "plc"})
	require.Len(t, l.Faults, 3)
	for i, value := range []string{"2-Jan", "2026-10-01", "Jan-10"} {
		assert.Equal(t, value, l.Faults[i].Value)
		assert.Contains(t, l.Faults[i].Message, "is a date")
	}
}

// A fault of the second of two tables side by side is marked in its own cell.
func TestMarkedBesideAnotherTable(t *testing.T) {
	b, err := sheet.Read([]byte("Name,Register,Type,,Name,Register,Type\na,40001,INT,,x,40011,INTT\n"))
	require.NoError(t, err)
	l, err := Read(b, Options{Station: "plc"})
	require.NoError(t, err)
	require.Len(t, l.Faults, 1)
	assert.Contains(t, l.Faults[0].Message, "did you mean int or")
	var out bytes.Buffer
	require.NoError(t, WriteMarked(&out, b, l.Columns, l.Faults))
	f, err := excelize.OpenReader(&out)
	require.NoError(t, err)
	comments, err := f.GetComments("list")
	require.NoError(t, err)
	require.Len(t, comments, 1)
	assert.Equal(t, "G2", comments[0].Cell)
}

// One table is not parted: neither where a heading comes twice, nor at an empty column.
func TestOneTableStaysOne(t *testing.T) {
	for _, text := range []string{
		"Name,Address,Type,,Unit,Name,Remark\na,40001,INT,,V,b,c\nd,40002,INT,,A,e,f\n",
		"Address,Name,Address,Type\n40001,a,0x0000,INT\n40002,b,0x0001,INT\n",
		"Name,Address,,Type,,Unit\na,40001,,INT,,V\nb,40002,,INT,,A\n",
	} {
		l := read(t, text, Options{Station: "plc"})
		assert.Len(t, l.Items, 2, text)
		assert.Empty(t, l.Faults, text)
	}
}

// Of a row with indexes of several kinds, the first counts, and that is said.
func TestIndexesOfSeveralKinds(t *testing.T) {
	l := read(t, "Name,Binary Input Index,Binary Output Index,Description\nRun,0,,a\nStart,1,4,b\nStop,,5,c\n", Options{Station: "rtu", Speaks: func(string) site.Protocol { return site.DNP3 }})
	require.Empty(t, l.Faults)
	assert.Equal(t, []any{"bi:0", "bi:1", "bo:5"}, []any{l.Items[0].Fields["address"], l.Items[1].Fields["address"], l.Items[2].Fields["address"]})
	assert.Contains(t, strings.Join(l.Notes, "\n"), "of which the first counts: [3]")
}
