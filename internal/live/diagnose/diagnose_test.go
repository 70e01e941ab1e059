package diagnose

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

func link(edit func(*Link)) Link {
	l := site.NewLink()
	l.Name, l.Host = "bus", "192.0.2.7"
	out := Link{Link: l.WithDefaults(), Up: true}
	if edit != nil {
		edit(&out)
	}
	return out
}

func serial(l *Link) {
	l.Link.Transport, l.Link.Framing, l.Link.Host = site.Serial, site.RTU, ""
	l.Link.Serial = &site.LineSettings{Device: "/dev/ttyX", Baud: 9600, DataBits: 8, Parity: "even", StopBits: 1}
}

func station(name string, unit int, edit func(*Station)) Station {
	st := site.NewStation()
	st.Name, st.Link, st.Unit = name, "bus", unit
	s := Station{Station: st, Answering: true, OtherUnit: -1, Counts: Counts{Requests: 60, Answers: 60}}
	if edit != nil {
		edit(&s)
	}
	return s
}

func silent(counts Counts) func(*Station) {
	return func(s *Station) {
		s.Answering, s.Silent, s.Since = false, true, counts
		s.Counts.Timeouts, s.Counts.Checksums, s.Counts.Foreign = counts.Timeouts, counts.Checksums, counts.Foreign
	}
}

func codes(list []Finding) (out []Code) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

func TestHealthHasNoFindings(t *testing.T) {
	assert.Empty(t, Find(Evidence{}))
	assert.Empty(t, Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil), station("b", 2, nil)}}))
	// One lost answer, one damaged frame, one late response are no finding.
	assert.Empty(t, Find(Evidence{Links: []Link{link(func(l *Link) { serial(l); l.Counts = Counts{Answers: 60, Checksums: 1} })},
		Stations: []Station{station("a", 1, func(s *Station) { s.Counts.Checksums, s.Counts.Late, s.Counts.Timeouts = 1, 1, 1 })}}))
}

func TestFindingsWaitForEvidence(t *testing.T) {
	for n, want := range []int{0, 0, 0, 1, 1} {
		list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, silent(Counts{Requests: n, Timeouts: n}))}})
		assert.Len(t, list, want, "after %d timeouts", n)
	}
	for n, want := range []int{0, 0, 1} {
		list := Find(Evidence{Links: []Link{link(func(l *Link) { l.Up, l.Down, l.Failure, l.Failures = false, true, failure.Refused, n })}})
		assert.Len(t, list, want, "after %d attempts", n)
	}
}

func TestWhatIsWrongWithALinkHidesWhatFollowsFromIt(t *testing.T) {
	dead := silent(Counts{Requests: 9, Timeouts: 9})
	points := []Point{{Point: site.Point{Tag: "a/x", Station: "a"}, Swaps: enough}}
	down := link(func(l *Link) { l.Up, l.Down, l.Failure, l.Failures = false, true, failure.Name, 5 })
	list := Find(Evidence{Links: []Link{down}, Stations: []Station{station("a", 1, dead), station("b", 2, dead)}, Points: points})
	assert.Equal(t, []Code{NameUnresolved}, codes(list), "for stations and points alike")
	quiet := link(func(l *Link) { serial(l); l.Since = Counts{Requests: 9, Timeouts: 9} })
	assert.Equal(t, []Code{LineSilent}, codes(Find(Evidence{Links: []Link{quiet}, Stations: []Station{station("a", 1, dead), station("b", 2, dead)}, Points: points})))
	assert.Equal(t, []Code{UnitSilent}, codes(Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, dead), station("b", 2, nil)}, Points: points})), "a station that does not answer, for its points")
}

func TestEveryFailureToOpenHasItsFinding(t *testing.T) {
	for kind, code := range map[failure.Kind]Code{
		failure.Name: NameUnresolved, failure.Unreachable: HostUnreachable, failure.Refused: ConnectionRefused, failure.Timeout: ConnectTimeout, failure.Bind: BindWrong,
		failure.TLS: TLSRefused, failure.Port: PortMissing, failure.Taken: PortTaken, failure.Modem: NoModem,
	} {
		l := link(func(l *Link) {
			if kind == failure.Port || kind == failure.Taken || kind == failure.Modem {
				serial(l)
			}
			l.Up, l.Down, l.Failure, l.Failures, l.Reason = false, true, kind, 3, "why"
		})
		list := Find(Evidence{Links: []Link{l}})
		require.Len(t, list, 1, kind)
		assert.Equal(t, code, list[0].Code)
		assert.Contains(t, list[0].Evidence, "why")
		l.Failures = 1
		far := kind == failure.Name || kind == failure.Unreachable || kind == failure.Refused || kind == failure.Timeout || kind == failure.TLS
		assert.Equal(t, far, len(Find(Evidence{Links: []Link{l}})) == 0, "%v: what is far away may pass, and is not told after one attempt", kind)
	}
}

