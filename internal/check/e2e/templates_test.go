package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
)

// fans is a rig of three drives of one make; the registers of the third begin elsewhere.
const fans = `
rig: 1
lines:
  - name: fans
    listen: 127.0.0.1:0
    stations:
      - unit: 1
        name: Fan drive X2
        tables: {hr: 40}
        values: [{at: "hr:0", type: int16, set: 14750}, {at: "hr:1", type: float32, order: CDAB, set: 7.25}, {at: "hr:3", type: uint32, order: CDAB, set: 70000}, {at: "hr:5", type: uint16, set: 1}]
      - unit: 2
        tables: {hr: 40}
        values: [{at: "hr:0", type: int16, set: -200}, {at: "hr:1", type: float32, order: CDAB, set: 0.5}, {at: "hr:3", type: uint32, order: CDAB, set: 12}, {at: "hr:5", type: uint16, set: 7}]
      - unit: 3
        tables: {hr: 60}
        values: [{at: "hr:20", type: int16, set: 9000}, {at: "hr:21", type: float32, order: CDAB, set: 3}, {at: "hr:23", type: uint32, order: CDAB, set: 65536}, {at: "hr:25", type: uint16, set: 0}]
`

// A template of another site and a list of stations: fifteen points, live and right, in two commands. Then the template changes, and its stations with
// it, but for what is their own.
func TestStationsFromATemplateAndAList(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(fans))
	_, err := p.client.Add(t.Context(), site.KindLink, map[string]any{"name": "hall", "host": "127.0.0.1", "port": number(t, p.port("fans")), "timeout": "300ms"})
	require.NoError(t, err)
	lists := filepath.Join("..", "..", "..", "demo", "lists")
	out := p.run("template", "import", filepath.Join(lists, "fan-template.yaml"))
	require.Zero(t, out.code, out.err)
	assert.Contains(t, out.out, "add     template fan-x2")
	dry := p.run("station", "import", filepath.Join(lists, "fans.csv"), "--link", "hall", "--dry-run")
	require.Zero(t, dry.code, dry.err)
	assert.Contains(t, dry.out, "3 stations: 3 would be added")
	assert.Contains(t, dry.out, "with them come 15 points")
	out = p.run("station", "import", filepath.Join(lists, "fans.csv"), "--link", "hall", "-o", "json")
	require.Zero(t, out.code, out.err)
	var taken api.Import
	require.NoError(t, json.Unmarshal([]byte(out.out), &taken))
	assert.True(t, taken.Applied)
	assert.Equal(t, 3, taken.Added)
	assert.Equal(t, map[string]string{"Gerät": "name", "Busadresse": "unit", "Typ": "template", "Tag": "values.Tag", "Base": "values.Base", "Ort": "description"}, taken.Columns)
	for tag, want := range map[string]string{
		"hall/fan1/speed": "1475.0", "hall/fan1/power": "7.25", "hall/fan1/hours": "70000", "hall/fan1/state": "running",
		"hall/fan2/speed": "-20.0", "hall/fan2/power": "0.50", "hall/fan2/state": "tripped",
		"hall/fan3/speed": "900.0", "hall/fan3/power": "3.00", "hall/fan3/hours": "65536", "hall/fan3/state": "stopped",
	} {
		p.await(tag, func(r api.Reading) bool { return r.Text == want && said(r) == "good" })
	}
	assert.Equal(t, "Südwand", p.field(site.KindStation, "fan-2", "description"))
	again := p.run("station", "import", filepath.Join(lists, "fans.csv"), "--link", "hall")
	assert.Contains(t, again.out, "0 added, 0 changed, 3 as they are")

	probe := p.run("probe", "fan-1")
	require.Zero(t, probe.code, probe.out)
	assert.Contains(t, probe.out, "for such a device: fan-x2")
	assert.NotContains(t, p.run("probe", "fan-2").out, "for such a device")

	require.Zero(t, p.run("point", "set", "hall/fan2/speed", "--unit", "1/min").code)
	require.Zero(t, p.run("point", "remove", "hall/fan3/setpoint").code)
	own := p.run("template", "own", "fan-2", "-o", "json")
	var differences []tie.Difference
	require.NoError(t, json.Unmarshal([]byte(own.out), &differences))
	assert.Equal(t, []tie.Difference{{Kind: site.KindPoint, Name: "hall/fan2/speed", What: tie.OwnValue, Field: "unit", Own: []byte(`"1/min"`), Template: []byte(`"rpm"`)}}, differences)
	points := `[{tag: "{tag}/speed", address: "{base+400001}", type: int16, scaling: {factor: 0.1}, unit: Hz}, {tag: "{tag}/state", address: "{base+400006}", type: uint16}, {tag: "{tag}/setpoint", address: "{base+400007}", type: uint16}, {tag: "{tag}/serial", address: "{base+400008}", type: uint16}]`
	dry = p.run("template", "set", "fan-x2", "--points", points, "--dry-run")
	require.Zero(t, dry.code, dry.err)
	assert.Contains(t, dry.out, "change  point    hall/fan1/speed (unit, decimals)")
	assert.Contains(t, dry.out, "remove  point    hall/fan1/power")
	assert.Contains(t, dry.out, "3 would be added, 9 would be changed, 6 would be removed")
	p.awaitQuality("hall/fan1/power", "good")
	set := p.run("template", "set", "fan-x2", "--points", points)
	require.Zero(t, set.code, set.err)
	assert.Contains(t, set.out, "3 added, 9 changed, 6 removed")
	p.await("hall/fan3/speed", func(r api.Reading) bool { return r.Unit == "Hz" && r.Text == "900" })
	p.await("hall/fan2/speed", func(r api.Reading) bool { return r.Unit == "1/min" && r.Text == "-20" })
	p.awaitQuality("hall/fan3/serial", "good")
	stations := p.run("template", "stations", "fan-x2", "-o", "json")
	var tied []api.Tied
	require.NoError(t, json.Unmarshal([]byte(stations.out), &tied))
	require.Len(t, tied, 3)
	assert.Equal(t, api.Tied{Station: "fan-3", Values: map[string]string{"tag": "hall/fan3", "base": "20"}, Points: 3, LeftOut: 1}, tied[2])

	changes, err := p.client.Changes(t.Context(), "", "", 1)
	require.NoError(t, err)
	_, err = p.client.Undo(t.Context(), changes[0].ID)
	require.NoError(t, err)
	p.await("hall/fan1/power", func(r api.Reading) bool { return r.Text == "7.25" && said(r) == "good" })
	conform := p.run("template", "conform", "fan-3")
	require.Zero(t, conform.code, conform.err)
	p.awaitQuality("hall/fan3/setpoint", "good")

	for args, says := range map[string]string{
		"template make x --station none":      `there is no station "none"`,
		"template make x":                     "--station is missing",
		"template remove fan-x2":              "3 stations name it",
		"template own none":                   "there is no station",
		"template show fan-x":                 "did you mean fan-x2",
		"template export - other*":            "",
		"template import devices.yaml":        "there is no file",
		"template set fan-x2":                 "nothing to change",
		"station import none.csv":             "there is no file",
		"template set fan-x2 --protocol dnp3": "--points ([0].address)",
	} {
		out := p.run(strings.Fields(args)...)
		if says == "" {
			assert.Equal(t, "arithmon: 1\n", out.out, args)
			continue
		}
		assert.NotZero(t, out.code, args)
		assert.Contains(t, out.err+out.out, says, args)
	}
}

