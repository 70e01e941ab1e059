package e2e

import (
	"bytes"
	"image"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever file a person gives to the console is taken as it is, octet by octet, and what is wrong with it is said.
func TestFilesGivenToTheConsole(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	page := p.console("/overview")
	does := func(steps ...error) {
		t.Helper()
		for i, err := range steps {
			require.NoError(t, err, "step %d", i)
		}
	}

	// A site file: shown, applied, and one that is no UTF-8 refused as on the command line.
	does(page.Give("[data-test=apply-file]", file(t, "more.yaml", "arithmon: 1\npoints:\n  - {tag: gate/warm, station: plc, address: 40022, type: int16, unit: °C}\n")))
	shows(t, page, "[data-test=apply-dialog]", "1 will be added, 0 changed, 0 removed.")
	does(page.Click("[data-test=apply-take]"))
	p.awaitQuality("gate/warm", "good")
	assert.Equal(t, "°C", p.reading("gate/warm").Unit)
	does(page.Give("[data-test=apply-file]", file(t, "old.yaml", "arithmon: 1\npoints:\n  - {tag: gate/cold, station: plc, address: 40022, type: int16, unit: \xb0C}\n")))
	shows(t, page, "[data-test=apply-dialog]", "UTF-8")
	_, err := p.client.Points(t.Context(), "", "gate/cold")
	assert.Error(t, err)
	does(page.Give("[data-test=apply-file]", file(t, "wrong.json", `{"arithmon": 1, "points": [{"tag": "gate/x", "station": "plc", "address": "hr:x"}]}`)))
	shows(t, page, "[data-test=apply-dialog]", "hr:x")

	// A file of templates.
	does(page.Go(p.service.URL + "/templates"))
	does(page.Give("[data-test=template-file]", file(t, "fan.yaml", "arithmon: 1\ntemplates:\n  - name: fan\n    parameters: [{name: tag}]\n    points: [{tag: '{tag}/speed', address: 400001, type: int16}]\n")))
	does(page.Wait("[data-test=template-text]"), page.Until(`document.querySelector('[data-test=template-text] textarea').value.includes('{tag}/speed')`))

	// A sketch and a picture on a board, and what is neither.
	require.Zero(t, p.run("board", "add", "hall", "--displays", "[{show: text, text: Hall, x: 0, y: 0, w: 4, h: 2}]").code)
	var dots bytes.Buffer
	require.NoError(t, png.Encode(&dots, image.NewGray(image.Rect(0, 0, 40, 30))))
	does(page.Go(p.service.URL+"/boards?board=hall&edit=yes"), page.Wait("[data-test=save-board]"))
	does(page.Give("[data-test=sketch-file]", file(t, "plant.svg", `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 10 10" width="10" height="10"><rect width="9" height="9"/></svg>`)))
	does(page.Until(`document.querySelector('img.sketch')?.naturalWidth > 0`), page.Click("[data-test=save-board]"), page.Wait("[data-test=edit-board]"))
	shown := p.run("board", "show", "hall", "-o", "json")
	assert.Contains(t, shown.out, `"image/svg+xml"`)
	does(page.Click("[data-test=edit-board]"), page.Give("[data-test=sketch-file]", file(t, "plant.png", dots.String())))
	does(page.Until(`document.querySelector('img.sketch')?.naturalWidth === 40`), page.Click("[data-test=save-board]"), page.Wait("[data-test=edit-board]"))
	assert.Contains(t, p.run("board", "show", "hall", "-o", "json").out, `"image/png"`)
	does(page.Click("[data-test=edit-board]"), page.Give("[data-test=sketch-file]", file(t, "script.svg", `<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>`)), page.Click("[data-test=save-board]"))
	shows(t, page, ".el-alert--error", "script")
	does(page.Click("[data-test=sketch-away]"), page.Click("[data-test=save-board]"), page.Wait("[data-test=edit-board]"))
	assert.NotContains(t, p.run("board", "show", "hall", "-o", "json").out, "sketch")

	// A list with a fault: the copy in which it is marked can be fetched.
	does(page.Go(p.service.URL+"/points?import=list"), page.Give("[data-test=import-file] input[type=file]", file(t, "list.csv", "station;Name;Register;Format\nplc;gate/neu;40021;INT61\n")))
	shows(t, page, "[data-test=import-faults]", "INT61")
	does(page.Run(`window.saved = ''; HTMLAnchorElement.prototype.click = function () { window.saved = this.download + ' ' + this.href.slice(0, 5) }`), page.Click("[data-test=import-marked]"))
	does(page.Until(`window.saved === 'marked.xlsx blob:'`))

	// A list of stations.
	does(page.Go(p.service.URL+"/stations?import=list"), page.Wait("[data-test=stations-file]"), choose(page, "[data-test=stations-link]", "gate"))
	does(page.Give("[data-test=stations-file] input[type=file]", file(t, "stations.csv", "name,unit\nfan-2,2\nfan-3,3\n")))
	shows(t, page, "[data-test=stations-sum]", "2 rows: 2 to add")
	does(page.Click("[data-test=stations-take]"))
	p.until("the stations", func() bool {
		return p.run("station", "show", "fan-2").code == 0 && p.run("station", "show", "fan-3").code == 0
	})
}

// The profile that a maker gives with an outstation, in the encoding that it says itself.
func TestADeviceProfileGivenToTheConsole(t *testing.T) {
	t.Parallel()
	p := yard(t)
	profile := file(t, "yard.xml", "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<DNP3DeviceProfileDocument><dataPointsList><analogInputPoints><dataPoints>"+
		"<analogInput><index>1</index><name>Load</name><description>K\xfchlung</description><changeEventClass>two</changeEventClass><units>\xb0C</units></analogInput>"+
		"</dataPoints></analogInputPoints></dataPointsList></DNP3DeviceProfileDocument>")
	page := p.console("/stations?station=rtu")
	require.NoError(t, page.Wait("[data-test=profile]"))
	require.NoError(t, page.Give("[data-test=profile-file]", profile))
	require.NoError(t, page.Click("[data-test=profile-take]"))
	shows(t, page, ".el-message--success", "1 point added, 0 changed")
	p.until("its point", func() bool { return p.run("read", "rtu/Load").code == 0 })
	assert.Equal(t, "°C", p.reading("rtu/Load").Unit)
	points, err := p.client.Points(t.Context(), "", "rtu/Load")
	require.NoError(t, err)
	assert.Equal(t, "Kühlung", points[0].Description)
}
