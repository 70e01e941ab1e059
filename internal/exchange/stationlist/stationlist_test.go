package stationlist

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
	"arithmon/internal/core/tie"
	"arithmon/internal/exchange/sheet"
)

func plant(t *testing.T) *site.Site {
	t.Helper()
	d := site.New().Edit()
	for _, name := range []string{"bus", "line"} {
		l := site.NewLink()
		l.Name, l.Host = name, "127.0.0.1"
		if name == "line" {
			l.Protocol, l.Port = site.DNP3, 20000
		}
		d.Add(l)
	}
	d.Add(site.Template{Name: "pump", Parameters: []template.Parameter{{Name: "tag"}, {Name: "base_address", Default: "0"}}, Station: template.Fields{"order": "CDAB"},
		Points: []template.Fields{{"tag": "{tag}/flow", "address": "hr:{base_address+1}", "type": "float32"}}})
	d.Add(site.Template{Name: "rtu", Protocol: site.DNP3, Parameters: []template.Parameter{{Name: "tag"}}, Points: []template.Fields{{"tag": "{tag}/level", "address": "ai:0"}}})
	changes, err := d.Changes()
	require.NoError(t, err)
	return site.New().With(changes)
}

// taken takes a list over, as the service does.
func taken(t *testing.T, now *site.Site, text string, o Options) (*site.Site, List, []sheet.Fault) {
	t.Helper()
	b, err := sheet.Read([]byte(text))
	require.NoError(t, err)
	list, err := Read(b, o)
	require.NoError(t, err)
	d := now.Edit()
	require.NoError(t, list.Into(d, now))
	tie.Follow(d, false)
	changes, err := d.Changes()
	if err != nil || len(list.Faults) > 0 {
		found, _ := err.(site.Errors)
		return now, list, append(list.Faults, list.Place(found)...)
	}
	return now.With(changes), list, nil
}

func TestHabitsOfLists(t *testing.T) {
	now := plant(t)
	for name, c := range map[string]struct {
		text string
		o    Options
	}{
		"as it should be":     {"name,link,unit,template,tag,base_address\np1,bus,1,pump,hall/p1,10\np2,bus,0x02,pump,hall/p2,\n", Options{}},
		"a title and words":   {"Pumps of the hall\nDevice;Slave ID;Model;TAG;Base address (dec)\np1;1;pump;hall/p1;10\np2;2;pump;hall/p2;\n", Options{Link: "bus"}},
		"one template":        {"Gerät\tAdresse\t{tag}\t{base_address}\np1\t1\thall/p1\t10\np2\t2\thall/p2\t0\n", Options{Link: "bus", Template: "pump"}},
		"by hand":             {"A1;B1;C1;D1\np1;1;hall/p1;10\np2;2;hall/p2;\n", Options{Link: "bus", Template: "pump", Columns: sheet.Named{"name": "A", "unit": "2"}}},
		"a parameter by hand": {"name,unit,tag,place,base_address\np1,1,hall/p1,10,77\np2,2,hall/p2,0,78\n", Options{Link: "bus", Template: "pump", Columns: sheet.Named{"values.base_address": "place"}}},
		"repeated headings":   {"name,link,unit,template,tag,base_address\np1,bus,1,pump,hall/p1,10\nname,link,unit,template,tag,base_address\nnorth\np2,bus,2,pump,hall/p2,0\n", Options{}},
		"values for all":      {"name,unit,tag,base_address\np1,1,hall/p1,10\np2,2,hall/p2,\n", Options{Link: "bus", Template: "pump", Values: map[string]string{"base_address": "0"}}},
		"values in one cell":  {"name;unit;values\np1;1;{tag: hall/p1, base_address: 10}\np2;2;{tag: hall/p2}\n", Options{Link: "bus", Template: "pump"}},
		"defaults":            {"name,unit,tag,base_address\np1,1,hall/p1,10\np2,2,hall/p2,\n", Options{Defaults: map[string]any{"link": "bus", "template": "pump"}}},
	} {
		if name == "by hand" { // whose headings say nothing of the parameters
			c.text = strings.Replace(c.text, "C1;D1", "tag;base_address", 1)
		}
		left, list, faults := taken(t, now, c.text, c.o)
		require.Empty(t, faults, name)
		assert.Len(t, list.Items, 2, name)
		p1, _ := left.Point("hall/p1/flow")
		p2, _ := left.Point("hall/p2/flow")
		assert.Equal(t, "hr:11", p1.Address.String(), name)
		assert.Equal(t, "hr:1", p2.Address.String(), name)
		s, _ := left.Station("p2")
		assert.Equal(t, 2, s.Unit, name)
		assert.Equal(t, "CDAB", string(s.Order), name)
	}
}