// What is wrong in a list of stations is told with its row and column, and nothing is taken over.
func TestAListOfStationsWithFaults(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.Zero(t, p.run("template", "make", "kind", "--station", "one", "--tags", "bus").code)
	list := listFile(t, "stations.csv", "name,link,unit,template,tag,poll,colour\nthree,bus,3,kind,x3,1s,red\nfour,bus,four,kind,x4,1s,\nfive,bus,5,kin,x5,1s,\nsix,buss,6,kind,x6,never,\nthree,bus,7,kind,x7,1s,\nseven,bus,1,kind,x8,1s,\n,bus,9,kind,,,\n")
	out := p.run("station", "import", list)
	assert.Equal(t, 1, out.code)
	for _, says := range []string{
		`row 3, unit: "four" is no address`, `row 4, template: there is no template "kin"; did you mean kind?`, `row 5, link: there is no link "buss"; did you mean bus?`,
		"row 5, poll:", `row 6, name: "three" is in row 2, too`, "row 7, unit: unit 1 on link bus is taken by station one", "row 8: the row names no station", "columns that nothing is made of: colour",
	} {
		assert.Contains(t, strings.Join(strings.Fields(out.out), " "), says)
	}
	stations, err := p.client.Stations(t.Context())
	require.NoError(t, err)
	assert.Len(t, stations, 3, "nothing was changed")
	hosts := listFile(t, "hosts.csv", fmt.Sprintf("device,ip address,port,slave,template,tag\nn1,127.0.0.1,%s,2,kind,n1\nn2,127.0.0.2,,1,kind,n2\nn3,127.0.0.2,,2,kind,n3\n", p.port("bus")))
	require.Zero(t, p.run("station", "set", "two", "--unit", "77").code)
	out = p.run("station", "import", hosts)
	require.Zero(t, out.code, out.err)
	assert.Contains(t, out.out, "with them come 1 links")
	p.await("n1/one", func(r api.Reading) bool { return r.Text == "22" && said(r) == "good" })
	assert.Equal(t, "bus", p.field(site.KindStation, "n1", "link"), "a link that goes there is there already")
	assert.Equal(t, "n2-link", p.field(site.KindStation, "n3", "link"))
}
