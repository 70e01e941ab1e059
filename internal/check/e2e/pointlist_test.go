package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"arithmon/internal/app/api"
	"arithmon/internal/rig"
)

// listFile writes a file for a test and gives its path.
func listFile(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// A list of habits of its own is taken over on the command line, and its values are right.
func TestAListOfPointsIsTakenOver(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	list := listFile(t, "punkte.csv", "Punktliste Anlage\nRegister;Name;Datentyp;Skalierung;Einheit;Zugriff\n40010;gate/Füllstand;Float CDAB;;%;R\n40021;Soll Wert;INT16;0..1000 = 0..100;%;R/W\n30001;gate/langsam;INT16;0,01;;RO\n")
	dry := p.run("point", "import", list, "--station", "plc", "--dry-run")
	require.Zero(t, dry.code, dry.err)
	assert.Contains(t, dry.out, "columns parted by semicolons")
	assert.Contains(t, dry.out, "Skalierung → factor")
	assert.Contains(t, dry.out, "3 rows: 3 would be added")
	_, err := p.client.Points(t.Context(), "", "Soll-Wert")
	assert.Error(t, err, "nothing was changed")
	done := p.run("point", "import", list, "--station", "plc", "-o", "json")
	require.Zero(t, done.code, done.err)
	var out api.Import
	require.NoError(t, json.Unmarshal([]byte(done.out), &out))
	assert.True(t, out.Applied)
	assert.Equal(t, 3, out.Added)
	assert.Equal(t, `"Soll Wert" is no tag; Soll-Wert is`, out.Items[1].Note)
	p.await("gate/Fuellstand", func(r api.Reading) bool { return r.Text == "25" && said(r) == "good" })
	p.await("Soll-Wert", func(r api.Reading) bool { return r.Text == "10" && said(r) == "good" })
	p.awaitQuality("gate/langsam", "good")

	again := p.run("point", "import", list, "--station", "plc")
	assert.Contains(t, again.out, "3 rows: 0 added, 0 changed, 3 as they are")
}

// What the columns of a list hold is kept under a name for the next one of its kind.
func TestColumnsAreKept(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	first := listFile(t, "a.csv", "Kanal X,Ort,Art\nlist/a,40021,int16\nlist/b,40022,int16\n")
	assert.Contains(t, p.run("point", "import", first, "--station", "plc").err, "no headings are recognised")
	out := p.run("point", "import", first, "--station", "plc", "--columns", "tag=Kanal X,address=Ort,type=Art", "--keep", "maker")
	require.Zero(t, out.code, out.err)
	p.awaitQuality("list/a", "good")
	p.restart()
	second := listFile(t, "b.csv", "Ort,Kanal X,Art\n40023,list/c,uint16\n")
	out = p.run("point", "import", second, "--station", "plc", "--columns", "maker")
	require.Zero(t, out.code, out.err)
	p.awaitQuality("list/c", "good")
	assert.Contains(t, p.run("point", "import", second, "--station", "plc", "--columns", "makr").err, "did you mean maker?")
	sets, err := p.client.ColumnSets(t.Context())
	require.NoError(t, err)
	require.Len(t, sets, 1)
	assert.Equal(t, map[string]string{"tag": "Kanal X", "address": "Ort", "type": "Art"}, sets[0].Columns)
	require.NoError(t, p.client.DropColumns(t.Context(), "maker"))
	assert.ErrorContains(t, p.client.DropColumns(t.Context(), "maker"), "no columns are kept as")
	assert.ErrorContains(t, p.client.KeepColumns(t.Context(), "x", map[string]string{"colour": "A"}), "is nothing that a column holds")
}

// Whatever is wrong is said with its place, all of it, and nothing is taken over.
func TestAListWithFaults(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	list := listFile(t, "points.tsv", "tag\taddress\ttype\tunit\tdecimals\nok\t40001\tuint16\tbar\t1\nbad/type\t40002\tFLOAT31\tbar\t1\nbad/place\t999999\tuint16\tbar\t1\nbad/decimals\t40003\tuint16\tbar\t77\n")
	out := p.run("point", "import", list, "--station", "plc")
	assert.Equal(t, 1, out.code)
	for _, want := range []string{"row 3, type: \"FLOAT31\" is no data type", "row 4, address:", "row 5, decimals:"} {
		assert.Contains(t, out.out, want)
	}
	assert.Contains(t, out.err, "3 faults; nothing was changed")
	copied := filepath.Join(t.TempDir(), "marked.xlsx")
	p.run("point", "import", list, "--station", "plc", "--marked", copied)
	f, err := excelize.OpenFile(copied)
	require.NoError(t, err)
	defer f.Close()
	rows, err := f.GetRows("list")
	require.NoError(t, err)
	assert.Equal(t, []string{"bad/type", "40002", "FLOAT31", "bar", "1"}, rows[2][:5], "where it was")
	assert.Contains(t, rows[2][6], `type: "FLOAT31" is no data type`)
	assert.Contains(t, rows[3][6], "address: ")
	comments, err := f.GetComments("list")
	require.NoError(t, err)
	assert.Len(t, comments, 3)
	_, err = p.client.Points(t.Context(), "", "ok")
	assert.Error(t, err)
	for _, c := range []struct{ name, text, says string }{
		{"page.pdf", "%PDF-1.4", "copy the text of the table"},
		{"other.csv", "a,b\n1,2\n", "no headings are recognised"},
	} {
		out := p.run("point", "import", listFile(t, c.name, c.text), "--station", "plc")
		assert.Equal(t, 1, out.code, c.name)
		assert.Contains(t, out.err, c.says)
	}
	assert.Contains(t, p.run("point", "import", list, "--station", "pcl").err, "did you mean plc?")
	assert.Contains(t, p.run("point", "import", list, "--columns", "tag").err, "is neither FIELD=COLUMN")
	assert.Contains(t, p.run("point", "import", list, "--columns", "name=A").err, `"name" is nothing that a column holds`)
}

// What is exported comes back as it was; what was edited comes back alone, and what somebody else changed meanwhile is not taken back unsaid.
func TestAListComesAndGoes(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for _, form := range []string{"points.csv", "points.xlsx"} {
		path := filepath.Join(t.TempDir(), form)
		out := p.run("point", "export", path)
		require.Zero(t, out.code, out.err)
		again := p.run("point", "import", path)
		require.Zero(t, again.code, again.err+again.out)
		assert.Contains(t, again.out, "5 rows: 0 added, 0 changed, 5 as they are")
	}
	some := p.run("point", "export", "-", "bus/*")
	require.Zero(t, some.code)
	assert.Equal(t, 3, strings.Count(some.out, "\n"), "two points and the headings")
	edited := listFile(t, "edited.csv", strings.ReplaceAll(some.out, "bus/one,one,hr:0,uint16", "bus/one,one,hr:0,int16"))
	_, err := p.client.Set(t.Context(), "point", "bus/two", map[string]any{"unit": "A"})
	require.NoError(t, err)
	out := p.run("point", "import", edited)
	assert.Equal(t, 1, out.code)
	assert.Contains(t, strings.Join(strings.Fields(out.out), " "), `row 3, unit: the point was changed since this list was made, and this is "A" now`)
	out = p.run("point", "import", edited, "--force")
	require.Zero(t, out.code, out.err)
	assert.Contains(t, out.out, "2 rows: 0 added, 2 changed")
	assert.Equal(t, "int16", p.field("point", "bus/one", "type"))

	var sheet bytes.Buffer
	require.NoError(t, p.client.ExportPoints(t.Context(), &sheet, "xlsx", "gate/*"))
	assert.Equal(t, "PK", sheet.String()[:2])
	status, _, said := p.ask("GET", "/api/v1/export/points?form=pdf", "")
	assert.Equal(t, 400, status)
	assert.Contains(t, said, "form")
}

// The same in the console: pasted, with a fault in its cell, put right, taken over, live.
func TestAListInTheConsole(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	page := p.console("/points")
	require.NoError(t, page.Click("[data-test=import]"))
	paste := "[data-test=import-dialog] textarea"
	require.NoError(t, page.Fill(paste, "station;Name;Register;Format;Einheit\nplc;gate/neu;40021;INT61;%\nplc;gate/coil;00005;BOOL;\n"))
	shows(t, page, "[data-test=import-faults]", `Row 2, Format: "INT61" is no data type`)
	shows(t, page, "[data-test=import-dialog] .wrong", "INT61")
	require.NoError(t, page.Fill(paste, "station;Name;Register;Format;Einheit\nplc;gate/neu;40021;INT16;%\nplc;gate/coil;00005;BOOL;\n"))
	shows(t, page, "[data-test=import-sum]", "2 rows: 2 to add")
	require.NoError(t, page.Click("[data-test=import-take]"))
	shows(t, page, ".el-message--success", "2 added, 0 changed")
	shows(t, page, "[data-test=count]", "7")
	p.await("gate/neu", func(r api.Reading) bool { return r.Text == "100" && said(r) == "good" })
	p.awaitQuality("gate/coil", "good")
}

// A workbook whose sheets call their columns by other names, and have one that misleads: said by hand, sheet by sheet, on the command line and in
// the console.
func TestAWorkbookOfSeveralSheets(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	f := excelize.NewFile()
	require.NoError(t, f.SetSheetName("Sheet1", "North"))
	_, err := f.NewSheet("South")
	require.NoError(t, err)
	for sheet, rows := range map[string][][]any{
		"North": {{"Messung", "Register", "Format", "Max"}, {"north/a", 40021, "INT16", 1}},
		"South": {{"Stelle", "Register", "Format"}, {"south/a", 40022, "INT61"}},
	} {
		for i, row := range rows {
			require.NoError(t, f.SetSheetRow(sheet, fmt.Sprintf("A%d", i+1), &row))
		}
	}
	wrong := filepath.Join(t.TempDir(), "halls.xlsx")
	require.NoError(t, f.SaveAs(wrong))
	require.NoError(t, f.SetCellValue("South", "C2", "INT16"))
	right := filepath.Join(t.TempDir(), "right.xlsx")
	require.NoError(t, f.SaveAs(right))

	columns := []string{"--station", "plc", "--columns", "North!tag=Messung,South!tag=A,Max="}
	said := p.run(append([]string{"point", "import", wrong}, columns...)...)
	assert.Contains(t, said.out+said.err, `row South 2, Format: "INT61" is no data type`)
	dry := p.run(append([]string{"point", "import", right, "--dry-run"}, columns...)...)
	require.Zero(t, dry.code, dry.err)
	for _, told := range []string{"of sheet North: Messung → tag", "of sheet South: Stelle → tag", "north/a", "south/a"} {
		assert.Contains(t, dry.out, told)
	}
	assert.Contains(t, p.run("point", "import", right, "--columns", "West!tag=A").err, `there is no sheet "West"; there are North, South`)

	page := p.console("/points")
	does := func(steps ...error) {
		t.Helper()
		for i, err := range steps {
			require.NoError(t, err, "step %d", i)
		}
	}
	dialog := "[data-test=import-dialog] "
	pick := func(heading, field string) { does(choose(page, dialog+`[data-heading="`+heading+`"]`, field)) }
	does(page.Click("[data-test=import]"), choose(page, "[data-test=import-station]", "plc"), page.Wait("[data-test=import-file]"), page.Give("[data-test=import-file] input[type=file]", wrong))
	pick("Messung", "tag")
	does(page.Until(`document.querySelector('[data-test=import-dialog] tbody').textContent.includes('north/a')`))
	does(page.Run(`document.querySelector('[data-heading="Max"] .el-select__wrapper').dispatchEvent(new MouseEvent('mouseenter', {bubbles: true}))`), page.Click(dialog+`[data-heading="Max"] .el-select__clear`))
	does(page.Until(`![...document.querySelectorAll('[data-test=import-dialog] th')].some(h => h.textContent.trim() === 'range')`))
	does(page.Run(`[...document.querySelectorAll('[data-test=import-sheets] label')].find(l => l.textContent.includes('South')).click()`))
	shows(t, page, "[data-test=import-sheets]", "South · 1 fault")
	pick("Stelle", "tag")
	does(page.Until(`document.querySelector('[data-test=import-dialog] tbody').textContent.includes('south/a')`))
	shows(t, page, dialog+".wrong", "INT61")
	does(page.Give("[data-test=import-file] input[type=file]", right))
	pick("Messung", "tag")
	does(page.Until(`document.querySelector('[data-test=import-dialog] tbody').textContent.includes('north/a')`))
	does(page.Run(`[...document.querySelectorAll('[data-test=import-sheets] label')].find(l => l.textContent.includes('South')).click()`))
	pick("Stelle", "tag")
	shows(t, page, "[data-test=import-sum]", "2 rows: 2 to add")
	does(page.Click("[data-test=import-take]"))
	shows(t, page, ".el-message--success", "2 added, 0 changed")
	p.awaitQuality("north/a", "good")
	p.awaitQuality("south/a", "good")
}

// A site file does not take back unsaid what somebody changed since it was exported.
func TestASiteFileThatIsOlderThanTheSite(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	path := filepath.Join(t.TempDir(), "site.yaml")
	require.Zero(t, p.run("export", path).code)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(text), "\nchange: ")
	assert.Contains(t, p.run("apply", path).out, "0 added, 0 changed, 0 removed")
	require.Zero(t, p.run("point", "set", "bus/one", "--unit", "A").code)
	require.Zero(t, p.run("point", "rename", "bus/two", "bus/second").code)
	require.Zero(t, p.run("point", "add", "bus/new", "--station", "one", "--address", "hr:1").code)
	old := p.run("apply", path)
	assert.Equal(t, 1, old.code)
	assert.Contains(t, old.err, "points[0]: was changed since this file was made")
	assert.Contains(t, old.err, "points[1]: was removed or renamed since")
	assert.NotContains(t, old.err, "bus/new")
	pruned := p.run("apply", path, "--prune")
	assert.Contains(t, pruned.err, "point bus/new: was added or changed since")
	assert.Equal(t, "A", p.field("point", "bus/one", "unit"))
	edited := listFile(t, "edited.yaml", strings.Replace(string(text), "tag: gate/level", "tag: gate/level\n    description: edited", 1))
	other := p.run("apply", edited)
	assert.NotContains(t, other.err, "gate/level", "what nobody else changed is no conflict")
	forced := p.run("apply", path, "--force", "--prune")
	require.Zero(t, forced.code, forced.err)
	_, err = p.client.Points(t.Context(), "", "bus/two")
	assert.NoError(t, err)
	only := p.run("export", "--only", "gate/*")
	assert.Contains(t, only.out, "tag: gate/level")
	assert.NotContains(t, only.out, "name: bus")
	assert.Equal(t, 3, p.run("export", "--only", "nobody").code)
}