// The settings of a link that has worked are not what is wrong when it stops.
func TestALinkThatHasWorked(t *testing.T) {
	for kind, code := range map[failure.Kind]Code{failure.Refused: ConnectionRefused, failure.Timeout: ConnectTimeout} {
		for _, worked := range []bool{false, true} {
			l := link(func(l *Link) {
				l.Up, l.Down, l.Failure, l.Failures, l.Reason, l.Worked = false, true, kind, 3, "why", worked
				l.Link.Port = 1502
			})
			list := Find(Evidence{Links: []Link{l}})
			require.Len(t, list, 1)
			assert.Equal(t, code, list[0].Code)
			assert.Equal(t, worked, strings.Contains(list[0].Cause.String(), "before"), list[0].Cause.String())
			for _, step := range list[0].Next {
				assert.False(t, worked && len(step.Changes) > 0, "%s changes a setting that worked", step.Text)
			}
		}
	}
	l := link(func(l *Link) {
		l.Up, l.Down, l.Failure, l.Failures = false, true, failure.Refused, 3
		l.Link.Protocol, l.Link.Framing, l.Link.Port = site.DNP3, "", 1502
	})
	assert.Equal(t, map[string]any{"port": 20000}, Find(Evidence{Links: []Link{l}})[0].Next[0].Changes[0].Fields, "the usual port of its protocol")
}

func TestTheUnitThatAnswersInstead(t *testing.T) {
	wrong := func(s *Station) {
		silent(Counts{Requests: 5, Malformed: 5, Foreign: 5})(s)
		s.OtherUnit = 2
	}
	list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, wrong)}})
	require.Equal(t, []Code{OtherUnit}, codes(list))
	assert.Equal(t, []Change{{site.KindStation, "a", map[string]any{"unit": 2}}}, list[0].Next[0].Changes)
	list = Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, wrong), station("b", 2, nil)}})
	assert.Equal(t, []Code{UnitOfAnother}, codes(list), "not when that unit is configured")
	assert.Empty(t, list[0].Next[0].Changes, "what would break the other is not offered")
}

func TestTheSameDeviceOnTwoLinks(t *testing.T) {
	second := link(func(l *Link) { l.Link.Name = "twin" })
	dead := station("a", 1, silent(Counts{Requests: 5, Timeouts: 5}))
	twin := station("b", 1, func(s *Station) { s.Station.Link = "twin" })
	list := Find(Evidence{Links: []Link{link(nil), second}, Stations: []Station{dead, twin}})
	require.Equal(t, []Code{UnitOfAnother}, codes(list))
	assert.Contains(t, list[0].Cause.String(), "is configured as station b, too")
}

func TestNoiseIsOfTheLineWhenItIsAtSeveralStations(t *testing.T) {
	noisy := func(n int) func(*Station) { return func(s *Station) { s.Counts.Checksums = n } }
	l := link(func(l *Link) { serial(l); l.Counts = Counts{Answers: 110, Checksums: 8} })
	assert.Equal(t, []Code{LineNoise}, codes(Find(Evidence{Links: []Link{l}, Stations: []Station{station("a", 1, noisy(4)), station("b", 2, noisy(4))}})))
	assert.Equal(t, []Code{UnitDamaged}, codes(Find(Evidence{Links: []Link{l}, Stations: []Station{station("a", 1, noisy(8)), station("b", 2, nil)}})))
	assert.Equal(t, []Code{UnitTwice}, codes(Find(Evidence{Links: []Link{link(serial)}, Stations: []Station{station("a", 1, func(s *Station) { s.Counts.Stray = 5 }), station("b", 2, nil)}})))
}

func TestATimeoutThatIsTooShort(t *testing.T) {
	late := func(slowest time.Duration) []Finding {
		return Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, func(s *Station) { s.Counts.Late, s.Slowest = 4, slowest })}})
	}
	list := late(1340 * time.Millisecond)
	require.Equal(t, []Code{TimeoutShort}, codes(list))
	assert.Equal(t, map[string]any{"timeout": "2.7s"}, list[0].Next[0].Changes[0].Fields, "twice the slowest")
	assert.Equal(t, map[string]any{"timeout": "4s"}, late(0)[0].Next[0].Changes[0].Fields, "when nothing tells how late")
	assert.Equal(t, map[string]any{"timeout": "1m"}, late(time.Hour)[0].Next[0].Changes[0].Fields, "within what is possible")
}

