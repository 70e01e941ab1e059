package pointlist

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"pgregory.net/rapid"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/exchange/sitefile"
)

const empty = `arithmon: 1
links: [{name: line, host: 192.0.2.1}]
stations: [{name: plc, link: line, unit: 1, notation: ref5}, {name: raw, link: line, unit: 2, notation: offset}]
`

// load makes a site of a site file.
func load(t require.TestingT, data string) *site.Site {
	f, err := sitefile.Read("site.yaml", []byte(data))
	require.NoError(t, err)
	s := site.New()
	d := s.Edit()
	f.Into(d, s, false)
	changes, err := d.Changes()
	require.NoError(t, err)
	return s.With(changes)
}

func read(t require.TestingT, text string, o Options) List {
	b, err := sheet.Read([]byte(text))
	require.NoError(t, err)
	l, err := Read(b, o)
	require.NoError(t, err)
	return l
}

// into takes a list over and gives what changed, or its faults with their rows.
func into(t require.TestingT, s *site.Site, l List) (*site.Site, []site.Change, []sheet.Fault) {
	require.Empty(t, l.Faults)
	d := s.Edit()
	require.NoError(t, l.Into(d, s, false))
	changes, err := d.Changes()
	if err != nil {
		return s, nil, l.Place(err.(site.Errors))
	}
	return s.With(changes), changes, nil
}

func TestAManualsTable(t *testing.T) {
	l := read(t, `Register;Name;Datentyp;Faktor;Einheit;Zugriff;Bemerkung
40001;Vorlauf Temperatur;INT16;0,1;[°C];R;
40002;Rücklauf/Temperatur;INT16;x0,1;°C;RO;
30,003;Volumen;UDINT;1/100;m³;R;gesamt
40005;Betrieb;WORD;;-;R/W;0=Aus, 1=Ein
`, Options{Station: "plc"})
	s, changes, faults := into(t, load(t, empty), l)
	require.Empty(t, faults)
	assert.Len(t, changes, 4)
	flow, ok := s.Point("Vorlauf-Temperatur")
	require.True(t, ok, "%v", s.Names(site.KindPoint))
	assert.Equal(t, "hr:0", flow.Address.String())
	assert.Equal(t, codec.TypeInt16, flow.Type)
	assert.Equal(t, 0.1, *flow.Scaling.Factor)
	assert.Equal(t, "°C", flow.Unit)
	volume, _ := s.Point("Volumen")
	assert.Equal(t, "ir:2", volume.Address.String())
	assert.Equal(t, codec.TypeUint32, volume.Type)
	assert.Equal(t, 0.01, *volume.Scaling.Factor)
	assert.Equal(t, "gesamt", volume.Description)
	run, _ := s.Point("Betrieb")
	assert.True(t, run.Writable)
	assert.Empty(t, run.Unit)
	assert.Contains(t, l.Items[0].Made, `"Vorlauf Temperatur" is no tag; Vorlauf-Temperatur is`)
}

func TestAPageOfAManual(t *testing.T) {
	l := read(t, `
 Appendix B   Register map

 Reg.    Parameter            Format     Unit    Access
 40001   Flow rate            FLOAT      m3/h    R
         of the main line
 40003   Pump state           ENUM               R
 Reg.    Parameter            Format     Unit    Access
 40010-40011  Run hours       UINT32     h       R
 * values are held when the supply fails
`, Options{Station: "plc"})
	require.Len(t, l.Items, 3)
	assert.Equal(t, "Flow rate of the main line", l.Items[0].Fields["description"])
	assert.Equal(t, "flow-rate", l.Items[0].Tag())
	assert.Equal(t, 2, l.Left, "the headings again, and the footnote")
	s, _, faults := into(t, load(t, empty), l)
	require.Empty(t, faults)
	hours, _ := s.Point("run-hours")
	assert.Equal(t, "hr:9", hours.Address.String())
}

func TestWhatIsNotUnderstood(t *testing.T) {
	l := read(t, "tag,address,type,factor,access\na,40001,FLOAT33,0.1,R\nb,40002,int16,ten,R\nc,40003,int16,1,sometimes\nd,,int16,1,R\n", Options{Station: "plc"})
	want := []sheet.Fault{
		{Row: 2, Column: "type", Value: "FLOAT33", Message: `"FLOAT33" is no data type`},
		{Row: 3, Column: "factor", Value: "ten", Message: `"ten" is no factor`},
		{Row: 4, Column: "access", Value: "sometimes", Message: `"sometimes" says neither`},
		{Row: 5, Column: "address", Value: "", Message: "the row has no address"},
	}
	require.Len(t, l.Faults, len(want))
	for i, f := range l.Faults {
		assert.Contains(t, f.Message, want[i].Message)
		want[i].Message = f.Message
		assert.Equal(t, want[i], f)
	}
	// What a point may not be has its row and column, too.
	l = read(t, "tag,address,unit,decimals\na,40001,bar,40\nb,999999,m,1\n", Options{Station: "plc"})
	_, _, faults := into(t, load(t, empty), l)
	require.Len(t, faults, 2)
	assert.Equal(t, sheet.Fault{Row: 2, Column: "decimals", Value: "40", Message: faults[0].Message}, faults[0])
	assert.Equal(t, sheet.Fault{Row: 3, Column: "address", Value: "999999", Message: faults[1].Message}, faults[1])
}

