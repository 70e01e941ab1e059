package pointlist

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// Lists as people have them: each becomes the same kind of points, whatever names and lines it has.
func TestHabitsOfLists(t *testing.T) {
	for name, c := range map[string]struct {
		text   string
		points map[string]string // address and type by tag
	}{
		"a line drawn below the headings": {`| Address | Description | Type | Multiplier | Unit |
|---------|-------------|:----:|-----------:|------|
| 30001   | Inlet pressure | uint16 | 0.01 | bar |
| 30003-30004 | Volume total | uint32 CDAB | 0.001 | m³ |
`, map[string]string{"inlet-pressure": "ir:0 uint16", "volume-total": "ir:2 uint32"}},
		"headings in French": {`Registre;Désignation;Type;Coef.;Unité;L/E
40001;Température départ;INT16;0,1;°C;L
40003;Débit;FLOAT32;1;m3/h;L/E
`, map[string]string{"température-départ": "hr:0 int16", "débit": "hr:2 float32"}},
		"headings in Spanish and Italian": {`Dirección;Nombre;Tipo;Unità
40001;bomba/caudal;INT16;m3/h
40002;bomba/presión;INT16;bar
`, map[string]string{"bomba/caudal": "hr:0 int16", "bomba/presión": "hr:1 int16"}},
		"addresses that no heading names": {`No,Signal,Bus,Fmt
1,LT-101,400101,INT
2,FT-103,400103,REAL
3,XV-105.OPEN,400107.3,BOOL
`, map[string]string{"LT-101": "hr:100 int16", "FT-103": "hr:102 float32", "XV-105.OPEN": "hr:106.3 bool"}},
		"states as a type": {`address;tag;type
hr:0;mode;Enum16
hr:2;long mode;ENUM32
`, map[string]string{"mode": "hr:0 uint16", "long-mode": "hr:2 uint32"}},
	} {
		l := read(t, c.text, Options{Station: "plc"})
		s, _, faults := into(t, load(t, empty), l)
		require.Empty(t, faults, name)
		got := map[string]string{}
		for _, tag := range s.Names(site.KindPoint) {
			p, _ := s.Point(tag)
			got[tag] = p.Address.String() + " " + string(p.Type)
		}
		assert.Equal(t, c.points, got, name)
	}
	// A column that numbers the rows is none of addresses.
	l := read(t, "Signal,Which,Type\na,1,INT\nb,2,INT\nc,3,INT\n", Options{Station: "plc"})
	require.Len(t, l.Faults, 3)
	assert.Contains(t, l.Faults[0].Message, "the row has no address")
}

// site of the lists in testdata: a device whose addresses count as they do where nobody says otherwise, and an outstation.
const habits = `arithmon: 1
links: [{name: line, host: 192.0.2.1}, {name: yard, protocol: dnp3, host: 192.0.2.2}]
stations: [{name: plc, link: line, unit: 1}, {name: booster, link: line, unit: 2}, {name: rtu, link: yard, outstation: 10}]
`

// Lists and pages of manuals, each in a way of its own, with the points that they mean below them.
func TestHabitsOfManyLists(t *testing.T) {
	files, err := filepath.Glob("testdata/habits/*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			text, want, found := strings.Cut(string(data), "====\n")
			require.True(t, found)
			was := load(t, habits)
			station := map[bool]string{true: "rtu", false: "plc"}[strings.HasPrefix(filepath.Base(file), "dnp-")]
			if strings.HasPrefix(filepath.Base(file), "stations-") {
				station = ""
			}
			options := Options{Station: station,
				Speaks: func(name string) site.Protocol { st, _ := was.Station(name); return st.Speaks() },
				Counts: func(name string) site.Notation { st, _ := was.Station(name); return st.Notation },
				Called: func(text string) string {
					if _, known := was.Station(strings.ToLower(text)); known {
						return strings.ToLower(text)
					}
					return ""
				},
			}
			l := read(t, text, options)
			s, _, faults := into(t, was, l)
			require.Empty(t, faults)
			var got strings.Builder
			for _, i := range l.Items {
				p, ok := s.Point(i.Tag())
				require.True(t, ok, i.Tag())
				got.WriteString(inALine(p) + "\n")
			}
			assert.Equal(t, want, got.String())

			// What the columns were taken for is what they are taken for when it is said.
			options.Columns = sheet.NamedOf(l.Columns)
			again := read(t, text, options)
			require.Empty(t, again.Faults)
			for i := range l.Items {
				assert.Equal(t, l.Items[i].Fields, again.Items[i].Fields)
			}
		})
	}
}

