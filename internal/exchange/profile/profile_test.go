package profile_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/profile"
)

// yardProfile is a profile as a maker of an invented device would give it.
const yardProfile = `<?xml version="1.0" encoding="UTF-8"?>
<DNP3DeviceProfileDocument xmlns="http://www.dnp3.org/DNP3/DeviceProfile/November2014" schemaVersion="2.11.00">
  <documentHeader><documentName>Yard</documentName></documentHeader>
  <referenceDevice>
    <configuration><deviceConfig><vendorName><currentValue><value>Invented Works</value></currentValue></vendorName></deviceConfig></configuration>
    <database>ignored</database>
    <dataPointsList>
      <binaryInputPoints>
        <dataPoints>
          <binaryInput><index>0</index><name>Breaker 1 closed</name><changeEventClass>one</changeEventClass><nameState0>open</nameState0><nameState1>closed</nameState1><description>52-1 auxiliary contact</description></binaryInput>
          <binaryInput><index>1</index><name>Breaker 1 closed</name><changeEventClass><two/></changeEventClass></binaryInput>
          <binaryInput><index>70000</index><name>nowhere</name></binaryInput>
        </dataPoints>
      </binaryInputPoints>
      <analogInputPoints>
        <dataPoints>
          <analogInput><index>3</index><name>IL1</name><changeEventClass>two</changeEventClass><scaleFactor>0.1</scaleFactor><scaleOffset>-5</scaleOffset><units>A</units></analogInput>
          <analogInput><index>4</index><scaleFactor>many</scaleFactor></analogInput>
        </dataPoints>
      </analogInputPoints>
      <binaryOutputPoints><dataPoints><binaryOutput><index>0</index><name>Trip/Close 1</name></binaryOutput></dataPoints></binaryOutputPoints>
      <counterPoints><dataPoints><counter><index>9</index><name>Energy</name><units>kWh</units></counter></dataPoints></counterPoints>
    </dataPointsList>
  </referenceDevice>
</DNP3DeviceProfileDocument>`

func TestADeviceProfileBecomesPoints(t *testing.T) {
	p, err := profile.Read("yard.xml", []byte(yardProfile), "rtu", "yard/")
	require.NoError(t, err)
	assert.Equal(t, "Invented Works", p.Vendor)
	type line struct {
		tag, address, unit string
		class              int
	}
	var got []line
	for _, q := range p.Points {
		assert.Equal(t, "rtu", q.Point.Station)
		got = append(got, line{q.Point.Tag, q.Point.Address.String(), q.Point.Unit, q.Class})
	}
	assert.Equal(t, []line{{"yard/Breaker-1-closed", "bi:0", "", 1}, {"yard/bi1", "bi:1", "", 2}, {"yard/IL1", "ai:3", "A", 2}, {"yard/ai4", "ai:4", "", 0},
		{"yard/Trip/Close-1", "bo:0", "", 0}, {"yard/Energy", "ctr:9", "kWh", 0}}, got)
	first := p.Points[0].Point
	assert.Equal(t, site.States{0: "open", 1: "closed"}, first.States)
	assert.Equal(t, "52-1 auxiliary contact", first.Description)
	scaling := p.Points[2].Point.Scaling
	assert.Equal(t, 0.1, *scaling.Factor)
	assert.Equal(t, -5.0, *scaling.Offset)
	assert.True(t, p.Points[4].Point.Writable)
	require.Len(t, p.Notes, 2)
	assert.Contains(t, p.Notes[0], `yard.xml:12: index "70000" is no number`)
	assert.Contains(t, p.Notes[1], "ai:4: its scaling was left out")
	for _, q := range p.Points {
		assert.Empty(t, q.Point.Check(), q.Point.Tag)
	}
}

// A profile is read in the encoding that it says itself, or begins as.
func TestEncodingsOfProfiles(t *testing.T) {
	const document = `<DNP3DeviceProfileDocument><dataPointsList><analogInputPoints><dataPoints><analogInput><index>1</index><name>T</name><description>Kühlung</description><units>°C</units></analogInput></dataPoints></analogInputPoints></dataPointsList></DNP3DeviceProfileDocument>`
	latin, err := charmap.Windows1252.NewEncoder().String(document)
	require.NoError(t, err)
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(`<?xml version="1.0" encoding="UTF-16"?>` + document)
	require.NoError(t, err)
	for name, text := range map[string]string{
		"UTF-8":             document,
		"UTF-8 with a mark": "\ufeff" + `<?xml version="1.0" encoding="utf-8"?>` + document,
		"Latin 1":           `<?xml version="1.0" encoding="ISO-8859-1"?>` + latin,
		"Windows":           `<?xml version="1.0" encoding="windows-1252"?>` + latin,
		"UTF-16":            wide,
	} {
		p, err := profile.Read("p.xml", []byte(text), "rtu", "p/")
		require.NoError(t, err, name)
		require.Len(t, p.Points, 1, name)
		assert.Equal(t, "°C Kühlung", p.Points[0].Point.Unit+" "+p.Points[0].Point.Description, name)
	}
	_, err = profile.Read("p.xml", []byte(`<?xml version="1.0" encoding="klingon"?>`+document), "rtu", "p/")
	assert.ErrorContains(t, err, `it is written in "klingon", which is not read`)
	_, err = profile.Read("p.xml", []byte(latin), "rtu", "p/")
	assert.ErrorContains(t, err, "UTF-8")
}

func TestWhatIsNoProfileIsRefused(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"empty":     {"", "the file is empty"},
		"not XML":   {"arithmon: 1", "the file is empty"},
		"broken":    {"<DNP3DeviceProfileDocument><a></b>", "element <a> closed by </b>"},
		"other":     {"<html></html>", "<html> is no DNP3 device profile"},
		"no points": {"<DNP3DeviceProfileDocument></DNP3DeviceProfileDocument>", "no point list"},
		"deep":      {"<DNP3DeviceProfileDocument>" + strings.Repeat("<a>", 100), "more than 64 deep"},
	} {
		_, err := profile.Read("p.xml", []byte(c.text), "rtu", "p/")
		assert.ErrorContains(t, err, c.want, name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(yardProfile))
	f.Add([]byte(`<DNP3DeviceProfileDocument><binaryInput><index>1</index><name>` + "\x01" + `</name></binaryInput></DNP3DeviceProfileDocument>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := profile.Read("f", b, "rtu", "p/")
		if err != nil {
			return
		}
		for _, q := range p.Points {
			if q.Point.Tag == "" || q.Point.Address.Space == "" {
				t.Fatalf("%+v", q)
			}
		}
	})
}
