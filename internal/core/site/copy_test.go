package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
)

// bus is a site of a serial link with one station and one point.
func bus(t *testing.T) *Site {
	t.Helper()
	l := testLink("bus")
	l.Host, l.Transport, l.Serial = "", Serial, &LineSettings{Device: "COM3"}
	st := testStation("drive1", "bus", 1)
	st.PollGroups = map[string]Duration{"fast": Duration(50 * time.Millisecond)}
	s := New()
	d := s.Edit()
	d.Add(l)
	d.Add(st)
	d.Add(Point{Tag: "tern/pump1/speed", Station: "drive1", Address: Address{Space: HoldingRegisters}, PollGroup: "fast"})
	s, _ = taken(t, d)
	return s
}

// taken is the site with a draft's changes.
func taken(t *testing.T, d *Draft) (*Site, []Change) {
	t.Helper()
	changes, err := d.Changes()
	require.NoError(t, err)
	return d.base.With(changes), changes
}

func TestACopyOfALinkIsDisabledAndHasNoPortUntilGivenOne(t *testing.T) {
	s := bus(t)
	l, _ := s.Link("bus")
	d := s.Edit()
	d.CopyLink(l, "bus2")
	s, _ = taken(t, d)
	made, _ := s.Link("bus2")
	assert.False(t, made.Enabled)
	assert.Equal(t, LineSettings{Baud: 9600, DataBits: 8, Parity: "even", StopBits: 1, RTS: RTSOff}, *made.Serial)
	assert.Equal(t, "COM3", l.Serial.Device, "the original keeps its own")
	made.Enabled = true
	d = s.Edit()
	d.Put(made)
	_, err := d.Changes()
	assert.ErrorContains(t, err, "serial.device: is missing")
}

func TestACopyOfAStationTakesTheNextUnitAndItsPointsWithNewTags(t *testing.T) {
	s := bus(t)
	st, _ := s.Station("drive1")
	d := s.Edit()
	d.CopyStation(st, StationCopy{Name: "drive2", Tags: &TagChange{"pump1", "pump2"}})
	s, _ = taken(t, d)
	made, _ := s.Station("drive2")
	assert.Equal(t, 2, made.Unit)
	assert.False(t, made.Enabled)
	p, ok := s.Point("tern/pump2/speed")
	require.True(t, ok)
	assert.Equal(t, "drive2", p.Station)
	assert.Equal(t, 50*time.Millisecond, p.Period(made))

	d = s.Edit()
	d.CopyStation(st, StationCopy{Name: "drive3", Tags: &TagChange{"gate", "x"}})
	_, err := d.Changes()
	assert.ErrorContains(t, err, `"gate" is not a part of tag tern/pump1/speed`)
}

func TestPollGroupsAreNamedByTheirStation(t *testing.T) {
	s := bus(t)
	p, _ := s.Point("tern/pump1/speed")
	p.PollGroup = "fats"
	d := s.Edit()
	d.Put(p)
	_, err := d.Changes()
	assert.ErrorContains(t, err, `station drive1 has no poll group "fats"; did you mean fast?`)
	st, _ := s.Station("drive1")
	st.PollGroups = nil
	d = s.Edit()
	d.Put(st)
	_, err = d.Changes()
	assert.ErrorContains(t, err, `point tern/pump1/speed is in poll group "fast", which the station no longer has`)
}

func TestStationsThatDoNotFitTheirLink(t *testing.T) {
	for _, c := range []struct {
		name string
		edit func(*Station)
		want string
	}{
		{"unit 0", func(st *Station) { st.Unit = 0 }, "use 1 to 247, or broadcast: true"},
		{"unit 0 asked for", func(st *Station) { st.Unit, st.Broadcast = 0, true }, ""},
		{"broadcast of one", func(st *Station) { st.Unit, st.Broadcast = 5, true }, "unit 5 is one device"},
		{"a number without a modem", func(st *Station) { st.Unit, st.Number = 5, "0123" }, "belongs to a station on a dialup link"},
		{"no such liveness", func(st *Station) { st.Unit, st.LivenessAsk = 5, "hello" }, "or use diagnostics, identification or none"},
		{"no such numbering", func(st *Station) { st.Unit, st.Bits = 5, "lsb2" }, "choose lsb0, lsb1, msb0, msb1"},
		{"a group that is too fast", func(st *Station) { st.Unit, st.PollGroups = 5, map[string]Duration{"x": 1e6} }, "1ms is out of range: 20ms to 24h"},
	} {
		t.Run(c.name, func(t *testing.T) {
			st := testStation("new", "bus", 1)
			c.edit(&st)
			d := bus(t).Edit()
			d.Add(st)
			_, err := d.Changes()
			if c.want == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.want)
		})
	}
}

