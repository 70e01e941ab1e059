package site

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
)

func testLink(name string) Link {
	l := NewLink()
	l.Name, l.Host = name, "127.0.0.1"
	return l
}

func testStation(name, link string, unit int) Station {
	s := NewStation()
	s.Name, s.Link, s.Unit = name, link, unit
	return s
}

func testPoint(tag, station, address string, typ codec.Type) Point {
	a, err := ParseAddress(address, Offset, "")
	if err != nil {
		panic(err)
	}
	return Point{Tag: tag, Station: station, Address: a, Type: typ}
}

// small is a site of one link, two stations and three points.
func small(t *testing.T) *Site {
	t.Helper()
	s := New()
	d := s.Edit()
	for _, e := range []Entity{
		testLink("gate"), testStation("plc", "gate", 1), testStation("meter", "gate", 2),
		testPoint("plc/a", "plc", "hr:0", codec.TypeUint16), testPoint("plc/b", "plc", "co:0", ""),
		testPoint("meter/a", "meter", "ir:0", codec.TypeFloat32),
	} {
		d.Add(e)
	}
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	return s
}

func TestDraftAddsInOrderOfReference(t *testing.T) {
	s := New()
	d := s.Edit()
	d.Add(testPoint("a", "plc", "hr:0", "")) // before its station and link
	d.Add(testStation("plc", "gate", 1))
	d.Add(testLink("gate"))
	changes, err := d.Changes()
	require.NoError(t, err)
	var kinds []Kind
	for _, c := range changes {
		kinds = append(kinds, c.Kind())
		assert.Equal(t, Add, c.Action())
	}
	assert.Equal(t, []Kind{KindLink, KindStation, KindPoint}, kinds)
	s = s.With(changes)
	p, ok := s.Point("a")
	require.True(t, ok)
	assert.Equal(t, codec.TypeUint16, p.Type, "the default for a register")
}

func TestDraftReportsEveryFaultAndChangesNothing(t *testing.T) {
	s := small(t)
	d := s.Edit()
	bad := testLink("gate2")
	bad.Port, bad.Host, bad.Timeout = 70000, "a b", 0
	d.Add(bad)
	d.Add(testStation("plc2", "gaet", 300))
	d.Add(testPoint("x", "plcc", "hr:0", "float16"))
	_, err := d.Changes()
	var faults Errors
	require.ErrorAs(t, err, &faults)
	var lines []string
	for _, f := range faults {
		lines = append(lines, string(f.Kind)+" "+f.Name+" "+f.Field)
	}
	assert.Equal(t, []string{"link gate2 host", "link gate2 port", "link gate2 timeout",
		"station plc2 unit", "station plc2 link", "point x type", "point x station"}, lines)
	assert.Contains(t, err.Error(), "did you mean gate")
	assert.Contains(t, err.Error(), "did you mean plc")
	assert.Equal(t, 1, s.Count(KindLink))
}

