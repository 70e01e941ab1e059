package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
)

func dnp3Link(name string) Link {
	l := testLink(name)
	l.Protocol = DNP3
	return l
}

func dnp3Station(name, link string, outstation int) Station {
	s := testStation(name, link, 1)
	s.Outstation = &outstation
	return s
}

// substation is a site of one DNP3 link with a station and a point.
func substation(t *testing.T, more ...Entity) (*Site, error) {
	t.Helper()
	s := New()
	d := s.Edit()
	for _, e := range append([]Entity{dnp3Link("yard"), dnp3Station("rtu", "yard", 10), testPoint("rtu/a", "rtu", "ai:3", "")}, more...) {
		d.Put(e)
	}
	changes, err := d.Changes()
	if err == nil {
		s = s.With(changes)
	}
	return s, err
}

func TestDefaultsOfDNP3(t *testing.T) {
	s, err := substation(t)
	require.NoError(t, err)
	l, _ := s.Link("yard")
	assert.Equal(t, 20000, l.Port)
	assert.Empty(t, l.Framing)
	l.Transport, l.Port = TLS, 0
	assert.Equal(t, 19999, l.WithDefaults().Port)
	st, _ := s.Station("rtu")
	assert.Equal(t, DNP3, st.Speaks())
	assert.Equal(t, 10, st.LinkAddress())
	assert.Equal(t, 1, st.MasterAddress())
	assert.Equal(t, "outstation 10", st.Called())
	assert.Equal(t, time.Hour, st.IntegrityPeriod())
	st.EventPoll, st.Class2Poll = Duration(time.Second), Duration(time.Minute)
	assert.Equal(t, [4]time.Duration{0, time.Second, time.Minute, time.Second}, st.EventPolls())
	assert.Empty(t, st.ReportedClasses())
	st.Unsolicited = true
	assert.Equal(t, []int{1, 2, 3}, st.ReportedClasses())
	p, _ := s.Point("rtu/a")
	assert.Equal(t, codec.TypeFloat64, p.Type)
	assert.Zero(t, p.Period(st), "it does not age")
	assert.True(t, p.Selects())
	for address, typ := range map[string]codec.Type{"bi:0": codec.TypeBool, "dbi:0": codec.TypeUint8, "bo:0": codec.TypeBool, "ctr:0": codec.TypeUint32, "fctr:0": codec.TypeUint32,
		"ao:0": codec.TypeFloat64, "os:0": codec.TypeString, "ai:0.deadband": codec.TypeFloat64, "bi:0.class": codec.TypeUint8} {
		assert.Equal(t, typ, testPoint("x", "rtu", address, "").WithDefaults().Type, address)
	}
	assert.Equal(t, "on", testPoint("x", "rtu", "dbi:0", codec.TypeUint8).Conversion().Text(codec.UintValue(2)))
}