func TestSeveralThatAreLateAreOneFindingOfTheLink(t *testing.T) {
	late := func(s *Station) { s.Counts.Late, s.Slowest = 4, 700*time.Millisecond }
	list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, late), station("b", 2, late), station("c", 3, nil)}})
	require.Equal(t, []Code{TimeoutShort}, codes(list))
	assert.Equal(t, "bus", list[0].Subject)
	assert.Contains(t, list[0].Cause.String(), "Responses of a, b come after")
	assert.Equal(t, map[string]any{"timeout": "2s"}, list[0].Next[0].Changes[0].Fields)
}

func TestRefusalsOfOneKindAreOneFinding(t *testing.T) {
	refused := func(s *Station) {
		for i := range 40 {
			s.Refused = append(s.Refused, Refusal{Code: 2, Table: site.HoldingRegisters, From: 100 + 2*i, Count: 1, Points: []At{{"x", site.Address{Space: site.HoldingRegisters, Offset: uint16(100 + 2*i)}}}})
		}
		s.Refused[0].Instead = []site.Range{{Start: site.Address{Space: site.HoldingRegisters, Offset: 99}, Count: 1}}
		s.Refused = append(s.Refused, Refusal{Code: 1, Table: site.InputRegisters, From: 0, Count: 4, Points: []At{{Tag: "y"}}})
	}
	list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, refused)}})
	assert.ElementsMatch(t, []Code{AddressRefused, FunctionRefused}, codes(list))
	for _, f := range list {
		if f.Code == AddressRefused {
			assert.Contains(t, f.Cause.String(), "and 34 more")
			assert.Equal(t, "hr:99 answers: set the address of x to it", f.Next[0].Text)
			assert.Equal(t, site.KindPoint, f.Next[0].Changes[0].Kind)
		}
	}
}

// A fault that all stations of a link have, or many, has one cause.
func TestAFaultThatStationsShare(t *testing.T) {
	faults := map[Code]func(*Station){
		UnitSilent:    silent(Counts{Requests: 5, Timeouts: 5}),
		GatewayTarget: silent(Counts{Requests: 5, Exceptions: map[int]int{11: 5}}),
		GatewayPath:   silent(Counts{Requests: 5, Exceptions: map[int]int{10: 5}}),
	}
	for code, fault := range faults {
		of := func(dead, well int) (list []Station) {
			for i := range dead + well {
				edit := fault
				if i >= dead {
					edit = nil
				}
				list = append(list, station(fmt.Sprintf("s%d", i), i+1, edit))
			}
			return list
		}
		for _, c := range []struct {
			dead, well int
			says       string // "" for one finding each
		}{{1, 0, ""}, {2, 0, "2"}, {40, 0, "40"}, {2, 1, ""}, {3, 1, "3 of 4"}, {40, 40, "40 of 80"}} {
			list := Find(Evidence{Links: []Link{link(nil)}, Stations: of(c.dead, c.well)})
			if c.says == "" {
				require.Len(t, list, c.dead, "%s %v", code, c)
				assert.Equal(t, site.KindStation, list[0].Kind)
				continue
			}
			require.Len(t, list, 1, "%s %v", code, c)
			assert.Equal(t, code, list[0].Code)
			assert.Equal(t, "bus", list[0].Subject)
			assert.Contains(t, list[0].Cause.String(), c.says)
			assert.Contains(t, list[0].Evidence, "s0 (unit 1)")
			assert.LessOrEqual(t, len(list[0].Evidence), someOf+2)
			assert.NotEmpty(t, list[0].Next)
		}
	}
}

func TestTheMostCertainComesFirst(t *testing.T) {
	list := Find(Evidence{
		Links: []Link{link(nil), link(func(l *Link) {
			l.Link.Name, l.Up, l.Down, l.Failure, l.Failures = "other", false, true, failure.Name, 3
		})},
		Stations: []Station{station("a", 1, silent(Counts{Requests: 5, Timeouts: 5}))},
	})
	assert.Equal(t, []Code{NameUnresolved, UnitSilent}, codes(list))
}

// one is the finding of evidence that has one cause.
func one(t *testing.T, l Link, stations ...Station) Finding {
	t.Helper()
	list := Find(Evidence{Links: []Link{l}, Stations: stations})
	require.Len(t, list, 1)
	assert.NotEmpty(t, list[0].Next)
	return list[0]
}