func TestPointValidation(t *testing.T) {
	two, none := 2, 13
	for _, c := range []struct {
		name  string
		edit  func(*Point)
		field string
		part  string
	}{
		{"float32 on a coil", func(p *Point) { p.Address = Address{Space: Coils}; p.Type = codec.TypeFloat32 }, "type", "float32 does not fit co:0"},
		{"bit of a register as uint16", func(p *Point) { p.Address.Part = Bit(3); p.Type = codec.TypeUint16 }, "type", "one bit is a bool"},
		{"byte of a register as int32", func(p *Point) { p.Address.Part = HighByte; p.Type = codec.TypeInt32 }, "type", "one byte is an int8 or uint8"},
		{"beyond the table", func(p *Point) { p.Address.Offset = 65535; p.Type = codec.TypeFloat32 }, "address", "ends beyond 65535"},
		{"string without length", func(p *Point) { p.Type = codec.TypeString }, "length", "1 to 250"},
		{"string too long", func(p *Point) { p.Type = codec.TypeString; p.Length = 251 }, "length", "1 to 250"},
		{"length of an int16", func(p *Point) { p.Type = codec.TypeInt16; p.Length = 2 }, "length", "only string and bits"},
		{"bits of 24", func(p *Point) { p.Type = codec.TypeBits; p.Length = 24 }, "length", "16, 32 or 64"},
		{"writable input register", func(p *Point) { p.Address.Space = InputRegisters; p.Writable = true }, "writable", "can only be read"},
		{"scaling of a string", func(p *Point) {
			p.Type, p.Length = codec.TypeString, 4
			p.Scaling = scaling.Scaling{Raw: &[2]float64{0, 1}, Eng: &[2]float64{0, 1}}
		}, "scaling", "has no scaling"},
		{"scaling without span", func(p *Point) {
			p.Scaling = scaling.Scaling{Raw: &[2]float64{1, 1}, Eng: &[2]float64{0, 1}}
		}, "scaling.raw", "must differ"},
		{"writable through a hump", func(p *Point) {
			p.Writable = true
			p.Scaling = scaling.Scaling{Table: [][2]float64{{0, 0}, {1, 5}, {2, 0}}}
		}, "scaling", "no inverse"},
		{"states of a bool beyond 1", func(p *Point) { p.Type = codec.TypeBool; p.States = States{2: "x"} }, "states", "only 0 to 1"},
		{"states of a float", func(p *Point) { p.Type = codec.TypeFloat32; p.States = States{0: "x"} }, "states", "not for float32"},
		{"two states of one name", func(p *Point) { p.States = States{0: "off", 1: "Off"} }, "states", "names both 0 and 1"},
		{"inverted number", func(p *Point) { p.Invert = true }, "invert", "only a bool"},
		{"decimals", func(p *Point) { p.Decimals = &none }, "decimals", "0 to 12"},
		{"poll too quick", func(p *Point) { p.Poll = Duration(time.Millisecond) }, "poll", "20ms to 24h"},
		{"tag with a space", func(p *Point) { p.Tag = "a b" }, "tag", `has ' ' in it`},
		{"tag with an empty part", func(p *Point) { p.Tag = "a//b" }, "tag", "empty part"},
		{"tag with a wildcard", func(p *Point) { p.Tag = "a/*" }, "tag", `has '*' in it`},
		{"no tag", func(p *Point) { p.Tag = "" }, "tag", "is missing"},
		{"long tag", func(p *Point) { p.Tag = strings.Repeat("x", 201) }, "tag", "at most 200"},
		{"unit with a newline", func(p *Point) { p.Unit = "m\n" }, "unit", "control character"},
		{"dnp3 address at a Modbus station", func(p *Point) { p.Address = Address{Space: BinaryInputs}; p.Type = codec.TypeBool }, "address", "speaks modbus"},
		{"order", func(p *Point) { p.Order = "ACBD" }, "order", "choose ABCD, CDAB, BADC, DCBA"},
		{"fine", func(p *Point) { p.Decimals = &two; p.Unit = "m³/h"; p.Description = "Größe" }, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := small(t)
			p := testPoint("new", "plc", "hr:10", codec.TypeUint16)
			c.edit(&p)
			d := s.Edit()
			d.Add(p)
			_, err := d.Changes()
			if c.field == "" {
				require.NoError(t, err)
				return
			}
			var faults Errors
			require.ErrorAs(t, err, &faults)
			assert.Equal(t, c.field, faults[0].Field)
			assert.Contains(t, faults[0].Message, c.part)
		})
	}
}

func TestTwoStationsOfOneLinkCannotShareAUnit(t *testing.T) {
	s := small(t)
	d := s.Edit()
	d.Add(testStation("plc2", "gate", 1))
	_, err := d.Changes()
	assert.ErrorContains(t, err, "unit 1 on link gate is taken by station plc")

	d = s.Edit() // swapping them in one step is fine
	d.Put(testStation("plc", "gate", 2))
	d.Put(testStation("meter", "gate", 1))
	changes, err := d.Changes()
	require.NoError(t, err)
	assert.Len(t, changes, 2)
}

