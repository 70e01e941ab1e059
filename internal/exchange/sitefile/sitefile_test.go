package sitefile

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
)

const gate = `arithmon: 1
links:
  - {name: gate, protocol: modbus, transport: tcp, host: 127.0.0.1, port: 1502, timeout: 500ms}
stations:
  - name: plc
    link: gate
    unit: 1
    notation: ref6
    order: CDAB
points:
  - tag: gate1/position
    station: plc
    address: 400010
    type: float32
    scaling: {raw: [0, 1], eng: [0, 100]}
    unit: "%"
    decimals: 1
    description: "Gate 1: opening"
  - {tag: gate1/open-cmd, station: plc, address: co:4, type: bool, states: [idle, open], writable: true}
  - {tag: gate1/mode, station: plc, address: 400020, type: uint16, states: {0: off, 5: tripped}}
  - {tag: gate1/limit, station: plc, address: "000005", type: bool}
`

// load reads a file into an empty site.
func load(t *testing.T, data string) (*site.Site, error) {
	t.Helper()
	f, err := Read("gate.yaml", []byte(data))
	if err != nil {
		return nil, err
	}
	s := site.New()
	d := s.Edit()
	f.Into(d, s, false)
	tie.Follow(d, false)
	changes, err := d.Changes()
	if err != nil {
		return nil, f.Place(err)
	}
	s = s.With(changes)
	return s, nil
}

func written(s *site.Site) (string, error) {
	var out strings.Builder
	err := Write(&out, s, Options{})
	return out.String(), err
}

func TestSiteFileRoundTrip(t *testing.T) {
	s, err := load(t, gate)
	require.NoError(t, err)
	p, _ := s.Point("gate1/position")
	assert.Equal(t, "hr:9", p.Address.String())
	assert.Equal(t, &[2]float64{0, 100}, p.Scaling.Eng)
	mode, _ := s.Point("gate1/mode")
	assert.Equal(t, site.States{0: "off", 5: "tripped"}, mode.States)
	limit, _ := s.Point("gate1/limit")
	assert.Equal(t, "co:4", limit.Address.String())

	out, err := written(s)
	require.NoError(t, err)
	assert.Contains(t, out, "address: 400010\n", "reference numbers without quotes")
	assert.Contains(t, out, "states: {0: off, 5: tripped}")
	assert.NotContains(t, out, "retries", "defaults are left out")
	back, err := load(t, out)
	require.NoError(t, err, out)
	assert.Equal(t, s.Points(), back.Points())
	assert.Equal(t, s.Stations(), back.Stations())
	assert.Equal(t, s.Links(), back.Links())
}

// An address of a station that is not there is not judged: its notation is not known.
func TestUnknownStationBeforeItsAddresses(t *testing.T) {
	_, err := load(t, strings.Replace(gate, "station: plc", "station: pcl", 1))
	require.Error(t, err)
	assert.Equal(t, `gate.yaml:12: point gate1/position: points[0].station: there is no station "pcl"; did you mean plc?`, err.Error())
}

func TestSiteFileInJSON(t *testing.T) {
	s, err := load(t, `{"arithmon": 1, "links": [{"name": "gate", "host": "h"}],
	"stations": [{"name": "plc", "link": "gate", "notation": "ref5"}],
	"points": [{"tag": "a", "station": "plc", "address": 40010, "type": "int16"}]}`)
	require.NoError(t, err)
	p, _ := s.Point("a")
	assert.Equal(t, "hr:9", p.Address.String())
}