// Limits stand in columns of their own, as lists of alarms have them.
func TestLimitsInColumns(t *testing.T) {
	list := read(t, "Tag;Address;Min;Max;LL;Low;High;HH;Hysteresis;Alarm delay;Priority\na;40001;0;10;0,5;1;8;9;0,2;5 s;high\nb;40002;0;10;-;;7;;;;2\nc;40003;0;10;;;;;0,1;3;low\n", Options{Station: "plc"})
	require.Empty(t, list.Faults)
	assert.Equal(t, map[string]any{"low_low": 0.5, "low": 1.0, "high": 8.0, "high_high": 9.0, "deadband": 0.2, "delay": "5s", "severity": 2}, list.Items[0].Fields["limits"])
	assert.Equal(t, [2]float64{0, 10}, list.Items[0].Fields["range"])
	assert.Equal(t, map[string]any{"high": 7.0, "severity": 2}, list.Items[1].Fields["limits"])
	assert.NotContains(t, list.Items[2].Fields, "limits")
	now, _, faults := into(t, load(t, empty), list)
	require.Empty(t, faults)
	a, _ := now.Point("a")
	assert.Equal(t, 9.0, *a.Limits.HighHigh)
	crossed := read(t, "Tag;Address;LL;Low;High;HH\na;40001;0;5;4;9\n", Options{Station: "plc"})
	_, _, faults = into(t, load(t, empty), crossed)
	require.Len(t, faults, 1)
	assert.Equal(t, "High", faults[0].Column)

	list = read(t, "Tag;Address;Type;Low;High;Alarm when;Alarm high\na;40001;int16;0;100;;80\nb;00001;bool;;;1;\nc;40003;int16;0;10;;much\n", Options{Station: "plc"})
	assert.Equal(t, [2]float64{0, 100}, list.Items[0].Fields["range"], "without outer limits these are the ends of a range")
	assert.Equal(t, map[string]any{"high": 80.0}, list.Items[0].Fields["limits"])
	assert.Equal(t, map[string]any{"state": "1"}, list.Items[1].Fields["limits"])
	require.Len(t, list.Faults, 1)
	assert.Equal(t, "Alarm high", list.Faults[0].Column)
}

func TestTagsOfAllKinds(t *testing.T) {
	l := read(t, "tag,address,description\nPump 1 (north),40001,\n,40002,Alarm of pump 1\nlevel,40003,\nlevel,40004,\n,40005,\n", Options{Station: "plc", Prefix: "area/"})
	var tags []string
	for _, i := range l.Items {
		tags = append(tags, i.Tag())
	}
	assert.Equal(t, []string{"area/Pump-1-north", "area/alarm-of-pump-1", "area/level", "area/level-2", "area/point-40005"}, tags)
}

func TestCells(t *testing.T) {
	for text, want := range map[string]float64{"0.1": 0.1, "0,1": 0.1, "1,250": 1.25, "1,234,567": 1234567, "1.234,5": 1234.5, "1,234.5": 1234.5, "1'000": 1000, " -3 ": -3, "1e-3": 0.001, "−5": -5} {
		f, ok := number(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, f, text)
	}
	for _, text := range []string{"", "abc", "0x10", "1-2", "NaN", "inf", "1..2"} {
		_, ok := number(text)
		assert.False(t, ok, text)
	}
	for text, want := range map[string]float64{"0.1": 0.1, "x0.1": 0.1, "× 10": 10, "/100": 0.01, "1/10": 0.1, ":10": 0.1, "10^-2": 0.01, "1E-3": 0.001} {
		f, err := factorOf(text)
		require.NoError(t, err, text)
		assert.InEpsilon(t, want, f, 1e-12, text)
	}
	for _, text := range []string{"0", "/0", "ten", "", "10^99"} {
		_, err := factorOf(text)
		assert.Error(t, err, text)
	}
	s, err := scalingOf("0..1000 = 0..100")
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"raw": [2]float64{0, 1000}, "eng": [2]float64{0, 100}}, s)
	s, err = scalingOf("0-27648 → -40 … 120")
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"raw": [2]float64{0, 27648}, "eng": [2]float64{-40, 120}}, s)
	for text, want := range map[string]string{"FLOAT": "float32", "REAL": "float32", "INT16": "int16", "U32": "uint32", "DWORD": "uint32", "S16": "int16", "ASCII 8": "string 8", "Unsigned 16-bit": "uint16", "32 bit float": "float32", "STRING[20]": "string 20",
		"float32 CDAB": "float32 CDAB", "Float (word swapped)": "float32 CDAB", "LREAL": "float64", "Bool": "bool", "Bitmap": "bits", "uint16": "uint16"} {
		typ, length, order, _, err := typeOf(text, 0)
		require.NoError(t, err, text)
		got := string(typ)
		if length > 0 {
			got += fmt.Sprint(" ", length)
		}
		if order != "" {
			got += " " + string(order)
		}
		assert.Equal(t, want, got, text)
	}
	typ, _, _, _, err := typeOf("INT", 2)
	require.NoError(t, err)
	assert.Equal(t, codec.TypeInt32, typ)
	for text, want := range map[string]site.Space{"Holding Register": site.HoldingRegisters, "3x": site.InputRegisters, "FC03": site.HoldingRegisters, "03/06": site.HoldingRegisters, "function 4": site.InputRegisters, "coil": site.Coils, "1": site.Coils} {
		space, err := tableOf(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, space, text)
	}
	states, err := statesOf("0=off, 1=on; 5: tripped")
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"0": "off", "1": "on", "5": "tripped"}, states)
}