// inALine is what a list says of a point.
func inALine(p site.Point) string {
	parts := []string{p.Tag, p.Address.String()}
	if p.Address.Space.Protocol() == site.Modbus {
		parts = append(parts, string(p.Type))
	}
	if p.Length > 0 {
		parts = append(parts, fmt.Sprintf("length %d", p.Length))
	}
	if p.Order != "" {
		parts = append(parts, string(p.Order))
	}
	if !p.Scaling.IsZero() {
		b, _ := json.Marshal(p.Scaling)
		parts = append(parts, string(b))
	}
	if p.Unit != "" {
		parts = append(parts, "in "+p.Unit)
	}
	if p.Range != nil {
		parts = append(parts, fmt.Sprintf("from %v to %v", p.Range[0], p.Range[1]))
	}
	if len(p.States) > 0 {
		b, _ := json.Marshal(p.States)
		parts = append(parts, string(b))
	}
	if p.Limits != nil {
		b, _ := json.Marshal(p.Limits)
		parts = append(parts, "limits "+string(b))
	}
	if p.Writable {
		parts = append(parts, "writable")
	}
	if p.Control != "" {
		parts = append(parts, string(p.Control))
	}
	if p.Pulse != 0 {
		parts = append(parts, p.Pulse.String())
	}
	if p.Station == "booster" {
		parts = append(parts, "at "+p.Station)
	}
	if p.Description != "" {
		parts = append(parts, strconv.Quote(p.Description))
	}
	return strings.Join(parts, " ")
}

func TestWhatListsDoNotSay(t *testing.T) {
	for name, c := range map[string]struct{ text, note string }{
		"how addresses count":      {"tag,address\na,7\nb,9\n", "the list does not say whether its addresses count from 0 or from 1; station plc counts from 0, so that is used. If it is 1, say --notation number"},
		"which table":              {"tag,address\na,7\nb,9\n", "no table is named, so that holding registers are meant"},
		"which data type":          {"tag,address,registers\na,hr:0,2\n", "uint32 is used for two registers"},
		"which order":              {"tag,address,type\na,hr:0,float32 little endian\n", `"little endian" is read as CDAB, the low word first; if the bytes within each word are swapped, too, it is DCBA`},
		"what a gain does":         {"tag,address,gain\na,hr:0,10\nb,hr:1,1\n", "raw values are divided by column gain"},
		"what a multiplier does":   {"tag,address,multiplier\na,hr:0,10\nb,hr:1,1\n", "raw values are multiplied by column multiplier; where that is what the device has multiplied them by, say --columns 'divisor=multiplier'"},
		"whether decimals are out": {"tag,address,type,decimals\na,hr:0,int16,1\n", "decimals of integers are taken as decimal places that the device leaves out"},
		"values in each other":     {"tag,address,type\na,hr:0,float32\nb,hr:1,int16\nc,hr:2,bool\n", "row 3 (b) overlaps row 2 (a), whose float32 at hr:0 takes 2 registers: check its type, and the address"},
		"references, but for one":  {"tag,address\na,30000\nb,30010\n", "addresses are read as offsets, the first of which is 0, because 30000 is no valid reference number"},
		"what is said above":       {"All register addresses are one-based\n\ntag,address\na,7\nb,9\n", "addresses count from 1, as the list says"},
		"a factor that is missing": {"tag,address,type,range\na,hr:0,int16,0..2.5\n", "row 2, and perhaps others: the range has fractions, and the value is an integer without scaling; is a factor missing?"},
		"controllers' memory":      {"tag,address\na,%MW7\nb,%MW9.3\n", "addresses such as %MW10 are offsets of holding registers"},
	} {
		l := read(t, c.text, Options{Station: "plc", Counts: func(string) site.Notation { return site.Offset }})
		assert.Empty(t, l.Faults, name)
		assert.Contains(t, strings.Join(l.Notes, "\n"), c.note, name)
	}
	for text, fault := range map[string]string{
		"tag,address\na,%MD6\nb,DB10.DBW4\n":                      "is in the memory of a controller",
		"tag,address,bit\na,40001,3-5\nb,40002,1\n":               "several bits",
		"tag,address,signed\na,hr:0,perhaps\n":                    "says neither that the value has a sign nor that it has none",
		"tag,address,raw range,range\na,hr:0,4-20 mA to,0-10\n":   "is no range: write 0..27648",
		"tag,address,type,order\na,hr:0,int32,as usual\n":         "is no byte order",
		"tag,address,scaling\na,hr:0,0 = 5 V\n":                   "is no factor",
		"tag,address,function\na,hr:0,7\nb,hr:1,holding\n":        `"7" is no table`,
		"tag,address,type\na,hr:0,FLOAT33\nb,hr:2,\"x, 0.1 V\"\n": "is no data type",
	} {
		l := read(t, text, Options{Station: "plc"})
		require.NotEmpty(t, l.Faults, text)
		assert.Contains(t, l.Faults[0].Message, fault, text)
	}
}