func TestReservedUnitsOfASerialLineAreWarnedOf(t *testing.T) {
	s := bus(t)
	d := s.Edit()
	d.Add(testStation("odd", "bus", 250))
	s, changes := taken(t, d)
	warnings := s.Warnings(changes)
	require.Len(t, warnings, 1)
	assert.ErrorContains(t, warnings[0], "unit 250 is reserved on a serial line")
}

func TestStationsOfOneUnitBehindTwoNumbers(t *testing.T) {
	s := bus(t)
	l, _ := s.Link("bus")
	l.Transport, l.Name = Dialup, "line"
	l.Serial = &LineSettings{Device: "COM9"}
	d := s.Edit()
	d.Add(l)
	for _, number := range []string{"100", "200"} {
		st := testStation("n"+number, "line", 1)
		st.Number = number
		d.Add(st)
	}
	s, _ = taken(t, d)
	st := testStation("third", "line", 1)
	d = s.Edit()
	d.Add(st)
	_, err := d.Changes()
	assert.ErrorContains(t, err, "number: is missing; give the telephone number")
	st.Number = "100"
	d = s.Edit()
	d.Add(st)
	_, err = d.Changes()
	assert.ErrorContains(t, err, "unit 1 on link line is taken by station n100")
}

func TestWritingOfPoints(t *testing.T) {
	for _, c := range []struct {
		name  string
		point Point
		want  string
	}{
		{"read back elsewhere", Point{Writable: true, ReadBack: Address{Space: InputRegisters, Offset: 9}}, ""},
		{"read back of what is not written", Point{ReadBack: Address{Space: InputRegisters}}, "only a writable point is read back"},
		{"read back from a coil", Point{Writable: true, ReadBack: Address{Space: Coils}}, "a uint16 is read back from registers"},
		{"a bit read back from a register", Point{Type: codec.TypeBool, Address: Address{Space: Coils}, Writable: true, ReadBack: Address{Space: HoldingRegisters}}, "from a bit, such as hr:0.0"},
		{"a pulse", Point{Type: codec.TypeBool, Address: Address{Space: Coils}, Writable: true, Pulse: 1e9}, ""},
		{"a pulse of a number", Point{Writable: true, Pulse: 1e9}, "only a writable bool is pulsed"},
		{"a long pulse", Point{Type: codec.TypeBool, Address: Address{Space: Coils}, Writable: true, Pulse: 1e12}, "out of range: 20ms to 1m"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := c.point
			p.Tag, p.Station = "p", "drive1"
			if p.Address.Space == "" {
				p.Address.Space = HoldingRegisters
			}
			d := bus(t).Edit()
			d.Add(p)
			_, err := d.Changes()
			if c.want == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.want)
		})
	}
}

func TestBitNumberings(t *testing.T) {
	for _, c := range []struct {
		numbering BitNumbering
		typed     string
		bit       int
	}{{"", "hr:9.3", 3}, {LSB0, "hr:9.15", 15}, {LSB1, "hr:9.1", 0}, {LSB1, "hr:9.16", 15}, {MSB0, "hr:9.0", 15}, {MSB0, "hr:9.12", 3}, {MSB1, "hr:9.16", 0}, {MSB1, "hr:9.1", 15}} {
		convention := Convention{Offset, c.numbering}
		a, err := convention.Parse(c.typed, "")
		require.NoError(t, err)
		assert.Equal(t, Address{HoldingRegisters, 9, Bit(c.bit)}, a, "%s in %s", c.typed, c.numbering)
		assert.Equal(t, c.typed, a.Format(convention))
	}
	_, err := Convention{Bits: LSB1}.Parse("hr:9.0", "")
	assert.ErrorContains(t, err, "a bit, 1 to 16")
	a, err := Convention{Ref5, MSB1}.Parse("40010.16", "")
	require.NoError(t, err)
	assert.Equal(t, "40010.16", a.Format(Convention{Ref5, MSB1}))
	assert.Equal(t, "hr:9.0", a.String())
}