// How the addresses of a list count shows in it, whatever the notation of their station is; and is said by hand where it does not.
func TestHowAddressesCount(t *testing.T) {
	for name, c := range map[string]struct {
		text    string
		options Options
		want    map[string]string
	}{
		"hexadecimal beside decimal": {"Function Code,Address (dec),Address (hex),Name,Data Type,Size\n3,4096,0x1000,a,Signed Int32,2\n4,40960,0xA000,b,String,8\n1,3,0x0003,c,Bit,1\n", Options{}, map[string]string{"a": "hr:4096", "b": "ir:40960", "c": "co:3"}},
		"offsets by their heading":   {"Tag\tOffset\tFormat\na\t0\tfloat32\nb\t100.3\tbool\n", Options{}, map[string]string{"a": "hr:0", "b": "hr:100.3"}},
		"references among others":    {"Name;Modbus Register;Type\na;30,001;INT\nb;30,003;INT\nc;4x0010;REAL\nd;40020.5;BOOL\n", Options{}, map[string]string{"a": "ir:0", "b": "ir:2", "c": "hr:9", "d": "hr:19.5"}},
		"numbers, by hand":           {"Name;Reg;Type\na;1;INT\nb;7;INT\n", Options{Notation: site.Number, Defaults: map[string]any{"table": "ir"}}, map[string]string{"a": "ir:0", "b": "ir:6"}},
	} {
		for _, station := range []string{"plc", "raw"} {
			o := c.options
			o.Station = station
			l := read(t, c.text, o)
			s, _, faults := into(t, load(t, empty), l)
			require.Empty(t, faults, "%s at %s", name, station)
			for tag, want := range c.want {
				p, _ := s.Point(tag)
				assert.Equal(t, want, p.Address.String(), "%s of %s at %s", tag, name, station)
			}
		}
	}
	for text, want := range map[string]codec.Type{"Signed Int32": codec.TypeInt32, "Unsigned integer (16 bit)": codec.TypeUint16, "IEEE 754 float": codec.TypeFloat32, "Real, 64 bits": codec.TypeFloat64} {
		typ, _, _, _, err := typeOf(text, 0)
		require.NoError(t, err, text)
		assert.Equal(t, want, typ, text)
	}
}

func TestTablesAndBitsBesideAddresses(t *testing.T) {
	l := read(t, "Name,Table,Offset,Bit,Data type\na,Holding,10,,uint16\nb,3x,0x20,,int16\nc,Holding,12,3,\nd,Coil,7,,bool\n", Options{Station: "raw"})
	s, _, faults := into(t, load(t, empty), l)
	require.Empty(t, faults)
	for tag, want := range map[string]string{"a": "hr:10", "b": "ir:32", "c": "hr:12.3", "d": "co:7"} {
		p, _ := s.Point(tag)
		assert.Equal(t, want, p.Address.String(), tag)
	}
}