// Lists of different habits, as they come, are taken over whole, and every value is then that of the device.
func TestTheListsOfTheDemo(t *testing.T) {
	t.Parallel()
	p := startWith(t, []byte(`
rig: 1
lines:
  - name: line
    listen: 127.0.0.1:0
    stations:
      - unit: 1
        values: [{at: "ir:0", type: float32, set: 2.5}, {at: "ir:2", set: 1750}, {at: "ir:3", type: int16, set: -40}, {at: "ir:4", type: uint32, set: 98765}, {at: "hr:0", set: 25}, {at: "hr:1", set: 2}]
      - unit: 2
        tables: {hr: 20}
        values: [{at: "hr:10", set: 13824}, {at: "hr:11", set: 6912}, {at: "hr:12", set: 250}, {at: "hr:13", set: 12000}]
      - unit: 3
        tables: {hr: 120}
        values: [{at: "hr:100", type: float32, set: 1.25}, {at: "hr:102", set: 87}, {at: "hr:103", set: 0}, {at: "hr:109", type: uint32, set: 70000}, {at: "hr:111", type: int16, set: 850}]
`))
	p.apply(strings.ReplaceAll(`
arithmon: 1
links: [{name: line, host: 127.0.0.1, port: PORT, timeout: 500ms}]
stations: [{name: weir, link: line, unit: 1, poll: 200ms}, {name: boiler, link: line, unit: 2, poll: 200ms}, {name: lift, link: line, unit: 3, poll: 200ms}]
`, "PORT", p.port("line")))
	for _, c := range []struct {
		file, station string
		rows          string
		values        map[string]string
	}{
		{"weir-meter.csv", "weir", "6 rows: 6 added", map[string]string{
			"wehr/durchfluss": "2.5 m³/s", "wehr/pegel-oben": "1.75 m", "wehr/pegel-unten": "-0.04 m", "wehr/volumen": "9876.5 m³", "wehr/daempfung": "2.5 s", "wehr/betriebsart": "Aus"}},
		{"boiler-house.xlsx", "boiler", "4 rows: 4 added", map[string]string{"boiler/pressure": "8 bar", "boiler/temperature": "100 °C", "boiler/valve": "25 %", "boiler/flow": "12.5 m³/h"}},
		{"lift-page.txt", "lift", "5 rows: 5 added", map[string]string{"sump-level": "1.25 m", "pump-1-current": "87 A", "pump-2-current": "0 A", "starts-of-pump-1": "70000", "stop-level": "850 mm"}},
	} {
		path := filepath.Join("..", "..", "..", "demo", "lists", c.file)
		out := p.run("point", "import", path, "--station", c.station)
		require.Zero(t, out.code, "%s: %s%s", c.file, out.out, out.err)
		assert.Contains(t, out.out, c.rows, c.file)
		for tag, want := range c.values {
			value, unit, _ := strings.Cut(want, " ")
			r := p.await(tag, func(r api.Reading) bool { return r.Text == value && said(r) == "good" })
			assert.Equal(t, unit, r.Unit, tag)
		}
	}
	assert.Equal(t, "Sump level above the pump inlet", p.field("point", "sump-level", "description"))
	assert.Equal(t, "true", p.field("point", "stop-level", "writable"))
}