func TestLinks(t *testing.T) {
	for _, c := range []struct {
		name  string
		edit  func(*Link)
		field string // of the fault; "" for none
		end   string // what the far end is then
	}{
		{"tcp", func(*Link) {}, "", "127.0.0.1:502"},
		{"tls has a port of its own", func(l *Link) { l.Transport = TLS }, "", "127.0.0.1:802"},
		{"IPv6", func(l *Link) { l.Host = "fd00::7" }, "", "[fd00::7]:502"},
		{"serial", func(l *Link) {
			l.Host, l.Transport, l.Serial = "", Serial, &LineSettings{Device: "COM3", Parity: "none", StopBits: 2}
		}, "", "COM3 9600 8N2"},
		{"a port in the host", func(l *Link) { l.Host = "plc:502" }, "host", ""},
		{"a host on a serial line", func(l *Link) { l.Transport, l.Serial = Serial, &LineSettings{Device: "COM3"} }, "host", ""},
		{"no device", func(l *Link) { l.Host, l.Transport, l.Serial = "", Serial, &LineSettings{} }, "serial.device", ""},
		{"too slow", func(l *Link) { l.Host, l.Transport, l.Serial = "", Serial, &LineSettings{Device: "COM3", Baud: 110} }, "serial.baud", ""},
		{"tls settings on tcp", func(l *Link) { l.TLS = &TLSSettings{} }, "tls", ""},
		{"bind to an interface", func(l *Link) { l.Bind = "eth0" }, "", "127.0.0.1:502"},
		{"bind to half an address", func(l *Link) { l.Bind = "10.0.0" }, "bind", ""},
		{"framing", func(l *Link) { l.Framing = "rtu2" }, "framing", ""},
		{"one in flight", func(l *Link) { l.InFlight, l.Connections = 1, 1 }, "", "127.0.0.1:502"},
		{"several in flight", func(l *Link) { l.InFlight, l.Connections = 8, 2 }, "", "127.0.0.1:502"},
		{"too many in flight", func(l *Link) { l.InFlight = 17 }, "in_flight", ""},
		{"in flight without identifiers", func(l *Link) { l.InFlight, l.Framing = 2, RTU }, "in_flight", ""},
		{"two connections to a port", func(l *Link) {
			l.Host, l.Transport, l.Serial, l.Connections = "", Serial, &LineSettings{Device: "COM3"}, 2
		}, "connections", ""},
		{"dialup", func(l *Link) { l.Host, l.Transport, l.Serial = "", Dialup, &LineSettings{Device: "COM3"} }, "", "COM3 9600 8E1"},
		{"no modem command", func(l *Link) {
			l.Host, l.Transport, l.Serial, l.Modem = "", Dialup, &LineSettings{Device: "COM3"}, &Modem{Init: "ATZ;X3"}
		}, "modem.init", ""},
		{"a modem on tcp", func(l *Link) { l.Modem = &Modem{} }, "modem", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := testLink("new")
			c.edit(&l)
			d := New().Edit()
			d.Add(l)
			changes, err := d.Changes()
			if c.field != "" {
				var faults Errors
				require.ErrorAs(t, err, &faults)
				assert.Equal(t, c.field, faults[0].Field)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.end, changes[0].After.(Link).FarEnd())
		})
	}
	assert.Equal(t, 11, LineSettings{DataBits: 8, Parity: "even", StopBits: 1}.Bits(), "as the standard has it")
}

func TestUnitZeroIsNoDeviceOfASerialLine(t *testing.T) {
	l := testLink("bus")
	l.Host, l.Transport, l.Serial = "", Serial, &LineSettings{Device: "COM3"}
	d := New().Edit()
	d.Add(l)
	d.Add(testStation("all", "bus", 0))
	_, err := d.Changes()
	assert.ErrorContains(t, err, "0 addresses all devices of a serial line")

	s := small(t)
	d = s.Edit()
	d.Put(testStation("plc", "gate", 0))
	changes, err := d.Changes()
	require.NoError(t, err, "on a network unit 0 is a device as others are")
	s = s.With(changes)
	l.Name = "gate"
	d = s.Edit()
	d.Put(l)
	_, err = d.Changes()
	assert.ErrorContains(t, err, "station plc: unit 0")
}

func TestStationLimits(t *testing.T) {
	s := small(t)
	wide := 125
	st := testStation("plc", "gate", 1)
	st.MaxRegisters, st.MaxBits, st.Gap, st.WriteFunction, st.PartialWrite, st.AfterConnect = 126, 2001, &wide, "some", "some", Duration(time.Minute)
	d := s.Edit()
	d.Put(st)
	_, err := d.Changes()
	var faults Errors
	require.ErrorAs(t, err, &faults)
	var fields []string
	for _, f := range faults {
		fields = append(fields, f.Field)
	}
	assert.Equal(t, []string{"after_connect", "max_registers", "max_bits", "gap", "write_function", "partial_write"}, fields)
	registers, bits, gap := Station{}.ReadLimits()
	assert.Equal(t, []int{125, 2000, 16}, []int{registers, bits, gap})
}

