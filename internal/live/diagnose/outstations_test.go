package diagnose

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// outstation is a station that speaks DNP3, with notes.
func outstation(address int, edit func(*Station), notes ...Note) Station {
	return station("rtu", 1, func(s *Station) {
		s.Station.Outstation = &address
		s.Notes = map[NoteKind]Note{}
		for _, n := range notes {
			n.Count = max(n.Count, 1)
			s.Notes[n.Kind] = n
		}
		if edit != nil {
			edit(s)
		}
	})
}

func dnp3(l *Link) {
	l.Link = site.NewLink()
	l.Link.Name, l.Link.Host, l.Link.Protocol = "bus", "192.0.2.7", site.DNP3
	l.Link = l.Link.WithDefaults()
}

func TestWhatIsWrongWithAnOutstation(t *testing.T) {
	mute := silent(Counts{Requests: 6, Timeouts: 6})
	for _, c := range []struct {
		name    string
		station Station
		code    Code
		cause   string
		fields  map[string]any // of the first change that is proposed
	}{
		{"nothing comes", outstation(10, mute), OutstationSilent, "192.0.2.7:20000 takes connections, and outstation 10 does not answer.", nil},
		{"another answers", outstation(10, mute, Note{Kind: NoteOtherSource, Number: 11, Text: "11 answers"}), OtherOutstation, "The outstation's link address is 11, not 10.", map[string]any{"outstation": 11}},
		{"to another master", outstation(10, mute, Note{Kind: NoteOtherMaster, Number: 3, Text: "to 3"}), OtherMaster, "Outstation 10 speaks to master 3 alone, and this one is 1.", map[string]any{"master": 3}},
		{"link layer alone", outstation(10, mute, Note{Kind: NoteLinkOnly, Text: "link"}), ApplicationSilent, "Outstation 10 is there, and its application does not answer: it listens and is silent.", nil},
		{"every CRC wrong", outstation(10, silent(Counts{Requests: 6, Checksums: 6})), FramesDamaged, "What comes back is damaged: CRCs of its frames are wrong.", nil},
		{"every CRC wrong, link layer well", outstation(10, silent(Counts{Requests: 6, Checksums: 4, Timeouts: 2}), Note{Kind: NoteLinkOnly, Text: "link"}), FramesDamaged, "What comes back is damaged: CRCs of its frames are wrong.", nil},
		{"some CRCs wrong", outstation(10, func(s *Station) { s.Counts.Damaged = 5 }), FramesDamaged, "Some frames arrive damaged: noise on the way, or something else that speaks at the same time.", nil},
		{"two masters", outstation(10, nil, Note{Kind: NoteTwoMasters, Number: 99, Text: "seen"}), TwoMasters, "Another master, at address 99, asks outstation 10, too.", nil},
		{"unsolicited refused", outstation(10, nil, Note{Kind: NoteNoFunction, Number: 20, Text: "refused"}), FunctionRefused, "The outstation does not have a function that was asked of it.", map[string]any{"unsolicited": false}},
		{"time refused", outstation(10, nil, Note{Kind: NoteNoFunction, Number: 24, Text: "refused"}), FunctionRefused, "The outstation does not have a function that was asked of it.", map[string]any{"time_sync": "none"}},
		{"points missing", outstation(10, nil, Note{Kind: NoteMissing, Number: 2, Text: "it has no bi:7"}), PointsMissing, "The outstation does not have 2 of the site's points.", nil},
		{"points of another kind", outstation(10, nil, Note{Kind: NoteMissing, Number: 3, Text: "it has no ai:7", Moves: []Move{
			{"tank/setpoint", site.Address{Space: site.AnalogInputs, Offset: 7}, site.Address{Space: site.AnalogOutputs, Offset: 7}},
			{"tank/limit", site.Address{Space: site.AnalogInputs, Offset: 8}, site.Address{Space: site.AnalogOutputs, Offset: 8}}}}),
			PointsMissing, "The outstation does not have 3 of the site's points as they are, and it has 2 of them under another kind.", map[string]any{"address": "ao:7"}},
		{"confirmations lost", outstation(10, nil, Note{Kind: NoteConfirms, Count: 2, Text: "again"}), ConfirmsLost, "The outstation repeats what was confirmed: confirmations do not reach it, or come too late for it.", nil},
		{"events lost", outstation(10, nil, Note{Kind: NoteEventsLost, Text: "overflow"}), EventsLost, "Events were lost: the outstation's buffer overflowed before they were fetched.", map[string]any{"unsolicited": true}},
		{"clock wrong", outstation(10, nil, Note{Kind: NoteTime, Number: 3599.9, Text: "its clock is 1h0m0s ahead"}), ClockWrong, "The times of its events are wrong: its clock is 1h0m0s ahead.", map[string]any{"time_sync": "lan"}},
		{"time never set", outstation(10, nil, Note{Kind: NoteNeedsTime, Text: "needs the time"}), ClockUnset, "The outstation asks for the time, and nobody sets its clock: the times of its events are not to be trusted.", map[string]any{"time_sync": "lan"}},
		{"restarts", outstation(10, nil, Note{Kind: NoteRestarted, Count: 3, Text: "restarted"}), DeviceRestarts, "The outstation restarts again and again.", nil},
		{"trouble", outstation(10, nil, Note{Kind: NoteTrouble, Text: "trouble"}), DeviceTrouble, "The outstation says that it has trouble.", nil},
		{"corrupt", outstation(10, nil, Note{Kind: NoteCorrupt, Text: "corrupt"}), DeviceTrouble, "The outstation says that its configuration is corrupt.", nil},
		{"local", outstation(10, nil, Note{Kind: NoteLocal, Text: "local"}), LocalControl, "Outputs of the outstation are switched to local control, so that commands are refused.", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			list := Find(Evidence{Links: []Link{link(dnp3)}, Stations: []Station{c.station}})
			require.Len(t, list, 1)
			f := list[0]
			assert.Equal(t, c.code, f.Code)
			assert.Equal(t, c.cause, f.Cause.String())
			assert.Equal(t, "rtu", f.Subject)
			assert.NotEmpty(t, f.Evidence)
			var fields map[string]any
			for _, step := range f.Next {
				assert.NotEmpty(t, step.Text)
				if len(step.Changes) > 0 && fields == nil {
					fields = step.Changes[0].Fields
				}
			}
			assert.Equal(t, c.fields, fields)
		})
	}
}