func TestSiteFileFaults(t *testing.T) {
	edit := func(old, new string) string {
		require.Contains(t, gate, old)
		return strings.Replace(gate, old, new, 1)
	}
	for _, c := range []struct {
		name string
		data string
		want []string // a line each
	}{
		{"unknown field", edit("    unit: 1\n", "    unitt: 1\n"), []string{`gate.yaml:7: station plc: stations[0].unitt: unknown field "unitt"; did you mean unit?`}},
		{"unknown list", gate + "tags: []\n", []string{`gate.yaml:22: tags: unknown field "tags"; known are arithmon, change, templates, links, stations, points, boards`}},
		{"duplicate tag", edit("gate1/mode", "gate1/position"), []string{`gate.yaml:11: point gate1/position: points[0].tag: "gate1/position" is in the file twice, in lines 11 and 20`}},
		{"offset out of range", edit("co:4", "co:70000"), []string{`gate.yaml:19: point gate1/open-cmd: points[1].address: "co:70000": offset 70000 is out of range: 0 to 65535`}},
		{"float32 on a coil", edit("co:4, type: bool, states: [idle, open]", "co:4, type: float32"), []string{`gate.yaml:19: point gate1/open-cmd: points[1].type: float32 does not fit co:4: a coil holds one bit; use bool, or an address in hr or ir`}},
		{"reference that contradicts its table", edit("address: 400020", "address: ir:400020"), []string{`gate.yaml:20: point gate1/mode: points[2].address: "ir:400020" contradicts itself: the reference 400020 is a holding register (hr:19), but ir: says input register`}},
		{"text for a number", edit("unit: 1", "unit: one"), []string{`gate.yaml:7: station plc: stations[0].unit: "one" is text; a whole number is needed`}},
		{"quoted number", edit("decimals: 1", `decimals: "1"`), []string{`gate.yaml:17: point gate1/position: points[0].decimals: "1" is text; a whole number is needed`}},
		{"nested field", edit("raw: [0, 1]", "raw: [0, x]"), []string{`gate.yaml:15: point gate1/position: points[0].scaling.raw[1]: "x" is text; a number is needed`}},
		{"wrong length", edit("raw: [0, 1]", "raw: [0, 1, 2]"), []string{`gate.yaml:15: point gate1/position: points[0].scaling.raw: has 3 entries; 2 are needed`}},
		{"meaning of a nested field", edit("raw: [0, 1]", "raw: [1, 1]"), []string{`gate.yaml:15: point gate1/position: points[0].scaling.raw: [1 1]: the two ends must differ`}},
		{"no time span", edit("500ms", "500"), []string{`gate.yaml:3: link gate: links[0].timeout: "500" is no time span: write a number with its unit, such as 250ms, 1s or 5m`}},
		{"field twice", edit("unit: 1", "link: gate"), []string{`gate.yaml:7: station plc: stations[0].link: is given twice, first in line 6`}},
		{"several at once", strings.Replace(edit("unit: 1", "unit: 700"), "port: 1502", "port: 70000", 1), []string{
			`gate.yaml:3: link gate: links[0].port: 70000 is out of range: 1 to 65535`,
			`gate.yaml:7: station plc: stations[0].unit: 700 is out of range: 0 to 255`}},
		{"of form and of meaning", strings.Replace(edit("unit: 1", "unit: one"), "port: 1502", "port: 70000", 1), []string{
			`gate.yaml:3: link gate: links[0].port: 70000 is out of range: 1 to 65535`,
			`gate.yaml:7: station plc: stations[0].unit: "one" is text; a whole number is needed`}},
		{"a wrong address beside others", edit("co:4, type: bool, states: [idle, open]", "co:70000, type: boool, decimals: 99"), []string{
			`gate.yaml:19: point gate1/open-cmd: points[1].address: "co:70000": offset 70000 is out of range: 0 to 65535`,
			`gate.yaml:19: point gate1/open-cmd: points[1].decimals: 99 is out of range: 0 to 12`,
			`gate.yaml:19: point gate1/open-cmd: points[1].type: "boool" is not known; choose bool, int8, uint8, int16, uint16, int32, uint32, int64, uint64, float32, float64, bcd16, bcd32, string, bits`}},
		{"no version", strings.TrimPrefix(gate, "arithmon: 1\n"), []string{`gate.yaml:1: arithmon: is missing; a site file begins with arithmon: 1`}},
		{"later version", edit("arithmon: 1", "arithmon: 7"), []string{`gate.yaml:1: arithmon: version 7 is not read by this program; it reads 1`}},
		{"map for a list", "arithmon: 1\nlinks: {name: x}\n", []string{`gate.yaml:2: links: is a map; a list is needed, each entry after a dash`}},
		{"alias", "arithmon: 1\nlinks: [&a {name: x, host: h}, *a]\n", []string{`gate.yaml:2: anchors and aliases are not read; write the value out`}},
		{"not YAML", "arithmon: 1\nlinks: [\n", []string{`gate.yaml:2: is not YAML: did not find expected node content`}},
		{"binary", "\x00\x01\x02", []string{"gate.yaml: is not YAML: control characters are not allowed"}},
		{"empty", "", []string{"gate.yaml: is empty"}},
		{"plain text", "hello", []string{`gate.yaml:1: "hello" is text; fields with their values are needed, such as name: value`}},
		{"two documents", gate + "---\narithmon: 1\n", []string{`gate.yaml:22: a second document begins here; put all into one`}},
		{"broken JSON", "{\"arithmon\": 1,\n \"links\": [}", []string{`gate.yaml:1: is not YAML: did not find expected node content`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := load(t, c.data)
			require.Error(t, err)
			assert.Equal(t, strings.Join(c.want, "\n"), err.Error())
		})
	}
}