func TestTakenNames(t *testing.T) {
	s := small(t)
	d := s.Edit()
	d.Add(testPoint("plc/a", "plc", "hr:7", ""))
	_, err := d.Changes()
	assert.ErrorContains(t, err, `"plc/a" is taken`)
}

func TestRename(t *testing.T) {
	s := small(t)
	d := s.Edit()
	renamed := testStation("pump-plc", "gate", 1)
	d.Replace("plc", renamed)
	changes, err := d.Changes()
	require.NoError(t, err)
	require.Len(t, changes, 3)
	assert.Equal(t, Modify, changes[0].Action())
	assert.Equal(t, "plc", changes[0].Before.Key())
	s = s.With(changes)
	assert.Equal(t, 2, s.CountOf("pump-plc"))
	assert.Zero(t, s.CountOf("plc"))
	p, _ := s.Point("plc/a")
	assert.Equal(t, "pump-plc", p.Station)

	d = s.Edit()
	d.Replace("pump-plc", testStation("meter", "gate", 1))
	_, err = d.Changes()
	assert.ErrorContains(t, err, `"meter" is taken`)
}

func TestRemove(t *testing.T) {
	s := small(t)
	d := s.Edit()
	d.Remove(KindLink, "gate", false)
	_, err := d.Changes()
	assert.ErrorContains(t, err, "2 stations belong to it")

	d = s.Edit()
	d.Remove(KindLink, "gate", true)
	changes, err := d.Changes()
	require.NoError(t, err)
	require.Len(t, changes, 6)
	assert.Equal(t, KindPoint, changes[0].Kind(), "what refers goes before what is referred to")
	assert.Equal(t, KindLink, changes[5].Kind())
	s = s.With(changes)
	assert.Empty(t, s.Tags())
	assert.Empty(t, s.StationsOf("gate"))
}

func TestFaultsAreBoundedWhileTheyAreFound(t *testing.T) {
	d := small(t).Edit()
	for i := range 3 * MaxFaults {
		d.Put(Point{Tag: fmt.Sprintf("no-station-%d", i)})
	}
	_, err := d.Changes()
	var found Errors
	require.ErrorAs(t, err, &found)
	require.Len(t, found, MaxFaults+1)
	assert.Contains(t, found[MaxFaults].Error(), "these are the first 1000 faults; there may be more")

	d = small(t).Edit()
	for range 3 * MaxFaults {
		d.Fail(&FieldError{Kind: KindPoint, Name: "a", Message: "is wrong"})
	}
	_, err = d.Changes()
	require.ErrorAs(t, err, &found)
	assert.Len(t, found, MaxFaults+1)
}

// A removal with all that belongs to it takes each entity once: were it to look through all for each, this would take hours.
func TestRemovingALinkWithAHundredThousandPoints(t *testing.T) {
	s := small(t)
	d := s.Edit()
	const n = 100_000
	for i := range n {
		d.Put(testPoint(fmt.Sprintf("many/%d", i), "plc", "hr:1", codec.TypeUint16))
	}
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	d = s.Edit()
	d.Remove(KindLink, "gate", true)
	changes, err = d.Changes()
	require.NoError(t, err)
	assert.Len(t, changes, n+6)
	s = s.With(changes)
	assert.Zero(t, s.Count(KindPoint))
}

// What moves to and fro within a draft belongs to where it is at the end, and is found there once.
func TestWhatBelongsToWhatWithinADraft(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		s := small(t)
		d := s.Edit()
		d.Put(testStation("third", "gate", 7))
		stations, at := []string{"plc", "meter", "third"}, map[string]string{}
		for _, p := range s.Points() {
			at[p.Tag] = p.Station
		}
		for range 30 {
			tag, station := fmt.Sprintf("p%d", random.IntN(6)), stations[random.IntN(3)]
			if random.IntN(4) == 0 {
				d.Remove(KindPoint, tag, false)
				delete(at, tag)
				continue
			}
			d.Put(testPoint(tag, station, "hr:1", codec.TypeUint16))
			at[tag] = station
		}
		for _, station := range stations {
			var want, got []string
			for tag, in := range at {
				if in == station {
					want = append(want, tag)
				}
			}
			for _, e := range d.dependents(key{KindStation, station}) {
				got = append(got, e.Key())
			}
			assert.ElementsMatch(t, want, got)
		}
	}
}