// What was exported changes nothing when it is imported; what was edited comes back as that alone.
func TestAnExportComesBackAsItWas(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := load(rt, empty)
		d := s.Edit()
		for i := range rapid.IntRange(1, 12).Draw(rt, "points") {
			p := site.NewPoint()
			p.Tag, p.Station = fmt.Sprintf("a/p%d", i), rapid.SampledFrom([]string{"plc", "raw"}).Draw(rt, "station")
			p.Type = rapid.SampledFrom([]codec.Type{codec.TypeUint16, codec.TypeInt32, codec.TypeFloat32, codec.TypeString, codec.TypeBool}).Draw(rt, "type")
			p.Address = site.Address{Space: site.HoldingRegisters, Offset: uint16(10 * i)}
			switch p.Type {
			case codec.TypeString:
				p.Length = 8
			case codec.TypeBool:
				p.Address.Part = site.Bit(rapid.IntRange(0, 15).Draw(rt, "bit"))
				p.Invert = rapid.Bool().Draw(rt, "invert")
			default:
				p.Unit = rapid.SampledFrom([]string{"", "bar", "m³/h", "%", "1"}).Draw(rt, "unit")
				if rapid.Bool().Draw(rt, "scaled") {
					f := rapid.SampledFrom([]float64{0.1, 12.5, -3}).Draw(rt, "factor")
					p.Scaling.Factor = &f
				}
				if rapid.Bool().Draw(rt, "limited") {
					p.Range = &[2]float64{-1.5, 99}
				}
				n := rapid.IntRange(0, 3).Draw(rt, "decimals")
				p.Decimals = &n
			}
			if p.Type == codec.TypeUint16 {
				p.States = site.States{0: "off", 7: rapid.SampledFrom([]string{"on, or so", "=1", "a;b"}).Draw(rt, "state")}
				p.Scaling.Factor, p.Decimals, p.Range = nil, nil, nil
			}
			p.Description = rapid.SampledFrom([]string{"", "Pump 1; \"north\"", "=SUM(A1)", "1", "true", "ü, ß", "- none"}).Draw(rt, "description")
			p.Writable = rapid.Bool().Draw(rt, "writable")
			d.Put(p)
		}
		changes, err := d.Changes()
		require.NoError(rt, err)
		s = s.With(changes)
		tags := s.Names(site.KindPoint)
		for form, write := range map[string]func(*bytes.Buffer) error{"csv": func(b *bytes.Buffer) error { return WriteCSV(b, s, tags) }, "xlsx": func(b *bytes.Buffer) error { return WriteSpreadsheet(b, s, tags) }} {
			var out bytes.Buffer
			require.NoError(rt, write(&out))
			l := read(rt, out.String(), Options{})
			require.Len(rt, l.Items, len(tags))
			_, changes, faults := into(rt, s, l)
			assert.Empty(rt, faults, form)
			assert.Empty(rt, changes, form)
		}
	})
}

func TestAnEditedExport(t *testing.T) {
	s := load(t, empty+"points:\n  - {tag: a, station: plc, address: 40001, unit: bar, description: old}\n  - {tag: b, station: plc, address: 40002}\n")
	var out bytes.Buffer
	require.NoError(t, WriteSpreadsheet(&out, s, []string{"a", "b"}))
	f, err := excelize.OpenReader(&out)
	require.NoError(t, err)
	defer f.Close()
	column := slices.Index(Headings(), "description") + 1
	at, err := excelize.CoordinatesToCellName(column, 2)
	require.NoError(t, err)
	require.NoError(t, f.SetCellValue("points", at, "new"))
	b, err := f.WriteToBuffer()
	require.NoError(t, err)
	s, changes, faults := into(t, s, read(t, b.String(), Options{}))
	require.Empty(t, faults)
	require.Len(t, changes, 1)
	a, _ := s.Point("a")
	assert.Equal(t, "new", a.Description)
	assert.Equal(t, "bar", a.Unit)
}

// A tag that was edited renames its point, which stays the same.
func TestATagThatWasEdited(t *testing.T) {
	s := load(t, empty+"points:\n  - {tag: a, station: plc, address: 40001, unit: bar}\n  - {tag: b, station: plc, address: 40002}\n")
	var out bytes.Buffer
	require.NoError(t, WriteCSV(&out, s, []string{"a", "b"}))
	text := strings.Replace(out.String(), "\na,plc", "\npressure,plc", 1)
	s, changes, faults := into(t, s, read(t, text, Options{}))
	require.Empty(t, faults)
	require.Len(t, changes, 1)
	assert.Equal(t, "a", changes[0].Before.Key())
	assert.Equal(t, "pressure", changes[0].After.Key())
	p, _ := s.Point("pressure")
	assert.Equal(t, "bar", p.Unit)
	_, changes, faults = into(t, s, read(t, text, Options{}))
	assert.Empty(t, faults, "once more")
	assert.Empty(t, changes)
}

// Tags move on by one, whatever the order of the rows.
func TestTagsThatMoveOn(t *testing.T) {
	s := load(t, empty+"points:\n  - {tag: p1, station: plc, address: 40001}\n  - {tag: p2, station: plc, address: 40002}\n  - {tag: p3, station: plc, address: 40003}\n")
	var out bytes.Buffer
	require.NoError(t, WriteCSV(&out, s, []string{"p1", "p2", "p3"}))
	text := strings.NewReplacer("\np1,plc", "\np2,plc", "\np2,plc", "\np3,plc", "\np3,plc", "\np4,plc").Replace(out.String())
	s, changes, faults := into(t, s, read(t, text, Options{}))
	require.Empty(t, faults)
	assert.Len(t, changes, 3)
	for tag, address := range map[string]string{"p2": "hr:0", "p3": "hr:1", "p4": "hr:2"} {
		p, _ := s.Point(tag)
		assert.Equal(t, address, p.Address.String(), tag)
	}
}