func TestOutstationsAndLinksOfTheirOwn(t *testing.T) {
	left, list, faults := taken(t, plant(t), "name,ip,port,address,template,tag\nr1,10.0.0.1,,10,rtu,a\nr2,10.0.0.2:20001,,11,rtu,b\nr3,127.0.0.1,,12,rtu,c\nr4,10.0.0.1,20000,13,rtu,d\n", Options{})
	require.Empty(t, faults)
	assert.Empty(t, list.Unused())
	for name, want := range map[string]string{"r1": "r1-link", "r2": "r2-link", "r3": "line", "r4": "r1-link"} {
		s, _ := left.Station(name)
		assert.Equal(t, want, s.Link, name)
		assert.Equal(t, site.DNP3, s.Speaks())
	}
	l, _ := left.Link("r2-link")
	assert.Equal(t, 20001, l.Port)
	_, _, faults = taken(t, plant(t), "name,ip,port,address\nr1,10.0.0.1,modbus,10\n", Options{})
	require.Len(t, faults, 1)
	assert.Equal(t, sheet.Fault{Row: 2, Column: "port", Value: "modbus", Message: `"modbus" is no port; write a number, such as 502`}, faults[0])
}

// What a station speaks shows in its link, or in the column of its address.
func TestStationsWithoutTemplates(t *testing.T) {
	now := plant(t)
	left, list, faults := taken(t, now, "RTU,DNP3 address,IP,Port\nNorth,10,192.0.2.2,20000\nSouth,11,192.0.2.2,20000\n", Options{})
	require.Empty(t, faults)
	assert.Empty(t, list.Unused())
	south, _ := left.Station("South")
	assert.Equal(t, site.DNP3, south.Speaks())
	assert.Equal(t, 11, south.LinkAddress())
	assert.Equal(t, "North-link", south.Link)
	more, _, faults := taken(t, left, "Nom;Adresse;Emplacement\nest;12;toit\n", Options{Link: "North-link"})
	require.Empty(t, faults)
	east, _ := more.Station("est")
	assert.Equal(t, 12, east.LinkAddress())
	assert.Equal(t, "toit", east.Description)
	left, _, faults = taken(t, now, "Meter name,Gateway IP,Modbus address\nMain,192.0.2.5,7\n", Options{})
	require.Empty(t, faults)
	main, _ := left.Station("Main")
	assert.Equal(t, 7, main.Unit)
}

// A name that is not allowed is written as one that is, which is said.
func TestNamesOfStations(t *testing.T) {
	left, list, faults := taken(t, plant(t), "No.;Gerät;IP-Adresse;Slave ID\n1;MTR 3;192.0.2.13;7\n2;Nord/Süd;192.0.2.14;8\n", Options{})
	require.Empty(t, faults)
	assert.Contains(t, list.Notes, `row 2: "MTR 3" is no name of a station; MTR-3 is`)
	for name, link := range map[string]string{"MTR-3": "MTR-3-link", "Nord-Sued": "Nord-Sued-link"} {
		s, there := left.Station(name)
		require.True(t, there, name)
		assert.Equal(t, link, s.Link)
	}
}