// What is guessed where a list says nothing is for new points; those that are there keep what they have.
func TestGuessesLeavePointsAlone(t *testing.T) {
	was := load(t, habits+"points:\n  - {tag: a, station: plc, address: 'hr:0', type: float32}\n  - {tag: b, station: plc, address: 'hr:2', type: int32}\n  - {tag: c, station: plc, address: 'hr:4', type: int16}\n")
	for _, text := range []string{
		"tag,address,min,max\na,hr:0,-10,10\nb,hr:2,-5,5\nc,hr:4,-1,1\nnew,hr:9,-1,1\n",
		"tag,address,registers\na,hr:0,2\nb,hr:2,2\nc,hr:4,1\nnew,hr:9,2\n",
		"tag,address,decimals\na,hr:0,1\nb,hr:2,1\nc,hr:4,2\nnew,hr:9,1\n",
		"tag,address,range\na,hr:0,-3276.8..3276.7\nb,hr:2,-3276.8..3276.7\nc,hr:4,-3276.8..3276.7\nnew,hr:9,0..6553.5\n",
		"tag,address,description\na,hr:0,\"bit 0: x, bit 1: y\"\nb,hr:2,\"bit 0: x, bit 1: y\"\nc,hr:4,\"bit 0: x, bit 1: y\"\nnew,hr:9,\"bit 0: x, bit 1: y\"\n",
	} {
		s, _, faults := into(t, was, read(t, text, Options{Station: "plc"}))
		require.Empty(t, faults, text)
		for _, tag := range []string{"a", "b", "c"} {
			before, _ := was.Point(tag)
			after, _ := s.Point(tag)
			assert.Equal(t, before.Type, after.Type, "%s of %s", tag, text)
			assert.Equal(t, before.Scaling, after.Scaling, "%s of %s", tag, text)
		}
		fresh, _ := s.Point("new")
		assert.True(t, fresh.Type != codec.TypeUint16 || !fresh.Scaling.IsZero(), text)
	}
}