// Lists as people have them: a number of the row beside the address, steps with their unit, what stands for nothing, registers of no use, ranges
// written in many ways, names and units in places of their own.
func TestListsOfManyHabits(t *testing.T) {
	of := func(l List, tag string) map[string]any {
		for _, i := range l.Items {
			if i.Tag() == tag {
				return i.Fields
			}
		}
		return nil
	}
	l := read(t, `No.,Parameter name,Modbus Address,Length (words),Access,Data Type,Resolution,Note
1,Set temperature,0,1,R/W,S16,0.1 °C,
2,Energy total,100,2,R,U32,1 kWh,
3,Operating mode,200,1,RW,U16,-,0: off; 1: heat; 2: cool
4,Pressure [bar],202,1,-,U16,/10,see page 4
5,Reserved,203,2,-,-,,
6,Spare,205,1,R,U16,,
`, Options{Station: "plc"})
	require.Empty(t, l.Faults)
	require.Len(t, l.Items, 4)
	assert.Equal(t, map[string]any{"tag": "Set-temperature", "station": "plc", "address": "hr:0", "type": "int16", "writable": true, "unit": "°C", "scaling": map[string]any{"factor": 0.1}}, of(l, "Set-temperature"))
	assert.Equal(t, "kWh", of(l, "Energy-total")["unit"])
	assert.Equal(t, map[string]any{"0": "off", "1": "heat", "2": "cool"}, of(l, "Operating-mode")["states"])
	assert.Equal(t, "bar", of(l, "Pressure")["unit"])

	for written, address := range map[string]string{"40005..40006": "hr:4..5", "40005 to 40006": "hr:4..5", "40005/40006": "hr:4..5", "40005 – 40006": "hr:4..5", "40005+40006": "hr:4..5", "40005-40006": "hr:4..5"} {
		l = read(t, "Register\tName\tType\tDescription\n40001\ta\tINT\t\n40002\tb\tINT\t\n"+written+"\thours\tDINT\tRunning hours [h]\n", Options{Station: "plc"})
		require.Empty(t, l.Faults, written)
		assert.Equal(t, address, of(l, "hours")["address"], written)
		assert.Equal(t, "h", of(l, "hours")["unit"], written)
	}
	l = read(t, "Register\tName\tType\n40001\ta\tINT\n40002\tb\tINT\n40009..40003\tc\tINT\n", Options{Station: "plc"})
	require.Len(t, l.Faults, 1)
	assert.Contains(t, l.Faults[0].Message, "does not go from one address to a later one")
	s := load(t, empty)
	_, _, faults := into(t, s, read(t, "Register\tName\tType\n40001\ta\tINT\n40002\tb\tINT\n40003..40004\tc\tINT\n", Options{Station: "plc"}))
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].Message, "names 2 addresses, and int16 takes 1")

	l = read(t, `Register (dec);Register (hex);Name;Datentyp;Skalierung;Zugriff;Kommentar
4096;1000;A;FLOAT (IEEE754);;Read only;
4100;1004;B;Signed 32 bits;×10⁻¹;lesen;
4114;1012-1013;C;UINT32 LE;;nur lesen;
4118;1016;D;U16/10;;lesen und schreiben;
4126;101E;E;ASCII 10 regs;;r;
`, Options{Station: "plc"})
	require.Empty(t, l.Faults)
	assert.Equal(t, []any{"hr:4096", "hr:4100", "hr:4114..4115", "hr:4118", "hr:4126"}, []any{of(l, "A")["address"], of(l, "B")["address"], of(l, "C")["address"], of(l, "D")["address"], of(l, "E")["address"]})
	assert.Equal(t, map[string]any{"factor": 0.1}, of(l, "B")["scaling"])
	assert.Equal(t, "CDAB", of(l, "C")["order"])
	assert.Equal(t, map[string]any{"factor": 0.1}, of(l, "D")["scaling"])
	assert.Equal(t, true, of(l, "D")["writable"])
	assert.Equal(t, 20, of(l, "E")["length"])

	l = read(t, `Address,Name,FC,Type
40001 bit 3,A,FC3/FC6,BOOL
40001:4,B,03 (0x03),BOOL
40001/5,C,R: 0x03 W: 0x06,BOOL
40001.15,D,3,BOOL
4:0002,E,"3,6,16",INT16
40003,F,0x03,INT16
40004-40005,G,Read Holding Registers,INT32
30001,H,4,INT16
`, Options{Station: "plc"})
	require.Empty(t, l.Faults)
	var at []any
	for _, i := range l.Items {
		at = append(at, i.Fields["address"])
	}
	assert.Equal(t, []any{"hr:0.3", "hr:0.4", "hr:0.5", "hr:0.15", "hr:1", "hr:2", "hr:3..4", "ir:0"}, at, "the function says the same as the first digit")
	l = read(t, "Address,Name,FC,Type,Note\n40001/2,A,3,FLOAT,\"4-20 mA, 0-10 V\"\n40009/10,B,3,,0.1\n40011/3,C,3,BOOL,\"12:00, 14:30\"\n", Options{Station: "plc"})
	require.Empty(t, l.Faults)
	assert.Equal(t, []any{"hr:0..1", "hr:8..9", "hr:10.3"}, []any{l.Items[0].Fields["address"], l.Items[1].Fields["address"], l.Items[2].Fields["address"]}, "a slash")
	for _, i := range l.Items {
		assert.Nil(t, i.Fields["states"], i.Tag())
		assert.Nil(t, i.Fields["scaling"], i.Tag())
	}
	l = read(t, "Address,Name,FC,Type\n40003,F,4,INT16\n", Options{Station: "plc"})
	assert.Equal(t, "40003", l.Items[0].Fields["address"], "here it does not")

	l = read(t, "Register;Offset;Name;Type\n40001;0;A;INT\n40002;1;B;INT\n40010;9;C;INT\n", Options{Station: "plc"})
	require.Empty(t, l.Faults)
	assert.Nil(t, of(l, "C")["scaling"], "an address once more")
	l = read(t, "Register;Offset;Name;Type\n40001;0;A;INT\n40002;-40;B;INT\n40010;9;C;INT\n", Options{Station: "plc"})
	assert.Equal(t, map[string]any{"offset": -40.0}, of(l, "B")["scaling"])

	l = read(t, "Register;Name;Type;Scale\n40001;A;INT;10\n40002;B;INT;1\n40003;C;INT;x10\n", Options{Station: "plc"})
	assert.Contains(t, l.Notes, "raw values are multiplied by column Scale; where that is what the device has multiplied them by, say --columns 'divisor=Scale'")
	l = read(t, "Register;Name;Type;Scale\n40001;A;INT;10\n40002;B;INT;1\n40003;C;INT;1\n", Options{Station: "plc", Columns: sheet.Named{"divisor": "Scale"}})
	assert.Equal(t, map[string]any{"factor": 0.1}, of(l, "A")["scaling"])
	assert.NotContains(t, fmt.Sprint(l.Notes), "multiplied")

	both := "Name,Modbus Address,DNP3 Index,Object type\na,40001,0,Analog Input\nb,40002,1,Analog Input\nc,40003,2,Binary Input\n"
	l = read(t, both, Options{Station: "rtu", Speaks: func(string) site.Protocol { return site.DNP3 }})
	require.Empty(t, l.Faults)
	assert.Equal(t, []any{"ai:0", "ai:1", "bi:2"}, []any{of(l, "a")["address"], of(l, "b")["address"], of(l, "c")["address"]})
	l = read(t, strings.ReplaceAll(both, "Binary Input", "Holding Register"), Options{Station: "plc"})
	assert.Equal(t, "hr:2", of(l, "c")["address"])

	l = read(t, "Reg,Name,Type\nHR0,A,INT16\nHoldingRegister 1,B,INT16\nIR 5,C,INT16\n", Options{Station: "plc"})
	require.Empty(t, l.Faults)
	assert.Equal(t, []any{"hr:0", "hr:1", "ir:5"}, []any{of(l, "A")["address"], of(l, "B")["address"], of(l, "C")["address"]})
	l = read(t, "Reg,Name,Type\nHR1,A,INT16\n", Options{Station: "plc"})
	require.Len(t, l.Faults, 1)
	assert.Contains(t, l.Faults[0].Message, "whether the first one has the number 0 or 1")
	l = read(t, "Reg,Name,Type\nHR1,A,INT16\n", Options{Station: "plc", Notation: site.Number})
	require.Empty(t, l.Faults)
	assert.Equal(t, "hr:0", of(l, "A")["address"])

	l = read(t, "Address;Parameter;Unit;Format;Remarks\n0x0000;Power;W;int32;+ import\n0x0002;Factor;-;int16;x 0.001\n", Options{Station: "plc"})
	require.Empty(t, l.Faults)
	assert.Equal(t, "+ import", of(l, "Power")["description"])
	assert.Equal(t, map[string]any{"factor": 0.001}, of(l, "Factor")["scaling"])

	l = read(t, "No.;Signal;Type\n10;a;INT\n11;b;INT\n", Options{Station: "plc"})
	assert.Equal(t, "10", of(l, "a")["address"], "where nothing else is one")

	l = read(t, "\"IEC name\";\"Objekt\";\"Index\";\"Einheit\"\n\"Q1\";\"DI\";\"0\";\"\"\n\"I L1\";\"AI\";\"3\";\"A\"\n\"Z\";\"CT\";\"1\";\"kWh\"\n", Options{Station: "rtu", Speaks: func(string) site.Protocol { return site.DNP3 }})
	require.Empty(t, l.Faults)
	assert.Equal(t, []any{"bi:0", "ai:3", "ctr:1"}, []any{of(l, "Q1")["address"], of(l, "I-L1")["address"], of(l, "Z")["address"]})
}

