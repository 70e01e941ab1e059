package pointlist

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
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

// What may be read and what written is told in several languages.
func TestAccessInSeveralLanguages(t *testing.T) {
	for text, writable := range map[string]bool{"L": false, "L/E": true, "lecture/écriture": true, "Lectura": false, "oui": true, "RO": false} {
		got, err := accessOf(text)
		require.NoError(t, err, text)
		assert.Equal(t, writable, got, text)
	}
}