func TestFaultsOfDNP3(t *testing.T) {
	number := func(n int) *int { return &n }
	no := false
	with := func(edit func(*Station)) Station {
		s := dnp3Station("rtu", "yard", 10)
		edit(&s)
		return s
	}
	line := func(edit func(*Link)) Link {
		l := dnp3Link("yard")
		edit(&l)
		return l
	}
	point := func(address string, edit func(*Point)) Point {
		p := testPoint("rtu/b", "rtu", address, "")
		if edit != nil {
			edit(&p)
		}
		return p
	}
	for _, c := range []struct {
		name  string
		e     Entity
		field string
		want  string
	}{
		{"framing", line(func(l *Link) { l.Framing = RTU }), "framing", "DNP3 has one framing"},
		{"dial-up", line(func(l *Link) { l.Transport, l.Host, l.Serial = Dialup, "", &LineSettings{Device: "x"} }), "transport", "not there yet"},
		{"in flight", line(func(l *Link) { l.InFlight = 4 }), "connections", "one request at a time"},
		{"listen and host", line(func(l *Link) { l.Listen = "0.0.0.0:20000" }), "host", "a link that listens has none"},
		{"listen without a port", line(func(l *Link) { l.Listen, l.Host = "somewhere", "" }), "listen", "no host:port"},
		{"listen over UDP", line(func(l *Link) { l.Listen, l.Host, l.Transport = "0.0.0.0:20000", "", UDP }), "listen", "only a tcp link"},
		{"address too high", with(func(s *Station) { s.Outstation = number(65520) }), "outstation", "out of range"},
		{"master too high", with(func(s *Station) { s.Master = number(70000) }), "master", "out of range"},
		{"both ends alike", with(func(s *Station) { s.Master = number(10) }), "master", "the outstation's own address"},
		{"no address", testStation("rtu", "yard", 1), "outstation", "is missing"},
		{"integrity poll", with(func(s *Station) { s.IntegrityPoll = Duration(time.Millisecond) }), "integrity_poll", "out of range"},
		{"event poll", with(func(s *Station) { s.Class1Poll = Duration(time.Millisecond) }), "event_poll", "out of range"},
		{"class", with(func(s *Station) { s.UnsolicitedClasses = []int{4} }), "unsolicited_classes", "4 is no event class"},
		{"time sync", with(func(s *Station) { s.TimeSync = "sundial" }), "time_sync", "choose none, lan, serial"},
		{"sign of life", with(func(s *Station) { s.LivenessAsk = "hr:0" }), "liveness_ask", "belongs to Modbus"},
		{"a type that does not fit", point("bi:0", func(p *Point) { p.Type = codec.TypeFloat32 }), "type", "it is bool"},
		{"an input that is written", point("ai:0", func(p *Point) { p.Writable = true }), "writable", "can only be read"},
		{"a byte order", point("ai:0", func(p *Point) { p.Order = codec.CDAB }), "order", "one byte order"},
		{"a poll", point("ai:0", func(p *Point) { p.Poll = Duration(time.Second) }), "poll", "not polled by itself"},
		{"a control of an input", point("bi:0", func(p *Point) { p.Control = ControlPulse }), "control", "belongs to a binary output"},
		{"an unknown control", point("bo:0", func(p *Point) { p.Control = "push" }), "control", "choose latch, pulse, trip-close"},
		{"a pulse of a latch", point("bo:0", func(p *Point) { p.Writable, p.Pulse = true, Duration(time.Second) }), "pulse", "whose control is pulse"},
		{"select of an input", point("bi:0", func(p *Point) { p.Select = &no }), "select", "belongs to a writable bo or ao"},
		{"read back from Modbus", point("bo:0", func(p *Point) { p.Writable, p.ReadBack = true, Address{Space: HoldingRegisters} }), "read_back", "another protocol"},
		{"a Modbus address", point("hr:0", nil), "address", "is a modbus address"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := substation(t, c.e)
			var list Errors
			require.ErrorAs(t, err, &list)
			found := false
			for _, f := range list {
				if f.Field == c.field {
					found = true
					assert.Contains(t, f.Message, c.want)
				}
			}
			assert.True(t, found, "%v", err)
		})
	}
	_, err := substation(t, dnp3Station("second", "yard", 10))
	assert.ErrorContains(t, err, "outstation 10 on link yard is taken by station")
	modbus := testLink("gate")
	_, err = substation(t, modbus, dnp3Station("x", "gate", 3))
	assert.ErrorContains(t, err, "belongs to a station on a DNP3 link")
	unit := testStation("plc", "gate", 1)
	unit.Unsolicited = true
	_, err = substation(t, modbus, unit)
	assert.ErrorContains(t, err, "unsolicited: belongs to a DNP3 station")
}

func TestAnOutstationIsCopiedToTheNextFreeAddress(t *testing.T) {
	s, err := substation(t, dnp3Station("next", "yard", 11))
	require.NoError(t, err)
	from, _ := s.Station("rtu")
	d := s.Edit()
	c := d.CopyStation(from, StationCopy{Name: "copy", Tags: &TagChange{"rtu/", "copy/"}})
	assert.Equal(t, 12, c.LinkAddress())
	changes, err := d.Changes()
	require.NoError(t, err)
	assert.Len(t, changes, 2)
}

func TestPartsOfDNP3Addresses(t *testing.T) {
	for text, meaning := range map[string]string{"ai:3.deadband": "deadband of analog input, index 3", "bi:0.class": "event class of binary input, index 0", "dbi:2": "double-bit input, index 2"} {
		a, err := ParseAddress(text, Offset, "")
		require.NoError(t, err)
		assert.Equal(t, text, a.String())
		assert.Equal(t, meaning, a.Meaning())
		assert.Equal(t, a.Part != Whole, a.Writable())
	}
	for _, text := range []string{"bi:0.deadband", "hr:3.class", "ai:0.3", "ai:0.low"} {
		_, err := ParseAddress(text, Offset, "")
		assert.Error(t, err, text)
	}
}