// Points that change places are the same ones still, and a point that is added gets the tag that one gave up.
func TestTagsThatChangePlaces(t *testing.T) {
	s := load(t, empty+"points:\n  - {tag: p1, station: plc, address: 40001, unit: A}\n  - {tag: p2, station: plc, address: 40002}\n  - {tag: p3, station: plc, address: 40003, unit: V}\n")
	var out bytes.Buffer
	require.NoError(t, WriteCSV(&out, s, []string{"p1", "p2", "p3"}))
	text := strings.NewReplacer("\np1,plc", "\np2,plc", "\np2,plc", "\np1,plc", "\np3,plc", "\np4,plc").Replace(out.String())
	columns := strings.Count(text[:strings.Index(text, "\n")], ",")
	text += "p3,plc,40009" + strings.Repeat(",", columns-2) + "\n"
	s, changes, faults := into(t, s, read(t, text, Options{}))
	require.Empty(t, faults)
	assert.Len(t, site.Settled(changes), 4)
	for tag, want := range map[string]string{"p1": "hr:1", "p2": "hr:0 A", "p3": "hr:8", "p4": "hr:2 V"} {
		p, _ := s.Point(tag)
		assert.Equal(t, want, strings.TrimSpace(p.Address.String()+" "+p.Unit), tag)
	}
}