func TestAHealthyOutstationHasNoFinding(t *testing.T) {
	for name, s := range map[string]Station{
		"well":                                    outstation(10, nil),
		"one event came again":                    outstation(10, nil, Note{Kind: NoteConfirms, Text: "again"}),
		"it restarted once":                       outstation(10, nil, Note{Kind: NoteRestarted, Text: "restarted"}),
		"two damaged frames":                      outstation(10, func(s *Station) { s.Counts.Damaged = 2 }),
		"silent, and asked twice":                 outstation(10, silent(Counts{Requests: 2, Timeouts: 2})),
		"a Modbus unit has nothing to do with it": station("plc", 1, nil),
	} {
		assert.Empty(t, Find(Evidence{Links: []Link{link(dnp3)}, Stations: []Station{s}}), name)
	}
}

func TestAnotherStationsAddressIsNamed(t *testing.T) {
	far := outstation(11, nil)
	far.Station.Name = "other"
	list := Find(Evidence{Links: []Link{link(dnp3)}, Stations: []Station{outstation(10, silent(Counts{Requests: 6, Timeouts: 6}), Note{Kind: NoteOtherSource, Number: 11, Text: "11"}), far}})
	require.Len(t, list, 1)
	assert.Equal(t, "Outstation 11 answers, which is station other; nothing has the address 10.", list[0].Cause.String())
}

func TestAClockThatIsOffByWholeHoursHasLocalTime(t *testing.T) {
	first := func(seconds float64) string {
		list := Find(Evidence{Links: []Link{link(dnp3)}, Stations: []Station{outstation(10, nil, Note{Kind: NoteTime, Number: seconds, Text: "off"})}})
		require.Len(t, list, 1)
		return list[0].Next[0].Text
	}
	assert.Contains(t, first(7199.8), "local time")
	assert.Contains(t, first(-3600.2), "local time")
	assert.NotContains(t, first(1800), "local time")
	assert.NotContains(t, first(60), "local time")
}

// Outstations that are to connect by themselves, and have not.
func TestOutstationsThatHaveNotConnected(t *testing.T) {
	await := func(listen string, stations ...Station) []Finding {
		for i := range stations {
			stations[i].Station.Name = fmt.Sprint("rtu", i)
		}
		return Find(Evidence{Links: []Link{link(func(l *Link) { dnp3(l); l.Link.Host, l.Link.Port, l.Link.Listen = "", 0, listen })}, Stations: stations})
	}
	absent := func(address int, number float64, more ...Note) Station {
		return outstation(address, silent(Counts{}), append(more, Note{Kind: NoteNotCalled, Number: number, Text: "nothing has connected"})...)
	}
	list := await("127.0.0.1:20000", absent(10, 0))
	require.Len(t, list, 1)
	assert.Equal(t, NotCalledIn, list[0].Code)
	assert.Equal(t, "Outstation 10 has not connected to 127.0.0.1:20000 yet.", list[0].Cause.String())
	assert.Equal(t, map[string]any{"listen": ":20000"}, list[0].Next[0].Changes[0].Fields)
	list = await("192.0.2.1:20000", absent(10, 1))
	require.Len(t, list, 1)
	assert.Equal(t, "Outstation 10 has ended its connection to 192.0.2.1:20000, and has not connected again.", list[0].Cause.String())
	list = await(":20000", absent(10, 0), absent(11, 0))
	require.Len(t, list, 1, "one finding of the link")
	assert.Equal(t, "2 of 2 outstations are not connected to :20000.", list[0].Cause.String())
	assert.Equal(t, "nothing has connected", list[0].Evidence[0])
	stranger := Note{Kind: NoteOtherSource, Number: 22, Text: "22 answers"}
	list = await(":20000", absent(10, 0, stranger), absent(11, 0, stranger))
	require.Len(t, list, 2)
	for _, f := range list {
		assert.Equal(t, OtherOutstation, f.Code)
		assert.InDelta(t, 0.45, f.Certainty, 0.001, "one of the two is it")
	}
}

// Of a host that says that nothing takes UDP there, the port is wrong, and no outstation.
func TestDatagramsThatNothingTakes(t *testing.T) {
	l := link(func(l *Link) {
		dnp3(l)
		l.Link.Transport, l.Since, l.Counts = site.UDP, Counts{Requests: 6, Closed: 6}, Counts{}
	})
	s := outstation(10, silent(Counts{Requests: 6, Closed: 6}))
	s.Failure, s.Reason = failure.Refused, "nothing takes UDP there"
	list := Find(Evidence{Links: []Link{l}, Stations: []Station{s}})
	require.Len(t, list, 1)
	assert.Equal(t, ConnectionRefused, list[0].Code)
	assert.Equal(t, "The host is there, and says that nothing takes UDP at 192.0.2.7:20000.", list[0].Cause.String())
}