func TestOddAnswers(t *testing.T) {
	for _, c := range []struct {
		name string
		edit func(*Station)
		code Code
		says string
	}{
		{"none is proper", func(s *Station) {
			silent(Counts{Requests: 5, Malformed: 5})(s)
			s.Reason = "bad response: a response broke off"
		}, AnswersMalformed, "its responses are invalid"},
		{"some are not proper", func(s *Station) { s.Counts.Malformed = 4 }, AnswersMalformed, "Some of the device's responses"},
		{"more than answers", func(s *Station) { s.Counts.Damaged = 40 }, ExtraBytes, "Bytes that belong to no response"},
		{"some are missing", func(s *Station) { s.Counts.Timeouts = 10 }, AnswersMissing, "Some requests stay without a response"},
		{"each comes twice", func(s *Station) { s.Counts.Stray = 60 }, UnitTwice, "a gateway says everything twice"},
		{"it is busy", func(s *Station) { s.Counts.Exceptions = map[int]int{5: 2, 6: 3} }, DeviceBusy, "busy with something else"},
		{"codes of its own", func(s *Station) { s.Counts.Exceptions = map[int]int{0: 30} }, ExceptionUnknown, "a code that the standard does not have"},
		{"never its identifier", func(s *Station) { silent(Counts{Requests: 5, Malformed: 5, Foreign: 5})(s) }, IdentifierIgnored, "another transaction identifier"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := one(t, link(nil), station("a", 1, c.edit), station("b", 2, nil))
			assert.Equal(t, c.code, f.Code)
			assert.Equal(t, "a", f.Subject)
			assert.Contains(t, f.Cause.String(), c.says)
		})
	}
	few := func(s *Station) {
		s.Counts.Requests, s.Counts.Timeouts, s.Counts.Malformed, s.Counts.Late = 1000, 4, 4, 4
	}
	assert.Empty(t, Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, few)}}), "a few of many say nothing")
	noisy := link(func(l *Link) { serial(l); l.Counts = Counts{Answers: 110, Checksums: 8} })
	both := func(s *Station) { s.Counts.Checksums, s.Counts.Timeouts = 4, 8 }
	assert.Equal(t, LineNoise, one(t, noisy, station("a", 1, both), station("b", 2, both)).Code, "noise explains what is missing")
}

// A station that does not answer is asked seldom, so that a minute shows too little of it.
func TestFindingsOfTheSilentStay(t *testing.T) {
	for _, c := range []struct {
		name  string
		since Counts
		code  Code
	}{
		{"late", Counts{Requests: 9, Timeouts: 9, Late: 8}, TimeoutShort},
		{"no path", Counts{Requests: 9, Exceptions: map[int]int{10: 9}}, GatewayPath},
		{"no target", Counts{Requests: 9, Exceptions: map[int]int{11: 9}}, GatewayTarget},
		{"silence", Counts{Requests: 9, Timeouts: 9}, UnitSilent},
	} {
		t.Run(c.name, func(t *testing.T) {
			dead := station("a", 1, func(s *Station) {
				silent(c.since)(s)
				s.Counts = Counts{Requests: 2, Timeouts: 1, Late: 1, Exceptions: map[int]int{10: 1, 11: 1}}
			})
			f := one(t, link(nil), dead, station("b", 2, nil))
			assert.Equal(t, c.code, f.Code)
		})
	}
	l := link(func(l *Link) { l.Since = Counts{Requests: 9, Malformed: 9, Echoes: 9}; l.Counts.Echoes = 2 })
	f := one(t, l, station("a", 1, silent(Counts{Requests: 9, Malformed: 9})))
	assert.Equal(t, Echo, f.Code)
	assert.Contains(t, f.Evidence[0], "9 of our own requests came back since the last response")
}

func TestAFarEndThatClosesWhenItIsAsked(t *testing.T) {
	closing := func(s *Station) {
		silent(Counts{Requests: 5, Closed: 5})(s)
		s.Reason = "connection lost: reset"
	}
	looking := link(func(l *Link) { l.Since = Counts{Requests: 5, Closed: 5} })
	assert.Empty(t, Find(Evidence{Links: []Link{looking}, Stations: []Station{station("a", 1, closing), station("b", 2, closing)}}), "while it is looked what it does when nothing is asked")
	shut := link(func(l *Link) { l.Since, l.Looked = Counts{Requests: 5, Closed: 5}, true })
	f := one(t, shut, station("a", 1, closing), station("b", 2, closing))
	assert.Equal(t, ClosesConnection, f.Code)
	assert.Equal(t, "bus", f.Subject)
	assert.Contains(t, f.Evidence, "connection lost: reset")
	assert.Empty(t, Find(Evidence{Links: []Link{link(func(l *Link) { l.Since = Counts{Requests: 2, Closed: 2} })}, Stations: []Station{station("a", 1, closing)}}), "it may have restarted")
}