// What somebody else changed since the export is not taken back without being said.
func TestAListThatIsOlderThanThePoint(t *testing.T) {
	s := load(t, empty+"points:\n  - {tag: a, station: plc, address: 40001, unit: bar}\n  - {tag: b, station: plc, address: 40002}\n  - {tag: c, station: plc, address: 40003}\n")
	var out bytes.Buffer
	require.NoError(t, WriteCSV(&out, s, []string{"a", "b", "c"}))
	d := s.Edit()
	a, _ := s.Point("a")
	a.Unit = "mbar"
	d.Put(a)
	d.Remove(site.KindPoint, "b", false)
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	l := read(t, out.String(), Options{})
	_, _, faults := into(t, s, l)
	require.Len(t, faults, 2)
	assert.Equal(t, sheet.Fault{Row: 2, Column: "unit", Value: "bar", Message: faults[0].Message}, faults[0])
	assert.Contains(t, faults[0].Message, `this is "mbar" now`)
	assert.Contains(t, faults[1].Message, "was removed or renamed since")
	d = s.Edit()
	require.NoError(t, l.Into(d, s, true))
	changes, err = d.Changes()
	require.NoError(t, err)
	assert.Len(t, changes, 2, "with force, knowingly")
}

func FuzzCells(f *testing.F) {
	for _, seed := range []string{"x0.1", "0..1 = 0..2", "FLOAT", "ASCII 8", "0=off", "R/W", "1.234,5", "Pump 1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if n, ok := number(text); ok && n != n {
			t.Fatal(text)
		}
		scalingOf(text)
		typeOf(text, 2)
		tableOf(text)
		accessOf(text)
		statesOf(text)
		if tag := tagOf(text); strings.Contains(tag, "//") || strings.HasPrefix(tag, "/") || strings.HasSuffix(tag, "/") {
			t.Fatalf("%q of %q", tag, text)
		}
	})
}

// Whatever a list holds, reading it ends, and every fault has a row of it.
func FuzzRead(f *testing.F) {
	f.Add("tag,address,type\na,40001,int16\n", "")
	f.Add("Reg.  Name\n40001  x\n       y\n", "plc")
	f.Fuzz(func(t *testing.T, text, station string) {
		b, err := sheet.Read([]byte(text))
		if err != nil {
			return
		}
		l, err := Read(b, Options{Station: station})
		if err != nil {
			return
		}
		rows := map[int]bool{}
		for _, r := range b.Grids[0].Rows {
			rows[r.Number] = true
		}
		for _, fault := range l.Faults {
			if !rows[fault.Row] || fault.Message == "" {
				t.Fatalf("%+v", fault)
			}
		}
		tags := map[string]bool{}
		for _, i := range l.Items {
			if tags[i.Tag()] {
				t.Fatalf("%s twice", i.Tag())
			}
			tags[i.Tag()] = true
		}
		s := site.New()
		d := s.Edit()
		if err := l.Into(d, s, false); err != nil && utf8.ValidString(station) {
			t.Fatal(err)
		}
		if _, err := d.Changes(); err != nil {
			l.Place(err.(site.Errors))
		}
		_ = maps.Keys(tags)
	})
}