func TestListsThatAreNone(t *testing.T) {
	for text, why := range map[string]string{
		"a,b,c\n1,2,3\n":          "no headings are recognised",
		"link,unit\nbus,1\n":      "no headings are recognised",
		"name,unit,tag\np1,1,a\n": "is not there",
	} {
		b, err := sheet.Read([]byte(text))
		require.NoError(t, err)
		_, err = Read(b, Options{Columns: sheet.Named{"link": "Z"}})
		assert.ErrorContains(t, err, why, text)
	}
}

// Lists of random stations are taken over as they were made, whatever the order of their columns, and again without a change.
func TestTrialOfLists(t *testing.T) {
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 3))
		type row struct{ name, tag, base, poll, note string }
		var rows []row
		for n := range r.IntN(30) + 1 {
			rows = append(rows, row{fmt.Sprintf("p%d", n), fmt.Sprintf("t%d/%d", r.IntN(5), n), []string{"", "7", "0x20"}[r.IntN(3)], []string{"", "5s"}[r.IntN(2)], []string{"", "north, east", `said "so"`}[r.IntN(3)]})
		}
		headings := [][]string{{"name", "Device", "Gerät"}, {"unit", "Slave ID", "Adresse"}, {"tag", "TAG", "{tag}"}, {"base_address", "Base Address"}, {"poll", "Abfrage"}, {"comment", "Ort"}}
		order := r.Perm(len(headings))
		var text strings.Builder
		line := func(cell func(i int) string) {
			for n, i := range order {
				if n > 0 {
					text.WriteByte(';')
				}
				text.WriteString(`"` + strings.ReplaceAll(cell(i), `"`, `""`) + `"`)
			}
			text.WriteString("\n")
		}
		line(func(i int) string { return headings[i][r.IntN(len(headings[i]))] })
		for n, row := range rows {
			line(func(i int) string {
				return []string{row.name, fmt.Sprint(n + 1), row.tag, row.base, row.poll, row.note}[i]
			})
		}
		now := plant(t)
		left, list, faults := taken(t, now, text.String(), Options{Link: "bus", Template: "pump"})
		require.Empty(t, faults, "seed %d\n%s", seed, text.String())
		assert.Empty(t, list.Unused())
		for n, row := range rows {
			s, _ := left.Station(row.name)
			assert.Equal(t, n+1, s.Unit)
			assert.Equal(t, row.note, s.Description)
			assert.Equal(t, map[string]string{"": "1s", "5s": "5s"}[row.poll], s.Poll.String())
			p, ok := left.Point(row.tag + "/flow")
			require.True(t, ok, "seed %d: %s", seed, row.tag)
			assert.Equal(t, map[string]string{"": "hr:1", "7": "hr:8", "0x20": "hr:33"}[row.base], p.Address.String())
			assert.Equal(t, row.name, p.Station)
		}
		again, _, _ := taken(t, left, text.String(), Options{Link: "bus", Template: "pump"})
		for _, name := range left.Names(site.KindStation) {
			assert.Equal(t, left.Version(site.KindStation, name), again.Version(site.KindStation, name))
		}
		assert.Equal(t, left.Count(site.KindPoint), again.Count(site.KindPoint))
	}
}

func FuzzRead(f *testing.F) {
	f.Add("name,link,unit\np1,bus,1\n")
	f.Add("name;ip;port;template;tag\np1;10.0.0.1:x;99999;pump;{\n")
	f.Add("name\tenabled\tpoll_groups\tvalues\np\tja\t{a: 1s}\t[1]\n")
	f.Fuzz(func(t *testing.T, text string) {
		b, err := sheet.Read([]byte(text))
		if err != nil {
			return
		}
		list, err := Read(b, Options{Link: "bus", Template: "pump"})
		if err != nil {
			return
		}
		now := plant(t)
		d := now.Edit()
		if list.Into(d, now) != nil {
			return
		}
		tie.Follow(d, false)
		if _, err := d.Changes(); err != nil {
			for _, fault := range list.Place(err.(site.Errors)) {
				if fault.Message == "" {
					t.Fatal("a fault without words")
				}
			}
		}
	})
}