// The name of a sheet names a table, as a title above does.
func TestSheetsOfTables(t *testing.T) {
	b := bookOf(t, []string{"Input Registers", "Coils", "Pumps"}, map[string][][]string{
		"Input Registers": {{"Name", "Address", "Type"}, {"level", "0", "INT16"}},
		"Coils":           {{"Name", "Address"}, {"run", "0"}},
		"Pumps":           {{"Name", "Address", "Type"}, {"speed", "0", "INT16"}},
	})
	l, err := Read(b, Options{Station: "plc"})
	require.NoError(t, err)
	require.Empty(t, l.Faults)
	var got []any
	for _, i := range l.Items {
		got = append(got, i.Fields["address"])
	}
	assert.Equal(t, []any{"ir:0", "co:0", "hr:0"}, got)
	assert.Contains(t, strings.Join(l.Notes, "\n"), "sheet Coils: addresses that name no table are of that one, co")
}

func TestSteps(t *testing.T) {
	for text, want := range map[string]struct {
		scaling map[string]any
		unit    string
	}{
		"1 = 0.1 rpm":                    {map[string]any{"factor": 0.1}, "rpm"},
		"10 = 1 %":                       {map[string]any{"factor": 0.1}, "%"},
		"20000 = 100%":                   {map[string]any{"factor": 0.005}, "%"},
		"1=1":                            {nil, ""},
		"1 bit = 0.5 A":                  {map[string]any{"factor": 0.5}, "A"},
		"0.03125 °C/bit, -273 °C offset": {map[string]any{"factor": 0.03125, "offset": -273.0}, "°C"},
		"0,1 V":                          {map[string]any{"factor": 0.1}, "V"},
		"/10":                            {map[string]any{"factor": 0.1}, ""},
		"0..1000 = 0..100":               {map[string]any{"raw": [2]float64{0, 1000}, "eng": [2]float64{0, 100}}, ""},
		"bar":                            {nil, "bar"},
	} {
		s, u, err := stepped(text)
		require.NoError(t, err, text)
		assert.Equal(t, want.scaling, s, text)
		assert.Equal(t, want.unit, u, text)
	}
	for _, text := range []string{"", "0 = 5 V", "0.5 = 1 V", "much", "1 = 0"} {
		_, _, err := stepped(text)
		assert.Error(t, err, text)
	}
	for description, name := range map[string]string{"Flow rate, l/s x10": "Flow rate", "Speed in 0.1 Hz": "Speed", "Alarm (north)": "Alarm (north)", "Level [m]": "Level", "On/off": "On-off", "A, B": "A, B", "Temperature (°C * 10)": "Temperature"} {
		assert.Equal(t, name, strings.TrimSpace(nameIn(description)), description)
	}
}

// What may be read and what written is told in several languages.
func TestAccessInSeveralLanguages(t *testing.T) {
	for text, writable := range map[string]bool{"L": false, "L/E": true, "lecture/écriture": true, "Lectura": false, "oui": true, "RO": false} {
		got, err := accessOf(text)
		require.NoError(t, err, text)
		assert.Equal(t, writable, got, text)
	}
}

// Lines without columns are marked as the table that was made of them.
func TestMarkedLines(t *testing.T) {
	b, err := sheet.Read([]byte("30101 Sump level FLOAT m R\n30103 Current UINT16 A R\n30104 Alarm UINT16 R\n"))
	require.NoError(t, err)
	b = Parted(b)
	l, err := Read(b, Options{Station: "plc"})
	require.NoError(t, err)
	require.Len(t, l.Items, 3)
	var marked bytes.Buffer
	require.NoError(t, WriteMarked(&marked, b, l.Columns, []sheet.Fault{{Row: 3, Column: "address", Value: "30104", Message: "not so"}}))
	f, err := excelize.OpenReader(&marked)
	require.NoError(t, err)
	text, err := f.GetCellValue("list", "A3")
	require.NoError(t, err)
	assert.Equal(t, "30104", text)
	comments, err := f.GetComments("list")
	require.NoError(t, err)
	require.Len(t, comments, 1)
	assert.Equal(t, "A3", comments[0].Cell)
}