// What manuals write where nobody looks for it: the table in a title, the words' order and the names of values behind a type, a unit behind a range.
func TestWhatStandsBeside(t *testing.T) {
	l := read(t, "Register map,,,,\n,,,,\nHolding Registers (FC03),,,,\nAddr (hex),Name,Type,Unit,Range\n0x0000,pressure,U16,bar,-\n0x0002,total,U32 (HL),m3,\n0x0004,power,U32 (low word first),,-5..5 m3/h\n0x0006.0,running,BOOL,,\n"+
		"0x0007,mode,\"ENUM (0=off, 1=hand)\",,\nInput Registers,,,,\n0x0000,temperature,S16,,0..1000 = 0..100.0 °C\n0x0001,alarm,U16,,\"0=none, 1=high\"\n", Options{Station: "plc"})
	assert.Empty(t, l.Faults)
	type row struct {
		address, typ, order, unit string
		states, scaling, span     any
	}
	got := map[string]row{}
	text := func(v any) string { s, _ := v.(string); return s }
	for _, i := range l.Items {
		f := i.Fields
		got[i.Tag()] = row{text(f["address"]), text(f["type"]), text(f["order"]), text(f["unit"]), f["states"], f["scaling"], f["range"]}
	}
	assert.Equal(t, map[string]row{
		"pressure":    {"hr:0", "uint16", "", "bar", nil, nil, nil},
		"total":       {"hr:2", "uint32", "ABCD", "m3", nil, nil, nil},
		"power":       {"hr:4", "uint32", "CDAB", "m3/h", nil, nil, [2]float64{-5, 5}},
		"running":     {"hr:6.0", "bool", "", "", nil, nil, nil},
		"mode":        {"hr:7", "uint16", "", "", map[string]any{"0": "off", "1": "hand"}, nil, nil},
		"temperature": {"ir:0", "int16", "", "°C", nil, map[string]any{"raw": [2]float64{0, 1000}, "eng": [2]float64{0, 100}}, nil},
		"alarm":       {"ir:1", "uint16", "", "", map[string]any{"0": "none", "1": "high"}, nil, nil},
	}, got)
	assert.Contains(t, strings.Join(l.Notes, "\n"), `row 10, "Input Registers": addresses below that name no table are of that one, ir`)

	l = read(t, "tag,address,description\na,0x0001,temperature\n,,of the coil\nb,0x0002,level\n", Options{Station: "plc", Notation: site.Offset})
	assert.Empty(t, l.Faults)
	assert.Equal(t, "hr:2", l.Items[1].Fields["address"], "a row that goes on is no title")

	// A cross names a table, and 0x0010 is then the tenth coil; in a list without crosses it is hexadecimal.
	l = read(t, "tag,address\na,4x0010\nb,0x0010\n", Options{Station: "plc"})
	assert.Empty(t, l.Faults)
	assert.Equal(t, "co:9", l.Items[1].Fields["address"])
	l = read(t, "tag,address\na,0x0011\nb,0x0010\n", Options{Station: "plc"})
	assert.Empty(t, l.Faults)
	assert.Equal(t, "hr:16", l.Items[1].Fields["address"])
	assert.Contains(t, strings.Join(l.Notes, "\n"), "no table is named, so that holding registers are meant")

	// What a spreadsheet makes of a whole number, and the first bit of a register.
	l = read(t, "tag,address,type\na,40010.0,uint16\nb,40010.0,bool\n", Options{Station: "plc"})
	assert.Empty(t, l.Faults)
	assert.Equal(t, "hr:9", l.Items[0].Fields["address"])
	assert.Equal(t, "hr:9.0", l.Items[1].Fields["address"])
}

func TestAListOfAnOutstation(t *testing.T) {
	o := Options{Station: "rtu", Speaks: func(string) site.Protocol { return site.DNP3 }}
	addresses := func(l List) (out []string) {
		for _, i := range l.Items {
			a, _ := i.Fields["address"].(string)
			out = append(out, a)
		}
		return out
	}
	l := read(t, "tag,object type,index\na,Analog Input,0\nb,BI,3\nc,Double-bit input,1\nd,AO,2\ne,30,4\nf,g21v1,5\ng,Frozen counter,6\nh,Digital Output,7\ni,Analogeingang,8\nj,Zähler,9\nk,,ai:10\nl,Octet string,11.0\n", o)
	assert.Empty(t, l.Faults)
	assert.Equal(t, []string{"ai:0", "bi:3", "dbi:1", "ao:2", "ai:4", "fctr:5", "fctr:6", "bo:7", "ai:8", "ctr:9", "ai:10", "os:11"}, addresses(l))

	l = read(t, "Analog Inputs (group 30),\nIndex,Name\n0,bus voltage\n1,current\nDouble-bit binary inputs,\n0,breaker\nFrozen Counters,\n0,energy\nCounters,\n0,energy now\n", o)
	assert.Empty(t, l.Faults)
	assert.Equal(t, []string{"ai:0", "ai:1", "dbi:0", "fctr:0", "ctr:0"}, addresses(l))

	l = read(t, "tag,object type,index\na,Analog,0\nb,,1\nc,99,2\n", o)
	require.Len(t, l.Faults, 3)
	assert.Contains(t, l.Faults[0].Message, `"Analog" is no kind of DNP3 point`)
	assert.Contains(t, l.Faults[1].Message, `"1" names no kind of point: write ai:1`)
	assert.Contains(t, l.Faults[2].Message, `"99" is no kind of DNP3 point`)
}

func TestDivisorsAndSwaps(t *testing.T) {
	l := read(t, "tag,address,type,factor,divisor,swap\na,40001,int16,,10,\nb,40002,int32,5,100,word\nc,40004,int16,,1,none\nd,40005,float32,,,byte\n", Options{Station: "plc"})
	assert.Empty(t, l.Faults)
	var scalings, orders []any
	for _, i := range l.Items {
		scalings, orders = append(scalings, i.Fields["scaling"]), append(orders, i.Fields["order"])
	}
	assert.Equal(t, []any{map[string]any{"factor": 0.1}, map[string]any{"factor": 0.05}, nil, nil}, scalings)
	assert.Equal(t, []any{nil, "CDAB", nil, "BADC"}, orders)
	l = read(t, "tag,address,divisor\na,40001,0\n", Options{Station: "plc"})
	require.Len(t, l.Faults, 1)
	assert.Contains(t, l.Faults[0].Message, "divided by zero")
}