func TestASiteStaysAsItIs(t *testing.T) {
	s := small(t)
	tags := slices.Clone(s.Tags())
	d := s.Edit()
	d.Remove(KindLink, "gate", true)
	changes, err := d.Changes()
	require.NoError(t, err)
	next := s.With(changes)
	assert.Empty(t, next.StationsOf("gate"))
	assert.Empty(t, next.PointsOf("plc"))
	assert.Equal(t, tags, s.Tags())
	assert.Len(t, s.StationsOf("gate"), 2)
	assert.NotEmpty(t, s.PointsOf("plc"))
}

func TestPuttingTheSameIsNoChange(t *testing.T) {
	s := small(t)
	d := s.Edit()
	d.Put(testLink("gate"))
	d.Put(testPoint("plc/b", "plc", "co:0", ""))
	changes, err := d.Changes()
	require.NoError(t, err)
	assert.Empty(t, changes)
}

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		pattern, tag string
		want         bool
	}{
		{"sallow/*", "sallow/gate1/position", true},
		{"*", "", true},
		{"*position", "sallow/gate1/position", true},
		{"sallow/gate?/position", "sallow/gate1/position", true},
		{"sallow/*/pos*", "sallow/gate1/position", true},
		{"Sallow/*", "sallow/x", true},
		{"sallow", "sallow/gate1", false},
		{"*torque", "sallow/gate1/position", false},
		{"?", "", false},
		{"a*b*c", "aXXbYYbZc", true},
	} {
		assert.Equal(t, c.want, Match(c.pattern, c.tag), "%s ~ %s", c.pattern, c.tag)
	}
}

func TestStatesJSON(t *testing.T) {
	var s States
	require.NoError(t, s.UnmarshalJSON([]byte(`["idle","open"]`)))
	assert.Equal(t, States{0: "idle", 1: "open"}, s)
	require.NoError(t, s.UnmarshalJSON([]byte(`{"0":"stopped","5":"tripped"}`)))
	assert.Equal(t, States{0: "stopped", 5: "tripped"}, s)
	assert.Error(t, s.UnmarshalJSON([]byte(`{"x":"y"}`)))
	assert.Error(t, s.UnmarshalJSON([]byte(`3`)))
	assert.Equal(t, "Run, bit 2", States{0: "Run"}.SetBits(5))
}

func TestDurationText(t *testing.T) {
	for text, want := range map[string]time.Duration{"1s": time.Second, "20ms": 20 * time.Millisecond, "1h": time.Hour, "1m30s": 90 * time.Second, "0s": 0, "24h": 24 * time.Hour} {
		var d Duration
		require.NoError(t, d.UnmarshalText([]byte(text)))
		assert.Equal(t, Duration(want), d)
		assert.Equal(t, text, d.String())
	}
	var d Duration
	assert.ErrorContains(t, d.UnmarshalText([]byte("5")), "with its unit")
}

// A snapshot is read by all, and others are made of it at once: by who edits, and by who looks at what was or would be.
func TestManySitesAreMadeOfOneAtOnce(t *testing.T) {
	d := New().Edit()
	link, station := NewLink(), NewStation()
	link.Name, link.Host = "gate", "127.0.0.1"
	d.Add(link.WithDefaults())
	station.Name, station.Link = "plc", "gate"
	d.Add(station)
	for i := range 100 {
		p := NewPoint()
		p.Tag, p.Station, p.Address = fmt.Sprintf("p%d", i), "plc", Address{Space: HoldingRegisters, Offset: uint16(i)}
		d.Add(p)
	}
	changes, err := d.Changes()
	require.NoError(t, err)
	s := New().With(changes)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			p, _ := s.Point(fmt.Sprintf("p%d", i))
			after := p
			after.Description = fmt.Sprint("of ", i)
			other := s.With([]Change{{Before: p, After: after}, {Before: nil, After: Template{Name: fmt.Sprint("t", i)}}})
			for k := range 100 {
				p, known := other.Point(fmt.Sprintf("p%d", k))
				assert.True(t, known)
				assert.Equal(t, k == i, p.Description != "")
			}
		})
	}
	all.Wait()
	for i := range 100 {
		p, _ := s.Point(fmt.Sprintf("p%d", i))
		assert.Empty(t, p.Description)
	}
}