// The tree of tags: a branch is chosen, and what is beside is on it.
func TestTheTreeOfTags(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("bus/two", "good")
	page := p.console("/points")
	require.NoError(t, page.Click("[data-test=tree-toggle]"))
	shows(t, page, "[data-test=tree]", "All points 5")
	require.NoError(t, page.Click("[data-branch=gate]"))
	shows(t, page, "[data-test=count]", "3 of 5")
	require.NoError(t, page.Click("[data-test=rename-branch]"))
	require.NoError(t, page.Fill(".el-message-box__input input", "weir/gate"))
	require.NoError(t, page.Click(".el-message-box .el-button--primary"))
	shows(t, page, ".el-message--success", "3 points renamed")
	shows(t, page, "[data-test=count]", "3 of 5")
	p.awaitQuality("weir/gate/level", "good")
	require.NoError(t, p.rig.SetFaults("bus", 2, rig.Faults{Drop: true}))
	p.awaitQuality("bus/two", "bad (timeout)")
	shows(t, page, "[data-branch=bus] .bad", "1")
	assert.Contains(t, p.run("point", "tree", "-o", "csv").out, "bus,2,1,0,1\n")
	assert.Contains(t, p.run("point", "tree", "weir", "--depth", "1").out, "weir/    3       3")
	assert.Contains(t, p.run("point", "tree", "wier").err, `no point is below "wier"; did you mean weir?`)
	require.NoError(t, page.Click("[data-test=tree-toggle]"))
	shows(t, page, "[data-test=count]", "5 of 5")
	require.NoError(t, page.Go(p.service.URL+"/live?tree=shown"))
	shows(t, page, "[data-branch=bus] .bad", "1")
}