func TestFiftyMegabytesAreRefusedAtOnce(t *testing.T) {
	_, err := Read("big.yaml", bytes.Repeat([]byte("# nothing\n"), 5<<20))
	assert.EqualError(t, err, "big.yaml: has 50.0 MB; at most 32 MB are read. Divide it into several files")
}

func TestPruneRemovesWhatTheFileDoesNotName(t *testing.T) {
	s, err := load(t, gate)
	require.NoError(t, err)
	for prune, want := range map[bool]int{false: 0, true: 2} {
		d := s.Edit()
		f, err := Read("less.yaml", []byte(gate[:strings.Index(gate, "  - {tag: gate1/mode")]))
		require.NoError(t, err)
		f.Into(d, s, prune)
		changes, err := d.Changes()
		require.NoError(t, err)
		assert.Len(t, changes, want)
		for _, c := range changes {
			assert.Equal(t, site.Remove, c.Action())
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(gate))
	f.Add([]byte(drives))
	f.Add([]byte(`{"arithmon":1,"points":[{"states":{"0":"a"}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := Read("f", data)
		if err != nil {
			if faults := err.(*Error).Faults; len(faults) == 0 {
				t.Fatal("an error without a fault")
			}
			return
		}
		s := site.New()
		d := s.Edit()
		file.Into(d, s, true)
		tie.Follow(d, false)
		changes, err := d.Changes()
		if err != nil {
			return
		}
		s = s.With(changes)
		out, err := written(s)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Read("again", []byte(out))
		if err != nil {
			t.Fatalf("%s\n%s", err, out)
		}
		d = s.Edit()
		again.Into(d, s, true)
		tie.Follow(d, false)
		if changes, err := d.Changes(); err != nil || len(changes) > 0 {
			t.Fatalf("%v %v\n%s", changes, err, out)
		}
	})
}

func TestLargeFilesHaveBounds(t *testing.T) {
	for name, c := range map[string]struct{ file, fault string }{
		"too many entries":     {"arithmon: 1\npoints: [" + strings.Repeat("{},", MaxEntries) + "{}]", "holds 250001 entries; a file has at most 250000"},
		"faults without end":   {"arithmon: 1\npoints: [" + strings.Repeat("{no: 1},", 20_000) + "{}]", "these are the first 1000 faults; there may be more"},
		"entries that lack it": {"arithmon: 1\npoints: [" + strings.Repeat("{},", 20_000) + "{}]", ""},
		"one tag for all":      {"arithmon: 1\npoints: [" + strings.Repeat("{tag: a},", 20_000) + "{}]", "these are the first 1000 faults; there may be more"},
	} {
		_, err := load(t, c.file)
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.fault, name)
		assert.Less(t, len(err.Error()), 500_000, name)
	}
}

// What is written without asking the YAML library is what that would write.
func FuzzPlainText(f *testing.F) {
	for _, text := range []string{"a", "hr:9", "y", "Yes", "null", "e5", "a:", "a: b", "a #b", "-", "x-", "é", "NaN", "Inf", "o", "0x1", "a.", "true/1"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !plainly(text) {
			return
		}
		out, err := yaml.Marshal(text)
		if err != nil || string(out) != text+"\n" {
			t.Errorf("%q is written %q (%v)", text, out, err)
		}
	})
}

func BenchmarkWriteSiteFile100000(b *testing.B) {
	var data strings.Builder
	data.WriteString(gate)
	for i := range 100000 {
		fmt.Fprintf(&data, "  - {tag: p/%d, station: plc, address: hr:0x%X, type: int16, scaling: {raw: [0, 1], eng: [0, 100]}, unit: m}\n", i, i%60000)
	}
	file, err := Read("b", []byte(data.String()))
	if err != nil {
		b.Fatal(err)
	}
	s := site.New()
	d := s.Edit()
	file.Into(d, s, false)
	changes, err := d.Changes()
	if err != nil {
		b.Fatal(err)
	}
	s = s.With(changes)
	for b.Loop() {
		if err := Write(io.Discard, s, Options{}); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkReadSiteFile20000(b *testing.B) {
	var data strings.Builder
	data.WriteString(gate)
	for i := range 20000 {
		fmt.Fprintf(&data, "  - {tag: p/%d, station: plc, address: hr:%d, type: int16, scaling: {raw: [0, 1], eng: [0, 100]}, unit: m}\n", i, i)
	}
	for b.Loop() {
		if _, err := Read("b", []byte(data.String())); err != nil {
			b.Fatal(err)
		}
	}
}

// Addresses as manuals print them: ranges that are as long as the value, and numbers that may mean several.
func TestAddressesAsPrinted(t *testing.T) {
	of := func(point string) (site.Point, error) {
		s, err := load(t, `{arithmon: 1, links: [{name: gate, host: h}], stations: [{name: plc, link: gate, notation: ref5}], points: [{tag: a, station: plc, `+point+`}]}`)
		if err != nil {
			return site.Point{}, err
		}
		p, _ := s.Point("a")
		return p, nil
	}
	for _, c := range []struct{ point, address, fault string }{
		{`address: 40010-40011, type: float32`, "hr:9", ""},
		{`address: "40010 – 40011", type: uint32`, "hr:9", ""},
		{`address: "30,009"`, "ir:8", ""},
		{`address: 4x0010`, "hr:9", ""},
		{`address: 40010-40013, type: string`, "hr:9", ""},
		{`address: 40010-40011, type: int16`, "", `"40010-40011" names 2 addresses, and int16 takes 1`},
		{`address: 40010-40011`, "", `names 2 addresses; give a type of that size: int32, uint32, float32, bcd32`},
		{`address: 00001-00004, type: bool`, "", `names 4 addresses, and a point is one coil`},
		{`address: 2833, type: bool`, "", `it may be co:2832 (02833), di:2832 (12833), hr:2832 (42833) or ir:2832 (32833)`},
		{`address: 2833, type: uint16`, "", `it may be hr:2832 (42833), ir:2832 (32833), co:2832 (02833) or di:2832 (12833)`},
	} {
		p, err := of(c.point)
		if c.fault != "" {
			assert.ErrorContains(t, err, c.fault, c.point)
			continue
		}
		if assert.NoError(t, err, c.point) {
			assert.Equal(t, c.address, p.Address.String(), c.point)
		}
	}
	text, err := of("address: 40010-40013, type: string")
	require.NoError(t, err)
	assert.Equal(t, 8, text.Length)
}

// What was typed in hex comes back in hex where the station's notation says so.
func TestHexComesBackAsHex(t *testing.T) {
	s, err := load(t, `{arithmon: 1, links: [{name: gate, host: h}], stations: [{name: plc, link: gate, notation: hex}], points: [{tag: a, station: plc, address: "hr:0x3100"}]}`)
	require.NoError(t, err)
	out, err := written(s)
	require.NoError(t, err)
	assert.Contains(t, out, "address: hr:0x3100\n")
	back, err := load(t, out)
	require.NoError(t, err)
	assert.Equal(t, s.Points(), back.Points())
}

const drives = `arithmon: 1
templates:
  - name: drive
    description: A drive
    identifies: ['*DX-40*']
    parameters:
      - {name: tag, description: what its tags begin with}
      - {name: base, default: "0"}
    station: {notation: ref6, order: CDAB, poll: 2s, poll_groups: {fast: 200ms}}
    points:
      - {tag: '{tag}/current', address: '{base+400010}', type: int16, scaling: {factor: 0.1}, unit: A}
      - {tag: '{tag}/run', address: 'co:{base}', type: bool, states: [halted, running], writable: true}
links:
  - {name: bus, host: 127.0.0.1}
stations:
  - {name: d1, link: bus, unit: 1, template: drive, values: {tag: tern/d1}}
  - {name: d2, link: bus, unit: 2, template: drive, values: {tag: tern/d2, base: 100}, order: ABCD, poll: 5s, left_out: ['{tag}/run']}
points:
  - {tag: tern/d1/current, station: d1, address: 400099, type: int16, unit: mA}
  - {tag: tern/d2/more, station: d2, address: 400500, type: uint16}
`

// What is made from templates passes through files as it is, and a file need not name the points that follow from a template.
func TestTiesPassThroughFiles(t *testing.T) {
	s, err := load(t, drives)
	require.NoError(t, err)
	assert.Equal(t, []string{"tern/d1/current", "tern/d1/run", "tern/d2/current", "tern/d2/more"}, s.Names(site.KindPoint))
	d2, _ := s.Station("d2")
	assert.Equal(t, "ABCD", string(d2.Order), "what is said stands, even where it is the default")
	own, _ := s.Point("tern/d1/current")
	assert.Equal(t, "hr:98", own.Address.String())
	out, err := written(s)
	require.NoError(t, err)
	assert.Contains(t, out, "    points:\n      - {tag: '{tag}/current', address: '{base+400010}', type: int16, scaling: {factor: 0.1}, unit: A}\n")
	assert.Contains(t, out, "    order: ABCD\n")
	back, err := load(t, out)
	require.NoError(t, err, out)
	assert.Equal(t, s.Points(), back.Points())
	assert.Equal(t, s.Stations(), back.Stations())
	for _, kind := range site.Kinds() {
		assert.Equal(t, s.Names(kind), back.Names(kind))
	}
	for name, text := range map[string]string{"written": out, "typed": drives} { // again, also when it is the whole site
		for _, prune := range []bool{false, true} {
			f, err := Read(name, []byte(text))
			require.NoError(t, err)
			d := s.Edit()
			f.Into(d, s, prune)
			tie.Follow(d, false)
			changes, err := d.Changes()
			require.NoError(t, err)
			assert.Empty(t, changes, "%s, prune %v", name, prune)
		}
	}
	var only strings.Builder
	require.NoError(t, Write(&only, s, Options{Keep: Only(s, []string{"tern/d2/*"})}))
	part, err := load(t, only.String())
	require.NoError(t, err, only.String())
	assert.Equal(t, []string{"tern/d2/current", "tern/d2/more"}, part.Names(site.KindPoint), "with the template that they need")
	f, err := Read("bare", []byte(drives[:strings.Index(drives, "templates:")]+drives[strings.Index(drives, "links:"):]))
	require.NoError(t, err)
	d := s.Edit()
	f.Into(d, s, true)
	tie.Follow(d, false)
	_, err = d.Changes()
	assert.ErrorContains(t, err, "template drive: 2 stations name it", "what stations of the file need is not pruned")
	_, err = load(t, strings.Replace(drives, "type: int16, scaling", "type: int17, scaling", 1))
	assert.ErrorContains(t, err, `gate.yaml:11: template drive: templates[0].points[0].type: "int17" is not known`)
}

func BenchmarkTakeOver50000(b *testing.B) {
	var data strings.Builder
	data.WriteString(gate)
	for i := range 50000 {
		fmt.Fprintf(&data, "  - {tag: plant/area%02d/point%05d, station: plc, address: 'hr:0x%X', type: int16, scaling: {raw: [0, 27648], eng: [0, 100]}, unit: '%%', description: Point %d}\n", i%40, i, i, i)
	}
	text := []byte(data.String())
	for b.Loop() {
		file, err := Read("b", text)
		if err != nil {
			b.Fatal(err)
		}
		s := site.New()
		d := s.Edit()
		file.Into(d, s, false)
		tie.Follow(d, false)
		changes, err := d.Changes()
		if err != nil {
			b.Fatal(err)
		}
		s.With(changes)
	}
}
